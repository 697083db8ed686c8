package door_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
)

// bounded is a book whose apps ask for what a session may not go on without.
const bounded = `briskwarden: 1
assurances:
  once: {prove: [{any_of: [password]}]}
  fresh: {prove: [{any_of: [password], within: now}]}
  hourly: {prove: [{any_of: [password], within: 1h}]}
accounts: [{name: ann, methods: [password, push]}, {name: root, methods: [password]}]
apps:
  - {name: mail, hosts: [mail.example]}
  - {name: till, hosts: [till.example], limits: {lasts: 1h, idle: 10m}}
  - {name: spell, hosts: [spell.example], limits: {lasts: 1h}}
  - {name: vault, hosts: [vault.example]}
  - {name: own, hosts: [own.example], limits: {shared: false}}
  - {name: other, hosts: [other.example], limits: {shared: false}}
  - {name: brief, hosts: [brief.example], limits: {shared: false, lasts: 30m}}
  - {name: hourly, hosts: [hourly.example]}
policies:
  - {name: vault, stage: live, who: anyone, apps: {names: [vault]}, rules: [{name: r, then: {require: [fresh]}}]}
  - {name: hourly, stage: live, who: anyone, apps: {names: [hourly]}, rules: [{name: r, then: {require: [hourly]}}]}
  - {name: all, stage: live, who: anyone, apps: every, rules: [{name: r, then: {require: [once]}}]}
settings: {zone: UTC}
`

// boundedHouse is a house with that book, on a store.
func boundedHouse(t *testing.T, p *doortest.Provider, s store.Store, name string, change func(*door.Config)) *doortest.House {
	h := doortest.New(t, s, func(c *door.Config) {
		doortest.Guarded(p)(c)
		c.Journal.Door = name
		c.Events = []door.Transmitter{{Issuer: feed, Audience: []string{"https://door.kestrelsound.example"}, Keys: p.URL},
			{Issuer: issuer, Audience: []string{"https://door.kestrelsound.example"}, Keys: p.URL}}
		if change != nil {
			change(c)
		}
	})
	h.Read(fstest.MapFS{"book.yaml": {Data: []byte(bounded)}})
	r := h.Reload()
	require.True(t, r.Taken, r.Why)
	return h
}

func TestTheGuardKeepsLimits(t *testing.T) {
	p := doortest.NewProvider(t)
	type visit struct {
		after  time.Duration
		app    string
		status int
		age    string
	}
	for name, visits := range map[string][]visit{
		"it lasts an hour from the authentication, however busy": {{0, "till", 200, ""}, {9 * time.Minute, "till", 200, ""},
			{9 * time.Minute, "till", 200, ""}, {9 * time.Minute, "till", 200, ""}, {9 * time.Minute, "till", 200, ""},
			{9 * time.Minute, "till", 200, ""}, {9 * time.Minute, "till", 200, ""}, {6 * time.Minute, "till", 401, "0"},
			{0, "mail", 200, ""}, {time.Hour, "till", 401, "0"}},
		"it lasts no longer where it was never seen before":  {{61 * time.Minute, "till", 401, "0"}, {0, "mail", 200, ""}},
		"it rests ten minutes, and no request wakes it then": {{0, "till", 200, ""}, {11 * time.Minute, "till", 401, "0"}, {0, "till", 401, "0"}},
		"and no request makes it longer": {{0, "spell", 200, ""}, {50 * time.Minute, "spell", 200, ""},
			{11 * time.Minute, "spell", 401, "0"}},
		"requests elsewhere do not wake it": {{0, "till", 200, ""}, {6 * time.Minute, "mail", 200, ""},
			{6 * time.Minute, "till", 401, "0"}},
		"a decision that a caller asks for is no request": {{0, "till", 200, ""}, {9 * time.Minute, "till", 0, ""},
			{2 * time.Minute, "till", 401, "0"}},
		"what is asked for now is met for ten minutes, and on where it was met": {{9 * time.Minute, "vault", 200, ""},
			{2 * time.Minute, "vault", 200, ""}, {20 * time.Hour, "vault", 200, ""}},
		"and not where it was not": {{11 * time.Minute, "vault", 401, "0"}},
		"a duration runs on": {{0, "hourly", 200, ""}, {59 * time.Minute, "hourly", 200, ""},
			{2 * time.Minute, "hourly", 401, "3600"}},
		"nobody is known for longer than a session may last": {{41 * 24 * time.Hour, "mail", 401, "0"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := boundedHouse(t, p, nil, "door", nil)
			token := h.Bearer(p, "s-1", nil)
			for i, v := range visits {
				h.Pass(v.after)
				h.Forget()
				if v.status == 0 {
					require.Equal(t, decide.Grant, h.Answer(`{"account":"ann","app":"`+v.app+`","session":{"id":"s-1"}}`).Verdict)
					continue
				}
				status, age := h.Opens(token, v.app)
				require.Equal(t, v.status, status, "%d: %s", i, age)
				if v.status == 401 {
					require.Equal(t, v.age, age, i)
				}
			}
			_, err := h.Review(t.Context())
			require.NoError(t, err)
			last := visits[len(visits)-1]
			status, _ := h.Opens(token, last.app)
			require.Equal(t, last.status, status, "and when the door has looked at it")
			if s := h.SessionBy(store.SessionID(issuer, "s-1", "ann")); last.age == "0" && s != nil && s.Grant(last.app) != nil {
				require.False(t, s.Grant(last.app).Ended.IsZero(), "which has ended what is over")
			}
			h.Pass(time.Second)
			status, _ = h.Opens(h.Bearer(p, "s-1", nil), last.app)
			require.Equal(t, 200, status, "who signs in again gets in")
		})
	}
}

// TestAnUnsharedAppIsOpened by an authentication that follows its challenge, at whichever door, and by no other.
func TestAnUnsharedAppIsOpened(t *testing.T) {
	p := doortest.NewProvider(t)
	address := storetest.Postgres(t)
	var doors []*doortest.House
	for _, name := range []string{"north", "south"} {
		s, err := postgres.Open(t.Context(), address)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		h := boundedHouse(t, p, s, name, nil)
		require.Eventually(t, func() bool { return h.Ready(t.Context()).Ready }, 10*time.Second, time.Millisecond)
		doors = append(doors, h)
	}
	north, south := doors[0], doors[1]
	pass := func(d time.Duration) { north.Pass(d); south.Pass(d) }
	is := func(h *doortest.House, want int, token, app string) {
		t.Helper()
		h.Forget()
		status, age := h.Opens(token, app)
		require.Equal(t, want, status, age)
		if want == 401 {
			require.Equal(t, "0", age)
		}
	}
	first := north.Bearer(p, "s-1", nil)
	is(north, 401, first, "own")
	is(south, 401, first, "own")
	pass(time.Minute)
	second := north.Bearer(p, "s-1", nil)
	is(south, 200, second, "own")
	is(south, 401, second, "other") // which asks for another
	pass(time.Hour)
	is(north, 200, second, "own")
	third := north.Bearer(p, "s-1", nil)
	is(north, 401, third, "other") // too long after the challenge
	pass(time.Minute)
	fourth := north.Bearer(p, "s-1", nil)
	is(north, 401, first, "other") // a page that goes on asking with what it has
	is(north, 200, fourth, "other")
	is(north, 200, fourth, "own")

	pass(time.Minute)
	for i, c := range []struct {
		sid, client any
		want        int
	}{{"s-2", "other-client", 401}, {"s-3", "intranet", 200}, {nil, "intranet", 401}} { // a provider that begins a session with each sign-in
		app := []string{"own", "other"}[i%2]
		is(north, 401, north.Bearer(p, fmt.Sprint("s-0", i), nil), app)
		pass(time.Minute)
		is(north, c.want, north.Bearer(p, "", map[string]any{"sid": c.sid, "client_id": c.client}), app)
		pass(time.Hour)
	}
	is(north, 401, north.Bearer(p, "", map[string]any{"sid": nil}), "own")
	pass(time.Minute)
	is(south, 200, south.Bearer(p, "", map[string]any{"sid": nil}), "own")
	pass(time.Minute)
	is(north, 200, north.Bearer(p, "s-7", nil), "mail")
	is(north, 401, north.Bearer(p, "s-8", nil), "own")
	pass(time.Minute)
	is(north, 401, north.Bearer(p, "s-7", nil), "own") // the challenge was given to another session
	is(north, 401, north.Bearer(p, "s-6", nil), "brief")
	pass(time.Minute)
	is(north, 200, north.Bearer(p, "s-6", nil), "brief")
	pass(31 * time.Minute)
	is(north, 401, north.Bearer(p, "s-6", nil), "brief") // what was proven for it before its end was proven for none since
	pass(time.Minute)
	is(north, 200, north.Bearer(p, "s-6", nil), "brief")
	status, _, text := north.Ask("POST", "/v1/decisions", all,
		`{"account":"ann","app":"other","session":{"id":"s-9"},"proofs":[`+password+`]}`)
	require.Equal(t, http.StatusOK, status, string(text))
	require.Eventually(t, func() bool { status, _ := south.Opens(south.Bearer(p, "s-9", nil), "other"); return status == 200 }, 10*time.Second,
		time.Millisecond, "what a decision says was made for the app")
}

func TestWhoseSessionItIs(t *testing.T) {
	p, r := doortest.NewProvider(t), doortest.NewReceiver(t)
	const second = "https://second.example"
	two := func(c *door.Config) {
		t := c.Tokens[0]
		t.Issuer = second
		c.Tokens = append(c.Tokens, t)
	}
	by := func(h *doortest.House, iss, sub string) string {
		return h.Bearer(p, "s-1", map[string]any{"iss": iss, "sub": sub})
	}
	revoke := func(t *testing.T, h *doortest.House, iss, sub string) {
		e := doortest.Event("e-"+iss+sub, caep+"session-revoked", map[string]any{"format": "complex",
			"user":    map[string]any{"format": "opaque", "id": sub},
			"session": map[string]any{"format": "opaque", "id": "s-1"}}, map[string]any{"event_timestamp": h.Clock().Unix()})
		e["iss"], e["iat"] = iss, h.Clock().Unix()
		status, text := h.PushEvent(p.Sign("first", "secevent+jwt", e))
		require.Equal(t, http.StatusAccepted, status, text)
	}
	for name, c := range map[string]struct {
		end func(t *testing.T, h *doortest.House)
		// left are the statuses of ann by the first issuer, ann by the second, and root by the first.
		left [3]int
	}{
		"an issuer ends its own": {func(t *testing.T, h *doortest.House) { revoke(t, h, issuer, "ann") }, [3]int{401, 200, 200}},
		"another, all of the sid and account": {func(t *testing.T, h *doortest.House) { revoke(t, h, feed, "ann") },
			[3]int{401, 401, 200}},
		"by the door's own id": {func(t *testing.T, h *doortest.House) {
			status, _, _ := h.Ask("DELETE", "/v1/sessions/"+store.SessionID(issuer, "s-1", "root"), all, nil)
			require.Equal(t, http.StatusNoContent, status)
		}, [3]int{200, 200, 401}},
		"all of an account": {func(t *testing.T, h *doortest.House) {
			status, _, _ := h.Ask("DELETE", "/v1/sessions?account=ann", all, nil)
			require.Equal(t, http.StatusNoContent, status)
		}, [3]int{401, 401, 200}},
	} {
		for _, seen := range []bool{true, false} {
			t.Run(fmt.Sprint(name, seen), func(t *testing.T) {
				if !seen && name == "by the door's own id" {
					return // it has none yet
				}
				h := boundedHouse(t, p, nil, "door", func(c *door.Config) {
					doortest.Telling(t, p, r)(c)
					c.Events[0].Issuer = feed
					two(c)
					c.Events = append(c.Events, door.Transmitter{Issuer: issuer, Audience: c.Events[0].Audience, Keys: p.URL})
				})
				tokens := []string{by(h, issuer, "ann"), by(h, second, "ann"), by(h, issuer, "root")}
				for _, token := range tokens {
					if seen {
						status, text := h.Opens(token, "mail")
						require.Equal(t, 200, status, text)
					}
				}
				h.Pass(time.Minute)
				c.end(t, h)
				for i, token := range tokens {
					status, text := h.Opens(token, "mail")
					require.Equal(t, c.left[i], status, "%d %s", i, text)
				}
				h.Pass(time.Second)
				for _, token := range []string{by(h, issuer, "ann"), by(h, second, "ann"), by(h, issuer, "root")} {
					status, text := h.Opens(token, "mail")
					require.Equal(t, 200, status, text)
				}
			})
		}
	}
	t.Run("a list of sessions goes on", func(t *testing.T) {
		h := boundedHouse(t, p, nil, "door", func(c *door.Config) { c.Limits.Results = 2 })
		for i := range 3 {
			status, _ := h.Opens(h.Bearer(p, fmt.Sprint("s-", i), nil), "mail")
			require.Equal(t, 200, status)
		}
		var page struct {
			Sessions []store.Session
			Next     string
		}
		seen, after := 0, ""
		for range 2 {
			_, _, text := h.Ask("GET", "/v1/sessions?account=ann&after="+after, all, nil)
			page.Next = ""
			require.NoError(t, json.Unmarshal(text, &page))
			seen, after = seen+len(page.Sessions), page.Next
		}
		require.Equal(t, 3, seen)
		require.Empty(t, after)
	})
}

func TestWhenATokenWasAuthenticated(t *testing.T) {
	p := doortest.NewProvider(t)
	for name, c := range map[string]struct {
		change map[string]any
		by     door.AuthenticationClaim
		status int
		log    string
	}{
		"it does not say":        {map[string]any{"auth_time": nil}, door.ByAuthTime, 401, "ann"},
		"the issuer renews none": {map[string]any{"auth_time": nil}, door.ByIssuedAt, 200, ""},
		"long ago": {map[string]any{"auth_time": nil, "iat": noon.Add(-2 * time.Hour).Unix()}, door.ByIssuedAt, 401,
			""},
		"auth_time counts where there is one":  {map[string]any{"auth_time": noon.Add(-2 * time.Hour).Unix()}, door.ByIssuedAt, 401, ""},
		"a program's own (client credentials)": {map[string]any{"auth_time": nil, "sub": "root", "client_id": "root"}, door.ByAuthTime, 200, ""},
		"the same, a long time after its issue": {map[string]any{"auth_time": nil, "sub": "root", "client_id": "root",
			"iat": noon.Add(-2 * time.Hour).Unix()}, door.ByAuthTime, 401, ""},
	} {
		t.Run(name, func(t *testing.T) {
			by := c.by
			h := boundedHouse(t, p, nil, "door", func(c *door.Config) {
				c.Tokens[0].AuthenticatedBy = by
				c.Tokens[0].Own = append(c.Tokens[0].Own, "root")
			})
			status, text := h.Opens(h.Bearer(p, "s-1", c.change), "till")
			require.Equal(t, c.status, status, text+h.Logged.String())
			require.Contains(t, h.Logged.String(), c.log)
		})
	}
}

// TestACredentialThatChanges ends the sessions that rest on it, but not the one in which it was changed.
func TestACredentialThatChanges(t *testing.T) {
	p := doortest.NewProvider(t)
	for name, c := range map[string]struct {
		credential, change string
		// named is the sid that the event names, and changing are the sids in which changing the password was granted before.
		named    string
		changing []string
		// left are the statuses in the sessions s-1, s-2 and one that was never seen.
		left [3]int
	}{
		"revoked":                            {"password", "revoke", "", nil, [3]int{401, 401, 403}},
		"changed":                            {"password", "update", "", nil, [3]int{401, 401, 401}},
		"changed in a session that it names": {"password", "update", "s-1", nil, [3]int{200, 401, 401}},
		"changed in one that was never seen": {"password", "update", "s-3", nil, [3]int{401, 401, 200}},
		"changed in the only one that may":   {"password", "update", "", []string{"s-2"}, [3]int{401, 200, 401}},
		"changed in one of two":              {"password", "update", "", []string{"s-1", "s-2"}, [3]int{401, 401, 401}},
		"another credential":                 {"app", "revoke", "", nil, [3]int{200, 200, 200}},
		"created":                            {"password", "create", "", nil, [3]int{200, 200, 200}},
	} {
		t.Run(name, func(t *testing.T) {
			h := boundedHouse(t, p, nil, "door", nil)
			var tokens []string
			for i := range 3 {
				tokens = append(tokens, h.Bearer(p, fmt.Sprint("s-", i+1), nil))
				if i < 2 {
					status, text := h.Opens(tokens[i], "mail")
					require.Equal(t, 200, status, text)
				}
			}
			h.Pass(time.Minute)
			for _, sid := range c.changing {
				a := h.Answer(`{"account":"ann","app":"mail","action":"change-password","session":{"id":"` + sid + `"},"proofs":[` + password + `]}`)
				require.Equal(t, decide.Grant, a.Verdict, a.Causes)
			}
			h.Pass(time.Minute)
			subject := map[string]any{"format": "opaque", "id": "ann"}
			if c.named != "" {
				subject = map[string]any{"format": "complex", "user": subject, "session": map[string]any{"format": "opaque", "id": c.named}}
			}
			e := doortest.Event(
				"e",
				caep+"credential-change",
				subject,
				map[string]any{"credential_type": c.credential, "change_type": c.change,
					"event_timestamp": h.Clock().Unix()},
			)
			e["iss"], e["iat"] = issuer, h.Clock().Unix()
			status, text := h.PushEvent(p.Sign("first", "secevent+jwt", e))
			require.Equal(t, http.StatusAccepted, status, text)
			for i, token := range tokens {
				status, text := h.Opens(token, "mail")
				require.Equal(t, c.left[i], status, "%d %s %s", i, text, h.Logged)
			}
			h.Pass(time.Second)
			status, text = h.Opens(h.Bearer(p, "s-1", nil), "mail")
			require.Equal(t, 200, status, text)
		})
	}
}
