package door_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

func TestDecisions(t *testing.T) {
	h := doortest.New(t, nil, nil)
	first := h.Answer(doortest.Ingrid("mail", password, `,"session":{"id":"s-1"}`))
	require.Equal(t, decide.Grant, first.Verdict)
	require.Equal(t, map[string]string{"account": "book", "previous": "store", "failures": "store", "session": "nobody", "device": "book",
		"device.known": "book"}, first.Facts.From)

	t.Run("it is read back", func(t *testing.T) {
		status, _, text := h.Ask("GET", "/v1/decisions/"+first.ID, all, nil)
		require.Equal(t, http.StatusOK, status)
		again := new(doortest.Answer)
		require.NoError(t, json.Unmarshal(text, again))
		require.Equal(t, first, again)
		status, _, _ = h.Ask("GET", "/v1/decisions/none", all, nil)
		require.Equal(t, http.StatusNotFound, status)
		reload := h.Entries()[0]
		require.Equal(t, journal.Reload, reload.Kind)
		status, _, _ = h.Ask("GET", "/v1/decisions/"+reload.ID, all, nil)
		require.Equal(t, http.StatusNotFound, status, "an entry that is no decision is none")
	})
	t.Run("the next one knows of it", func(t *testing.T) {
		h.Pass(time.Minute)
		next := h.Answer(doortest.Ingrid("mail", "", `,"session":{"id":"s-1"}`))
		require.Equal(t, decide.Grant, next.Verdict, "the password was proven in this session")
		require.Equal(t, "store", next.Facts.From["session"])
		var a attempt.Attempt
		require.NoError(t, attempt.Parse(next.Facts.Attempt, &a, attempt.Options{}))
		previous, _ := a.Previous.Get()
		require.Equal(t, noon, previous.At)
		require.Equal(t, attempt.Known(attempt.CountryCode("NO")), previous.Country)
		require.Equal(t, []attempt.Proof{{Method: "password", At: noon, App: "mail"}}, a.Session.Proofs)
	})
	t.Run("another's session is not hers", func(t *testing.T) {
		body := strings.Replace(doortest.Ingrid("mail", "", `,"session":{"id":"s-1"}`), "ingrid@", "oskar@", 1)
		require.NotEqual(t, decide.Grant, h.Answer(body).Verdict)
		ended, err := h.EndSession(doortest.SessionOf("s-1"), "she called")
		require.NoError(t, err)
		require.True(t, ended)
		h.Answer(strings.Replace(doortest.Ingrid("mail", password+","+push, `,"session":{"id":"s-1"}`), "ingrid@", "oskar@", 1))
		require.Equal(t, decide.SessionEnded, h.Answer(doortest.Ingrid("mail", password, `,"session":{"id":"s-1"}`)).Causes[0].Code,
			"and nobody else's sign-on brings an ended one back")
	})
	t.Run("what is stated wins", func(t *testing.T) {
		a := h.Answer(
			doortest.Ingrid("mail", password, `,"session":{"id":"s-1","started":"2026-11-23T13:00:00Z"},"previous":null,"failures":null`))
		require.Equal(t, "attempt", a.Facts.From["session"])
		require.Equal(t, "attempt", a.Facts.From["previous"])
		require.Equal(t, "attempt", a.Facts.From["failures"])
	})
	t.Run("a refused proof is a failure", func(t *testing.T) {
		h.Answer(doortest.Ingrid("mail", password, `,"failed":[{"method":"push","reason":"refused"}]`))
		h.Answer(doortest.Ingrid("mail", password, `,"failed":[{"method":"push","reason":"timed_out"}]`))
		require.Len(t, h.Account("ingrid@kestrelsound.example").Failures, 1)
	})
	t.Run("nothing is kept of names that somebody made up", func(t *testing.T) {
		a := h.Answer(strings.Replace(doortest.Ingrid("mail", password, ""), "ingrid@", "nobody@", 1))
		require.Equal(t, decide.AccountUnknown, a.Causes[0].Code)
		require.ErrorIs(t, store.Load(t.Context(), h.Kept, &store.Account{Name: "nobody@kestrelsound.example"}), store.ErrNotFound)
	})
	t.Run("every decision is an entry", func(t *testing.T) {
		entries := h.Entries()
		found, err := journal.Verify(t.Context(), h.Kept, journal.Verification{})
		require.NoError(t, err)
		require.EqualValues(t, len(entries), found.Size)
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
	h := doortest.New(t, nil, nil)
	require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", password, manyAccepted(256))).Verdict)
	kept := h.Account("ingrid@kestrelsound.example").Accepted
	require.Len(t, kept, 1)
	require.Equal(t, "crew-handbook", kept[0].Document)
}

func TestWhatIsRefused(t *testing.T) {
	h := doortest.New(t, nil, func(c *door.Config) { c.Callers[1].Rate, c.Callers[1].Burst = 0.001, 1 })
	whole := doortest.Ingrid("mail", password, "")
	for name, c := range map[string]struct {
		method, path, bearer string
		body                 any
		status               int
		detail               string
	}{
		"nobody":         {"POST", "/v1/decisions", "", whole, 401, "Say who calls"},
		"a wrong token":  {"POST", "/v1/decisions", "bw_other", whole, 401, "Say who calls"},
		"no right":       {"POST", "/v1/decisions", idle, whole, 403, "meter may not do this; it would need the right decide"},
		"another method": {"PUT", "/v1/decisions", all, whole, 405, "one of POST"},
		"no path":        {"GET", "/v1/attempts", all, nil, 404, "/openapi.json"},
		"no JSON":        {"POST", "/v1/decisions", all, `{"account":`, 400, "the JSON ends in the middle"},
		"a key twice":    {"POST", "/v1/decisions", all, `{"account":"a","account":"b"}`, 400, "stands twice"},
		"an unknown key": {"POST", "/v1/decisions", all, `{"acount":"a"}`, 400, `did you mean "account"`},
		"no account":     {"POST", "/v1/decisions", all, `{"app":"mail"}`, 400, "no `account`"},
		"another time": {"POST", "/v1/decisions", all, doortest.Ingrid("mail", password, `,"at":"2026-11-20T13:10:00Z"`), 422,
			"which is not now"},
		"a control sign":    {"POST", "/v1/decisions", all, strings.Replace(whole, "ingrid@", `\u0000`, 1), 422, "control character"},
		"a name too long":   {"POST", "/v1/decisions", all, doortest.Ingrid(strings.Repeat("a", 5000), password, ""), 422, "longer than"},
		"a body too large":  {"POST", "/v1/decisions", all, strings.Repeat(" ", 1<<20) + whole, 413, "At most"},
		"too much at once":  {"POST", "/v1/decisions", all, doortest.Ingrid("mail", password, manyAccepted(257)), 422, "at most 256 are taken"},
		"no such session":   {"GET", "/v1/sessions/none", all, nil, 404, "no open session"},
		"no right to look":  {"GET", "/v1/sessions/none", "bw_other", nil, 401, "Say who calls"},
		"metrics by nobody": {"GET", "/metrics", "", nil, 401, "Say who calls"},
	} {
		t.Run(name, func(t *testing.T) {
			status, header, text := h.Ask(c.method, c.path, c.bearer, c.body)
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
		h.Ask("GET", "/metrics", idle, nil)
		status, header, _ := h.Ask("GET", "/metrics", idle, nil)
		require.Equal(t, http.StatusTooManyRequests, status)
		bounded := doortest.New(t, nil, func(c *door.Config) { c.Callers[0].Rate, c.Callers[0].Burst = 0.001, 5 })
		batch := `{"subject":{"type":"account","id":"ingrid@kestrelsound.example"},"resource":{"type":"app","id":"mail"},` +
			`"action":{"name":"sign-in"},"evaluations":[{},{},{}]}`
		for _, want := range []int{http.StatusOK, http.StatusTooManyRequests} { // each evaluation is a request
			status, _, text := bounded.Ask("POST", "/access/v1/evaluations", all, batch)
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
	require.Len(t, h.Entries(), 1, "nothing was judged, so the journal has the book alone")
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
			s := new(doortest.Broken)
			h := doortest.New(t, s, func(config *door.Config) { config.Journal.Mode = c.mode })
			s.Fail(c.reads, c.writes)
			a := h.Answer(doortest.Ingrid("mail", password, ""))
			require.Equal(t, c.verdict, a.Verdict)
			require.Equal(t, c.cause, a.Causes[0].Code)
			require.Contains(t, strings.Join(a.Degraded, "; "), c.degraded)
			if c.verdict == decide.Block {
				require.Equal(t, decide.Block, a.ToPerson.Verdict)
				require.Empty(t, a.ACR)
			}
			require.NotContains(t, string(a.Facts.Attempt), "full")
			require.Equal(t, c.verdict == decide.Grant, h.Ready(t.Context()).Ready, "it is ready where it can grant")
			s.Fail(false, false)
			require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", password, "")).Verdict, "it goes on when the store is back")
			require.True(t, h.Ready(t.Context()).Ready)
		})
	}
}

func TestReload(t *testing.T) {
	h := doortest.New(t, nil, nil)
	was := h.Book().Digest()
	drilled := doortest.Edited(t, "stage: live", "stage: live")
	drilled["more.yaml"] = &fstest.MapFile{Data: []byte("briskwarden: 1\ndrills:\n  - {name: nobody-reads-mail, expect: block, attempt: " +
		doortest.Ingrid("mail", password, `,"at":"2026-11-23T13:10:00Z"`) + "}\n")}
	refuted := doortest.Edited(t, "stage: live", "stage: live")
	refuted["more.yaml"] = &fstest.MapFile{
		Data: []byte("briskwarden: 1\nguarantees: [{name: no-mail, where: {names: [mail]}, always: block}]\n"),
	}
	for name, c := range map[string]struct {
		files fs.FS
		why   string
	}{
		"a guarantee fails": {refuted, "the guarantee no-mail fails for ingrid@kestrelsound.example at mail"},
		"it cannot be read": {doortest.Edited(t, "stage: live", "stage: alive"), `"alive" is not`},
		"a drill fails":     {drilled, "the drill nobody-reads-mail fails: wanted block, got grant"},
		"there is no book":  {fstest.MapFS{}, "holds no book"},
	} {
		t.Run(name, func(t *testing.T) {
			h.Read(c.files)
			r := h.Reload()
			require.False(t, r.Taken)
			require.Contains(t, strings.Join(r.Why, "\n"), c.why)
			require.Equal(t, was, h.Book().Digest(), "the one before goes on")
			require.Equal(t, was, h.Answer(doortest.Ingrid("mail", password, "")).JudgedBy.Book)
			status, _, text := h.Ask("GET", "/readyz", "", nil)
			require.Equal(t, http.StatusOK, status)
			require.Contains(t, string(text), "a newer book was refused")
			entries := h.Entries()
			require.Equal(t, journal.Reload, entries[len(entries)-2].Kind)
		})
	}
	t.Run("the same", func(t *testing.T) {
		h.Read(doortest.Unproven)
		before := len(h.Entries())
		require.True(t, h.Reload().Unchanged)
		require.Len(t, h.Entries(), before)
	})
	t.Run("a newer one", func(t *testing.T) {
		h.Read(doortest.Edited(t, "hosts: [mail.kestrelsound.example]", "hosts: [post.kestrelsound.example]"))
		r := h.Reload()
		require.True(t, r.Taken, r.Why)
		require.Equal(t, r.Book, h.Answer(doortest.Ingrid("https://post.kestrelsound.example/", password, "")).JudgedBy.Book)
	})
}

func TestAccountsOfTheStore(t *testing.T) {
	s := new(store.Memory)
	high := &store.Account{Name: "ingrid@kestrelsound.example", Stated: []store.Statement{doortest.Stated(store.StandingRisk, store.Before,
		attempt.TextScalar("high"), "seen elsewhere")}}
	gone := &store.Account{Name: "oskar@kestrelsound.example", Stated: []store.Statement{doortest.Stated(store.Disabled, store.Before,
		attempt.BoolScalar(true), "")}}
	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return errors.Join(store.Save(tx, high), store.Save(tx, gone)) }))
	h := doortest.New(t, s, nil)
	a := h.Answer(doortest.Ingrid("mail", password, ""))
	require.Equal(t, "store", a.Facts.From["account"])
	require.Contains(t, string(a.Facts.Account), "seen elsewhere")
	require.NotEqual(t, decide.Grant, a.Verdict)
	require.Equal(t, decide.AccountDisabled,
		h.Answer(strings.Replace(doortest.Ingrid("mail", password, ""), "ingrid@", "oskar@", 1)).Causes[0].Code)
}

func TestAMinimalAnswer(t *testing.T) {
	for name, mode := range map[string]door.JournalMode{"recorded": door.JournalRequired, "not recorded": door.JournalOff} {
		t.Run(name, func(t *testing.T) {
			h := doortest.New(t, nil, func(c *door.Config) { c.Journal.Mode = mode })
			ask := func(prefer, more string) (map[string]json.RawMessage, http.Header) {
				r := httptest.NewRequest("POST", "/v1/decisions", strings.NewReader(doortest.Ingrid("mail", password, more)))
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
					status, _, text := h.Ask("GET", "/v1/decisions/"+id, all, nil)
					require.Equal(t, 200, status)
					require.Contains(t, string(text), `"facts"`, "the record is whole")
				}
			}
			require.Eventually(t, func() bool { return h.Session("s-1") != nil }, 10*time.Second, time.Millisecond)
			_, err := h.Review(t.Context())
			require.NoError(t, err)
			require.Len(t, h.OpenApps("s-1"), 1)
		})
	}
}
