package door_test

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	cryptorand "crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

func TestGuardTokens(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Guarded(p))
	public := p.Keys["first"].Public()
	secret, err := (&jose.JSONWebKey{Key: public}).MarshalJSON()
	require.NoError(t, err)
	stranger := doortest.NewProvider(t)
	with := func(change map[string]any, amr ...string) map[string]any {
		c := doortest.Claims(noon, append(amr, "pwd")...)
		maps.Copy(c, change)
		for name, value := range change {
			if value == nil {
				delete(c, name)
			}
		}
		return c
	}
	sign := func(change map[string]any) string { return p.Sign("first", "at+jwt", with(change)) }
	unsigned := "eyJhbGciOiJub25lIiwidHlwIjoiYXQrand0In0." + strings.Split(sign(nil), ".")[1] + "."
	for name, c := range map[string]struct {
		token  string
		status int
	}{
		"valid":                {sign(nil), 200},
		"typ in full":          {p.Sign("first", "application/at+jwt", with(nil)), 200},
		"a minute over":        {sign(map[string]any{"exp": noon.Add(-59 * time.Second).Unix()}), 200},
		"expired":              {sign(map[string]any{"exp": noon.Add(-61 * time.Second).Unix()}), 401},
		"not valid yet":        {sign(map[string]any{"nbf": noon.Add(2 * time.Minute).Unix()}), 401},
		"issued in the future": {sign(map[string]any{"iat": noon.Add(2 * time.Minute).Unix()}), 401},
		"for another":          {sign(map[string]any{"aud": "https://other.example"}), 401},
		"of another issuer":    {sign(map[string]any{"iss": "https://other.example"}), 401},
		"without exp":          {sign(map[string]any{"exp": nil}), 401},
		"without jti":          {sign(map[string]any{"jti": nil}), 401},
		"without sub":          {sign(map[string]any{"sub": nil}), 401},
		"an ID token":          {p.Sign("first", "JWT", with(nil)), 401},
		"without a signature":  {unsigned, 401},
		"signed with the public key as a secret": {
			doortest.Signed(t, jose.SigningKey{Algorithm: jose.HS256, Key: secret}, "first", "at+jwt", with(nil)),
			401},
		"signed by a stranger":           {stranger.Sign("first", "at+jwt", with(nil)), 401},
		"nonsense":                       {"a.b.c", 401},
		"too long":                       {strings.Repeat("a", 20_000), 401},
		"an account that does not exist": {sign(map[string]any{"sub": "nobody@kestrelsound.example"}), 403},
		"a changed claim": {strings.Replace(sign(nil), strings.Split(sign(nil), ".")[1], strings.Split(unsigned, ".")[1],
			1) + "x", 401},
	} {
		t.Run(name, func(t *testing.T) {
			status, header, text := h.AskGuard(c.token, mail, pier, nil)
			require.Equal(t, c.status, status, text+h.Logged.String())
			switch status {
			case 200:
				require.Equal(t, "ingrid@kestrelsound.example", header.Get("X-Account"))
			case 401:
				require.Equal(t, `Bearer error="invalid_token"`, header.Get("WWW-Authenticate"))
				require.Contains(t, text, "The token is not valid. Sign on again.", "each is told the same")
			}
		})
	}
	t.Run("an empty crit, which is none (RFC 7515 section 4.1.11)", func(t *testing.T) {
		parts := strings.Split(sign(nil), ".")
		head, err := base64.RawURLEncoding.DecodeString(parts[0])
		require.NoError(t, err)
		head = append(head[:len(head)-1], `,"crit":[]}`...)
		text := base64.RawURLEncoding.EncodeToString(head) + "." + parts[1]
		sum := sha256.Sum256([]byte(text))
		r, s, err := ecdsa.Sign(cryptorand.Reader, p.Keys["first"], sum[:])
		require.NoError(t, err)
		signature := append(r.FillBytes(make([]byte, 32)), s.FillBytes(make([]byte, 32))...)
		status, _, _ := h.AskGuard(text+"."+base64.RawURLEncoding.EncodeToString(signature), mail, pier, nil)
		require.Equal(t, 401, status)
	})
	t.Run("forged tokens are no lines without end", func(t *testing.T) {
		before := strings.Count(h.Logged.String(), "tokens are refused")
		for range 200 {
			h.AskGuard("a.b.c", mail, pier, nil)
		}
		require.Less(t, strings.Count(h.Logged.String(), "tokens are refused")-before, 30)
	})
	t.Run("no token", func(t *testing.T) {
		status, header, _ := h.AskGuard("", mail, pier, nil)
		require.Equal(t, 401, status)
		require.Equal(t, `Bearer realm="sign-on"`, header.Get("WWW-Authenticate"))
	})
	t.Run("in a cookie", func(t *testing.T) {
		status, _, _ := h.AskGuard("", mail, pier, map[string]string{"Cookie": "sign_on=" + sign(nil)})
		require.Equal(t, 200, status)
	})
	t.Run("keys are rotated", func(t *testing.T) {
		old := sign(nil)
		p.Rotate("second")
		fresh := p.Sign("second", "at+jwt", with(nil))
		status, _, _ := h.AskGuard(fresh, mail, pier, nil)
		require.Equal(t, 401, status, "keys are not asked for again within seconds")
		h.Pass(11 * time.Second)
		status, _, text := h.AskGuard(fresh, mail, pier, nil)
		require.Equal(t, 200, status, text)
		status, _, _ = h.AskGuard(old, mail, pier, nil)
		require.Equal(t, 401, status, "what a key verified that is gone is verified no more")
		asks := p.Asks
		for range 20 {
			h.AskGuard(stranger.Sign("first", "at+jwt", with(nil)), mail, pier, nil)
		}
		require.Equal(t, asks, p.Asks, "made-up keys do not make it ask")
	})
}

// TestNobodyWaitsForKeys that are known, and nobody keeps others from those that are not.
func TestNobodyWaitsForKeys(t *testing.T) {
	t.Run("a place of keys that hangs", func(t *testing.T) {
		p := doortest.NewProvider(t)
		h := doortest.New(t, nil, doortest.Guarded(p))
		good := p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd"))
		status, _, text := h.AskGuard(good, mail, pier, nil)
		require.Equal(t, 200, status, text)
		<-p.Asked
		p.Hold = make(chan struct{})
		defer close(p.Hold)
		h.Pass(30 * time.Minute)
		for _, token := range []string{good, p.Sign("first", "at+jwt", doortest.Claims(h.Clock(), "pwd"))} {
			status, _, text = h.AskGuard(token, mail, pier, nil)
			require.Equal(t, 200, status, text)
		}
		asked := <-p.Asked
		time.Sleep(50 * time.Millisecond) // in which it notices where nobody waits for it any more
		require.NoError(t, asked.Context().Err(), "it is still asked, and nobody waited until it was given up")
	})
	t.Run("a stranger who hangs up", func(t *testing.T) {
		p := doortest.NewProvider(t)
		p.Hold = make(chan struct{})
		h := doortest.New(t, nil, doortest.Guarded(p))
		good := p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd"))
		gone, hangUp := context.WithCancel(t.Context())
		hangUp()
		stranger := httptest.NewRequest("GET", mail, nil).WithContext(gone)
		stranger.Header.Set("Authorization", "Bearer "+good[:len(good)-4]+"AAAA")
		w := httptest.NewRecorder()
		h.Guard(http.NotFoundHandler()).ServeHTTP(w, stranger)
		require.Equal(t, 401, w.Code)
		close(p.Hold)
		status, _, text := h.AskGuard(good, mail, pier, nil)
		require.Equal(t, 200, status, text)
	})
}

func TestGuardAsksForMore(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Guarded(p))
	sessions := 0
	token := func(change map[string]any, amr ...string) string {
		c := doortest.Claims(noon, amr...)
		sessions++
		c["sid"] = fmt.Sprint("s-of-", sessions)
		maps.Copy(c, change)
		return p.Sign("first", "at+jwt", c)
	}
	for name, c := range map[string]struct {
		token, url, ip string
		status         int
		challenge      string
	}{
		"enough at the pier":      {token(nil, "pwd"), mail, pier, 200, ""},
		"more is asked elsewhere": {token(nil, "pwd"), mail, abroad, 401, `acr_values="[^"]*urn:kestrelsound:two-factors[^"]*".*max_age="43200"`},
		"which was shown":         {token(nil, "pwd", "mca"), mail, abroad, 200, ""},
		"what an issuer means": {token(map[string]any{"sub": "torstein@kestrelsound.example", "sid": "s-8"}, "pwd", "otp"), mail, pier, 200,
			""},
		"a host that is no app":   {token(nil, "pwd"), "https://other.kestrelsound.example/", pier, 403, ""},
		"an app not open to her":  {token(nil, "pwd"), "https://board.kestrelsound.example/", pier, 403, ""},
		"what servers read apart": {token(nil, "pwd"), "https://board.kestrelsound.example/inbox/..;/admin", pier, 403, ""},
		"an outside program":      {token(map[string]any{"client_id": "voyage-log", "scope": "mail.read"}, "pwd"), mail, pier, 200, ""},
	} {
		t.Run(name, func(t *testing.T) {
			status, header, text := h.AskGuard(c.token, c.url, c.ip, nil)
			require.Equal(t, c.status, status, text+h.Logged.String())
			if c.challenge != "" {
				require.Regexp(t, regexp.MustCompile(`^Bearer error="insufficient_user_authentication", .*`+c.challenge),
					header.Get("WWW-Authenticate"))
			}
		})
	}
	t.Run("a URL that an app has is no error", func(t *testing.T) {
		for _, path := range []string{"map?ids=1,2,3", "@59.9,10.7", "?q=" + strings.Repeat("a", 5000), "a%2Fb", "100%25", "a;v=1", "a//b",
			"caf%E9", "?p=../x", "it's", "a|b"} {
			status, _, text := h.AskGuard(token(nil, "pwd"), "https://mail.kestrelsound.example/"+path, pier, nil)
			require.Equal(t, 200, status, path+text)
		}
	})
	t.Run("a public app needs no token", func(t *testing.T) {
		h := doortest.New(t, nil, doortest.Guarded(p))
		h.Read(
			doortest.Edited(t, "for everybody to read., public: true",
				"for everybody to read., public: true, hosts: [sailings.kestrelsound.example]"),
		)
		require.True(t, h.Reload().Taken)
		for name, c := range map[string]struct {
			token, url, account string
			status              int
		}{
			"no token":                {"", "https://sailings.kestrelsound.example/today", "", 200},
			"a token that is none":    {"nonsense", "https://sailings.kestrelsound.example/today", "", 200},
			"too little for the book": {token(nil, "pwd"), "https://sailings.kestrelsound.example/today", "", 200},
			"the token of somebody": {token(nil, "pwd", "mca"), "https://sailings.kestrelsound.example/today", "ingrid@kestrelsound.example",
				200},
			"another app, no token":    {"", mail, "", 401},
			"no app at all, no token":  {"", "https://other.kestrelsound.example/", "", 401},
			"below the host, no token": {"", "https://x.sailings.kestrelsound.example/", "", 401},
		} {
			t.Run(name, func(t *testing.T) {
				status, header, text := h.AskGuard(c.token, c.url, abroad, nil)
				require.Equal(t, c.status, status, text)
				require.Equal(t, c.account, header.Get("X-Account"))
			})
		}
	})
	t.Run("forwarded headers", func(t *testing.T) {
		good := token(map[string]any{"sid": "s-9"}, "pwd")
		for name, c := range map[string]struct {
			more   map[string]string
			status int
		}{
			"no host":                 {map[string]string{"X-Forwarded-Host": ""}, 400},
			"two hosts":               {map[string]string{"X-Forwarded-Host": "mail.kestrelsound.example, other.example"}, 400},
			"a host with a path":      {map[string]string{"X-Forwarded-Host": "mail.kestrelsound.example/x"}, 403},
			"two paths":               {map[string]string{"X-Forwarded-Uri": "/inbox, /admin"}, 400},
			"no path":                 {map[string]string{"X-Forwarded-Uri": ""}, 400},
			"no address":              {map[string]string{"X-Forwarded-For": ""}, 401}, // it is nowhere, so more is asked
			"an address made up":      {map[string]string{"X-Forwarded-For": pier + ", " + abroad}, 401},
			"behind another proxy":    {map[string]string{"X-Forwarded-For": abroad + ", " + pier + ", 127.0.0.1"}, 200},
			"an address that is none": {map[string]string{"X-Forwarded-For": pier + ", unknown"}, 401},
		} {
			t.Run(name, func(t *testing.T) {
				status, _, text := h.AskGuard(good, mail, pier, c.more)
				require.Equal(t, c.status, status, text)
			})
		}
		r := httptest.NewRequest("GET", "/v1/guard", nil)
		r.RemoteAddr = "192.0.2.1:4711"
		r.Header.Set("X-Forwarded-Host", "mail.kestrelsound.example")
		r.Header.Set("X-Forwarded-Uri", "/")
		r.Header.Set("X-Forwarded-For", pier)
		r.Header.Set("Authorization", "Bearer "+good)
		w := httptest.NewRecorder()
		h.Handler().ServeHTTP(w, r)
		require.Equal(t, 403, w.Code, "headers count from a trusted proxy only")
	})
	t.Run("an outside check that passed when the session began", func(t *testing.T) {
		const yard = "192.0.2.20"
		marek := func(sid string) (int, string) {
			status, _, text := h.AskGuard(token(map[string]any{"sub": "marek@gdansk-yard.example", "sid": sid}, "pwd", "otp"), mail, yard, nil)
			return status, text
		}
		status, text := marek("s-of-marek")
		require.Equal(t, 403, status, text)
		for app, want := range map[string]int{"crew-roster": 403, "mail": 200} {
			sid := "s-at-" + app
			answer := h.Answer(fmt.Sprintf(`{"account": "marek@gdansk-yard.example", "app": %q, "ip": %q, "through": "browser", "client": null,
				"session": {"id": %q}, "proofs": [{"method": "password"}, {"method": "otp-app"}], "external": {"shipyard-verifier": "passed"}}`,
				app, yard, sid))
			require.Equal(t, "grant", answer.Verdict.String())
			status, text = marek(sid)
			require.Equal(t, want, status, text)
		}
	})
	t.Run("what a caller said of a device that nobody else knows goes on with the session", func(t *testing.T) {
		h := doortest.New(t, nil, doortest.Guarded(p))
		computers := doortest.Edited(t, "stage: live", "stage: live")
		delete(computers, "drills.yaml") // which try no such book
		computers["computers.yaml"] = &fstest.MapFile{Data: []byte("briskwarden: 1\npolicies:\n  - {name: computers, owner: shore-it, " +
			"stage: live, who: anyone, apps: {names: [mail]}, " +
			"rules: [{name: phones, when: {any: [{platforms: [ios, android]}, {device: [shared]}, {device_tags: [lost]}]}, then: block}]}\n")}
		h.Read(computers)
		r := h.Reload()
		require.True(t, r.Taken, r.Why)
		for device, want := range map[string]int{"own-1": 200, "own-2": 403} {
			on := doortest.Ingrid("mail", password+","+push, `,"through": "browser", "client": null, "session": {"id": "s-on-`+device+`"}`)
			answer := h.Answer(strings.Replace(on, `"laptop-ingrid"`, `"own-1", "platform": "macos", "shared": false, "tags": []`, 1))
			require.Equal(t, "grant", answer.Verdict.String(), answer.Causes)
			status, _, text := h.AskGuard(token(map[string]any{"sid": "s-on-" + device, "device_id": device}, "pwd"), mail, pier, nil)
			require.Equal(t, want, status, text)
		}
	})
	t.Run("a page of many requests is one entry", func(t *testing.T) {
		before := len(h.Entries())
		page := p.Sign("first", "at+jwt", doortest.Claims(noon.Add(time.Second), "pwd"))
		for range 10 {
			status, _, _ := h.AskGuard(page, mail, pier, nil)
			require.Equal(t, 200, status)
		}
		require.Len(t, h.Entries(), before+1)
		h.Pass(time.Minute)
		h.AskGuard(page, mail, pier, nil)
		require.Len(t, h.Entries(), before+2)
		ended, err := h.EndSession(store.SessionID(issuer, "s-7", "ingrid@kestrelsound.example"), "she called")
		require.NoError(t, err)
		require.True(t, ended)
		status, _, text := h.AskGuard(page, mail, pier, nil)
		require.Equal(t, 401, status, text)
		require.Contains(t, text, "Sign on again.")
	})
}

// TestAClientFollowsTheChallenge signs on again as RFC 9470 §4 has it: with the acr_values and max_age
// of the challenge, at a provider that asks for what they say.
func TestAClientFollowsTheChallenge(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Guarded(p))
	signOn := func(query string) string {
		asked, err := url.ParseQuery(query)
		require.NoError(t, err)
		c := doortest.Claims(h.Clock(), "pwd")
		c["auth_time"], c["sid"] = h.Clock().Unix(), "s-"+query
		if slices.Contains(strings.Fields(asked.Get("acr_values")), "urn:kestrelsound:two-factors") {
			c["amr"], c["acr"] = []string{"pwd", "mca"}, "urn:kestrelsound:two-factors"
		}
		return p.Sign("first", "at+jwt", c)
	}
	token := signOn("")
	status, header, _ := h.AskGuard(token, mail, abroad, nil)
	require.Equal(t, 401, status)
	parameters := url.Values{}
	for _, found := range regexp.MustCompile(`(\w+)="([^"]*)"`).FindAllStringSubmatch(header.Get("WWW-Authenticate"), -1) {
		parameters.Set(found[1], found[2])
	}
	require.Equal(t, "insufficient_user_authentication", parameters.Get("error"))
	parameters.Del("error")
	parameters.Del("error_description")
	status, _, text := h.AskGuard(signOn(parameters.Encode()), mail, abroad, nil)
	require.Equal(t, 200, status, text)
	h.Pass(13 * time.Hour)
	status, _, _ = h.AskGuard(signOn(parameters.Encode()), mail, abroad, nil)
	require.Equal(t, 200, status, "what was just proven is fresh")
	old := doortest.Claims(h.Clock(), "pwd", "mca")
	old["auth_time"], old["sid"] = h.Clock().Add(-13*time.Hour).Unix(), "s-old"
	status, header, _ = h.AskGuard(p.Sign("first", "at+jwt", old), mail, abroad, nil)
	require.Equal(t, 401, status, "and what was proven thirteen hours ago is not")
	require.Contains(t, header.Get("WWW-Authenticate"), `max_age="0"`, "nor does a session last so long")
}

func TestGuardAsMiddleware(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Guarded(p))
	app := h.Guard(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s %s", r.Header.Get(door.AccountHeader), door.AccountOf(r.Context()))
	}))
	ask := func(remote, token string, more ...string) (int, string) {
		r := httptest.NewRequest("GET", mail, nil)
		r.RemoteAddr = remote + ":4711"
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set(door.AccountHeader, "birk@kestrelsound.example")
		for i := 0; i < len(more); i += 2 {
			r.Header.Set(more[i], more[i+1])
		}
		w := httptest.NewRecorder()
		app.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	good := p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd"))
	status, text := ask(pier, good)
	require.Equal(t, 200, status, text)
	require.Equal(t, "ingrid@kestrelsound.example ingrid@kestrelsound.example", text, "what a client sends is dropped")
	status, _ = ask(abroad, good, "X-Forwarded-For", pier, "X-Forwarded-Host", "mail.kestrelsound.example", "X-Forwarded-Uri", "/")
	require.Equal(t, 401, status, "a header of no trusted proxy is nothing")
	status, _ = ask("127.0.0.1", good, "X-Forwarded-For", pier, "X-Forwarded-Host", "mail.kestrelsound.example", "X-Forwarded-Uri", "/")
	require.Equal(t, 200, status)
	status, _ = ask(pier, "nonsense")
	require.Equal(t, 401, status)

	t.Run("by the URL as it came", func(t *testing.T) {
		h.Read(doortest.Edited(t, "hosts: [board.kestrelsound.example]", `hosts: ["mail.kestrelsound.example/board/*"]`))
		require.True(t, h.Reload().Taken)
		served := httptest.NewServer(app)
		defer served.Close()
		stripped := httptest.NewServer(http.StripPrefix("/board", app)) // which takes from the URL what makes it another app's
		defer stripped.Close()
		for _, c := range []struct {
			by     *httptest.Server
			target string
			status int
		}{
			{served, "/inbox", 200}, {served, "http://mail.kestrelsound.example/inbox", 200}, {served, "http://mail.kestrelsound.example?x", 200},
			{served, "/board/inbox", 403}, {served, "http:////board/inbox", 403}, {served, "http://elsewhere/inbox", 403},
			{stripped, "/board/inbox", 403}, {stripped, "http://mail.kestrelsound.example/board/inbox", 403},
			{stripped, "http://mail.kestrelsound.example:80/board?x=/inbox", 403},
		} {
			conn, err := net.Dial("tcp", c.by.Listener.Addr().String())
			require.NoError(t, err)
			_, err = fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: mail.kestrelsound.example\r\nAuthorization: Bearer %s\r\n\r\n", c.target,
				p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd", "mca")))
			require.NoError(t, err)
			answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
			require.NoError(t, errors.Join(err, conn.Close()))
			require.Equal(t, c.status, answer.StatusCode, c.target)
		}
		r := httptest.NewRequest("GET", "/board/inbox", nil) // such as net/http lets nobody make
		r.Host = "mail.kestrelsound.example/inbox"
		r.Header.Set("Authorization", "Bearer "+good)
		w := httptest.NewRecorder()
		app.ServeHTTP(w, r)
		require.Equal(t, 403, w.Code)
	})
}

func TestAnAttemptThatIsNotNowIsNotJudged(t *testing.T) {
	h := doortest.New(t, nil, nil)
	for _, at := range []time.Time{noon.AddDate(-1, 0, 0), {}} {
		answer, err := h.Door.Decide(t.Context(), &attempt.Attempt{At: at, Account: "ingrid@kestrelsound.example", App: "mail",
			Proofs: []attempt.Proof{{Method: "password"}}}, door.Asked{})
		require.Nil(t, answer)
		require.Error(t, err)
	}
	require.Len(t, h.Entries(), 1, "that of the book alone")
}

// need returns the path of a program, and skips the test where it is missing, in CI fails it.
func need(t *testing.T, program, debian string) string {
	path, err := exec.LookPath(program)
	if err != nil && os.Getenv("CI") != "" {
		t.Fatalf("%s is missing; in CI this test needs it (Debian: %s)", program, debian)
	} else if err != nil {
		t.Skipf("skipped: %s is missing (Debian: %s)", program, debian)
	}
	return path
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}

// requests is how many requests are made to find one for which nginx and the door read another app.
var requests = flag.Int("requests", 3_000, "how many odd requests are made through nginx")

// TestBehindNginx has nginx route to three apps by host and by path, as its example is set up, and a person who may open one of them.
func TestBehindNginx(t *testing.T) {
	nginx := need(t, "nginx", "nginx")
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Guarded(p))
	h.Read(
		doortest.Edited(t, "hosts: [board.kestrelsound.example]", `hosts: [board.kestrelsound.example, "mail.kestrelsound.example/board/*"]`))
	require.True(t, h.Reload().Taken)
	served := httptest.NewServer(h.Handler())
	defer served.Close()
	at := map[string]string{}
	for _, app := range []string{"mail", "board", "none"} {
		behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, "%s of %s", app, r.Header.Get("X-Account"))
		}))
		defer behind.Close()
		at[app] = behind.Listener.Addr().String()
	}
	text, err := os.ReadFile("../examples/nginx/nginx.conf")
	require.NoError(t, err)
	dir := t.TempDir()
	port := freePort(t)
	head, server, found := strings.Cut(string(text), "  server {\n    listen")
	require.True(t, found)
	server = "  server {\n    listen" + strings.TrimSuffix(server, "}\n")
	location := regexp.MustCompile(`(?s)    location / \{.*?\n    \}\n`).FindString(server)
	block := func(name, app string) string {
		return strings.NewReplacer("server_name _", "server_name "+name, "127.0.0.1:9000", at[app]).Replace(server)
	}
	below := strings.NewReplacer("location /", "location /board/", "127.0.0.1:9000", at["board"]).Replace(location)
	config := head + block("_", "none") + block("board.kestrelsound.example", "board") +
		strings.Replace(block("mail.kestrelsound.example", "mail"), "    location / {", below+"    location / {", 1) + "}\n"
	config = strings.NewReplacer("127.0.0.1:7443", served.Listener.Addr().String(), "127.0.0.1:8080", "127.0.0.1:"+port).Replace(config)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(config), 0o600))
	settings := "daemon off;"
	if os.Geteuid() == 0 {
		settings += " user root;"
	}
	cmd := exec.Command(nginx, "-p", dir, "-c", "nginx.conf", "-g", settings)
	said, err := os.Create(filepath.Join(dir, "said"))
	require.NoError(t, err)
	defer said.Close()
	cmd.Stdout, cmd.Stderr = said, said
	require.NoError(t, cmd.Start())
	defer func() {
		cmd.Process.Signal(syscall.SIGTERM) // on which its workers end too
		cmd.Wait()
	}()
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	ask := func(line, token string, headers ...string) (status int, challenge []string, body string) {
		conn, err := net.DialTimeout("tcp", "127.0.0.1:"+port, 10*time.Second)
		require.NoError(t, err)
		defer conn.Close()
		require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
		if token != "" {
			headers = append(headers, "Authorization: Bearer "+token)
		}
		_, err = io.WriteString(conn, line+"\r\n"+strings.Join(append(headers, "Connection: close"), "\r\n")+"\r\n\r\n")
		require.NoError(t, err)
		answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err, line)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, answer.Header.Values("WWW-Authenticate"), string(text)
	}
	const host = "Host: mail.kestrelsound.example"
	two := p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd", "mca"))
	status, _, body := ask("GET /inbox HTTP/1.1", two, host, "X-Account: birk@kestrelsound.example", "X-Forwarded-For: "+pier)
	require.Equal(t, 200, status, body+h.Logged.String())
	require.Equal(t, "mail of ingrid@kestrelsound.example", body)
	other := doortest.Claims(noon, "pwd")
	other["sid"] = "s-8"
	status, challenge, _ := ask("GET /inbox HTTP/1.1", p.Sign("first", "at+jwt", other), host, "X-Forwarded-For: "+pier)
	require.Equal(t, 401, status, "her address is that of the connection, which is not at the pier")
	require.Len(t, challenge, 1)
	require.Contains(t, challenge[0], `acr_values="`)
	status, challenge, _ = ask("GET /inbox HTTP/1.1", "", host)
	require.Equal(t, 401, status)
	require.Equal(t, []string{`Bearer realm="sign-on"`}, challenge)
	entries := h.Entries()
	require.Equal(t, journal.Decision, entries[len(entries)-1].Kind)

	t.Run("never another app than the one that gets the request", func(t *testing.T) {
		random := rand.New(rand.NewPCG(uint64(*requests), 27))
		one := func(of ...string) string { return of[random.IntN(len(of))] }
		hosts := []string{"mail.kestrelsound.example", "mail.kestrelsound.example", "board.kestrelsound.example", "BOARD.Kestrelsound.example",
			"board.kestrelsound.example.", "board.kestrelsound.example:80", "mail.kestrelsound.example:443", "x@board.kestrelsound.example",
			"board.kestrelsound.example@mail.kestrelsound.example", "mail.kestrelsound.example, board.kestrelsound.example", "127.0.0.1", "[::1]",
			"mail.kestrelsound.example#", "board.kestrelsound.example/", "mail%2ekestrelsound.example", "", "_", "xn--mail"}
		parts := []string{"/", "/", "/", "board", "board", "board/x", "inbox", "..", ".", "%2e%2e", "%2E.", "%2f", "%252e%252e", "%5c", "\\",
			";", "..;", "%00", "%09", "%c0%ae", "%zz", "%", "BOARD", "%62oard", "a", "?", "?/board/", "#", "%3f", "%23", "%20", ",", "\xe5"}
		headers := []string{"X-Forwarded-Host: mail.kestrelsound.example", "X-Forwarded-Uri: /inbox", "X_Forwarded_Uri: /inbox",
			"X-Original-URL: /inbox", "Connection: X-Forwarded-Uri, X-Forwarded-Host", "Forwarded: host=mail.kestrelsound.example",
			"X-Forwarded-Proto: https"}
		opened, statuses := 0, map[int]int{}
		for range *requests {
			path := "/"
			for range random.IntN(5) {
				path += one(parts...)
			}
			target := one("", "", "", "http://"+one(hosts...), "HTTPS://"+one(hosts...), "//") + path
			sent := []string{one(host, host, "Host: "+one(hosts...))}
			if random.IntN(12) == 0 {
				sent = append(sent, "Host: "+one(hosts...))
			}
			if random.IntN(3) == 0 {
				sent = append(sent, one(headers...))
			}
			line := one("GET", "GET", "OPTIONS", "POST", "PROPFIND") + " " + target + " HTTP/1." + one("1", "1", "0")
			status, _, body := ask(line, two, sent...)
			statuses[status]++
			require.False(t, status == 200 && !strings.HasPrefix(body, "mail of ingrid"), "%s\n%s\n%s", line, sent, body)
			require.NotEqual(t, 500, status, "%s\n%s\n%s", line, sent, h.Logged.String())
			if status == 200 {
				opened++
			}
		}
		require.Greater(t, opened, *requests/20, "%v", statuses)
	})
}
