package door

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-jose/go-jose/v4/jwt"
	lru "github.com/hashicorp/golang-lru/v2"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// access is what a verified access token says (RFC 9068 §2.2).
type access struct {
	jwt.Claims
	AuthTime jwt.NumericDate `json:"auth_time"`
	AMR      []string        `json:"amr"`
	SID      string          `json:"sid"`
	Client   string          `json:"client_id"`
	Scope    string          `json:"scope"`

	// account and device are the claims that name them.
	account, device string
	// authenticated is when the person authenticated, and session names the session: by the sid, or else by client and authentication.
	authenticated time.Time
	session       string

	issuer *trustedIssuer
	// proven is what methods said last, and by which book.
	proven atomic.Pointer[provenBy]
	digest [sha256.Size]byte
	round  uint64
}

// trustedIssuer is an issuer with its keys.
type trustedIssuer struct {
	*TokenIssuer
	keys *keySet
}

// tokens verifies access tokens, and remembers those that it has verified.
type tokens struct {
	issuers  []*trustedIssuer
	now      func() time.Time
	verified *lru.Cache[[sha256.Size]byte, *access]
}

// mostTokens is how many verified tokens are remembered, and longestToken how many bytes one may
// have.
const mostTokens, longestToken = 20_000, 16 << 10

func newTokens(c *Config, now func() time.Time, keysAt func(at string, from KeysFrom, refresh time.Duration) *keySet) *tokens {
	verified, err := lru.New[[sha256.Size]byte, *access](mostTokens)
	if err != nil {
		panic(err) // a size below 1
	}
	t := &tokens{now: now, verified: verified}
	for i := range c.Tokens {
		issuer := &c.Tokens[i]
		t.issuers = append(t.issuers, &trustedIssuer{issuer, keysAt(issuer.Keys, issuer.KeysFrom, time.Duration(issuer.Refresh))})
	}
	return t
}

// errNoToken says that a request bears no token at all.
var errNoToken = errors.New("no token")

// of returns what the token of a request says: that of the authorization header, or of the cookie
// of an issuer.
func (t *tokens) of(r *http.Request) (*access, error) {
	if text, ok := bearer(r); ok {
		return t.verify(r.Context(), text)
	}
	for _, issuer := range t.issuers {
		if issuer.Cookie == "" {
			continue
		}
		if cookie, err := r.Cookie(issuer.Cookie); err == nil && cookie.Value != "" {
			return t.verify(r.Context(), cookie.Value)
		}
	}
	return nil, errNoToken
}

// verify verifies a token. The error says what is wrong, for the log: the bearer is told no more
// than that it is invalid.
func (t *tokens) verify(ctx context.Context, text string) (*access, error) {
	if len(text) > longestToken {
		return nil, errors.New("the token is too long")
	}
	digest := sha256.Sum256([]byte(text))
	if known, ok := t.verified.Get(digest); ok && known.issuer.keys.current(known.round) {
		return known, t.checkTimes(known)
	}
	parsed, err := jwt.ParseSigned(text, algorithms)
	if err != nil {
		return nil, fmt.Errorf("it is no signed token: %w", err)
	}
	if !isOfType(parsed, "at+jwt") {
		return nil, errors.New("its typ is not at+jwt, which an access token has (RFC 9068 §2.1)")
	}
	var unverified jwt.Claims
	if err := parsed.UnsafeClaimsWithoutVerification(&unverified); err != nil {
		return nil, fmt.Errorf("its claims cannot be read: %w", err)
	}
	i := slices.IndexFunc(t.issuers, func(issuer *trustedIssuer) bool { return issuer.Issuer == unverified.Issuer })
	if i < 0 {
		return nil, fmt.Errorf("nobody trusts its issuer %q", unverified.Issuer)
	}
	issuer := t.issuers[i]
	a := &access{issuer: issuer, digest: digest}
	all := map[string]any{}
	if a.round, err = issuer.keys.verify(ctx, parsed, a, &all); err != nil {
		return nil, err
	}
	a.account, _ = all[issuer.Account].(string)
	if issuer.Device != "" {
		a.device, _ = all[issuer.Device].(string)
	}
	if err := t.check(a); err != nil {
		return nil, err
	}
	switch isClients := a.Subject == a.Client; { // client credentials (RFC 9068 §2.2), which nobody signs in for
	case a.AuthTime > 0:
		a.authenticated = a.AuthTime.Time()
	case isClients || issuer.AuthenticatedBy == ByIssuedAt:
		a.authenticated = a.IssuedAt.Time()
	default:
		return nil, fmt.Errorf("it does not say when %s signed in: it has no auth_time (RFC 9068 §2.2.1); have %s send it, or say "+
			"authenticated_by: iat under tokens if it renews no token without a sign-in", a.account, issuer.Issuer)
	}
	if a.session = a.SID; a.session == "" {
		a.session = a.Client + " since " + a.authenticated.UTC().Format(time.RFC3339)
	}
	t.verified.Add(digest, a)
	return a, nil
}

// check holds the claims against RFC 9068 §2.2 and §4.
func (t *tokens) check(a *access) error {
	switch {
	case !slices.ContainsFunc(a.issuer.TokenIssuer.Audience, a.Audience.Contains):
		return fmt.Errorf("it is for %s, and not for this door", strings.Join(a.Audience, ", "))
	case a.Expiry == nil || a.IssuedAt == nil || a.Subject == "" || a.Client == "" || a.ID == "":
		return errors.New("it lacks one of exp, iat, sub, client_id and jti (RFC 9068 §2.2)")
	case a.account == "":
		return fmt.Errorf("it has no %s, which names the account", a.issuer.Account)
	case !isFor(a.issuer.Accounts, a.issuer.Domains, a.account):
		return fmt.Errorf("its issuer may not speak for %q", a.account)
	}
	return t.checkTimes(a)
}

// checkTimes reports a token that has expired, or is not valid yet, a minute of skew aside.
func (t *tokens) checkTimes(a *access) error {
	now := t.now()
	switch {
	case now.After(a.Expiry.Time().Add(attempt.Skew)):
		return errors.New("it has expired")
	case a.NotBefore != nil && now.Before(a.NotBefore.Time().Add(-attempt.Skew)):
		return errors.New("it is not valid yet")
	case now.Before(a.IssuedAt.Time().Add(-attempt.Skew)):
		return errors.New("it was issued in the future")
	}
	return nil
}

// provenBy are the methods that a token proves by the catalogue of a book.
type provenBy struct {
	book    *inForce
	methods []string
}

// methodsBy is methods, made once for a book. Nobody changes the list.
func (a *access) methodsBy(b *inForce) []string {
	if p := a.proven.Load(); p != nil && p.book == b {
		return p.methods
	}
	p := &provenBy{b, a.methods(b)}
	a.proven.Store(p)
	return p.methods
}

// methods returns the methods that the amr of a token says were proven, by the catalogue of a
// book. A value that several methods share proves none of them, unless the configuration says
// which the issuer means: which one it was nobody knows. Of two methods whose values the token
// bears, one of them with more, the one with more was proven.
func (a *access) methods(b *inForce) []string {
	has := func(values []string) bool {
		return len(values) > 0 && !slices.ContainsFunc(values, func(v string) bool { return !slices.Contains(a.AMR, v) })
	}
	var proven []string
	for _, m := range a.issuer.Means {
		if slices.Contains(a.AMR, m.AMR) {
			proven = append(proven, m.Method)
		}
	}
	catalogue := b.Judge().Directory().Methods()
	for i := range catalogue {
		m := &catalogue[i]
		meant := slices.ContainsFunc(a.issuer.Means, func(x Meaning) bool { return slices.Contains(m.AMR, x.AMR) })
		if meant || !has(m.AMR) || slices.ContainsFunc(catalogue, func(other directory.Method) bool {
			return other.Name != m.Name && has(other.AMR) && len(other.AMR) >= len(m.AMR) &&
				!slices.ContainsFunc(m.AMR, func(v string) bool { return !slices.Contains(other.AMR, v) })
		}) {
			continue
		}
		proven = append(proven, m.Name)
	}
	return proven
}

// attempt is what the bearer of the token attempts at an app. What it proves was made for that app where asked for by it.
func (a *access) attempt(b *inForce, now time.Time, app string) *attempt.Attempt {
	made := &attempt.Attempt{At: now, Account: a.account, App: app,
		Session: attempt.Session{ID: a.session, Issuer: a.issuer.Issuer, Started: a.authenticated, AsOf: now}}
	for _, method := range a.methodsBy(b) {
		made.Session.Proofs = append(made.Session.Proofs, attempt.Proof{Method: method, At: a.authenticated})
	}
	if a.device != "" {
		made.Device = attempt.Known(attempt.Device{ID: attempt.Known(a.device)})
	}
	if slices.Contains(a.issuer.Own, a.Client) {
		made.Client = attempt.None[attempt.ClientAsk]()
	} else {
		scopes := strings.Fields(a.Scope)
		made.Client = attempt.Known(attempt.ClientAsk{ID: a.Client, Scopes: scopes, Consented: scopes})
	}
	return made
}
