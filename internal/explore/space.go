// Package explore goes through all circumstances under which a book, or an older and a newer version of one, can be
// asked, and gives the terms that it has in each.
//
// The circumstances are cut into cells. Accounts, apps, actions and moments that nothing in the book tells
// apart are one each. In those the judge is asked for its terms, and each of its tests on the address, the
// device and the rest is answered in every way that can come about: a test that is never asked splits
// nothing. The judge is the only semantics; this package decides nothing, and shows each claim by an attempt
// on which the judge itself comes to it.
package explore

import (
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Space is all circumstances under which a book, or two versions of one, can be asked. It is safe for concurrent
// use.
type Space struct {
	// Progress, where it is not nil, is told by each walk that so many kinds of app more were gone through, and that so
	// many more are to be. Several goroutines call it. It is set before the first walk.
	Progress func(done, more int)

	// sides are the book, or the older and the newer version of it.
	sides    []*side
	from, to time.Time

	// tests are those of all conditions.
	tests []test
	// apps and accounts are those of all sides.
	apps, accounts []subject
	// alike is what two versions have in common; nil where there is one book.
	alike *likeness
	// dimensions are what tests on an attempt look at, each with all that it may be.
	dimensions [dimensions]*dimension
	// moments begin the stretches of time in which nothing that is dated changes.
	moments []time.Time
	// risks and proofs are what brings about a score, and what was proven before.
	risks, proofs []setting
	// signalTests are those of the conditions of signals, by what they look at.
	signalTests [dimensions][]test
	// signalsOnTime, signalsOnActions and signalsOnProofs say that a signal asks about the time, the action or what was
	// proven, and signalsAbout what else signals ask about.
	signalsOnTime, signalsOnActions, signalsOnProofs bool
	// signalsUnknown says that a signal asks about what the explorer does not know.
	signalsUnknown bool
	signalsAbout   condition.Subject
	// signalsPass says that a signal asks for what passes in time of an account.
	signalsPass bool
	// riskTests and proofTests are all free tests, and noticed has the ways to bring about a score that the former
	// tell apart, by what else signals depend on.
	riskTests, proofTests map[freeTest]numberedTest
	deviceTests           []test
	noticed               *sync.Map // of circumstance to []answering
	// border are addresses of all kinds, and postureTests ask for the postures of assurances.
	border       []netip.Addr
	postureTests []test
	// crowd and cuts are what questions need.
	crowd *crowd
	cuts  *cuts
}

// subject is an account or an app, with its number on each side: absent where a side does not have it.
type subject struct {
	name    string
	numbers [2]int
}

const absent = -1

// side is one book of a space.
type side struct {
	number int
	// judge decides, and asking asks the explorer in place of an attempt.
	judge, asking *engine.Judge
	directory     *engine.Directory

	policies   []decide.Policy
	exemptions []decide.Exemption
	rollouts   []decide.Rollout
	// aimed are the policies at each app.
	aimed [][]int
	// ids are those of free tests.
	ids sync.Map // of *condition.Test to string
}

// Horizon is how far ahead circumstances are looked at where nobody says.
const Horizon = 400 * 24 * time.Hour

// New makes the space of a rulebook between two moments. The judge is the one that decides by it. Conditions
// are some more that will be asked about: the conditions of guarantees.
func New(judge *engine.Judge, from, to time.Time, conditions ...condition.Node) (*Space, error) {
	one, err := newSide(0, judge, conditions)
	if err != nil {
		return nil, err
	}
	s := &Space{sides: []*side{one}, from: from, to: to}
	for i := range one.directory.Apps {
		s.apps = append(s.apps, subject{one.directory.Apps[i].Name, [2]int{i, absent}})
	}
	s.accounts = s.unite((*side).accountNames)
	return s, s.make(conditions)
}

// make fills in what is cut by the tests of all sides.
func (s *Space) make(conditions []condition.Node) error {
	tests, err := s.allTests(conditions)
	if err != nil {
		return err
	}
	for _, one := range s.sides {
		for _, signal := range one.asking.Risk().Signals {
			for _, t := range distinct(one.testsOf(nil, "risk", signal.When)) {
				if of := dimensionOf(t.Key); of < dimensions {
					s.signalTests[of] = append(s.signalTests[of], t)
				}
				s.signalsOnTime = s.signalsOnTime || t.Key == engine.KeyDuring || t.Key == engine.KeyJoinedWithin
				s.signalsUnknown = s.signalsUnknown || dimensionOf(t.Key) == unknown
				s.signalsOnActions = s.signalsOnActions || t.Key == engine.KeyActions
				s.signalsOnProofs = s.signalsOnProofs || t.Key == engine.KeyProved
				s.signalsPass = s.signalsPass || t.Key == engine.KeyJoinedWithin || t.Key == engine.KeyAccountRiskAtLeast
				s.signalsAbout |= t.Key.About()
			}
		}
	}
	s.tests = tests
	s.noticed, s.crowd, s.cuts = new(sync.Map), new(crowd), &cuts{dimensions: map[string]*dimension{}}
	if s.border, err = s.borders(); err != nil {
		return err
	}
	for of := range s.dimensions {
		s.dimensions[of] = s.cut(of, tests, true)
	}
	s.moments = s.turns(tests)
	s.risks, s.proofs = s.riskSettings(), s.proofSettings(tests)
	s.riskTests, s.proofTests, s.deviceTests = map[freeTest]numberedTest{}, map[freeTest]numberedTest{}, onDimension(tests, device)
	for _, t := range onDimension(tests, free) {
		of := s.riskTests
		if t.Key == engine.KeyProved {
			of = s.proofTests
		}
		of[freeTest{t.side, t.side.idOfFree(t.Test)}] = numberedTest{t, len(of)}
	}
	return nil
}

func newSide(number int, judge *engine.Judge, conditions []condition.Node) (*side, error) {
	rules := judge.Rulebook()
	rules.Watched = append(slices.Clone(rules.Watched), conditions...)
	asking, err := engine.CompileAsking(rules)
	if err != nil {
		return nil, err
	}
	b := &side{number: number, judge: judge, asking: asking, policies: asking.Policies(),
		exemptions: asking.Exemptions(), rollouts: asking.Rollouts()}
	b.directory = b.asking.Directory()
	b.aimed = make([][]int, len(b.directory.Apps))
	for i := range b.policies {
		for _, app := range b.asking.Apps(i) {
			b.aimed[app] = append(b.aimed[app], i)
		}
	}
	return b, nil
}

func (b *side) accountNames() (names []string) {
	for i := range b.directory.Accounts {
		names = append(names, b.directory.Accounts[i].Name)
	}
	return names
}

// unite lists what sides have by name.
func (s *Space) unite(names func(*side) []string) (list []subject) {
	known := map[string]int{}
	for _, one := range s.sides {
		for n, name := range names(one) {
			i, has := known[name]
			if !has {
				i = len(list)
				known[name], list = i, append(list, subject{name, [2]int{absent, absent}})
			}
			list[i].numbers[one.number] = n
		}
	}
	return list
}

// Bind binds a condition that New was given to the names of the space.
func (s *Space) Bind(owner string, node condition.Node) (condition.Node, error) {
	return s.sides[0].asking.Bind(owner, node)
}

// test is a bound test of a book. Two of the same ID ask the same of one side.
type test struct {
	*condition.Test
	side *side
	id   string
}

// idOf names what a test asks. Shares are drawn for their owners, so each is one of its own.
func idOf(owner string, t *condition.Test) string {
	if t.Key == engine.KeyShare {
		return owner + ": " + condition.Text(t)
	}
	return condition.Text(t)
}

// idOfFree names what a free test asks.
func (b *side) idOfFree(t *condition.Test) string {
	if id, ok := b.ids.Load(t); ok {
		return id.(string)
	}
	id := condition.Text(t)
	b.ids.Store(t, id)
	return id
}

// testsOf appends the tests of conditions.
func (b *side) testsOf(tests []test, owner string, nodes ...condition.Node) []test {
	for _, node := range nodes {
		condition.Walk(node, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok {
				tests = append(tests, test{t, b, idOf(owner, t)})
			}
			return true
		})
	}
	return tests
}

// policyTests appends the tests of a policy.
func (b *side) policyTests(tests []test, policy int) []test {
	p := &b.policies[policy]
	tests = b.testsOf(tests, p.Name, p.Who, p.LiveFor)
	for i := range p.Rules {
		tests = b.testsOf(tests, p.Name, p.Rules[i].When)
	}
	return tests
}

// commonTests appends the tests of what is not aimed at an app: exemptions, rollouts and signals.
func (b *side) commonTests(tests []test) []test {
	for i := range b.exemptions {
		tests = b.testsOf(tests, b.exemptions[i].Name, b.exemptions[i].Who, b.exemptions[i].When)
	}
	for i := range b.rollouts {
		tests = b.testsOf(tests, b.rollouts[i].Name, b.rollouts[i].Who)
	}
	for _, signal := range b.asking.Risk().Signals {
		tests = b.testsOf(tests, "risk", signal.When)
	}
	return tests
}

// Unexplored says, as a sentence with a space before it, by which keys the books test what nobody can bring about yet; "" where
// there are none.
func (s *Space) Unexplored() string {
	var names []string
	for _, t := range s.tests {
		if dimensionOf(t.Key) == unknown && !slices.Contains(names, t.Key.String()) {
			names = append(names, t.Key.String())
		}
	}
	if len(names) == 0 {
		return ""
	}
	slices.Sort(names)
	return " Whatever rests on " + words.List(names, "or") + " is open, since no attempt can be made up that shows it."
}

// allTests returns all tests of the books, those of more conditions too.
func (s *Space) allTests(conditions []condition.Node) (tests []test, err error) {
	for _, one := range s.sides {
		for i := range one.policies {
			tests = one.policyTests(tests, i)
		}
		tests = one.commonTests(tests)
		for _, node := range conditions {
			bound, err := one.asking.Bind("guarantee", node)
			if err != nil {
				return nil, err
			}
			tests = one.testsOf(tests, "guarantee", bound)
		}
		for _, a := range one.asking.Assurances() {
			if a.Posture == "" {
				continue
			}
			bound, err := one.asking.Bind("posture", &condition.Test{Key: engine.KeyPosture, Values: []string{a.Posture}})
			if err != nil {
				return nil, err
			}
			s.postureTests = one.testsOf(s.postureTests, "posture", bound)
		}
	}
	return distinct(append(tests, s.postureTests...)), nil
}

func distinct(tests []test) []test {
	type key struct {
		side *side
		id   string
	}
	seen := map[key]bool{}
	return slices.DeleteFunc(tests, func(t test) bool {
		k := key{t.side, t.id}
		was := seen[k]
		seen[k] = true
		return was
	})
}

// holds answers a test on an attempt.
func (t test) holds(a *attempt.Attempt) condition.Truth { return t.side.asking.Holds(a, t.Test) }

// on answers a test on what else is known: of an account, an app or a moment.
func (t test) on(f *engine.Facts) condition.Truth { return f.Holds(t.Test) }

// isOn reports whether a test is on a subject.
func (t test) isOn(subject condition.Subject) bool { return t.Key.About()&subject != 0 }

// turns returns the moments at which something that is dated changes, and the first.
func (s *Space) turns(tests []test) []time.Time {
	moments := []time.Time{s.from}
	add := func(t time.Time) {
		if t.After(s.from) && t.Before(s.to) {
			moments = append(moments, t)
		}
	}
	for _, t := range tests {
		if t.Key == engine.KeyDuring {
			for _, w := range t.Numbers() {
				for _, turn := range t.side.directory.WindowTurns(int(w), s.from, s.to) {
					add(turn)
				}
			}
		}
	}
	for _, day := range s.Days() {
		add(day)
	}
	slices.SortFunc(moments, time.Time.Compare)
	return slices.CompactFunc(moments, time.Time.Equal)
}

// Days returns the midnights at which a policy, an exemption or a rollout begins or ends, in order for each version of
// the book.
func (s *Space) Days() (days []time.Time) {
	for _, one := range s.sides {
		zone := one.directory.Zone
		for day := s.from.In(zone).AddDate(0, 0, 1); day.Before(s.to); day = day.AddDate(0, 0, 1) {
			midnight := time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, zone)
			if midnight.Before(s.to) && one.isDated(midnight) {
				days = append(days, midnight)
			}
		}
	}
	return days
}

// isDated reports whether something of the book begins or ends at a midnight.
func (b *side) isDated(midnight time.Time) bool {
	before := midnight.Add(-time.Second)
	for i := range b.policies {
		if b.asking.InForceAt(i, midnight) != b.asking.InForceAt(i, before) {
			return true
		}
	}
	today := midnight.Format(time.DateOnly)
	yesterday := before.In(b.directory.Zone).Format(time.DateOnly)
	for i := range b.exemptions {
		if u := b.exemptions[i].Until; u != nil && u.String() == yesterday {
			return true
		}
	}
	for i := range b.rollouts {
		if b.rollouts[i].Enforced.String() == today {
			return true
		}
	}
	return false
}

// bits is a set of atoms.
type bits []uint64

func newBits(n int, full bool) bits {
	b := make(bits, (n+63)/64)
	if full {
		for i := range n {
			b.add(i)
		}
	}
	return b
}

func (b bits) add(i int)      { b[i/64] |= 1 << (i % 64) }
func (b bits) has(i int) bool { return b[i/64]&(1<<(i%64)) != 0 }

func (b bits) meets(o bits) bool {
	for i := range b {
		if b[i]&o[i] != 0 {
			return true
		}
	}
	return false
}

// narrow leaves those that are in another set too.
func (b bits) narrow(o bits) {
	for i := range b {
		b[i] &= o[i]
	}
}

// remove takes out those that are in another set.
func (b bits) remove(o bits) {
	for i := range b {
		b[i] &^= o[i]
	}
}

// first returns some atoms of a set, at most so many of each kind.
func (d *dimension) first(b bits, most int) (list []int) {
	seen := map[string]int{}
	for i := range d.atoms {
		if b.has(i) && seen[d.kinds[i]] < most {
			seen[d.kinds[i]]++
			list = append(list, i)
		}
	}
	return list
}

// vectors are the atoms of a dimension by the truth of a test.
type vectors [3]bits

// dimension is one thing that tests on an attempt look at, with all that it may be as far as they tell it
// apart.
type dimension struct {
	atoms []setting
	// kinds tell atoms apart by what detectors see of them, which no test asks.
	kinds []string
	// all is the set of all atoms.
	all bits
	// byTest has the vectors of tests that were asked, and known those of what tests ask: many ask the same.
	byTest sync.Map // of *condition.Test to *vectors
	mu     sync.RWMutex
	known  [2]map[string]*vectors
}

// of returns the atoms by the truth of a test of a side. It asks the judge's own definition of the test about
// each.
func (d *dimension) of(s *Space, one *side, t *condition.Test) *vectors {
	if v, ok := d.byTest.Load(t); ok {
		return v.(*vectors)
	}
	id := condition.Text(t)
	d.mu.RLock()
	v := d.known[one.number][id]
	d.mu.RUnlock()
	if v != nil {
		d.byTest.Store(t, v)
		return v
	}
	v = &vectors{newBits(len(d.atoms), false), newBits(len(d.atoms), false), newBits(len(d.atoms), false)}
	for i := range d.atoms {
		a := s.plain()
		d.atoms[i].apply(a)
		v[one.asking.Holds(a, t)].add(i)
	}
	d.mu.Lock()
	d.known[one.number][id] = v
	d.mu.Unlock()
	return v
}
