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
	"github.com/briskwarden/briskwarden/directory"
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
	case "policies", "accounts", "groups", "apps", "devices", "exemptions", "rollouts", "guarantees":
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
	ranges    = []string{
		"203.0.113.0/24",
		"203.0.113.64-203.0.113.99",
		"198.51.100.7",
		"2001:db8:51::/48",
		"2001:db8::/32",
		"::ffff:192.0.2.0/120",
	}
	addresses = []string{
		"203.0.113.5",
		"203.0.113.70",
		"198.51.100.7",
		"198.51.100.8",
		"2001:db8:51::9",
		"2001:db8:99::9",
		"192.0.2.1",
		"::ffff:203.0.113.70",
	}
	windowed = []string{
		`{from: "05:00", to: "23:00"}`,
		`{days: [fri, sat], from: "22:00", to: "06:00"}`,
		`{dates: [2026-03-01..2026-10-31]}`,
	}
	spans    = []string{"now", "session", "12h", "30m"}
	tagNames = numbered("t%d", 2)
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
		extra := m.one([]string{"", ", ours: true", ", ours: true, country: NO", ", country: BR", ", anonymous: true"})
		add("networks", "%s: {ranges: %s%s}", n, m.some(ranges), extra)
	}
	for _, r := range regions {
		add("regions", "%s: %s", r, m.some(countries))
	}
	for i, w := range windows {
		add("windows", "%s: %s", w, windowed[i])
	}
	add("postures", "o0: {%schecks: [{fact: firewall, is: true}]}", m.one([]string{"", "fresh: 24h, "}))
	add(
		"postures",
		"o1: {fresh: 12h, checks: [{fact: patch_age_days, at_most: 30}, {fact: os_version, at_least: %s}]}",
		m.one([]string{"10.2", `{windows: "10.2", ios: "17"}`}),
	)
	add("postures", "o2: {checks: [{fact: channel, in: [stable, beta, 3]}]}")
	add("methods", "smoke-signal: {kind: possession, traits: [phishing_resistant], amr: [user]}")
	if m.odds(2) {
		add(
			"methods",
			m.one([]string{"sms-code", "push"})+": {barred_for: %s}",
			m.one([]string{"{groups: [g0]}", "{kinds: [service]}", "{attributes: {team: [red]}}", "{attributes: {hat: [straw]}}",
				"{account_risk_at_least: low}"}),
		)
	}
	add("risk", "signals: [%s]", strings.Join(m.signals(), ", "))
	if m.odds(3) {
		add("risk", "levels: {low: 5, medium: 30, high: 60}")
	}
	m.assurances(add)
	m.directory(add)
	for i := range policies {
		b.Definitions = append(b.Definitions, Policy(chance, i, policies))
	}
	for i := range m.IntN(3) {
		extra := ""
		if !m.odds(3) {
			extra += ", when: " + m.condition("attempt", 1)
		}
		if m.odds(3) {
			extra += ", until: " + m.one(days)
		}
		add(
			"exemptions",
			"{name: x%d, who: %s, from: %s, instead: [%s], because: Made up.%s}",
			i,
			m.condition("account", 1),
			m.some(assurances),
			m.one(append([]string{""}, assurances...)),
			extra,
		)
	}
	for i := range m.IntN(2) {
		extra := m.one([]string{"", ", newcomers: 30d", ", grace: 7d"})
		add(
			"rollouts",
			"{name: l%d, who: %s, methods: %s, eases: %s, opens: 2026-03-01, enforced: %s%s}",
			i,
			m.condition("account", 1),
			m.some(methods),
			m.some(assurances),
			m.one(days),
			extra,
		)
	}
	return b
}

var (
	assurances = numbered("s%d", 7)
	postures   = numbered("o%d", 3)
	signals    = numbered("i%d", 9)
	days       = []string{"2026-03-27", "2026-03-29", "2026-03-31", "2026-05-01"}
	platforms  = []string{"windows", "ios", "linux"}
	deviceTags = numbered("d%d", 2)
)

// signals makes one signal of each kind.
func (m maker) signals() []string {
	kinds := []string{
		"detect: travel, faster_than: 900", "detect: country-change", "detect: new-device", "detect: anonymous-network",
		"detect: failed-burst, failures: 2, within: 10m", "detect: dormant, after: 30d", "detect: proof-refused",
		"when: " + m.condition("signal", 1), "",
	}
	var all []string
	for i, name := range signals {
		kind := kinds[i]
		if kind != "" {
			kind += ", "
		}
		all = append(all, fmt.Sprintf("{name: %s, %spoints: %d}", name, kind, 5+m.IntN(60)))
	}
	return all
}

// assurances makes assurances of each kind of demand.
func (m maker) assurances(add func(section, format string, args ...any)) {
	for i := range 4 {
		var proves []string
		for range 1 + m.IntN(2) {
			which := "any_of: " + m.some(methods)
			if m.odds(4) {
				which = "traits: [phishing_resistant]"
			}
			if m.odds(3) {
				which += ", fallback: " + m.some(methods)
			}
			if m.odds(3) {
				which += ", remember: 30d"
			}
			proves = append(proves, fmt.Sprintf("{%s, within: %s}", which, m.one(spans)))
		}
		extra := ""
		if m.odds(3) {
			extra = ", posture: " + m.one(postures)
		}
		add("assurances", "s%d: {prove: [%s]%s}", i, strings.Join(proves, ", "), extra)
	}
	add("assurances", "s4: {posture: %s}", m.one(postures))
	add(
		"assurances",
		"s5: %s",
		m.one(
			[]string{
				"{change_password: true}",
				"{prove: [{any_of: [password], within: now}], change_password: true}",
				"{enrol: " + m.some(methods) + "}",
			},
		),
	)
	add(
		"assurances",
		"s6: %s",
		m.one(
			[]string{
				"{external: yard}",
				"{consent: true}",
				"{accept: {document: rules, version: 2, every: 30d}}",
				"{accept: {document: rules, version: 1}}",
			},
		),
	)
}

// directory makes accounts, groups, apps and devices.
func (m maker) directory(add func(section, format string, args ...any)) {
	for _, name := range accounts {
		kind := "person"
		if strings.HasPrefix(name, "robot") {
			kind = "service"
		} else if strings.HasPrefix(name, "key") {
			kind = "emergency"
		}
		extra := m.one([]string{"", "", ", attributes: {team: red}", ", attributes: {team: blue, floor: 3}", ", attributes: {team: null}"})
		extra += m.one([]string{"", ", joined: 2026-03-01", ", joined: 2024-01-01", ", joined: 2026-04-20"})
		extra += m.one(
			[]string{
				"",
				"",
				", account_risk: {level: medium, because: leaked-password, since: 2026-03-20T10:00:00Z}",
				", account_risk: {level: high}",
			},
		)
		extra += m.one([]string{"", "", ", password_changed_at: 2026-03-28T10:00:00Z", ", password_changed_at: 2026-03-10T10:00:00Z",
			", password_changed_at: 2026-04-20T10:00:00Z"})
		extra += m.one(
			[]string{"", "", ", asked_at: 2026-03-25T10:00:00Z", ", asked_at: 2026-03-29T10:00:30Z", ", asked_at: 2026-04-15T10:00:00Z"},
		)
		if m.odds(12) {
			extra += ", disabled: true"
		}
		enrolled := m.some(methods)
		if m.odds(6) {
			enrolled = "[]"
		}
		add("accounts", "{name: %q, kind: %s, groups: %s, methods: %s%s}", name, kind, m.some(groups), enrolled, extra)
	}
	for i, name := range groups {
		extra := ""
		if i+1 < len(groups) && m.odds(2) {
			extra = fmt.Sprintf(", includes: [%s]", m.one(groups[i+1:]))
		}
		if m.odds(3) {
			extra += ", members: " + m.some(accounts)
		}
		if m.odds(3) {
			extra += ", where: " + m.one(
				[]string{
					"{attributes: {team: [red, green]}}",
					"{not: {attributes: {floor: 3}}}",
					"{kinds: [service], enrolled: [certificate]}",
					"{share: 30}", "{account_risk_at_least: medium}",
				},
			)
		}
		add("groups", "{name: %s%s}", name, extra)
	}
	for _, name := range apps {
		extra := m.one([]string{"", "", ", public: true", ", open_to: " + m.some(groups)})
		extra += m.one([]string{"", "", ", limits: {lasts: 6h}", ", limits: {shared: false}"})
		hosts := name + ".one.example" + m.one(overlapping[name])
		add("apps", "{name: %s, tags: %s, known_as: [alias-of-%s], hosts: [%s]%s}", name, m.some(tagNames), name, hosts, extra)
	}
	add(
		"devices",
		"{name: v0, platform: windows, managed: true, owner: %q, tags: [d0], facts: {firewall: true, os_version: %q, patch_age_days: 12}, "+
			"reported_at: 2026-03-29T08:00:00Z}",
		accounts[0],
		"10.2.1",
	)
	add(
		"devices",
		"{name: v1, shared: true%s, facts: {firewall: %s, channel: beta}%s}",
		m.one([]string{"", ", platform: ios"}),
		m.one([]string{"true", "false"}),
		m.one([]string{"", ", reported_at: 2026-03-28T20:00:00Z", ", reported_at: 2026-04-02T20:00:00Z"}),
	)
}

// Supplied makes what a program supplies of some accounts of the small books, and of one that they do not list.
// Each fact may be left out, methods often.
func Supplied(chance Chance) []directory.Account {
	m := maker{chance}
	var list []directory.Account
	for _, name := range append(slices.Clone(accounts), "nobody@one.example") {
		if m.odds(3) {
			continue
		}
		a := directory.Account{Name: name, Disabled: m.odds(15)}
		if !m.odds(3) {
			a.Groups = groups[:m.IntN(3)]
		}
		if m.odds(2) {
			from := m.IntN(len(methods))
			a.Methods = methods[from : from+m.IntN(len(methods)-from)]
		}
		if m.odds(2) {
			a.Attributes = map[string]attempt.Scalar{"team": attempt.TextScalar(m.one([]string{"red", "blue"}))}
		}
		if m.odds(3) {
			a.Joined = &directory.Date{Year: 2026, Month: time.March, Day: 1 + m.IntN(31)}
		}
		if m.odds(3) {
			since := time.Date(2026, time.March, 20, 10, 0, 0, 0, time.UTC)
			a.AccountRisk = &directory.AccountRisk{Level: directory.Level(m.IntN(4)), Because: m.one([]string{"", directory.LeakedPassword}),
				Since: &since}
		}
		if m.odds(3) {
			changed := time.Date(2026, time.March, 10+m.IntN(22), 10, 0, 0, 0, time.UTC)
			a.PasswordChangedAt = &changed
		}
		list = append(list, a)
	}
	return list
}

// Policy makes policy number i of a small book of n: it may replace those with
// higher numbers, so that no circle comes about.
func Policy(chance Chance, i, n int) Definition {
	m := maker{chance}
	extra := ""
	if i+1 < n && m.odds(3) {
		extra = fmt.Sprintf(", replaces: [q%d]", i+1+m.IntN(n-i-1))
	}
	if m.odds(8) {
		extra += ", actions: " + m.some(attempt.Actions())
	}
	if m.odds(8) {
		extra += ", from: " + m.one(days)
	} else if m.odds(8) {
		extra += ", until: " + m.one(days)
	}
	var rules []string
	for k := range 1 + m.IntN(3) {
		rule := fmt.Sprintf(
			"name: u%d, then: %s",
			k,
			m.one([]string{"grant", "block", "{require: [s0]}", "{require: [s1, s2]}", "{require: [s3]}",
				"{require: [{one_of: [s0, s4]}]}", "{require: [{one_of: [s1, s2, s5]}, s6]}", "{require: [s4, s1]}", "{require: [s5]}",
				"{require: [s6, s3]}"}),
		)
		if !m.odds(4) {
			rule += ", when: " + m.condition("rule", 2)
		}
		if m.odds(2) {
			rule += fmt.Sprintf(", say: Rule %d of policy %d.", k, i)
		}
		if m.odds(4) {
			rule += ", limits: " + m.one([]string{"{lasts: 4h}", "{idle: 15m, lasts: 10h}", "{shared: false}", "{lasts: 30d}"})
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
	stage := m.one([]string{"live", "live", "live", "live", "shadow", "draft"})
	if stage == "shadow" && m.odds(2) {
		extra += ", live_for: " + m.condition("account", 1)
	}
	return Definition{"policies", fmt.Sprintf("{name: q%d, stage: %s, who: %s, apps: %s%s, rules: [%s]}",
		i, stage, who, where, extra, strings.Join(rules, ", "))}
}

// condition makes a condition on a subject, nested no deeper than so.
func (m maker) condition(about string, deep int) string {
	return m.combine(deep, func() string { return m.test(about) })
}

// combine makes a condition of tests, nested no deeper than so.
func (m maker) combine(deep int, test func() string) string {
	if deep > 0 && m.odds(2) {
		inner := func() string { return m.combine(deep-1, test) }
		switch m.IntN(4) {
		case 0:
			return fmt.Sprintf("{all: [%s, %s]}", inner(), inner())
		case 1:
			return fmt.Sprintf("{any: [%s, %s]}", inner(), inner())
		case 2:
			return fmt.Sprintf("{not: %s}", inner())
		}
		beside := strings.TrimSuffix(test(), "}")
		return fmt.Sprintf("%s, except: %s}", beside, inner())
	}
	return test()
}

func (m maker) test(about string) string {
	tests := m.tests(about)
	return "{" + tests[m.IntN(len(tests))]() + "}"
}

// tests returns makers of one test on each key that a place allows.
func (m maker) tests(about string) []func() string {
	list := func(key string, names []string) func() string {
		return func() string { return key + ": " + m.some(names) }
	}
	one := func(key string, values ...string) func() string {
		return func() string { return key + ": " + m.one(values) }
	}
	account := []func() string{
		one("anyone", "true"), list("accounts", accounts), list("groups", groups), list("groups", groups),
		list("domains", []string{"one.example", "two.example"}), list("kinds", []string{"person", "service", "emergency"}),
		one("attributes", "{team: [red, green]}", "{floor: 3}", "{team: blue, floor: [3, 4]}", "{hat: none}"),
		list(
			"enrolled",
			methods,
		), one("joined_within", "30d", "28d"), one("account_risk_at_least", "low", "medium", "high"), one("share", "10", "50", "99"),
	}
	app := []func() string{one("every", "true"), list("names", apps), list("tags", tagNames)}
	attempts := []func() string{
		list(
			"networks",
			append(slices.Clone(networks), "198.51.100.0/24"),
		), one("our_network", "true", "false"), list("address_kinds", []string{"ipv4", "ipv6"}), list("countries", append(slices.Clone(countries),
			regions...)),
		list(
			"during",
			windows,
		), list("platforms", platforms), list("device", []string{"known", "managed", "shared", "own"}), list("device_tags", deviceTags),
		list("posture", postures), list("through", attempt.Throughs()), list("actions", attempt.Actions()), list("proved", assurances),
	}
	risks := []func() string{
		list("signals", signals),
		one("risk_at_least", "low", "medium", "high"),
		one("score_at_least", "1", "20", "50", "100"),
	}
	switch about {
	case "account":
		return account
	case "app":
		return app
	case "attempt":
		return slices.Concat(app, attempts, risks)
	case "signal":
		return slices.Concat(account, app, attempts)
	}
	return slices.Concat(account, app, attempts, attempts, risks)
}

// overlapping are the hosts that an app may have beside its own; some lie in another's.
var overlapping = map[string][]string{
	"p0": {"", "", `, "*.one.example"`},
	"p1": {"", "", `, "p0.one.example/sub/*"`},
	"p2": {"", "", `, "p0.one.example/sub/deep"`, `, "*.two.example"`},
}

// Route returns what an app may be found by: an identifier, or an address that the hosts of
// several apps may fit.
func Route(chance Chance) string {
	m := maker{chance}
	return m.one([]string{
		"alias-of-p0", "alias-of-p1", "p0.ONE.example.:443/x", "p0.one.example/sub/x", "p0.one.example/sub/deep", "p0.one.example/sub",
		"p1.one.example", "p2.one.example/sub/x", "other.one.example/x", "x.two.example", "two.example",
	})
}

// Attempt makes an attempt on a small book; each fact may be missing, or known
// not to be.
func Attempt(chance Chance) *attempt.Attempt {
	m := maker{chance}
	at := time.Date(2026, time.March, 27, 20, 30, 0, 0, time.UTC).Add(time.Duration(m.IntN(5*24*60)) * time.Minute)
	a := &attempt.Attempt{At: at, Account: m.one(accounts), App: m.one(apps)}
	switch m.IntN(20) {
	case 0:
		a.Account = "nobody@one.example"
	case 1:
		a.App = "nothing"
	case 2:
		a.App = "alias-of-" + a.App
	case 3:
		a.App = Route(chance)
	}
	if m.odds(3) {
		a.Action = attempt.Action(m.IntN(len(attempt.Actions())))
	}
	drawFacts(m, a, 3)
	// Now and then something is dated after the attempt, by less than the skew of
	// clocks or by more.
	ago := func(span time.Duration) time.Time {
		if m.odds(12) {
			return at.Add(time.Duration(m.IntN(4)) * 40 * time.Second)
		}
		return at.Add(-time.Duration(m.IntN(int(span/time.Minute))) * time.Minute)
	}
	provable := append(slices.Clone(methods), "desk-pass", "smoke-signal", "no-such-method")
	for range m.IntN(3) {
		p := attempt.Proof{Method: m.one(provable), At: at, Fallback: m.odds(6)}
		if m.odds(4) {
			p.At = ago(30 * time.Minute)
		}
		a.Proofs = append(a.Proofs, p)
	}
	for range m.IntN(4) {
		p := attempt.Proof{
			Method:   m.one(provable),
			At:       ago(24 * time.Hour),
			App:      m.one(append([]string{"", "alias-of-p0"}, apps...)),
			Fallback: m.odds(4),
		}
		if m.odds(8) {
			p.At = time.Time{}
		}
		a.Session.Proofs = append(a.Session.Proofs, p)
	}
	switch m.IntN(6) {
	case 0, 1:
	case 2:
		a.Session.Started = ago(20 * time.Minute)
	default:
		a.Session.Started = ago(48 * time.Hour)
	}
	for range m.IntN(3) {
		a.Failed = append(a.Failed, attempt.Failure{Method: m.one(methods), Reason: attempt.FailureReason(m.IntN(3))})
	}
	if m.odds(2) {
		a.External = map[string]attempt.CheckResult{"yard": attempt.CheckResult(m.IntN(3))}
	}
	if m.odds(2) {
		a.Accepted = []attempt.Acceptance{{Document: "rules", Version: 1 + m.IntN(3), At: ago(60 * 24 * time.Hour)}}
	}
	if m.odds(3) {
		a.Signals = []string{m.one(signals)}
	}
	return a
}

// drawClient draws an outside program that asks for one or two of its scopes.
func drawClient(m maker) attempt.ClientAsk {
	c := attempt.ClientAsk{ID: "program"}
	for _, s := range []string{"read", "write"} {
		if m.odds(2) {
			c.Scopes = append(c.Scopes, s)
		}
		if m.odds(2) {
			c.Consented = append(c.Consented, s)
		}
	}
	return c
}

// Complete returns a copy of the attempt in which no fact is missing.
func Complete(chance Chance, a *attempt.Attempt) *attempt.Attempt {
	complete := *a
	drawFacts(maker{chance}, &complete, 0)
	return &complete
}

var places = []attempt.Location{{Lat: 59.9, Lon: 10.7}, {Lat: 58.1, Lon: 7.9}, {Lat: -22.9, Lon: -43.2}}

// drawFacts draws the facts that are missing. With odds, one of so many is left
// missing.
func drawFacts(m maker, a *attempt.Attempt, odds int) {
	a.IP = drawFact(m, odds, a.IP, func() netip.Addr { return netip.MustParseAddr(m.one(addresses)) })
	code := func() attempt.CountryCode {
		if odds > 0 && m.odds(10) {
			return "ZZ" // a code that is not assigned
		}
		return attempt.CountryCode(m.one(countries))
	}
	place := func() attempt.Location { return places[m.IntN(len(places))] }
	a.Country = drawFact(m, odds, a.Country, code)
	a.Location = drawFact(m, odds, a.Location, place)
	a.Through = drawFact(m, odds, a.Through, func() attempt.Through { return attempt.Through(m.IntN(len(attempt.Throughs()))) })
	a.Client = drawFact(m, odds, a.Client, func() attempt.ClientAsk { return drawClient(m) })
	previous, _ := a.Previous.Get()
	if previous.At.IsZero() && !(odds > 0 && m.odds(8)) {
		previous.At = a.At.Add(-time.Duration(m.IntN(60*24*60)-10) * time.Minute)
	}
	a.Previous = drawFact(m, odds, a.Previous, func() attempt.Previous { return previous })
	if p := a.Previous.Ref(); p != nil {
		within := *p
		within.Country = drawFact(m, odds, within.Country, code)
		within.Location = drawFact(m, odds, within.Location, place)
		a.Previous = attempt.Known(within)
	}
	a.Failures = drawFact(m, odds, a.Failures, func() []time.Time {
		var times []time.Time
		for range m.IntN(4) {
			times = append(times, a.At.Add(time.Duration(3-m.IntN(20))*time.Minute))
		}
		return times
	})
	said, _ := a.Device.Get()
	a.Device = drawFact(m, odds, a.Device, func() attempt.Device { return said })
	if d := a.Device.Ref(); d != nil {
		a.Device = attempt.Known(drawDevice(m, odds, a, *d))
	}
}

// reports are the facts that devices report, with values for each.
var reports = []struct {
	name   string
	values []attempt.Scalar
}{
	{"firewall", []attempt.Scalar{attempt.BoolScalar(true), attempt.BoolScalar(false), {}}},
	{"patch_age_days", []attempt.Scalar{attempt.NumberScalar(12), attempt.NumberScalar(31), attempt.TextScalar("old"), {}}},
	{
		"os_version",
		[]attempt.Scalar{
			attempt.TextScalar("10.2.1"),
			attempt.TextScalar("10.10"),
			attempt.TextScalar("9"),
			attempt.NumberScalar(17),
			attempt.TextScalar("x"),
		},
	},
	{"channel", []attempt.Scalar{attempt.TextScalar("stable"), attempt.TextScalar("dev"), attempt.NumberScalar(3)}},
}

func drawDevice(m maker, odds int, a *attempt.Attempt, d attempt.Device) attempt.Device {
	d.ID = drawFact(m, odds, d.ID, func() string { return m.one([]string{"v0", "v1", "v2", "v3"}) })
	truth := func() bool { return m.odds(2) }
	// What the directory knows is not missing, so that it is not to be drawn.
	id, _ := d.ID.Get()
	registered := id == "v0" || id == "v1"
	if !registered || m.odds(3) && odds > 0 {
		d.Platform = drawFact(m, odds, d.Platform, func() string { return m.one(platforms) })
		d.Managed = drawFact(m, odds, d.Managed, truth)
		d.Known = drawFact(m, odds, d.Known, truth)
		d.Shared = drawFact(m, odds, d.Shared, truth)
		d.Owner = drawFact(m, odds, d.Owner, func() string { return m.one(accounts) })
		d.ReportedAt = drawFact(m, odds, d.ReportedAt, func() time.Time {
			hours := m.IntN(48)
			if odds > 0 {
				hours-- // which may be after the attempt; a report that is missing only in the attempt was before it
			}
			return a.At.Add(-time.Duration(hours) * time.Hour)
		})
		if d.Tags == nil && !(odds > 0 && m.odds(odds)) {
			d.Tags = append([]string{}, deviceTags[:m.IntN(3)]...)
		}
		facts := map[string]attempt.Scalar{}
		for _, fact := range reports {
			if value, given := d.Facts[fact.name]; given {
				facts[fact.name] = value
			} else if odds == 0 || !m.odds(odds) {
				facts[fact.name] = fact.values[m.IntN(len(fact.values))]
			}
		}
		d.Facts = facts
	}
	if odds > 0 && m.odds(3) {
		d.Remembered = []attempt.Remembered{
			{
				Account: m.one([]string{a.Account, a.Account, accounts[0]}),
				Method:  m.one(methods),
				At:      a.At.Add(-time.Duration(m.IntN(60*24)-1) * time.Hour),
			},
		}
	}
	return d
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
