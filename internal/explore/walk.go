package explore

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// Cell is circumstances in which a book has the same terms.
type Cell struct {
	// Where is the truth of the condition that the walk was narrowed by. It is not False.
	Where condition.Truth
	Terms engine.Terms
	// Newer are the terms of the newer version, where two are explored; Terms are those of the older.
	Newer engine.Terms
	// Account and App are the first of their kind, Accounts and Apps all that nothing tells apart. They must not
	// be changed. At is the earliest moment of a kind.
	Account, App   string
	Accounts, Apps []string
	Action         attempt.Action
	At             time.Time
	// Order is the number of its kind of app: cells of a lower one come first.
	Order int

	path    *path
	differs *difference
}

// Answered is a test and how it was answered in a cell.
type Answered struct {
	// Test is bound to the names of the newer version, where Newer is true.
	Test  *condition.Test
	Newer bool
	Truth condition.Truth
}

// Answers returns the tests on the address, the device and the rest that tell the cell apart from others, in the
// order in which the judge asked. It is called while the cell is visited.
func (c *Cell) Answers() []Answered { return slices.Clone(c.path.asked) }

// IsFree reports whether the cell rests on what is looked at where it matters alone: a score, what was
// proven, or what the explorer does not know. Then it may have no witness, and Witness says whether that is settled; that
// another has none is a fault of the explorer.
func (c *Cell) IsFree() bool {
	return len(c.path.free) > 0 || c.path.scoreMatters() || len(c.path.unknown) > 0
}

// Walk visits each cell in which a condition of the space, bound, holds or may hold. Visit is called by
// several goroutines, with the cells of one kind of app in order. Where it returns false the walk goes on with
// earlier kinds of app alone, so that the last that was visited so is the first of all. It returns how many it
// visited, and whether it
// went through all, as far as nothing was told to end it: it did not where the context ended.
//
// Accounts are those that the book lists. An account that it does not list, and an app that it does not have, are
// refused whatever the policies say, and are not visited.
func (s *Space) Walk(ctx context.Context, where condition.Node, visit func(*Cell) bool) (cells int64, whole bool) {
	var visited, last atomic.Int64
	last.Store(math.MaxInt64)
	jobs := make(chan int)
	appKinds := s.appKinds(where)
	if s.Progress != nil {
		s.Progress(0, len(appKinds))
	}
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for n := range jobs {
				for kind := range s.kinds(appKinds[n], where) {
					if last.Load() <= int64(n) || ctx.Err() != nil {
						break
					}
					kind.Order = n
					s.split(kind, where, func(c *Cell) bool {
						visited.Add(1)
						if ctx.Err() == nil && !visit(c) {
							for was := last.Load(); was > int64(n) && !last.CompareAndSwap(was, int64(n)); was = last.Load() {
							}
						}
						return last.Load() > int64(n) && ctx.Err() == nil
					})
				}
				if s.Progress != nil {
					s.Progress(1, 0)
				}
			}
		})
	}
	for n := range appKinds {
		jobs <- n
	}
	close(jobs)
	group.Wait()
	return visited.Load(), ctx.Err() == nil
}

// appKinds returns the apps that nothing tells apart, of those that are visited.
func (s *Space) appKinds(where condition.Node) [][]subject {
	var kinds [][]subject
	byKey := map[string]int{}
	var asked []test
	for _, one := range s.sides {
		asked = one.commonTests(one.testsOf(asked, "guarantee", where))
		for i := range one.policies {
			asked = one.policyTests(asked, i)
		}
	}
	asked = slices.DeleteFunc(distinct(asked), func(t test) bool { return !t.isOn(condition.AboutApp) })
	for _, x := range s.apps {
		if len(s.sides) == 1 && condition.Eval(where, s.sides[0].directory.FactsOfApp(x.numbers[0])) == condition.False {
			continue
		}
		key := ""
		for _, one := range s.sides {
			n := x.numbers[one.number]
			if n == absent {
				key += "no such app;"
				continue
			}
			app := &one.directory.Apps[n]
			key += fmt.Sprint(one.aimed[n], app.OpenTo, app.Public, app.Limits)
			for _, t := range asked {
				if t.side == one {
					key += t.on(one.directory.FactsOfApp(n)).String()
				}
			}
		}
		n, known := byKey[key]
		if !known {
			n = len(kinds)
			byKey[key], kinds = n, append(kinds, nil)
		}
		kinds[n] = append(kinds[n], x)
	}
	return kinds
}

// kinds returns the kinds of account, action and moment that are told apart at apps of one kind.
func (s *Space) kinds(apps []subject, where condition.Node) func(yield func(*Cell) bool) {
	app := apps[0]
	onAccounts, onTime := s.testsAt(app, where)
	var names []string
	for _, x := range apps {
		names = append(names, x.name)
	}
	return func(yield func(*Cell) bool) {
		dated := s.datedAt(app, onTime)
		for _, class := range s.accountKinds(app, onAccounts) {
			for _, at := range s.momentKinds(dated, class, onAccounts) {
				for _, action := range allActions {
					c := &Cell{Account: class.names[0], Accounts: class.names, App: app.name, Apps: names, Action: action, At: at,
						differs: class.differs}
					if !yield(c) {
						return
					}
				}
			}
		}
	}
}

// allActions are the actions that an attempt can be for.
var allActions = []attempt.Action{attempt.SignIn, attempt.Enrol, attempt.ChangePassword, attempt.Recover, attempt.Consent}

// testsAt returns the tests on accounts, and on time, that matter at an app.
func (s *Space) testsAt(app subject, where condition.Node) (onAccounts, onTime []test) {
	var tests []test
	for _, one := range s.sides {
		tests = one.testsOf(tests, "guarantee", where)
		if n := app.numbers[one.number]; n != absent {
			for _, i := range one.aimed[n] {
				tests = one.policyTests(tests, i)
			}
		}
		tests = one.commonTests(tests)
	}
	for _, t := range distinct(tests) {
		switch {
		case t.isOn(condition.AboutAccount):
			onAccounts = append(onAccounts, t)
		case t.Key == engine.KeyDuring:
			onTime = append(onTime, t)
		}
	}
	return onAccounts, onTime
}

// accountKind is accounts that nothing tells apart.
type accountKind struct {
	// profiles are those of the first on each side, nil where that does not have it.
	profiles [2]*engine.Profile
	names    []string
	// differs is how the versions of the app differ for accounts whose own facts are the same in both; else nil.
	differs *difference
}

// accountKinds returns the kinds of account at an app. Of two versions those are left out for which the app is
// the same in both.
func (s *Space) accountKinds(app subject, tests []test) []*accountKind {
	var kinds []*accountKind
	byKey := map[string]*accountKind{}
	differs := s.alike.at(s, app)
	// What both versions ask alike comes first, in one order.
	isShared := func(t test) bool { return differs != nil && differs.shared[t.id] }
	tests = slices.Clone(tests)
	slices.SortStableFunc(tests, func(a, b test) int {
		if isShared(a) != isShared(b) {
			return map[bool]int{true: -1, false: 1}[isShared(a)]
		}
		return strings.Compare(a.id, b.id)
	})
	shared := 0
	for shared < len(tests) && isShared(tests[shared]) {
		shared++
	}
	var own [2][]byte
	var key []byte
	for _, x := range s.accounts {
		var profiles [2]*engine.Profile
		key = key[:0]
		for _, one := range s.sides {
			k := own[one.number][:0]
			n := x.numbers[one.number]
			if n == absent {
				own[one.number] = append(k, '-')
				continue
			}
			p := one.directory.Profile(n)
			profiles[one.number] = p
			f := engine.Facts{Directory: one.directory, HasProfile: true, Profile: p, Moment: s.from, At: s.from}
			answer := func(tests []test) {
				for _, t := range tests {
					if t.side == one {
						k = append(k, byte('0'+t.on(&f)))
					}
				}
			}
			answer(tests[:shared])
			own[one.number] = one.appendStanding(k, p, app.numbers[one.number])
			k = key
			answer(tests[shared:])
			key = k
		}
		since := sameSince(profiles)
		alike := differs != nil && since && bytes.Equal(own[0], own[1])
		if alike && s.alike.places == nil && !differs.concerns(s, profiles) {
			continue
		}
		key = strconv.AppendBool(append(append(append(key, own[0]...), '|'), own[1]...), since)
		kind := byKey[string(key)]
		if kind == nil {
			kind = &accountKind{profiles: profiles}
			if alike {
				kind.differs = differs
			}
			byKey[string(key)] = kind
			kinds = append(kinds, kind)
		}
		kind.names = append(kind.names, x.name)
	}
	return kinds
}

// appendStanding appends what terms depend on beside the tests on an account.
func (b *side) appendStanding(key []byte, p *engine.Profile, app int) []byte {
	a := p.Account()
	key = append(key, ' ', byte('0'+p.Kind()))
	key = strconv.AppendBool(key, p.Disabled())
	if app != absent {
		key = strconv.AppendBool(key, b.directory.IsOpenTo(app, p))
	}
	for _, set := range [...]engine.MethodSet{p.Enrolled(), p.PerhapsEnrolled(), p.Barred(), p.PerhapsBarred()} {
		key = binary.AppendUvarint(key, uint64(set))
	}
	if d := a.Joined; d != nil {
		key = binary.AppendUvarint(append(key, " j"...), uint64((d.Year*16+int(d.Month))*32+d.Day))
	}
	if a.AskedAt != nil {
		key = a.AskedAt.AppendFormat(append(key, " a"...), time.RFC3339)
	}
	if a.AccountRisk != nil {
		key = fmt.Append(append(key, " r"...), a.AccountRisk.Level, a.AccountRisk.Since, a.PasswordChangedAt)
	}
	return key
}

// moment is a moment with what is dated at an app then, as a number.
type moment struct {
	at   time.Time
	kind int
}

// datedAt returns the moments at which what is dated changes at an app, for whichever account.
func (s *Space) datedAt(app subject, onTime []test) []moment {
	var list []moment
	kinds := map[string]int{}
	var key []byte
	for _, at := range s.moments {
		key = key[:0]
		for _, one := range s.sides {
			f := engine.Facts{Directory: one.directory, Moment: at, At: at}
			for _, t := range onTime {
				if t.side == one {
					key = append(key, byte('0'+t.on(&f)))
				}
			}
			if n := app.numbers[one.number]; n != absent {
				for _, i := range one.aimed[n] {
					key = strconv.AppendBool(key, one.asking.InForceAt(i, at))
				}
			}
			for i := range one.exemptions {
				u := one.exemptions[i].Until
				key = strconv.AppendBool(key, u != nil && u.Before(directory.DateOf(at.In(one.directory.Zone))))
			}
		}
		kind, known := kinds[string(key)]
		if !known {
			kind = len(kinds)
			kinds[string(key)] = kind
		}
		list = append(list, moment{at, kind})
	}
	return list
}

// momentKinds returns moments of each kind that is told apart for an account, the earliest of each.
func (s *Space) momentKinds(dated []moment, of *accountKind, onAccounts []test) (kinds []time.Time) {
	seen := map[int]bool{}
	for _, m := range s.momentsOf(dated, of, onAccounts) {
		if !seen[m.kind] {
			seen[m.kind] = true
			kinds = append(kinds, m.at)
		}
	}
	return kinds
}

// momentsOf returns the moments at which something changes for an account, in order, each with its kind.
func (s *Space) momentsOf(dated []moment, of *accountKind, onAccounts []test) (list []moment) {
	own := []time.Time{} // when something of the account's own ends
	add := func(t time.Time) {
		if t.After(s.from) && t.Before(s.to) {
			own = append(own, t)
		}
	}
	for _, one := range s.sides {
		p := of.profiles[one.number]
		if p == nil {
			continue
		}
		for i := range one.rollouts {
			add(one.asking.Deadline(i, p, s.from))
			add(one.asking.Deadline(i, p, s.to))
		}
		for _, t := range onAccounts {
			if t.side != one || t.Key != engine.KeyJoinedWithin {
				continue
			}
			for _, seen := range []time.Time{s.from, s.to} { // who joins later has not joined at first
				if end, known := p.JoinedUntil(directory.Span(t.Limit()), seen); known {
					add(end)
				}
			}
		}
		// What is dated later did not happen yet.
		a := p.Account()
		for _, t := range []*time.Time{a.AskedAt, a.PasswordChangedAt} {
			if t != nil {
				add(*t)
			}
		}
		if a.AccountRisk != nil && a.AccountRisk.Since != nil {
			add(*a.AccountRisk.Since)
		}
		if a.Joined != nil {
			add(a.Joined.Start(one.directory.Zone))
		}
	}
	slices.SortFunc(own, time.Time.Compare)
	own = slices.CompactFunc(own, time.Time.Equal)
	type kind struct{ dated, own int }
	numbers := map[kind]int{}
	look := func(at time.Time, dated int) {
		past := 0
		for past < len(own) && !at.Before(own[past]) {
			past++
		}
		k := kind{dated, past}
		if _, known := numbers[k]; !known {
			numbers[k] = len(numbers)
		}
		list = append(list, moment{at, numbers[k]})
	}
	next := 0
	for i, m := range dated {
		look(m.at, m.kind)
		for next < len(own) && (i+1 == len(dated) || own[next].Before(dated[i+1].at)) {
			if own[next].After(m.at) {
				look(own[next], m.kind)
			}
			next++
		}
	}
	return list
}

// path is one way to answer the tests of a judge. It implements engine.Asker.
type path struct {
	context.Context
	space *Space
	// side is the one whose judge asks.
	side *side
	sets [dimensions]bits
	// sharesRisk says that what is answered about the risk holds of both sides.
	sharesRisk bool
	// free are the answers to free tests, by their IDs.
	free map[string]freeAnswer
	// unknown are the answers to tests of keys that the explorer does not know, by what they ask.
	unknown map[string]condition.Truth
	// scores bound what is known of the score on each side.
	scores [2]bounds
	// proven has the ways to have proven something that tests tell apart, by the device.
	proven  map[int][]answering
	asked   []Answered
	choices []choice
	next    int
}

func newPath(ctx context.Context, s *Space) *path {
	return &path{Context: ctx, space: s, free: map[string]freeAnswer{}, unknown: map[string]condition.Truth{},
		proven: map[int][]answering{}}
}

// bounds are what is known of a score, which is a span: its lower end is at least lowFrom and less than lowBelow, its
// upper end at least highFrom and less than highBelow.
type bounds struct{ lowFrom, lowBelow, highFrom, highBelow int }

// unbounded are the bounds of a score about which nothing is known.
var unbounded = bounds{0, risk.MaxScore + 1, 0, risk.MaxScore + 1}

// reaches returns in which ways the score may reach a bar.
func (b *bounds) reaches(bar int) (options []condition.Truth) {
	if b.highFrom < bar {
		options = append(options, condition.False)
	}
	if b.lowFrom < bar && b.highBelow > bar {
		options = append(options, condition.Unknown)
	}
	if b.lowBelow > bar {
		options = append(options, condition.True)
	}
	return options
}

// narrow notes how the score reaches a bar.
func (b *bounds) narrow(bar int, reaches condition.Truth) {
	switch reaches {
	case condition.True:
		b.lowFrom = max(b.lowFrom, bar)
		b.highFrom = max(b.highFrom, bar)
	case condition.Unknown:
		b.lowBelow, b.highFrom = min(b.lowBelow, bar), max(b.highFrom, bar)
	default:
		b.lowBelow = min(b.lowBelow, bar)
		b.highBelow = min(b.highBelow, bar)
	}
}

// scoreMatters reports whether something was answered about the score.
func (p *path) scoreMatters() bool {
	return slices.ContainsFunc(p.scores[:], func(b bounds) bool { return b != unbounded })
}

type freeAnswer struct {
	side  *side
	test  *condition.Test
	truth condition.Truth
}

// choice is a test that was answered in one of several ways.
type choice struct {
	options []condition.Truth
	taken   int
}

// choose answers with one of several truths: the one of this run.
func (p *path) choose(options []condition.Truth) condition.Truth {
	if len(options) == 1 {
		return options[0]
	}
	if p.next == len(p.choices) {
		p.choices = append(p.choices, choice{options: options})
	}
	c := &p.choices[p.next]
	p.next++
	return c.options[c.taken]
}

// again prepares for the next run, false where there is none.
func (p *path) again() bool {
	p.choices = p.choices[:p.next]
	for n := len(p.choices) - 1; n >= 0; n-- {
		if c := &p.choices[n]; c.taken+1 < len(c.options) {
			c.taken++
			p.choices = p.choices[:n+1]
			return true
		}
	}
	return false
}

// begin forgets what an earlier run narrowed.
func (p *path) begin() {
	for i, d := range p.space.dimensions {
		if p.sets[i] == nil {
			p.sets[i] = make(bits, len(d.all))
		}
		copy(p.sets[i], d.all)
	}
	clear(p.free)
	clear(p.unknown)
	p.asked, p.next = p.asked[:0], 0
	p.scores = [2]bounds{unbounded, unbounded}
}

// shareRisk chooses between the places at which both sides notice the same and the others.
func (p *path) shareRisk() {
	l := p.space.alike
	p.sharesRisk = l == nil || l.risk
	if !p.sharesRisk || l == nil || l.places == nil {
		return
	}
	options := []condition.Truth{condition.False} // there are others, or places would be nil
	if p.sets[place].meets(l.places) {
		options = append(options, condition.True)
	}
	if p.sharesRisk = p.choose(options) == condition.True; p.sharesRisk {
		p.sets[place].narrow(l.places)
	} else {
		p.sets[place].remove(l.places)
	}
}

// Answer implements engine.Asker.
func (p *path) Answer(t *condition.Test, held func() condition.Truth) condition.Truth {
	of := dimensionOf(t.Key)
	switch of {
	case concrete:
		return held()
	case free:
		return p.answerFree(t)
	case unknown:
		return p.answerUnknown(t)
	}
	v := p.space.dimensions[of].of(p.space, p.side, t)
	var options []condition.Truth
	for truth := range v {
		if p.sets[of].meets(v[truth]) {
			options = append(options, condition.Truth(truth))
		}
	}
	truth := p.choose(options)
	p.sets[of].narrow(v[truth])
	if len(options) > 1 {
		p.note(t, truth)
	}
	return truth
}

// note keeps how a test was answered.
func (p *path) note(t *condition.Test, truth condition.Truth) {
	p.asked = append(p.asked, Answered{t, p.side.number > 0, truth})
}

// anyTruth are all answers.
var anyTruth = []condition.Truth{condition.False, condition.Unknown, condition.True}

// answerFree answers a test on the risk, or on what was proven.
func (p *path) answerFree(t *condition.Test) condition.Truth {
	id := p.side.idOfFree(t)
	shared := p.sharesRisk
	if t.Key == engine.KeyProved {
		shared = p.space.alike.sharesProofs()
	}
	if !shared {
		id = fmt.Sprint(p.side.number, id)
	}
	if known, was := p.free[id]; was {
		return known.truth
	}
	var truth condition.Truth
	switch t.Key {
	case engine.KeyRiskAtLeast:
		truth = p.reaches(p.side.asking.Risk().Levels.From(directory.Level(t.Limit())))
	case engine.KeyScoreAtLeast:
		truth = p.reaches(int(t.Limit()))
	default:
		truth = p.choose(anyTruth)
	}
	p.free[id] = freeAnswer{p.side, t, truth}
	p.note(t, truth)
	return truth
}

// answerUnknown answers a test of a key that the explorer does not know: either way, and the same wherever it is asked.
func (p *path) answerUnknown(t *condition.Test) condition.Truth {
	id := p.side.idOfFree(t)
	truth, was := p.unknown[id]
	if !was {
		truth = p.choose(anyTruth)
		p.unknown[id] = truth
		p.note(t, truth)
	}
	return truth
}

// reaches answers whether the score reaches a bar, as far as what was answered before leaves open.
func (p *path) reaches(bar int) condition.Truth {
	score := &p.scores[0]
	if !p.sharesRisk {
		score = &p.scores[p.side.number]
	}
	truth := p.choose(score.reaches(bar))
	score.narrow(bar, truth)
	return truth
}

// ReachesMedium implements engine.Asker.
func (p *path) ReachesMedium() condition.Truth { return p.reaches(p.side.asking.Risk().Levels.Medium) }

// split visits the cells of a kind of account, app, action and moment.
func (s *Space) split(kind *Cell, where condition.Node, visit func(*Cell) bool) {
	p := newPath(context.Background(), s)
	a := &attempt.Attempt{At: kind.At, Account: kind.Account, App: kind.App, Action: kind.Action}
	for more := true; more; more = p.again() {
		p.begin()
		p.shareRisk()
		if kind.differs != nil && p.sharesRisk && kind.differs.isSame(p, a) {
			continue
		}
		p.side = s.sides[0]
		holds, terms := p.side.asking.TermsWhere(p, a, where)
		if holds == condition.False {
			continue
		}
		c := *kind
		c.Where, c.Terms, c.path = holds, terms, p
		if len(s.sides) > 1 {
			p.side = s.sides[1]
			c.Newer = p.side.asking.Terms(p, a)
		}
		if !visit(&c) {
			return
		}
	}
}

// mostTried is how many atoms of a kind are tried to show what a cell claims, and mostTries how many attempts.
const mostTried, mostTries = 3, 200_000

// Witness returns an attempt out of the cell for which something is so, by the judges themselves. It returns nil
// where there is none: where that is settled, such circumstances cannot come about, else too much would have to be
// tried. It is called while the cell is visited.
func (c *Cell) Witness(wanted func(a *attempt.Attempt) bool) (a *attempt.Attempt, settled bool) {
	tries := 0
	s := c.path.space
	d := &s.dimensions
	var onRisk, onProofs []freeAnswer
	for _, f := range c.path.free {
		if f.test.Key == engine.KeyProved {
			onProofs = append(onProofs, f)
		} else {
			onRisk = append(onRisk, f)
		}
	}
	risks := s.risks[:1]
	matters := len(onRisk) > 0 || c.path.scoreMatters() // of a bar that no test asked about
	if matters {
		risks = s.risks
	}
	for _, pl := range d[place].first(c.path.sets[place], mostTried) {
		for _, dv := range d[device].first(c.path.sets[device], mostTried) {
			for _, th := range d[through].first(c.path.sets[through], 1) {
				base := attempt.Attempt{At: c.At, Account: c.Account, App: c.App, Action: c.Action}
				d[place].atoms[pl].apply(&base)
				d[device].atoms[dv].apply(&base)
				d[through].atoms[th].apply(&base)
				made := func(sets ...setting) *attempt.Attempt {
					a := base // settings put new values in the place of others, and change none
					for _, set := range sets {
						set.apply(&a)
					}
					return &a
				}
				// What is proven changes no signal, where none asks about the device.
				fitting := risks
				if len(risks) > 1 {
					fitting = s.noticeable(&base, [dimensions]int{place: pl, device: dv, through: th}, onRisk)
				}
				if len(fitting) == 0 {
					continue
				}
				proofs := s.proofs[:1]
				if len(onProofs) > 0 || matters && s.signalsOnProofs {
					proofs = c.path.provable(&base, dv, onProofs)
				}
				for _, proof := range proofs {
					for _, risk := range fitting {
						if tries++; tries > mostTries {
							return nil, false
						}
						a := made(risk, proof)
						if s.provenMatters() &&
							slices.ContainsFunc(onRisk, func(f freeAnswer) bool { return f.side.asking.Holds(a, f.test) != f.truth }) {
							continue
						}
						if wanted(a) {
							return a, true
						}
					}
				}
			}
		}
	}
	return nil, len(c.path.unknown) == 0 && !(matters && s.signalsUnknown)
}

// circumstance is what signals depend on beside what is brought about: those of no account, app, moment or action, unless
// one asks for it.
type circumstance struct {
	kinds        [dimensions]string
	account, app string
	at           time.Time
	action       attempt.Action
}

// answering is a way in which something may be, and how tests are answered then.
type answering struct {
	setting
	answers []condition.Truth
}

// fits reports whether free tests are answered in a given way, by their numbers.
func (x *answering) fits(wanted []freeAnswer, numbers map[freeTest]numberedTest) bool {
	return !slices.ContainsFunc(wanted, func(f freeAnswer) bool {
		return x.answers[numbers[freeTest{f.side, f.side.idOfFree(f.test)}].number] != f.truth
	})
}

// toldApart leaves of ways those that tests tell apart, the first of each. What is noted of a way besides tells it apart too.
func toldApart(
	base *attempt.Attempt, ways []setting, tests map[freeTest]numberedTest, besides func(a *attempt.Attempt) string,
) (list []answering) {
	seen := map[string]bool{}
	for _, way := range ways {
		a := *base
		way.apply(&a)
		answers := make([]condition.Truth, len(tests))
		for _, t := range tests {
			answers[t.number] = t.holds(&a)
		}
		if key := fmt.Sprint(answers, besides(&a)); !seen[key] {
			seen[key] = true
			list = append(list, answering{way, answers})
		}
	}
	return list
}

// provable returns the ways to have proven something before that answer tests on it in a given way.
func (p *path) provable(base *attempt.Attempt, dv int, wanted []freeAnswer) (list []setting) {
	all, known := p.proven[dv]
	if !known {
		// What is proven of a posture changes the device.
		all = toldApart(base, p.space.proofs, p.space.proofTests, func(a *attempt.Attempt) string {
			key := ""
			for _, t := range p.space.deviceTests {
				key += t.holds(a).String()
			}
			return key
		})
		p.proven[dv] = all
	}
	for i := range all {
		if all[i].fits(wanted, p.space.proofTests) {
			list = append(list, all[i].setting)
		}
	}
	return list
}

// noticeable returns the ways to bring about a score that answer tests on the risk in a given way. There are far
// fewer that are told apart than ways. Where what is proven may change the answers, all that are told apart are returned.
func (s *Space) noticeable(base *attempt.Attempt, atoms [dimensions]int, wanted []freeAnswer) (list []setting) {
	for _, way := range s.allNoticeable(base, atoms) {
		if s.provenMatters() || way.fits(wanted, s.riskTests) {
			list = append(list, way.setting)
		}
	}
	return list
}

// provenMatters reports whether signals ask about what was proven, or about the device, which what was proven may change.
func (s *Space) provenMatters() bool { return len(s.signalTests[device]) > 0 || s.signalsOnProofs }

func (s *Space) allNoticeable(base *attempt.Attempt, atoms [dimensions]int) []answering {
	var c circumstance
	for of, d := range s.dimensions {
		c.kinds[of] = d.kinds[atoms[of]]
	}
	if s.signalsAbout&condition.AboutAccount != 0 {
		c.account = base.Account
	}
	if s.signalsAbout&condition.AboutApp != 0 {
		c.app = base.App
	}
	if s.signalsOnTime {
		c.at = base.At
	}
	if s.signalsOnActions {
		c.action = base.Action
	}
	if known, ok := s.noticed.Load(c); ok {
		return known.([]answering)
	}
	list := toldApart(base, s.risks, s.riskTests, func(a *attempt.Attempt) string {
		key := fmt.Sprint(len(a.Failed), s.kindOf(device, a))
		for _, one := range s.sides {
			score := one.asking.Score(a)
			if key = fmt.Sprint(key, score.High < one.asking.Risk().Levels.Medium); s.provenMatters() {
				key = fmt.Sprint(key, score) // to which more may come
			}
		}
		return key
	})
	s.noticed.Store(c, list)
	return list
}

// freeTest is a free test, by what it asks of a side.
type freeTest struct {
	side *side
	id   string
}

// numberedTest is a test with its number among those of its kind.
type numberedTest struct {
	test
	number int
}
