package inspect

import (
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
)

// Rules of consent are about what a program asks for, which the explorer does not go through. Whether one can match is
// searched for here.

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

// canMatch reports whether some request fulfils each of the conditions in holds
// and none of those in fails.
//
// The search walks the ways in which the conditions can come about, each a list
// of tests that hold or fail, and asks of each list whether the tests of one
// subject go together. Subjects hang together only where it says so below.
func (in *Pass) canMatch(holds, fails []condition.Node) bool {
	var goals []goal
	for _, n := range holds {
		goals = append(goals, goal{n, true})
	}
	for _, n := range fails {
		goals = append(goals, goal{n, false})
	}
	search := &search{Pass: in}
	return search.reach(goals, nil) || search.steps > mostSteps
}

type search struct {
	*Pass
	steps int
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
	var same []literal
	for _, l := range taken {
		if subjectOf(l.test.Key) == subjectOf(key) {
			same = append(same, l)
		}
	}
	switch subjectOf(key) {
	case ofAccount:
		return s.someAccount(same)
	case ofScope:
		return s.someScope(same)
	case ofClient:
		return s.someClient(same)
	}
	return someResource(same)
}

// The subjects of rules of consent.
const (
	ofAccount = iota
	ofScope
	ofClient
	ofResource
)

// subjectOf returns what a test of a rule of consent is on.
func subjectOf(k condition.Key) int {
	switch k {
	case consent.KeyScopes, consent.KeyScopesWithin:
		return ofScope
	case consent.KeyClients, consent.KeyClientTags, consent.KeyStanding, consent.KeyPublisherVetted:
		return ofClient
	case consent.KeyResource, consent.KeyOwnsGroup:
		return ofResource
	}
	return ofAccount
}

// someAccount looks for an account that fulfils the tests.
func (s *search) someAccount(tests []literal) bool {
	audience := s.Accounts.Everyone()
	for _, l := range tests {
		if passes(l.test) {
			continue // it holds of others another day
		}
		one := s.Accounts.Of(l.test)
		if !l.wants {
			one = one.Not(len(s.Directory.Accounts))
		}
		audience = audience.And(one)
	}
	return !audience.IsEmpty()
}

func fulfils(tests []literal, holds func(*condition.Test) condition.Truth) bool {
	return !slices.ContainsFunc(tests, func(l literal) bool { return holds(l.test) == condition.Of(!l.wants) })
}

// someScope looks for a scope that fulfils the tests: one that a tier or a rule
// names, or one made of a pattern, or one that nobody names.
func (s *search) someScope(tests []literal) bool {
	ladder := s.Consent.Ladder()
	candidates := []string{"\x00unnamed"}
	add := func(pattern string) {
		candidates = append(candidates, strings.ReplaceAll(pattern, "*", ""), strings.ReplaceAll(pattern, "*", "x"))
	}
	for _, t := range ladder.Tiers() {
		for _, scope := range t.Scopes {
			add(scope)
		}
	}
	var patterns []string
	for _, l := range tests {
		if l.test.Key == consent.KeyScopes {
			patterns = append(patterns, l.test.Values...)
		}
	}
	for _, p := range patterns {
		add(p)
		for _, q := range candidates { // a scope that fits a pattern and lies in a tier of patterns
			if strings.HasSuffix(p, "*") && strings.HasPrefix(q, "x") || strings.HasPrefix(p, "*") {
				candidates = append(candidates, strings.ReplaceAll(p, "*", q), q+strings.TrimPrefix(p, "*"))
			}
			if len(candidates) > 2000 {
				break
			}
		}
	}
	return slices.ContainsFunc(candidates, func(scope string) bool {
		rank, _ := ladder.Rank(scope)
		return fulfils(tests, func(t *condition.Test) condition.Truth {
			if t.Key == consent.KeyScopesWithin {
				return condition.Of(slices.ContainsFunc(t.Numbers(), func(n int32) bool { return rank <= int(n) }))
			}
			return condition.Of(slices.ContainsFunc(t.Values, func(p string) bool { return consent.Matches(p, scope) }))
		})
	})
}

// someClient looks for a client that fulfils the tests: one of the book, or any
// other, for whom all that goes together may be true. A barred one is refused
// before any rule.
func (s *search) someClient(tests []literal) bool {
	for _, c := range s.Book.Clients {
		if c.Standing != consent.Barred && fulfils(tests, func(t *condition.Test) condition.Truth { return clientHolds(&c, t) }) {
			return true
		}
	}
	of := func(key condition.Key) []literal {
		return slices.DeleteFunc(slices.Clone(tests), func(l literal) bool { return l.test.Key != key })
	}
	named := slices.ContainsFunc(of(consent.KeyClients), func(l literal) bool { return l.wants })
	others := consent.Standings()[:consent.Barred]
	return !named && oneValue(of(consent.KeyStanding), others) && oneValue(of(consent.KeyPublisherVetted), []string{"true", "false"}) &&
		manyValues(of(consent.KeyClientTags))
}

func clientHolds(c *consent.Client, t *condition.Test) condition.Truth {
	switch t.Key {
	case consent.KeyClients:
		return condition.Of(slices.Contains(t.Values, c.Name))
	case consent.KeyClientTags:
		return condition.Of(slices.ContainsFunc(c.Tags, func(tag string) bool { return slices.Contains(t.Values, tag) }))
	case consent.KeyStanding:
		return condition.Of(slices.Contains(t.Values, c.Standing.String()))
	}
	return condition.Of(c.Publisher.Vetted == (t.Values[0] == "true"))
}

// someResource looks for data that fulfils the tests. Nobody owns the group of
// one's own data.
func someResource(tests []literal) bool {
	for _, r := range []struct{ kind, owns string }{{"own", "false"}, {"group", "false"}, {"group", "true"}} {
		if fulfils(tests, func(t *condition.Test) condition.Truth {
			if t.Key == consent.KeyResource {
				return condition.Of(slices.Contains(t.Values, r.kind))
			}
			return condition.Of(slices.Contains(t.Values, r.owns))
		}) {
			return true
		}
	}
	return false
}

// oneValue reports whether one of the values allowed fulfils the tests.
func oneValue(tests []literal, allowed []string) bool {
	return slices.ContainsFunc(allowed, func(v string) bool {
		return fulfils(tests, func(t *condition.Test) condition.Truth { return condition.Of(slices.Contains(t.Values, v)) })
	})
}

// manyValues reports whether a fact that can have several values at once fulfils
// the tests: each test that holds needs a value that none forbids.
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
