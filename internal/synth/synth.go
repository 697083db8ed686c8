// Package synth makes up books and attempts from a source of chance: for the
// property tests, which want many small and crooked ones, and for the
// benchmarks, which want large ones. All names are made up.
package synth

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
)

// Chance is a source of numbers; *rand.Rand is one.
type Chance interface {
	// IntN returns a number from 0 to n-1.
	IntN(n int) int
}

// Definition is one definition of a book, as text for its section.
type Definition struct {
	Section string
	// Text is one YAML value in flow style, or `name: value` in the sections that
	// map names.
	Text string
}

// Book is a list of definitions; their order has no meaning.
type Book struct {
	Definitions []Definition
}

// Files spreads the definitions over so many files and returns their texts by
// name.
func (b Book) Files(chance Chance, n int) map[string]string {
	files := make(map[string]map[string][]string, n)
	names := make([]string, n)
	for i := range n {
		names[i] = fmt.Sprintf("file-%d.yaml", i)
		files[names[i]] = map[string][]string{}
	}
	for _, d := range b.Definitions {
		f := files[names[chance.IntN(n)]]
		f[d.Section] = append(f[d.Section], d.Text)
	}
	texts := make(map[string]string, n)
	for name, sections := range files {
		var text strings.Builder
		text.WriteString("briskwarden: 1\n")
		for _, section := range slices.Sorted(maps.Keys(sections)) {
			text.WriteString(section + ":\n")
			for _, item := range sections[section] {
				if isList(section) {
					item = "- " + item
				}
				text.WriteString("  " + item + "\n")
			}
		}
		texts[name] = text.String()
	}
	return texts
}

func isList(section string) bool {
	switch section {
	case "policies", "accounts", "groups", "apps":
		return true
	}
	return false
}

// Names that the small books draw from. Attempts draw from them too, so that
// conditions and attempts meet.
var (
	accounts  = numbered("a%d@one.example", 4, "a4@two.example", "robot-5", "key-6", "key-7")
	groups    = numbered("g%d", 4)
	apps      = numbered("p%d", 3)
	networks  = numbered("n%d", 4)
	regions   = numbered("r%d", 2)
	windows   = numbered("w%d", 3)
	methods   = []string{"password", "otp-app", "push", "security-key", "passkey", "sms-code", "certificate"}
	countries = []string{"NO", "SE", "BR", "PL"}
	ranges    = []string{"203.0.113.0/24", "203.0.113.64-203.0.113.99", "198.51.100.7", "2001:db8:51::/48", "2001:db8::/32", "::ffff:192.0.2.0/120"}
	addresses = []string{"203.0.113.5", "203.0.113.70", "198.51.100.7", "198.51.100.8", "2001:db8:51::9", "2001:db8:99::9", "192.0.2.1", "::ffff:203.0.113.70"}
	windowed  = []string{`{from: "05:00", to: "23:00"}`, `{days: [fri, sat], from: "22:00", to: "06:00"}`, `{dates: [2026-03-01..2026-10-31]}`}
	spans     = []string{"now", "session", "12h", "30m"}
	tagNames  = numbered("t%d", 2)
)

func numbered(format string, n int, more ...string) []string {
	var names []string
	for i := range n {
		names = append(names, fmt.Sprintf(format, i))
	}
	return append(names, more...)
}

// maker draws from the source of chance.
type maker struct{ Chance }

func (m maker) one(names []string) string { return names[m.IntN(len(names))] }

// odds is true once in n times.
func (m maker) odds(n int) bool { return m.IntN(n) == 0 }

// some draws a list of one to three names, which may repeat.
func (m maker) some(names []string) string {
	var list []string
	for range 1 + m.IntN(3) {
		list = append(list, fmt.Sprintf("%q", m.one(names)))
	}
	return "[" + strings.Join(list, ", ") + "]"
}

// Small makes a small book of every feature with so many policies.
func Small(chance Chance, policies int) Book {
	m := maker{chance}
	var b Book
	add := func(section, format string, args ...any) {
		b.Definitions = append(b.Definitions, Definition{section, fmt.Sprintf(format, args...)})
	}
	add("settings", "zone: Europe/Oslo")
	add("settings", "otherwise: %s", m.one([]string{"block", "block", "grant", "{require: [s0]}"}))
	for _, n := range networks {
		extra := m.one([]string{"", ", ours: true", ", ours: true, country: NO", ", country: BR"})
		add("networks", "%s: {ranges: %s%s}", n, m.some(ranges), extra)
	}
	for _, r := range regions {
		add("regions", "%s: %s", r, m.some(countries))
	}
	for i, w := range windows {
		add("windows", "%s: %s", w, windowed[i])
	}
	for i := range 4 {
		var proves []string
		for range 1 + m.IntN(2) {
			which := "any_of: " + m.some(methods)
			if m.odds(4) {
				which = "traits: [phishing_resistant]"
			}
			proves = append(proves, fmt.Sprintf("{%s, within: %s}", which, m.one(spans)))
		}
		add("assurances", "s%d: {prove: [%s]}", i, strings.Join(proves, ", "))
	}
	for _, name := range accounts {
		kind := "person"
		if strings.HasPrefix(name, "robot") {
			kind = "service"
		} else if strings.HasPrefix(name, "key") {
			kind = "emergency"
		}
		extra := ""
		if m.odds(12) {
			extra = ", disabled: true"
		}
		add("accounts", "{name: %q, kind: %s, groups: %s, methods: %s%s}", name, kind, m.some(groups), m.some(methods), extra)
	}
	for i, name := range groups {
		extra := ""
		if i+1 < len(groups) && m.odds(2) {
			extra = fmt.Sprintf(", includes: [%s]", m.one(groups[i+1:]))
		}
		if m.odds(3) {
			extra += ", members: " + m.some(accounts)
		}
		add("groups", "{name: %s%s}", name, extra)
	}
	for _, name := range apps {
		extra := m.one([]string{"", "", ", public: true", ", open_to: " + m.some(groups)})
		add("apps", "{name: %s, tags: %s%s}", name, m.some(tagNames), extra)
	}
	for i := range policies {
		b.Definitions = append(b.Definitions, Policy(chance, i, policies))
	}
	return b
}

// Policy makes policy number i of a small book of n: it may replace those with
// higher numbers, so that no circle comes about.
func Policy(chance Chance, i, n int) Definition {
	m := maker{chance}
	extra := ""
	if i+1 < n && m.odds(3) {
		extra = fmt.Sprintf(", replaces: [q%d]", i+1+m.IntN(n-i-1))
	}
	var rules []string
	for k := range 1 + m.IntN(3) {
		rule := fmt.Sprintf("name: u%d, then: %s", k, m.one([]string{"grant", "block", "{require: [s0]}", "{require: [s1, s2]}", "{require: [s3]}"}))
		if !m.odds(4) {
			rule += ", when: " + m.condition("attempt", 2)
		}
		if m.odds(2) {
			rule += fmt.Sprintf(", say: Rule %d of policy %d.", k, i)
		}
		rules = append(rules, "{"+rule+"}")
	}
	who, where := "anyone", "every"
	if !m.odds(3) {
		who = m.condition("account", 1)
	}
	if !m.odds(3) {
		where = m.condition("app", 1)
	}
	return Definition{"policies", fmt.Sprintf("{name: q%d, stage: %s, who: %s, apps: %s%s, rules: [%s]}",
		i, m.one([]string{"live", "live", "live", "live", "shadow", "draft"}), who, where, extra, strings.Join(rules, ", "))}
}

// condition makes a condition on a subject, nested no deeper than so.
func (m maker) condition(about string, deep int) string {
	if deep > 0 && m.odds(2) {
		inner := func() string { return m.condition(about, deep-1) }
		switch m.IntN(4) {
		case 0:
			return fmt.Sprintf("{all: [%s, %s]}", inner(), inner())
		case 1:
			return fmt.Sprintf("{any: [%s, %s]}", inner(), inner())
		case 2:
			return fmt.Sprintf("{not: %s}", inner())
		}
		beside := strings.TrimSuffix(m.test(about), "}")
		return fmt.Sprintf("%s, except: %s}", beside, inner())
	}
	return m.test(about)
}

func (m maker) test(about string) string {
	tests := map[string][]func() string{
		"account": {
			func() string { return "anyone: true" },
			func() string { return "accounts: " + m.some(accounts) },
			func() string { return "groups: " + m.some(groups) },
			func() string { return "domains: " + m.some([]string{"one.example", "two.example"}) },
			func() string { return "kinds: " + m.some([]string{"person", "service", "emergency"}) },
		},
		"app": {
			func() string { return "every: true" },
			func() string { return "names: " + m.some(apps) },
			func() string { return "tags: " + m.some(tagNames) },
		},
		"attempt": {
			func() string { return "networks: " + m.some(append(networks, "198.51.100.0/24")) },
			func() string { return "our_network: " + m.one([]string{"true", "false"}) },
			func() string { return "countries: " + m.some(append(countries, regions...)) },
			func() string { return "during: " + m.some(windows) },
			func() string { return "through: " + m.some(attempt.Throughs()) },
			func() string { return "groups: " + m.some(groups) },
		},
	}[about]
	return "{" + tests[m.IntN(len(tests))]() + "}"
}

// Attempt makes an attempt on a small book; each fact may be missing, or known
// not to be.
func Attempt(chance Chance) *attempt.Attempt {
	m := maker{chance}
	at := time.Date(2026, time.March, 27, 20, 30, 0, 0, time.UTC).Add(time.Duration(m.IntN(5*24*60)) * time.Minute)
	a := &attempt.Attempt{At: at, Account: m.one(accounts), App: m.one(apps)}
	if m.odds(20) {
		a.Account = "nobody@one.example"
	}
	if m.odds(20) {
		a.App = "nothing"
	}
	drawFacts(m, a, 3)
	for range m.IntN(3) {
		a.Proofs = append(a.Proofs, attempt.Proof{Method: m.one(methods), At: at})
	}
	for range m.IntN(3) {
		a.Session.Proofs = append(a.Session.Proofs, attempt.Proof{Method: m.one(methods), At: at.Add(-time.Duration(m.IntN(24*60)) * time.Minute)})
	}
	return a
}

// Complete returns a copy of the attempt in which no fact is missing.
func Complete(chance Chance, a *attempt.Attempt) *attempt.Attempt {
	complete := *a
	drawFacts(maker{chance}, &complete, 0)
	return &complete
}

// drawFacts draws the facts that are missing. With odds, one of so many is left
// missing.
func drawFacts(m maker, a *attempt.Attempt, odds int) {
	a.IP = drawFact(m, odds, a.IP, func() netip.Addr { return netip.MustParseAddr(m.one(addresses)) })
	a.Country = drawFact(m, odds, a.Country, func() attempt.CountryCode { return attempt.CountryCode(m.one(countries)) })
	a.Through = drawFact(m, odds, a.Through, func() attempt.Through { return attempt.Through(m.IntN(len(attempt.Throughs()))) })
}

func drawFact[T any](m maker, odds int, fact attempt.Fact[T], draw func() T) attempt.Fact[T] {
	switch {
	case !fact.IsUnknown(), odds > 0 && m.odds(odds):
		return fact
	case m.odds(8):
		return attempt.None[T]()
	}
	return attempt.Known(draw())
}
