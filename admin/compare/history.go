package compare

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// History is what a recorded history would have come to by one book instead of
// another.
type History struct {
	replay.Basis
	// Was and Is count what attempts came to by the older and by the newer book.
	Was replay.Counts `json:"was" doc:"what they came to by the older book"`
	Is  replay.Counts `json:"is" doc:"what they come to by the newer book"`
	// PromptsWas and PromptsIs are how many step-ups a person saw on a day with
	// attempts, on average.
	PromptsWas float64 `json:"prompts_was" doc:"step-ups for each person and day with attempts, by the older book"`
	PromptsIs  float64 `json:"prompts_is" doc:"the same by the newer book"`
	Moves      []Move  `json:"moves" doc:"how many attempts moved from one verdict to another"`
	// Rules are those behind attempts that came to something stricter.
	Rules []replay.RuleCount `json:"rules" doc:"the rules of the newer book behind what became stricter, those that did most first"`
	// LockedOut are accounts at apps where some attempt could be answered before and
	// none can now.
	LockedOut Affected `json:"locked_out" doc:"accounts that could open an app before, and in none of their attempts now"`
	NoMethod  Affected `json:"no_method" doc:"newly asked for what they have no method to answer with"`
	// Unattended are granted sign-ons that nobody sits before, and that break.
	Unattended Affected `json:"unattended" doc:"unattended sign-ons that were granted and are not any more"`
	Blocked    Affected `json:"blocked" doc:"newly blocked: granted or asked before"`
	Asked      Affected `json:"asked" doc:"newly asked: granted before"`
	LetIn      Affected `json:"let_in" doc:"newly let in, or asked: blocked before"`
	Spared     Affected `json:"spared" doc:"not asked any more: granted now"`
}

// LocksOut reports whether somebody cannot get in any more, or cannot answer, who
// could before.
func (h *History) LocksOut() bool {
	return h.LockedOut.Attempts+h.NoMethod.Attempts+h.Unattended.Attempts > 0
}

// Happening is one of the things that happen to accounts, for a table.
type Happening struct {
	// Name is a word for files, and Title one for a reader.
	Name, Title string
	*Affected
}

// Happenings lists what happens to somebody, the worst first.
func (h *History) Happenings() []Happening {
	all := []Happening{
		{"locked-out", "locked out", &h.LockedOut}, {"no-method", "no method to answer with", &h.NoMethod},
		{"unattended", "unattended, and breaks", &h.Unattended}, {"blocked", "newly blocked", &h.Blocked},
		{"asked", "newly asked", &h.Asked}, {"let-in", "newly let in", &h.LetIn}, {"spared", "not asked any more", &h.Spared},
	}
	return slices.DeleteFunc(all, func(x Happening) bool { return x.Attempts == 0 })
}

// Quiet says that nothing happens to anybody, as far as that was judged.
func (h *History) Quiet() string {
	if h.Unjudged != "" {
		return "In the part that was judged nothing happens to anybody."
	}
	return "Nothing happens to anybody."
}

// Instance is an example of what happens, in words.
type Instance struct{ Happening, Text string }

// Instances reports each happening the first example that was not told yet, and
// notes in told that it was.
func (h *History) Instances(told map[string]bool) []Instance {
	var list []Instance
	for _, x := range h.Happenings() {
		for _, e := range x.Examples {
			if text := e.String(); !told[text] {
				told[text] = true
				list = append(list, Instance{x.Title, text})
				break
			}
		}
	}
	return list
}

// String names the account, its app where it is about one, and how often.
func (c AccountCount) String() string {
	text := c.Account
	if c.App != "" {
		text += " at " + c.App
	}
	return fmt.Sprintf("%s (%d)", text, c.Attempts)
}

// Move is a number of attempts that came to something else.
type Move struct {
	From     decide.Verdict `json:"from" doc:"the verdict by the older book"`
	To       decide.Verdict `json:"to" doc:"the verdict by the newer book"`
	Attempts int64          `json:"attempts" doc:"how many attempts"`
}

// Affected are accounts to which something happens.
type Affected struct {
	Attempts int64 `json:"attempts" doc:"how many attempts it happens to"`
	Accounts int   `json:"accounts" doc:"how many accounts made them"`
	// Most are the accounts with most attempts.
	Most []AccountCount `json:"most" doc:"the accounts with most of them"`
	// Examples are the first attempts of some accounts.
	Examples []Example `json:"examples" doc:"the first attempts of some accounts, which can be rehearsed"`
}

// AccountCount is an account with so many attempts.
type AccountCount struct {
	Account string `json:"account" doc:"the account"`
	// App is "" where it is not about one.
	App      string `json:"app,omitzero" doc:"the app, where it is about one"`
	Attempts int64  `json:"attempts" doc:"how many attempts"`
}

// Example is an attempt that can be rehearsed, with what became of it.
type Example struct {
	Attempt *attempt.Attempt `json:"attempt" doc:"the attempt, as it is judged"`
	Was     decide.Verdict   `json:"was" doc:"the verdict by the older book"`
	Is      decide.Verdict   `json:"is" doc:"the verdict by the newer book"`
	Why     []string         `json:"why" doc:"the causes of the verdict by the newer book"`
}

const (
	// mostAccounts and mostExamples are how many of each are told. Of those who may
	// be locked out more are kept, since the end of the history reports who is.
	mostAccounts   = 20
	mostExamples   = 3
	mostCandidates = 64
)

// happening is what can happen to an attempt.
type happening int

const (
	blocked happening = iota
	asked
	letIn
	spared
	noMethod
	unattended
	lockedOut
	happenings
)

// kept is an attempt that may be an example.
type kept struct {
	number int64
	// at is the account and the app of those who may be locked out.
	at      place
	attempt attempt.Attempt
	was, is decide.Verdict
	// asking is what it was judged with.
	asking context.Context
}

// place is an account at an app, by their numbers in the older book; there may be
// millions.
type place struct{ account, app int32 }

// access is how often an account could answer at an app.
type access struct{ was, is int32 }

// tally counts what one goroutine sees of two judges.
type tally struct {
	judges [2]*engine.Judge
	// directory is that of the first.
	directory *engine.Directory
	briefs    [2]engine.Brief
	moves     [3][3]int64
	rules     replay.RuleTally
	counts    [happenings]map[string]int64
	examples  [happenings][]kept
	accesses  map[place]access
	period    replay.Period
	strangers int64
}

func newTally(was, is *engine.Judge) *tally {
	t := &tally{
		judges:    [2]*engine.Judge{was, is},
		directory: was.Directory(),
		rules:     replay.RuleTally{},
		accesses:  map[place]access{},
	}
	for i := range t.counts {
		t.counts[i] = map[string]int64{}
	}
	return t
}

// answerable reports whether anyone who made the attempt gets in, or can by answering.
func answerable(b *engine.Brief) bool {
	return b.Verdict == decide.Grant || b.Verdict == decide.StepUp && !b.MustEnrol
}

func (t *tally) see(ctx context.Context, number int64, before, after *attempt.Attempt) {
	was, is := &t.briefs[0], &t.briefs[1]
	t.judges[0].Brief(ctx, before, was)
	t.judges[1].Brief(ctx, after, is)
	t.moves[was.Verdict][is.Verdict]++
	t.period.Include(after.At)
	if replay.IsStranger(was) && replay.IsStranger(is) {
		t.strangers++
	}
	could, can := answerable(was), answerable(is)
	if account, ok := t.directory.FindAccount(before.Account); ok && (could || can) && was.Listed {
		app, _ := t.directory.FindApp(was.App)
		at := place{int32(account), int32(app)}
		a := t.accesses[at]
		if could {
			a.was++
		}
		if can { // also by an attempt that was stopped before
			a.is++
		} else {
			t.keep(lockedOut, kept{number, at, *after, was.Verdict, is.Verdict, ctx}, mostCandidates)
		}
		t.accesses[at] = a
	}
	t.note(ctx, number, after, could, was.Verdict, is)
}

// note notes what happens to an attempt.
func (t *tally) note(ctx context.Context, number int64, a *attempt.Attempt, could bool, was decide.Verdict, is *engine.Brief) {
	happens := func(what happening) {
		t.counts[what][a.Account]++
		t.keep(what, kept{number, place{}, *a, was, is.Verdict, ctx}, mostExamples)
	}
	switch v := is.Verdict; {
	case was == decide.Block && v != decide.Block:
		happens(letIn)
	case was == decide.StepUp && v == decide.Grant:
		happens(spared)
	case was == decide.Grant && v == decide.StepUp:
		happens(asked)
	case was != decide.Block && v == decide.Block:
		happens(blocked)
	}
	if could && is.Verdict == decide.StepUp && is.MustEnrol {
		happens(noMethod)
	}
	if is.Verdict >= was {
		return
	}
	if through, ok := a.Through.Get(); ok && !through.CanBeAsked() && was == decide.Grant {
		happens(unattended)
	}
	t.rules.Count(is.Causes, is.Verdict)
}

// keep keeps the first attempts of so many accounts, whatever the order in which
// they come.
func (t *tally) keep(what happening, k kept, most int) {
	list := t.examples[what]
	if len(list) == most && k.number > list[most-1].number {
		return
	}
	if i := slices.IndexFunc(list, func(other kept) bool { return other.at == k.at && other.attempt.Account == k.attempt.Account }); i >= 0 {
		if list[i].number < k.number {
			return
		}
		list = slices.Delete(list, i, i+1)
	}
	list = append(list, k)
	slices.SortFunc(list, func(a, b kept) int { return cmp.Compare(a.number, b.number) })
	t.examples[what] = list[:min(most, len(list))]
}

// join adds what another goroutine saw.
func (t *tally) join(u *tally) {
	for i := range t.moves {
		for k := range t.moves[i] {
			t.moves[i][k] += u.moves[i][k]
		}
	}
	t.rules.Join(u.rules)
	for what := range t.counts {
		for account, n := range u.counts[what] {
			t.counts[what][account] += n
		}
		most := mostExamples
		if happening(what) == lockedOut {
			most = mostCandidates
		}
		for _, k := range u.examples[what] {
			t.keep(happening(what), k, most)
		}
	}
	for at, a := range u.accesses {
		b := t.accesses[at]
		t.accesses[at] = access{a.was + b.was, a.is + b.is}
	}
	t.period.Join(u.period)
	t.strangers += u.strangers
}

// AddHistory judges a history by both books, and by the newer one with its shadow
// policies live where it has some, and adds to the report, which Books made, what that
// changes. Where the context ends before the history does, the report reports what
// was judged until then. The error is that of a source.
func (r *Report) AddHistory(ctx context.Context, sources []replay.Source, o replay.Options) error {
	judges := []*engine.Judge{r.older, r.newer}
	if r.shadowed != nil {
		judge, err := engine.Compile(*r.shadowed)
		if err != nil {
			return err
		}
		judges = append(judges, judge)
	}
	judges, err := o.Judges(judges)
	if err != nil {
		return err
	}
	var workers [][]*tally
	visitor := func() replay.Visit {
		var own []*tally
		for _, is := range judges[1:] {
			own = append(own, newTally(judges[0], is))
		}
		workers = append(workers, own)
		return func(ctx context.Context, number int64, filled []*attempt.Attempt) {
			for i, t := range own {
				t.see(ctx, number, filled[0], filled[i+1])
			}
		}
	}
	reading, err := replay.Walk(ctx, judges, sources, o, visitor)
	for i, is := range judges[1:] {
		total := newTally(judges[0], is)
		for _, own := range workers {
			total.join(own[i])
		}
		h := total.sum(reading, i+1, o)
		if i == 0 {
			r.History = h
		} else {
			r.Shadow = h
		}
	}
	return err
}

// withShadowsLive returns the rulebook with its shadow policies live, nil where it
// has none.
func withShadowsLive(b decide.Rulebook) *decide.Rulebook {
	if !slices.ContainsFunc(b.Policies, func(p decide.Policy) bool { return p.Stage == decide.Shadow }) {
		return nil
	}
	b.Policies = slices.Clone(b.Policies)
	for i := range b.Policies {
		if p := &b.Policies[i]; p.Stage == decide.Shadow {
			p.Stage, p.LiveFor = decide.Live, nil
		}
	}
	return &b
}

// sum makes the history of what was seen; lane is which of the judges of the reading
// is the newer one.
func (t *tally) sum(reading *replay.Reading, lane int, o replay.Options) *History {
	h := &History{Moves: []Move{}}
	for from := range t.moves {
		for to, n := range t.moves[from] {
			h.Was.Add(decide.Verdict(from), n)
			h.Is.Add(decide.Verdict(to), n)
			if from != to && n > 0 {
				h.Moves = append(h.Moves, Move{decide.Verdict(from), decide.Verdict(to), n})
			}
		}
	}
	h.Basis = reading.Basis(h.Was.All(), t.strangers, t.period, o)
	h.PromptsWas = replay.Prompts(h.Was, reading.PersonDays[0])
	h.PromptsIs = replay.Prompts(h.Is, reading.PersonDays[lane])
	h.Rules = t.rules.Sorted()
	for what, into := range map[happening]*Affected{blocked: &h.Blocked, asked: &h.Asked, letIn: &h.LetIn, spared: &h.Spared,
		noMethod: &h.NoMethod, unattended: &h.Unattended} {
		var counts []AccountCount
		for account, n := range t.counts[what] {
			counts = append(counts, AccountCount{account, "", n})
		}
		*into = t.affected(counts, t.examples[what])
	}
	var locked []AccountCount
	e := t.judges[0].Directory()
	for at, a := range t.accesses {
		if a.is == 0 { // and so some attempt could be answered before
			locked = append(locked, AccountCount{e.Accounts[at.account].Name, e.Apps[at.app].Name, int64(a.was)})
		}
	}
	h.LockedOut = t.affected(locked, slices.DeleteFunc(t.examples[lockedOut], func(k kept) bool { return t.accesses[k.at].is > 0 }))
	return h
}

// affected sums up accounts, and decides the examples in full.
func (t *tally) affected(counts []AccountCount, examples []kept) Affected {
	a := Affected{Most: []AccountCount{}, Examples: []Example{}}
	accounts := map[string]bool{}
	for _, c := range counts {
		accounts[c.Account] = true
		a.Attempts += c.Attempts
		a.Most = append(a.Most, c)
	}
	a.Accounts = len(accounts)
	slices.SortFunc(a.Most, func(x, y AccountCount) int {
		return cmp.Or(cmp.Compare(y.Attempts, x.Attempts), strings.Compare(x.Account, y.Account), strings.Compare(x.App, y.App))
	})
	a.Most = a.Most[:min(mostAccounts, len(a.Most))]
	for _, k := range examples[:min(mostExamples, len(examples))] {
		e := Example{Attempt: &k.attempt, Was: k.was, Is: k.is, Why: []string{}}
		for _, c := range t.judges[1].Outline(k.asking, &k.attempt).Causes {
			e.Why = append(e.Why, c.Text)
		}
		a.Examples = append(a.Examples, e)
	}
	return a
}
