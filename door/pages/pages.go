// Package pages is the room of a door whose pages people look at: a report on the journal, lists of decisions, and each decision explained.
package pages

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
)

// Options say how pages name things to an administrator at a terminal. The zero Options do.
type Options struct {
	// Book is the folder of the book.
	Book string
}

// room is the room of a door.
type room struct {
	*door.Door
	bookName string
	// inspecting are inspections of books that go on, and end ends the last: a newer book is inspected in its place.
	inspecting sync.WaitGroup
	mu         sync.Mutex
	end        context.CancelFunc
	closed     bool
}

// Room makes the room.
func Room(o Options) door.Room {
	return func(of *door.Door) (*door.Opened, error) {
		return (&room{Door: of, bookName: cmp.Or(o.Book, "BOOK")}).open(), nil
	}
}

// open is what the room adds to its door.
func (d *room) open() *door.Opened {
	opened := &door.Opened{Taken: d.inspect, Run: d.run}
	add := func(pattern string, serve func(http.ResponseWriter, *door.Request) error, about string) {
		opened.Routes = append(opened.Routes, door.Route{Pattern: pattern, Right: door.MayLook, IsPage: true, Serve: serve, About: about,
			Status: http.StatusOK})
	}
	add("GET /watch", d.serveReport, "Read a report on the journal, as a page")
	add("GET /watch/decisions", d.serveList, "List decisions, as a page")
	add("GET /watch/decisions/{id}", d.serveDecision, "Explain a decision, as a page")
	return opened
}

//go:embed watch.html
var watchText string

var watchPages = template.Must(template.New("watch").Funcs(template.FuncMap{
	"style": func() template.CSS { return template.CSS(report.Style()) },
}).Parse(watchText))

// watchHeaders keep a page from running or loading anything: what it shows others have named.
var watchHeaders = func() http.Header {
	style := sha256.Sum256([]byte(report.Style()))
	return http.Header{
		"Content-Type": {"text/html; charset=utf-8"},
		"Content-Security-Policy": {"default-src 'none'; style-src 'sha256-" + base64.StdEncoding.EncodeToString(style[:]) +
			"'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"},
		"X-Content-Type-Options": {"nosniff"},
		"Referrer-Policy":        {"no-referrer"},
	}
}()

// writePage answers with a page, once all of it has been made.
func writePage(w http.ResponseWriter, make func(*bytes.Buffer) error) error {
	var page bytes.Buffer
	if err := make(&page); err != nil {
		return err
	}
	maps.Copy(w.Header(), watchHeaders)
	terminal.Gate(w).Write(page.Bytes()) // what others named turns no text round and hides none; a browser that went away misses nothing
	return nil
}

// stretches are those that the live report offers; the first is shown where none is asked for.
var stretches = []report.Link{{Name: "7 days", Link: "/watch?last=7d"}, {Name: "1 day", Link: "/watch?last=1d"},
	{Name: "30 days", Link: "/watch?last=30d"}}

// serveReport answers GET /watch: a report on the journal until now.
func (d *room) serveReport(w http.ResponseWriter, r *door.Request) error {
	b := d.Book()
	from, to, err := stretchOf(r.URL.Query(), b.Source().Settings.Zone, d.Now())
	if err != nil {
		return err
	}
	if from.IsZero() && to.IsZero() {
		from = d.Now().AddDate(0, 0, -7)
	}
	o := report.Options{From: from, To: to, At: d.Now(), Source: report.Source{List: "/watch/decisions", Book: d.bookName}}
	if o.Programs, err = d.Programs(r.Context(), d.Now()); err != nil {
		return d.Unavailable(err)
	}
	// It may take longer than the server lets an answer take: it reads as much of the journal as it is asked for.
	err = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(longestReport))
	if err != nil && !errors.Is(err, http.ErrNotSupported) {
		d.Log().Warn("a report may be cut off", "error", err)
	}
	made, err := report.OfJournal(r.Context(), b.Source(), d.Store(), o)
	if err != nil {
		return d.Unavailable(err)
	}
	return writePage(w, func(page *bytes.Buffer) error { return made.WriteHTML(page, stretches...) })
}

// longestReport is how long a report may take.
const longestReport = 5 * time.Minute

// stretchOf reads the stretch of a query: last, or from and to.
func stretchOf(q url.Values, zone *time.Location, now time.Time) (from, to time.Time, err error) {
	if last := q.Get("last"); last != "" {
		var span directory.Span
		if err := span.UnmarshalText([]byte(last)); err != nil {
			return from, to, door.Problemf(http.StatusBadRequest, "last: %s.", err)
		}
		return now.Add(-time.Duration(span)), to, nil
	}
	for name, into := range map[string]*time.Time{"from": &from, "to": &to} {
		text := q.Get(name)
		if text == "" {
			continue
		}
		if *into, err = time.Parse(time.RFC3339, text); err == nil {
			continue
		}
		if *into, err = time.ParseInLocation(time.DateOnly, text, zone); err != nil {
			return from, to, door.Problemf(http.StatusBadRequest, "%s: %q is no time such as 2026-11-23 or 2026-11-23T13:10:00Z.", name, text)
		}
	}
	return from, to, nil
}

// mostWatched is how many decisions a page lists.
const mostWatched = 200

// serveList answers GET /watch/decisions: decisions by the filters of journal list.
func (d *room) serveList(w http.ResponseWriter, r *door.Request) error {
	q := r.URL.Query()
	f := &evidence.Filter{
		Kind:    journal.Decision,
		Account: q.Get("account"),
		App:     q.Get("app"),
		Policy:  q.Get("policy"),
		Rule:    q.Get("rule"),
	}
	asked := &evidence.Words{Cause: q.Get("cause"), Country: q.Get("country")}
	for name, into := range map[string]*[]string{"verdict": &asked.Verdicts, "ip": &asked.Ranges} {
		if text := q.Get(name); text != "" {
			*into = strings.Split(text, ",")
		}
	}
	if err := f.Take(asked); err != nil {
		return door.Problemf(http.StatusBadRequest, "%s.", err)
	}
	zone := d.Book().Source().Settings.Zone
	var err error
	if f.From, f.To, err = stretchOf(q, zone, d.Now()); err != nil {
		return err
	}
	list, err := f.ListOf(d.Store().Entries(r.Context(), f.Of()), mostWatched)
	if err != nil {
		return d.Unavailable(err)
	}
	said := words.Count(len(list.Entries), "decision") + ", the latest first; times are " + zone.String() + "."
	if list.More {
		said = fmt.Sprintf("The latest %d decisions; there are more. Times are %s.", mostWatched, zone)
	}
	for i := range list.Entries {
		e := &list.Entries[i]
		e.At, e.Verdict = e.At.In(zone), strings.ReplaceAll(e.Verdict, "_", " ")
	}
	title := "Decisions"
	fields := filterFields()
	for i := range fields {
		f := &fields[i]
		if f.Value = q.Get(f.Name); f.Value != "" {
			title += ", " + f.Name + " " + f.Value
		}
		if f.Choices != nil && f.Value != "" && !slices.Contains(f.Choices, f.Value) {
			f.Choices = append(f.Choices, f.Value) // several, with commas between
		}
	}
	return writePage(w, func(page *bytes.Buffer) error {
		return watchPages.ExecuteTemplate(page, "list", map[string]any{"Title": title, "Said": said, "Entries": list.Entries, "Fields": fields})
	})
}

// filterField is a field of the form that narrows decisions.
type filterField struct {
	Name, Label, Value string
	// Hint is an example of what may stand in it.
	Hint string
	// Choices are all that it may be, nil where anything may stand in it.
	Choices []string
}

func filterFields() []filterField {
	var causes []string
	for _, code := range decide.CauseCodes() {
		causes = append(causes, string(code))
	}
	return []filterField{
		{Name: "account", Label: "Account"}, {Name: "app", Label: "App"}, {Name: "verdict", Label: "Verdict", Choices: decide.Verdicts()},
		{Name: "policy", Label: "Policy"}, {Name: "rule", Label: "Rule"}, {Name: "cause", Label: "Cause", Choices: causes},
		{Name: "ip", Label: "Address or range"}, {Name: "country", Label: "Country"},
		{
			Name:  "from",
			Label: "From",
			Hint:  "2026-11-23",
		}, {Name: "to", Label: "Before", Hint: "2026-11-24"}, {Name: "last", Label: "Or the last", Hint: "7d"},
	}
}

// serveDecision answers GET /watch/decisions/{id}: one decision, explained as rehearse does.
func (d *room) serveDecision(w http.ResponseWriter, r *door.Request) error {
	e, err := d.Recorded(r.Context(), r.PathValue("id"))
	if err != nil {
		return err
	}
	decision, err := evidence.Read(&e)
	if err != nil {
		return err
	}
	b := d.Book()
	if err := decision.Compare(b.Source()); err != nil {
		return err
	}
	zone := b.Source().Settings.Zone
	said := strings.ReplaceAll(decision.Verdict.String(), "_", " ")
	data := map[string]any{
		"Title":    fmt.Sprintf("%s: %s at %s", strings.ToUpper(said), decision.Attempt.Account, decision.Attempt.App),
		"Headline": fmt.Sprintf("Decided %s (%s).", decision.At.In(zone).Format("Mon 2006-01-02 15:04:05"), zone),
		"D":        decision,
		"Shadow":   strings.ReplaceAll(decision.WithShadow.Verdict.String(), "_", " "),
		"Today":    "The book in force is the one that decided.",
	}
	if t := decision.Today; !t.Same {
		today := "The book in force would say " + strings.ReplaceAll(t.Verdict.String(), "_", " ") + "."
		if len(t.Causes) > 0 {
			today += " " + t.Causes[0].Text
		}
		data["Today"] = today
	}
	data["ToDo"] = decision.ToDo()
	var facts []string
	for _, fact := range slices.Sorted(maps.Keys(decision.From)) {
		facts = append(facts, words.Capital(fact)+" from "+decision.From[fact])
	}
	data["Facts"] = facts
	text, err := json.MarshalIndent(decision.Attempt, "", "  ")
	if err != nil {
		return err
	}
	data["Attempt"] = string(text)
	return writePage(w, func(page *bytes.Buffer) error { return watchPages.ExecuteTemplate(page, "decision", data) })
}
