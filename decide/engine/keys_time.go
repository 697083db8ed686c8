package engine

import "github.com/briskwarden/briskwarden/condition"

// KeyDuring is the key about the time.
var KeyDuring = keys.Define(
	condition.Definition{
		Name:     "during",
		About:    condition.AboutAttempt | condition.AboutDecision,
		Names:    "window",
		Doc:      "the time lies in a window",
		Meaning:  condition.MeansDefinitions,
		Explored: condition.ExploredAsGiven,
		Bind: bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			b, err := one("window", value, v.windowNumber)
			if err == nil {
				if hours := v.Windows[b.Numbers[0]].String(); hours != "" {
					b.Words += " (" + hours + ")"
				}
			}
			return b, err
		}),
		Says: func(t *condition.Test, negated bool) string {
			return "the time is " + condition.Either(negated, "within ", "outside ") + t.Wants()
		},
	}, func(f *Facts, t *condition.Test) condition.Truth {
		if f.Moment.IsZero() {
			return condition.Unknown
		}
		for _, w := range t.Numbers() {
			if f.Directory.InWindow(int(w), f.Moment) {
				return condition.True
			}
		}
		return condition.False
	}, func(f *Facts, _ *condition.Test) string {
		if f.Moment.IsZero() {
			return ""
		}
		return f.Moment.In(f.Directory.Zone).Format("Mon 2006-01-02 15:04 MST")
	},
)
