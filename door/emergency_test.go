package door_test

import (
	"io/fs"
	"net/http"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// shelf is a keeper in memory, which fails where it is full.
type shelf struct {
	mu   sync.Mutex
	has  map[string][]byte
	full bool
}

func (s *shelf) Keep(name string, text []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.full {
		return doortest.ErrBroken
	}
	if s.has == nil {
		s.has = map[string][]byte{}
	}
	s.has[name] = text
	return nil
}

func (s *shelf) Kept(name string) ([]byte, time.Time, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if text, is := s.has[name]; is {
		return text, noon, nil
	}
	return nil, time.Time{}, fs.ErrNotExist
}

const (
	safe    = `{"account":"safe","app":"admin","session":{"id":"s-1"},"proofs":[{"method":"security-key"}]}`
	notSafe = `{"account":"safe","app":"admin","proofs":[{"method":"password"}]}`
)

func TestTheEmergencyAccountGetsIn(t *testing.T) {
	files := fstest.MapFS{"shop.yaml": {Data: []byte(shop)}}
	p := doortest.NewProvider(t)
	// open is a house on a store, with what it keeps of its own.
	open := func(t *testing.T, s store.Store, own *shelf, away bool) *doortest.House {
		return doortest.New(t, s, func(c *door.Config) {
			c.Callers[0].People = door.PeopleBounds{Accounts: []string{"anyone"}, Facts: []string{"active", "risk", "methods", "password"}}
			c.Events = []door.Transmitter{{Issuer: feed, Audience: []string{"https://door.kestrelsound.example"}, Keys: p.URL}}
		}, func(o *door.Options) {
			o.InForce = func(options ...briskwarden.Option) (*briskwarden.Book, error) {
				return briskwarden.OpenFS(files, options...)
			}
			if o.Away = away; own != nil {
				o.Keeper = own
			}
		})
	}
	verdict := func(h *doortest.House, body string) (decide.Verdict, string) {
		a := h.Answer(body)
		return a.Verdict, string(a.Causes[0].Code)
	}
	is := func(t *testing.T, h *doortest.House, want decide.Verdict, body string) {
		t.Helper()
		h.Forget()
		came, cause := verdict(h, body)
		require.Equal(t, want, came, cause+h.Logged.String())
	}
	ann := `{"account":"ann@shop.example","app":"mail","proofs":[` + password + `]}`
	recorded := func(h *doortest.House, account string) (n int) {
		for e, err := range h.Kept.Entries(t.Context(), journal.Filter{Account: account, Kind: journal.Decision}) {
			require.NoError(t, err)
			require.NotEmpty(t, e.ID)
			n++
		}
		return n
	}

	for name, c := range map[string]struct {
		reads, writes, full bool
		own                 bool
		want                decide.Verdict
	}{
		"the store cannot be read":                        {reads: true, own: true, want: decide.Grant},
		"nothing can be recorded":                         {writes: true, own: true, want: decide.Grant},
		"neither":                                         {reads: true, writes: true, own: true, want: decide.Grant},
		"nor can the door keep anything of its own":       {reads: true, writes: true, own: true, full: true, want: decide.Grant},
		"the door has no state, and the store is away":    {reads: true, want: decide.Block},
		"the door has no state, and nothing can be noted": {writes: true, want: decide.Block},
	} {
		t.Run(name, func(t *testing.T) {
			s, own := new(doortest.Broken), (*shelf)(nil)
			if c.own {
				own = new(shelf)
			}
			h := open(t, s, own, false)
			is(t, h, decide.Grant, safe)
			was := recorded(h, "safe")
			s.Fail(c.reads, c.writes)
			if own != nil {
				own.mu.Lock()
				own.full = c.full
				own.mu.Unlock()
			}
			h.Forget()
			a := h.Answer(safe)
			require.Equal(t, c.want, a.Verdict, a.Causes)
			require.NotEmpty(t, a.Degraded)
			is(t, h, decide.Block, ann)
			if c.want == decide.Grant {
				came, _ := verdict(h, notSafe)
				require.NotEqual(t, decide.Grant, came, "by its key alone")
				require.Equal(t, c.writes, strings.Contains(h.Logged.String(), a.ID), h.Logged.String())
			}
			s.Fail(false, false)
			is(t, h, decide.Grant, ann)
			if c.want == decide.Grant {
				require.Eventually(t, func() bool { return recorded(h, "safe") > was }, 20*time.Second, 10*time.Millisecond,
					"it is entered when the journal is there again")
				_, err := s.Entry(t.Context(), a.ID)
				require.NoError(t, err)
			}
		})
	}
	t.Run("what an administrator did is held to, what others say is not", func(t *testing.T) {
		s, own := new(doortest.Broken), new(shelf)
		h := open(t, s, own, false)
		is(t, h, decide.Grant, safe)
		for _, kind := range []string{risc + "account-disabled", caep + "session-revoked"} {
			e := doortest.Event(kind, kind, map[string]any{"format": "opaque", "id": "safe"}, map[string]any{"event_timestamp": h.Clock().Unix()})
			status, text := h.PushEvent(p.Sign("first", "secevent+jwt", e))
			require.Equal(t, http.StatusAccepted, status, text)
		}
		require.Contains(t, h.Logged.String(), "not_allowed")
		is(t, h, decide.Grant, safe)
		a := &store.Account{Name: "safe"}
		a.Say(store.Statement{Fact: store.Disabled, By: store.AdministratorSource("ragna"), At: noon, Value: attempt.BoolScalar(true)})
		require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, a) }))
		is(t, h, decide.Block, safe)
		s.Fail(true, true)
		is(t, h, decide.Block, safe)
		require.NoError(t, h.Close())
		h = open(t, s, own, true)
		is(t, h, decide.Block, safe)
	})
	t.Run("the door starts without its store", func(t *testing.T) {
		s, own := new(doortest.Broken), new(shelf)
		h := open(t, s, own, false)
		require.NoError(t, h.Close())
		s.Fail(true, true)
		h = open(t, s, own, true)
		is(t, h, decide.Grant, safe)
		is(t, h, decide.Block, ann)
		require.False(t, h.Ready(t.Context()).Ready)
		require.NoError(t, h.Close())
		s.Fail(false, false)
		h = open(t, s, own, false)
		require.Equal(t, 1, recorded(h, "safe"), "what it owed it enters at the next start")
		h.Pass(time.Second)
		require.NoError(t, h.EndSessionsOf("safe", "she called"))
		is(t, h, decide.Block, `{"account":"safe","app":"admin","session":{"id":"s-1","started":"`+noon.Format(time.RFC3339)+
			`","proofs":[{"method":"security-key","at":"`+noon.Format(time.RFC3339)+`"}]}}`)
		h.Pass(time.Second)
		is(t, h, decide.Grant, safe)
	})
}
