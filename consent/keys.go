package consent

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
)

// keys are those that are about what outside programs ask for.
var keys condition.Family[*scopeRequest]

// asking defines a key about what a client asks for. A test on what is known of
// a client is unknown where nobody knows it.
func asking(d condition.Definition, bind func(j *Judge, value string) (condition.Binding, error), ofClient bool,
	holds func(r *scopeRequest, t *condition.Test) bool, saw func(r *scopeRequest) string) condition.Key {
	d.About, d.Explored = condition.AboutConsent, condition.NoCircumstance
	d.Bind = func(names condition.Vocabulary, t *condition.Test, value string) (condition.Binding, error) {
		v, ok := names.(vocabulary)
		if !ok {
			return condition.Binding{}, fmt.Errorf("the key %s has no meaning here", t.Key)
		}
		return bind(v.judge, value)
	}
	return keys.Define(d, func(r *scopeRequest, t *condition.Test) condition.Truth {
		if ofClient && r.client == nil {
			return condition.Unknown
		}
		return condition.Of(holds(r, t))
	}, func(r *scopeRequest, _ *condition.Test) string {
		if ofClient && r.client == nil {
			return ""
		}
		return saw(r)
	})
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
	KeyClients = asking(condition.Definition{Name: "clients", Names: "client", Doc: "the client, by name",
		Meaning: condition.MeansClients, Says: program("")},
		func(j *Judge, value string) (condition.Binding, error) {
			if _, ok := j.clients[value]; !ok {
				return condition.Binding{}, fmt.Errorf("client %q is not defined", value)
			}
			return condition.Binding{Words: value}, nil
		}, false,
		func(r *scopeRequest, t *condition.Test) bool { return slices.Contains(t.Values, r.request.Client) },
		func(r *scopeRequest) string { return r.request.Client })

	KeyClientTags = asking(condition.Definition{Name: "client_tags", Doc: "the client bears a tag",
		Meaning: condition.MeansClients, Says: program(" tagged")},
		bindText, true,
		func(r *scopeRequest, t *condition.Test) bool {
			return slices.ContainsFunc(r.client.Tags, func(tag string) bool { return slices.Contains(t.Values, tag) })
		},
		func(r *scopeRequest) string {
			if len(r.client.Tags) == 0 {
				return "no tag"
			}
			return strings.Join(r.client.Tags, ", ")
		})

	KeyStanding = asking(condition.Definition{Name: "standing", Words: standings,
		Doc:     "the client is unreviewed or approved; a barred one is refused before any rule",
		Meaning: condition.MeansClients, Says: program("")},
		func(_ *Judge, value string) (condition.Binding, error) {
			var s Standing
			err := s.UnmarshalText([]byte(value))
			return condition.Binding{Numbers: []int32{int32(s)}, Words: value}, err
		}, true,
		func(r *scopeRequest, t *condition.Test) bool { return wants(t, int32(r.client.Standing)) },
		func(r *scopeRequest) string { return r.client.Standing.String() })

	KeyPublisherVetted = asking(condition.Definition{Name: "publisher_vetted", Shape: condition.Flag,
		Doc:     "the publisher of the client was vetted",
		Meaning: condition.MeansClientFlag,
		Says: func(t *condition.Test, negated bool) string {
			return condition.Either((t.Values[0] == "true") == negated, "its publisher was vetted", "its publisher was not vetted")
		}},
		bindFlag, true,
		func(r *scopeRequest, t *condition.Test) bool { return wantsFlag(t, r.client.Publisher.Vetted) },
		func(r *scopeRequest) string {
			return condition.Either(r.client.Publisher.Vetted, "a publisher that nobody vetted", "a vetted publisher")
		})

	KeyScopes = asking(condition.Definition{Name: "scopes", Check: CheckPattern, Doc: "the scope, by name or by a pattern such as calendar.*",
		Meaning: condition.MeansScopes,
		Says: func(t *condition.Test, negated bool) string {
			return "it " + condition.Either(negated, "asks for ", "does not ask for ") + t.Wants()
		}},
		func(_ *Judge, value string) (condition.Binding, error) {
			return condition.Binding{Words: value}, CheckPattern(value)
		}, false,
		func(r *scopeRequest, t *condition.Test) bool {
			return slices.ContainsFunc(t.Values, func(p string) bool { return Matches(p, r.scope) })
		},
		func(r *scopeRequest) string { return r.scope })

	KeyScopesWithin = asking(condition.Definition{Name: "scopes_within", Names: "tier", Doc: "the scope lies in a tier or in a milder one",
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
		func(r *scopeRequest, t *condition.Test) bool {
			return slices.ContainsFunc(t.Numbers(), func(rank int32) bool { return r.rank <= int(rank) })
		},
		func(r *scopeRequest) string { return r.judge.ladder.TierOf(r.scope) })

	KeyResource = asking(condition.Definition{Name: "resource", Words: resources, Doc: "whose data is asked for: own or group",
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
		func(r *scopeRequest, t *condition.Test) bool { return wants(t, int32(r.request.Resource.Kind())) },
		func(r *scopeRequest) string { return r.request.Resource.String() })

	KeyOwnsGroup = asking(
		condition.Definition{Name: "owns_group", Shape: condition.Flag, Doc: "the one who asks owns the group whose data is asked for",
			Meaning: condition.MeansClientFlag,
			Says: func(t *condition.Test, negated bool) string {
				return condition.Either((t.Values[0] == "true") == negated, "they own the group", "they do not own the group")
			}},
		bindFlag,
		false,
		func(r *scopeRequest, t *condition.Test) bool { return wantsFlag(t, r.ownsGroup()) },
		func(r *scopeRequest) string { return condition.Either(r.ownsGroup(), "no owner", "an owner") },
	)
)
