package inspect

import (
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/explore"
)

// Whether a rule can come to speak is found out from all circumstances until the horizon, with every test answered as the
// judge answers it.

// silence is what of a policy never comes about.
type silence struct {
	// speaks says that one of its rules surely matches whatever the attempt.
	speaks bool
	rules  []silentRule
}

// silentRule is what of a rule never comes about. By are rules before it that match in its place.
type silentRule struct {
	// impossible says that the condition never holds, unreached that a rule before it always matches as well.
	impossible, unreached bool
	by                    []int
	values                []silentValue
}

// silentValue is a value of a test by which a rule never comes to speak.
type silentValue struct {
	test  *condition.Test
	value string
	by    []int
}

// silences are found for all policies when one is first asked for.
func (in *Pass) silences() []silence {
	if in.silent != nil {
		return in.silent
	}
	in.silent = make([]silence, len(in.Policies))
	ahead, err := in.lookAhead()
	if err != nil {
		return in.silent // the judge was compiled from the same
	}
	var group sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for i := range next {
				if s := &in.Policies[i]; in.Context.Err() == nil && in.isHeard(s) {
					in.silent[i] = in.silenceOf(ahead.space, s)
				}
			}
		})
	}
	for i := range in.Policies {
		next <- i
	}
	close(next)
	group.Wait()
	return in.silent
}

// alwaysSpeaks reports whether one of the rules of a policy surely matches wherever it applies.
func (in *Pass) alwaysSpeaks(s *Policy) bool { return in.silences()[s.Number].speaks }

// isHeard reports whether a policy is for somebody and for some app, now or later. There is another finding for one that
// is not.
func (in *Pass) isHeard(s *Policy) bool {
	return (!s.Audience.IsEmpty() || passes(s.Who)) && len(s.AimedAt) > 0 && (s.Until == nil || !s.Until.Before(in.today))
}

func (in *Pass) silenceOf(space *explore.Space, s *Policy) (found silence) {
	when := make([]condition.Node, len(s.Rules))
	found.rules = make([]silentRule, len(s.Rules))
	for k := range s.Rules {
		var err error
		if when[k], err = space.Bind(s.Name, s.Rules[k].When); err != nil {
			return silence{rules: found.rules} // the judge was compiled with the same
		}
	}
	applies := in.applying(space, s)
	possible := func(holds []condition.Node, unless []condition.Node) bool {
		q := applies
		q.Holds, q.Unless = slices.Concat(q.Holds, holds), slices.Concat(q.Unless, unless)
		return space.IsPossible(in.Context, &q)
	}
	found.speaks = !possible(nil, when)
	for k := range s.Rules {
		rule := &found.rules[k]
		own := []condition.Node{when[k]}
		switch {
		case possible(own, when[:k]):
			if k > 0 && s.active() {
				rule.values = in.silentValues(space, s, k, when, possible)
			}
		case k > 0 && possible(own, nil):
			rule.unreached = true
			rule.by = covering(own, when[:k], possible)
		default:
			rule.impossible = true
		}
	}
	return found
}

// applying asks for circumstances in which a policy applies.
func (in *Pass) applying(space *explore.Space, s *Policy) explore.Question {
	q := explore.Question{Accounts: s.Audience, Apps: s.AimedAt, Actions: s.Actions}
	if passes(s.Who) { // others come to be in it
		q.Accounts = in.Accounts.Everyone()
		if who, err := space.Bind(s.Name, s.Who); err == nil {
			q.Unless = append(q.Unless, &condition.Not{Of: who})
		}
	}
	date := func(t time.Time) *time.Time { return &t }
	if s.From != nil {
		q.From = date(s.From.Start(in.Directory.Zone))
	}
	if s.Until != nil {
		q.Until = date(s.Until.End(in.Directory.Zone))
	}
	return q
}

// covering returns rules, of those before, that together leave conditions nothing, and none of them can be spared.
func covering(own, before []condition.Node, possible func(holds, unless []condition.Node) bool) []int {
	needed := make([]int, len(before))
	for i := range needed {
		needed[i] = i
	}
	for i := range before {
		fewer := slices.DeleteFunc(slices.Clone(needed), func(n int) bool { return n == i })
		var others []condition.Node
		for _, n := range fewer {
			others = append(others, before[n])
		}
		if !possible(own, others) {
			needed = fewer
		}
	}
	return needed
}

// mostValues bounds the values of a rule that are looked at one by one.
const mostValues = 20

// silentValues returns values of a rule's tests that the rules before leave nothing.
func (in *Pass) silentValues(
	space *explore.Space, s *Policy, k int, when []condition.Node, possible func(holds, unless []condition.Node) bool,
) (silent []silentValue) {
	values := 0
	in.eachTest(s.Rules[k].When, func(t *condition.Test) {
		if len(t.Values) < 2 {
			return
		}
		for _, value := range t.Values {
			if values++; values > mostValues {
				return
			}
			alone, err := space.Bind(s.Name, withOnly(s.Rules[k].When, t, value))
			if own := []condition.Node{alone}; err == nil && !possible(own, when[:k]) && possible(own, nil) {
				silent = append(silent, silentValue{t, value, covering(own, when[:k], possible)})
			}
		}
	})
	return silent
}

// withOnly returns a condition with one value left of one of its tests.
func withOnly(when condition.Node, test *condition.Test, value string) condition.Node {
	alone := condition.Copy(when)
	condition.Walk(alone, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.At == test.At && t.Key == test.Key {
			t.Values = []string{value}
		}
		return true
	})
	return alone
}

// valuesAlone returns tests of the rules with one value each, of those that the explorer has to know from the start.
func (in *Pass) valuesAlone() (alone []condition.Node) {
	for i := range in.Policies {
		for k := 1; k < len(in.Policies[i].Rules); k++ {
			in.eachTest(in.Policies[i].Rules[k].When, func(t *condition.Test) {
				if len(t.Values) < 2 || t.Key != engine.KeySignals && t.Key != engine.KeyProved {
					return // the explorer sees to others as it goes
				}
				for _, value := range t.Values[:min(len(t.Values), mostValues)] {
					alone = append(alone, withOnly(t, t, value))
				}
			})
		}
	}
	return alone
}
