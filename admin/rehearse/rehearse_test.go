package rehearse_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/synth"
	"github.com/briskwarden/briskwarden/internal/typed"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// till is an attempt on the demo's card till as an administrator types it.
func till(t *testing.T, change func(*typed.Attempt)) (*engine.Judge, *attempt.Attempt) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	q := typed.Attempt{
		Account: "ingrid@kestrelsound.example",
		App:     "card-till",
		At:      "2026-11-23 14:10",
		IP:      "203.0.113.20",
		Device:  "laptop-ingrid",
		Proved:  []string{"password"},
	}
	change(&q)
	a, _, err := q.Make(judge, monday)
	require.NoError(t, err)
	return judge, a
}

func TestVary(t *testing.T) {
	judge, a := till(t, func(q *typed.Attempt) { q.IP = "198.51.100.200" })
	before := *a
	g, err := rehearse.Vary(judge, a, []string{"country", "hour"})
	require.NoError(t, err)
	require.Equal(t, before, *a, "the attempt itself is left alone")
	require.Len(t, g.Verdicts, len(g.Axes[0].Values)*24)
	for i, country := range g.Axes[0].Values {
		for hour := range 24 {
			want := decide.Block
			if slices.Contains([]string{"NO", "SE", "DK"}, country) && hour >= 5 && hour < 23 {
				want = decide.StepUp
			}
			require.Equal(t, want, g.Verdicts[i*24+hour], "%s at %d", country, hour)
		}
	}

	one := func(name string, change func(*typed.Attempt)) map[string]decide.Verdict {
		judge, a := till(t, change)
		g, err := rehearse.Vary(judge, a, []string{name})
		require.NoError(t, err)
		found := map[string]decide.Verdict{}
		for i, v := range g.Axes[0].Values {
			found[v] = g.Verdicts[i]
		}
		return found
	}
	same := func(*typed.Attempt) {}
	require.Equal(
		t,
		map[string]decide.Verdict{"none": decide.Grant, "low": decide.Grant, "medium": decide.Block, "high": decide.Block},
		one("risk", same),
	)
	networks := one("network", same)
	require.Equal(t, []decide.Verdict{decide.Grant, decide.Block}, []decide.Verdict{networks["pier-office"], networks["relay-exits"]})
	devices := one("device", same)
	require.Equal(
		t,
		[]decide.Verdict{decide.Grant, decide.Block, decide.Block},
		[]decide.Verdict{devices["laptop-ingrid"], devices["laptop-einar"], devices["no device"]},
	)
	require.Equal(
		t,
		map[string]decide.Verdict{"nothing": decide.StepUp, "password": decide.Grant, "push": decide.StepUp, "password+push": decide.Grant},
		one("proved", same),
	)
	require.Equal(t, decide.Block, one("through", func(q *typed.Attempt) { q.Proved = nil })["unpromptable"])
	require.Len(t, one("day", same), 7)

	// The attempt's own circumstances are on every axis.
	for name, c := range map[string]struct {
		axis   string
		change func(*typed.Attempt)
	}{
		"a device with a fault": {"device", func(q *typed.Attempt) { q.Seen.Facts = []string{"firewall=false"} }},
		"an address of nobody":  {"network", func(q *typed.Attempt) { q.IP = "198.51.100.200" }},
		"a country":             {"country", func(q *typed.Attempt) { q.IP, q.Country = "198.51.100.200", "BR" }},
		"an older proof":        {"proved", func(q *typed.Attempt) { q.Proved = []string{"password:11h"} }},
		"a refused proof":       {"risk", func(q *typed.Attempt) { q.Failed = []string{"otp-app:refused"} }},
		"nothing special":       {"hour", same},
	} {
		t.Run(name, func(t *testing.T) {
			judge, a := till(t, c.change)
			g, err := rehearse.Vary(judge, a, []string{c.axis})
			require.NoError(t, err)
			require.Contains(t, g.Verdicts, judge.Verdict(context.Background(), a))
			require.Equal(t, c.axis != "hour", g.Axes[0].Values[0] == rehearse.AsGiven, g.Axes[0].Values)
		})
	}
	for name, signal := range map[string]string{
		"travel":     "{name: s, detect: travel, faster_than: 900, points: 90}",
		"country":    "{name: s, detect: country-change, points: 90}",
		"new device": "{name: s, detect: new-device, points: 90}",
		"reported":   "{name: s, points: 90}",
	} {
		t.Run("a level that comes of "+name, func(t *testing.T) {
			b, err := book.OpenFS(fstest.MapFS{"b.yaml": {Data: []byte("briskwarden: 1\naccounts: [{name: ann}]\napps: [{name: mail}]\n" +
				"risk: {signals: [" + signal + "]}\n")}})
			require.NoError(t, err)
			judge, err := b.Compile()
			require.NoError(t, err)
			g, err := rehearse.Vary(judge, &attempt.Attempt{At: monday, Account: "ann", App: "mail"}, []string{"risk"})
			require.NoError(t, err)
			require.Contains(t, g.Axes[0].Values, "high")
		})
	}
	require.Equal(t, decide.Grant, one("action", same)["sign-in"])

	for want, names := range map[string][]string{
		`"contry" is nothing to vary; did you mean "country"?`: {"contry"},
		"hour stands twice":                  {"hour", "hour"},
		"make more than 100000 combinations": {"hour", "day", "network", "country", "device", "through", "action"},
	} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			_, err := rehearse.Vary(judge, a, names)
			require.ErrorContains(t, err, want)
		})
	}
}

// TestVaryKeepsAges: moved to another hour, a proof is as old as it was.
func TestVaryKeepsAges(t *testing.T) {
	judge, a := till(t, func(q *typed.Attempt) {
		q.App, q.IP, q.Proved = "mail", "192.0.2.70", []string{"password", "push:11h"}
	})
	g, err := rehearse.Vary(judge, a, []string{"day", "hour"})
	require.NoError(t, err)
	require.Equal(t, slices.Repeat([]decide.Verdict{decide.Grant}, 7*24), g.Verdicts)
}

func TestUntilGranted(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*typed.Attempt)
		want   [][]string
	}{
		"a proof":  {func(q *typed.Attempt) { q.Proved = nil }, [][]string{{"prove password"}}},
		"a place":  {func(q *typed.Attempt) { q.IP, q.Country = "192.0.2.70", "BR" }, [][]string{{"come from pier-office (203.0.113.1)"}}},
		"a time":   {func(q *typed.Attempt) { q.At = "2026-11-23 03:00" }, [][]string{{"wait until Mon 2026-11-23 05:00"}}},
		"a device": {func(q *typed.Attempt) { q.Device = "" }, [][]string{{"sign on from laptop-ingrid"}}},
		"a report": {func(q *typed.Attempt) { q.At = "2026-11-25 14:10" }, [][]string{{"let laptop-ingrid report"}}},
		"two proofs": {func(q *typed.Attempt) { q.App, q.IP, q.Proved = "mail", "192.0.2.70", nil }, [][]string{{"prove password", "prove push"},
			{"come from pier-office (203.0.113.1)", "prove password"}}},
		"a document": {func(q *typed.Attempt) {
			q.Account, q.App, q.Proved = "torstein@kestrelsound.example", "berth-planner", []string{"password", "crew-card"}
		}, nil},
		"three":    {func(q *typed.Attempt) { q.IP, q.Device, q.Proved, q.Signals = "192.0.2.150", "", nil, nil }, nil},
		"a signal": {func(q *typed.Attempt) { q.Signals = []string{"leaked-list"} }, [][]string{{"the signal leaked-list is cleared"}}},
		"a browser": {func(q *typed.Attempt) {
			q.App, q.Through, q.IP, q.Proved = "mail", "unpromptable", "203.0.113.20", nil
		}, nil},
		"nothing": {func(q *typed.Attempt) {}, [][]string{}},
		"an app of others": {func(q *typed.Attempt) {
			q.Account, q.App, q.At, q.IP, q.Device = "oskar@kestrelsound.example", "board-papers", "", "192.0.2.70", ""
		}, [][]string{}},
		"a repair": {func(q *typed.Attempt) { q.Device, q.Seen.Facts = "laptop-ingrid", []string{"firewall=false"} },
			[][]string{{"put laptop-ingrid right (firewall) and let it report"}}},
		"a changed password": {func(q *typed.Attempt) {
			q.Account, q.App, q.IP, q.Device, q.Proved = "nina@kestrelsound.example", "mail", "203.0.113.20", "", []string{"password", "push"}
		}, [][]string{{"change the password"}}},
		"an enrolment": {func(q *typed.Attempt) {
			q.Account, q.App, q.IP, q.Device, q.At = "pelle@kestrelsound.example", "mail", "192.0.2.70", "", "2027-03-01 10:00"
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			judge, a := till(t, c.change)
			w, err := rehearse.UntilGranted(judge, a)
			require.NoError(t, err)
			require.Equal(t, name == "nothing", w.Granted, name)
			if c.want != nil {
				require.Subset(t, w.Ways, c.want, name)
				require.Equal(t, len(c.want) == 0, len(w.Ways) == 0, name)
			} else {
				require.NotEmpty(t, w.Ways, name)
			}
			require.NotEmpty(t, w.String())
		})
	}
}

// TestGridsAreDecisions: on generated books each cell is the verdict on the
// attempt that it stands for, and no smaller set of changes than those told
// would do.
func TestGridsAreDecisions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 6)
		a := synth.Attempt(chance)
		g, err := rehearse.Vary(judge, a, []string{"action", "through"})
		require.NoError(t, err)
		own := len(g.Axes[1].Values) - len(attempt.Throughs()) // 1 where the attempt does not say
		for i := range attempt.Actions() {
			for k := range attempt.Throughs() {
				changed := *a
				changed.Action, changed.Through = attempt.Action(i), attempt.Known(attempt.Through(k))
				require.Equal(t, judge.Verdict(context.Background(), &changed), g.Verdicts[i*len(g.Axes[1].Values)+own+k])
			}
		}
		w, err := rehearse.UntilGranted(judge, a)
		require.NoError(t, err)
		require.Equal(t, judge.Verdict(context.Background(), a) == decide.Grant, w.Granted)
		for _, way := range w.Ways {
			require.LessOrEqual(t, len(way), w.Tried)
		}
	})
}
