package inspect

import (
	"context"
	"net/netip"
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

const topicPlaces = "places"

// The sizes above which a range is very wide, as the lengths of their blocks.
const (
	wideIPv4 = 12
	wideIPv6 = 32
)

var placeChecks = []Check{
	{"ipv6-forgotten", topicPlaces, Warning, "a network with IPv4 ranges and no IPv6 one",
		"An app that is reached over both versions of IP sees the same office under an IPv6 address that the network does not know: people at " +
			"their desks are treated as strangers, or a block passes by them.",
		"Add the network's IPv6 range, or write `over: [ipv4]` at the apps that are not reached over IPv6.", ipv6Forgotten},
	{"overlapping-ranges", topicPlaces, Note, "ranges that overlap",
		"An address in both networks fulfils what is said of either, and their countries may disagree. Mostly one of the ranges is mistyped.",
		"Correct the range, or accept the finding where one network lies inside the other on purpose.", overlappingRanges},
	{"wide-range", topicPlaces, Warning, "a range that is very wide",
		"Hardly anybody owns a million addresses. A mistyped length of the block makes strangers into colleagues.",
		"Check the length of the block.", wideRange},
	{"private-range", topicPlaces, Warning, "private addresses in a network",
		"Such addresses (RFC 1918, RFC 4193, RFC 6598) mean something else in every house. An identity provider outside never sees them, and " +
			"one that does may be fooled by a proxy that passes them on.",
		"Write the addresses that the apps see, or accept the finding where they see the private ones.", privateRange},
	{"own-network-hides", topicPlaces, Warning, "an own network that is said to hide where people come from",
		"Everybody at a desk there is noticed as one who hides, and anyone who hides there is taken for one at a desk.",
		"Take `anonymous` or `ours` from the network.", ownNetworkHides},
	{"country-disagrees", topicPlaces, Warning, "a network whose country is not that of its addresses",
		"The country that a network states wins over what is known of its addresses. A mistyped code lets in from abroad, or blocks at home.",
		"Correct the code, or accept the finding where the database errs.", countryDisagrees},
	{"home-blocked", topicPlaces, Warning, "an app that is blocked at home and opens from elsewhere",
		"People at their desks are stopped and strangers are not. Mostly a `not` is missing, or there is one too many.",
		"Rehearse an attempt from an own network, and look at the rule that blocks it.", homeBlocked},
	{"double-not", topicPlaces, Note, "a `not` of a `not`",
		"It says what it says without both, and one of them was mostly not meant.",
		"Take both out, or one.", doubleNot},
	{"own-network-without-country", topicPlaces, Note, "an own network that does not say its country",
		"Look-ups of addresses err, and one's own office abroad is blocked by a rule on countries, or a traveller at home.",
		"Write the network's `country`.", ownNetworkWithoutCountry},
	{"reserved-country", topicPlaces, Note, "a country code that ISO 3166-1 reserves",
		"Codes that the standard leaves to users, such as XK, mean what the data says that fills them, and another source of data may use " +
			"another one. Codes that were retired are errors of the book already.",
		"Make sure that your data uses the code, and accept the finding.", reservedCountry},
}

func ipv6Forgotten(in *Pass) {
	for i := range in.Policies {
		s := &in.Policies[i]
		both := slices.DeleteFunc(slices.Clone(s.AimedAt), func(app int) bool { return len(in.Directory.Apps[app].Over) == 1 })
		if !s.active() || len(both) == 0 {
			continue
		}
		for _, r := range s.Rules {
			condition.Walk(r.When, func(n condition.Node) bool {
				t, ok := n.(*condition.Test)
				if !ok {
					return true
				}
				for _, network := range in.networksOf(t) {
					if four, six := families(network); four && !six {
						in.Report(
							network.Name,
							in.where("network", network.Name),
							"%s has IPv4 ranges only; %s / %s asks for it, and people reach %s over IPv6 too.",
							network.Name,
							s.Name,
							r.Name,
							in.appNames(both),
						)
					}
				}
				return true
			})
		}
	}
}

// networksOf returns the networks that a test asks for.
func (in *Pass) networksOf(t *condition.Test) []directory.Network {
	var found []directory.Network
	for i, n := range in.Directory.Networks {
		if t.Key == engine.KeyOurNetwork && n.Ours || t.Key == engine.KeyNetworks && slices.Contains(t.Numbers(), int32(i)) {
			found = append(found, n)
		}
	}
	return found
}

func families(n directory.Network) (four, six bool) {
	for _, r := range n.Ranges {
		four, six = four || r.From.Is4(), six || r.From.Is6()
	}
	return four, six
}

func overlappingRanges(in *Pass) {
	type piece struct {
		directory.Range
		network string
	}
	var pieces []piece
	for _, n := range in.Directory.Networks {
		for _, r := range n.Ranges {
			pieces = append(pieces, piece{r, n.Name})
		}
	}
	slices.SortStableFunc(pieces, func(a, b piece) int { return a.From.Compare(b.From) })
	var open []piece // those that reach to where we are
	for _, p := range pieces {
		open = slices.DeleteFunc(open, func(o piece) bool { return o.To.Less(p.From) })
		for _, o := range open {
			if o.network == p.network {
				in.Report(p.network, in.where("network", p.network), "Two ranges of %s overlap: %s and %s.", p.network, o.Range, p.Range)
			} else {
				in.Report(min(o.network, p.network)+"+"+max(o.network, p.network), in.where("network", p.network), "%s of %s lies across %s of %s.",
					p.Range, p.network, o.Range, o.network)
			}
		}
		open = append(open, p)
	}
}

func (in *Pass) eachRange(visit func(n directory.Network, r directory.Range, p netip.Prefix)) {
	for _, n := range in.Directory.Networks {
		for _, r := range n.Ranges {
			for _, p := range r.Prefixes() {
				visit(n, r, p)
			}
		}
	}
}

func wideRange(in *Pass) {
	in.eachRange(func(n directory.Network, r directory.Range, p netip.Prefix) {
		if p.Addr().Is4() && p.Bits() < wideIPv4 || p.Addr().Is6() && p.Bits() < wideIPv6 {
			in.Report(n.Name, in.where("network", n.Name), "%s of %s holds a /%d.", r, n.Name, p.Bits())
		}
	})
}

// shared is the address space that carriers share among customers (RFC 6598 §7).
var shared = netip.MustParsePrefix("100.64.0.0/10")

func privateRange(in *Pass) {
	in.eachRange(func(n directory.Network, r directory.Range, p netip.Prefix) {
		a := p.Addr()
		if a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || shared.Contains(a) {
			in.Report(n.Name, in.where("network", n.Name), "%s of %s is not seen from outside.", r, n.Name)
		}
	})
}

func ownNetworkHides(in *Pass) {
	for _, n := range in.Directory.Networks {
		if n.Ours && n.Anonymous {
			in.Report(n.Name, in.where("network", n.Name), "%s is one's own, and is said to hide where people come from.", n.Name)
		}
	}
}

func countryDisagrees(in *Pass) {
	locator := in.Book.Rulebook().Locator
	if locator == nil {
		return
	}
	for _, n := range in.Directory.Networks {
		for _, r := range n.Ranges {
			where, err := locator.Locate(context.Background(), r.Sample())
			if known := directory.Country(where.Country); err == nil && n.Country != "" && known != "" && known != n.Country {
				in.Report(
					n.Name,
					in.where("network", n.Name),
					"%s states %s, and its range %s is in %s by %s.",
					n.Name,
					n.Country,
					r,
					known,
					in.Book.Settings.IPDatabase,
				)
			}
		}
	}
}

func homeBlocked(in *Pass) {
	if !slices.ContainsFunc(in.Directory.Networks, func(n directory.Network) bool { return n.Ours }) {
		return
	}
	people := in.persons(func(n int) bool { return in.Directory.Profile(n).Enrolled() != 0 })
	for app := range in.Directory.Apps {
		for _, n := range people {
			if !in.Directory.IsOpenTo(app, in.Directory.Profile(n)) {
				continue
			}
			verdicts := func(ip attempt.Fact[netip.Addr]) (granted, blocked bool) {
				blocked = true
				for _, hour := range in.hours {
					a := in.attempt(n, app, hour)
					a.IP, a.Device = ip, attempt.Known(in.fitDevice(in.Directory.Accounts[n].Name))
					in.proveAll(a, n)
					v := in.Judge.Verdict(context.Background(), a)
					granted, blocked = granted || v == decide.Grant, blocked && v == decide.Block
				}
				return granted, blocked
			}
			// One person who comes in from elsewhere is enough to look at the desks.
			elsewhere, _ := verdicts(in.stranger)
			if !elsewhere {
				continue
			}
			opens := func(ip attempt.Fact[netip.Addr]) bool { _, blocked := verdicts(ip); return !blocked }
			if !slices.ContainsFunc(in.ownAddresses(), opens) {
				name := in.Directory.Apps[app].Name
				in.Report(
					name,
					in.where("app", name),
					"%s is blocked at %s from each own network at all hours, and granted from an address in no "+
						"network.",
					in.Directory.Accounts[n].Name,
					name,
				)
			}
			break
		}
	}
}

func doubleNot(in *Pass) {
	in.eachCondition(func(n condition.Node) {
		condition.Walk(n, func(n condition.Node) bool {
			outer, ok := n.(*condition.Not)
			if !ok {
				return true
			}
			inner := outer.Of
			if all, is := inner.(*condition.All); is && len(all.Of) == 1 {
				inner = all.Of[0]
			}
			if _, twice := inner.(*condition.Not); twice {
				in.Report(outer.Pos().String(), outer.Pos(), "%s says the same as without its two `not`s.", condition.Text(outer))
			}
			return true
		})
	})
}

func ownNetworkWithoutCountry(in *Pass) {
	for _, n := range in.Directory.Networks {
		if n.Ours && n.Country == "" {
			in.Report(n.Name, in.where("network", n.Name), "The own network %s does not say in which country it is.", n.Name)
		}
	}
}

func reservedCountry(in *Pass) {
	for _, r := range in.Directory.Regions {
		for _, c := range r.Countries {
			if c.IsReserved() {
				in.Report(
					"region/"+r.Name+"/"+string(c),
					in.where("region", r.Name),
					"The region %s names %s, a code that ISO 3166-1 leaves to its users.",
					r.Name,
					c,
				)
			}
		}
	}
	for _, n := range in.Directory.Networks {
		if n.Country.IsReserved() {
			in.Report(
				"network/"+n.Name,
				in.where("network", n.Name),
				"The network %s states %s, a code that ISO 3166-1 leaves to its users.",
				n.Name,
				n.Country,
			)
		}
	}
}
