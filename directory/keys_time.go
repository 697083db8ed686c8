package directory

import "github.com/briskwarden/briskwarden/condition"

// KeyDuring is the key about the time.
var KeyDuring = condition.Define(condition.Definition{Name: "during", About: condition.AboutAttempt, Names: "window", Doc: "the time lies in a window",
	Meaning: condition.MeansDefinitions, Fact: condition.OfMoment,
	Bind: bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
		b, err := one("window", value, v.windowNumber)
		if err == nil {
			if hours := v.Windows[b.Numbers[0]].String(); hours != "" {
				b.Words += " (" + hours + ")"
			}
		}
		return b, err
	}),
	Holds: func(facts any, t *condition.Test) condition.Truth {
		seer, ok := facts.(MomentSeer)
		if !ok {
			return condition.Unknown
		}
		d, moment := seer.SeenMoment()
		for _, w := range t.Numbers() {
			if d.InWindow(int(w), moment) {
				return condition.True
			}
		}
		return condition.False
	},
	Saw: func(facts any, _ *condition.Test) string {
		if seer, ok := facts.(MomentSeer); ok {
			d, moment := seer.SeenMoment()
			return moment.In(d.Zone).Format("Mon 2006-01-02 15:04 MST")
		}
		return ""
	},
	Says: func(t *condition.Test, negated bool) string {
		return "the time is " + condition.Either(negated, "within ", "outside ") + t.Wants()
	},
})
