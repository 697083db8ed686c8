package door_test

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

const feed = "https://feed.kestrelsound.example"

// receiver is a stand-in for one who is told of sessions that end.
type receiver struct {
	*httptest.Server
	mu      sync.Mutex
	refuses bool
	got     []map[string]any
}

func newReceiver(t testing.TB) *receiver {
	r := &receiver{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		r.mu.Lock()
		defer r.mu.Unlock()
		text, err := io.ReadAll(q.Body)
		if err != nil || r.refuses || q.Header.Get("Content-Type") != "application/secevent+jwt" {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		token, err := jwt.ParseSigned(string(text), []jose.SignatureAlgorithm{jose.ES256})
		claims := map[string]any{}
		if err == nil {
			err = token.UnsafeClaimsWithoutVerification(&claims)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		// A sender that was cut off sends again what was taken; the jti tells.
		if !slices.ContainsFunc(r.got, func(c map[string]any) bool { return c["jti"] == claims["jti"] }) {
			r.got = append(r.got, claims)
		}
		w.WriteHeader(http.StatusAccepted)
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) refuse(is bool) { r.mu.Lock(); defer r.mu.Unlock(); r.refuses = is }

func (r *receiver) taken() []map[string]any {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.got)
}

// telling configures a house that takes events of the provider's and tells the receiver.
func telling(t testing.TB, p *provider, r *receiver) func(*door.Config) {
	key, err := (&jose.JSONWebKey{Key: p.keys["first"], KeyID: "door", Algorithm: "ES256"}).MarshalJSON()
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "key.jwk")
	require.NoError(t, os.WriteFile(path, key, 0o600))
	return func(c *door.Config) {
		c.Events = []door.Transmitter{{Issuer: feed, Audience: []string{"https://door.kestrelsound.example"}, Keys: p.URL}}
		c.Tell = door.Telling{Issuer: "https://door.kestrelsound.example", Key: path,
			Receivers: []door.Receiver{{Name: "idp", URL: r.URL, Audience: issuer, Apps: []string{"mail", "card-till"}}}}
	}
}

// event makes the claims of a security event token about a subject.
func event(jti, kind string, subject, says map[string]any) map[string]any {
	return map[string]any{"iss": feed, "aud": "https://door.kestrelsound.example", "jti": jti, "iat": noon.Unix(), "sub_id": subject,
		"events": map[string]any{kind: says}}
}

// push hands in a token.
func (h *house) push(token string) (int, string) {
	return h.pushAs(all, token)
}

// pushAs is push by a caller.
func (h *house) pushAs(bearer, token string) (int, string) {
	r := httptest.NewRequest("POST", "/v1/events", strings.NewReader(token))
	r.Header.Set("Authorization", "Bearer "+bearer)
	r.Header.Set("Content-Type", "application/secevent+jwt")
	w := httptest.NewRecorder()
	h.Handler().ServeHTTP(w, r)
	return w.Code, w.Body.String()
}

const (
	caep = "https://schemas.openid.net/secevent/caep/event-type/"
	risc = "https://schemas.openid.net/secevent/risc/event-type/"
)

var (
	herself = map[string]any{"format": "email", "email": "ingrid@kestrelsound.example"}
	laptop  = map[string]any{"format": "complex", "device": map[string]any{"format": "opaque", "id": "laptop-ingrid"}}
)

// sessionOf is the door's identifier of a session of ingrid's that the gateway names.
func sessionOf(sid string) string {
	return store.SessionID("gateway", sid, "ingrid@kestrelsound.example")
}

// session returns an open session of ingrid's, nil where there is none.
func (h *house) session(sid string) *store.Session { return h.sessionBy(sessionOf(sid)) }

// open returns the apps that a session of ingrid's is granted.
func (h *house) open(sid string) (apps []string) {
	if s := h.session(sid); s != nil {
		for i := range s.Apps {
			if ended, _ := s.Apps[i].EndedBy(h.clock()); ended.IsZero() {
				apps = append(apps, s.Apps[i].App)
			}
		}
	}
	return apps
}

// sessionBy is session by the door's identifier.
func (h *house) sessionBy(id string) *store.Session {
	s := &store.Session{ID: id}
	if store.Load(h.t.Context(), h.store, s) != nil {
		return nil
	}
	return s
}

func TestEventsHaveTheirEffect(t *testing.T) {
	at := noon
	for name, c := range map[string]struct {
		kind          string
		subject, says map[string]any
		before        []store.Statement
		// account, where given, is what is known of her afterwards, where it is not as the book has it; open says that her
		// session goes on.
		account *directory.Account
		open    bool
	}{
		"a leaked password": {kind: risc + "credential-compromise", subject: herself, says: map[string]any{"credential_type": "password"},
			account: &directory.Account{AccountRisk: &directory.AccountRisk{Level: directory.HighRisk, Because: directory.LeakedPassword,
				Since: &at}}},
		"a compromised key": {kind: risc + "credential-compromise", subject: herself, says: map[string]any{"credential_type": "fido2-roaming"},
			account: &directory.Account{AccountRisk: &directory.AccountRisk{Level: directory.HighRisk, Because: "compromised fido2-roaming",
				Since: &at}}},
		"disabled": {kind: risc + "account-disabled", subject: herself, says: map[string]any{}, account: &directory.Account{Disabled: true}},
		"enabled": {kind: risc + "account-enabled", subject: herself, account: &directory.Account{},
			before: []store.Statement{stated(store.Disabled, store.IssuerSource(feed), attempt.BoolScalar(true), "")}},
		"enabled by another than disabled her": {kind: risc + "account-enabled", subject: herself, account: &directory.Account{Disabled: true},
			before: []store.Statement{stated(store.Disabled, store.IssuerSource("https://other.example"), attempt.BoolScalar(true), "")}},
		"change it": {kind: risc + "account-credential-change-required", subject: herself,
			account: &directory.Account{AccountRisk: &directory.AccountRisk{Level: directory.HighRisk, Because: directory.LeakedPassword,
				Since: &at}}},
		"a password was changed": {kind: caep + "credential-change", subject: herself,
			says: map[string]any{"credential_type": "password", "change_type": "update"}, account: &directory.Account{PasswordChangedAt: &at}},
		"a key was enrolled": {kind: caep + "credential-change", subject: herself, open: true,
			says:    map[string]any{"credential_type": "fido2-roaming", "change_type": "create"},
			account: &directory.Account{Methods: []string{"password", "push", "security-key"}}},
		"a push was taken out": {kind: caep + "credential-change", subject: herself, open: true,
			says: map[string]any{"credential_type": "app", "change_type": "revoke"}, account: &directory.Account{Methods: []string{"password"}}},
		"an app for codes was enrolled": {kind: caep + "credential-change", subject: herself, open: true,
			says:    map[string]any{"credential_type": "otp-app", "change_type": "create"},
			account: &directory.Account{Methods: []string{"password", "push", "otp-app"}}},
		"what the book has no method for": {kind: caep + "credential-change", subject: herself, open: true,
			says: map[string]any{"credential_type": "pin", "change_type": "create"}, account: &directory.Account{}},
		"a pass that nobody enrols": {kind: caep + "credential-change", subject: herself, open: true,
			says: map[string]any{"credential_type": "desk-pass", "change_type": "create"}, account: &directory.Account{}},
		"a change that is none": {kind: caep + "credential-change", subject: herself, open: true,
			says: map[string]any{"credential_type": "app", "change_type": "rotate"}, account: &directory.Account{}},
		"risk rises": {kind: caep + "risk-level-change", subject: herself, says: map[string]any{"current_level": "HIGH", "risk_reason": "odd",
			"principal": "USER"},
			account: &directory.Account{AccountRisk: &directory.AccountRisk{Level: directory.HighRisk, Because: "odd", Since: &at}}},
		"risk that is no level": {kind: caep + "risk-level-change", subject: herself, says: map[string]any{"current_level": "SEVERE"},
			account: &directory.Account{AccountRisk: &directory.AccountRisk{Level: directory.HighRisk, Because: "another system raised it",
				Since: &at}}},
		"risk falls": {kind: caep + "risk-level-change", subject: herself, says: map[string]any{"current_level": "LOW"}, open: true,
			account: &directory.Account{AccountRisk: &directory.AccountRisk{Level: directory.LowRisk, Because: "another system raised it",
				Since: &at}}},
		"her sessions are revoked": {kind: caep + "session-revoked", subject: herself},
		"the session is revoked": {kind: caep + "session-revoked",
			subject: map[string]any{"format": "complex", "session": map[string]any{"format": "opaque", "id": "s-1"}}},
		"assurance falls": {kind: caep + "assurance-level-change", subject: herself, says: map[string]any{"change_direction": "decrease"}},
		"assurance rises": {kind: caep + "assurance-level-change", subject: herself, says: map[string]any{"change_direction": "increase"},
			open: true},
		"somebody else": {kind: risc + "account-disabled", subject: map[string]any{"format": "email",
			"email": "oskar@kestrelsound.example"}, open: true},
		"by the issuer's own name": {kind: risc + "account-disabled", account: &directory.Account{Disabled: true},
			subject: map[string]any{"format": "iss_sub", "iss": feed, "sub": "ingrid@kestrelsound.example"}},
		"by another issuer's name": {kind: risc + "account-disabled", open: true,
			subject: map[string]any{"format": "iss_sub", "iss": "https://other.example", "sub": "ingrid@kestrelsound.example"}},
		"by one of two names": {kind: risc + "account-disabled", account: &directory.Account{Disabled: true},
			subject: map[string]any{"format": "aliases", "identifiers": []any{map[string]any{"format": "phone_number",
				"phone_number": "+4700000000"},
				map[string]any{"format": "email", "email": "INGRID@kestrelsound.example"}}}},
		"by the names of two": {kind: risc + "account-disabled", open: true,
			subject: map[string]any{"format": "aliases", "identifiers": []any{herself,
				map[string]any{"format": "email", "email": "oskar@kestrelsound.example"}}}},
		"nobody that is known": {kind: risc + "account-disabled", subject: map[string]any{"format": "email", "email": "nobody@x.example"},
			open: true},
		"another kind": {kind: caep + "session-presented", subject: herself, open: true},
	} {
		t.Run(name, func(t *testing.T) {
			p, r := newProvider(t), newReceiver(t)
			s := new(store.Memory)
			if c.before != nil {
				before := &store.Account{Name: "ingrid@kestrelsound.example", Stated: c.before}
				require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, before) }))
			}
			h := newHouse(t, s, telling(t, p, r))
			if c.before == nil {
				require.Equal(t, decide.Grant, h.decide(ingrid("mail", password, `,"session":{"id":"s-1"}`)).Verdict)
			}
			status, text := h.push(p.sign("first", "secevent+jwt", event("e-1", c.kind, c.subject, c.says)))
			require.Equal(t, http.StatusAccepted, status, text)
			if c.account != nil {
				known, listed := directory.Account{Methods: []string{"password", "push"}}, []string{"password", "push"}
				if len(h.account("ingrid@kestrelsound.example").Stated) > 0 {
					known = h.known("ingrid@kestrelsound.example")
				}
				if c.account.Methods == nil {
					c.account.Methods = listed
				}
				require.Equal(t, c.account, &directory.Account{Disabled: known.Disabled, Methods: known.Methods, AccountRisk: known.AccountRisk,
					PasswordChangedAt: known.PasswordChangedAt})
			}
			_, err := h.Review(t.Context())
			require.NoError(t, err)
			if c.before != nil {
				return
			}
			session := h.session("s-1")
			require.NotNil(t, session)
			if c.open {
				require.Len(t, h.open("s-1"), 1, "the session goes on")
				require.Empty(t, r.taken())
				return
			}
			require.Empty(t, h.open("s-1"))
			require.Eventually(t, func() bool { return len(r.taken()) == 1 }, 10*time.Second, time.Millisecond)
			told := r.taken()[0]
			require.Equal(t, issuer, told["aud"])
			require.Equal(t, "s-1", told["sub_id"].(map[string]any)["session"].(map[string]any)["id"])
			require.Contains(t, told["events"], caep+"session-revoked")
		})
	}
}

func TestADeviceThatIsFoundUnfitEndsASession(t *testing.T) {
	p, r := newProvider(t), newReceiver(t)
	h := newHouse(t, nil, telling(t, p, r))
	till := `{"account":"ingrid@kestrelsound.example","app":"card-till","ip":"203.0.113.20","device":{"id":"laptop-ingrid"},` +
		`"session":{"id":"s-1"},"proofs":[` +
		password + "," + push + `]}`
	require.Equal(t, decide.Grant, h.decide(till).Verdict)
	report := func(facts string) int {
		status, _, _ := h.ask("PUT", "/v1/devices/laptop-ingrid/report", all, `{"platform":"windows","facts":`+facts+`}`)
		return status
	}
	fit := `{"firewall":true,"os_version":"10.0.22631","patch_age_days":3,"disk_encrypted":true}`
	h.pass(time.Minute)
	require.Equal(t, http.StatusNoContent, report(fit))
	ended, err := h.Review(t.Context())
	require.NoError(t, err)
	require.Zero(t, ended, "a newer report that is as good ends nothing")
	h.pass(time.Minute)
	require.Equal(t, http.StatusNoContent, report(strings.Replace(fit, `"firewall":true`, `"firewall":false`, 1)))
	require.Eventually(
		t,
		func() bool { return len(h.open("s-1")) == 0 },
		10*time.Second,
		time.Millisecond,
		"it is looked at by itself",
	)
	require.Equal(t, decide.DeviceUnfit, h.decide(till).Causes[0].Code)
	require.Equal(t, http.StatusNoContent, report(fit))
	continues := strings.Replace(till, `"proofs":[`+password+","+push+`]`, `"proofs":[]`, 1)
	require.Equal(t, decide.DemandOpen, h.decide(continues).Causes[0].Code, "repaired, what was authenticated before does not do")
	h.pass(time.Second)
	require.Equal(t, decide.Grant, h.decide(till).Verdict, "and repaired she is let in again")
	kinds := map[journal.Kind]int{}
	for _, e := range h.entries() {
		kinds[e.Kind]++
	}
	require.Equal(t, 3, kinds[journal.Report])
	require.Equal(t, 1, kinds[journal.SessionEnd])

	for name, c := range map[string]struct {
		path, body string
		status     int
	}{
		"no facts":      {"/v1/devices/laptop-ingrid/report", `{"platform":"windows"}`, 422},
		"yet to come":   {"/v1/devices/laptop-ingrid/report", `{"facts":{},"reported_at":"2026-11-24T00:00:00Z"}`, 422},
		"older":         {"/v1/devices/laptop-ingrid/report", `{"facts":{},"reported_at":"2026-11-23T00:00:00Z"}`, 409},
		"an odd name":   {"/v1/devices/laptop%20ingrid/report", `{"facts":{}}`, 422},
		"an odd fact":   {"/v1/devices/laptop-ingrid/report", `{"facts":{"a b":1}}`, 422},
		"a key unknown": {"/v1/devices/laptop-ingrid/report", `{"fact":{}}`, 400},
		"a fact's list": {"/v1/devices/laptop-ingrid/report", `{"facts":{"a":[1]}}`, 400},
	} {
		t.Run(name, func(t *testing.T) {
			status, _, text := h.ask("PUT", c.path, all, c.body)
			require.Equal(t, c.status, status, string(text))
		})
	}
	t.Run("what another system says", func(t *testing.T) {
		status, text := h.push(p.sign("first", "secevent+jwt", event("e-9", caep+"device-compliance-change", laptop,
			map[string]any{"previous_status": "compliant", "current_status": "not-compliant"})))
		require.Equal(t, 202, status, text)
		device := &store.Device{ID: "laptop-ingrid"}
		require.NoError(t, store.Load(t.Context(), h.store, device))
		facts, _ := device.Reported()
		require.Equal(t, attempt.BoolScalar(false), facts["compliant"])
		require.Equal(t, attempt.BoolScalar(true), facts["firewall"])
	})
}

func TestEventTokens(t *testing.T) {
	p, r := newProvider(t), newReceiver(t)
	h := newHouse(t, nil, telling(t, p, r))
	whole := event("e-1", risc+"account-disabled", herself, map[string]any{})
	with := func(change map[string]any) map[string]any {
		c := maps.Clone(whole)
		c["jti"] = "other"
		for name, value := range change {
			if c[name] = value; value == nil {
				delete(c, name)
			}
		}
		return c
	}
	sign := func(c map[string]any) string { return p.sign("first", "secevent+jwt", c) }
	for name, c := range map[string]struct {
		token, code string
	}{
		"nonsense":         {"a.b.c", "invalid_request"},
		"an access token":  {p.sign("first", "at+jwt", with(nil)), "invalid_request"},
		"another issuer":   {sign(with(map[string]any{"iss": "https://other.example"})), "invalid_issuer"},
		"another audience": {sign(with(map[string]any{"aud": "https://other.example"})), "invalid_audience"},
		"another's key":    {newProvider(t).sign("first", "secevent+jwt", with(nil)), "authentication_failed"},
		"a key nobody knows": {signed(t, jose.SigningKey{Algorithm: jose.ES256, Key: p.keys["first"]}, "third", "secevent+jwt", with(nil)),
			"invalid_key"},
		"without jti":          {sign(with(map[string]any{"jti": nil})), "invalid_request"},
		"without events":       {sign(with(map[string]any{"events": nil})), "invalid_request"},
		"from long ago":        {sign(with(map[string]any{"iat": noon.Add(-31 * 24 * time.Hour).Unix()})), "invalid_request"},
		"from the future":      {sign(with(map[string]any{"iat": noon.Add(time.Hour).Unix()})), "invalid_request"},
		"an event that is odd": {sign(with(map[string]any{"events": map[string]any{risc + "account-disabled": 3}})), "invalid_request"},
		"dated at no time": {sign(with(map[string]any{"events": map[string]any{risc + "account-disabled": map[string]any{
			"event_timestamp": 1e300}}})), "invalid_request"},
		"no subject": {sign(with(map[string]any{"sub_id": nil})), "invalid_request"},
		"a subject without format": {sign(with(map[string]any{"sub_id": map[string]any{"email": "ingrid@kestrelsound.example"}})),
			"invalid_request"},
	} {
		t.Run(name, func(t *testing.T) {
			status, text := h.push(c.token)
			require.Equal(t, http.StatusBadRequest, status, text)
			var p struct{ Err, Description string }
			require.NoError(t, json.Unmarshal([]byte(text), &p))
			require.Equal(t, c.code, p.Err)
			require.False(t, h.known("ingrid@kestrelsound.example").Disabled)
		})
	}
	t.Run("once", func(t *testing.T) {
		before := len(h.entries())
		for range 3 {
			status, _ := h.push(sign(whole))
			require.Equal(t, http.StatusAccepted, status)
		}
		require.True(t, h.known("ingrid@kestrelsound.example").Disabled)
		require.Len(t, h.entries(), before+1)
		_, _, metrics := h.ask("GET", "/metrics", all, nil)
		require.Contains(t, string(metrics), `briskwarden_events_total{result="again"} 2`)
		lint(t, metrics)
	})
}

// TestWhatWasRevokedStaysRevoked: nothing authenticated at or before a revocation, or a session's end, lets in after it, whether the door
// saw it before or not; who signs on again after it gets in.
func TestWhatWasRevokedStaysRevoked(t *testing.T) {
	person := map[string]any{"format": "email", "email": "ingrid@kestrelsound.example"}
	complexSubject := map[string]any{"format": "complex", "user": person, "session": map[string]any{"format": "opaque", "id": "s-7"}}
	for name, c := range map[string]struct {
		// seen says that the session was used before.
		seen   bool
		revoke func(t *testing.T, h *house, event func(kind string, subject, says map[string]any))
		// others says that it is of the account, so that another session is concerned too.
		others bool
	}{
		"all of the account": {false, func(_ *testing.T, _ *house, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", person, nil)
		}, true},
		"all of the account, seen": {true, func(_ *testing.T, _ *house, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", person, nil)
		}, true},
		"a lower assurance": {false, func(_ *testing.T, _ *house, event func(string, map[string]any, map[string]any)) {
			event(caep+"assurance-level-change", person, map[string]any{"current_level": "nist-aal1", "previous_level": "nist-aal2",
				"change_direction": "decrease", "namespace": "NIST-AAL"})
		}, true},
		"one session": {false, func(_ *testing.T, _ *house, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", complexSubject, nil)
		}, false},
		"one session, seen": {true, func(_ *testing.T, _ *house, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", complexSubject, nil)
		}, false},
		"an administrator ends it": {true, func(t *testing.T, h *house, _ func(string, map[string]any, map[string]any)) {
			ended, err := h.EndSession(store.SessionID(issuer, "s-7", "ingrid@kestrelsound.example"), "she called")
			require.NoError(t, err)
			require.True(t, ended)
		}, false},
		"disabled for a while": {true, func(_ *testing.T, _ *house, event func(string, map[string]any, map[string]any)) {
			event(risc+"account-disabled", person, map[string]any{"reason": "hijacking"})
			event(risc+"account-enabled", person, nil)
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			p, r := newProvider(t), newReceiver(t)
			h := newHouse(t, nil, func(c *door.Config) { telling(t, p, r)(c); guarded(p)(c) })
			token := func(at time.Time, sid string) string {
				says := claims(h.clock(), "pwd")
				if says["auth_time"] = at.Unix(); sid == "" {
					delete(says, "sid")
				} else {
					says["sid"] = sid
				}
				return p.sign("first", "at+jwt", says)
			}
			guard := func(token string) int { status, _, _ := h.guard(token, mail, pier, nil); return status }
			before, other, without := token(noon, "s-7"), token(noon, "s-8"), token(noon, "")
			if c.seen {
				require.Equal(t, 200, guard(before))
			}
			h.pass(time.Minute)
			events := 0
			c.revoke(t, h, func(kind string, subject, says map[string]any) {
				events++
				h.pass(time.Second) // of two of one time the stricter stands
				e := event(fmt.Sprint("e-", events), kind, subject, map[string]any{"event_timestamp": h.clock().Unix()})
				maps.Copy(e["events"].(map[string]any)[kind].(map[string]any), says)
				e["iat"] = h.clock().Unix()
				status, text := h.push(p.sign("first", "secevent+jwt", e))
				require.Equal(t, http.StatusAccepted, status, text)
			})
			rests := ingrid("mail", "", `,"session":{"id":"s-7","started":"`+noon.Format(time.RFC3339)+`","proofs":[{"method":"password","at":"`+
				noon.Format(time.RFC3339)+`"}]}`)
			for _, later := range []time.Duration{0, 49 * time.Hour} { // a token may be renewed for weeks
				h.pass(later)
				renewed := token(noon, "s-7")
				require.Equal(t, 401, guard(renewed), later)
				require.NotEqual(t, decide.Grant, h.decide(rests).Verdict, later)
			}
			h.pass(-49 * time.Hour)
			want := 200
			if c.others {
				want = 401
			}
			require.Equal(t, want, guard(other))
			require.Equal(t, want, guard(without))
			h.pass(2 * time.Second)
			again := token(h.clock(), "s-7")
			require.Equal(t, 200, guard(again), "who signs on again gets in")
			h.pass(2 * time.Minute)
			require.Equal(t, 200, guard(again))
			require.Equal(t, 401, guard(token(noon, "s-7")), "and what is older does not")
		})
	}
}

// TestASessionIsRevokedTwice: the later revocation holds against what was authenticated since the first.
func TestASessionIsRevokedTwice(t *testing.T) {
	p, r := newProvider(t), newReceiver(t)
	h := newHouse(t, nil, func(c *door.Config) { telling(t, p, r)(c); guarded(p)(c) })
	both := map[string]any{"format": "complex", "user": herself, "session": map[string]any{"format": "opaque", "id": "s-7"}}
	revoke := func(jti string) {
		status, text := h.push(p.sign("first", "secevent+jwt", event(jti, caep+"session-revoked", both,
			map[string]any{"event_timestamp": h.clock().Unix()})))
		require.Equal(t, http.StatusAccepted, status, text)
	}
	revoke("e-1")
	h.pass(time.Minute)
	between := p.sign("first", "at+jwt", claims(h.clock().Add(time.Minute), "pwd")) // authenticated now
	h.pass(30 * time.Second)
	revoke("e-2")
	status, _, text := h.guard(between, mail, pier, nil)
	require.Equal(t, 401, status, text)
	require.Eventually(t, func() bool { return len(r.taken()) == 1 }, 10*time.Second, time.Millisecond, "receivers are told once")
}

// TestWhoSignsOnAgainNeedNotWait until the door has ended what was revoked.
func TestWhoSignsOnAgainNeedNotWait(t *testing.T) {
	p, s := newProvider(t), new(store.Memory)
	h := newHouse(t, s, guarded(p))
	token := func() string { return p.sign("first", "at+jwt", claims(h.clock().Add(time.Minute), "pwd")) } // authenticated now
	before := token()
	status, _, text := h.guard(before, mail, pier, nil)
	require.Equal(t, 200, status, text)
	h.pass(time.Second)
	a := h.account("ingrid@kestrelsound.example")
	a.Revoke(h.clock(), store.Door)
	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, a) })) // and the door does not hear of it
	h.Forget()
	h.pass(time.Second)
	again := token()
	for _, c := range []struct {
		token  string
		status int
	}{{before, 401}, {again, 200}, {before, 401}, {again, 200}} {
		status, _, text := h.guard(c.token, mail, pier, nil)
		require.Equal(t, c.status, status, text)
	}
}

// TestReceiversAreToldEachByItself: one that hangs keeps nothing from another, and one that refuses a token for good is asked once.
func TestReceiversAreToldEachByItself(t *testing.T) {
	p, good := newProvider(t), newReceiver(t)
	over := make(chan struct{})
	hanging := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-over:
		case <-r.Context().Done():
		}
	}))
	defer hanging.Close()
	defer close(over)
	refusing := func(code string) *httptest.Server {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusBadRequest)
			fmt.Fprintf(w, `{"err": %q, "description": "not mine"}`, code)
		}))
		t.Cleanup(s.Close)
		return s
	}
	s := new(store.Memory)
	h := newHouse(t, s, func(c *door.Config) {
		telling(t, p, good)(c)
		c.Tell.Receivers = append([]door.Receiver{{Name: "hangs", URL: hanging.URL, Audience: "a"},
			{Name: "final", URL: refusing("invalid_audience").URL, Audience: "b"},
			{Name: "for-now", URL: refusing("authentication_failed").URL, Audience: "c"}}, c.Tell.Receivers...)
	})
	for i := range 5 {
		id := fmt.Sprint("s-", i)
		require.Equal(t, decide.Grant, h.decide(ingrid("mail", password, `,"session":{"id":"`+id+`"}`)).Verdict)
		ended, err := h.EndSession(sessionOf(id), "she called")
		require.NoError(t, err)
		require.True(t, ended)
	}
	waiting := func(to string) (n int) {
		rows, err := s.List(t.Context(), store.Query{Kind: store.Outbox, Account: to})
		require.NoError(t, err)
		return len(rows)
	}
	require.Eventually(t, func() bool { return len(good.taken()) == 5 && waiting("final") == 0 }, 8*time.Second, time.Millisecond)
	require.Equal(t, []int{5, 5}, []int{waiting("hangs"), waiting("for-now")})
}

func TestWhatIsToldIsToldUntilItIsTaken(t *testing.T) {
	p, r := newProvider(t), newReceiver(t)
	s := new(store.Memory)
	h := newHouse(t, s, telling(t, p, r))
	r.refuse(true)
	for _, id := range []string{"s-1", "s-2"} {
		require.Equal(t, decide.Grant, h.decide(ingrid("mail", password, `,"session":{"id":"`+id+`"}`)).Verdict)
		require.Equal(t, decide.Grant, h.decide(ingrid("crew-roster", password, `,"session":{"id":"`+id+`"}`)).Verdict)
	}
	status, _, _ := h.ask("DELETE", "/v1/sessions/"+sessionOf("s-1"), all, nil)
	require.Equal(t, http.StatusNoContent, status)
	status, _, _ = h.ask("DELETE", "/v1/sessions/"+sessionOf("s-1"), all, nil)
	require.Equal(t, http.StatusNotFound, status, "it ends once")
	require.Equal(t, decide.SessionEnded, h.decide(ingrid("mail", password, `,"session":{"id":"s-1"}`)).Causes[0].Code)
	_, err := h.EndSession(sessionOf("s-2"), "she called")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		rows, err := s.List(t.Context(), store.Query{Kind: store.Outbox})
		o := new(store.Outgoing)
		return err == nil && len(rows) == 2 && store.Read(rows[0], o) == nil && o.Tries > 0
	}, 10*time.Second, time.Millisecond)
	_, _, metrics := h.ask("GET", "/metrics", all, nil)
	require.Contains(t, string(metrics), "briskwarden_events_untold 2")
	require.NoError(t, h.Close())
	require.Empty(t, r.taken())

	r.refuse(false)
	again := newHouse(t, s, telling(t, p, r))
	again.pass(10 * time.Minute) // beyond the wait before the next try
	require.Eventually(t, func() bool { return len(r.taken()) == 2 }, 10*time.Second, time.Millisecond, "over a restart")
	rows, err := s.List(t.Context(), store.Query{Kind: store.Outbox})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		rows, err = s.List(t.Context(), store.Query{Kind: store.Outbox})
		return err == nil && len(rows) == 0
	}, 10*time.Second, time.Millisecond)
}

func TestSessionsEndWithTheClockAndTheBook(t *testing.T) {
	h := newHouse(t, nil, nil)
	require.Equal(t, decide.Grant, h.decide(`{"account":"ingrid@kestrelsound.example","app":"card-till","ip":"203.0.113.20",`+
		`"device":{"id":"laptop-ingrid"},"session":{"id":"s-1"},"proofs":[`+password+","+push+`]}`).Verdict)
	require.Equal(t, decide.Grant, h.decide(ingrid("mail", "", `,"session":{"id":"s-1"}`)).Verdict)
	require.Len(t, h.session("s-1").Apps, 2)
	h.pass(10 * time.Hour) // past the till's hours, or its limit
	ended, err := h.Review(t.Context())
	require.NoError(t, err)
	require.NotZero(t, ended)
	require.NotContains(t, h.open("s-1"), "card-till")
}
