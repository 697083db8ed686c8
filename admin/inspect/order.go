package inspect

import (
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicOrder = "order"

var orderChecks = []Check{
	{"unreached-rule", topicOrder, Error, "a rule that the rules before it leave nothing",
		"The first rule that matches speaks. Whatever this rule would match, a rule before it has matched already, so it never speaks.",
		"Move it up, or take it out.", unreachedRule},
	{"unreached-value", topicOrder, Note, "a value that the rules before leave nothing",
		"Whatever the rule would match by this value, a rule before it has matched already. Where the value stands it says something that " +
			"never happens.",
		"Take the value out, or move the rule up.", unreachedValue},
	{"impossible-rule", topicOrder, Warning, "a rule whose condition can never hold",
		"Its tests contradict each other, or ask for accounts, apps or times that the policy never meets. It never speaks, and yet what it " +
			"asks may be held against somebody of whom a fact is missing.",
		"Correct the condition, or take the rule out.", impossibleRule},
	{"same-demand-twice", topicOrder, Note, "the same demand from two policies",
		"Another policy asks it of the same people at the same apps, whatever the circumstances. Demands add up and count once, so this one " +
			"changes nothing, and anyone who takes the other one out will be surprised.",
		"Ask it in one place.", sameDemandTwice},
	{"except-in-one-place", topicOrder, Warning, "an `except` made in one of several policies",
		"The excepted accounts are still asked for the same by another policy, for `except` takes them out of one policy only. An exemption " +
			"excuses them everywhere at once.",
		"Replace the `except` by an exemption with a reason and an end, or make it in the other policy too.", exceptInOnePlace},
	{"always-silenced", topicOrder, Warning, "a policy that is always silenced",
		"For everyone it is for, at each of its apps, a policy that surely speaks replaces it. It has no effect.",
		"Take it out, or narrow the policies that replace it.", alwaysSilenced},
}

func unreachedRule(in *Pass) {
	in.eachRule(func(s *Policy, k int, found *silentRule) {
		if found.unreached {
			in.Report(s.Name+"/"+s.Rules[k].Name, s.Rules[k].At, "%s / %s never speaks: whatever it would match, %s matches before it.",
				s.Name, s.Rules[k].Name, strings.Join(s.ruleNames(found.by), " or "))
		}
	})
}

func unreachedValue(in *Pass) {
	in.eachRule(func(s *Policy, k int, found *silentRule) {
		for _, v := range found.values {
			in.Report(s.Name+"/"+s.Rules[k].Name+"/"+v.value, v.test.Pos(), "%s in %s of %s / %s never matters: %s matches before it.",
				v.value, v.test.KeyName(), s.Name, s.Rules[k].Name, words.List(s.ruleNames(v.by), "or"))
		}
	})
}

func impossibleRule(in *Pass) {
	in.eachRule(func(s *Policy, k int, found *silentRule) {
		if found.impossible {
			in.Report(s.Name+"/"+s.Rules[k].Name, s.Rules[k].At, "The condition of %s / %s can never hold where the policy applies.",
				s.Name, s.Rules[k].Name)
		}
	})
}

// eachRule visits the rules of policies that are heard, each with what of it never comes about.
func (in *Pass) eachRule(visit func(s *Policy, rule int, found *silentRule)) {
	for i, silent := range in.silences() {
		for k := range silent.rules {
			visit(&in.Policies[i], k, &silent.rules[k])
		}
	}
}

// ruleNames returns the names of rules by number.
func (s *Policy) ruleNames(numbers []int) (names []string) {
	for _, n := range numbers {
		names = append(names, s.Rules[n].Name)
	}
	return names
}

// unbounded reports that a policy is for all actions that the other is for, and at
// all times.
func (s *Policy) unbounded(t *Policy) bool {
	if s.From != nil || s.Until != nil {
		return false
	}
	if s.Actions == nil {
		return true
	}
	return t.Actions != nil && !slices.ContainsFunc(t.Actions, func(a attempt.Action) bool { return !slices.Contains(s.Actions, a) })
}

// linked reports whether one of two policies replaces the other, so that only one
// of them has its say.
func linked(s, t *Policy) bool {
	return slices.Contains(s.Replaces, t.Name) || slices.Contains(t.Replaces, s.Name)
}

func sameDemandTwice(in *Pass) {
	live := in.Live()
	for _, s := range live {
		for _, t := range live {
			// Of two that are for the same, the later in the alphabet adds nothing.
			if s == t || len(s.always) == 0 || s.Audience.IsEmpty() || len(s.AimedAt) == 0 || !in.alwaysSpeaks(t) || linked(s, t) || t.replaced ||
				!s.appsWithin(t) ||
				!t.unbounded(s) {
				continue
			}
			for _, name := range s.always {
				if !slices.Contains(t.always, name) || !t.Audience.Covers(s.Audience) {
					continue
				}
				if s.Audience.Covers(t.Audience) && t.appsWithin(s) && in.alwaysSpeaks(s) && s.Name < t.Name {
					continue
				}
				in.Report(
					s.Name+"/"+name,
					s.At,
					"%s asks for %s, which %s asks of the same accounts at the same apps anyway.",
					s.Name,
					name,
					t.Name,
				)
			}
		}
	}
}

func exceptInOnePlace(in *Pass) {
	live := in.Live()
	for _, s := range live {
		if len(s.always) == 0 {
			continue
		}
		for _, except := range exceptsIn(s.Who) {
			excepted := in.Accounts.Of(except.Of)
			for _, t := range live {
				if s == t || !s.sharesApps(t) || linked(s, t) || t.replaced {
					continue
				}
				for _, name := range s.always {
					if slices.Contains(t.always, name) && !excepted.IsEmpty() && t.Audience.Meets(excepted) {
						in.Report(s.Name+"/"+t.Name, except.Pos(), "%s excepts %s, but %s still asks %s of them at %s.",
							s.Name, in.accountNames(t.Audience.And(excepted)), t.Name, name, in.appNames(common(s.AimedAt, t.AimedAt)))
					}
				}
			}
		}
	}
}

// exceptsIn returns the `except`s of a condition.
func exceptsIn(node condition.Node) []*condition.Not {
	var found []*condition.Not
	condition.Walk(node, func(n condition.Node) bool {
		if not, ok := n.(*condition.Not); ok && not.Except {
			found = append(found, not)
		}
		return true
	})
	return found
}

func common(a, b []int) []int {
	return slices.DeleteFunc(slices.Clone(a), func(n int) bool { return !slices.Contains(b, n) })
}

// unconditional reports whether one of the rules has no condition. Only then does
// the policy surely speak wherever it applies: rules that together cover every
// case still depend on a fact that is missing.
func (s *Policy) unconditional() bool {
	return slices.ContainsFunc(s.Rules, func(r decide.Rule) bool { return r.When == nil })
}

func alwaysSilenced(in *Pass) {
	live := in.Live()
	for _, s := range live {
		if s.Audience.IsEmpty() || len(s.AimedAt) == 0 {
			continue
		}
		var by []string
		silenced := !slices.ContainsFunc(s.AimedAt, func(app int) bool {
			covered := in.Accounts.Nobody()
			for _, t := range live {
				if t.unconditional() && slices.Contains(t.Replaces, s.Name) && slices.Contains(t.AimedAt, app) && t.unbounded(s) {
					covered = covered.Or(t.Audience.Surely())
					if !slices.Contains(by, t.Name) {
						by = append(by, t.Name)
					}
				}
			}
			return !covered.Covers(s.Audience)
		})
		if silenced {
			in.Report(s.Name, s.At, "%s never has its say: %s silences it for everyone it is for.", s.Name, words.List(by, "and"))
		}
	}
}
