// Package explore goes through all circumstances under which a book can be asked, and tells the terms that
// it has in each.
//
// The circumstances are cut into cells. Accounts, apps, actions and moments that nothing in the book tells
// apart are one each. In those the judge is asked for its terms, and each of its tests on the address, the
// device and the rest is answered in every way that can come about: a test that is never asked splits
// nothing. The judge is the only semantics; this package decides nothing, and shows each claim by an attempt
// on which the judge itself comes to it.
package explore

import (
	"slices"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/facts"
	"github.com/briskwarden/briskwarden/internal/inside"
)

// Space is all circumstances under which a book can be asked. It is safe for concurrent use.
type Space struct {
	// judge decides, and asking asks the explorer in place of an attempt.
	judge, asking *decide.Judge
	in            inside.Judge
	directory     *facts.Directory
	from, to      time.Time

	policies   []decide.Policy
	exemptions []decide.Exemption
	rollouts   []decide.Rollout
	// aimed are the policies at each app.
	aimed [][]int
	// dimensions are what tests on an attempt look at, each with all that it may be.
	dimensions [dimensions]*dimension
	// moments begin the stretches of time in which nothing that is dated changes.
	moments []time.Time
	// risks and proofs are what brings about a score, and what was proven before.
	risks, proofs []setting
	// signalsOnDevices says that a signal asks about the device.
	signalsOnDevices bool
	// ids are those of free tests.
	ids sync.Map // of *condition.Test to string
}

// Horizon is how far ahead circumstances are looked at where nobody says.
const Horizon = 400 * 24 * time.Hour

// New makes the space of a rulebook between two moments. The judge is the one that decides by it. Conditions
// are some more that will be asked about: the conditions of guarantees.
func New(judge *decide.Judge, from, to time.Time, conditions ...condition.Node) (*Space, error) {
	rules := judge.Rulebook()
	rules.Watched = append(slices.Clone(rules.Watched), conditions...)
	made, err := inside.CompileAsking(rules)
	if err != nil {
		return nil, err
	}
	asking := made.(*decide.Judge)
	s := &Space{judge: judge, asking: asking, in: inside.Of(asking), from: from, to: to, policies: asking.Policies(),
		exemptions: asking.Exemptions(), rollouts: asking.Rollouts()}
	s.directory = s.in.Directory()
	s.aimed = make([][]int, len(s.directory.Apps))
	for i := range s.policies {
		for _, app := range s.in.Apps(i) {
			s.aimed[app] = append(s.aimed[app], i)
		}
	}
	tests := s.allTests(conditions)
	s.dimensions = s.cut(tests)
	s.moments = s.turns(tests)
	s.risks, s.proofs = s.riskSettings(), s.proofSettings(tests)
	for _, signal := range asking.Risk().Signals {
		for _, t := range testsOf(nil, "risk", signal.When) {
			s.signalsOnDevices = s.signalsOnDevices || dimensionOf(t.Key) == device
		}
	}
	return s, nil
}

// Bind binds a condition that New was given to the names of the space.
func (s *Space) Bind(owner string, node condition.Node) (condition.Node, error) {
	return s.in.Bind(owner, node)
}

// test is a bound test of the book. Two of the same ID ask the same.
type test struct {
	*condition.Test
	id string
}

// idOf names what a test asks. Shares are drawn for their owners, so each is one of its own.
func idOf(owner string, t *condition.Test) string {
	if t.Key == facts.KeyShare {
		return owner + ": " + condition.Text(t)
	}
	return condition.Text(t)
}

// idOfFree names what a free test asks.
func (s *Space) idOfFree(t *condition.Test) string {
	if id, ok := s.ids.Load(t); ok {
		return id.(string)
	}
	id := condition.Text(t)
	s.ids.Store(t, id)
	return id
}

// testsOf appends the tests of conditions.
func testsOf(tests []test, owner string, nodes ...condition.Node) []test {
	for _, node := range nodes {
		condition.Walk(node, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok {
				tests = append(tests, test{t, idOf(owner, t)})
			}
			return true
		})
	}
	return tests
}

// policyTests appends the tests of a policy.
func (s *Space) policyTests(tests []test, policy int) []test {
	p := &s.policies[policy]
	tests = testsOf(tests, p.Name, p.Who, p.LiveFor)
	for i := range p.Rules {
		tests = testsOf(tests, p.Name, p.Rules[i].When)
	}
	return tests
}

// commonTests appends the tests of what is not aimed at an app: exemptions, rollouts and signals.
func (s *Space) commonTests(tests []test) []test {
	for i := range s.exemptions {
		tests = testsOf(tests, s.exemptions[i].Name, s.exemptions[i].Who, s.exemptions[i].When)
	}
	for i := range s.rollouts {
		tests = testsOf(tests, s.rollouts[i].Name, s.rollouts[i].Who)
	}
	for _, signal := range s.asking.Risk().Signals {
		tests = testsOf(tests, "risk", signal.When)
	}
	return tests
}

// allTests returns all tests of the book, those of more conditions too.
func (s *Space) allTests(conditions []condition.Node) (tests []test) {
	for i := range s.policies {
		tests = s.policyTests(tests, i)
	}
	tests = s.commonTests(tests)
	for _, node := range conditions {
		if bound, err := s.in.Bind("guarantee", node); err == nil {
			tests = testsOf(tests, "guarantee", bound)
		}
	}
	for _, a := range s.asking.Assurances() {
		if a.Posture == "" {
			continue
		}
		if bound, err := s.in.Bind("posture", &condition.Test{Key: facts.KeyPosture, Values: []string{a.Posture}}); err == nil {
			tests = testsOf(tests, "posture", bound)
		}
	}
	return distinct(tests)
}

func distinct(tests []test) []test {
	seen := map[string]bool{}
	return slices.DeleteFunc(tests, func(t test) bool {
		was := seen[t.id]
		seen[t.id] = true
		return was
	})
}

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
		if t.Key == facts.KeyDuring {
			for _, w := range t.Numbers() {
				for _, turn := range s.directory.WindowTurns(int(w), s.from, s.to) {
					add(turn)
				}
			}
		}
	}
	for day := s.from.In(s.directory.Zone); day.Before(s.to); day = day.AddDate(0, 0, 1) {
		midnight := time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, s.directory.Zone)
		if s.isDated(midnight) {
			add(midnight)
		}
	}
	slices.SortFunc(moments, time.Time.Compare)
	return slices.CompactFunc(moments, time.Time.Equal)
}

// isDated reports whether something of the book begins or ends at a midnight.
func (s *Space) isDated(midnight time.Time) bool {
	before := midnight.Add(-time.Second)
	for i := range s.policies {
		if s.in.InForceAt(i, midnight) != s.in.InForceAt(i, before) {
			return true
		}
	}
	today := midnight.Format(time.DateOnly)
	yesterday := before.In(s.directory.Zone).Format(time.DateOnly)
	for i := range s.exemptions {
		if u := s.exemptions[i].Until; u != nil && u.String() == yesterday {
			return true
		}
	}
	for i := range s.rollouts {
		if s.rollouts[i].Enforced.String() == today {
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
	known  map[string]*vectors
}

// of returns the atoms by the truth of a test. It asks the judge's own definition of the test about each.
func (d *dimension) of(s *Space, t *condition.Test) *vectors {
	if v, ok := d.byTest.Load(t); ok {
		return v.(*vectors)
	}
	id := condition.Text(t)
	d.mu.RLock()
	v := d.known[id]
	d.mu.RUnlock()
	if v != nil {
		d.byTest.Store(t, v)
		return v
	}
	v = &vectors{newBits(len(d.atoms), false), newBits(len(d.atoms), false), newBits(len(d.atoms), false)}
	for i := range d.atoms {
		a := s.plain()
		d.atoms[i].apply(a)
		v[s.in.Holds(a, t)].add(i)
	}
	d.mu.Lock()
	d.known[id] = v
	d.mu.Unlock()
	return v
}
