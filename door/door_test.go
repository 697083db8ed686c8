package door_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

var noon = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// tester is what a house asks of a test, or of a property.
type tester interface {
	require.TestingT
	Helper()
	Cleanup(func())
	Context() context.Context
}

// house is a door under test, with what it rests on.
type house struct {
	*door.Door
	t     tester
	store store.Store
	log   *logged

	mu   sync.Mutex
	now  time.Time
	book fs.FS
}

// all is the token of a caller who may do everything, and idle of one who may do nothing useful.
const all, idle = "bw_all", "bw_idle"

// logged is what a door logs. It is read while the door goes on.
type logged struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *logged) Write(text []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(text)
}

func (l *logged) String() string { l.mu.Lock(); defer l.mu.Unlock(); return l.text.String() }

func (l *logged) Reset() { l.mu.Lock(); defer l.mu.Unlock(); l.text.Reset() }

func (h *house) clock() time.Time { h.mu.Lock(); defer h.mu.Unlock(); return h.now }

func (h *house) pass(d time.Duration) { h.mu.Lock(); defer h.mu.Unlock(); h.now = h.now.Add(d) }

func (h *house) read(files fs.FS) { h.mu.Lock(); defer h.mu.Unlock(); h.book = files }

func (h *house) load(o ...briskwarden.Option) (*briskwarden.Book, error) {
	h.mu.Lock()
	files := h.book
	h.mu.Unlock()
	return briskwarden.OpenFS(files, append(o, briskwarden.WithDatabase(mmdb.Locator))...)
}

// configured is a configuration with callers whose tokens are known.
func configured(change func(*door.Config)) *door.Config {
	c := &door.Config{Store: door.StoreConfig{History: door.Complete}}
	for _, caller := range []struct {
		name, token string
		may         []door.Right
	}{{"gateway", all, []door.Right{door.MayDecide, door.MayReport, door.MayEvents, door.MayPeople, door.MayLook, door.MayOperate}},
		{"meter", idle, []door.Right{door.MayOperate}}} {
		c.Callers = append(c.Callers, door.Caller{Name: caller.name, Token: door.TokenDigest(caller.token), May: caller.may})
	}
	c.Callers[0].People = door.PeopleBounds{Domains: []string{"kestrelsound.example"}, Groups: []string{"deck", "engine", "shore-it"},
		Kinds: []directory.Kind{directory.Person, directory.Service},
		Facts: []string{"active", "joined", "attributes", "methods", "password", "risk"}}
	c.Callers[0].Events = door.EventBounds{Accounts: []string{"anyone"}, Facts: []string{"active", "methods", "password", "risk", "sessions",
		"devices"}}
	if change != nil {
		change(c)
	}
	return c
}

func newHouse(t tester, s store.Store, change func(*door.Config), options ...func(*door.Options)) *house {
	if s == nil {
		s = new(store.Memory)
	}
	h := &house{t: t, store: s, now: noon, book: unproven, log: new(logged)}
	o := door.Options{Now: h.clock, Log: slog.New(slog.NewJSONHandler(h.log, nil))}
	for _, option := range options {
		option(&o)
	}
	d, err := door.New(context.Background(), h.load, s, configured(change), o)
	require.NoError(t, err)
	h.Door = d
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return h
}

// Decide is that of the door, for an attempt that can be judged.
func (h *house) Decide(ctx context.Context, a *attempt.Attempt, asked door.Asked) *door.Answer {
	answer, err := h.Door.Decide(ctx, a, asked)
	require.NoError(h.t, err)
	return answer
}

// answering has a door answer outside programs.
func answering(c *door.Config) { c.Consent.Answer = true }

// unproven is the demo's book without its guarantees, so that houses are many and soon built.
var unproven = func() fs.FS {
	files := fstest.MapFS{}
	if err := fs.WalkDir(demo.Files(), ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || path == "guarantees.yaml" {
			return err
		}
		text, err := fs.ReadFile(demo.Files(), path)
		files[path] = &fstest.MapFile{Data: text}
		return err
	}); err != nil {
		panic(err) // the files are part of the program
	}
	return files
}()

// edited returns the demo's book with a text in place of another.
func edited(t require.TestingT, old, new string) fstest.MapFS {
	files := fstest.MapFS{}
	found := false
	require.NoError(t, fs.WalkDir(unproven, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := fs.ReadFile(unproven, path)
		found = found || bytes.Contains(text, []byte(old))
		files[path] = &fstest.MapFile{Data: bytes.ReplaceAll(text, []byte(old), []byte(new))}
		return err
	}))
	require.True(t, found, old)
	return files
}

// ask makes a request and returns the status, the header and the body, which it holds against the
// description.
func (h *house) ask(method, path, bearer string, body any) (int, http.Header, []byte) {
	status, header, text := h.plainAsk(method, path, bearer, body)
	if !strings.HasPrefix(path, "/scim/") && !strings.HasPrefix(header.Get("Content-Type"), "text/plain") {
		h.held(method, path, status, body, text)
	}
	return status, header, text
}

func (h *house) plainAsk(method, path, bearer string, body any) (int, http.Header, []byte) {
	var from io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		from = strings.NewReader(b)
	default:
		text, err := json.Marshal(body)
		require.NoError(h.t, err)
		from = bytes.NewReader(text)
	}
	r := httptest.NewRequest(method, path, from)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if bearer != "" {
		r.Header.Set("Authorization", "Bearer "+bearer)
	}
	w := httptest.NewRecorder()
	h.Handler().ServeHTTP(w, r)
	return w.Code, w.Header(), w.Body.Bytes()
}

// answer is what is looked at of a decision of the door.
type answer struct {
	ID string `json:"id"`
	decide.Decision
	Degraded []string `json:"degraded"`
	Facts    struct {
		Attempt json.RawMessage   `json:"attempt"`
		Account json.RawMessage   `json:"account"`
		From    map[string]string `json:"from"`
	} `json:"facts"`
}

func (h *house) decide(body string) *answer {
	status, _, text := h.ask("POST", "/v1/decisions", all, body)
	require.Equal(h.t, http.StatusOK, status, string(text))
	a := new(answer)
	require.NoError(h.t, json.Unmarshal(text, a), string(text))
	return a
}

// ingrid signs on to an app, on her laptop at the pier, with these proofs and more fields.
func ingrid(app, proofs, more string) string {
	return `{"account":"ingrid@kestrelsound.example","app":"` + app + `","ip":"203.0.113.20","device":{"id":"laptop-ingrid"},"proofs":[` +
		proofs + `]` + more + `}`
}

const password, push = `{"method":"password"}`, `{"method":"push"}`

// entries returns the journal, but for inspections, which come when they are done.
func (h *house) entries() []journal.Entry {
	return slices.DeleteFunc(h.allEntries(), func(e journal.Entry) bool { return e.Kind == journal.Inspection })
}

func (h *house) allEntries() []journal.Entry {
	var list []journal.Entry
	for e, err := range h.store.Entries(context.Background(), journal.Filter{}) {
		require.NoError(h.t, err)
		list = append(list, e)
	}
	return list
}

func (h *house) account(name string) *store.Account {
	a := &store.Account{Name: name}
	if err := store.Load(context.Background(), h.store, a); !errors.Is(err, store.ErrNotFound) {
		require.NoError(h.t, err)
	}
	return a
}

// known is what all sources say of an account together.
func (h *house) known(name string) directory.Account {
	a, err := h.Book().Judge().Accounts().Account(context.Background(), name)
	if !errors.Is(err, directory.ErrNotFound) { // then the book's entry is all there is
		require.NoError(h.t, err)
	}
	return a
}

// stated is a statement of an account before a test begins.
func stated(fact store.Fact, by store.Source, value attempt.Scalar, because string) store.Statement {
	return store.Statement{Fact: fact, By: by, At: noon.Add(-time.Hour), Value: value, Because: because}
}

func TestDecisions(t *testing.T) {
	h := newHouse(t, nil, nil)
	first := h.decide(ingrid("mail", password, `,"session":{"id":"s-1"}`))
	require.Equal(t, decide.Grant, first.Verdict)
	require.Equal(t, map[string]string{"account": "book", "previous": "store", "failures": "store", "session": "nobody", "device": "book",
		"device.known": "book"}, first.Facts.From)

	t.Run("it is read back", func(t *testing.T) {
		status, _, text := h.ask("GET", "/v1/decisions/"+first.ID, all, nil)
		require.Equal(t, http.StatusOK, status)
		again := new(answer)
		require.NoError(t, json.Unmarshal(text, again))
		require.Equal(t, first, again)
		status, _, _ = h.ask("GET", "/v1/decisions/none", all, nil)
		require.Equal(t, http.StatusNotFound, status)
		reload := h.entries()[0]
		require.Equal(t, journal.Reload, reload.Kind)
		status, _, _ = h.ask("GET", "/v1/decisions/"+reload.ID, all, nil)
		require.Equal(t, http.StatusNotFound, status, "an entry that is no decision is none")
	})
	t.Run("the next one knows of it", func(t *testing.T) {
		h.pass(time.Minute)
		next := h.decide(ingrid("mail", "", `,"session":{"id":"s-1"}`))
		require.Equal(t, decide.Grant, next.Verdict, "the password was proven in this session")
		require.Equal(t, "store", next.Facts.From["session"])
		var a attempt.Attempt
		require.NoError(t, attempt.ParseInto(next.Facts.Attempt, &a))
		previous, _ := a.Previous.Get()
		require.Equal(t, noon, previous.At)
		require.Equal(t, attempt.Known(attempt.CountryCode("NO")), previous.Country)
		require.Equal(t, []attempt.Proof{{Method: "password", At: noon, App: "mail"}}, a.Session.Proofs)
	})
	t.Run("another's session is not hers", func(t *testing.T) {
		body := strings.Replace(ingrid("mail", "", `,"session":{"id":"s-1"}`), "ingrid@", "oskar@", 1)
		require.NotEqual(t, decide.Grant, h.decide(body).Verdict)
		ended, err := h.EndSession(sessionOf("s-1"), "she called")
		require.NoError(t, err)
		require.True(t, ended)
		h.decide(strings.Replace(ingrid("mail", password+","+push, `,"session":{"id":"s-1"}`), "ingrid@", "oskar@", 1))
		require.Equal(t, decide.SessionEnded, h.decide(ingrid("mail", password, `,"session":{"id":"s-1"}`)).Causes[0].Code,
			"and nobody else's sign-on brings an ended one back")
	})
	t.Run("what is stated wins", func(t *testing.T) {
		a := h.decide(ingrid("mail", password, `,"session":{"id":"s-1","started":"2026-11-23T13:00:00Z"},"previous":null,"failures":null`))
		require.Equal(t, "attempt", a.Facts.From["session"])
		require.Equal(t, "attempt", a.Facts.From["previous"])
		require.Equal(t, "attempt", a.Facts.From["failures"])
	})
	t.Run("a refused proof is a failure", func(t *testing.T) {
		h.decide(ingrid("mail", password, `,"failed":[{"method":"push","reason":"refused"}]`))
		h.decide(ingrid("mail", password, `,"failed":[{"method":"push","reason":"timed_out"}]`))
		require.Len(t, h.account("ingrid@kestrelsound.example").Failures, 1)
	})
	t.Run("nothing is kept of names that somebody made up", func(t *testing.T) {
		a := h.decide(strings.Replace(ingrid("mail", password, ""), "ingrid@", "nobody@", 1))
		require.Equal(t, decide.AccountUnknown, a.Causes[0].Code)
		require.ErrorIs(t, store.Load(t.Context(), h.store, &store.Account{Name: "nobody@kestrelsound.example"}), store.ErrNotFound)
	})
	t.Run("every decision is an entry", func(t *testing.T) {
		h.WaitForInspection()
		entries := h.entries()
		found, err := journal.Verify(t.Context(), h.store, journal.Verification{})
		require.NoError(t, err)
		require.EqualValues(t, len(h.allEntries()), found.Size)
		require.Equal(t, first.ID, entries[1].ID)
		c, err := entries[1].Content()
		require.NoError(t, err)
		require.Equal(t, "gateway", c.Caller)
	})
}

// manyAccepted states that so many documents were accepted; the book asks for the first.
func manyAccepted(n int) string {
	list := []string{`{"document":"crew-handbook","version":3,"at":"2026-11-20T12:00:00Z"}`}
	for i := 1; i < n; i++ {
		list = append(list, fmt.Sprintf(`{"document":"made-up-%d","version":1,"at":"2026-11-20T12:00:00Z"}`, i))
	}
	return `,"accepted":[` + strings.Join(list, ",") + `]`
}

// TestWhatIsAcceptedIsKept of documents that the book asks for, and of no others.
func TestWhatIsAcceptedIsKept(t *testing.T) {
	h := newHouse(t, nil, nil)
	require.Equal(t, decide.Grant, h.decide(ingrid("mail", password, manyAccepted(256))).Verdict)
	kept := h.account("ingrid@kestrelsound.example").Accepted
	require.Len(t, kept, 1)
	require.Equal(t, "crew-handbook", kept[0].Document)
}

func TestWhatIsRefused(t *testing.T) {
	h := newHouse(t, nil, func(c *door.Config) { c.Callers[1].Rate, c.Callers[1].Burst = 0.001, 1 })
	whole := ingrid("mail", password, "")
	for name, c := range map[string]struct {
		method, path, bearer string
		body                 any
		status               int
		detail               string
	}{
		"nobody":            {"POST", "/v1/decisions", "", whole, 401, "Say who calls"},
		"a wrong token":     {"POST", "/v1/decisions", "bw_other", whole, 401, "Say who calls"},
		"no right":          {"POST", "/v1/decisions", idle, whole, 403, "meter may not do this; it would need the right decide"},
		"another method":    {"PUT", "/v1/decisions", all, whole, 405, "one of POST"},
		"no path":           {"GET", "/v1/attempts", all, nil, 404, "/openapi.json"},
		"no JSON":           {"POST", "/v1/decisions", all, `{"account":`, 400, "the JSON ends in the middle"},
		"a key twice":       {"POST", "/v1/decisions", all, `{"account":"a","account":"b"}`, 400, "stands twice"},
		"an unknown key":    {"POST", "/v1/decisions", all, `{"acount":"a"}`, 400, `did you mean "account"`},
		"no account":        {"POST", "/v1/decisions", all, `{"app":"mail"}`, 400, "no `account`"},
		"another time":      {"POST", "/v1/decisions", all, ingrid("mail", password, `,"at":"2026-11-20T13:10:00Z"`), 422, "which is not now"},
		"a control sign":    {"POST", "/v1/decisions", all, strings.Replace(whole, "ingrid@", `\u0000`, 1), 422, "control character"},
		"a name too long":   {"POST", "/v1/decisions", all, ingrid(strings.Repeat("a", 5000), password, ""), 422, "longer than"},
		"a body too large":  {"POST", "/v1/decisions", all, strings.Repeat(" ", 1<<20) + whole, 413, "At most"},
		"too much at once":  {"POST", "/v1/decisions", all, ingrid("mail", password, manyAccepted(257)), 422, "at most 256 are taken"},
		"no such session":   {"GET", "/v1/sessions/none", all, nil, 404, "no open session"},
		"no right to look":  {"GET", "/v1/sessions/none", "bw_other", nil, 401, "Say who calls"},
		"metrics by nobody": {"GET", "/metrics", "", nil, 401, "Say who calls"},
	} {
		t.Run(name, func(t *testing.T) {
			status, header, text := h.ask(c.method, c.path, c.bearer, c.body)
			require.Equal(t, c.status, status, string(text))
			require.Equal(t, "application/problem+json", header.Get("Content-Type"))
			var p door.Problem
			require.NoError(t, json.Unmarshal(text, &p))
			require.Contains(t, p.Detail, c.detail)
			require.Equal(t, c.status, p.Status)
			require.NotContains(t, string(text), "bw_")
		})
	}
	t.Run("too often", func(t *testing.T) {
		h.ask("GET", "/metrics", idle, nil)
		status, header, _ := h.ask("GET", "/metrics", idle, nil)
		require.Equal(t, http.StatusTooManyRequests, status)
		bounded := newHouse(t, nil, func(c *door.Config) { c.Callers[0].Rate, c.Callers[0].Burst = 0.001, 5 })
		batch := `{"subject":{"type":"account","id":"ingrid@kestrelsound.example"},"resource":{"type":"app","id":"mail"},` +
			`"action":{"name":"sign-in"},"evaluations":[{},{},{}]}`
		for _, want := range []int{http.StatusOK, http.StatusTooManyRequests} { // each evaluation is a request
			status, _, text := bounded.ask("POST", "/access/v1/evaluations", all, batch)
			require.Equal(t, want, status, string(text))
		}
		require.NotEmpty(t, header.Get("Retry-After"))
	})
	t.Run("another media type", func(t *testing.T) {
		r := httptest.NewRequest("POST", "/v1/decisions", strings.NewReader(whole))
		r.Header.Set("Authorization", "Bearer "+all)
		w := httptest.NewRecorder()
		h.Handler().ServeHTTP(w, r)
		require.Equal(t, http.StatusUnsupportedMediaType, w.Code)
	})
	require.Len(t, h.entries(), 1, "nothing was judged, so the journal has the book alone")
}

// broken is a store that fails as told.
type broken struct {
	store.Memory
	mu            sync.Mutex
	reads, writes bool
}

var errBroken = errors.New("the disk is full")

func (b *broken) fail(reads, writes bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.reads, b.writes = reads, writes
}

func (b *broken) Get(ctx context.Context, key store.Key) (store.Row, error) {
	b.mu.Lock()
	fails := b.reads
	b.mu.Unlock()
	if fails {
		return store.Row{}, errBroken
	}
	return b.Memory.Get(ctx, key)
}

func (b *broken) Update(ctx context.Context, change func(store.Tx) error) error {
	b.mu.Lock()
	fails := b.writes
	b.mu.Unlock()
	if fails {
		return errBroken
	}
	return b.Memory.Update(ctx, change)
}

func TestWhatTheStoreCannotSayMakesNothingMilder(t *testing.T) {
	for name, c := range map[string]struct {
		reads, writes bool
		mode          door.JournalMode
		verdict       decide.Verdict
		cause         decide.CauseCode
		degraded      string
	}{
		"it cannot be read": {reads: true, verdict: decide.Block, cause: decide.AccountUnavailable,
			degraded: "could not be asked about the account"},
		"a grant cannot be recorded": {writes: true, verdict: decide.Block, cause: decide.NotRecorded, degraded: "could not be recorded"},
		"it stands where it may": {writes: true, mode: door.JournalBestEffort, verdict: decide.Grant, cause: decide.DemandsMet,
			degraded: "could not be recorded"},
		"nothing is recorded, as was said": {writes: true, mode: door.JournalOff, verdict: decide.Grant, cause: decide.DemandsMet},
	} {
		t.Run(name, func(t *testing.T) {
			s := new(broken)
			h := newHouse(t, s, func(config *door.Config) { config.Journal.Mode = c.mode })
			s.fail(c.reads, c.writes)
			a := h.decide(ingrid("mail", password, ""))
			require.Equal(t, c.verdict, a.Verdict)
			require.Equal(t, c.cause, a.Causes[0].Code)
			require.Contains(t, strings.Join(a.Degraded, "; "), c.degraded)
			if c.verdict == decide.Block {
				require.Equal(t, decide.Block, a.ToPerson.Verdict)
				require.Empty(t, a.ACR)
			}
			require.NotContains(t, string(a.Facts.Attempt), "full")
			require.Equal(t, c.verdict == decide.Grant, h.Ready(t.Context()).Ready, "it is ready where it can grant")
			s.fail(false, false)
			require.Equal(t, decide.Grant, h.decide(ingrid("mail", password, "")).Verdict, "it goes on when the store is back")
			require.True(t, h.Ready(t.Context()).Ready)
		})
	}
}

func TestReload(t *testing.T) {
	h := newHouse(t, nil, nil)
	was := h.Book().Digest()
	drilled := edited(t, "stage: live", "stage: live")
	drilled["more.yaml"] = &fstest.MapFile{Data: []byte("briskwarden: 1\ndrills:\n  - {name: nobody-reads-mail, expect: block, attempt: " +
		ingrid("mail", password, `,"at":"2026-11-23T13:10:00Z"`) + "}\n")}
	refuted := edited(t, "stage: live", "stage: live")
	refuted["more.yaml"] = &fstest.MapFile{
		Data: []byte("briskwarden: 1\nguarantees: [{name: no-mail, where: {names: [mail]}, always: block}]\n"),
	}
	for name, c := range map[string]struct {
		files fs.FS
		why   string
	}{
		"a guarantee fails": {refuted, "the guarantee no-mail fails for ingrid@kestrelsound.example at mail"},
		"it cannot be read": {edited(t, "stage: live", "stage: alive"), `"alive" is not`},
		"a drill fails":     {drilled, "the drill nobody-reads-mail fails: wanted block, got grant"},
		"there is no book":  {fstest.MapFS{}, "holds no book"},
	} {
		t.Run(name, func(t *testing.T) {
			h.read(c.files)
			r := h.Reload()
			require.False(t, r.Taken)
			require.Contains(t, strings.Join(r.Why, "\n"), c.why)
			require.Equal(t, was, h.Book().Digest(), "the one before goes on")
			require.Equal(t, was, h.decide(ingrid("mail", password, "")).JudgedBy.Book)
			status, _, text := h.ask("GET", "/readyz", "", nil)
			require.Equal(t, http.StatusOK, status)
			require.Contains(t, string(text), "a newer book was refused")
			entries := h.entries()
			require.Equal(t, journal.Reload, entries[len(entries)-2].Kind)
		})
	}
	t.Run("the same", func(t *testing.T) {
		h.read(unproven)
		before := len(h.entries())
		require.True(t, h.Reload().Unchanged)
		require.Len(t, h.entries(), before)
	})
	h.WaitForInspection()
	t.Run("a newer one", func(t *testing.T) {
		h.read(edited(t, "hosts: [mail.kestrelsound.example]", "hosts: [post.kestrelsound.example]"))
		r := h.Reload()
		require.True(t, r.Taken, r.Why)
		require.Equal(t, r.Book, h.decide(ingrid("https://post.kestrelsound.example/", password, "")).JudgedBy.Book)
	})
	t.Run("what inspect says of each book is kept", func(t *testing.T) {
		h.WaitForInspection()
		h.read(edited(t, "to: [duty]", "to: []"))
		last := h.Reload()
		require.True(t, last.Taken, last.Why)
		h.WaitForInspection()
		source := h.Book().Source()
		made, err := report.OfJournal(t.Context(), source, h.store, report.Options{At: noon})
		require.NoError(t, err)
		require.Len(t, made.Score.Moved, 3)
		worst := slices.MinFunc(made.Score.Moved, func(a, b report.ScoreAt) int { return a.Reached - b.Reached })
		require.Equal(t, last.Book, worst.Book)
		require.Equal(t, worst.Reached, made.Score.Reached)
		require.Contains(t, made.Next[len(made.Next)-1].Text, "told-to-nobody")
		plot := made.Plots[slices.IndexFunc(made.Plots, func(p report.Plot) bool { return p.Name == "score" })]
		require.Len(t, plot.Labels, 3)
		require.Contains(t, plot.Series[0].Values, int64(worst.Reached))
	})
}

func TestAccountsOfTheStore(t *testing.T) {
	s := new(store.Memory)
	high := &store.Account{Name: "ingrid@kestrelsound.example", Stated: []store.Statement{stated(store.StandingRisk, store.Before,
		attempt.TextScalar("high"), "seen elsewhere")}}
	gone := &store.Account{Name: "oskar@kestrelsound.example", Stated: []store.Statement{stated(store.Disabled, store.Before,
		attempt.BoolScalar(true), "")}}
	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return errors.Join(store.Save(tx, high), store.Save(tx, gone)) }))
	h := newHouse(t, s, nil)
	a := h.decide(ingrid("mail", password, ""))
	require.Equal(t, "store", a.Facts.From["account"])
	require.Contains(t, string(a.Facts.Account), "seen elsewhere")
	require.NotEqual(t, decide.Grant, a.Verdict)
	require.Equal(
		t,
		decide.AccountDisabled,
		h.decide(strings.Replace(ingrid("mail", password, ""), "ingrid@", "oskar@", 1)).Causes[0].Code,
	)
}

// lint holds metrics against what Prometheus reads and advises.
func lint(t *testing.T, text []byte) {
	problems, err := promlint.New(bytes.NewReader(text)).Lint()
	require.NoError(t, err)
	require.Empty(t, problems)
}

func TestMetricsAreThoseOfPrometheus(t *testing.T) {
	h := newHouse(t, nil, nil)
	h.decide(ingrid("mail", password, ""))
	_, header, text := h.ask("GET", "/metrics", all, nil)
	require.Contains(t, header.Get("Content-Type"), "text/plain")
	lint(t, text)
	require.Contains(t, string(text), `briskwarden_decisions_total{cause="demands_met",policy="fleet-baseline",rule="`)
}

func TestAMinimalAnswer(t *testing.T) {
	for name, mode := range map[string]door.JournalMode{"recorded": door.JournalRequired, "not recorded": door.JournalOff} {
		t.Run(name, func(t *testing.T) {
			h := newHouse(t, nil, func(c *door.Config) { c.Journal.Mode = mode })
			ask := func(prefer, more string) (map[string]json.RawMessage, http.Header) {
				r := httptest.NewRequest("POST", "/v1/decisions", strings.NewReader(ingrid("mail", password, more)))
				r.Header.Set("Authorization", "Bearer "+all)
				r.Header.Set("Content-Type", "application/json")
				r.Header.Set("Prefer", prefer)
				w := httptest.NewRecorder()
				h.Handler().ServeHTTP(w, r)
				require.Equal(t, 200, w.Code, w.Body)
				members := map[string]json.RawMessage{}
				require.NoError(t, json.Unmarshal(w.Body.Bytes(), &members))
				return members, w.Header()
			}
			for prefer, minimal := range map[string]bool{"return=minimal": true, `wait=10, return="minimal"; x=y`: true,
				"return=representation": false,
				"":                      false} {
				members, header := ask(prefer, `,"session":{"id":"s-1"}`)
				full, _ := ask("", `,"session":{"id":"s-1"}`)
				if !minimal {
					require.Contains(t, members, "facts")
					continue
				}
				require.Equal(t, "return=minimal", header.Get("Preference-Applied"))
				require.Equal(t, []string{"demands", "id", "limits", "to_person", "verdict"}, slices.Sorted(maps.Keys(members)))
				for name := range members {
					if name != "id" {
						require.JSONEq(t, string(full[name]), string(members[name]))
					}
				}
				if mode != door.JournalOff {
					var id string
					require.NoError(t, json.Unmarshal(members["id"], &id))
					status, _, text := h.ask("GET", "/v1/decisions/"+id, all, nil)
					require.Equal(t, 200, status)
					require.Contains(t, string(text), `"facts"`, "the record is whole")
				}
			}
			require.Eventually(t, func() bool { return h.session("s-1") != nil }, 10*time.Second, time.Millisecond)
			_, err := h.Review(t.Context())
			require.NoError(t, err)
			require.Len(t, h.open("s-1"), 1)
		})
	}
}
