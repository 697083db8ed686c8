package inspect_test

import (
	"bytes"
	"fmt"
	"io"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/book"
)

const usedBook = `briskwarden: 1
settings: {zone: UTC, otherwise: block}
networks:
  pier: {ranges: [203.0.113.0/24], ours: true}
  yard: {ranges: [198.51.100.0/24]}
assurances:
  once: {prove: [{any_of: [password], within: session}]}
  twice: {prove: [{any_of: [password], within: session}, {any_of: [push], within: now}]}
groups: [{name: deck, members: [liv]}, {name: office, members: [oskar]}]
accounts: [{name: liv, methods: [password, push]}, {name: oskar, methods: [password]}, {name: key, kind: emergency, methods: [password]}]
apps: [{name: mail, open_to: [deck, office]}, {name: till}]
policies:
  - {name: base, stage: live, who: {kinds: [person]}, apps: every, rules: [{name: here, when: {networks: [pier]}, then: {require: [once]}},
     {name: yard, when: {networks: [yard]}, then: {require: [twice]}}, {name: elsewhere, then: block}]}
  - {name: harbour-key, stage: live, who: {kinds: [emergency]}, apps: every, rules: [{name: key, then: {require: [once]}}]}
  - {name: next, stage: shadow, who: {kinds: [person]}, apps: {names: [till]}, rules: [{name: all, then: {require: [once]}}]}
watch: {recipients: {duty: {mail: [duty@x.example]}}, alerts: [{name: blocked, when: {verdicts: [block]}, to: [duty]}]}
exemptions:
  - {name: lame-hand, who: {accounts: [liv]}, from: [twice], instead: [once], because: So., until: 2027-03-31}
`

// used is a history of a month: each line an account, an app, an address and a method, that many times a
// day.
func used(lines ...string) []replay.Source {
	var text bytes.Buffer
	for day := range 30 {
		for i, line := range lines {
			var account, app, ip, method string
			times := 0
			fmt.Sscan(line, &account, &app, &ip, &method, &times)
			for n := range times {
				at := time.Date(2026, time.October, 1+day, 8, n, i, 0, time.UTC).Format(time.RFC3339)
				proofs := fmt.Sprintf(`[{"method":"password"},{"method":%q}]`, method)
				if method == "none" {
					proofs = "[]"
				}
				fmt.Fprintf(&text, `{"at":%q,"account":%q,"app":%q,"ip":%q,"proofs":%s}`+"\n", at, account, app, ip, proofs)
			}
		}
	}
	return []replay.Source{
		{Name: "history.jsonl", Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text.Bytes())), nil }},
	}
}

func TestWhatOnlyUseShows(t *testing.T) {
	b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(usedBook)}})
	require.NoError(t, err)
	const pier, yard, rio = "203.0.113.9", "198.51.100.9", "192.0.2.9"
	liv, oskar := "liv mail "+pier+" push 3", "oskar mail "+pier+" password 3"
	far, atYard, tills := "oskar till "+rio+" password 1", "liv till "+yard+" password 1", "oskar till "+pier+" password 1"
	sound := []string{liv, oskar, far, atYard, tills}
	without := func(line string) []string {
		var rest []string
		for _, l := range sound {
			if l != line {
				rest = append(rest, l)
			}
		}
		return rest
	}
	for name, c := range map[string]struct {
		history []string
		finds   []string
	}{
		"a sound one":          {sound, []string{"shadow-is-ready:next"}},
		"nobody at the yard":   {without(atYard), []string{"unused-exemption:lame-hand", "unused-network:yard", "unused-rule:base/yard", "shadow-is-ready:next"}},
		"nobody far away":      {without(far), []string{"unused-rule:base/elsewhere", "shadow-is-ready:next"}},
		"no member of office":  {[]string{liv, liv, liv, "liv till " + rio + " password 1", atYard}, []string{"unopened-app:mail/office", "shadow-is-ready:next"}},
		"nobody proves a push": {[]string{"liv mail " + pier + " password 3", oskar, far, atYard, tills}, []string{"unused-method:push", "shadow-is-ready:next"}},
		"somebody is asked":    {append([]string{"oskar mail " + pier + " none 9"}, sound...), []string{"asked-too-often:oskar", "shadow-is-ready:next"}},
		"an alert rings often": {append([]string{"oskar mail " + rio + " password 4"}, sound...), []string{"alert-rings-too-often:blocked",
			"shadow-is-ready:next"}},
		"nobody at the till": {[]string{liv, oskar, "oskar mail " + rio + " password 1", "liv mail " + yard + " password 1"},
			[]string{"unused-rule:next/all"}},
	} {
		t.Run(name, func(t *testing.T) {
			use, err := inspect.UseOf(t.Context(), b, used(c.history...), replay.Options{})
			require.NoError(t, err)
			require.True(t, use.IsEnough(), use.Basis)
			day := time.Date(2026, time.November, 1, 0, 0, 0, 0, time.UTC)
			found, err := inspect.InspectWith(t.Context(), b, day, inspect.Options{Checks: use.Checks()})
			require.NoError(t, err)
			var names []string
			for _, f := range found.Findings {
				names = append(names, f.Name)
			}
			require.ElementsMatch(t, c.finds, names)
		})
	}
	t.Run("a shadow that would stop somebody is not ready", func(t *testing.T) {
		strict, err := book.OpenFS(
			fstest.MapFS{"book.yaml": {Data: bytes.Replace([]byte(usedBook), []byte("{name: all, then: {require: [once]}}"),
				[]byte("{name: all, then: block}"), 1)}},
		)
		require.NoError(t, err)
		use, err := inspect.UseOf(t.Context(), strict, used(sound...), replay.Options{})
		require.NoError(t, err)
		found, err := inspect.InspectWith(
			t.Context(),
			strict,
			time.Date(2026, time.November, 1, 0, 0, 0, 0, time.UTC),
			inspect.Options{Checks: use.Checks()},
		)
		require.NoError(t, err)
		require.Empty(t, found.Findings)
	})
	t.Run("a short history says nothing of what nobody did, and earns nothing", func(t *testing.T) {
		for _, history := range [][]string{{}, {"liv mail " + pier + " push 1"}} {
			use, err := inspect.UseOf(t.Context(), b, used(history...), replay.Options{})
			require.NoError(t, err)
			require.False(t, use.IsEnough())
			require.Len(t, use.Checks(), 2)
		}
	})
}
