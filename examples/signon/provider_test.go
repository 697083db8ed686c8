package main

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"
)

// client is a browser without scripts that follows no redirect by itself.
type client struct {
	testing.TB
	*http.Client
	base string
}

func newClient(t testing.TB, x *trial) *client {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &client{t, &http.Client{Jar: jar, CheckRedirect: stay}, x.base}
}

// get opens a path, or a URL of the trial, and returns the status, where it leads and the page.
func (c *client) get(path string) (int, string, string) {
	return c.send(http.MethodGet, path, nil)
}

func (c *client) send(method, path string, form url.Values) (int, string, string) {
	r, err := http.NewRequestWithContext(c.Context(), method, c.base+strings.TrimPrefix(path, c.base), strings.NewReader(form.Encode()))
	require.NoError(c, err)
	if form != nil {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	w, err := c.Do(r)
	require.NoError(c, err)
	defer w.Body.Close()
	text, err := io.ReadAll(w.Body)
	require.NoError(c, err)
	return w.StatusCode, w.Header.Get("Location"), string(text)
}

// verifier is that of a client, with its challenge (the example of RFC 7636 appendix B).
const verifier, challenge = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk", "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"

// asks is a request of an app, with some parameters otherwise.
func (x *trial) asks(change ...string) string {
	q := url.Values{"response_type": {"code"}, "client_id": {"mail"}, "redirect_uri": {x.redirectOf("mail")}, "scope": {"openid"},
		"state": {"s-1"}, "nonce": {"n-1"}, "code_challenge": {challenge}, "code_challenge_method": {"S256"}}
	for i := 0; i < len(change); i += 2 {
		if q.Del(change[i]); change[i+1] != "" {
			q.Set(change[i], change[i+1])
		}
	}
	return "/authorize?" + q.Encode()
}

// signOn signs on at the pier, and returns what the app is sent.
func (c *client) signOn(x *trial, account, password, request string) url.Values {
	_, _, page := c.get("/around")
	form := regexp.MustCompile(`name="form" value="([^"]*)"`).FindStringSubmatch(page)
	require.NotNil(c, form)
	c.send(http.MethodPost, "/around", url.Values{"form": form[1:], "do": {"moved"}, "place": {"pier"}, "device": {"laptop-ingrid"}})
	status, to, _ := c.get(request)
	require.Equal(c, http.StatusSeeOther, status)
	for range 4 {
		if strings.HasPrefix(to, x.redirectOf("mail")) {
			at, err := url.Parse(to)
			require.NoError(c, err)
			return at.Query()
		}
		if to == "" {
			_, to, _ = c.send(http.MethodPost, "/sign-on", url.Values{"form": form[1:], "method": {"begin"}, "account": {account},
				"password": {password}})
			continue
		}
		_, to, _ = c.get(to)
	}
	return nil
}

func TestProvider(t *testing.T) {
	x := begun(t)
	password := x.people.Password(ingrid)
	t.Run("discovery", func(t *testing.T) {
		_, _, text := newClient(t, x).get("/.well-known/openid-configuration")
		var told map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &told))
		require.Equal(t, x.base, told["issuer"])
		require.Contains(t, told["acr_values_supported"], "urn:kestrelsound:two-factors")
	})
	t.Run("what is not asked as it should be", func(t *testing.T) {
		c := newClient(t, x)
		for _, wrong := range [][]string{{"client_id", "nothing"}, {"redirect_uri", "https://elsewhere.example/"},
			{"redirect_uri", x.redirectOf("mail") + "/x"}} {
			status, to, _ := c.get(x.asks(wrong...))
			require.Equal(t, http.StatusBadRequest, status, "nobody is sent to %v", wrong)
			require.Empty(t, to)
		}
		for _, wrong := range [][]string{{"response_type", "token"}, {"scope", "profile"}, {"code_challenge", ""},
			{"code_challenge_method", "plain"}, {"max_age", "soon"}, {"prompt", "consent"}} {
			_, to, _ := c.get(x.asks(wrong...))
			require.Contains(t, to, "error=invalid_request", "%v", wrong)
			require.Contains(t, to, "state=s-1")
		}
		_, to, _ := c.get(x.asks("prompt", "none"))
		require.Contains(t, to, "error=login_required")
	})
	t.Run("a code counts once, for the app that asked for it", func(t *testing.T) {
		c := newClient(t, x)
		token := func(code, app, verifier string) (int, string) {
			status, _, text := c.send(http.MethodPost, "/token", url.Values{"grant_type": {"authorization_code"}, "code": {code}, "client_id": {app},
				"redirect_uri": {x.redirectOf("mail")}, "code_verifier": {verifier}})
			return status, text
		}
		for name, with := range map[string][2]string{"another app": {"card-till", verifier}, "another verifier": {"mail", verifier + "x"}} {
			answer := c.signOn(x, ingrid, password, x.asks())
			require.NotEmpty(t, answer.Get("code"))
			status, text := token(answer.Get("code"), with[0], with[1])
			require.Equal(t, http.StatusBadRequest, status, name)
			require.Contains(t, text, "invalid_grant")
			status, _ = token(answer.Get("code"), "mail", verifier)
			require.Equal(t, http.StatusBadRequest, status, "%s has spent it", name)
		}
		answer := c.signOn(x, ingrid, password, x.asks())
		require.Equal(t, x.base, answer.Get("iss"))
		status, text := token(answer.Get("code"), "mail", verifier)
		require.Equal(t, http.StatusOK, status, text)
		var got issued
		require.NoError(t, json.Unmarshal([]byte(text), &got))
		require.Equal(t, "n-1", x.nonceOf(got.IDToken, "mail"))
		parsed, err := jwt.ParseSigned(got.IDToken, []jose.SignatureAlgorithm{jose.ES256})
		require.NoError(t, err)
		var claims map[string]any
		require.NoError(t, parsed.Claims(x.key.Public(), &claims))
		require.Equal(t, ingrid, claims["sub"])
		require.Equal(t, []any{"pwd"}, claims["amr"])
		require.EqualValues(t, x.clock.Now().Unix(), claims["auth_time"])
		require.NotEmpty(t, claims["sid"])
		require.NotContains(t, claims, "acr", "a password alone is of no class of the book")
		require.Empty(t, x.nonceOf(got.IDToken, "card-till"), "an ID token is for one app")
		require.Empty(t, x.nonceOf(got.AccessToken, "mail"), "an access token is none")
		answer = c.signOn(x, ingrid, password, x.asks())
		x.clock.Forward(codeLasts + time.Second)
		status, _ = token(answer.Get("code"), "mail", verifier)
		require.Equal(t, http.StatusBadRequest, status, "it is too late")
	})
	t.Run("who is signed on is not asked again, unless the app wants it", func(t *testing.T) {
		c := newClient(t, x)
		c.signOn(x, ingrid, password, x.asks())
		_, to, _ := c.get(x.asks("prompt", "none"))
		require.Contains(t, to, "code=")
		x.clock.Forward(time.Hour)
		_, to, _ = c.get(x.asks("prompt", "none", "max_age", "60"))
		require.Contains(t, to, "error=interaction_required", "the proof is too old")
		_, to, _ = c.get(x.asks("prompt", "none", "acr_values", "urn:kestrelsound:two-factors"))
		require.Contains(t, to, "error=interaction_required", "more is wanted than the door asks for")
		_, to, _ = c.get(x.asks("prompt", "login"))
		require.Contains(t, to, "/sign-on?on=")
		_, _, page := c.get(to)
		require.Contains(t, page, "Password")
	})
	t.Run("forms of others", func(t *testing.T) {
		c := newClient(t, x)
		c.get(x.asks())
		c.get("/sign-on")
		for _, path := range []string{"/sign-on", "/sign-off", "/around", "/agent", "/phone"} {
			status, _, _ := c.send(http.MethodPost, path, url.Values{"form": {"made up"}, "method": {"begin"}})
			require.Equal(t, http.StatusForbidden, status, path)
		}
	})
	t.Run("a sign-on that was not begun here", func(t *testing.T) {
		c := newClient(t, x)
		status, _, _ := c.get("/apps/mail/signed-on?" + url.Values{"code": {"x"}, "state": {"s"}, "iss": {x.base}}.Encode())
		require.Equal(t, http.StatusBadRequest, status)
	})
	t.Run("a key that was not made is not enrolled", func(t *testing.T) {
		c := newClient(t, x)
		require.Nil(t, c.signOn(x, jonas, x.people.Password(jonas), "/account/begin?action=enrol"))
		_, _, page := c.get("/account?do=enrol")
		form := regexp.MustCompile(`name="form" value="([^"]*)"`).FindStringSubmatch(page)
		for method, want := range map[string]int{"security-key": http.StatusBadRequest, "password": http.StatusBadRequest,
			"push": http.StatusSeeOther} {
			status, _, text := c.send(http.MethodPost, "/account", url.Values{"form": form[1:], "do": {"enrol"}, "method": {method}})
			require.Equal(t, want, status, text)
		}
		require.Equal(t, []string{"password", "push"}, x.methodsOf(jonas))
		require.NoError(t, x.enrol(jonas, "otp-app"))
		status, _, text := c.send(http.MethodPost, "/account", url.Values{"form": form[1:], "do": {"enrol"}, "method": {"otp-app"}})
		require.Equal(t, http.StatusBadRequest, status)
		require.NotContains(t, text, x.people.Seed(jonas), "nobody is shown the key of an app that is in use")
		status, _, _ = c.send(http.MethodPost, "/account/key", url.Values{"form": form[1:], "made": {"{}"}})
		require.Equal(t, http.StatusBadRequest, status)
	})
	t.Run("pages load nothing", func(t *testing.T) {
		r, err := http.Get(x.base + "/around")
		require.NoError(t, err)
		defer r.Body.Close()
		require.Contains(t, r.Header.Get("Content-Security-Policy"), "default-src 'none'; style-src 'sha256-")
		require.NotEmpty(t, r.Cookies())
		for _, cookie := range r.Cookies() {
			require.True(t, cookie.HttpOnly && cookie.SameSite == http.SameSiteStrictMode, cookie.Name)
		}
	})
}

// BenchmarkWrongPassword is how long an answer to a wrong password takes, without the pause that evens it out.
func BenchmarkWrongPassword(b *testing.B) {
	for _, account := range []string{ingrid, "nobody@kestrelsound.example"} {
		b.Run(account, func(b *testing.B) {
			x := begun(b)
			c := newClient(b, x)
			_, to, _ := c.get(x.asks())
			_, _, page := c.get(to)
			form := regexp.MustCompile(`name="form" value="([^"]*)"`).FindStringSubmatch(page)
			require.NotNil(b, form)
			for b.Loop() {
				status, _, _ := c.send(http.MethodPost, "/sign-on", url.Values{"form": form[1:], "method": {"begin"}, "account": {account},
					"password": {"not it"}})
				require.Equal(b, http.StatusSeeOther, status)
			}
		})
	}
}

// TestProofsAreOfOnePerson: what one proved lets no other in, and what is not on offer proves nothing.
func TestProofsAreOfOnePerson(t *testing.T) {
	x := begun(t)
	c := newClient(t, x)
	_, _, page := c.get("/around")
	form := regexp.MustCompile(`name="form" value="([^"]*)"`).FindStringSubmatch(page)[1]
	post := func(values ...string) {
		sent := url.Values{"form": {form}}
		for i := 0; i < len(values); i += 2 {
			sent.Set(values[i], values[i+1])
		}
		status, _, text := c.send(http.MethodPost, "/sign-on", sent)
		require.Equal(t, http.StatusSeeOther, status, text)
	}
	shows := func() string {
		_, _, page := c.get("/sign-on")
		return page
	}
	begin := func(account string) {
		post("method", "begin", "account", account, "password", x.people.Password(account))
	}
	c.send(http.MethodPost, "/around", url.Values{"form": {form}, "do": {"moved"}, "place": {"home"}, "device": {""}})
	c.get(x.asks("client_id", "crew-roster", "redirect_uri", x.redirectOf("crew-roster")))
	begin(torstein)
	require.Contains(t, shows(), "The code that it shows")
	post("method", "otp-app", "typed", x.people.Code(torstein, x.clock.Now()))
	begin(ingrid)
	require.Contains(t, shows(), "Your phone will ask", "the code was another's")

	post("method", "text")
	post("method", "otp-app", "typed", x.people.Code(ingrid, x.clock.Now()))
	require.Contains(t, shows(), "Your phone will ask", "she has no such method")
	require.Empty(t, x.phones.Texts(ingrid))
	prompts := 0
	for range 2 * mostPrompts {
		post("method", "push")
		prompts += len(x.phones.Waiting(ingrid))
		post("method", "give-up")
		shows()
	}
	require.LessOrEqual(t, prompts, mostPrompts)
	require.Positive(t, prompts)
}

// form returns the field that the forms of a browser need.
func (c *client) form() string {
	_, _, page := c.get("/around")
	return regexp.MustCompile(`name="form" value="([^"]*)"`).FindStringSubmatch(page)[1]
}

// post sends a form and returns the status, where it leads and the page.
func (c *client) post(path string, values ...string) (int, string, string) {
	sent := url.Values{"form": {c.form()}}
	for i := 0; i < len(values); i += 2 {
		sent.Set(values[i], values[i+1])
	}
	return c.send(http.MethodPost, path, sent)
}

// TestAClassIsAWish: what an app would like to be proven besides is asked for where the person has it, and keeps nobody out.
func TestAClassIsAWish(t *testing.T) {
	x := begun(t)
	for name, c := range map[string]struct {
		account, class string
		asked          bool
	}{"one that she can meet": {ingrid, "urn:kestrelsound:two-factors", true},
		"one that she cannot": {jonas, "urn:kestrelsound:two-factors", false},
		"one that nobody has": {ingrid, "urn:example:unheard-of", false}} {
		t.Run(name, func(t *testing.T) {
			browser := newClient(t, x)
			browser.post("/around", "do", "moved", "place", "pier", "device", "laptop-ingrid")
			_, to, _ := browser.get(x.asks("acr_values", c.class))
			on := to
			_, to, _ = browser.post(on, "method", "begin", "account", c.account, "password", x.people.Password(c.account))
			for strings.HasPrefix(to, "/sign-on") {
				_, at, page := browser.get(to)
				if strings.Contains(page, "Days left") {
					_, to, _ = browser.post(on, "method", "later")
					continue
				}
				if at == "" {
					require.True(t, c.asked, page)
					require.Contains(t, page, "This app would like to be surer")
					require.Contains(t, page, "Ask my phone")
					_, to, _ = browser.post(on, "method", "later")
					_, to, _ = browser.get(to)
					break
				}
				to = at
			}
			require.Contains(t, to, "code=", "it is let in all the same")
		})
	}
}

// TestTwoTabs: each sign-on of a browser goes on by itself, and opens the app that it was begun for.
func TestTwoTabs(t *testing.T) {
	x := begun(t)
	c := newClient(t, x)
	c.post("/around", "do", "moved", "place", "pier", "device", "laptop-ingrid")
	_, mail, _ := c.get(x.asks())
	_, roster, _ := c.get(x.asks("client_id", "crew-roster", "redirect_uri", x.redirectOf("crew-roster")))
	_, _, page := c.get(mail)
	require.Contains(t, page, "to open mail")
	_, to, _ := c.post(mail, "method", "begin", "account", ingrid, "password", x.people.Password(ingrid))
	_, to, _ = c.get(to)
	require.Contains(t, to, x.redirectOf("mail"))
	_, to, _ = c.get(roster)
	require.Contains(t, to, x.redirectOf("crew-roster"), "who signed on in one tab is signed on in the other")
	for _, gone := range []string{roster, "/sign-on?on=made-up"} {
		_, to, _ = c.get(gone)
		require.Equal(t, "/?said=late", to)
	}
	_, _, page = c.get("/?said=late")
	require.Contains(t, page, "Open the app again.")
	_, mail, _ = c.get(x.asks("prompt", "login"))
	x.clock.Forward(askingLasts + time.Second)
	_, to, _ = c.get(mail)
	require.Equal(t, "/?said=late", to, "one that took too long")
}

// TestWhatIsWrongIsAPage: with a way back, and nothing of the inside.
func TestWhatIsWrongIsAPage(t *testing.T) {
	x := begun(t)
	c := newClient(t, x)
	for name, sent := range map[string]struct {
		form   []string
		status int
		says   string
	}{
		"a clock by a word": {[]string{"do", "later", "hours", "soon"}, 400, "The clock goes forward by a number of hours"},
		"nobody's leak": {[]string{"do", "leaked", "account", "nobody@kestrelsound.example"}, 404,
			"so nobody&#39;s password was found"},
		"nobody left":                 {[]string{"do", "leaves", "about", ingrid}, 404, "The HR feed has told of nobody called " + ingrid},
		"who works here starts":       {[]string{"do", "starts", "about", ingrid}, 409, "works here already"},
		"a name that is none":         {[]string{"do", "starts", "about", "Sunniva"}, 400, "Say who, by a name such as"},
		"what cannot be set":          {[]string{"do", "rain"}, 400, "That cannot be set here."},
		"a form of nobody knows when": {[]string{"form", "old"}, 403, "This form is too old."},
	} {
		t.Run(name, func(t *testing.T) {
			status, _, page := c.post("/around", sent.form...)
			require.Equal(t, sent.status, status)
			require.Contains(t, page, sent.says)
			require.Contains(t, page, ">Go back</a>")
			require.NotContains(t, page, "the door answered")
		})
	}
	for _, path := range []string{"/apps/nothing/", "/documents/nothing", "/account/begin?action=sail"} {
		_, _, page := c.get(path)
		require.Contains(t, page, ">Go back</a>", path)
	}
}
