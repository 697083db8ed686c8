package directory

import (
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// The keys about what is attempted, and how.
var (
	KeyActions = condition.Define(condition.Definition{Name: "actions", About: condition.AboutAttempt, Words: attempt.Actions(),
		Doc:     "what is attempted: sign-in, enrol, change-password, recover or consent",
		Meaning: condition.MeansWords, Fact: condition.OfOneValue,
		Bind: bindWord(func(value string) (attempt.Action, error) {
			var a attempt.Action
			return a, a.UnmarshalText([]byte(value))
		}),
		Holds: func(facts any, t *condition.Test) condition.Truth {
			if seer, ok := facts.(AttemptSeer); ok {
				return among(t, int32(seer.Attempt().Action))
			}
			return condition.Unknown
		},
		Saw: func(facts any, _ *condition.Test) string {
			if seer, ok := facts.(AttemptSeer); ok {
				return seer.Attempt().Action.String()
			}
			return ""
		},
		Says: func(t *condition.Test, negated bool) string { return "the action " + is(negated) + " " + t.Wants() },
	})

	KeyThrough = condition.Define(condition.Definition{Name: "through", About: condition.AboutAttempt, Words: attempt.Throughs(),
		Doc:     "what the sign-in is made through: browser, native, unattended or unpromptable",
		Meaning: condition.MeansWords, Fact: condition.OfOneValue,
		Bind: bindWord(func(value string) (attempt.Through, error) {
			var x attempt.Through
			return x, x.UnmarshalText([]byte(value))
		}),
		Holds: func(facts any, t *condition.Test) condition.Truth {
			if seer, ok := facts.(AttemptSeer); ok {
				if through, known := seer.Attempt().Through.Get(); known {
					return among(t, int32(through))
				}
			}
			return condition.Unknown
		},
		Saw: func(facts any, _ *condition.Test) string {
			if seer, ok := facts.(AttemptSeer); ok {
				if through, known := seer.Attempt().Through.Get(); known {
					return through.String()
				}
			}
			return ""
		},
		Says: func(t *condition.Test, negated bool) string {
			return "the sign-on " + is(negated) + " made through " + t.Wants()
		},
	})
)
