package engine

import (
	"fmt"
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// evaluated defines a key about what an evaluation alone knows: the score, and what was proven. Made answers for a decision
// that was made, where it is kept; nil where it is not.
func evaluated(d condition.Definition, holds func(e *evaluation, t *condition.Test) condition.Truth,
	made func(m Made, t *condition.Test) bool, saw func(e *evaluation, t *condition.Test) string) condition.Key {
	d.Explored = condition.ExploredByHistory
	return keys.Define(d, func(f *Facts, t *condition.Test) condition.Truth {
		switch {
		case f.evaluation != nil:
			return holds(f.evaluation, t)
		case f.Made != nil && made != nil:
			return condition.Of(made(f.Made, t))
		}
		return condition.Unknown
	}, func(f *Facts, t *condition.Test) string {
		if f.evaluation == nil {
			return ""
		}
		return saw(f.evaluation, t)
	})
}

// bindByJudge makes the Bind of a definition from a function on the judge's names.
func bindByJudge(
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

// The keys about the risk of an attempt, and about what was proven.
var (
	KeySignals = evaluated(condition.Definition{Name: "signals", About: condition.AboutRisk | condition.AboutDecision, Names: "signal",
		Doc: "a signal holds", Meaning: condition.MeansDefinitions,
		Bind: bindByJudge(func(j *Judge, value string) (condition.Binding, error) {
			i := slices.IndexFunc(j.model.Signals, func(s risk.Signal) bool { return s.Name == value })
			if i < 0 {
				return condition.Binding{}, fmt.Errorf("signal %q is not defined", value)
			}
			return condition.Binding{Numbers: []int32{int32(i)}, Words: value}, nil
		}),
		Says: func(t *condition.Test, negated bool) string {
			return "the signal " + t.Wants() + " " + condition.Either(negated, "is noticed", "is not noticed")
		},
	}, func(e *evaluation, t *condition.Test) condition.Truth {
		e.score()
		holds := condition.False
		for _, n := range t.Numbers() {
			holds = max(holds, e.signals[n])
		}
		return holds
	}, func(m Made, t *condition.Test) bool { return slices.ContainsFunc(t.Values, m.Noticed) }, (*evaluation).sawSignals)

	KeyRiskAtLeast = evaluated(condition.Definition{Name: "risk_at_least", About: condition.AboutRisk | condition.AboutDecision,
		Shape: condition.Level, Doc: "the level of the score: low, medium or high", Meaning: condition.MeansLevel,
		Bind: bindByJudge(func(_ *Judge, value string) (condition.Binding, error) { return levelBinding(value) }),
		Says: func(t *condition.Test, negated bool) string {
			return "the risk of the sign-on " + is(negated) + " " + t.Wants()
		},
	}, func(e *evaluation, t *condition.Test) condition.Truth {
		return e.scoreReaches(e.judge.model.Levels.From(directory.Level(t.Limit())))
	}, func(m Made, t *condition.Test) bool {
		_, level := m.Risk()
		return int64(level) >= t.Limit()
	}, (*evaluation).sawRisk)

	KeyScoreAtLeast = evaluated(condition.Definition{Name: "score_at_least", About: condition.AboutRisk | condition.AboutDecision,
		Shape: condition.Number, Doc: "the score, from 1 to 100", Meaning: condition.MeansScore,
		Bind: bindByJudge(func(_ *Judge, value string) (condition.Binding, error) {
			score, err := Percent(value)
			return condition.Binding{Limit: int64(score), Words: "at least " + value}, err
		}),
		Says: func(t *condition.Test, negated bool) string { return "the score " + is(negated) + " " + t.Wants() },
	}, func(e *evaluation, t *condition.Test) condition.Truth {
		return e.scoreReaches(int(t.Limit()))
	}, func(m Made, t *condition.Test) bool {
		score, _ := m.Risk()
		return score >= int(t.Limit())
	}, (*evaluation).sawRisk)

	KeyProved = evaluated(condition.Definition{Name: "proved", About: condition.AboutAttempt, Names: "assurance",
		Doc: "the session meets an assurance already", Meaning: condition.MeansDefinitions,
		Bind: bindByJudge(func(j *Judge, value string) (condition.Binding, error) {
			i, ok := j.assuranceNumber[value]
			if !ok {
				return condition.Binding{}, fmt.Errorf("assurance %q is not defined", value)
			}
			return condition.Binding{Numbers: []int32{i}, Words: value}, nil
		}),
		Says: func(t *condition.Test, negated bool) string {
			return "they " + condition.Either(negated, "have met ", "have not met ") + t.Wants() + " in this session"
		},
	}, (*evaluation).proved, nil, (*evaluation).sawProofs)
)
