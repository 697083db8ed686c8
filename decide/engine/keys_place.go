package engine

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// address defines a key about addresses.
func address(d condition.Definition, holds func(p *Place, t *condition.Test) condition.Truth) condition.Key {
	d.About, d.Explored = condition.AboutAttempt|condition.AboutDecision, condition.ExploredByPlace
	return keys.Define(d, func(f *Facts, t *condition.Test) condition.Truth {
		if p := f.findPlace(); p != nil {
			return holds(p, t)
		}
		return condition.Unknown
	}, func(f *Facts, _ *condition.Test) string {
		if f.findPlace() == nil {
			return ""
		}
		return fmt.Sprintf("%s (in %s)", directory.Plain(f.Address), orNone(f.Directory.NetworkNames(f.Place), "no network"))
	})
}

// The keys about where an attempt comes from.
var (
	KeyNetworks = address(condition.Definition{Name: "networks", Names: "network", Meaning: condition.MeansAddresses,
		Doc: "the address lies in a network, by name or as an address, a CIDR block or a range a-b",
		Check: func(value string) error {
			// What looks like addresses is one; anything else names a network.
			if _, wrong := directory.ParseRange(value); wrong != nil &&
				(strings.ContainsAny(value, "/:") || strings.Trim(value, "0123456789.-") == "") {
				return wrong
			}
			return nil
		},
		Literal: func(value string) bool { _, err := directory.ParseRange(value); return err == nil },
		Bind: bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			if r, err := directory.ParseRange(value); err == nil {
				if i := slices.Index(v.Literals, r); i >= 0 {
					return condition.Binding{Numbers: []int32{int32(len(v.Networks) + i)}, Words: value}, nil
				}
			}
			return one("network", value, v.networkNumber)
		}),
		Says: func(t *condition.Test, negated bool) string {
			return "they " + condition.Either(negated, "", "do not ") + "come from " + t.Wants()
		},
	}, func(p *Place, t *condition.Test) condition.Truth {
		return condition.Of(intersects(t.Numbers(), p.Networks))
	})

	KeyOurNetwork = address(condition.Definition{Name: "our_network", Shape: condition.Flag, Meaning: condition.MeansOwnAddresses,
		Doc: "the address lies in a network marked `ours`",
		Bind: func(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
			if value == "true" {
				return condition.Binding{Numbers: []int32{1}, Words: "an own network"}, nil
			}
			return condition.Binding{Numbers: []int32{0}, Words: "no own network"}, nil
		},
		Says: func(t *condition.Test, negated bool) string {
			if (t.Values[0] == "true") != negated {
				return "they come from an own network"
			}
			return "they come from no own network"
		},
	}, func(p *Place, t *condition.Test) condition.Truth {
		ours := int32(0)
		if p.Ours {
			ours = 1
		}
		return among(t, ours)
	})

	KeyAddressKinds = keys.Define(
		condition.Definition{Name: "address_kinds", About: condition.AboutAttempt | condition.AboutDecision, Words: directory.IPVersions(),
			Doc:     "the version of IP of the address: ipv4 or ipv6; an IPv6 address that carries an IPv4 one is that",
			Meaning: condition.MeansWords, Explored: condition.ExploredByPlace,
			Bind: bindWord(func(value string) (directory.IPVersion, error) {
				var v directory.IPVersion
				return v, v.UnmarshalText([]byte(value))
			}),
			Says: func(t *condition.Test, negated bool) string { return "their address " + is(negated) + " " + t.Wants() },
		}, func(f *Facts, t *condition.Test) condition.Truth {
			if f.findPlace() != nil {
				return among(t, int32(versionOf(f.Address)))
			}
			return condition.Unknown
		}, func(f *Facts, _ *condition.Test) string {
			if f.findPlace() != nil {
				return directory.IPVersions()[versionOf(f.Address)]
			}
			return ""
		})

	KeyCountries = keys.Define(
		condition.Definition{Name: "countries", About: condition.AboutAttempt | condition.AboutDecision, Names: "region",
			Doc:     "the country, by ISO 3166-1 alpha-2 code or by region",
			Meaning: condition.MeansCountries, Explored: condition.ExploredByPlace, Literal: isCountry,
			Bind: bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
				return v.bindCountries(value)
			}),
			Says: func(t *condition.Test, negated bool) string { return "they " + are(negated) + " in " + t.Wants() },
		}, func(f *Facts, t *condition.Test) condition.Truth {
			switch {
			case f.evaluation != nil:
				return f.evaluation.countryHolds(t)
			case f.Made != nil:
				return CountryHolds(f.Made.Country(), t)
			}
			return condition.Unknown
		}, func(f *Facts, t *condition.Test) string {
			switch {
			case f.evaluation != nil:
				return f.evaluation.countrySaw(t)
			case f.Made != nil:
				return string(f.Made.Country())
			}
			return ""
		})
)

// versionOf returns the version of IP of an address, of one that carries another that
// of the other.
func versionOf(address netip.Addr) directory.IPVersion {
	if directory.Plain(address).Is4() {
		return directory.IPv4
	}
	return directory.IPv6
}

// isCountry reports whether a value of the key `countries` is a code rather than the
// name of a region.
func isCountry(value string) bool { return attempt.CountryCode(value).IsAssigned() }
