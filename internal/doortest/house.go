// Package doortest is a door under test, with what it rests on and who asks it: callers, an identity provider, those who tell of events
// and those who are told, and a proxy.
package doortest

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/events"
	"github.com/briskwarden/briskwarden/door/metrics"
	"github.com/briskwarden/briskwarden/door/people"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Noon is when a house begins.
var Noon = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// Tester is what a house asks of a test, or of a property.
type Tester interface {
	require.TestingT
	Helper()
	Cleanup(func())
	Context() context.Context
}

// House is a door under test, with what it rests on.
type House struct {
	*door.Door
	T      Tester
	Kept   store.Store
	Logged *Logged
	// Files are those of the book that is read next.
	Files fs.FS

	mu  sync.Mutex
	now time.Time
}

// All is the token of a caller who may do everything, and Idle of one who may do nothing useful.
const All, Idle = "bw_all", "bw_idle"

// Logged is what a door logs. It is read while the door goes on.
type Logged struct {
	mu   sync.Mutex
	text bytes.Buffer
}

// Write implements io.Writer.
func (l *Logged) Write(text []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(text)
}

// String returns what was logged.
func (l *Logged) String() string { l.mu.Lock(); defer l.mu.Unlock(); return l.text.String() }

// Reset drops what was logged.
func (l *Logged) Reset() { l.mu.Lock(); defer l.mu.Unlock(); l.text.Reset() }

// Clock returns the time of the house.
func (h *House) Clock() time.Time { h.mu.Lock(); defer h.mu.Unlock(); return h.now }

// Set sets the time of the house.
func (h *House) Set(at time.Time) { h.mu.Lock(); defer h.mu.Unlock(); h.now = at }

// Pass lets time pass.
func (h *House) Pass(d time.Duration) { h.mu.Lock(); defer h.mu.Unlock(); h.now = h.now.Add(d) }

// Read has the house read another book next.
func (h *House) Read(files fs.FS) { h.mu.Lock(); defer h.mu.Unlock(); h.Files = files }

// Load is the loader of the house.
func (h *House) Load(o ...briskwarden.Option) (*briskwarden.Book, error) {
	h.mu.Lock()
	files := h.Files
	h.mu.Unlock()
	return briskwarden.OpenFS(files, append(o, briskwarden.WithDatabase(mmdb.Locator))...)
}

// Configured is a configuration with callers whose tokens are known.
func Configured(change func(*door.Config)) *door.Config {
	c := &door.Config{Store: door.StoreConfig{History: door.Complete}}
	for _, caller := range []struct {
		name, token string
		may         []door.Right
	}{{"gateway", All, []door.Right{door.MayDecide, door.MayReport, door.MayEvents, door.MayPeople, door.MayLook, door.MayOperate}},
		{"meter", Idle, []door.Right{door.MayOperate}}} {
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

// New makes a house at noon whose book is the demo's without its guarantees, on a store, in memory where that is nil. Change changes its
// configuration. Its rooms are people, events and metrics, unless an option says otherwise.
func New(t Tester, s store.Store, change func(*door.Config), options ...func(*door.Options)) *House {
	return NewAt(t, Noon, Unproven, s, change, options...)
}

// NewAt is New at another time, with another book.
func NewAt(t Tester, at time.Time, files fs.FS, s store.Store, change func(*door.Config), options ...func(*door.Options)) *House {
	if s == nil {
		s = new(store.Memory)
	}
	h := &House{T: t, Kept: s, now: at, Files: files, Logged: new(Logged)}
	o := door.Options{Rooms: []door.Room{people.Room, events.Room, metrics.Room}, Now: h.Clock,
		Log: slog.New(slog.NewJSONHandler(h.Logged, nil))}
	for _, option := range options {
		option(&o)
	}
	d, err := door.New(context.Background(), h.Load, s, Configured(change), o)
	require.NoError(t, err)
	h.Door = d
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return h
}

// Decide is that of the door, for an attempt that can be judged.
func (h *House) Decide(ctx context.Context, a *attempt.Attempt, asked door.Asked) *door.Answer {
	answer, err := h.Door.Decide(ctx, a, asked)
	require.NoError(h.T, err)
	return answer
}

// Answering has a door answer outside programs.
func Answering(c *door.Config) { c.Consent.Answer = true }

// Unproven is the demo's book without its guarantees, so that houses are many and soon built.
var Unproven = func() fs.FS {
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

// Edited returns the demo's book with a text in place of another.
func Edited(t require.TestingT, old, new string) fstest.MapFS {
	files := fstest.MapFS{}
	found := false
	require.NoError(t, fs.WalkDir(Unproven, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := fs.ReadFile(Unproven, path)
		found = found || bytes.Contains(text, []byte(old))
		files[path] = &fstest.MapFile{Data: bytes.ReplaceAll(text, []byte(old), []byte(new))}
		return err
	}))
	require.True(t, found, old)
	return files
}

// Ask makes a request and returns the status, the header and the body, which it holds against the
// description.
func (h *House) Ask(method, path, bearer string, body any) (int, http.Header, []byte) {
	status, header, text := h.PlainAsk(method, path, bearer, body)
	if !strings.HasPrefix(path, "/scim/") && !strings.HasPrefix(header.Get("Content-Type"), "text/plain") {
		h.Held(method, path, status, body, text)
	}
	return status, header, text
}

// PlainAsk is Ask of what no description has.
func (h *House) PlainAsk(method, path, bearer string, body any) (int, http.Header, []byte) {
	var from io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		from = strings.NewReader(b)
	default:
		text, err := json.Marshal(body)
		require.NoError(h.T, err)
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

// Answer is what is looked at of a decision of the door.
type Answer struct {
	ID string `json:"id"`
	decide.Decision
	Degraded []string `json:"degraded"`
	Facts    struct {
		Attempt json.RawMessage   `json:"attempt"`
		Account json.RawMessage   `json:"account"`
		From    map[string]string `json:"from"`
	} `json:"facts"`
}

// Answer asks for a decision, which has to be made.
func (h *House) Answer(body string) *Answer {
	status, _, text := h.Ask("POST", "/v1/decisions", All, body)
	require.Equal(h.T, http.StatusOK, status, string(text))
	a := new(Answer)
	require.NoError(h.T, json.Unmarshal(text, a), string(text))
	return a
}

// Ingrid signs on to an app, on her laptop at the pier, with these proofs and more fields.
func Ingrid(app, proofs, more string) string {
	return `{"account":"ingrid@kestrelsound.example","app":"` + app + `","ip":"203.0.113.20","device":{"id":"laptop-ingrid"},"proofs":[` +
		proofs + `]` + more + `}`
}

// Proofs, as an attempt has them.
const Password, Push = `{"method":"password"}`, `{"method":"push"}`

// Entries returns the journal.
func (h *House) Entries() []journal.Entry {
	var list []journal.Entry
	for e, err := range h.Kept.Entries(context.Background(), journal.Filter{}) {
		require.NoError(h.T, err)
		list = append(list, e)
	}
	return list
}

// Account returns what the store has of an account.
func (h *House) Account(name string) *store.Account {
	a := &store.Account{Name: name}
	if err := store.Load(context.Background(), h.Kept, a); !errors.Is(err, store.ErrNotFound) {
		require.NoError(h.T, err)
	}
	return a
}

// Known is what all sources say of an account together.
func (h *House) Known(name string) directory.Account {
	a, err := h.Book().Judge().Accounts().Account(context.Background(), name)
	if !errors.Is(err, directory.ErrNotFound) { // then the book's entry is all there is
		require.NoError(h.T, err)
	}
	return a
}

// Stated is a statement of an account before a test begins.
func Stated(fact store.Fact, by store.Source, value attempt.Scalar, because string) store.Statement {
	return store.Statement{Fact: fact, By: by, At: Noon.Add(-time.Hour), Value: value, Because: because}
}

// Cause is why somebody is let in at an app, or not, with a password.
func (h *House) Cause(account, app, more string) string {
	a := h.Answer(`{"account":"` + account + `","app":"` + app + `","proofs":[` + Password + `]` + more + `}`)
	return string(a.Causes[0].Code)
}
