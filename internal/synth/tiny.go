package synth

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// TinyDay is the moment at which the day of a tiny book begins, in its zone.
var TinyDay = time.Date(2026, time.March, 30, 0, 0, 0, 0, time.UTC)

// tinyTests are the tests of a tiny book, by what they are about. Grid has an attempt for each way to answer them.
var tinyTests = map[string][]string{
	"account": {"anyone: true", "groups: [g0]", "accounts: [a1]", "enrolled: [push]", "kinds: [person]"},
	"app":     {"every: true", "names: [p0]", "tags: [t0]"},
	"rule": {"groups: [g0]", "names: [p0]", "networks: [n0]", "our_network: true", "countries: [NO]", "countries: [NO, SE]", "during: [w0]",
		"device: [managed]", "posture: [o0]", "through: [browser]", "through: [browser, native]", "actions: [enrol, recover]",
		"signals: [told]", "risk_at_least: low", "risk_at_least: medium", "score_at_least: 50"},
}

// Tiny makes a book of so many policies about so little that Grid is all that can be tried on it.
func Tiny(chance Chance, policies int) Book {
	m := maker{chance}
	var b Book
	add := func(section, format string, args ...any) {
		b.Definitions = append(b.Definitions, Definition{section, fmt.Sprintf(format, args...)})
	}
	add("settings", "zone: UTC")
	add("settings", "otherwise: %s", m.one([]string{"block", "grant", "{require: [s0]}"}))
	add("networks", "n0: {ranges: [203.0.113.64/26]%s}", m.one([]string{"", ", ours: true", ", ours: true, country: NO"}))
	add("windows", `w0: {from: "08:00", to: "16:00"}`)
	add("postures", "o0: {checks: [{fact: firewall, is: true}]}")
	add("risk", "signals: [{name: told, points: %s}, {name: noticed, points: 30, when: %s}]", m.one([]string{"25", "40", "80"}),
		m.tiny("rule", 0, "signals", "risk_at_least", "score_at_least", "proved"))
	add("assurances", "s0: {prove: [{any_of: [password], within: session}]}")
	add("assurances", "s1: {prove: [{any_of: [password], within: session}, {any_of: [push], within: 12h}]}")
	add("assurances", "s2: {posture: o0}")
	add("groups", "{name: g0}")
	add("accounts", "{name: a0, groups: [g0], methods: [password, push]}")
	add("accounts", "{name: a1, methods: %s}", m.one([]string{"[password]", "[push]", "[]"}))
	add("apps", "{name: p0, tags: [t0]}")
	add("apps", "{name: p1%s}", m.one([]string{"", ", open_to: [g0]", ", tags: [t0]"}))
	for i := range policies {
		b.Definitions = append(b.Definitions, TinyPolicy(chance, i, policies))
	}
	if m.odds(3) {
		add("exemptions", "{name: x0, who: %s, from: [%s], because: Made up.%s}", m.tiny("account", 1), m.one(tinyAssurances),
			m.one([]string{"", ", instead: [s2]", ", when: " + m.tiny("rule", 0, "groups")}))
	}
	return b
}

var tinyAssurances = []string{"s0", "s1", "s2"}

// TinyPolicy makes policy number i of a tiny book of n.
func TinyPolicy(chance Chance, i, n int) Definition {
	m := maker{chance}
	extra := ""
	if i+1 < n && m.odds(3) {
		extra = fmt.Sprintf(", replaces: [q%d]", i+1)
	}
	if m.odds(6) {
		extra += ", actions: [sign-in, enrol]"
	}
	var rules []string
	for k := range 1 + m.IntN(3) {
		rule := fmt.Sprintf("name: u%d, then: %s", k, m.one([]string{"grant", "block", "{require: [s0]}", "{require: [s1]}",
			"{require: [s0, s2]}", "{require: [{one_of: [s1, s2]}]}"}))
		if !m.odds(4) {
			rule += ", when: " + m.tiny("rule", 2)
		}
		rules = append(rules, "{"+rule+"}")
	}
	return Definition{"policies", fmt.Sprintf("{name: q%d, stage: live, who: %s, apps: %s%s, rules: [%s]}", i, m.tiny("account", 1),
		m.tiny("app", 0), extra, strings.Join(rules, ", "))}
}

// TinyGuarantee makes guarantee number i of a tiny book.
func TinyGuarantee(chance Chance, i int) Definition {
	m := maker{chance}
	claim := m.one([]string{"always: block", "never_without: [%s]", "enough: [%s]", "at_most: [%s]", "enough: [%s, s2]"})
	if strings.Contains(claim, "%s") {
		claim = fmt.Sprintf(claim, m.one(tinyAssurances[:2]))
	}
	return Definition{"guarantees", fmt.Sprintf("{name: g%d, where: %s, %s}", i, m.tiny("rule", 2), claim)}
}

// tiny makes a condition of tests, nested no deeper than so, without the tests on some keys.
func (m maker) tiny(about string, deep int, without ...string) string {
	tests := slices.DeleteFunc(slices.Clone(tinyTests[about]), func(test string) bool {
		key, _, _ := strings.Cut(test, ":")
		return slices.Contains(without, key)
	})
	return m.combine(deep, func() string { return "{" + m.one(tests) + "}" })
}

// Grid returns an attempt for each way to answer the tests of a tiny book, each fact also missing. An attempt must not be
// changed, and is another one in each turn.
func Grid() iter.Seq[*attempt.Attempt] {
	return func(yield func(*attempt.Attempt) bool) {
		for _, at := range []time.Duration{0, 8 * time.Hour, 16*time.Hour - time.Minute, 16 * time.Hour} {
			for _, account := range []string{"a0", "a1"} {
				for _, app := range []string{"p0", "p1"} {
					for n := range attempt.Actions() {
						a := attempt.Attempt{At: TinyDay.Add(at), Account: account, App: app, Action: attempt.Action(n)}
						if !gridFrom(a, yield) {
							return
						}
					}
				}
			}
		}
	}
}

// gridFrom yields an attempt with all facts that a tiny book looks at.
func gridFrom(a attempt.Attempt, yield func(*attempt.Attempt) bool) bool {
	for _, ip := range []string{"", "203.0.113.63", "203.0.113.64", "203.0.113.127", "203.0.113.128"} {
		if a.IP = (attempt.Fact[netip.Addr]{}); ip != "" {
			a.IP = attempt.Known(netip.MustParseAddr(ip))
		}
		for _, country := range []attempt.CountryCode{"", "NO", "SE", "BR"} {
			if a.Country = (attempt.Fact[attempt.CountryCode]{}); country != "" {
				a.Country = attempt.Known(country)
			}
			for _, device := range tinyDevices() {
				a.Device = device
				for _, through := range []attempt.Fact[attempt.Through]{{}, attempt.Known(attempt.Browser), attempt.Known(attempt.Native),
					attempt.Known(attempt.Unattended)} {
					a.Through = through
					for _, told := range [][]string{nil, {"told"}} {
						a.Signals = told
						if one := a; !yield(&one) {
							return false
						}
					}
				}
			}
		}
	}
	return true
}

// tinyDevices are devices of each kind that a tiny book tells apart, and none.
func tinyDevices() []attempt.Fact[attempt.Device] {
	devices := []attempt.Fact[attempt.Device]{{}}
	for _, managed := range []condition.Truth{condition.Unknown, condition.False, condition.True} {
		for _, fit := range []condition.Truth{condition.Unknown, condition.False, condition.True} {
			d := attempt.Device{ID: attempt.Known("v0")}
			if managed != condition.Unknown {
				d.Managed = attempt.Known(managed == condition.True)
			}
			if fit != condition.Unknown {
				d.Facts = map[string]attempt.Scalar{"firewall": attempt.BoolScalar(fit == condition.True)}
				d.ReportedAt = attempt.Known(TinyDay)
			}
			devices = append(devices, attempt.Known(d))
		}
	}
	return devices
}
