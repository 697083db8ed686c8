package decide

import (
	"fmt"
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
)

// evaluating makes the Holds or Saw of a definition from a function on an evaluation,
// which alone knows the score and what was proven.
func evaluating[T any](of func(e *evaluation, t *condition.Test) T) func(any, *condition.Test) T {
	return func(given any, t *condition.Test) T {
		if f, ok := given.(*facts.Facts); ok {
			if e, ok := f.Beyond.(*evaluation); ok {
				return of(e, t)
			}
		}
		var unknown T
		if truth, ok := any(&unknown).(*condition.Truth); ok {
			*truth = condition.Unknown
		}
		return unknown
	}
}

// orJudged is a Holds for kept decisions too: judged returns those.
func orJudged(holds func(any, *condition.Test) condition.Truth,
	judged func(made facts.Judged, t *condition.Test) bool) func(any, *condition.Test) condition.Truth {
	return func(given any, t *condition.Test) condition.Truth {
		if f, ok := given.(*facts.Facts); ok {
			if made, ok := f.Beyond.(facts.Judged); ok {
				return condition.Of(judged(made, t))
			}
		}
		return holds(given, t)
	}
}

// bindBy makes the Bind of a definition from a function on the judge's names.
func bindBy(
	bind func(j *Judge, value string) (condition.Binding, error),
) func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
	return func(names condition.Vocabulary, t *condition.Test, value string) (condition.Binding, error) {
		v, ok := names.(vocabulary)
		switch {
		case !ok:
			return condition.Binding{}, fmt.Errorf("the key %s has no meaning here", t.Key)
		case t.Key.About()&condition.AboutRisk != 0 && v.judge.model == nil:
			return condition.Binding{}, fmt.Errorf("what adds to the score cannot ask for it: %s", t.Key)
		}
		return bind(v.judge, value)
	}
}

func is(negated bool) string { return condition.Either(negated, "is", "is not") }

// The keys about the risk of an attempt, and about what was proven.
var (
	KeySignals = condition.Define(
		condition.Definition{Name: "signals", About: condition.AboutRisk | condition.AboutDecision, Names: "signal", Doc: "a signal holds",
			Meaning: condition.MeansDefinitions,
			Bind: bindBy(func(j *Judge, value string) (condition.Binding, error) {
				i := slices.IndexFunc(j.model.Signals, func(s risk.Signal) bool { return s.Name == value })
				if i < 0 {
					return condition.Binding{}, fmt.Errorf("signal %q is not defined", value)
				}
				return condition.Binding{Numbers: []int32{int32(i)}, Words: value}, nil
			}),
			Holds: orJudged(evaluating(func(e *evaluation, t *condition.Test) condition.Truth {
				e.score()
				holds := condition.False
				for _, n := range t.Numbers() {
					holds = max(holds, e.signals[n])
				}
				return holds
			}), func(made facts.Judged, t *condition.Test) bool { return slices.ContainsFunc(t.Values, made.Noticed) }),
			Saw: evaluating((*evaluation).sawSignals),
			Says: func(t *condition.Test, negated bool) string {
				return "the signal " + t.Wants() + " " + condition.Either(negated, "is noticed", "is not noticed")
			},
		},
	)

	KeyRiskAtLeast = condition.Define(
		condition.Definition{Name: "risk_at_least", About: condition.AboutRisk | condition.AboutDecision, Shape: condition.Level,
			Doc: "the level of the score: low, medium or high", Meaning: condition.MeansLevel,
			Bind: bindBy(func(_ *Judge, value string) (condition.Binding, error) { return facts.LevelBinding(value) }),
			Holds: orJudged(evaluating(func(e *evaluation, t *condition.Test) condition.Truth {
				return e.scoreReaches(e.judge.model.Levels.From(directory.Level(t.Limit())))
			}), func(made facts.Judged, t *condition.Test) bool {
				_, level := made.Risk()
				return int64(level) >= t.Limit()
			}),
			Saw: evaluating(func(e *evaluation, _ *condition.Test) string { return e.sawRisk() }),
			Says: func(t *condition.Test, negated bool) string {
				return "the risk of the sign-on " + is(negated) + " " + t.Wants()
			},
		},
	)

	KeyScoreAtLeast = condition.Define(
		condition.Definition{Name: "score_at_least", About: condition.AboutRisk | condition.AboutDecision, Shape: condition.Number,
			Doc: "the score, from 1 to 100", Meaning: condition.MeansScore,
			Bind: bindBy(func(_ *Judge, value string) (condition.Binding, error) {
				score, err := facts.Percent(value)
				return condition.Binding{Limit: int64(score), Words: "at least " + value}, err
			}),
			Holds: orJudged(evaluating(func(e *evaluation, t *condition.Test) condition.Truth { return e.scoreReaches(int(t.Limit())) }),
				func(made facts.Judged, t *condition.Test) bool {
					score, _ := made.Risk()
					return score >= int(t.Limit())
				}),
			Saw:  evaluating(func(e *evaluation, _ *condition.Test) string { return e.sawRisk() }),
			Says: func(t *condition.Test, negated bool) string { return "the score " + is(negated) + " " + t.Wants() },
		},
	)

	KeyProved = condition.Define(condition.Definition{Name: "proved", About: condition.AboutAttempt, Names: "assurance",
		Doc: "the session meets an assurance already", Meaning: condition.MeansDefinitions,
		Bind: bindBy(func(j *Judge, value string) (condition.Binding, error) {
			i, ok := j.assuranceNumber[value]
			if !ok {
				return condition.Binding{}, fmt.Errorf("assurance %q is not defined", value)
			}
			return condition.Binding{Numbers: []int32{i}, Words: value}, nil
		}),
		Holds: evaluating((*evaluation).proved),
		Saw: evaluating(func(e *evaluation, t *condition.Test) string {
			if e.proved(t) == condition.Unknown {
				return ""
			}
			return e.sawProofs()
		}),
		Says: func(t *condition.Test, negated bool) string {
			return "they " + condition.Either(negated, "have met ", "have not met ") + t.Wants() + " in this session"
		},
	})
)
