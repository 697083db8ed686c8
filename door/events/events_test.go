package events_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

var (
	herself = map[string]any{"format": "email", "email": "ingrid@kestrelsound.example"}
	laptop  = map[string]any{"format": "complex", "device": map[string]any{"format": "opaque", "id": "laptop-ingrid"}}
)

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
			before: []store.Statement{doortest.Stated(store.Disabled, store.IssuerSource(feed), attempt.BoolScalar(true), "")}},
		"enabled by another than disabled her": {kind: risc + "account-enabled", subject: herself, account: &directory.Account{Disabled: true},
			before: []store.Statement{doortest.Stated(store.Disabled, store.IssuerSource("https://other.example"), attempt.BoolScalar(true), "")}},
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
			p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
			s := new(store.Memory)
			if c.before != nil {
				before := &store.Account{Name: "ingrid@kestrelsound.example", Stated: c.before}
				require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, before) }))
			}
			h := doortest.New(t, s, doortest.Telling(t, p, r))
			if c.before == nil {
				require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", password, `,"session":{"id":"s-1"}`)).Verdict)
			}
			status, text := h.PushEvent(p.Sign("first", "secevent+jwt", doortest.Event("e-1", c.kind, c.subject, c.says)))
			require.Equal(t, http.StatusAccepted, status, text)
			if c.account != nil {
				known, listed := directory.Account{Methods: []string{"password", "push"}}, []string{"password", "push"}
				if len(h.Account("ingrid@kestrelsound.example").Stated) > 0 {
					known = h.Known("ingrid@kestrelsound.example")
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
			session := h.Session("s-1")
			require.NotNil(t, session)
			if c.open {
				require.Len(t, h.OpenApps("s-1"), 1, "the session goes on")
				require.Empty(t, r.Taken())
				return
			}
			require.Empty(t, h.OpenApps("s-1"))
			require.Eventually(t, func() bool { return len(r.Taken()) == 1 }, 10*time.Second, time.Millisecond)
			told := r.Taken()[0]
			require.Equal(t, issuer, told["aud"])
			require.Equal(t, "s-1", told["sub_id"].(map[string]any)["session"].(map[string]any)["id"])
			require.Contains(t, told["events"], caep+"session-revoked")
		})
	}
}

func TestADeviceThatIsFoundUnfitEndsASession(t *testing.T) {
	p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
	h := doortest.New(t, nil, doortest.Telling(t, p, r))
	till := `{"account":"ingrid@kestrelsound.example","app":"card-till","ip":"203.0.113.20","device":{"id":"laptop-ingrid"},` +
		`"session":{"id":"s-1"},"proofs":[` +
		password + "," + push + `]}`
	require.Equal(t, decide.Grant, h.Answer(till).Verdict)
	report := func(facts string) int {
		status, _, _ := h.Ask("PUT", "/v1/devices/laptop-ingrid/report", all, `{"platform":"windows","facts":`+facts+`}`)
		return status
	}
	fit := `{"firewall":true,"os_version":"10.0.22631","patch_age_days":3,"disk_encrypted":true}`
	h.Pass(time.Minute)
	require.Equal(t, http.StatusNoContent, report(fit))
	ended, err := h.Review(t.Context())
	require.NoError(t, err)
	require.Zero(t, ended, "a newer report that is as good ends nothing")
	h.Pass(time.Minute)
	require.Equal(t, http.StatusNoContent, report(strings.Replace(fit, `"firewall":true`, `"firewall":false`, 1)))
	require.Eventually(t, func() bool { return len(h.OpenApps("s-1")) == 0 }, 10*time.Second, time.Millisecond, "it is looked at by itself")
	require.Equal(t, decide.DeviceUnfit, h.Answer(till).Causes[0].Code)
	require.Equal(t, http.StatusNoContent, report(fit))
	continues := strings.Replace(till, `"proofs":[`+password+","+push+`]`, `"proofs":[]`, 1)
	require.Equal(t, decide.DemandOpen, h.Answer(continues).Causes[0].Code, "repaired, what was authenticated before does not do")
	h.Pass(time.Second)
	require.Equal(t, decide.Grant, h.Answer(till).Verdict, "and repaired she is let in again")
	kinds := map[journal.Kind]int{}
	for _, e := range h.Entries() {
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
			status, _, text := h.Ask("PUT", c.path, all, c.body)
			require.Equal(t, c.status, status, string(text))
		})
	}
	t.Run("what another system says", func(t *testing.T) {
		status, text := h.PushEvent(p.Sign("first", "secevent+jwt", doortest.Event("e-9", caep+"device-compliance-change", laptop,
			map[string]any{"previous_status": "compliant", "current_status": "not-compliant"})))
		require.Equal(t, 202, status, text)
		device := &store.Device{ID: "laptop-ingrid"}
		require.NoError(t, store.Load(t.Context(), h.Kept, device))
		facts, _ := device.Reported()
		require.Equal(t, attempt.BoolScalar(false), facts["compliant"])
		require.Equal(t, attempt.BoolScalar(true), facts["firewall"])
	})
}

func TestEventTokens(t *testing.T) {
	p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
	h := doortest.New(t, nil, doortest.Telling(t, p, r))
	whole := doortest.Event("e-1", risc+"account-disabled", herself, map[string]any{})
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
	sign := func(c map[string]any) string { return p.Sign("first", "secevent+jwt", c) }
	for name, c := range map[string]struct {
		token, code string
	}{
		"nonsense":         {"a.b.c", "invalid_request"},
		"an access token":  {p.Sign("first", "at+jwt", with(nil)), "invalid_request"},
		"another issuer":   {sign(with(map[string]any{"iss": "https://other.example"})), "invalid_issuer"},
		"another audience": {sign(with(map[string]any{"aud": "https://other.example"})), "invalid_audience"},
		"another's key":    {doortest.NewProvider(t).Sign("first", "secevent+jwt", with(nil)), "authentication_failed"},
		"a key nobody knows": {
			doortest.Signed(t, jose.SigningKey{Algorithm: jose.ES256, Key: p.Keys["first"]}, "third", "secevent+jwt", with(nil)),
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
			status, text := h.PushEvent(c.token)
			require.Equal(t, http.StatusBadRequest, status, text)
			var p struct{ Err, Description string }
			require.NoError(t, json.Unmarshal([]byte(text), &p))
			require.Equal(t, c.code, p.Err)
			require.False(t, h.Known("ingrid@kestrelsound.example").Disabled)
		})
	}
	t.Run("once", func(t *testing.T) {
		before := len(h.Entries())
		for range 3 {
			status, _ := h.PushEvent(sign(whole))
			require.Equal(t, http.StatusAccepted, status)
		}
		require.True(t, h.Known("ingrid@kestrelsound.example").Disabled)
		require.Len(t, h.Entries(), before+1)
		_, _, metrics := h.Ask("GET", "/metrics", all, nil)
		require.Contains(t, string(metrics), `briskwarden_events_total{result="again"} 2`)
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
		revoke func(t *testing.T, h *doortest.House, event func(kind string, subject, says map[string]any))
		// others says that it is of the account, so that another session is concerned too.
		others bool
	}{
		"all of the account": {false, func(_ *testing.T, _ *doortest.House, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", person, nil)
		}, true},
		"all of the account, seen": {true, func(_ *testing.T, _ *doortest.House, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", person, nil)
		}, true},
		"a lower assurance": {false, func(_ *testing.T, _ *doortest.House, event func(string, map[string]any, map[string]any)) {
			event(caep+"assurance-level-change", person, map[string]any{"current_level": "nist-aal1", "previous_level": "nist-aal2",
				"change_direction": "decrease", "namespace": "NIST-AAL"})
		}, true},
		"one session": {false, func(_ *testing.T, _ *doortest.House, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", complexSubject, nil)
		}, false},
		"one session, seen": {true, func(_ *testing.T, _ *doortest.House, event func(string, map[string]any, map[string]any)) {
			event(caep+"session-revoked", complexSubject, nil)
		}, false},
		"an administrator ends it": {true, func(t *testing.T, h *doortest.House, _ func(string, map[string]any, map[string]any)) {
			ended, err := h.EndSession(store.SessionID(issuer, "s-7", "ingrid@kestrelsound.example"), "she called")
			require.NoError(t, err)
			require.True(t, ended)
		}, false},
		"disabled for a while": {true, func(_ *testing.T, _ *doortest.House, event func(string, map[string]any, map[string]any)) {
			event(risc+"account-disabled", person, map[string]any{"reason": "hijacking"})
			event(risc+"account-enabled", person, nil)
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
			h := doortest.New(t, nil, func(c *door.Config) { doortest.Telling(t, p, r)(c); doortest.Guarded(p)(c) })
			token := func(at time.Time, sid string) string {
				says := doortest.Claims(h.Clock(), "pwd")
				if says["auth_time"] = at.Unix(); sid == "" {
					delete(says, "sid")
				} else {
					says["sid"] = sid
				}
				return p.Sign("first", "at+jwt", says)
			}
			guard := func(token string) int {
				status, _, _ := h.AskGuard(token, mail, pier, nil)
				return status
			}
			before, other, without := token(noon, "s-7"), token(noon, "s-8"), token(noon, "")
			if c.seen {
				require.Equal(t, 200, guard(before))
			}
			h.Pass(time.Minute)
			events := 0
			c.revoke(t, h, func(kind string, subject, says map[string]any) {
				events++
				h.Pass(time.Second) // of two of one time the stricter stands
				e := doortest.Event(fmt.Sprint("e-", events), kind, subject, map[string]any{"event_timestamp": h.Clock().Unix()})
				maps.Copy(e["events"].(map[string]any)[kind].(map[string]any), says)
				e["iat"] = h.Clock().Unix()
				status, text := h.PushEvent(p.Sign("first", "secevent+jwt", e))
				require.Equal(t, http.StatusAccepted, status, text)
			})
			rests := doortest.Ingrid(
				"mail",
				"",
				`,"session":{"id":"s-7","started":"`+noon.Format(time.RFC3339)+`","proofs":[{"method":"password","at":"`+
					noon.Format(time.RFC3339)+`"}]}`,
			)
			for _, later := range []time.Duration{0, 49 * time.Hour} { // a token may be renewed for weeks
				h.Pass(later)
				renewed := token(noon, "s-7")
				require.Equal(t, 401, guard(renewed), later)
				require.NotEqual(t, decide.Grant, h.Answer(rests).Verdict, later)
			}
			h.Pass(-49 * time.Hour)
			want := 200
			if c.others {
				want = 401
			}
			require.Equal(t, want, guard(other))
			require.Equal(t, want, guard(without))
			h.Pass(2 * time.Second)
			again := token(h.Clock(), "s-7")
			require.Equal(t, 200, guard(again), "who signs on again gets in")
			h.Pass(2 * time.Minute)
			require.Equal(t, 200, guard(again))
			require.Equal(t, 401, guard(token(noon, "s-7")), "and what is older does not")
		})
	}
}

// TestASessionIsRevokedTwice: the later revocation holds against what was authenticated since the first.
func TestASessionIsRevokedTwice(t *testing.T) {
	p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
	h := doortest.New(t, nil, func(c *door.Config) { doortest.Telling(t, p, r)(c); doortest.Guarded(p)(c) })
	both := map[string]any{"format": "complex", "user": herself, "session": map[string]any{"format": "opaque", "id": "s-7"}}
	revoke := func(jti string) {
		status, text := h.PushEvent(p.Sign("first", "secevent+jwt", doortest.Event(jti, caep+"session-revoked", both,
			map[string]any{"event_timestamp": h.Clock().Unix()})))
		require.Equal(t, http.StatusAccepted, status, text)
	}
	revoke("e-1")
	h.Pass(time.Minute)
	between := p.Sign("first", "at+jwt", doortest.Claims(h.Clock().Add(time.Minute), "pwd")) // authenticated now
	h.Pass(30 * time.Second)
	revoke("e-2")
	status, _, text := h.AskGuard(between, mail, pier, nil)
	require.Equal(t, 401, status, text)
	require.Eventually(t, func() bool { return len(r.Taken()) == 1 }, 10*time.Second, time.Millisecond, "receivers are told once")
}

// TestWhoSignsOnAgainNeedNotWait until the door has ended what was revoked.
func TestWhoSignsOnAgainNeedNotWait(t *testing.T) {
	p, s := doortest.NewProvider(t), new(store.Memory)
	h := doortest.New(t, s, doortest.Guarded(p))
	token := func() string { return p.Sign("first", "at+jwt", doortest.Claims(h.Clock().Add(time.Minute), "pwd")) } // authenticated now
	before := token()
	status, _, text := h.AskGuard(before, mail, pier, nil)
	require.Equal(t, 200, status, text)
	h.Pass(time.Second)
	a := h.Account("ingrid@kestrelsound.example")
	a.Revoke(h.Clock(), store.Door)
	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, a) })) // and the door does not hear of it
	h.Forget()
	h.Pass(time.Second)
	again := token()
	for _, c := range []struct {
		token  string
		status int
	}{{before, 401}, {again, 200}, {before, 401}, {again, 200}} {
		status, _, text := h.AskGuard(c.token, mail, pier, nil)
		require.Equal(t, c.status, status, text)
	}
}

// TestReceiversAreToldEachByItself: one that hangs keeps nothing from another, and one that refuses a token for good is asked once.
func TestReceiversAreToldEachByItself(t *testing.T) {
	p, good := doortest.NewProvider(t), doortest.NewReceiver(t)
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
	h := doortest.New(t, s, func(c *door.Config) {
		doortest.Telling(t, p, good)(c)
		c.Tell.Receivers = append([]door.Receiver{{Name: "hangs", URL: hanging.URL, Audience: "a"},
			{Name: "final", URL: refusing("invalid_audience").URL, Audience: "b"},
			{Name: "for-now", URL: refusing("authentication_failed").URL, Audience: "c"}}, c.Tell.Receivers...)
	})
	for i := range 5 {
		id := fmt.Sprint("s-", i)
		require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", password, `,"session":{"id":"`+id+`"}`)).Verdict)
		ended, err := h.EndSession(doortest.SessionOf(id), "she called")
		require.NoError(t, err)
		require.True(t, ended)
	}
	waiting := func(to string) (n int) {
		rows, err := s.List(t.Context(), store.Query{Kind: store.Outbox, Account: to})
		require.NoError(t, err)
		return len(rows)
	}
	require.Eventually(t, func() bool { return len(good.Taken()) == 5 && waiting("final") == 0 }, 8*time.Second, time.Millisecond)
	require.Equal(t, []int{5, 5}, []int{waiting("hangs"), waiting("for-now")})
}

func TestWhatIsToldIsToldUntilItIsTaken(t *testing.T) {
	p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
	s := new(store.Memory)
	h := doortest.New(t, s, doortest.Telling(t, p, r))
	r.Refuse(true)
	for _, id := range []string{"s-1", "s-2"} {
		require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", password, `,"session":{"id":"`+id+`"}`)).Verdict)
		require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("crew-roster", password, `,"session":{"id":"`+id+`"}`)).Verdict)
	}
	status, _, _ := h.Ask("DELETE", "/v1/sessions/"+doortest.SessionOf("s-1"), all, nil)
	require.Equal(t, http.StatusNoContent, status)
	status, _, _ = h.Ask("DELETE", "/v1/sessions/"+doortest.SessionOf("s-1"), all, nil)
	require.Equal(t, http.StatusNotFound, status, "it ends once")
	require.Equal(t, decide.SessionEnded, h.Answer(doortest.Ingrid("mail", password, `,"session":{"id":"s-1"}`)).Causes[0].Code)
	_, err := h.EndSession(doortest.SessionOf("s-2"), "she called")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		rows, err := s.List(t.Context(), store.Query{Kind: store.Outbox})
		o := new(store.Outgoing)
		return err == nil && len(rows) == 2 && store.Read(rows[0], o) == nil && o.Tries > 0
	}, 10*time.Second, time.Millisecond)
	_, _, metrics := h.Ask("GET", "/metrics", all, nil)
	require.Contains(t, string(metrics), "briskwarden_events_untold 2")
	require.NoError(t, h.Close())
	require.Empty(t, r.Taken())

	r.Refuse(false)
	again := doortest.New(t, s, doortest.Telling(t, p, r))
	again.Pass(10 * time.Minute) // beyond the wait before the next try
	require.Eventually(t, func() bool { return len(r.Taken()) == 2 }, 10*time.Second, time.Millisecond, "over a restart")
	rows, err := s.List(t.Context(), store.Query{Kind: store.Outbox})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		rows, err = s.List(t.Context(), store.Query{Kind: store.Outbox})
		return err == nil && len(rows) == 0
	}, 10*time.Second, time.Millisecond)
}

func TestSessionsEndWithTheClockAndTheBook(t *testing.T) {
	h := doortest.New(t, nil, nil)
	require.Equal(t, decide.Grant, h.Answer(`{"account":"ingrid@kestrelsound.example","app":"card-till","ip":"203.0.113.20",`+
		`"device":{"id":"laptop-ingrid"},"session":{"id":"s-1"},"proofs":[`+password+","+push+`]}`).Verdict)
	require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", "", `,"session":{"id":"s-1"}`)).Verdict)
	require.Len(t, h.Session("s-1").Apps, 2)
	h.Pass(10 * time.Hour) // past the till's hours, or its limit
	ended, err := h.Review(t.Context())
	require.NoError(t, err)
	require.NotZero(t, ended)
	require.NotContains(t, h.OpenApps("s-1"), "card-till")
}

func FuzzEvent(f *testing.F) {
	f.Add("e-1", caep+"risk-level-change", `{"format":"email","email":"ingrid@kestrelsound.example"}`, `{"current_level":"HIGH"}`)
	f.Add("e-2", caep+"session-revoked", `{"format":"complex","session":{"format":"opaque","id":"s-1"}}`, `{"event_timestamp":1e300}`)
	p, r := doortest.NewProvider(f), doortest.NewReceiver(f)
	h := doortest.New(f, nil, doortest.Telling(f, p, r))
	f.Fuzz(func(t *testing.T, jti, kind, subject, says string) {
		h.T, p.T = t, t
		if !json.Valid([]byte(subject)) || !json.Valid([]byte(says)) {
			return
		}
		c := map[string]any{"iss": feed, "aud": "https://door.kestrelsound.example", "jti": jti, "iat": noon.Unix(),
			"sub_id": json.RawMessage(subject), "events": map[string]any{kind: json.RawMessage(says)}}
		status, text := h.PushEvent(p.Sign("first", "secevent+jwt", c))
		require.Contains(t, []int{202, 400}, status, text)
	})
}

// TestWhatATransmitterMayTell: no other types than the configuration lists, and nothing milder ahead of its time.
func TestWhatATransmitterMayTell(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, func(c *door.Config) {
		doortest.Telling(t, p, doortest.NewReceiver(t))(c)
		c.Events[0].Types = []string{door.DeviceComplianceChange}
	})
	status, text := h.PushEvent(p.Sign("first", "secevent+jwt", doortest.Event("e-1", door.AccountDisabled,
		map[string]any{"format": "email", "email": "ingrid@kestrelsound.example"}, map[string]any{})))
	require.Equal(t, http.StatusBadRequest, status)
	require.Contains(t, text, "access_denied")
	for current, ahead := range map[string]bool{"compliant": true, "not-compliant": false} {
		status, text = h.PushEvent(p.Sign("first", "secevent+jwt", doortest.Event("e-"+current, door.DeviceComplianceChange, laptop,
			map[string]any{"current_status": current, "event_timestamp": noon.Add(time.Hour).Unix()})))
		require.Equal(t, http.StatusAccepted, status, text)
		require.Equal(t, ahead, strings.Contains(h.Logged.String(), `"why":"dated_ahead"`), current)
		h.Logged.Reset()
	}
}
