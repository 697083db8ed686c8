package main

import (
	"context"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/events"
	"github.com/briskwarden/briskwarden/door/people"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
	"github.com/briskwarden/briskwarden/store"
)

// trial is a door with all that surrounds it: a provider at which people sign on, their phones and devices, and apps.
type trial struct {
	door   *door.Door
	facts  *store.Memory
	people *standin.People
	phones *standin.Phones
	pages  *standin.Pages
	clock  *standin.Clock
	// base is the URL of the trial, book the folder with its copy of the demo's book, and http what it answers.
	base, book string
	http       http.Handler
	*provider
	agents  agents
	keyring *keyring
	// pause is how long an answer to a wrong password takes, 0 for no longer than it needs.
	pause time.Duration
	// nginx is one in front of the apps, nil where there is none.
	nginx *behind

	mu sync.Mutex
	// asking are the sign-ons under way, by the cookie of their browser, the newest last, and sessions those who are signed on, by theirs.
	asking   map[string][]*asking
	sessions map[string]*session
	// remembered are the methods that a browser stands for, by its own cookie.
	remembered map[string][]attempt.Remembered
	accepted   map[string][]attempt.Acceptance
	checks     map[string]attempt.CheckResult
	// methods are what accounts have enrolled, and started who started since it began.
	methods map[string][]string
	started []string
}

// session is somebody who is signed on.
type session struct {
	id, account string
	started     time.Time
	proofs      []attempt.Proof
	// may are the actions that were granted in it, and when. It is not changed once it is made.
	may map[string]time.Time
}

// newTrial makes a trial at a URL, with what it needs on disk in a folder. Tick is the clock that moves its own.
func newTrial(ctx context.Context, base, dir string, tick func() time.Time) (*trial, error) {
	t := &trial{base: base, clock: standin.NewClock(tick), facts: new(store.Memory),
		asking: map[string][]*asking{}, sessions: map[string]*session{},
		remembered: map[string][]attempt.Remembered{}, accepted: map[string][]attempt.Acceptance{},
		checks: map[string]attempt.CheckResult{"shipyard-verifier": attempt.CheckPassed}, pages: standin.NewPages(templates, keyScript)}
	t.phones = standin.NewPhones(t.clock.Now)
	t.book = filepath.Join(dir, "book")
	err := os.CopyFS(t.book, demo.Files())
	if err != nil {
		return nil, err
	}
	if t.provider, err = newProvider(base); err != nil {
		return nil, err
	}
	if t.keyring, err = newKeyring(base); err != nil {
		return nil, err
	}
	keys := door.FixedKeys(t.provider.keys().Keys...)
	own := []string{}
	for i := range apps {
		own = append(own, apps[i].Name)
	}
	token, digest := door.NewToken()
	local := netip.MustParseAddr("127.0.0.1")
	config := &door.Config{
		Store:   door.StoreConfig{History: door.Complete},
		Consent: door.ConsentConfig{Answer: true},
		Tokens: []door.TokenIssuer{{Issuer: base, Audience: []string{audience}, KeysFrom: keys, Accounts: []string{"anyone"},
			Device: "device_id", Own: own, Cookie: passCookie}},
		Events: []door.Transmitter{{Issuer: base, Audience: []string{audience}, KeysFrom: keys}},
		Callers: []door.Caller{{Name: "around", Token: digest,
			May: []door.Right{door.MayReport, door.MayEvents, door.MayPeople, door.MayDecide, door.MayLook},
			People: door.PeopleBounds{Accounts: []string{"anyone"}, Kinds: []directory.Kind{directory.Person, directory.Service},
				Facts: []string{"active", "joined", "attributes", "methods", "password"}},
			Events: door.EventBounds{Accounts: []string{"anyone"}, Facts: []string{"active", "methods", "password", "risk", "sessions",
				"devices"}}}},
		Trusted: []directory.Range{{From: local, To: local}},
	}
	// What a trial says is for those who try it, and its log for what goes wrong.
	quiet := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))
	t.door, err = door.New(ctx, func(o ...briskwarden.Option) (*briskwarden.Book, error) {
		return briskwarden.Open(t.book, append(o, briskwarden.WithDatabase(mmdb.Locator))...)
	}, t.facts, config, door.Options{Now: t.clock.Now, Log: quiet,
		Rooms: []door.Room{people.Room, events.Room}})
	if err != nil {
		return nil, err
	}
	contents := t.door.Book().Source().Rulebook().Directory
	t.people = standin.NewPeople(contents.Accounts)
	t.methods = map[string][]string{}
	for i := range contents.Accounts {
		t.methods[contents.Accounts[i].Name] = contents.Accounts[i].Methods
	}
	t.agents = newAgents(t.door.Handler(), token, contents.Devices)
	t.http = t.routes()
	return t, nil
}

// routes are the pages of the trial.
func (t *trial) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", t.serveConfiguration)
	mux.HandleFunc("GET /keys", t.serveKeys)
	mux.HandleFunc("GET /authorize", t.serveAuthorize)
	mux.HandleFunc("POST /token", t.serveToken)
	mux.HandleFunc("GET /sign-on", t.during(t.serveSignOn))
	mux.HandleFunc("POST /sign-on", t.taking(t.takeProof))
	mux.HandleFunc("GET /forgot", t.during(t.serveForgot))
	mux.HandleFunc("POST /forgot", t.taking(t.takeForgot))
	mux.HandleFunc("GET /documents/{name}", t.serveDocument)
	mux.HandleFunc("POST /key/begin", t.beginKey)
	mux.HandleFunc("POST /key", t.taking(t.takeKey))
	mux.HandleFunc("POST /cabinet/begin", t.beginCabinet)
	mux.HandleFunc("POST /cabinet", t.takeCabinet)
	mux.HandleFunc("POST /sign-off", t.signOff)
	mux.HandleFunc("GET /account", t.serveAccount)
	mux.HandleFunc("POST /account", t.setAccount)
	mux.HandleFunc("POST /account/key/begin", t.beginOwnKey)
	mux.HandleFunc("POST /account/key", t.takeOwnKey)
	mux.HandleFunc("GET /account/begin", t.beginAction)
	mux.Handle("/phone", t.phones.Page(t.people, t.zone()))
	mux.HandleFunc("GET /around", t.serveAround)
	mux.HandleFunc("POST /around", t.setAround)
	mux.HandleFunc("GET /agent", t.serveAgent)
	mux.HandleFunc("POST /agent", t.setAgent)
	mux.HandleFunc("GET /programs/{client}", t.serveProgram)
	mux.HandleFunc("POST /programs/{client}", t.takeConsent)
	mux.HandleFunc("GET /review", t.serveReview)
	mux.HandleFunc("POST /review", t.takeReview)
	mux.HandleFunc("GET /{$}", t.serveLauncher)
	mux.Handle("GET /door/v1/guard", http.StripPrefix("/door", t.door.Handler()))
	mux.HandleFunc("GET /behind/{app}", t.serveBehind)
	mux.HandleFunc("GET /apps/{app}/signed-on", t.signedOn)
	mux.HandleFunc("GET /apps/{app}/{$}", t.serveApp)
	return mux
}

// places are where a browser of the trial may be.
var places = []struct {
	Name, Words string
	IP          netip.Addr
}{
	{"pier", "At the pier, in the ferry line's own network", netip.MustParseAddr("203.0.113.20")},
	{"home", "At home, in Bergen", netip.MustParseAddr("192.0.2.100")},
	{"yard", "At the shipyard in Gdansk", netip.MustParseAddr("192.0.2.20")},
	{"gothenburg", "In Gothenburg", netip.MustParseAddr("2001:db8:77::20")},
	{"abroad", "On a journey, in Rio de Janeiro", netip.MustParseAddr("192.0.2.150")},
	{"hidden", "Behind a relay that hides where one is", netip.MustParseAddr("192.0.2.230")},
	{"lost", "Where nobody knows", netip.MustParseAddr("198.51.100.200")},
}

// The cookies of a browser: where it is and on which device, who it is (as one that was seen before), the sign-on under way,
// the session, and the token for an app.
const placeCookie, deviceCookie, browserCookie, askingCookie, sessionCookie, passCookie = "place", "device", "browser", "asking",
	"signed-on", "pass"

// setCookie sets a cookie that no script reads and no other site sends along with a form.
func setCookie(w http.ResponseWriter, name, value, path string) {
	http.SetCookie(w, &http.Cookie{Name: name, Value: value, Path: path, HttpOnly: true, SameSite: http.SameSiteLaxMode})
}

func dropCookie(w http.ResponseWriter, name, path string) {
	http.SetCookie(w, &http.Cookie{Name: name, Path: path, MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteLaxMode})
}

func cookie(r *http.Request, name string) string {
	if c, err := r.Cookie(name); err == nil {
		return c.Value
	}
	return ""
}

// placeOf returns where a browser is. One that says nothing is at home.
func placeOf(r *http.Request) int {
	name := cookie(r, placeCookie)
	for i := range places {
		if places[i].Name == name {
			return i
		}
	}
	return 1
}

// ownPhone is what is chosen for a browser that is to be on a phone of one's own.
const ownPhone = "own-phone"

// deviceOf returns the device of a browser: a registered one that was chosen for the trial, or what the browser calls itself.
func (t *trial) deviceOf(r *http.Request) string {
	id, own := cookie(r, deviceCookie), cookie(r, browserCookie)
	switch {
	case id == ownPhone && own != "":
		return own + "-phone"
	case id != "" && t.agents.has(id):
		return id
	}
	return own
}

// platformOf returns the platform of a device of one's own as the browser has it, "" where it does not say (RFC 9110 section
// 10.1.5). That of a registered device the door knows.
func (t *trial) platformOf(r *http.Request) string {
	id := cookie(r, deviceCookie)
	if id == ownPhone {
		return "android"
	}
	if t.agents.has(id) {
		return ""
	}
	for _, p := range []struct{ said, platform string }{{"iPhone", "ios"}, {"iPad", "ios"}, {"Android", "android"},
		{"Windows NT", "windows"}, {"Macintosh", "macos"}, {"Linux", "linux"}} {
		if strings.Contains(r.UserAgent(), p.said) {
			return p.platform
		}
	}
	return ""
}

// attempt is what a browser attempts, as far as it is known before anything is proven.
func (t *trial) attempt(r *http.Request, app string) attempt.Attempt {
	a := attempt.Attempt{At: t.clock.Now(), App: app, Through: attempt.Known(attempt.Browser),
		IP: attempt.Known(places[placeOf(r)].IP), Client: attempt.None[attempt.ClientAsk]()}
	if id := t.deviceOf(r); id != "" {
		d := attempt.Device{ID: attempt.Known(id)}
		if !t.agents.has(id) { // it is one of the person's own
			d.Managed, d.Shared, d.Tags = attempt.Known(false), attempt.Known(false), []string{}
		}
		if platform := t.platformOf(r); platform != "" {
			d.Platform = attempt.Known(platform)
		}
		a.Device = attempt.Known(d)
	}
	return a
}

// whereOf says where a browser is, and on what, for the person at the phone.
func (t *trial) whereOf(r *http.Request) string {
	return places[placeOf(r)].Words + ". " + t.deviceWords(r) + "."
}

// documents are what the demo's book asks people to accept.
var documents = map[string]string{
	"crew-handbook": "Who goes to sea with us wears a life-jacket on deck, knows the muster station, and signs on as nobody else. " +
		"What is seen on board stays on board.",
}

// serveDocument shows a document.
func (t *trial) serveDocument(w http.ResponseWriter, r *http.Request) {
	text, known := documents[r.PathValue("name")]
	if !known {
		t.pages.Wrong(w, r, http.StatusNotFound, "There is no such document here.")
		return
	}
	t.pages.Write(w, r, http.StatusOK, "document", r.PathValue("name"), step{Say: text})
}

// signedOnAs returns who is signed on in a browser, nil where nobody is.
func (t *trial) signedOnAs(r *http.Request) *session {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.sessions[cookie(r, sessionCookie)]
}

// forget drops the session of a browser.
func (t *trial) forget(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.sessions, cookie(r, sessionCookie))
	dropCookie(w, sessionCookie, "/")
}

// rememberedFor returns what a device stands for, of an account.
func (t *trial) rememberedFor(device, account string) []attempt.Remembered {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(t.remembered[device]), func(m attempt.Remembered) bool { return m.Account != account })
}
