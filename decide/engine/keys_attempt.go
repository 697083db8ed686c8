package engine

import (
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// stated defines a key about a word of an attempt, which of returns unless it is not known.
func stated[T interface {
	~uint8
	String() string
}](d condition.Definition, parse func(word string) (T, error), of func(a *attempt.Attempt) (word T, known bool)) condition.Key {
	d.About |= condition.AboutAttempt
	d.Meaning = condition.MeansWords
	d.Bind = bindWord(parse)
	find := func(f *Facts) (word T, known bool) {
		if f.Attempt != nil {
			return of(f.Attempt)
		}
		return word, false
	}
	return keys.Define(d, func(f *Facts, t *condition.Test) condition.Truth {
		if word, known := find(f); known {
			return among(t, int32(word))
		}
		return condition.Unknown
	}, func(f *Facts, _ *condition.Test) string {
		if word, known := find(f); known {
			return word.String()
		}
		return ""
	})
}

// The keys about what is attempted, and how.
var (
	KeyActions = stated(condition.Definition{Name: "actions", About: condition.AboutDecision,
		Words: attempt.Actions(), Explored: condition.ExploredAsGiven,
		Doc:  "what is attempted: sign-in, enrol, change-password, recover or consent",
		Says: func(t *condition.Test, negated bool) string { return "the action " + is(negated) + " " + t.Wants() },
	}, func(word string) (action attempt.Action, err error) {
		err = action.UnmarshalText([]byte(word))
		return action, err
	}, func(a *attempt.Attempt) (attempt.Action, bool) { return a.Action, true })

	KeyThrough = stated(condition.Definition{Name: "through", Explored: condition.ExploredByChannel, Words: attempt.Throughs(),
		Doc: "what the sign-in is made through: browser, native, unattended or unpromptable",
		Says: func(t *condition.Test, negated bool) string {
			return "the sign-on " + is(negated) + " made through " + t.Wants()
		},
	}, func(word string) (through attempt.Through, err error) {
		err = through.UnmarshalText([]byte(word))
		return through, err
	}, func(a *attempt.Attempt) (attempt.Through, bool) { return a.Through.Get() })
)
