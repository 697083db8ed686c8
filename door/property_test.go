package door_test

import (
	"context"
	"encoding/json"
	"flag"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
)

// reloads is how many books are taken into force under load; CI takes more.
var reloads = flag.Int("reloads", 60, "how many books are taken into force under load")

// drawn draws an attempt on the demo's book.
func drawn(t *rapid.T) *attempt.Attempt {
	one := func(name string, from ...string) string { return rapid.SampledFrom(from).Draw(t, name) }
	a := &attempt.Attempt{At: noon,
		Account: one("account", "ingrid@kestrelsound.example", "oskar@kestrelsound.example", "tide-gauge", "harbour-key",
			"nobody@kestrelsound.example"),
		App: one("app", "mail", "card-till", "crew-roster", "https://mail.kestrelsound.example/x", "shore-vpn", "none")}
	if ip := one("ip", "", "203.0.113.20", "192.0.2.200"); ip != "" {
		require.NoError(t, attempt.Parse([]byte(`{"ip":"`+ip+`"}`), a, attempt.Options{Part: true}))
	}
	if id := one("device", "", "laptop-ingrid", "till-04", "own-phone"); id != "" {
		a.Device = attempt.Known(attempt.Device{ID: attempt.Known(id)})
	}
	a.Session.ID = one("session", "", "s-1", "s-2")
	for _, method := range []string{"password", "push"} {
		if rapid.Bool().Draw(t, method) {
			a.Proofs = append(a.Proofs, attempt.Proof{Method: method})
		}
	}
	if one("failed", "", "push") != "" {
		a.Failed = []attempt.Failure{{Method: "push", Reason: attempt.FailureReason(rapid.IntRange(0, 2).Draw(t, "reason"))}}
	}
	return a
}

// facts draws what a store knows, and keeps it.
func facts(t *rapid.T, s store.Store) {
	require.NoError(t, s.Update(context.Background(), func(tx store.Tx) error {
		for _, name := range []string{"ingrid@kestrelsound.example", "oskar@kestrelsound.example"} {
			a := &store.Account{Name: name}
			switch rapid.IntRange(0, 4).Draw(t, "known") {
			case 1:
				a.Say(doortest.Stated(store.Disabled, store.Before, attempt.BoolScalar(true), ""))
			case 2:
				level := directory.Level(rapid.IntRange(0, 3).Draw(t, "level"))
				a.Say(doortest.Stated(store.StandingRisk, store.Before, attempt.TextScalar(level.String()), directory.LeakedPassword))
			case 3:
				a.Previous = &attempt.Previous{At: noon.Add(-time.Hour), Country: attempt.Known(attempt.CountryCode("BR"))}
				a.Say(doortest.Stated(store.Methods, store.Before, attempt.BoolScalar(true), ""))
			case 4:
				for i := range 12 {
					a.AddFailure(noon.Add(-time.Duration(i) * time.Minute))
				}
			}
			if err := store.Save(tx, a); err != nil {
				return err
			}
		}
		at := noon.Add(-time.Minute)
		return store.Save(
			tx,
			&store.Device{ID: "laptop-ingrid", Platform: "windows", ReportedAt: &at,
				SeenWith: []store.SeenAccount{{Account: "oskar@kestrelsound.example", At: at}},
				Facts:    map[string]attempt.Scalar{"firewall": attempt.BoolScalar(rapid.Bool().Draw(t, "firewall"))}},
		)
	}))
}

func TestAnAnswerIsThatOfTheFactsThatItShows(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		s := new(doortest.Broken)
		facts(t, s)
		h := doortest.New(quiet{t}, s, func(c *door.Config) { c.Store.History = door.History(rapid.IntRange(0, 1).Draw(t, "history")) })
		defer h.Close()
		for range 4 {
			a := drawn(t)
			h.Decide(t.Context(), a, door.Asked{Caller: "gateway"})
			var last journal.Entry
			for e, err := range s.Entries(t.Context(), journal.Filter{Kind: journal.Decision, Latest: true, Limit: 1}) {
				require.NoError(t, err)
				last = e
			}
			d, err := evidence.Read(&last)
			require.NoError(t, err)
			if d.Causes[0].Code == decide.SessionEnded {
				continue
			}
			require.NoError(t, d.Compare(b))
			require.Equal(t, d.Today.Verdict, d.Verdict, "%+v", d)
			require.Equal(t, d.Today.Causes, d.Causes)
			h.Pass(time.Minute)
			a.At = h.Clock()
			s.Fail(true, false)
			h.Forget()
			without := h.Decide(t.Context(), a, door.Asked{Caller: "gateway"})
			s.Fail(false, false)
			h.Forget()
			with := h.Decide(t.Context(), a, door.Asked{Caller: "gateway"})
			require.False(t, without.Verdict.Compare(with.Verdict) > 0, "without the store it says %s, and with it %s", without.Verdict,
				with.Verdict)
		}
	})
}

// quiet lets a house be made within a property.
type quiet struct{ *rapid.T }

// Cleanup implements what a house asks of a test; the property closes it itself.
func (q quiet) Cleanup(func()) {}

func TestConcurrentDecisionsAreEachByOneBook(t *testing.T) {
	// A machine that stalls for a while is no reason to block here.
	h := doortest.New(t, nil, func(c *door.Config) { c.Limits.Answer = directory.Span(time.Minute) })
	strict := doortest.Edited(t, "briskwarden: 1", "briskwarden: 1")
	strict["shut.yaml"] = &fstest.MapFile{
		Data: []byte("briskwarden: 1\npolicies:\n  - {name: shut, stage: live, who: anyone, apps: {names: [mail]}, " +
			"rules: [{name: all, then: block}]}\n"),
	}
	delete(strict, "drills.yaml")
	broken := fstest.MapFS{"book.yaml": &fstest.MapFile{Data: []byte("briskwarden: 2")}}
	mild := h.Book().Digest()
	h.Read(strict)
	r := h.Reload()
	require.True(t, r.Taken, r.Why)
	verdicts := map[string]decide.Verdict{mild: decide.Grant, r.Book: decide.Block}
	require.Equal(t, decide.Block, h.Answer(doortest.Ingrid("mail", password, "")).Verdict)

	var stop atomic.Bool
	var judged [2]atomic.Int64
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for !stop.Load() {
				a := new(attempt.Attempt)
				if err := attempt.Parse([]byte(doortest.Ingrid("mail", password, "")), a, attempt.Options{Now: noon}); err != nil {
					t.Error(err)
					return
				}
				answer := h.Decide(context.Background(), a, door.Asked{Caller: "gateway"})
				want, known := verdicts[answer.JudgedBy.Book]
				if !known || answer.Verdict != want {
					t.Errorf("%s says %s: %v %v", answer.JudgedBy.Book, answer.Verdict, answer.Causes, answer.Degraded)
					return
				}
				judged[want/decide.Grant].Add(1)
			}
		})
	}
	for i := range *reloads {
		h.Read([]fs.FS{doortest.Unproven, broken, strict}[i%3])
		h.Reload()
	}
	stop.Store(true)
	group.Wait()
	require.NotZero(t, judged[0].Load())
	require.NotZero(t, judged[1].Load())
}

func TestTwoDoorsOnOneDatabaseAnswerAlike(t *testing.T) {
	at := storetest.Postgres(t)
	open := func(name string) *doortest.House {
		s, err := postgres.Open(t.Context(), at)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		return doortest.New(t, s, func(c *door.Config) { c.Journal.Door = name })
	}
	one, other := open("north"), open("south")
	ready := func(h *doortest.House) func() bool {
		return func() bool { return h.Ready(t.Context()).Ready }
	}
	require.Eventually(t, ready(one), 10*time.Second, time.Millisecond)
	require.Eventually(t, ready(other), 10*time.Second, time.Millisecond)
	body := doortest.Ingrid("mail", password, `,"session":{"id":"s-1"}`)
	require.Equal(t, decide.Grant, one.Answer(body).Verdict)
	require.Eventually(t, func() bool {
		next := other.Answer(doortest.Ingrid("mail", "", `,"session":{"id":"s-1"}`))
		return next.Verdict == decide.Grant && next.Facts.From["session"] == "store"
	}, 10*time.Second, time.Millisecond, "the other knows the session")
	ended, err := other.EndSession(doortest.SessionOf("s-1"), "she called")
	require.NoError(t, err)
	require.True(t, ended)
	require.Eventually(t, func() bool { return one.Answer(body).Causes[0].Code == decide.SessionEnded }, 10*time.Second, time.Millisecond)
	found, err := journal.Verify(t.Context(), one.Kept, journal.Verification{})
	require.NoError(t, err)
	require.Len(t, found.Logs, 2, "each has a log of its own")
}

func FuzzDecision(f *testing.F) {
	f.Add(doortest.Ingrid("mail", password, `,"session":{"id":"s-1"}`))
	f.Add(
		`{"account":"a","app":"https://mail.kestrelsound.example/..;/","failed":[{"method":"push","reason":"refused"}],` +
			`"accepted":[{"document":"x","version":1}]}`,
	)
	h := doortest.New(f, nil, nil)
	f.Fuzz(func(t *testing.T, body string) {
		h.T = t
		status, _, text := h.PlainAsk("POST", "/v1/decisions", all, body)
		require.Less(t, status, 500, string(text))
		require.True(t, json.Valid(text))
		if status == 200 {
			h.Held("POST", "/v1/decisions", status, nil, text)
		}
	})
}

func FuzzGuard(f *testing.F) {
	f.Add("Bearer a.b.c", "mail.kestrelsound.example", "/inbox", "203.0.113.20", "sign_on=a.b.c")
	f.Add("bearer  eyJhbGciOiJub25lIn0..", "mail.kestrelsound.example:443", "/%2e%2e/", "::ffff:203.0.113.20, 127.0.0.1", "")
	p := doortest.NewProvider(f)
	h := doortest.New(f, nil, doortest.Guarded(p))
	good := p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd"))
	f.Fuzz(func(t *testing.T, authorization, host, uri, hops, cookie string) {
		for _, header := range []string{authorization, "Bearer " + good} {
			r := httptest.NewRequest("GET", "/v1/guard", nil)
			r.RemoteAddr = "127.0.0.1:4711"
			r.Header = http.Header{
				"Authorization":    {header},
				"X-Forwarded-Host": {host},
				"X-Forwarded-Uri":  {uri},
				"X-Forwarded-For":  {hops},
				"Cookie":           {cookie},
			}
			w := httptest.NewRecorder()
			h.Handler().ServeHTTP(w, r)
			require.Contains(t, []int{200, 400, 401, 403}, w.Code, w.Body.String())
			if w.Code == 200 {
				require.Equal(t, "Bearer "+good, header, "nobody is let in without a token")
				require.Equal(t, "ingrid@kestrelsound.example", w.Header().Get("X-Account"))
			}
		}
	})
}

// slow is a store whose transactions wait until they are let go on.
type slow struct {
	store.Memory
	let chan struct{}
}

func (s *slow) Update(ctx context.Context, change func(store.Tx) error) error {
	<-s.let
	return s.Memory.Update(context.WithoutCancel(ctx), change)
}

func TestWhatNobodyWaitsForIsBounded(t *testing.T) {
	s := &slow{let: make(chan struct{})}
	_, err := store.CarryOver(t.Context(), &s.Memory, noon) // which a door does at its start
	require.NoError(t, err)
	h := doortest.New(t, s, func(c *door.Config) { c.Journal.Mode = door.JournalOff })
	var answered atomic.Int64
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for range 2000 {
				a := new(attempt.Attempt)
				if err := attempt.Parse([]byte(doortest.Ingrid("mail", password, "")), a, attempt.Options{Now: noon}); err != nil {
					t.Error(err)
				}
				h.Decide(context.Background(), a, door.Asked{})
				answered.Add(1)
			}
		})
	}
	still := int64(-1)
	require.Eventually(t, func() bool {
		before := still
		still = answered.Load()
		return still > 0 && still == before // nothing moves any more
	}, time.Minute, 200*time.Millisecond)
	require.Less(t, still, int64(4000), "those who hand in more than is written wait")
	close(s.let)
	group.Wait()
	require.EqualValues(t, 8000, answered.Load())
}
