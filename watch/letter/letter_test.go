package letter_test

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/watch"
	"github.com/briskwarden/briskwarden/watch/letter"
	"github.com/briskwarden/briskwarden/watch/lookout"
)

var noon = time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC)

func ring(alert, of string, count int) lookout.Ring {
	return lookout.Ring{Alert: alert, Of: of, Count: count, Accounts: 1, First: noon, Last: noon.Add(90 * time.Second),
		Latest: []lookout.Noted{
			{At: noon, Account: of, App: "till", IP: netip.MustParseAddr("192.0.2.1"), Verdict: "step_up", Reason: "base/all"},
		}}
}

func TestLettersAboutAlerts(t *testing.T) {
	scheme := &watch.Scheme{
		Alerts: []watch.Alert{{Name: "a", About: "It rang.", Say: "Call them.", By: watch.ByAccount}, {Name: "b", By: watch.ByAddress}},
	}
	o := letter.Options{Zone: time.UTC, Commands: []string{"--config", "door.yaml"}}
	write := func(p lookout.Post) *letter.Letter { p.To = "duty"; return letter.OfRings(&p, scheme, noon, o) }
	for name, c := range map[string]struct {
		post    lookout.Post
		subject string
		says    []string
	}{
		"one": {lookout.Post{Rings: []lookout.Ring{ring("a", "liv", 3)}}, "a: 3 decisions on liv within 1 minute",
			[]string{"It rang.", "To do: Call them.", "Mon 2026-11-23 12:00:00  liv", "step up", "briskwarden journal list --config door.yaml " +
				"--account liv --from 2026-11-23T12:00:00Z --to 2026-11-23T12:01:31Z"}},
		"several": {lookout.Post{Rings: []lookout.Ring{ring("a", "liv", 1), ring("a", "oskar", 1), ring("b", "", 2)}, More: 4, Bounded: true},
			"7 alerts: a (2) and b", []string{"sums up", "4 alerts more rang", "a: 1 decision on liv\n---", "from an address that is not known"}},
		"after the quiet hours": {lookout.Post{Rings: []lookout.Ring{ring("b", "192.0.2.1", 1)}, Quiet: true}, "b: 1 decision from 192.0.2.1",
			[]string{"This alert waited for the end of the quiet hours.", "--ip 192.0.2.1"}},
	} {
		t.Run(name, func(t *testing.T) {
			l := write(c.post)
			require.Equal(t, c.subject, l.Subject)
			for _, text := range c.says {
				require.Contains(t, l.Text, text)
			}
			require.Contains(t, l.HTML, "<h1>"+c.subject+"</h1>")
		})
	}
	t.Run("what others named cannot act", func(t *testing.T) {
		name := "x\r\nBcc: all@x.example\x1b[2J\u202e<script>alert(1)</script> $(touch pwned) " + strings.Repeat("long", 60)
		l := write(lookout.Post{Rings: []lookout.Ring{ring("a", name, 1)}})
		require.NotContains(t, l.Subject, "\n")
		require.LessOrEqual(t, len([]rune(l.Subject)), 120)
		for _, text := range []string{l.Subject, l.Text, l.HTML} {
			require.NotContains(t, text, "\x1b")
			require.NotContains(t, text, "\u202e")
		}
		require.NotContains(t, l.HTML, "<script")
		require.Contains(t, l.Text, `--account 'x`, "the command quotes it")
	})
	t.Run("a program reads the same", func(t *testing.T) {
		l := write(lookout.Post{Rings: []lookout.Ring{ring("a", "liv", 3)}})
		read := new(letter.Letter)
		require.NoError(t, json.Unmarshal(l.Hook(), read))
		require.Equal(t, l.Rings, read.Rings)
		require.Empty(t, read.HTML)
	})
}

func TestDigests(t *testing.T) {
	p := &lookout.Post{To: "duty", Digest: "monday", From: noon.AddDate(0, 0, -7), Until: noon}
	r := &report.Report{Happened: "It happened.", Wrong: "Nothing looks wrong.", Do: "Look below."}
	for name, c := range map[string]struct {
		change        func(*report.Report)
		subject, says string
	}{
		"nothing": {func(*report.Report) {}, "monday: nothing was decided",
			"Nothing was decided from Mon 16 November 12:00 to Mon 23 November 2026\n12:00."},
		"quiet": {func(r *report.Report) { r.Verdicts = replay.Counts{Grant: 3} }, "monday: 3 attempts, nothing looks wrong",
			"Nothing needs doing today."},
		"to do": {func(r *report.Report) { r.Verdicts.Grant, r.Next = 3, []report.Step{{Text: "Tidy up."}} },
			"monday: 3 attempts, nothing looks wrong", "Nothing is urgent"},
		"a trouble": {func(r *report.Report) {
			r.Verdicts.Block = 1
			r.Troubles = []report.Trouble{{Text: "It burns.", Do: "put it out.", Command: "/watch/decisions?x=1"}}
		}, "monday: 1 attempt, 1 thing to look at", "1. It burns. Put it out.\n\nWhat is behind it:\n  https://d.example/watch/decisions?x=1"},
	} {
		t.Run(name, func(t *testing.T) {
			made := *r
			c.change(&made)
			l := letter.OfDigest(p, &made, noon, letter.Options{Zone: time.UTC, Door: "https://d.example"})
			require.Equal(t, c.subject, l.Subject)
			require.Contains(t, l.Text, c.says)
			require.Contains(
				t,
				l.HTML,
				`<a href="https://d.example/watch?from=2026-11-16T12%3A00%3A00Z&amp;to=2026-11-23T12%3A00%3A00Z">The whole report</a>`,
			)
		})
	}
}
