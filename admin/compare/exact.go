package compare

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/explore"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Exact is in which circumstances two books ask for something else, of all that can come about.
type Exact struct {
	// Zone is that of the newer book.
	Zone *time.Location `json:"-"`
	From time.Time      `json:"from" doc:"the first moment that was looked at"`
	To   time.Time      `json:"to" doc:"the end of those that were looked at"`
	// Differences are what loosens first. No two of them are about the same circumstances.
	Differences []Difference `json:"differences" doc:"where the books ask for something else, what loosens first"`
	// Cells is how many circumstances were looked at that may differ; those that surely do not are left out.
	Cells int64 `json:"cells" doc:"how many cells of circumstances were looked at; what surely is the same is left out"`
	// Open says what was not settled, "" where all was.
	Open string `json:"open,omitzero" doc:"what was not settled; absent where all was"`
}

// Difference is circumstances in which the newer book asks for something else than the older.
type Difference struct {
	Effect Effect `json:"effect" doc:"loosens, tightens, or either where the terms are neither milder nor stricter"`
	// Who says whom it concerns, in words; Accounts is how many there are, and SuchAs some of them.
	Who      string   `json:"who" doc:"whom it concerns, in words"`
	Accounts int      `json:"accounts" doc:"how many accounts it concerns"`
	SuchAs   []string `json:"such_as" doc:"some of them"`
	Apps     []string `json:"apps" doc:"the apps where it is so"`
	// Actions are those that it is about.
	Actions []attempt.Action `json:"actions" doc:"the actions where it is so"`
	// Where is what its circumstances have in common, each in words; none where it is so whatever they are.
	Where []string `json:"where" doc:"what its circumstances have in common; none where it is so in all"`
	// First is the first moment at which it is so.
	First time.Time `json:"first" doc:"the first moment at which it is so"`
	Was   string    `json:"was" doc:"what the older book asks for"`
	Is    string    `json:"is" doc:"what the newer book asks for"`
	// RulesWere and RulesAre are the rules behind them.
	RulesWere []decide.Source `json:"rules_were" doc:"the rules of the older book behind it"`
	RulesAre  []decide.Source `json:"rules_are" doc:"those of the newer book"`
	// Attempt is one of its circumstances, for which both books ask for what is told.
	Attempt *attempt.Attempt `json:"attempt" doc:"an attempt for which both books ask for what is told"`
	// Cells is how many cells of circumstances it is made of.
	Cells int `json:"cells" doc:"how many cells of circumstances it is made of"`
}

// With counts the differences with an effect.
func (x *Exact) With(e Effect) int {
	n := 0
	for i := range x.Differences {
		if x.Differences[i].Effect == e {
			n++
		}
	}
	return n
}

// Loosens reports whether somebody may get in with less than before.
func (x *Exact) Loosens() bool { return x.With(Loosens)+x.With(Either) > 0 }

// Summary says in a sentence what the newer book asks for that the older did not.
func (x *Exact) Summary() string {
	parts := countEffects(x.With)
	switch {
	case len(parts) == 0 && x.Open != "":
		return "No difference was found in what is asked of a sign-in, and not all could be settled."
	case len(parts) == 0:
		return "Nothing that can come about is asked for anything else: sign-ins are as before."
	}
	return fmt.Sprintf("What is asked of a sign-in differs in %s: %s.", words.Count(len(x.Differences), "way"), words.List(parts, "and"))
}

// Title says in a sentence whom a difference concerns, where, and in which circumstances.
func (d *Difference) Title(x *Exact) string {
	text := d.Who + " at " + words.UpTo(mostNames, d.Apps)
	switch {
	case len(d.Actions) == len(attempt.Actions()):
		text += " (every action)"
	case !slices.Equal(d.Actions, []attempt.Action{attempt.SignIn}):
		var actions []string
		for _, a := range d.Actions {
			actions = append(actions, a.String())
		}
		text += " (" + strings.Join(actions, ", ") + ")"
	}
	if len(d.Where) > 0 {
		text += ", " + strings.Join(d.Where, ", ")
	}
	if d.First.After(x.From) {
		text += ", first on " + d.First.In(x.Zone).Format("Mon 2006-01-02 at 15:04 MST")
	}
	return text
}

// ExactOptions say how far is looked.
type ExactOptions struct {
	// From is the first moment, and For how long from then on; 0 is 400 days.
	From time.Time
	For  time.Duration
	// Progress, where it is not nil, is told how many steps more are done, and how many more there are. Several goroutines
	// call it.
	Progress func(done, more int)
}

// mostDifferent is how many kinds of case are told apart, before those that are alike are made one. Of more the
// comparison says so, and is not settled.
const mostDifferent = 5000

// AddExact finds all circumstances in which the books ask for something else and adds them to the report. A gate is
// judged by them from then on. It costs what Exactly does.
func (r *Report) AddExact(ctx context.Context, o ExactOptions) (err error) {
	if r.Old == r.New {
		r.Exact = newExact(r.newer, o)
		return nil
	}
	r.Exact, err = exactly(ctx, r.aligned, r.newer, o, r.samePlaces)
	return err
}

// Exactly finds all circumstances in which two judges ask for something else. Both must look addresses up in the same
// data. It takes both processors, for a time that grows with what differs. Where the context ends before it is
// through, it says what is open. The error is that the judges cannot be compared.
func Exactly(ctx context.Context, older, newer *engine.Judge, o ExactOptions) (*Exact, error) {
	return exactly(ctx, older, newer, o, true)
}

func newExact(newer *engine.Judge, o ExactOptions) *Exact {
	if o.For == 0 {
		o.For = explore.Horizon
	}
	return &Exact{Zone: newer.Directory().Zone, From: o.From, To: o.From.Add(o.For), Differences: []Difference{}}
}

func exactly(ctx context.Context, older, newer *engine.Judge, o ExactOptions, samePlaces bool) (*Exact, error) {
	x := newExact(newer, o)
	var addresses []string
	apps := func(judge *engine.Judge) []directory.App { return judge.Directory().Apps }
	for _, p := range pairs(apps(older), apps(newer), func(a *directory.App) string { return a.Name }) {
		for _, identifier := range identifiers(p.old, p.new) {
			addresses = append(addresses, addressOf(identifier))
		}
	}
	space, err := explore.Pair(older, newer, x.From, x.To, addresses, samePlaces)
	if err != nil {
		return nil, err
	}
	space.Progress = o.Progress
	relation, err := engine.Relate(older, newer)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s := &search{older: older, newer: newer, space: space, relation: relation, found: map[caseKey]*cases{}, stop: stop}
	cells, whole := space.Walk(ctx, nil, s.look)
	x.Cells = cells
	switch {
	case s.fault != "":
		x.Open = s.fault + space.Unexplored()
	case len(s.found) >= mostDifferent:
		x.Open = fmt.Sprintf("More than %d kinds of case differ; what else does was not looked for.", mostDifferent)
	case !whole:
		x.Open = fmt.Sprintf("The time was up after %s.", words.Count(int(cells), "cell"))
	}
	x.Differences = append(x.Differences, s.differences()...)
	return x, nil
}

// caseKey tells apart what is told apart.
type caseKey struct {
	order   int
	action  attempt.Action
	effect  Effect
	was, is string
}

// cases are cells that are told as one.
type cases struct {
	caseKey
	Difference
	accounts map[string]bool
	// said is how tests were answered that were asked in all cells, in the order of the first.
	said  map[string]truths
	asked []string
	tests map[string]*condition.Test
}

// search collects the cells in which two books ask for something else.
type search struct {
	older, newer *engine.Judge
	space        *explore.Space
	relation     *engine.Relation
	stop         context.CancelFunc

	mu    sync.Mutex
	found map[caseKey]*cases
	fault string
}

// effect is what the newer terms do in the place of the older ones.
func (s *search) effect(was, is *engine.Terms) (e Effect) {
	milder, stricter := s.relation.Compare(was, is)
	if milder {
		e |= Loosens
	}
	if stricter {
		e |= Tightens
	}
	return e
}

// look collects one cell.
func (s *search) look(c *explore.Cell) bool {
	effect := s.effect(&c.Terms, &c.Newer)
	if effect == Neither {
		return true
	}
	was, is := termWords(&c.Terms, &c.Newer)
	key := caseKey{c.Order, c.Action, effect, was, is}
	s.mu.Lock()
	known := s.found[key] != nil && s.found[key].accounts[c.Account]
	s.mu.Unlock()
	var shown *attempt.Attempt
	if !known { // of the same account, another cell of the same terms adds nothing but what they have in common
		a, settled := c.Witness(func(a *attempt.Attempt) bool {
			was, is := s.older.Terms(context.Background(), a), s.newer.Terms(context.Background(), a)
			return was.Same(&c.Terms) && is.Same(&c.Newer) && s.effect(&was, &is) == effect
		})
		if shown = a; a == nil {
			s.unshown(c, settled)
			return true
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.found[key] == nil {
		if len(s.found) == mostDifferent {
			s.stop()
			return false
		}
		s.found[key] = &cases{
			caseKey: key,
			Difference: Difference{
				Effect:    effect,
				Apps:      c.Apps,
				Actions:   []attempt.Action{c.Action},
				First:     c.At,
				Was:       was,
				Is:        is,
				RulesWere: c.Terms.Sources,
				RulesAre:  c.Newer.Sources,
				Attempt:   shown,
			},
			accounts: map[string]bool{},
			tests:    map[string]*condition.Test{},
		}
	}
	s.found[key].add(c)
	return true
}

// unshown notes that no attempt shows a difference: it cannot come about, or that is not settled.
func (s *search) unshown(c *explore.Cell, settled bool) {
	if settled && c.IsFree() {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fault == "" {
		s.fault = fmt.Sprintf(
			"The older book may ask %s at %s for %s where the newer asks for %s, and whether that can come about was not settled.",
			c.Account, c.App, c.Terms.String(), c.Newer.String())
	}
}

// termWords is what two books ask for, in words that differ where the terms do.
func termWords(was, is *engine.Terms) (older, newer string) {
	older, newer = was.String(), is.String()
	limits, now := was.LimitWords(), is.LimitWords()
	unlimited := was.Block || is.Block || limits == now
	if older == newer && unlimited {
		older, newer = was.InFull(), is.InFull()
	}
	if !unlimited {
		older, newer = older+", "+limits, newer+", "+now
	}
	if older == newer {
		newer += ", which is met otherwise by what the account has"
	}
	return older, newer
}

// add adds a cell to the cases that it is one of.
func (c *cases) add(cell *explore.Cell) {
	c.Cells++
	for _, name := range cell.Accounts {
		c.accounts[name] = true
	}
	if cell.At.Before(c.First) {
		c.First = cell.At
	}
	said := map[string]truths{}
	var order []string
	for _, a := range cell.Answers() {
		text := fmt.Sprint(a.Newer, condition.Text(a.Test)) // which may mean something else in the newer book
		if said[text] == 0 {
			order = append(order, text)
			c.tests[text] = a.Test
		}
		said[text] |= 1 << a.Truth
	}
	if c.Cells == 1 {
		c.said, c.asked = said, order
		return
	}
	for text := range c.said {
		if said[text] == 0 {
			delete(c.said, text)
		} else {
			c.said[text] |= said[text]
		}
	}
}

// truths are those with which a test was answered in several cells.
type truths uint8

const (
	isFalse   = truths(1) << condition.False
	isUnknown = truths(1) << condition.Unknown
	isTrue    = truths(1) << condition.True
)

// common returns what all of the cells have in common, in words.
func (c *cases) common() []string {
	list := []string{}
	for _, text := range c.asked {
		t := c.tests[text]
		switch c.said[text] {
		case isTrue:
			list = append(list, describe.When(t))
		case isFalse:
			list = append(list, describe.When(&condition.Not{Of: t}))
		case isUnknown:
			list = append(list, "not known whether "+describe.When(t))
		case isFalse | isUnknown:
			list = append(list, "not sure that "+describe.When(t))
		case isTrue | isUnknown:
			list = append(list, describe.When(t)+" (or that is not known)")
		}
	}
	return list
}

// differences returns what was found, what differs in nothing but the apps, the actions or the accounts as one, what
// loosens first.
func (s *search) differences() (list []Difference) {
	var all []*cases
	for _, c := range s.found {
		c.Where = c.common()
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b *cases) int {
		return cmp.Or(cmp.Compare(a.order, b.order), cmp.Compare(a.was, b.was), cmp.Compare(a.is, b.is), cmp.Compare(a.action, b.action))
	})
	for merged := true; merged; {
		before := len(all)
		all = mergeBy(all, func(c *cases) string { return fmt.Sprint(c.Apps, c.names()) })
		all = mergeBy(all, func(c *cases) string { return fmt.Sprint(c.Actions, c.names()) })
		all = mergeBy(all, func(c *cases) string { return fmt.Sprint(c.Apps, c.Actions) })
		merged = len(all) < before
	}
	crowd := newCrowd(s.older, s.newer)
	for _, c := range all {
		names := c.names()
		c.Who, c.Accounts, c.SuchAs = crowd.who(names), len(names), names[:min(len(names), mostNames)]
		list = append(list, c.Difference)
	}
	slices.SortStableFunc(list, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(a.Effect.weight(), b.Effect.weight()), cmp.Compare(a.place(), b.place()), cmp.Compare(b.Accounts, a.Accounts))
	})
	return list
}

// place orders differences of one effect: first those of sign-ins, and of them those that a block is lifted or put in
// the way of.
func (d *Difference) place() (n int) {
	if !slices.Contains(d.Actions, attempt.SignIn) {
		n += 2
	}
	if len(d.RulesWere) > 0 && d.Was != "block" && d.Is != "block" {
		n++
	}
	return n
}

// names returns the accounts, sorted.
func (c *cases) names() []string { return slices.Sorted(maps.Keys(c.accounts)) }

// mergeBy makes one of cases that are alike in their terms, in what they have in common, and in what a key says.
func mergeBy(all []*cases, key func(*cases) string) (merged []*cases) {
	known := map[string]*cases{}
	for _, c := range all {
		k := fmt.Sprint(c.effect, c.was, "\n", c.is, c.Where, key(c))
		m := known[k]
		if m == nil {
			known[k], merged = c, append(merged, c)
			continue
		}
		maps.Copy(m.accounts, c.accounts)
		m.Apps, m.Actions, m.Cells = united(m.Apps, c.Apps), united(m.Actions, c.Actions), m.Cells+c.Cells
		if c.First.Before(m.First) {
			m.First = c.First
		}
	}
	return merged
}

// united is a list with what another one has besides.
func united[T comparable](list, other []T) []T {
	list = slices.Clone(list)
	for _, x := range other {
		if !slices.Contains(list, x) {
			list = append(list, x)
		}
	}
	return list
}

// crowd is the accounts of both books.
type crowd struct {
	all int
	// groups are those of the newer book with all accounts that are surely in them.
	groups map[string][]string
}

func newCrowd(older, newer *engine.Judge) *crowd {
	c := &crowd{groups: map[string][]string{}}
	known := map[string]bool{}
	for _, d := range []*engine.Directory{newer.Directory(), older.Directory()} {
		for i := range d.Accounts {
			known[d.Accounts[i].Name] = true
		}
	}
	c.all = len(known)
	d := newer.Directory()
	for i := range d.Accounts {
		for _, g := range d.Profile(i).Groups() {
			c.groups[g] = append(c.groups[g], d.Accounts[i].Name)
		}
	}
	for _, members := range c.groups {
		slices.Sort(members)
	}
	return c
}

// who names accounts, which are sorted, in words.
func (c *crowd) who(names []string) string {
	if len(names) == c.all {
		return "Everybody"
	}
	for _, g := range slices.Sorted(maps.Keys(c.groups)) {
		if slices.Equal(c.groups[g], names) {
			return fmt.Sprintf("Members of %s (%d)", g, len(names))
		}
	}
	if len(names) <= 3 {
		return words.List(names, "and")
	}
	return fmt.Sprintf("%s, such as %s", words.Count(len(names), "account"), strings.Join(names[:2], " and "))
}

// judgedByTerms reports whether what a changed definition does to decisions is all in the terms of sign-ins, so that
// the exact comparison has it.
func (r *Report) judgedByTerms(c *Changed) bool {
	switch c.What {
	case "policy", "exemption", "assurance", "rollout", "network", "region", "window", "posture", "risk", "accounts", "group", "app":
		return true
	case "settings":
		return r.samePlaces && r.sameDirectory
	}
	return false
}

// loosenedBeside returns the definitions that loosen something else than what is asked of sign-ins, or may.
func (r *Report) loosenedBeside() (titles []string) {
	for i := range r.Changed {
		if c := &r.Changed[i]; c.Effect&Loosens != 0 && !r.judgedByTerms(c) {
			titles = append(titles, c.Title())
		}
	}
	return titles
}

// Examples returns attempts that show what the report tells, each with a name for it, what loosens first.
func (r *Report) Examples() iter.Seq2[string, *attempt.Attempt] {
	return func(yield func(string, *attempt.Attempt) bool) {
		if r.Exact != nil {
			for i := range r.Exact.Differences {
				x := &r.Exact.Differences[i]
				if !yield(fmt.Sprintf("%s-%d", x.Effect, i+1), x.Attempt) {
					return
				}
			}
		}
		if r.History == nil {
			return
		}
		for _, x := range r.History.Happenings() {
			for i, e := range x.Examples {
				if !yield(fmt.Sprintf("%s-%d", x.Name, i+1), e.Attempt) {
					return
				}
			}
		}
	}
}
