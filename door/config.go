package door

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/loopback"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch"
)

// Config is the configuration of a door, as a YAML file says it. The zero Config has no
// callers, so it answers nobody.
type Config struct {
	Listen      string `book:"listen" doc:"address and port to listen on" default:"127.0.0.1:7443"`
	Certificate string `book:"certificate" doc:"file with the TLS certificate and those above it, PEM" default:"no TLS, on loopback only"`
	Key         string `book:"key" doc:"file with the certificate's private key, PEM"`
	ClientCA    string `book:"client_ca" doc:"file with the authorities of client certificates, PEM" default:"no client certificates"`
	// BehindProxy lets it listen beyond loopback without TLS.
	BehindProxy bool              `book:"behind_proxy" doc:"true where a proxy in front of it does TLS" default:"false"`
	Trusted     []directory.Range `book:"trusted_proxies" doc:"addresses whose forwarded headers count" default:"none"`
	Store       StoreConfig       `book:"store" doc:"where facts and the journal are kept" default:"in memory, lost when it stops"`
	State       string            `book:"state" doc:"folder for what the door keeps of its own" default:"the configuration's name with .state"`
	Reload      ReloadOn          `book:"reload" doc:"on_signal (SIGHUP), or on_change of the book's folder" default:"on_signal"`
	Journal     JournalConfig     `book:"journal" doc:"what becomes of decisions that cannot be recorded" default:"required"`
	AccessLog   bool              `book:"access_log" doc:"true where each request is logged: who asked what, and its status" default:"false"`
	Callers     []Caller          `book:"callers" doc:"who may call, and what each may do"`
	Limits      Bounds            `book:"limits" doc:"bounds on what is taken in"`
	Tokens      []TokenIssuer     `book:"tokens" doc:"who issues the tokens that the guard takes"`
	Events      []Transmitter     `book:"events" doc:"who may tell of what they noticed, by security event tokens"`
	Tell        Telling           `book:"tell" doc:"who is told of sessions that end early"`
	Watch       WatchConfig       `book:"watch" doc:"how alerts and digests go out" default:"they do not"`
	Consent     ConsentConfig     `book:"consent" doc:"what outside programs may have" default:"no outside program is answered"`
}

// Transmitter sends security event tokens (RFC 8417) by push (RFC 8935).
type Transmitter struct {
	Issuer   string   `book:"issuer,required" doc:"the iss of its tokens"`
	Audience []string `book:"audience,required" doc:"values of aud; a token must bear one of them"`
	Keys     string   `book:"keys,required" doc:"where its keys are: the URL of a JWK Set (RFC 7517), or a file with one"`
	// KeysFrom returns its keys, in place of Keys, where a program has them otherwise; see TokenIssuer.
	KeysFrom KeysFrom
	// Types narrow what it may say.
	Types []string `book:"types" doc:"event types that it may tell of, whole URIs" default:"all that are known"`
}

// Telling says who is told of sessions that end early (CAEP session-revoked).
type Telling struct {
	Issuer    string     `book:"issuer" doc:"the iss of the tokens: the URL of this door"`
	Key       string     `book:"key" doc:"file with the private key that signs, as a JWK (RFC 7517) or PEM"`
	Receivers []Receiver `book:"receivers" doc:"who is told"`
}

// Receiver takes security event tokens by push (RFC 8935).
type Receiver struct {
	Name     string `book:"name,required" doc:"name of the receiver"`
	URL      string `book:"url,required" doc:"where tokens are pushed to"`
	Audience string `book:"audience,required" doc:"the aud of its tokens"`
	Bearer   string `book:"bearer" doc:"file with the bearer token that the receiver wants" default:"none"`
	// Apps are those whose ends it is told of, too: each ends by itself while the session goes on.
	Apps []string `book:"apps" doc:"apps whose ends in a session it is told of, too" default:"ends of whole sessions only"`
}

// ConsentConfig says whether outside programs are answered.
type ConsentConfig struct {
	Answer bool `book:"answer" doc:"true where outside programs are answered; what is let in is kept in the store" default:"false"`
	// Record is a file of the version before, which kept acts apart. Naming one answers outside programs too.
	Record string `book:"record" doc:"a record of the version before, whose acts the store takes over once" default:"none"`
}

// Answers reports whether outside programs are answered.
func (c *ConsentConfig) Answers() bool { return c.Answer || c.Record != "" }

// WatchConfig says how alerts and digests of the book's section watch go out.
type WatchConfig struct {
	Door  string           `book:"door" doc:"the URL of this door's pages, for links in letters" default:"letters name commands"`
	Mail  watch.MailServer `book:"mail" doc:"the server that takes mail" default:"no mail is sent"`
	Hooks []HookKey        `book:"hooks" doc:"the keys that sign what web hooks are told"`
}

// HookKey signs what the web hook of a recipient is told (HTTP message signatures, RFC 9421, with HMAC).
type HookKey struct {
	Recipient string `book:"recipient,required" doc:"the recipient, as the book names them"`
	Key       string `book:"key,required" doc:"file with the key, which the recipient has too: 32 bytes or more"`
}

// StoreConfig says where facts and the journal are kept.
type StoreConfig struct {
	File     string `book:"file" doc:"a SQLite file, for a door that runs alone"`
	Postgres string `book:"postgres" doc:"address of a PostgreSQL database, for several doors; the password may stand in PGPASSFILE"`
	// PostgresFile is read where the configuration is.
	PostgresFile string  `book:"postgres_file" doc:"file with that address in place of it, such as a mounted secret"`
	History      History `book:"history" doc:"complete where an account without a record never signed on; else partial" default:"partial"`
	// Cached is how many accounts, devices and sessions are remembered, each. All three of one person
	// take some 6 kB.
	Cached int `book:"cached" doc:"how many accounts, devices and sessions are remembered, each" default:"20000"`
}

// History says whether the store knows of all that happened. The zero History is Partial.
type History uint8

// What the store may know of the past.
const (
	// Partial: what the store has no record of may have happened, so it is unknown.
	Partial History = iota
	// Complete: what it has no record of did not happen.
	Complete
)

var histories = []string{"partial", "complete"}

// UnmarshalText reads partial or complete.
func (h *History) UnmarshalText(text []byte) error {
	return words.Parse(h, "partial or complete", string(text), histories, Partial)
}

// ReloadOn says when a newer book in the folder is taken into force. The zero ReloadOn is OnSignal.
type ReloadOn uint8

// When a newer book is taken.
const (
	// OnSignal: when the one who changed the folder says that it is whole.
	OnSignal ReloadOn = iota
	// OnChange: when the folder was changed and rested for a while, whole or not.
	OnChange
)

var reloadsOn = []string{"on_signal", "on_change"}

// UnmarshalText reads on_signal or on_change.
func (r *ReloadOn) UnmarshalText(text []byte) error {
	return words.Parse(r, "on_signal or on_change", string(text), reloadsOn, OnSignal)
}

// JournalConfig says what is recorded, and where checkpoints go.
type JournalConfig struct {
	Mode       JournalMode    `book:"mode" doc:"required, best_effort (a grant stands without its record) or off" default:"required"`
	Door       string         `book:"door" doc:"name of this door and of its log; two doors of one store have two names" default:"door"`
	Key        string         `book:"key" doc:"file with the private key for checkpoints, of briskwarden journal key" default:"no checkpoints"`
	Checkpoint string         `book:"checkpoint" doc:"file to which checkpoints are written"`
	Every      directory.Span `book:"every" doc:"how often a checkpoint is written" default:"10m"`
	// Keep is how long entries say anything. Their hashes stay.
	Keep directory.Span `book:"keep" doc:"how long entries are kept, such as 400d; after that their hashes alone are" default:"for ever"`
}

// JournalMode says what becomes of a decision that cannot be recorded. The zero JournalMode is
// JournalRequired.
type JournalMode uint8

// The modes.
const (
	// JournalRequired: a grant that cannot be recorded is not given.
	JournalRequired JournalMode = iota
	// JournalBestEffort: it is given, and the answer says that it is degraded.
	JournalBestEffort
	// JournalOff: nothing is recorded.
	JournalOff
)

var journalModes = []string{"required", "best_effort", "off"}

// UnmarshalText reads a mode.
func (m *JournalMode) UnmarshalText(text []byte) error {
	return words.Parse(m, "required, best_effort or off", string(text), journalModes, JournalRequired)
}

// Right is something that a caller may do. The zero Right is invalid.
type Right uint8

// The rights.
const (
	// MayDecide asks for decisions, and for the guard's.
	MayDecide Right = iota + 1
	// MayReport hands in what devices report.
	MayReport
	// MayEvents hands in what other systems noticed.
	MayEvents
	// MayPeople changes accounts and groups.
	MayPeople
	// MayLook reads decisions, sessions and the searches.
	MayLook
	// MayMeasure reads metrics.
	MayMeasure
	// MayOperate ends sessions, and reads metrics too.
	MayOperate
)

var rights = []string{"decide", "report", "events", "people", "look", "measure", "operate"}

// Rights returns the words for the rights.
func Rights() []string { return slices.Clone(rights) }

// String returns the word for the right.
func (r Right) String() string {
	if r == 0 || int(r) > len(rights) {
		return "invalid"
	}
	return rights[r-1]
}

// UnmarshalText reads a right.
func (r *Right) UnmarshalText(text []byte) error {
	return words.Parse(r, "a right", string(text), rights, MayDecide)
}

// Caller is somebody who may call. One of Token and Certificate is given.
type Caller struct {
	Name        string  `book:"name,required" doc:"name of the caller, as the journal has it"`
	Token       string  `book:"token" doc:"sha256: and the digest of its token, as briskwarden serve token prints it"`
	Certificate string  `book:"certificate" doc:"a DNS name or URI that its client certificate bears"`
	May         []Right `book:"may,required" doc:"decide, report, events, people, look, measure, operate"`
	// Issuer names the sessions of its attempts, where these do not say who does.
	Issuer string  `book:"issuer" doc:"who names the sessions of its attempts, such as the iss of tokens" default:"its name"`
	Rate   float64 `book:"rate" doc:"requests a second that it may make" default:"no bound"`
	Burst  int     `book:"burst" doc:"requests that it may make at once" default:"as many as rate, at least 1"`
	// People and Events bound what it may state.
	People PeopleBounds `book:"people" doc:"of whom it may state what, where it may people"`
	Events EventBounds  `book:"events" doc:"of whom it may hand in what, where it may events"`
}

// may reports whether the caller has a right.
func (c *Caller) may(r Right) bool {
	return slices.Contains(c.May, r) || r == MayMeasure && slices.Contains(c.May, MayOperate)
}

// Bounds are bounds on what is taken in.
type Bounds struct {
	// Tolerance is how far the time of an attempt may be from the door's clock.
	Tolerance directory.Span `book:"tolerance" doc:"how far the time of an attempt may be from the clock" default:"5m"`
	// Read is how long a request may take to come in, and Answer how long the store may take.
	Read   directory.Span `book:"read" doc:"how long a request may take to come in" default:"10s"`
	Answer directory.Span `book:"answer" doc:"how long a decision may wait for the store" default:"3s"`
	// SessionAtMost is how long what somebody authenticated counts, however often a token is renewed.
	SessionAtMost directory.Span `book:"session_at_most" doc:"how long after it was authenticated a session may go on" default:"40d"`
	Batch         int            `book:"batch" doc:"how many evaluations one request may ask for" default:"100"`
	Results       int            `book:"results" doc:"how many results one page of a search may have" default:"100"`
}

// TokenIssuer issues access tokens (RFC 9068).
type TokenIssuer struct {
	Issuer   string   `book:"issuer,required" doc:"the iss of its tokens"`
	Audience []string `book:"audience,required" doc:"values of aud; a token must bear one of them"`
	Keys     string   `book:"keys,required" doc:"where its keys are: the URL of a JWK Set (RFC 7517), or a file with one"`
	// KeysFrom returns its keys, in place of Keys, where a program has them otherwise: FixedKeys, or a function of its own.
	KeysFrom KeysFrom
	Account  string `book:"account" doc:"the claim that names the account" default:"sub"`
	// Accounts and Domains are those for whom it may speak.
	Accounts []string       `book:"accounts" doc:"accounts by name that its tokens may be of, or anyone" default:"none"`
	Domains  []string       `book:"domains" doc:"domains of accounts that its tokens may be of" default:"none"`
	Device   string         `book:"device" doc:"the claim that names the device, where the issuer has verified it" default:"none"`
	Cookie   string         `book:"cookie" doc:"name of a cookie that may hold the token" default:"the authorization header only"`
	Refresh  directory.Span `book:"refresh" doc:"how often keys are read again" default:"10m"`
	// AuthenticatedBy is the claim that says when the person authenticated.
	AuthenticatedBy AuthenticationClaim `book:"authenticated_by" doc:"auth_time, or iat where none is renewed unasked" default:"auth_time"`
	// Own are the client_ids of the organisation's own programs, which nobody lets in.
	Own []string `book:"own_clients" doc:"client_ids of one's own programs; any other is an outside program" default:"none"`
	// Means says which method a value of amr stands for that several methods share.
	Means []Meaning `book:"means" doc:"which method a value of amr stands for" default:"the method that alone bears it"`
}

// AuthenticationClaim is the claim of a token that says when the person authenticated. The zero AuthenticationClaim is ByAuthTime.
type AuthenticationClaim uint8

// The claims.
const (
	// ByAuthTime: auth_time (RFC 9068 §2.2.1), and a token without it is refused.
	ByAuthTime AuthenticationClaim = iota
	// ByIssuedAt: iat, where a token has no auth_time. The issuer renews none without a sign-in.
	ByIssuedAt
)

var authenticationClaims = []string{"auth_time", "iat"}

// UnmarshalText reads auth_time or iat.
func (a *AuthenticationClaim) UnmarshalText(text []byte) error {
	return words.Parse(a, "auth_time or iat", string(text), authenticationClaims, ByAuthTime)
}

// Meaning is which method an issuer means by a value of amr (RFC 8176).
type Meaning struct {
	AMR    string `book:"amr,required" doc:"the value"`
	Method string `book:"method,required" doc:"the method"`
}

// Schema returns the JSON Schema of a configuration.
func Schema() []byte {
	return book.OtherSchema(reflect.TypeFor[Config](), "A configuration of the door", "door", map[reflect.Type][]string{
		reflect.TypeFor[History](): histories, reflect.TypeFor[JournalMode](): journalModes, reflect.TypeFor[Right](): rights,
		reflect.TypeFor[watch.Security](): watch.Securities(), reflect.TypeFor[AuthenticationClaim](): authenticationClaims,
		reflect.TypeFor[ReloadOn](): reloadsOn,
	})
}

// ReadConfig reads a configuration. The label names the file in errors, which are book.Errors,
// all that is wrong at once.
func ReadConfig(label string, text []byte) (*Config, error) {
	c := new(Config)
	if err := book.ReadOther(label, text, "a configuration of the door", "door", c); err != nil {
		return nil, err
	}
	if err := c.Check(); err != nil {
		return nil, fmt.Errorf("%s: %w", label, err)
	}
	return c, nil
}

// fill puts in what was left out.
func (c *Config) fill() {
	set := func(span *directory.Span, text string) {
		if *span == 0 {
			if err := span.UnmarshalText([]byte(text)); err != nil {
				panic(err) // a default that stands above
			}
		}
	}
	if c.Listen == "" {
		c.Listen = "127.0.0.1:7443"
	}
	if c.Journal.Door == "" {
		c.Journal.Door = "door"
	}
	if c.Store.Cached == 0 {
		c.Store.Cached = 20_000
	}
	set(&c.Journal.Every, "10m")
	set(&c.Limits.Tolerance, "5m")
	set(&c.Limits.Read, "10s")
	set(&c.Limits.Answer, "3s")
	set(&c.Limits.SessionAtMost, "40d")
	if c.Limits.Batch == 0 {
		c.Limits.Batch = 100
	}
	if c.Limits.Results == 0 {
		c.Limits.Results = 100
	}
	for i := range c.Tokens {
		set(&c.Tokens[i].Refresh, "10m")
		if c.Tokens[i].Account == "" {
			c.Tokens[i].Account = "sub"
		}
	}
}

// Check reports all that keeps a configuration from being one, and fills in what it leaves out.
func (c *Config) Check() error {
	c.fill()
	var errs []error
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	host, port, err := net.SplitHostPort(c.Listen)
	if err == nil {
		_, err = strconv.ParseUint(port, 10, 16)
	}
	switch {
	case err != nil:
		wrong("listen: %q is no address with a port, such as 127.0.0.1:7443", c.Listen)
	case c.Certificate == "" && !c.BehindProxy && !loopback.IsHost(host):
		wrong("listen: %s is reached from beyond this machine; give a certificate and key, or say behind_proxy: true", c.Listen)
	}
	if (c.Certificate == "") != (c.Key == "") {
		wrong("certificate and key stand together")
	}
	if c.ClientCA != "" && c.Certificate == "" {
		wrong("client_ca: client certificates need TLS; give a certificate and key")
	}
	named := 0
	for _, at := range []string{c.Store.File, c.Store.Postgres, c.Store.PostgresFile} {
		if at != "" {
			named++
		}
	}
	if named > 1 {
		wrong("store: give a file, postgres or postgres_file, and one of them only")
	}
	if (c.Journal.Key == "") != (c.Journal.Checkpoint == "") {
		wrong("journal: key and checkpoint stand together: the key that signs, and the file that is written")
	}
	if c.Journal.Mode == JournalOff && c.Journal.Key != "" {
		wrong("journal: nothing is recorded with mode: off, so there is nothing to sign")
	}
	if err := journal.CheckLog(c.Journal.Door); err != nil {
		wrong("journal.door: %v", err)
	} else if !store.IsOfDoor(c.Journal.Door) {
		wrong("journal.door: a log of that name is kept already; give the door another name")
	}
	if c.Limits.Batch < 1 || c.Limits.Results < 1 || c.Store.Cached < 1 {
		wrong("limits: batch, results and store.cached are at least 1")
	}
	c.checkCallers(wrong)
	c.checkWatch(wrong)
	c.checkEvents(wrong)
	for _, t := range c.Tokens {
		if u, err := url.Parse(t.Issuer); err != nil || u.Scheme == "" {
			wrong("tokens: issuer %q is no URL", t.Issuer)
		}
		if len(t.Audience) == 0 {
			wrong("tokens: %s has no audience, so tokens for anybody would count", t.Issuer)
		}
		checkKeys(t.Issuer, t.Keys, t.KeysFrom, wrong)
		if isUnbounded(t.Accounts, t.Domains) {
			wrong("tokens: %s may speak for no account; say of whom its tokens may be, by domains or accounts", t.Issuer)
		}
	}
	return errors.Join(errs...)
}

// checkKeys reports keys that are nowhere, or that anybody on the way can change.
func checkKeys(issuer, at string, from KeysFrom, wrong func(string, ...any)) {
	if (at == "") == (from == nil) {
		wrong("the keys of %s are at a place, or a program's function returns them, and one of both", issuer)
	}
	if u, err := url.Parse(at); err == nil && u.Scheme == "http" && !loopback.IsHost(u.Hostname()) {
		wrong("the keys of %s come over http, where anybody on the way can change them; use https", issuer)
	}
}

func (c *Config) checkEvents(wrong func(string, ...any)) {
	for _, t := range c.Events {
		if len(t.Audience) == 0 {
			wrong("events: %s has no audience, so events for anybody would count", t.Issuer)
		}
		checkKeys(t.Issuer, t.Keys, t.KeysFrom, wrong)
		for _, kind := range t.Types {
			if !slices.Contains(EventTypes(), kind) {
				wrong("events: %q is no event that is known; there are %s", kind, strings.Join(EventTypes(), ", "))
			}
		}
	}
	if len(c.Tell.Receivers) > 0 && (c.Tell.Issuer == "" || c.Tell.Key == "") {
		wrong("tell: receivers need an issuer, which names this door, and a key that signs")
	}
	names := map[string]bool{}
	for _, r := range c.Tell.Receivers {
		if names[r.Name] {
			wrong("tell: the receiver %q stands twice", r.Name)
		}
		names[r.Name] = true
		if u, err := url.Parse(r.URL); err != nil || u.Host == "" || u.Scheme != "https" &&
			!(u.Scheme == "http" && loopback.IsHost(u.Hostname())) {
			wrong("tell: %s is told at an https URL, not %q", r.Name, r.URL)
		}
	}
}

func (c *Config) checkCallers(wrong func(string, ...any)) {
	names, tokens := map[string]bool{}, map[string]string{}
	for _, caller := range c.Callers {
		if names[caller.Name] {
			wrong("callers: %q stands twice", caller.Name)
		}
		names[caller.Name] = true
		switch {
		case (caller.Token == "") == (caller.Certificate == ""):
			wrong("callers: %s has a token or a certificate, and one of them only", caller.Name)
		case caller.Certificate != "" && c.ClientCA == "":
			wrong("callers: %s has a certificate, and there is no client_ca to verify it by", caller.Name)
		case caller.Token != "":
			if _, err := tokenDigest(caller.Token); err != nil {
				wrong("callers: the token of %s is %w", caller.Name, err)
			}
			if other, twice := tokens[caller.Token]; twice {
				wrong("callers: %s and %s have the same token", other, caller.Name)
			}
			tokens[caller.Token] = caller.Name
		}
		c.checkBounds(&caller, wrong)
		if len(caller.May) == 0 {
			wrong("callers: %s may do nothing; may lists %s", caller.Name, words.List(rights, "or"))
		}
		if caller.Rate < 0 || caller.Burst < 0 {
			wrong("callers: rate and burst of %s are not below 0", caller.Name)
		}
	}
}

func (c *Config) checkWatch(wrong func(string, ...any)) {
	if c.Watch.Mail != (watch.MailServer{}) {
		if err := c.Watch.Mail.Check(); err != nil {
			wrong("watch.mail: %w", err)
		}
	}
	if u, err := url.Parse(c.Watch.Door); c.Watch.Door != "" && (err != nil || u.Host == "" || u.RawQuery != "") {
		wrong("watch: door is a URL such as https://door.kestrel.example, not %q", c.Watch.Door)
	}
	names := map[string]bool{}
	for _, h := range c.Watch.Hooks {
		if names[h.Recipient] {
			wrong("watch.hooks: %q stands twice", h.Recipient)
		}
		names[h.Recipient] = true
	}
}

// NewToken makes a token for a caller, with the digest of it that a configuration keeps. It is 256 bits of crypto/rand.
func NewToken() (token, digest string) {
	var random [32]byte
	rand.Read(random[:]) // it never fails
	token = "bw_" + hex.EncodeToString(random[:])
	return token, TokenDigest(token)
}

// tokenDigest reads the digest of a token.
func tokenDigest(text string) (sum [sha256.Size]byte, err error) {
	rest, ok := strings.CutPrefix(text, "sha256:")
	read, wrong := hex.DecodeString(rest)
	if !ok || wrong != nil || len(read) != sha256.Size {
		return sum, errors.New("no digest such as sha256:9f86d0…, 64 hexadecimal digits; briskwarden serve token makes one")
	}
	return [sha256.Size]byte(read), nil
}

// TokenDigest returns the digest of a token, as Caller.Token has it.
func TokenDigest(token string) string {
	sum := sha256.Sum256([]byte(token))
	return "sha256:" + hex.EncodeToString(sum[:])
}
