package report_test

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/synth"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// source is a history of attempts.
func source(t require.TestingT, attempts []*attempt.Attempt) []replay.Source {
	var text bytes.Buffer
	for _, a := range attempts {
		line, err := json.Marshal(a)
		require.NoError(t, err)
		text.Write(append(line, '\n'))
	}
	return []replay.Source{
		{Name: "history.jsonl", Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text.Bytes())), nil }},
	}
}

func ofDemo(t *testing.T) (*book.Book, *report.Report) {
	b, err := demo.Open()
	require.NoError(t, err)
	r, err := report.OfHistory(t.Context(), b, source(t, demo.History()), replay.Options{},
		report.Options{At: monday, Source: report.Source{Book: "kestrel", Flags: []string{"--book", "kestrel", "--history", "month.jsonl"}}})
	require.NoError(t, err)
	return b, r
}

// TestTheNumbersAreThoseOfReplay holds a report over generated histories against a replay of the same
// stretch.
func TestTheNumbersAreThoseOfReplay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 0))
		b, judge := synth.Open(chance, 5)
		attempts := make([]*attempt.Attempt, rapid.IntRange(1, 200).Draw(t, "attempts"))
		for i := range attempts {
			attempts[i] = synth.Attempt(chance)
		}
		from := monday.AddDate(0, 0, -rapid.IntRange(0, 40).Draw(t, "days"))
		var stretch []*attempt.Attempt
		for _, a := range attempts {
			if !a.At.Before(from) {
				stretch = append(stretch, a)
			}
		}
		// As recorded, for what lies before the stretch would fill in what the attempts in it lack.
		o := replay.Options{AsRecorded: true}
		want, err := replay.Run(context.Background(), judge, source(t, stretch), o)
		require.NoError(t, err)
		r, err := report.OfHistory(context.Background(), b, source(t, attempts), o, report.Options{At: monday, From: from})
		require.NoError(t, err)
		require.Equal(t, want.Verdicts, r.Verdicts)
		require.Equal(t, want.Shadow, r.Shadow)
		require.Equal(t, want.Hours, r.Hours)
		require.Equal(t, want.Attempts, r.Basis.Attempts)
		require.InDelta(t, want.Prompts, r.Work.Prompts.Mean, 1e-9)
		require.Len(t, r.Rules, min(50, len(want.Rules)))
		for i := range r.Rules {
			require.Equal(t, want.Rules[i], r.Rules[i].RuleCount)
		}
		days := replay.Counts{}
		for _, d := range r.Days {
			days.Join(d.Counts)
		}
		require.Equal(t, r.Verdicts, days)
	})
}

func TestTheDemosTroublesAreToldFirst(t *testing.T) {
	_, r := ofDemo(t)
	require.GreaterOrEqual(t, len(r.Troubles), 6)
	first := ""
	for _, x := range r.Troubles[:6] {
		first += x.Text + "\n"
		require.NotEmpty(t, x.Do)
		require.Contains(t, x.Command, "briskwarden journal list --book kestrel --history month.jsonl")
	}
	for what, text := range map[string]string{"the leaked password": "nina@", "the impossible journey": "ragna@", "the till at night": "card-till / shut",
		"the certificate": "kiosk-pier-2", "the yard and Brazil": "marek@", "the passwords that are tried": "114 attempts of 15 accounts"} {
		require.Contains(t, first, text, what)
	}
	require.Contains(t, r.Wrong, r.Troubles[0].Text)
	require.Contains(t, r.Do, r.Troubles[0].Do)
}

func TestWhatIsNotKnownReassuresNobody(t *testing.T) {
	b, _ := ofDemo(t)
	none, err := report.OfJournal(t.Context(), b, new(store.Memory), report.Options{At: monday})
	require.NoError(t, err)
	require.Contains(t, none.Happened, "nothing can be concluded")
	require.Contains(t, none.Wrong, "cannot be said")
	unread, err := report.OfHistory(t.Context(), b, []replay.Source{{Name: "x", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader("what is this\n")), nil
	}}}, replay.Options{}, report.Options{At: monday})
	require.NoError(t, err)
	require.NotEmpty(t, unread.Basis.Unjudged)
	require.Contains(t, unread.Happened, "Nothing can be concluded")
}

// drawing is what is read of an SVG.
type drawing struct {
	Groups []struct {
		Title string `xml:"title"`
		Rects []struct {
			X      float64 `xml:"x,attr"`
			Width  float64 `xml:"width,attr"`
			Height float64 `xml:"height,attr"`
		} `xml:"rect"`
	} `xml:"g"`
}

// TestPlotsShowTheirNumbers counts the marks of each plot of the page, and measures them.
func TestPlotsShowTheirNumbers(t *testing.T) {
	_, r := ofDemo(t)
	var page bytes.Buffer
	require.NoError(t, r.WriteHTML(&page))
	drawn := regexp.MustCompile(`(?s)aria-label="([^"]*); the numbers are in the table below">(<svg.*?</svg>)`).
		FindAllStringSubmatch(page.String(), -1)
	require.Len(t, drawn, len(r.Plots))
	require.GreaterOrEqual(t, len(drawn), 4)
	for i, p := range r.Plots {
		t.Run(p.Name, func(t *testing.T) {
			require.Equal(t, p.Title, drawn[i][1])
			var d drawing
			require.NoError(t, xml.Unmarshal([]byte(drawn[i][2]), &d))
			require.Len(t, d.Groups, len(p.Labels))
			scale := math.NaN() // units for one
			end := -1.0
			for j, g := range d.Groups {
				require.True(t, strings.HasPrefix(g.Title, p.Labels[j]+":"), g.Title)
				marks := g.Rects
				for _, s := range p.Series {
					require.Contains(t, g.Title, fmt.Sprintf(" %d %s", s.Values[j], s.Name))
					if s.Values[j] == 0 {
						continue
					}
					require.NotEmpty(t, marks)
					length := marks[0].Height
					if p.Name == "rules" {
						length = marks[0].Width
					}
					if math.IsNaN(scale) || s.Values[j] > 50 {
						if !math.IsNaN(scale) {
							require.InDelta(t, scale*float64(s.Values[j]), length, 2+length/25)
						}
						scale = length / float64(s.Values[j])
					}
					marks = marks[1:]
				}
				require.Empty(t, marks, "a mark for each number, and no other")
				if p.Name != "rules" && len(g.Rects) > 0 {
					require.Greater(t, g.Rects[0].X, end, "bars stand beside each other")
					end = g.Rects[0].X + g.Rects[0].Width
				}
			}
		})
	}
}

func TestThePage(t *testing.T) {
	b, r := ofDemo(t)
	var page bytes.Buffer
	require.NoError(t, r.WriteHTML(&page))
	text := page.String()
	t.Run("needs no network and no scripts", func(t *testing.T) {
		require.Empty(t, regexp.MustCompile(`(?i)<script|<link|<img|@import|url\(['"]?[a-z]+:|src=`).FindString(text))
		require.Empty(t, regexp.MustCompile(`(href|action)="[a-z]+:`).FindString(text))
	})
	t.Run("each link leads somewhere", func(t *testing.T) {
		links := regexp.MustCompile(`href="#([^"]+)"`).FindAllStringSubmatch(text, -1)
		require.Len(t, links, len(r.Sections()))
		for _, link := range links {
			require.Contains(t, text, `id="`+link[1]+`"`)
		}
	})
	t.Run("what others name is text", func(t *testing.T) {
		bad := demo.History()[0]
		bad.Account, bad.App = `<script>alert(1)</script>"'&|`, "`x`|<b>"
		var many []*attempt.Attempt
		for range 10 {
			many = append(many, bad)
		}
		r, err := report.OfHistory(t.Context(), b, source(t, many), replay.Options{}, report.Options{At: monday})
		require.NoError(t, err)
		var page, marked bytes.Buffer
		require.NoError(t, r.WriteHTML(&page))
		require.Empty(t, regexp.MustCompile(`<script|<b>`).FindString(page.String()))
		require.NoError(t, r.WriteMarkdown(&marked))
		require.Empty(t, regexp.MustCompile("[^\\\\]<b>|\n\\| [^|\n]*[^\\\\|]\\|<b>").FindString(marked.String()))
	})
	t.Run("Markdown has the same tables", func(t *testing.T) {
		var marked bytes.Buffer
		require.NoError(t, r.WriteMarkdown(&marked))
		for _, s := range r.Sections() {
			require.Contains(t, marked.String(), "## "+s.Heading)
			for _, table := range s.Tables {
				for _, row := range table.Rows {
					require.Len(t, row.Cells, len(table.Columns), table.Title)
				}
			}
		}
		require.Contains(t, marked.String(), "| card-till / shut | "+strconv.Itoa(10)+" |")
	})
}

// TestEnrolmentByDay: who is let in without on some days, and has a method now, enrolled in between.
func TestEnrolmentByDay(t *testing.T) {
	b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(`briskwarden: 1
assurances: {two: {prove: [{any_of: [push], within: session}]}}
accounts: [{name: liv, groups: [crew], methods: [push]}, {name: ada, groups: [crew], methods: [push]}, {name: eli, groups: [crew]},
  {name: oskar}]
groups: [{name: crew}]
apps: [{name: mail}]
policies: [{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [two]}}]}]
rollouts: [{name: second, who: {groups: [crew]}, methods: [push], eases: [two],
  opens: 2026-11-01, ask_by: 2026-11-20, enforced: 2026-12-01}]
`)}})
	require.NoError(t, err)
	kept := new(store.Memory)
	begin := time.Date(2026, time.November, 10, 12, 0, 0, 0, time.UTC)
	require.NoError(t, kept.Update(t.Context(), func(tx store.Tx) error {
		var entries []journal.Entry
		for day, without := range []string{"liv ada eli", "liv eli", "", "liv", ""} {
			for _, account := range []string{"liv", "ada", "eli", "oskar"} {
				brief := &journal.Brief{Verdict: decide.Grant, App: "mail"}
				if slices.Contains(strings.Fields(without), account) {
					brief.Due = []string{"second"}
				}
				e := journal.Make(journal.Decision, journal.NewID(), begin.AddDate(0, 0, day), "gateway", account, "answer", []byte("{}"))
				e.Brief, _ = brief.AppendBinary(nil)
				entries = append(entries, e)
			}
		}
		return tx.Append("door", entries)
	}))
	r, err := report.OfJournal(t.Context(), b, kept, report.Options{At: begin.AddDate(0, 0, 5)})
	require.NoError(t, err)
	var enrolled []int
	for _, d := range r.Rollouts[0].Enrolled {
		enrolled = append(enrolled, d.Count)
	}
	require.Equal(t, []int{0, 1, 1, 1, 2}, enrolled, "ada from the second day on, liv on the fifth, eli not yet")
	plot := r.Plots[slices.IndexFunc(r.Plots, func(p report.Plot) bool { return p.Name == "enrolment-second" })]
	require.Equal(
		t,
		[]report.Series{{Name: "enrolled", Values: []int64{0, 1, 1, 1, 2}}, {Name: "not enrolled", Values: []int64{3, 2, 2, 2, 1}}},
		plot.Series,
	)
}
