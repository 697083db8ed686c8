package consent

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/facts"
)

// asking makes a definition about what a client asks for. A test on what is known of
// a client is unknown where nobody knows it.
func asking(d condition.Definition, bind func(j *Judge, value string) (condition.Binding, error), ofClient bool,
	holds func(h *hearing, t *condition.Test) bool, saw func(h *hearing) string) condition.Definition {
	d.About = condition.AboutConsent
	d.Bind = func(names condition.Vocabulary, t *condition.Test, value string) (condition.Binding, error) {
		v, ok := names.(vocabulary)
		if !ok {
			return condition.Binding{}, fmt.Errorf("the key %s has no meaning here", t.Key)
		}
		return bind(v.judge, value)
	}
	d.Holds = func(facts any, t *condition.Test) condition.Truth {
		h := hearingOf(facts)
		if h == nil || ofClient && h.client == nil {
			return condition.Unknown
		}
		return condition.Of(holds(h, t))
	}
	d.Saw = func(facts any, _ *condition.Test) string {
		h := hearingOf(facts)
		if h == nil || ofClient && h.client == nil {
			return ""
		}
		return saw(h)
	}
	return d
}

// hearingOf returns what is asked for, nil where the facts do not say.
func hearingOf(given any) *hearing {
	if f, ok := given.(*facts.Facts); ok {
		h, _ := f.Beyond.(*hearing)
		return h
	}
	return nil
}

// bindText binds what is compared as text, which needs no number.
func bindText(_ *Judge, value string) (condition.Binding, error) {
	return condition.Binding{Words: value}, nil
}

// bindFlag binds true or false.
func bindFlag(_ *Judge, value string) (condition.Binding, error) {
	n := int32(0)
	if value == "true" {
		n = 1
	}
	return condition.Binding{Numbers: []int32{n}, Words: value}, nil
}

// wants reports whether a test wants a number, and wantsFlag whether it wants a truth.
func wants(t *condition.Test, n int32) bool { return slices.Contains(t.Numbers(), n) }

func wantsFlag(t *condition.Test, is bool) bool {
	if is {
		return wants(t, 1)
	}
	return wants(t, 0)
}

func is(negated bool) string { return condition.Either(negated, "is", "is not") }

func program(what string) func(t *condition.Test, negated bool) string {
	return func(t *condition.Test, negated bool) string {
		return "the program " + is(negated) + what + " " + t.Wants()
	}
}

// The keys about what outside programs ask for.
var (
	KeyClients = condition.Define(asking(condition.Definition{Name: "clients", Names: "client", Doc: "the client, by name",
		Meaning: condition.MeansClients, Says: program("")},
		func(j *Judge, value string) (condition.Binding, error) {
			if _, ok := j.clients[value]; !ok {
				return condition.Binding{}, fmt.Errorf("client %q is not defined", value)
			}
			return condition.Binding{Words: value}, nil
		}, false,
		func(h *hearing, t *condition.Test) bool { return slices.Contains(t.Values, h.request.Client) },
		func(h *hearing) string { return h.request.Client }))

	KeyClientTags = condition.Define(asking(condition.Definition{Name: "client_tags", Doc: "the client bears a tag",
		Meaning: condition.MeansClients, Says: program(" tagged")},
		bindText, true,
		func(h *hearing, t *condition.Test) bool {
			return slices.ContainsFunc(h.client.Tags, func(tag string) bool { return slices.Contains(t.Values, tag) })
		},
		func(h *hearing) string {
			if len(h.client.Tags) == 0 {
				return "no tag"
			}
			return strings.Join(h.client.Tags, ", ")
		}))

	KeyStanding = condition.Define(asking(condition.Definition{Name: "standing", Words: standings,
		Doc:     "the client is unreviewed or approved; a barred one is refused before any rule",
		Meaning: condition.MeansClients, Says: program("")},
		func(_ *Judge, value string) (condition.Binding, error) {
			var s Standing
			err := s.UnmarshalText([]byte(value))
			return condition.Binding{Numbers: []int32{int32(s)}, Words: value}, err
		}, true,
		func(h *hearing, t *condition.Test) bool { return wants(t, int32(h.client.Standing)) },
		func(h *hearing) string { return h.client.Standing.String() }))

	KeyPublisherVetted = condition.Define(
		asking(condition.Definition{Name: "publisher_vetted", Shape: condition.Flag, Doc: "the publisher of the client was vetted",
			Meaning: condition.MeansClientFlag,
			Says: func(t *condition.Test, negated bool) string {
				return condition.Either((t.Values[0] == "true") == negated, "its publisher was vetted", "its publisher was not vetted")
			}},
			bindFlag, true,
			func(h *hearing, t *condition.Test) bool { return wantsFlag(t, h.client.Publisher.Vetted) },
			func(h *hearing) string {
				return condition.Either(h.client.Publisher.Vetted, "a publisher that nobody vetted", "a vetted publisher")
			}),
	)

	KeyScopes = condition.Define(
		asking(condition.Definition{Name: "scopes", Check: CheckPattern, Doc: "the scope, by name or by a pattern such as calendar.*",
			Meaning: condition.MeansScopes,
			Says: func(t *condition.Test, negated bool) string {
				return "it " + condition.Either(negated, "asks for ", "does not ask for ") + t.Wants()
			}},
			func(_ *Judge, value string) (condition.Binding, error) {
				return condition.Binding{Words: value}, CheckPattern(value)
			}, false,
			func(h *hearing, t *condition.Test) bool {
				return slices.ContainsFunc(t.Values, func(p string) bool { return Matches(p, h.scope) })
			},
			func(h *hearing) string { return h.scope }),
	)

	KeyScopesWithin = condition.Define(
		asking(condition.Definition{Name: "scopes_within", Names: "tier", Doc: "the scope lies in a tier or in a milder one",
			Meaning: condition.MeansScopes,
			Says: func(t *condition.Test, negated bool) string {
				return "the scope " + is(negated) + " " + t.Wants() + " or milder"
			}},
			func(j *Judge, value string) (condition.Binding, error) {
				for rank, tier := range j.ladder.tiers {
					if tier.Name == value {
						return condition.Binding{Numbers: []int32{int32(rank)}, Words: value}, nil
					}
				}
				return condition.Binding{}, fmt.Errorf("tier %q is not defined", value)
			}, false,
			func(h *hearing, t *condition.Test) bool {
				return slices.ContainsFunc(t.Numbers(), func(rank int32) bool { return h.rank <= int(rank) })
			},
			func(h *hearing) string { return h.judge.ladder.TierOf(h.scope) }),
	)

	KeyResource = condition.Define(
		asking(condition.Definition{Name: "resource", Words: resources, Doc: "whose data is asked for: own or group",
			Meaning: condition.MeansClients,
			Says: func(t *condition.Test, negated bool) string {
				words := map[string]string{
					"own":          "one's own",
					"group":        "a group's",
					"own or group": "one's own or a group's",
					"group or own": "one's own or a group's",
				}
				return "the data " + is(negated) + " " + words[t.Wants()]
			}},
			func(_ *Judge, value string) (condition.Binding, error) {
				var k ResourceKind
				err := k.UnmarshalText([]byte(value))
				return condition.Binding{Numbers: []int32{int32(k)}, Words: value}, err
			}, false,
			func(h *hearing, t *condition.Test) bool { return wants(t, int32(h.request.Resource.Kind())) },
			func(h *hearing) string { return h.request.Resource.String() }),
	)

	KeyOwnsGroup = condition.Define(
		asking(
			condition.Definition{Name: "owns_group", Shape: condition.Flag, Doc: "the one who asks owns the group whose data is asked for",
				Meaning: condition.MeansClientFlag,
				Says: func(t *condition.Test, negated bool) string {
					return condition.Either((t.Values[0] == "true") == negated, "they own the group", "they do not own the group")
				}},
			bindFlag,
			false,
			func(h *hearing, t *condition.Test) bool { return wantsFlag(t, h.ownsGroup()) },
			func(h *hearing) string { return condition.Either(h.ownsGroup(), "no owner", "an owner") },
		),
	)
)
