package pages_test

import (
	"encoding/base64"
	"fmt"
	"html"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/pages"
	"github.com/briskwarden/briskwarden/internal/browsertest"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// look asks for a page as a browser does, with a token as the password.
func look(h *doortest.House, path, token string) (int, http.Header, string) {
	r := httptest.NewRequest("GET", path, nil)
	if token != "" {
		r.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte("ragna:"+token)))
	}
	w := httptest.NewRecorder()
	h.Handler().ServeHTTP(w, r)
	return w.Code, w.Header(), w.Body.String()
}

// paged has a house open the pages.
func paged(o *door.Options) { o.Rooms = append(o.Rooms, pages.Room(pages.Options{})) }

// watched is a door that has decided on the demo's scenes.
func watched(t *testing.T) *doortest.House {
	h := doortest.New(t, nil, nil, paged)
	for _, scene := range demo.Scenes() {
		a := scene.Attempt
		a.At = h.Clock()
		h.Decide(t.Context(), &a, door.Asked{Caller: "gateway"})
		h.Pass(time.Second)
	}
	h.Decide(t.Context(), &attempt.Attempt{At: h.Clock(), Account: "<b onmouseover=\"x\">&'\u202eeno", App: "mail"},
		door.Asked{Caller: "gateway"})
	h.Pass(time.Second)
	return h
}

func TestTheWatch(t *testing.T) {
	h := watched(t)
	t.Run("only those who may look", func(t *testing.T) {
		for token, want := range map[string]int{"": 401, "bw_wrong": 401, idle: 403, all: 200} {
			status, header, _ := look(h, "/watch", token)
			require.Equal(t, want, status, token)
			if want == 401 {
				require.Contains(t, header.Get("WWW-Authenticate"), "Basic")
			}
		}
		status, _, _ := look(h, "/v1/sessions?account=x", all)
		require.Equal(t, 401, status, "a browser's password counts at the pages alone")
	})
	links := map[string]bool{"/watch": true}
	follow := func(path string) string {
		status, header, page := look(h, path, all)
		require.Equal(t, 200, status, path+page)
		require.Contains(t, header.Get("Content-Security-Policy"), "default-src 'none'")
		require.Equal(t, "no-store", header.Get("Cache-Control"))
		require.Empty(t, regexp.MustCompile(`<b[ >]|<script`).FindString(page))
		require.NotContains(t, page, "\u202e", "nothing turns text round")
		for _, found := range regexp.MustCompile(`href="(/[^"]*)"`).FindAllStringSubmatch(page, -1) {
			if link := html.UnescapeString(found[1]); !links[link] {
				links[link] = false
			}
		}
		return page
	}
	page := follow("/watch")
	require.Contains(t, page, "7 attempts by")
	require.Contains(t, page, "/watch/decisions?")
	t.Run("each link leads to decisions, and those to each of them", func(t *testing.T) {
		for rest := true; rest; {
			rest = false
			for link, done := range links {
				if done {
					continue
				}
				links[link], rest = true, true
				page := follow(link)
				if strings.HasPrefix(link, "/watch/decisions?") {
					require.Contains(t, page, "<td class=\"when\">", link)
				}
			}
		}
		require.Greater(t, len(links), 10)
	})
	t.Run("a decision reads like a rehearsal", func(t *testing.T) {
		page := ""
		for link := range links {
			if strings.HasPrefix(link, "/watch/decisions/") {
				if page = follow(link); strings.Contains(page, "BLOCK: ingrid@kestrelsound.example at card-till") {
					break
				}
			}
		}
		for _, text := range []string{"<h2>Why</h2>", "Risk: ", "Were the shadow policies live: ",
			"The book in force is the one that decided.", "fleet-baseline", "Account from "} {
			require.Contains(t, page, text)
		}
	})
	t.Run("what cannot be read is said", func(t *testing.T) {
		for path, says := range map[string]string{"/watch?last=soon": "last:", "/watch?from=monday": "from:",
			"/watch/decisions?verdict=maybe": "verdict:",
			"/watch/decisions?ip=300":        "ip:", "/watch/decisions?country=UK": "country:",
			"/watch/decisions?cause=app_not_opne": "app_not_open"} {
			status, _, text := look(h, path, all)
			require.Equal(t, 400, status, path)
			require.Contains(t, text, says)
		}
		status, _, _ := look(h, "/watch/decisions/none", all)
		require.Equal(t, 404, status)
	})
	t.Run("in a browser", func(t *testing.T) {
		ctx := browsertest.Open(t)
		server := httptest.NewServer(h.Handler())
		defer server.Close()
		at := strings.Replace(server.URL, "http://", "http://ragna:"+all+"@", 1)
		require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(at+"/watch")))
		said, err := chromedp.Run(
			ctx,
			chromedp.Evaluate[string](
				`document.querySelector('.sentences p').textContent + getComputedStyle(document.querySelector('th')).fontWeight`),
		)
		require.NoError(t, err)
		require.Contains(t, said, "7 attempts by")
		require.True(t, strings.HasSuffix(said, "600"), "the style sheet is let through: %s", said)
		for _, link := range []string{`a[href^="/watch/decisions?"]`, `td.when a`} {
			to, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.querySelector('"+link+"').getAttribute('href')"))
			require.NoError(t, err)
			require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(at+to)))
		}
		title, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.title`))
		require.NoError(t, err)
		require.Contains(t, title, " at ")
		// The form narrows what is listed, and says by what.
		require.NoError(
			t,
			chromedp.Do(ctx, chromedp.Navigate(at+"/watch/decisions"), chromedp.SendKeys(`input[name="account"]`, "ingrid@kestrelsound.example"),
				chromedp.SetValue(`select[name="verdict"]`, "block"), chromedp.Click("form button"),
				chromedp.WaitVisible(`input[name="account"][value^="ingrid"]`)),
		)
		listed, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.title + [...document.querySelectorAll('tbody tr')].map(
			r => ' ' + r.children[1].textContent + ':' + r.children[2].textContent).filter((x, i, all) => all.indexOf(x) == i)`))
		require.NoError(t, err)
		require.Equal(t, "Decisions, account ingrid@kestrelsound.example, verdict block block:ingrid@kestrelsound.example", listed)
		require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(at+"/watch?last=7d"), chromedp.Click("form button"),
			chromedp.WaitVisible(`input[name="from"][value="2026-11-16"]`)))
	})
}

// TestAReportOnAJournal: decisions of before there were briefs, and those of accounts that nobody knows,
// are all counted, and those that were pruned are not.
func TestAReportOnAJournal(t *testing.T) {
	h := doortest.New(t, nil, nil, paged)
	for i := range 40 {
		h.Decide(t.Context(), &attempt.Attempt{At: h.Clock(), Account: fmt.Sprint("nobody-", i), App: "mail", IP: demo.Scenes()[0].Attempt.IP},
			door.Asked{Caller: "gateway"})
		h.Pass(time.Second)
		h.Decide(t.Context(), &attempt.Attempt{At: h.Clock(), Account: "oskar@kestrelsound.example", App: "mail"}, door.Asked{Caller: "gateway"})
		h.Pass(time.Second)
	}
	b, err := h.Load()
	require.NoError(t, err)
	for name, change := range map[string]func(*journal.Entry){
		"as it is":              func(*journal.Entry) {},
		"before briefs":         func(e *journal.Entry) { e.Brief = nil },
		"in part before briefs": func(e *journal.Entry) { e.Brief = map[bool][]byte{true: nil, false: e.Brief}[e.Number < 30] },
	} {
		t.Run(name, func(t *testing.T) {
			kept := new(store.Memory)
			var entries []journal.Entry
			for e, err := range h.Kept.Entries(t.Context(), journal.Filter{}) {
				require.NoError(t, err)
				change(&e)
				entries = append(entries, e)
			}
			require.NoError(t, kept.Update(t.Context(), func(tx store.Tx) error { return tx.Append("door", entries) }))
			summed := func() *report.Report {
				r, err := report.OfJournal(t.Context(), b.Source(), kept, report.Options{At: h.Clock()})
				require.NoError(t, err)
				return r
			}
			r := summed()
			require.EqualValues(t, 80, r.Verdicts.All())
			require.Equal(t, 2, r.Accounts)
			require.Len(t, r.Stopped, 1)
			require.EqualValues(t, 40, r.Stopped[0].Counts.Block, "those that nobody knows are one, to all who count")
			for _, rule := range r.Rules {
				require.Equal(t, 1, rule.Accounts, rule.Rule)
			}
			require.Equal(t, 40, r.Addresses[0].Accounts, "and are told apart where they come from")
			_, err := store.Prune(t.Context(), kept, "door", noon.Add(20*time.Second), "ragna", h.Clock())
			require.NoError(t, err)
			require.EqualValues(t, 60, summed().Verdicts.All())
		})
	}
}

// TestInspectionsAreKept: what inspect says of each book that comes into force.
func TestInspectionsAreKept(t *testing.T) {
	room, wait := pages.WaitingRoom()
	h := doortest.New(t, nil, nil, func(o *door.Options) { o.Rooms = []door.Room{room} })
	wait()
	h.Read(doortest.Edited(t, "to: [duty]", "to: []"))
	last := h.Reload()
	require.True(t, last.Taken, last.Why)
	wait()
	source := h.Book().Source()
	made, err := report.OfJournal(t.Context(), source, h.Kept, report.Options{At: noon})
	require.NoError(t, err)
	require.Len(t, made.Score.Moved, 2)
	worst := slices.MinFunc(made.Score.Moved, func(a, b report.ScoreAt) int { return a.Reached - b.Reached })
	require.Equal(t, last.Book, worst.Book)
	require.Equal(t, worst.Reached, made.Score.Reached)
	require.Contains(t, made.Next[len(made.Next)-1].Text, "told-to-nobody")
	plot := made.Plots[slices.IndexFunc(made.Plots, func(p report.Plot) bool { return p.Name == "score" })]
	require.Len(t, plot.Labels, 2)
	require.Contains(t, plot.Series[0].Values, int64(worst.Reached))
}
