package inspect

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
)

// mostSteps bounds the search for a way in which a condition can hold. Where it
// runs out the condition is taken to be able to.
const mostSteps = 20_000

// literal is a test, or that it fails.
type literal struct {
	test  *condition.Test
	wants bool
}

// goal is a condition that is to hold, or not to.
type goal struct {
	node  condition.Node
	wants bool
}

// conditionsOf returns the conditions of rules, nil for those without.
func conditionsOf(rules []decide.Rule) []condition.Node {
	var nodes []condition.Node
	for _, r := range rules {
		nodes = append(nodes, r.When)
	}
	return nodes
}

// canHold reports whether, in a policy that applies, some attempt fulfils each of
// the conditions in holds and none of those in fails.
//
// The search walks the ways in which the conditions can come about, each a list
// of tests that hold or fail, and asks of each list whether the tests of one
// subject go together. Subjects hang together only where it says so below; what
// it does not look into is taken to be possible.
func (in *Pass) canHold(s *subject, holds, fails []condition.Node) bool {
	var goals []goal
	for _, n := range holds {
		goals = append(goals, goal{n, true})
	}
	for _, n := range fails {
		goals = append(goals, goal{n, false})
	}
	search := &search{Pass: in, subject: s}
	return search.reach(goals, nil) || search.steps > mostSteps
}

type search struct {
	*Pass
	subject *subject
	steps   int
}

// reach works off the goals, with the literals taken on so far.
func (s *search) reach(goals []goal, taken []literal) bool {
	if s.steps++; s.steps > mostSteps {
		return true
	}
	if len(goals) == 0 {
		return s.consistent(taken)
	}
	g, rest := goals[0], goals[1:]
	each := func(kids []condition.Node, conjunction bool) bool {
		if conjunction == g.wants { // each of them must come about
			all := slices.Clone(rest)
			for _, kid := range kids {
				all = append(all, goal{kid, g.wants})
			}
			return s.reach(all, taken)
		}
		return slices.ContainsFunc(kids, func(kid condition.Node) bool {
			return s.reach(append([]goal{{kid, g.wants}}, rest...), taken)
		})
	}
	switch n := g.node.(type) {
	case *condition.All:
		return each(n.Of, true)
	case *condition.Any:
		return each(n.Of, false)
	case *condition.Not:
		return s.reach(append([]goal{{n.Of, !g.wants}}, rest...), taken)
	case *condition.Test:
		taken = append(slices.Clip(taken), literal{n, g.wants})
		// Only the tests on what was just added can have come to disagree.
		return s.consistentOn(n.Key, taken) && s.reach(rest, taken)
	}
	return g.wants && s.reach(rest, taken) // the nil condition always holds
}

// consistent checks each subject once more; a condition of no test has none.
func (s *search) consistent(taken []literal) bool {
	for _, l := range taken {
		if !s.consistentOn(l.test.Key, taken) {
			return false
		}
	}
	return true
}

// consistentOn reports whether the tests that hang together with those on a key
// can come about at once.
func (s *search) consistentOn(key condition.Key, taken []literal) bool {
	// Tests on the same fact, and of an attribute those on the same one.
	fact, last := key.Definition().Fact, taken[len(taken)-1].test
	var same []literal
	for _, l := range taken {
		is := l.test.Key.Definition().Fact == fact
		if fact == condition.OfOneValue || fact == condition.OfManyValues {
			is = l.test.Key == key && l.test.Attribute == last.Attribute
		}
		if is {
			same = append(same, l)
		}
	}
	switch fact {
	case condition.OfAccount:
		return s.someAccount(same)
	case condition.OfApp:
		return s.someApp(same)
	case condition.OfAddress:
		return s.somePlace(same)
	case condition.OfMoment:
		return s.someMoment(same)
	case condition.OfScore:
		return s.someScore(same)
	case condition.OfOneValue:
		var allowed []string
		if key == facts.KeyActions {
			for _, a := range s.subject.Actions {
				allowed = append(allowed, a.String())
			}
		}
		return oneValue(same, allowed)
	case condition.OfScope:
		return s.someScope(same)
	case condition.OfClient:
		return s.someClient(same)
	case condition.OfResource:
		return someResource(same)
	}
	return manyValues(same)
}

// someAccount looks for an account of the policy that fulfils the tests.
func (s *search) someAccount(tests []literal) bool {
	audience := s.subject.audience
	for _, l := range tests {
		one := s.crowd.Of(l.test)
		if !l.wants {
			one = one.Not(len(s.directory.Accounts))
		}
		audience = audience.And(one)
	}
	return !audience.IsEmpty()
}

// someApp looks for an app of the policy that fulfils the tests.
func (s *search) someApp(tests []literal) bool {
	return slices.ContainsFunc(s.subject.apps, func(app int) bool {
		facts := s.directory.FactsOfApp(app)
		return fulfils(tests, func(t *condition.Test) condition.Truth {
			return t.Holds(facts)
		})
	})
}

func fulfils(tests []literal, holds func(*condition.Test) condition.Truth) bool {
	return !slices.ContainsFunc(tests, func(l literal) bool { return holds(l.test) == condition.Of(!l.wants) })
}

// gatherPlaces collects the kinds of place that the book tells apart: each set of
// networks that addresses lie in, and nowhere.
func (in *Pass) gatherPlaces() {
	seen := map[string]bool{}
	add := func(p *facts.Place) {
		if key := fmt.Sprint(p.Networks, p.Ours, p.Country); !seen[key] {
			seen[key] = true
			in.places = append(in.places, p)
		}
	}
	add(new(facts.Place))
	// Where one stretch of like addresses ends another begins, so the addresses at
	// and beside the ends of ranges stand for all.
	edge := func(r directory.Range) {
		for _, a := range []netip.Addr{r.From.Prev(), r.From, r.To, r.To.Next()} {
			add(in.directory.Place(a))
		}
	}
	for _, n := range in.directory.Networks {
		for _, r := range n.Ranges {
			edge(r)
		}
	}
	for _, r := range in.directory.Literals {
		edge(r)
	}
}

// somePlace looks for a kind of place and a country that fulfil the tests. A
// network that states a country settles it.
func (s *search) somePlace(tests []literal) bool {
	var countries, others []literal
	for _, l := range tests {
		if l.test.Key == facts.KeyCountries {
			countries = append(countries, l)
		} else {
			others = append(others, l)
		}
	}
	free := oneNumber(countries)
	return slices.ContainsFunc(s.places, func(p *facts.Place) bool {
		known := facts.Facts{Directory: s.directory, Place: p}
		if !fulfils(others, func(t *condition.Test) condition.Truth { return t.Holds(&known) }) {
			return false
		}
		if p.Country == "" {
			return free
		}
		return fulfils(countries, func(t *condition.Test) condition.Truth { return facts.CountryHolds(p.Country, t) })
	})
}

// horizon is how far ahead windows are looked at.
const horizon = 400 * 24 * time.Hour

// someMoment looks for a moment, from now on, that fulfils the tests.
func (s *search) someMoment(tests []literal) bool {
	moments := []time.Time{s.At}
	for _, l := range tests {
		for _, w := range l.test.Numbers() {
			end := s.At.Add(horizon)
			for _, r := range s.directory.Windows[w].Dates {
				if last := r.Last.Start(s.directory.Zone).Add(48 * time.Hour); last.After(end) && last.Before(s.At.AddDate(20, 0, 0)) {
					end = last
				}
			}
			moments = append(moments, s.directory.WindowTurns(int(w), s.At, end)...)
		}
	}
	return slices.ContainsFunc(moments, func(t time.Time) bool {
		return fulfils(tests, func(test *condition.Test) condition.Truth {
			return condition.Of(slices.ContainsFunc(test.Numbers(), func(w int32) bool { return s.directory.InWindow(int(w), t) }))
		})
	})
}

// someScore reports whether a score fulfils the tests that the signals can reach.
func (s *search) someScore(tests []literal) bool {
	least, most := 0, highestScore(s.Judge.Risk())
	for _, l := range tests {
		bar := int(l.test.Limit())
		if l.test.Key == decide.KeyRiskAtLeast {
			bar = s.Judge.Risk().Levels.From(directory.Level(l.test.Limit()))
		}
		if l.wants {
			least = max(least, bar)
		} else {
			most = min(most, bar-1)
		}
	}
	return least <= most
}

// highestScore is what all signals together come to.
func highestScore(m risk.Scheme) int {
	sum := 0
	for _, signal := range m.Signals {
		sum += signal.Points
	}
	return min(sum, risk.MaxScore)
}

// oneValue reports whether one value, of a fact that has one at a time, fulfils the
// tests. Where allowed is nil any value may come.
func oneValue(tests []literal, allowed []string) bool {
	return oneOf(tests, allowed, func(t *condition.Test) []string { return t.Values })
}

// oneNumber is oneValue for tests that are bound to numbers.
func oneNumber(tests []literal) bool {
	return oneOf(tests, nil, func(t *condition.Test) []int32 { return t.Numbers() })
}

func oneOf[T comparable](tests []literal, allowed []T, values func(*condition.Test) []T) bool {
	for _, l := range tests {
		if !l.wants {
			continue
		}
		if allowed == nil {
			allowed = slices.Clone(values(l.test))
			continue
		}
		allowed = slices.DeleteFunc(slices.Clone(allowed), func(v T) bool { return !slices.Contains(values(l.test), v) })
	}
	if allowed == nil {
		return true // any value that is not excluded
	}
	return slices.ContainsFunc(allowed, func(v T) bool {
		return !slices.ContainsFunc(tests, func(l literal) bool { return !l.wants && slices.Contains(values(l.test), v) })
	})
}

// manyValues reports whether a fact that can have several values at once fulfils
// the tests: each test that holds needs a value that none forbids. A test on an
// amount is compared as a whole.
func manyValues(tests []literal) bool {
	forbidden := map[string]bool{}
	for _, l := range tests {
		if !l.wants {
			for _, v := range l.test.Values {
				forbidden[v] = true
			}
		}
	}
	for _, l := range tests {
		if l.wants && !slices.ContainsFunc(l.test.Values, func(v string) bool { return !forbidden[v] }) {
			return false
		}
	}
	return true
}

// passes reports whether a condition depends on what changes as time passes: the time since
// joining, or a risk that is put right.
func passes(node condition.Node) bool {
	return condition.Asks(node, facts.KeyJoinedWithin, facts.KeyAccountRiskAtLeast)
}
