// Package consent decides whether an outside program may be let into somebody's
// data: which scopes it asks for, who it is from, and whether a reviewer has to
// look. It computes and does nothing else; time, approvals and what is known of
// clients come in as values.
//
// The words are those of OAuth 2.0 (RFC 6749): a client asks for scopes.
package consent

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Client is an outside program.
type Client struct {
	At condition.Position `book:"-" json:"-"`
	// Name is the client_id of RFC 6749 §2.2.
	Name         string    `book:"name,required" json:"name" doc:"the client_id by which it asks"`
	Title        string    `book:"title" json:"title,omitzero" doc:"what people know it as"`
	Publisher    Publisher `book:"publisher" json:"publisher,omitzero" doc:"who makes it"`
	RedirectURIs []string  `book:"redirect_uris" json:"redirect_uris,omitempty" doc:"where it may be answered"`
	Tags         []string  `book:"tags" json:"tags,omitempty" doc:"tags that rules can ask for"`
	Standing     Standing  `book:"standing" json:"standing" doc:"unreviewed, approved or barred" default:"unreviewed"`
	Because      string    `book:"because" json:"because,omitzero" doc:"the reason of its standing"`
	// Reviewed and Reviewer say when and by whom it came to its standing.
	Reviewed *directory.Date `book:"reviewed" json:"reviewed,omitempty" doc:"day on which it came to its standing"`
	Reviewer string          `book:"reviewer" ref:"account" json:"reviewer,omitzero" doc:"who decided that"`
}

// Publisher is who makes a client.
type Publisher struct {
	Title  string `book:"title" json:"title,omitzero" doc:"what the publisher is called"`
	Domain string `book:"domain" json:"domain,omitzero" doc:"its domain, under which its clients are answered"`
	Vetted bool   `book:"vetted" json:"vetted,omitzero" doc:"true where somebody made sure of it"`
}

// Standing is how a client is looked upon.
type Standing uint8

// The standings. A barred client is refused whatever the rules say.
const (
	Unreviewed Standing = iota
	Approved
	Barred
)

var standings = []string{"unreviewed", "approved", "barred"}

// Standings returns the words for the standings.
func Standings() []string { return slices.Clone(standings) }

// String returns unreviewed, approved or barred.
func (s Standing) String() string { return words.Of(s, standings, 0) }

// MarshalText writes String.
func (s Standing) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads unreviewed, approved or barred.
func (s *Standing) UnmarshalText(text []byte) error {
	return words.Parse(s, "a standing", string(text), standings, Unreviewed)
}

// Outcome is what becomes of a request. The zero Outcome is [Refuse], so that an
// answer that nobody filled in lets no program in.
type Outcome uint8

// The outcomes, from strict to mild.
const (
	// Refuse turns the request away.
	Refuse Outcome = iota
	// Review leaves it to a reviewer.
	Review
	// Allow lets the client have what it asks for.
	Allow
)

var outcomes = []string{"refuse", "review", "allow"}

// Outcomes returns the words for the outcomes, from mild to strict.
func Outcomes() []string {
	words := slices.Clone(outcomes)
	slices.Reverse(words)
	return words
}

// String returns allow, review or refuse.
func (o Outcome) String() string { return words.Of(o, outcomes, 0) }

// MarshalText writes String.
func (o Outcome) MarshalText() ([]byte, error) { return []byte(o.String()), nil }

// UnmarshalText reads allow, review or refuse.
func (o *Outcome) UnmarshalText(text []byte) error {
	return words.Parse(o, "an outcome of consent", string(text), outcomes, Refuse)
}

// ResourceKind is whose data is asked for.
type ResourceKind uint8

// The kinds: one's own data, or that of a group.
const (
	Own ResourceKind = iota
	OfGroup
)

var resources = []string{"own", "group"}

// ResourceKinds returns the words for the kinds.
func ResourceKinds() []string { return slices.Clone(resources) }

// String returns own or group.
func (k ResourceKind) String() string { return words.Of(k, resources, 0) }

// UnmarshalText reads own or group.
func (k *ResourceKind) UnmarshalText(text []byte) error {
	return words.Parse(k, "a kind of resource", string(text), resources, Own)
}

// Resource is whose data is asked for: one's own where Group is "".
type Resource struct {
	Group string `json:"group,omitzero" doc:"the group whose data is asked for; absent for one's own"`
}

// Kind returns the kind of the resource.
func (r Resource) Kind() ResourceKind {
	if r.Group == "" {
		return Own
	}
	return OfGroup
}

// String returns "own", or "group" with its name.
func (r Resource) String() string {
	if r.Group == "" {
		return "own"
	}
	return "group:" + r.Group
}

// MarshalText writes String.
func (r Resource) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalJSON reads own or group:NAME, and the form that old records have.
func (r *Resource) UnmarshalJSON(text []byte) error {
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		var old struct{ Group string }
		if err := json.Unmarshal(text, &old); err != nil {
			return err
		}
		*r = Resource{Group: old.Group}
		return nil
	}
	var word string
	if err := json.Unmarshal(text, &word); err != nil {
		return fmt.Errorf("whose data it is, is written \"own\" or \"group:NAME\", not %s", text)
	}
	return r.UnmarshalText([]byte(word))
}

// UnmarshalText reads own or group:NAME.
func (r *Resource) UnmarshalText(text []byte) error {
	name, isGroup := strings.CutPrefix(string(text), "group:")
	switch {
	case string(text) == "own":
		*r = Resource{}
	case isGroup && name != "":
		*r = Resource{Group: name}
	default:
		return fmt.Errorf("whose data it is, is written own or group:NAME, not %q", text)
	}
	return nil
}

// Scheme is what a book says of consent.
type Scheme struct {
	// Reviewers may answer requests; nil is nobody.
	Reviewers condition.Node `book:"reviewers" about:"account" doc:"the accounts that may answer requests" default:"nobody"`
	// OwnRequests lets a reviewer answer what she asked for herself.
	OwnRequests bool `book:"own_requests" doc:"true where a reviewer may answer her own requests"`
	// Lasts is how long an approval holds; zero is until it is withdrawn.
	Lasts directory.Span `book:"lasts" doc:"how long an approval holds, such as 365d" default:"until it is withdrawn"`
	// RequestsLast is how long a request waits before it expires; zero is DefaultWait.
	RequestsLast directory.Span `book:"requests_last" doc:"how long a request waits for a reviewer" default:"14d"`
	Rules        []Rule         `book:"rules" doc:"asked in order for each scope; the first match speaks, else a reviewer looks"`
}

// DefaultWait is how long a request waits where the book does not say.
const DefaultWait = directory.Span(14 * 24 * time.Hour)

// Wait returns how long a request waits for a reviewer.
func (s Scheme) Wait() time.Duration {
	if s.RequestsLast > 0 {
		return time.Duration(s.RequestsLast)
	}
	return time.Duration(DefaultWait)
}

// Rule is a condition on one scope of a request, and an outcome.
type Rule struct {
	At   condition.Position `book:"-"`
	Name string             `book:"name,required" doc:"name of the rule, its own within the section"`
	When condition.Node     `book:"when" about:"account,consent" doc:"when the rule matches" default:"always"`
	Then Outcome            `book:"then,required" doc:"allow, review or refuse"`
	Say  string             `book:"say" doc:"what the person is told where the rule does not allow"`
}

// Request is what a client asks of somebody.
type Request struct {
	At      time.Time `json:"at" doc:"when it is asked"`
	Account string    `json:"account" doc:"who is asked to let the client in"`
	Client  string    `json:"client" doc:"the client_id"`
	Scopes  []string  `json:"scopes" doc:"the scopes that it asks for"`
	// Resource is whose data it is about.
	Resource Resource `json:"resource,omitzero" doc:"whose data it is about; one's own where left out"`
	// RedirectURI is where the client wants to be answered; "" is unknown, so that nothing is allowed
	// without a reviewer, whatever was approved before.
	RedirectURI string `json:"redirect_uri,omitzero" doc:"where the client wants to be answered"`
}

// Check reports what is wrong with a request.
func (r *Request) Check() error {
	switch {
	case r == nil:
		return fmt.Errorf("there is no request")
	case r.Account == "":
		return fmt.Errorf("the request has no `account`")
	case r.Client == "":
		return fmt.Errorf("the request has no `client`")
	case r.At.IsZero():
		return fmt.Errorf("the request has no `at`, a time such as 2026-11-23T21:14:00Z")
	case len(r.Scopes) == 0:
		return fmt.Errorf("the request asks for no scope")
	}
	for _, s := range r.Scopes {
		if err := CheckScope(s); err != nil {
			return err
		}
	}
	return CheckRedirect(r.RedirectURI)
}

// CheckRedirect reports what keeps a URI from being a place where a client is answered
// (RFC 6749 §3.1.2): it is absolute, has no fragment, and its scheme is none that a
// browser would run or read itself. That it is not said is in order.
func CheckRedirect(uri string) error {
	if uri == "" {
		return nil
	}
	u, err := url.Parse(uri)
	switch {
	case err != nil || !u.IsAbs() || u.Fragment != "" || strings.ContainsAny(uri, " \t\r\n"):
		return fmt.Errorf("%q is no place where a program can be answered; write one such as https://program.example/answer", uri)
	case slices.Contains(browserSchemes, u.Scheme), (u.Scheme == "https" || u.Scheme == "http") && u.Host == "":
		return fmt.Errorf("a program cannot be answered at %q; write a place such as https://program.example/answer", uri)
	}
	return nil
}

// browserSchemes are those of what a browser runs or reads itself.
var browserSchemes = []string{"javascript", "vbscript", "data", "file", "blob", "about", "view-source", "filesystem"}

// Approval is what a reviewer let a client have. It covers the scopes that it
// names and no others.
type Approval struct {
	Client string   `json:"client" doc:"the client_id"`
	Scopes []string `json:"scopes" doc:"the scopes that are approved, and no others"`
	// For says for whom: everyone where both are "".
	Account  string   `json:"account,omitzero" doc:"the account that it is for"`
	Group    string   `json:"group,omitzero" doc:"the group that it is for; for everyone where neither is given"`
	Resource Resource `json:"resource,omitzero" doc:"whose data it is about"`
	// RedirectURI, where it is not "", is the one place to be answered at that was approved. Of a client
	// that neither the book nor an import knows nothing is approved where it is "".
	RedirectURI string `json:"redirect_uri,omitzero" doc:"the one place to be answered at that was approved"`
	// By is the reviewer. Unless the book lets reviewers answer their own requests, what
	// she approved does not cover herself.
	By string `json:"by,omitzero" doc:"the reviewer, whom it does not cover herself"`
	// From is included, Until not; the zero Until is no end.
	From  time.Time `json:"from" doc:"when it began"`
	Until time.Time `json:"until,omitzero" doc:"when it ends; absent where it does not"`
}

// Known is what is known of a client and of what reviewers did, beside the book.
type Known struct {
	// Client is a client that the book does not have; the book's own wins.
	Client *Client
	// Barred says that a reviewer barred the client, with the reason.
	Barred    bool
	Because   string
	Approvals []Approval
}

// isLoopback reports whether a redirect URI is one of a native app that listens on
// its own machine (RFC 8252 §7.3).
func isLoopback(u *url.URL) bool {
	ip, err := netip.ParseAddr(u.Hostname())
	return u.Scheme == "http" && err == nil && ip.IsLoopback()
}

// redirectFits reports whether an answer to a URI goes where the client is
// registered: exactly there (RFC 9700 §2.1), but for the port of a loopback
// address, which is chosen at run time (RFC 8252 §7.3).
func redirectFits(registered []string, uri string) bool {
	return slices.ContainsFunc(registered, func(known string) bool {
		if known == uri {
			return true
		}
		a, err := url.Parse(known)
		if err != nil {
			return false
		}
		b, err := url.Parse(uri)
		if err != nil || !isLoopback(a) || !isLoopback(b) {
			return false
		}
		a.Host, b.Host = a.Hostname(), b.Hostname()
		return a.String() == b.String()
	})
}
