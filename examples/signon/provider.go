package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
	"github.com/briskwarden/briskwarden/journal"
)

// audience is the aud of access tokens: the guard before the apps.
const audience = "https://apps.kestrelsound.example"

// provider is a small OpenID provider (OpenID Connect Core 1.0): the code flow with PKCE (RFC 7636), and nothing else.
type provider struct {
	issuer string
	key    *ecdsa.PrivateKey
	signer jose.Signer

	grants sync.Mutex
	codes  map[string]*grant
}

// grant is what a code stands for, once and for a minute.
type grant struct {
	asked              *asking
	session            session
	device             string
	acr                string
	amr                []string
	authTime, issuedAt time.Time
	// shown are the values of amr of what was proven at authTime: the access token says no more, and the door knows what was proven before.
	shown []string
}

const codeLasts, tokenLasts = time.Minute, 10 * time.Minute

func newProvider(issuer string) (*provider, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key}, (&jose.SignerOptions{}).WithHeader("kid", "1"))
	return &provider{issuer: issuer, key: key, signer: signer, codes: map[string]*grant{}}, err
}

// keys are the public ones (RFC 7517).
func (p *provider) keys() jose.JSONWebKeySet {
	return jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: "1", Algorithm: "ES256", Use: "sig"}}}
}

// sign makes a token of a type.
func (p *provider) sign(kind string, claims map[string]any) (string, error) {
	signer := p.signer
	if kind != "JWT" {
		var err error
		if signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: p.key},
			(&jose.SignerOptions{}).WithType(jose.ContentType(kind)).WithHeader("kid", "1")); err != nil {
			return "", err
		}
	}
	return jwt.Signed(signer).Claims(claims).Serialize()
}

func writeJSON(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(value) // a client that has gone away reads nothing
}

// serveConfiguration says what the provider can do (OpenID Connect Discovery 1.0 section 4).
func (t *trial) serveConfiguration(w http.ResponseWriter, _ *http.Request) {
	var classes []string
	for _, a := range t.door.Book().Judge().Assurances() {
		if a.ACR != "" {
			classes = append(classes, a.ACR)
		}
	}
	writeJSON(w, http.StatusOK, map[string]any{
		"issuer": t.issuer, "authorization_endpoint": t.base + "/authorize", "token_endpoint": t.base + "/token", "jwks_uri": t.base + "/keys",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "scopes_supported": []string{"openid"},
		"id_token_signing_alg_values_supported": []string{"ES256"}, "code_challenge_methods_supported": []string{"S256"},
		"token_endpoint_auth_methods_supported": []string{"none"}, "prompt_values_supported": []string{"login", "none"},
		"acr_values_supported": classes, "authorization_response_iss_parameter_supported": true,
	})
}

func (t *trial) serveKeys(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, http.StatusOK, t.keys())
}

// request is what an app asks the provider for (OpenID Connect Core 1.0 section 3.1.2.1).
type request struct {
	app, redirect, state, nonce, challenge, prompt string
	acr                                            []string
	// maxAge is how old a proof may be, below 0 any age.
	maxAge time.Duration
}

// parseRequest reads a request. Wrong says what is wrong, and where the app is not known either nobody is sent back to it.
func (t *trial) parseRequest(q url.Values) (x request, known bool, wrong string) {
	x = request{app: q.Get("client_id"), redirect: q.Get("redirect_uri"), state: q.Get("state"), nonce: q.Get("nonce"),
		challenge: q.Get("code_challenge"), prompt: q.Get("prompt"), acr: strings.Fields(q.Get("acr_values")), maxAge: -1}
	if appNamed(x.app) == nil || x.redirect != t.redirectOf(x.app) {
		return x, false, "This app is not known here."
	}
	if text := q.Get("max_age"); text != "" {
		seconds, err := strconv.ParseUint(text, 10, 31)
		if err != nil {
			return x, true, "max_age is a number of seconds"
		}
		x.maxAge = time.Duration(seconds) * time.Second
	}
	switch {
	case q.Get("response_type") != "code":
		return x, true, "response_type is code"
	case !slices.Contains(strings.Fields(q.Get("scope")), "openid"):
		return x, true, "scope is to have openid"
	case q.Get("code_challenge_method") != "S256" || len(x.challenge) != 43:
		return x, true, "a code_challenge by S256 is needed"
	case x.prompt != "" && x.prompt != "login" && x.prompt != "none":
		return x, true, "prompt is login or none"
	}
	return x, true, ""
}

// redirectOf is where an app takes its codes.
func (t *trial) redirectOf(app string) string { return t.base + "/apps/" + app + "/signed-on" }

// sendBack sends a browser back to the app with an answer (section 3.1.2.5, RFC 9207).
func (t *trial) sendBack(w http.ResponseWriter, r *http.Request, x *request, answer url.Values) {
	answer.Set("iss", t.issuer)
	if x.state != "" {
		answer.Set("state", x.state)
	}
	http.Redirect(w, r, x.redirect+"?"+answer.Encode(), http.StatusSeeOther)
}

func failure(code, why string) url.Values {
	return url.Values{"error": {code}, "error_description": {why}}
}

// serveAuthorize begins a sign-on.
func (t *trial) serveAuthorize(w http.ResponseWriter, r *http.Request) {
	x, known, wrong := t.parseRequest(r.URL.Query())
	switch {
	case !known:
		t.pages.Wrong(w, r, http.StatusBadRequest, wrong)
		return
	case wrong != "":
		t.sendBack(w, r, &x, failure("invalid_request", wrong))
		return
	}
	on := &asking{request: x, session: session{id: journal.NewID(), started: t.clock.Now()}, begun: t.clock.Now()}
	if s := t.signedOnAs(r); s != nil && x.prompt != "login" {
		on.session = *s
		on.account = s.account
	}
	if cookie(r, browserCookie) == "" {
		id := "browser-" + standin.NewToken()[:12]
		setCookie(w, browserCookie, id, "/")
		r.AddCookie(&http.Cookie{Name: browserCookie, Value: id})
	}
	if x.prompt == "none" {
		answer := t.decide(r, on)
		if on.account == "" || answer.Verdict != decide.Grant || len(t.raises(on, answer)) > 0 {
			code := "interaction_required"
			if on.account == "" {
				code = "login_required"
			}
			t.sendBack(w, r, &x, failure(code, "Somebody is to be asked."))
			return
		}
		t.letIn(w, r, on, answer)
		return
	}
	t.ask(w, r, on)
}

// ask begins a sign-on in a browser.
func (t *trial) ask(w http.ResponseWriter, r *http.Request, on *asking) {
	token := cookie(r, askingCookie)
	if token == "" {
		token = standin.NewToken()
		setCookie(w, askingCookie, token, "/")
	}
	on.id = standin.NewToken()[:12]
	t.mu.Lock()
	t.sweep()
	list := append(t.asking[token], on)
	t.asking[token] = list[max(0, len(list)-mostAsking):]
	t.mu.Unlock()
	http.Redirect(w, r, on.page(), http.StatusSeeOther)
}

// letIn keeps the session of a browser, and gives the app a code.
func (t *trial) letIn(w http.ResponseWriter, r *http.Request, on *asking, answer *door.Answer) {
	kept := t.keepSession(w, r, on)
	if on.action != attempt.SignIn {
		http.Redirect(w, r, on.redirect, http.StatusSeeOther)
		return
	}
	now := t.clock.Now()
	g := &grant{asked: on, session: *kept, device: t.deviceOf(r), amr: answer.AMR, issuedAt: now}
	for _, p := range kept.proofs {
		if p.At.After(g.authTime) {
			g.authTime = p.At
		}
	}
	g.shown = t.amrSince(kept.proofs, g.authTime.Add(-askingLasts))
	for _, class := range append(slices.Clone(on.acr), answer.ACR...) { // what was asked for comes first
		if slices.Contains(answer.ACR, class) {
			g.acr = class
			break
		}
	}
	code := standin.NewToken()
	t.grants.Lock()
	for c, g := range t.codes {
		if now.Sub(g.issuedAt) > codeLasts {
			delete(t.codes, c)
		}
	}
	t.codes[code] = g
	t.grants.Unlock()
	t.sendBack(w, r, &on.request, url.Values{"code": {code}})
}

// keepSession keeps who is signed on in a browser now, under another name than before, which nobody can have set.
func (t *trial) keepSession(w http.ResponseWriter, r *http.Request, on *asking) *session {
	kept := on.session
	kept.account, kept.proofs = on.account, append(slices.Clone(kept.proofs), on.proofs...)
	kept.may = map[string]time.Time{on.action.String(): t.clock.Now()}
	for action, at := range on.session.may {
		if kept.may[action].IsZero() {
			kept.may[action] = at
		}
	}
	token := standin.NewToken()
	t.mu.Lock()
	delete(t.sessions, cookie(r, sessionCookie))
	t.sessions[token] = &kept
	browser := cookie(r, askingCookie)
	t.asking[browser] = slices.DeleteFunc(t.asking[browser], func(other *asking) bool { return other == on })
	t.mu.Unlock()
	setCookie(w, sessionCookie, token, "/")
	return &kept
}

// serveToken gives an app its tokens for a code (section 3.1.3, RFC 7636 section 4.5).
func (t *trial) serveToken(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	tokens, problem := t.exchange(r.PostFormValue("code"), r.PostFormValue("client_id"), r.PostFormValue("redirect_uri"),
		r.PostFormValue("code_verifier"))
	switch {
	case r.PostFormValue("grant_type") != "authorization_code":
		writeJSON(w, http.StatusBadRequest, map[string]string{"error": "unsupported_grant_type"})
	case problem != "":
		writeJSON(w, http.StatusBadRequest, map[string]string{"error": problem})
	default:
		writeJSON(w, http.StatusOK, tokens)
	}
}

// issued are the tokens for a code.
type issued struct {
	AccessToken string `json:"access_token"`
	IDToken     string `json:"id_token"`
	TokenType   string `json:"token_type"`
	ExpiresIn   int    `json:"expires_in"`
}

// amrSince returns the values of amr (RFC 8176) of what was proven since a moment.
func (t *trial) amrSince(proofs []attempt.Proof, since time.Time) []string {
	values := []string{}
	for _, m := range directory.Catalogue(t.door.Book().Source().Methods) {
		if slices.ContainsFunc(proofs, func(p attempt.Proof) bool { return p.Method == m.Name && !p.At.Before(since) }) {
			values = append(values, m.AMR...)
		}
	}
	slices.Sort(values)
	return slices.Compact(values)
}

// exchange takes a code, once.
func (t *trial) exchange(code, app, redirect, verifier string) (*issued, string) {
	t.grants.Lock()
	g := t.codes[code]
	delete(t.codes, code)
	t.grants.Unlock()
	now := t.clock.Now()
	sum := sha256.Sum256([]byte(verifier))
	challenge := base64.RawURLEncoding.EncodeToString(sum[:])
	if g == nil || now.Sub(g.issuedAt) > codeLasts || g.asked.app != app || g.asked.redirect != redirect ||
		subtle.ConstantTimeCompare([]byte(challenge), []byte(g.asked.challenge)) != 1 {
		return nil, "invalid_grant"
	}
	common := map[string]any{"iss": t.issuer, "sub": g.session.account, "iat": now.Unix(), "exp": now.Add(tokenLasts).Unix(),
		"auth_time": g.authTime.Unix(), "amr": g.amr, "sid": g.session.id, "jti": journal.NewID()}
	if g.acr != "" {
		common["acr"] = g.acr
	}
	with := func(more map[string]any) map[string]any {
		all := map[string]any{}
		for _, m := range []map[string]any{common, more} {
			for name, value := range m {
				all[name] = value
			}
		}
		return all
	}
	access, err := t.sign("at+jwt", with(map[string]any{"aud": audience, "client_id": app, "device_id": g.device, "amr": g.shown}))
	if err != nil {
		return nil, "server_error"
	}
	id, err := t.sign("JWT", with(map[string]any{"aud": app, "nonce": g.asked.nonce}))
	if err != nil {
		return nil, "server_error"
	}
	return &issued{access, id, "Bearer", int(tokenLasts / time.Second)}, ""
}
