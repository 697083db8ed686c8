package synth

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
)

// Size is how much a large book holds.
type Size struct {
	Accounts, Policies, Apps, Networks, RangesEach int
	// Speaking is about how many of the policies speak for each attempt.
	Speaking int
}

// largeGroups is how many groups a large book has.
const largeGroups = 300

// Large makes a book for benchmarks. So many policies as are to speak are for
// everyone and every app; each other one is for two of the groups and a few apps.
func Large(chance Chance, size Size) Book {
	m := maker{chance}
	var b Book
	add := func(section, format string, args ...any) {
		b.Definitions = append(b.Definitions, Definition{section, fmt.Sprintf(format, args...)})
	}
	add("settings", "zone: Europe/Oslo")
	for i := range size.Networks {
		var ranges []string
		for k := range size.RangesEach {
			block := i*size.RangesEach + k
			if k%5 == 4 {
				ranges = append(ranges, fmt.Sprintf(`"2001:db8:%x:%x::/64"`, block>>8, block&255))
			} else {
				ranges = append(ranges, fmt.Sprintf("10.%d.%d.%d/29", block>>13, block>>5&255, block&31*8))
			}
		}
		extra := m.one([]string{"", ", ours: true, country: NO", ", country: SE"})
		add("networks", "net-%d: {ranges: [%s]%s}", i, strings.Join(ranges, ", "), extra)
	}
	add("regions", "home: [NO, SE, DK]")
	add("windows", `day: {from: "05:00", to: "23:00"}`)
	add("postures", "fit: {checks: [{fact: firewall, is: true}]}")
	add("risk", "signals: [{name: too-fast, detect: travel, faster_than: 900, points: 80}, {name: new, detect: new-device, points: 20}]")
	add("assurances", "once: {prove: [{any_of: [password], within: session}]}")
	add("assurances", "twice: {prove: [{any_of: [password], within: session}, {any_of: [push, otp-app], within: 12h}]}")
	add("assurances", "device: {posture: fit}")
	for i := range largeGroups {
		add("groups", "{name: group-%d}", i)
	}
	for i := range size.Apps {
		add("apps", "{name: app-%d, tags: [tag-%d]}", i, i%20)
	}
	for i := range size.Accounts {
		add(
			"accounts",
			"{name: person-%d@kestrelsound.example, groups: [group-%d, group-%d], joined: 2024-03-01, methods: [password, push]}",
			i,
			m.IntN(largeGroups),
			m.IntN(largeGroups),
		)
	}
	for i := range size.Policies {
		who, apps := "anyone", "every"
		if i >= size.Speaking {
			who = fmt.Sprintf("{groups: [group-%d, group-%d]}", m.IntN(largeGroups), m.IntN(largeGroups))
			apps = fmt.Sprintf("{names: [app-%d, app-%d], tags: [tag-%d]}", m.IntN(size.Apps), m.IntN(size.Apps), m.IntN(20))
		}
		when := m.one(
			[]string{
				"{our_network: true}",
				"{countries: [home]}",
				"{during: [day]}",
				"{device: [managed]}",
				"{risk_at_least: medium}",
				"{networks: [net-0, net-1]}",
			},
		)
		add(
			"policies",
			"{name: policy-%d, stage: live, who: %s, apps: %s, rules: [{name: first, when: %s, then: {require: [once]}}, {name: rest, then: "+
				"{require: [%s]}}]}",
			i,
			who,
			apps,
			when,
			m.one([]string{"once", "twice"}),
		)
	}
	return b
}

// LargeHistory writes so many attempts on a large book, one a line, in order of time
// over a month.
func LargeHistory(chance Chance, size Size, attempts int, to io.Writer) error {
	const month = 30 * 24 * time.Hour
	first := time.Date(2026, time.October, 24, 0, 0, 0, 0, time.UTC)
	out := bufio.NewWriterSize(to, 1<<20)
	lines := json.NewEncoder(out)
	for i := range attempts {
		at := first.Add(time.Duration(float64(month) * float64(i) / float64(attempts))).Truncate(time.Second)
		if err := lines.Encode(largeAttempt(chance, size, at)); err != nil {
			return err
		}
	}
	return out.Flush()
}

// LargeAttempt makes an attempt on a large book.
func LargeAttempt(chance Chance, size Size) *attempt.Attempt {
	return largeAttempt(chance, size, time.Date(2026, time.November, 23, chance.IntN(24), chance.IntN(60), 0, 0, time.UTC))
}

func largeAttempt(chance Chance, size Size, at time.Time) *attempt.Attempt {
	m := maker{chance}
	a := &attempt.Attempt{
		At: at, Account: fmt.Sprintf("person-%d@kestrelsound.example", m.IntN(size.Accounts)), App: fmt.Sprintf("app-%d", m.IntN(size.Apps)),
		IP:      attempt.Known(netip.AddrFrom4([4]byte{10, byte(m.IntN(2)), byte(m.IntN(256)), byte(m.IntN(256))})),
		Country: attempt.Known(attempt.CountryCode(m.one([]string{"NO", "SE", "BR"}))), Through: attempt.Known(attempt.Browser),
		Device:   attempt.Known(attempt.Device{ID: attempt.Known("laptop"), Managed: attempt.Known(m.odds(2)), Known: attempt.Known(true)}),
		Previous: attempt.None[attempt.Previous](), Failures: attempt.None[[]time.Time](),
		Proofs: []attempt.Proof{{Method: "password", At: at}},
	}
	if m.odds(2) {
		a.Session.Proofs = []attempt.Proof{{Method: "push", At: at.Add(-time.Hour)}}
	}
	return a
}
