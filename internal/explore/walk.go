package explore

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
)

// Cell is circumstances in which a book has the same terms.
type Cell struct {
	// Where is the truth of the condition that the walk was narrowed by. It is not False.
	Where condition.Truth
	Terms decide.Terms
	// Account and App stand for all of their kind; there are so many Accounts. At is the earliest moment of a
	// kind.
	Account  string
	Accounts int
	App      string
	Action   attempt.Action
	At       time.Time
	// Order is the number of its kind of app: cells of a lower one come first.
	Order int

	path *path
}

// IsFree reports whether the cell rests on what is looked at where it matters alone: a score, or what was
// proven. Then that it has no witness says that it cannot come about; else it is a fault of the explorer.
func (c *Cell) IsFree() bool {
	return len(c.path.free) > 0 || c.path.low >= 0 || c.path.high <= risk100
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
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for n := range jobs {
				for kind := range s.kinds(appKinds[n][0], where) {
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

// appKinds returns the apps that nothing tells apart, by number.
func (s *Space) appKinds(where condition.Node) [][]int {
	var kinds [][]int
	byKey := map[string]int{}
	asked := s.commonTests(testsOf(nil, "guarantee", where))
	for i := range s.policies {
		asked = s.policyTests(asked, i)
	}
	asked = slices.DeleteFunc(distinct(asked), func(t test) bool { return !t.isOn(condition.AboutApp) })
	for i := range s.directory.Apps {
		app := &s.directory.Apps[i]
		if condition.Eval(where, s.directory.FactsOfApp(i)) == condition.False {
			continue
		}
		key := fmt.Sprint(s.aimed[i], app.OpenTo, app.Public, app.Limits)
		for _, t := range asked {
			key += t.Key.Definition().Holds(s.directory.FactsOfApp(i), t.Test).String()
		}
		n, known := byKey[key]
		if !known {
			n = len(kinds)
			byKey[key], kinds = n, append(kinds, nil)
		}
		kinds[n] = append(kinds[n], i)
	}
	return kinds
}

// kinds returns the kinds of account, action and moment that are told apart at an app.
func (s *Space) kinds(app int, where condition.Node) func(yield func(*Cell) bool) {
	tests := testsOf(nil, "guarantee", where)
	for _, i := range s.aimed[app] {
		tests = s.policyTests(tests, i)
	}
	tests = distinct(s.commonTests(tests))
	var onAccounts, onTime []test
	for _, t := range tests {
		switch {
		case t.isOn(condition.AboutAccount):
			onAccounts = append(onAccounts, t)
		case t.Key == facts.KeyDuring:
			onTime = append(onTime, t)
		}
	}
	return func(yield func(*Cell) bool) {
		dated := s.datedAt(app, onTime)
		for _, class := range s.accountKinds(app, onAccounts) {
			for _, at := range s.momentKinds(dated, class.profile, onAccounts) {
				for action := attempt.SignIn; action <= attempt.Consent; action++ {
					c := &Cell{Account: class.profile.Name(), Accounts: class.count, App: s.directory.Apps[app].Name, Action: action, At: at}
					if !yield(c) {
						return
					}
				}
			}
		}
	}
}

// accountKind is accounts that nothing tells apart.
type accountKind struct {
	profile *facts.Profile
	count   int
}

// accountKinds returns the kinds of account at an app, each with one of them.
func (s *Space) accountKinds(app int, tests []test) []*accountKind {
	var kinds []*accountKind
	byKey := map[string]*accountKind{}
	var key []byte
	for i := range s.directory.Accounts {
		p := s.directory.Profile(i)
		f := facts.Facts{Directory: s.directory, HasProfile: true, Profile: p, Moment: s.from, At: s.from}
		key = key[:0]
		for _, t := range tests {
			key = append(key, byte('0'+t.Key.Definition().Holds(&f, t.Test)))
		}
		key = s.appendStanding(key, p, app)
		kind := byKey[string(key)]
		if kind == nil {
			kind = &accountKind{profile: p}
			byKey[string(key)] = kind
			kinds = append(kinds, kind)
		}
		kind.count++
	}
	return kinds
}

// appendStanding appends what terms depend on beside the tests on an account.
func (s *Space) appendStanding(key []byte, p *facts.Profile, app int) []byte {
	a := p.Account()
	key = append(key, ' ', byte('0'+p.Kind()))
	key = strconv.AppendBool(key, p.Disabled())
	key = strconv.AppendBool(key, s.directory.IsOpenTo(app, p))
	for _, set := range [...]facts.MethodSet{p.Enrolled(), p.PerhapsEnrolled(), p.Barred(), p.PerhapsBarred()} {
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
func (s *Space) datedAt(app int, onTime []test) []moment {
	var list []moment
	kinds := map[string]int{}
	var key []byte
	for _, at := range s.moments {
		key = key[:0]
		f := facts.Facts{Directory: s.directory, Moment: at, At: at}
		for _, t := range onTime {
			key = append(key, byte('0'+t.Key.Definition().Holds(&f, t.Test)))
		}
		for _, i := range s.aimed[app] {
			key = strconv.AppendBool(key, s.in.InForceAt(i, at))
		}
		for i := range s.exemptions {
			u := s.exemptions[i].Until
			key = strconv.AppendBool(key, u != nil && u.Before(directory.DateOf(at.In(s.directory.Zone))))
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
func (s *Space) momentKinds(dated []moment, p *facts.Profile, onAccounts []test) []time.Time {
	own := []time.Time{} // when something of the account's own ends
	add := func(t time.Time) {
		if t.After(s.from) && t.Before(s.to) {
			own = append(own, t)
		}
	}
	for i := range s.rollouts {
		add(s.in.Deadline(i, p, s.from))
		add(s.in.Deadline(i, p, s.to))
	}
	for _, t := range onAccounts {
		if t.Key == facts.KeyJoinedWithin {
			if end, known := p.JoinedUntil(directory.Span(t.Limit()), s.from); known {
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
		add(a.Joined.Start(s.directory.Zone))
	}
	slices.SortFunc(own, time.Time.Compare)
	own = slices.CompactFunc(own, time.Time.Equal)
	type kind struct{ dated, own int }
	seen := map[kind]bool{}
	var kinds []time.Time
	look := func(at time.Time, dated int) {
		past := 0
		for past < len(own) && !at.Before(own[past]) {
			past++
		}
		if k := (kind{dated, past}); !seen[k] {
			seen[k] = true
			kinds = append(kinds, at)
		}
	}
	next := 0
	for i, m := range dated {
		look(m.at, m.kind)
		for next < len(own) && (i+1 == len(dated) || own[next].Before(dated[i+1].at)) {
			if !own[next].Before(m.at) {
				look(own[next], m.kind)
			}
			next++
		}
	}
	return kinds
}

// path is one way to answer the tests of a judge. It implements inside.Asker.
type path struct {
	context.Context
	space *Space
	sets  [dimensions]bits
	// free are the answers to free tests, by their IDs.
	free map[string]freeAnswer
	// low and high bound what is known of the score: at least low, and below high; -1 and 101 bound
	// nothing.
	low, high int
	choices   []choice
	next      int
}

type freeAnswer struct {
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
	p.next, p.low, p.high = 0, -1, risk100+1
}

// Answer implements inside.Asker.
func (p *path) Answer(t *condition.Test, held func() condition.Truth) condition.Truth {
	of := dimensionOf(t.Key)
	switch of {
	case concrete:
		return held()
	case free:
		return p.answerFree(t)
	}
	v := p.space.dimensions[of].of(p.space, t)
	var options []condition.Truth
	for truth := range v {
		if p.sets[of].meets(v[truth]) {
			options = append(options, condition.Truth(truth))
		}
	}
	truth := p.choose(options)
	p.sets[of].narrow(v[truth])
	return truth
}

// anyTruth are all answers.
var anyTruth = []condition.Truth{condition.False, condition.Unknown, condition.True}

// answerFree answers a test on the risk, or on what was proven.
func (p *path) answerFree(t *condition.Test) condition.Truth {
	id := p.space.idOfFree(t)
	if known, was := p.free[id]; was {
		return known.truth
	}
	var truth condition.Truth
	switch t.Key {
	case decide.KeyRiskAtLeast:
		truth = p.reaches(p.space.asking.Risk().Levels.From(directory.Level(t.Limit())))
	case decide.KeyScoreAtLeast:
		truth = p.reaches(int(t.Limit()))
	default:
		truth = p.choose(anyTruth)
	}
	p.free[id] = freeAnswer{t, truth}
	return truth
}

// reaches answers whether the score reaches a bar: so that a higher bar is not reached where a lower one is
// not.
func (p *path) reaches(bar int) condition.Truth {
	var options []condition.Truth
	switch {
	case p.low >= bar:
		return condition.True
	case p.high <= bar:
		return condition.False
	default:
		options = anyTruth
	}
	truth := p.choose(options)
	switch truth {
	case condition.True:
		p.low = max(p.low, bar)
	case condition.False:
		p.high = min(p.high, bar)
	}
	return truth
}

// BelowMedium implements inside.Asker.
func (p *path) BelowMedium() bool {
	return p.reaches(p.space.asking.Risk().Levels.Medium) == condition.False
}

// split visits the cells of a kind of account, app, action and moment.
func (s *Space) split(kind *Cell, where condition.Node, visit func(*Cell) bool) {
	p := &path{Context: context.Background(), space: s, free: map[string]freeAnswer{}}
	a := &attempt.Attempt{At: kind.At, Account: kind.Account, App: kind.App, Action: kind.Action}
	for more := true; more; more = p.again() {
		p.begin()
		holds, terms := s.asking.TermsWhere(p, a, where)
		if holds == condition.False {
			continue
		}
		c := *kind
		c.Where, c.Terms, c.path = holds, terms, p
		if !visit(&c) {
			return
		}
	}
}

// mostTried is how many atoms of a kind are tried to show what a cell claims, and mostTries how many attempts.
const mostTried, mostTries = 3, 200_000

// Witness returns an attempt out of the cell on which the judge itself comes to what is wanted: the truth of
// the condition, bound to the names of the judge, and the terms. It returns nil where none does: where that is
// settled, such circumstances cannot come about, else too much would have to be tried. It is called while the
// cell is visited.
func (c *Cell) Witness(where condition.Node, wanted func(condition.Truth, decide.Terms) bool) (a *attempt.Attempt, settled bool) {
	tries := 0
	s, ctx := c.path.space, context.Background()
	risks, proofs := s.risks[:1], s.proofs[:1]
	for _, f := range c.path.free {
		if f.test.Key == decide.KeyProved {
			proofs = s.proofs
		} else {
			risks = s.risks
		}
	}
	if c.path.low >= 0 || c.path.high <= risk100 { // of a bar that no test asked about
		risks = s.risks
	}
	d := &s.dimensions
	matches := func(a *attempt.Attempt, proved bool) bool {
		for _, f := range c.path.free {
			if (f.test.Key == decide.KeyProved) == proved && s.in.Holds(a, f.test) != f.truth {
				return false
			}
		}
		return true
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
				if !s.signalsOnDevices {
					fitting = nil
					for _, risk := range risks {
						if matches(made(risk), false) {
							fitting = append(fitting, risk)
						}
					}
				}
				for _, proof := range proofs {
					if len(fitting) == 0 || !matches(made(proof), true) {
						continue
					}
					for _, risk := range fitting {
						if tries++; tries > mostTries {
							return nil, false
						}
						a := made(risk, proof)
						if (!s.signalsOnDevices || matches(a, false)) && wanted(s.judge.TermsWhere(ctx, a, where)) {
							return a, true
						}
					}
				}
			}
		}
	}
	return nil, true
}

// risk100 is the highest score.
const risk100 = 100
