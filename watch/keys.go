package watch

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// decided defines a key about what was decided. Visit goes through the words of the
// decision that the values of a test are compared with.
func decided(d condition.Definition, visit func(k Kept, word func(string))) condition.Key {
	d.About, d.Explored = condition.AboutDecision, condition.NoCircumstance
	if d.Meaning == 0 {
		d.Meaning = condition.MeansWords
	}
	d.Bind = func(names condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
		what := d.Names
		if d.Check != nil { // of rules alone, whose names are made of two
			what = "rule"
		}
		switch known, knows := names.(interface{ Defines(what, name string) bool }); {
		case len(d.Words) > 0 && !slices.Contains(d.Words, value):
			return condition.Binding{}, fmt.Errorf("%q is no value of %s%s", value, d.Name, nearest.DidYouMean(value, d.Words))
		case what != "" && !(knows && known.Defines(what, value)):
			return condition.Binding{}, fmt.Errorf("%s %q is not defined", what, value)
		}
		return condition.Binding{Words: value}, nil
	}
	return keys.Define(d, func(f *Facts, t *condition.Test) condition.Truth {
		found := false
		visit(f.Kept, func(word string) { found = found || slices.Contains(t.Values, word) })
		return condition.Of(found)
	}, func(f *Facts, _ *condition.Test) string {
		var saw []string
		visit(f.Kept, func(word string) { saw = append(saw, word) })
		return cmp.Or(strings.Join(saw, ", "), "none")
	})
}

// keys are those that are about what was decided.
var keys condition.Family[*Facts]

// Facts are those of a decision that was made: what is known of the attempt, and what was decided. They implement
// condition.Facts. Kept must be set.
type Facts struct {
	engine.Facts
	Kept Kept
}

// Holds implements condition.Facts.
func (f *Facts) Holds(t *condition.Test) condition.Truth { return keys.HoldsOr(f, t, &f.Facts) }

// Saw implements condition.Facts.
func (f *Facts) Saw(t *condition.Test) string { return keys.SawOr(f, t, &f.Facts) }

// Kept is what is kept of a decision that was made, as the keys of this package look at it.
type Kept interface {
	engine.Made
	// Verdicts returns the verdict, and what it would have been were the shadow policies live.
	Verdicts() (was, withShadow decide.Verdict)
	// Causes visits the causes; policy and rule are "" where no rule is behind one.
	Causes(visit func(code decide.CauseCode, policy, rule string))
	// Excused returns the exemptions that took demands away, and LetIn the rollouts that let in somebody
	// who is not enrolled.
	Excused() []string
	LetIn() []string
}

func each(words []string, word func(string)) {
	for _, w := range words {
		word(w)
	}
}

// says is a sentence that a test on a decision holds, or that it does not.
func says(what string) func(t *condition.Test, negated bool) string {
	return func(t *condition.Test, negated bool) string {
		return what + condition.Either(negated, " is ", " is not ") + t.Wants()
	}
}

func causeCodes() []string {
	var codes []string
	for _, c := range decide.CauseCodes() {
		codes = append(codes, string(c))
	}
	return codes
}

// The keys about what was decided. They stand in alerts alone.
var (
	KeyVerdicts = decided(condition.Definition{Name: "verdicts", Words: decide.Verdicts(),
		Doc: "in an alert: the verdict was block, step_up or grant", Says: says("the verdict")},
		func(k Kept, word func(string)) {
			was, _ := k.Verdicts()
			word(was.String())
		})

	KeyShadowVerdicts = decided(condition.Definition{Name: "shadow_verdicts", Words: decide.Verdicts(),
		Doc: "in an alert: what the verdict would have been were the shadow policies live", Says: says("the verdict with shadow policies")},
		func(k Kept, word func(string)) {
			_, withShadow := k.Verdicts()
			word(withShadow.String())
		})

	KeyCauses = decided(condition.Definition{Name: "causes", Words: causeCodes(),
		Doc: "in an alert: the decision has a cause of that code", Says: says("a cause")},
		func(k Kept, word func(string)) {
			k.Causes(func(code decide.CauseCode, _, _ string) { word(string(code)) })
		})

	KeyPolicies = decided(condition.Definition{Name: "policies", Names: "policy", Meaning: condition.MeansDefinitions,
		Doc: "in an alert: a policy is behind the verdict", Says: says("the policy behind it")},
		func(k Kept, word func(string)) {
			k.Causes(func(_ decide.CauseCode, policy, _ string) {
				if policy != "" {
					word(policy)
				}
			})
		})

	KeyRules = decided(condition.Definition{Name: "rules",
		Doc: "in an alert: a rule is behind the verdict, written as policy/rule",
		Check: func(value string) error {
			if policy, rule, ok := strings.Cut(value, "/"); !ok || policy == "" || rule == "" {
				return fmt.Errorf("a rule is written as policy/rule, not %q", value)
			}
			return nil
		}, Says: says("the rule behind it")},
		func(k Kept, word func(string)) {
			k.Causes(func(_ decide.CauseCode, policy, rule string) {
				if rule != "" {
					word(policy + "/" + rule)
				}
			})
		})

	KeyExcusedBy = decided(condition.Definition{Name: "excused_by", Names: "exemption", Meaning: condition.MeansDefinitions,
		Doc: "in an alert: an exemption took demands away", Says: says("the exemption that excused them")},
		func(k Kept, word func(string)) { each(k.Excused(), word) })

	KeyLetInBy = decided(condition.Definition{Name: "let_in_by", Names: "rollout", Meaning: condition.MeansDefinitions,
		Doc: "in an alert: a rollout lets them in for some days yet though they are not enrolled", Says: says("the rollout that let them in")},
		func(k Kept, word func(string)) { each(k.LetIn(), word) })
)
