package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
)

// app is one that people open, behind the guard.
type app struct {
	Name, Host string
	// Words are what it shows.
	words string
}

// apps are those of the demo's book that a browser opens.
var apps = []app{
	{"crew-roster", "crew.kestrelsound.example", "Tomorrow you sail on MF Kestrel, from 06:40."},
	{"card-till", "till.kestrelsound.example", "The till is open. Takings of today: 1 204 crowns."},
	{"mail", "mail.kestrelsound.example", "No new mail."},
	{"board-papers", "board.kestrelsound.example", "Minutes of the board: a new ferry, at last."},
	{"berth-planner", "berths.kestrelsound.example", "Berth 3 is free from 17:20."},
}

func appNamed(name string) *app {
	for i := range apps {
		if apps[i].Name == name {
			return &apps[i]
		}
	}
	return nil
}

// serveApp opens an app: the guard looks at the token of the browser first, and where it wants more the browser goes to the
// provider, with what the guard asks for (RFC 9470).
func (t *trial) serveApp(w http.ResponseWriter, r *http.Request) {
	x := appNamed(r.PathValue("app"))
	if x == nil {
		t.pages.Wrong(w, r, http.StatusNotFound, "There is no such app here.")
		return
	}
	// The guard is told where the browser is, as a proxy in front of it would.
	behind := r.Clone(r.Context())
	behind.Header.Set("X-Forwarded-Host", x.Host)
	behind.Header.Set("X-Forwarded-Uri", "/")
	behind.Header.Set("X-Forwarded-For", places[placeOf(r)].IP.String())
	let := ""
	guarded := &kept{header: http.Header{}}
	through := func(_ http.ResponseWriter, r *http.Request) { let = door.AccountOf(r.Context()) }
	t.door.Guard(http.HandlerFunc(through)).ServeHTTP(guarded, behind)
	path := "/apps/" + x.Name + "/"
	if r.URL.Query().Get("back") == "nginx" && let == "" {
		setCookie(w, backCookie, "nginx", path)
	}
	switch {
	case let != "":
		t.pages.Write(w, r, http.StatusOK, "app", x.Name, step{App: x.Name, Account: let, Say: x.words})
	case guarded.status == http.StatusUnauthorized && !strings.Contains(r.URL.RawQuery, "again"):
		t.sendToProvider(w, r, x, guarded.header.Get("WWW-Authenticate"))
	default:
		var problem door.Problem
		if err := json.Unmarshal(guarded.body.Bytes(), &problem); err != nil {
			problem.Detail = "This cannot be opened."
		}
		dropCookie(w, passCookie, path)
		t.pages.Write(w, r, http.StatusForbidden, "closed", x.Name+" is closed to you",
			step{App: x.Name, Say: problem.Detail, Reference: guarded.header.Get("Decision-Id")})
	}
}

// kept is an answer that is looked at before anything is sent.
type kept struct {
	status int
	header http.Header
	body   bytes.Buffer
}

// Header implements http.ResponseWriter.
func (k *kept) Header() http.Header { return k.header }

// WriteHeader implements http.ResponseWriter.
func (k *kept) WriteHeader(status int) {
	if k.status == 0 {
		k.status = status
	}
}

// Write implements http.ResponseWriter.
func (k *kept) Write(text []byte) (int, error) {
	k.WriteHeader(http.StatusOK)
	return k.body.Write(text)
}

// flowCookie holds what an app needs when the browser comes back to it: state, nonce and the verifier of PKCE.
const flowCookie = "flow"

// challenged finds a parameter of a challenge (RFC 9110 section 11.6.1).
func challenged(challenge, name string) string {
	found := regexp.MustCompile(name + `="([^"]*)"`).FindStringSubmatch(challenge)
	if found == nil {
		return ""
	}
	return found[1]
}

// sendToProvider begins a sign-on.
func (t *trial) sendToProvider(w http.ResponseWriter, r *http.Request, x *app, challenge string) {
	state, nonce, verifier := standin.NewToken(), standin.NewToken(), standin.NewToken()+standin.NewToken()
	sum := sha256.Sum256([]byte(verifier))
	q := url.Values{"response_type": {"code"}, "client_id": {x.Name}, "redirect_uri": {t.redirectOf(x.Name)}, "scope": {"openid"},
		"state": {state}, "nonce": {nonce}, "code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}}
	for _, name := range []string{"acr_values", "max_age"} {
		if value := challenged(challenge, name); value != "" {
			q.Set(name, value)
		}
	}
	setCookie(w, flowCookie, state+"."+nonce+"."+verifier, "/apps/"+x.Name+"/")
	http.Redirect(w, r, "/authorize?"+q.Encode(), http.StatusSeeOther)
}

// signedOn takes the code that the provider sent the browser back with.
func (t *trial) signedOn(w http.ResponseWriter, r *http.Request) {
	x := appNamed(r.PathValue("app"))
	q := r.URL.Query()
	flow := strings.Split(cookie(r, flowCookie), ".")
	if x == nil || len(flow) != 3 || q.Get("state") != flow[0] || q.Get("iss") != t.issuer {
		t.pages.Wrong(w, r, http.StatusBadRequest, "This sign-on was not begun here. Open the app again.")
		return
	}
	path := "/apps/" + x.Name + "/"
	dropCookie(w, flowCookie, path)
	if failed := q.Get("error"); failed != "" {
		t.pages.Write(w, r, http.StatusForbidden, "closed", x.Name+" is closed to you", step{App: x.Name, Say: q.Get("error_description")})
		return
	}
	tokens, problem := t.exchange(q.Get("code"), x.Name, t.redirectOf(x.Name), flow[2])
	if problem == "" && t.nonceOf(tokens.IDToken, x.Name) != flow[1] {
		problem = "the ID token is of another sign-on"
	}
	if problem != "" {
		t.pages.Wrong(w, r, http.StatusBadRequest, "The sign-on did not work: "+problem+".")
		return
	}
	setCookie(w, passCookie, tokens.AccessToken, path)
	if t.nginx != nil && cookie(r, backCookie) != "" {
		dropCookie(w, backCookie, path)
		path = t.nginx.url + path
	}
	http.Redirect(w, r, path, http.StatusSeeOther)
}

// opening is an app as the launcher shows it.
type opening struct{ Name, Words string }

// launcher is what the launcher shows.
type launcher struct {
	Account, Place, Device, Clock, Said string
	Open, More, Closed                  []opening
	// Programs are outside programs, and Reviews says that she answers for them.
	Programs []string
	Reviews  bool
	// Nginx are where the apps are behind nginx, by name; none where it is not installed.
	Nginx map[string]string
}

// launcherSaid are what the launcher says of what was done.
var launcherSaid = map[string]string{
	"late": "That sign-on took too long, or was done in another tab. Open the app again.",
	"off":  "You are signed off.",
}

// serveLauncher shows the apps that a person can open now, those that would ask for more, and those that are closed just now.
// It shows none that she does not have.
func (t *trial) serveLauncher(w http.ResponseWriter, r *http.Request) {
	place := places[placeOf(r)]
	v := launcher{Said: launcherSaid[r.URL.Query().Get("said")], Place: place.Words, Device: t.deviceWords(r),
		Clock: t.clock.Now().In(t.zone()).Format("Mon 2006-01-02 15:04")}
	s := t.signedOnAs(r)
	if s == nil {
		for i := range apps {
			v.More = append(v.More, opening{Name: apps[i].Name})
		}
		v.Nginx = t.behindNginx(v.More)
		t.pages.Write(w, r, http.StatusOK, "launcher", "Your apps", v)
		return
	}
	v.Account = s.account
	for i := range programs {
		v.Programs = append(v.Programs, programs[i].client)
	}
	if judge, err := t.judges(); err == nil { // else nobody reviews anything
		v.Reviews = judge.MayReview(r.Context(), s.account, t.clock.Now())
	}
	open, err := t.openTo(r, s)
	if err != nil {
		slog.Error("the apps were not searched", "error", err)
		t.pages.Wrong(w, r, http.StatusServiceUnavailable, "Your apps cannot be listed now.")
		return
	}
	for i := range apps {
		name := apps[i].Name
		if slices.Contains(open, name) {
			v.Open = append(v.Open, opening{Name: name})
			continue
		}
		// Of the others it is looked up what they would ask of her if there is nothing odd. Opening one shows what is so.
		a := t.attempt(r, name)
		a.Account, a.Session = s.account, attempt.Session{ID: s.id, Started: s.started, Proofs: s.proofs}
		a.Previous, a.Failures = attempt.None[attempt.Previous](), attempt.None[[]time.Time]()
		if d := a.Device.Ref(); d != nil {
			if id, _ := d.ID.Get(); t.agents.has(id) {
				now := t.agents.deviceNow(id)
				now.Platform = d.Platform
				a.Device = attempt.Known(now)
			}
		}
		d := t.door.Book().Decide(r.Context(), &a)
		switch {
		case d.Causes[0].Code == decide.AppNotOpen || d.Causes[0].Code == decide.AccountDisabled:
		case d.Verdict == decide.Grant || len(d.ToPerson.Offer) > 0:
			v.More = append(v.More, opening{Name: name})
		default:
			v.Closed = append(v.Closed, opening{name, strings.TrimSpace(d.ToPerson.Say + " " + strings.Join(d.ToPerson.Repairs, " "))})
		}
	}
	v.Nginx = t.behindNginx(v.Open, v.More, v.Closed)
	t.pages.Write(w, r, http.StatusOK, "launcher", "Your apps", v)
}

// behindNginx says where apps are behind nginx, by name.
func (t *trial) behindNginx(lists ...[]opening) map[string]string {
	if t.nginx == nil {
		return nil
	}
	at := map[string]string{}
	for _, x := range slices.Concat(lists...) {
		at[x.Name] = t.nginx.url + "/apps/" + x.Name + "/"
	}
	return at
}

// openTo asks the door which apps it would grant a session now (OpenID Authorization API 1.0 section 8). That is a search, which
// leaves no trace in the journal.
func (t *trial) openTo(r *http.Request, s *session) ([]string, error) {
	a := t.attempt(r, "")
	a.Session = attempt.Session{ID: s.id, Started: s.started, Proofs: s.proofs}
	ask, err := json.Marshal(map[string]any{"subject": map[string]string{"type": "account", "id": s.account},
		"action": map[string]string{"name": "sign-in"}, "resource": map[string]string{"type": "app"},
		"context": json.RawMessage(a.AppendJSON(nil))})
	if err != nil {
		return nil, err
	}
	var found struct {
		Results []struct {
			ID string `json:"id"`
		} `json:"results"`
	}
	err = t.agents.call(http.MethodPost, "/access/v1/search/resource", "application/json", ask, &found)
	var names []string
	for _, x := range found.Results {
		names = append(names, x.ID)
	}
	return names, err
}

// zone is that of the book.
func (t *trial) zone() *time.Location {
	if zone := t.door.Book().Source().Rulebook().Directory.Zone; zone != nil {
		return zone
	}
	return time.UTC
}

// nonceOf verifies an ID token for an app (OpenID Connect Core 1.0 section 3.1.3.7) and returns its nonce, "" of one that is
// not valid.
func (t *trial) nonceOf(token, app string) string {
	parsed, err := jwt.ParseSigned(token, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		return ""
	}
	var claims struct {
		jwt.Claims
		Nonce string `json:"nonce"`
	}
	set := t.keys()
	if parsed.Claims(&set, &claims) != nil {
		return ""
	}
	if claims.Validate(jwt.Expected{Issuer: t.issuer, AnyAudience: jwt.Audience{app}, Time: t.clock.Now()}) != nil {
		return ""
	}
	return claims.Nonce
}

// deviceWords names the device of a browser.
func (t *trial) deviceWords(r *http.Request) string {
	switch id := cookie(r, deviceCookie); {
	case id == ownPhone:
		return "On a phone of one's own, which nobody manages"
	case id != "" && t.agents.has(id):
		return fmt.Sprintf("On the device %s", id)
	}
	return "On a device of one's own, which nobody manages"
}
