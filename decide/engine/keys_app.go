package engine

import (
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// app defines a key about apps.
func app(
	d condition.Definition,
	holds func(d *Directory, app int, t *condition.Test) condition.Truth,
	saw func(a *directory.App) string,
) condition.Key {
	d.About, d.Meaning, d.Explored = condition.AboutApp, condition.MeansApps, condition.ExploredAsGiven
	return keys.Define(d, func(f *Facts, t *condition.Test) condition.Truth {
		switch {
		case !f.HasApp:
			return condition.Unknown
		case f.App < 0:
			return condition.False
		default:
			return holds(f.Directory, f.App, t)
		}
	}, func(f *Facts, _ *condition.Test) string {
		switch {
		case !f.HasApp:
			return ""
		case f.App < 0:
			return "an app that the book does not have"
		default:
			return saw(&f.Directory.Apps[f.App])
		}
	})
}

// The keys about apps.
var (
	KeyEvery = app(condition.Definition{Name: "every", Doc: "every app", Shape: condition.Marker,
		Bind: func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
			return condition.Binding{Words: "an app of the book"}, nil
		},
		Says: func(_ *condition.Test, negated bool) string { return "the app " + is(negated) + " any app" },
		Noun: func(*condition.Test) string { return "every app" },
	}, func(*Directory, int, *condition.Test) condition.Truth { return condition.True }, func(a *directory.App) string { return a.Name })

	KeyNames = app(condition.Definition{Name: "names", Doc: "apps by name", Names: "app",
		Bind: bindName("app", func(d *Directory) map[string]int32 { return d.appNumber }),
		Says: func(t *condition.Test, negated bool) string { return "the app " + is(negated) + " " + t.Wants() },
		Noun: func(t *condition.Test) string { return words.List(t.Values, "and") },
	}, func(_ *Directory, app int, t *condition.Test) condition.Truth { return among(t, int32(app)) },
		func(a *directory.App) string { return a.Name })

	KeyTags = app(condition.Definition{Name: "tags", Doc: "apps that bear a tag",
		Bind: bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			return orNobody(v.tagNumber, value, value), nil
		}),
		Says: func(t *condition.Test, negated bool) string { return "the app " + is(negated) + " tagged " + t.Wants() },
		Noun: func(t *condition.Test) string { return "apps tagged " + words.List(t.Values, "or") },
	}, func(d *Directory, app int, t *condition.Test) condition.Truth {
		return condition.Of(intersects(t.Numbers(), d.apps[app].tags))
	}, func(a *directory.App) string { return orNone(a.Tags, "no tag") })
)
