package desk

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/consent"
)

// State is how a request stands.
type State string

// How a request may stand.
const (
	Waiting    State = "waiting"
	IsApproved State = "approved"
	IsRefused  State = "refused"
	IsExpired  State = "expired"
)

// States returns all ways in which a request may stand.
func States() []State { return []State{Waiting, IsApproved, IsRefused, IsExpired} }

// Request is what somebody asked for.
type Request struct {
	Number   int64            `json:"number" doc:"number of the request"`
	At       time.Time        `json:"at" doc:"when it was asked"`
	Account  string           `json:"account" doc:"who asked"`
	Client   string           `json:"client" doc:"the client_id"`
	Scopes   []string         `json:"scopes" doc:"the scopes, the mildest first"`
	Resource consent.Resource `json:"resource,omitzero" doc:"whose data it is about"`
	Redirect string           `json:"redirect_uri,omitzero" doc:"where the client wants to be answered"`
	Why      string           `json:"why" doc:"why the person needs it"`
	Expires  time.Time        `json:"expires" doc:"when it expires"`
	State    State            `json:"state" doc:"waiting, approved, refused or expired"`
	// AnsweredBy and Because are those of the act that answered it.
	AnsweredBy string `json:"answered_by,omitzero" doc:"who answered it"`
	Because    string `json:"because,omitzero" doc:"the reason of the answer"`
}

// same reports whether two requests ask for the same.
func (r *Request) same(s *Request) bool {
	return r.Client == s.Client && r.Resource == s.Resource && r.Redirect == s.Redirect && slices.Equal(r.Scopes, s.Scopes)
}

// asked returns the request as the core's value at a moment.
func (r *Request) asked(at time.Time) *consent.Request {
	return &consent.Request{At: at, Account: r.Account, Client: r.Client, Scopes: r.Scopes, Resource: r.Resource, RedirectURI: r.Redirect}
}

// Grant is what somebody let a client have.
type Grant struct {
	Account  string           `json:"account" doc:"who let it in"`
	Client   string           `json:"client" doc:"the client_id"`
	Scopes   []string         `json:"scopes" doc:"the scopes, the mildest first"`
	Resource consent.Resource `json:"resource,omitzero" doc:"whose data it is about"`
	Redirect string           `json:"redirect_uri,omitzero" doc:"where the client is answered"`
	Since    time.Time        `json:"since" doc:"when it was let in first"`
	LastUsed time.Time        `json:"last_used,omitzero" doc:"when it was last used, as far as is known"`

	// requests are those that it came of.
	requests []int64
}

// approval is an approval with where it came from.
type approval struct {
	consent.Approval
	act, request int64
}

// state is what acts add up to at a moment.
type state struct {
	requests  map[int64]*Request
	order     []int64
	approvals []approval
	grants    map[grantKey]*Grant
	barred    map[string]Act
	clients   map[string]*consent.Client
	// ever has the clients that somebody let in at some time.
	ever map[string]bool
}

type grantKey struct {
	account, client string
	resource        consent.Resource
}

// add puts acts together as of a moment. Scopes are sorted by the ladder.
func (d *Desk) add(acts []Act, at time.Time) *state {
	s := &state{
		requests: map[int64]*Request{},
		grants:   map[grantKey]*Grant{},
		barred:   map[string]Act{},
		clients:  map[string]*consent.Client{},
		ever:     map[string]bool{},
	}
	for i := range acts {
		a := &acts[i]
		if a.Overruled {
			continue
		}
		switch a.Kind {
		case Asked:
			s.requests[a.Number] = &Request{
				Number:   a.Number,
				At:       a.At,
				Account:  a.Account,
				Client:   a.Client,
				Scopes:   d.judge.Ladder().Sort(a.Scopes),
				Resource: a.Resource,
				Redirect: a.RedirectURI,
				Why:      a.Because,
				Expires:  a.Until,
				State:    Waiting,
			}
			s.order = append(s.order, a.Number)
		case Approved:
			s.approvals = append(
				s.approvals,
				approval{consent.Approval{Client: a.Client, Scopes: a.Scopes, Account: a.Account, Group: a.Group,
					Resource: a.Resource, RedirectURI: a.RedirectURI, By: a.By, From: a.At, Until: a.Until}, a.Number, a.Request},
			)
		case Granted, GrantImported:
			s.grant(d, a)
		case Refused:
			s.refuse(a)
		case Barred:
			s.bar(a)
		case BarLifted:
			delete(s.barred, a.Client)
		case Withdrawn:
			delete(s.grants, grantKey{a.Account, a.Client, a.Resource})
		case ClientImported:
			s.clients[a.Client] = a.Imported
		}
	}
	for _, r := range s.requests {
		if r.State == Waiting && !at.Before(r.Expires) {
			r.State = IsExpired
		}
	}
	return s
}

func (s *state) grant(d *Desk, a *Act) {
	s.ever[a.Client] = true
	key := grantKey{a.Account, a.Client, a.Resource}
	g := s.grants[key]
	if g == nil {
		g = &Grant{Account: a.Account, Client: a.Client, Resource: a.Resource, Redirect: a.RedirectURI, Since: a.At}
		if !a.Since.IsZero() {
			g.Since = a.Since
		}
		s.grants[key] = g
	}
	g.Scopes = d.judge.Ladder().Sort(append(slices.Clone(g.Scopes), a.Scopes...))
	if a.LastUsed.After(g.LastUsed) {
		g.LastUsed = a.LastUsed
	}
	if r := s.requests[a.Request]; r != nil {
		g.requests = append(g.requests, a.Request)
		r.State, r.AnsweredBy, r.Because = IsApproved, a.By, a.Because
	}
}

// refuse answers a request and all that ask for the same. What had come of the
// request is taken back: of two reviewers who act at once the stricter stands.
func (s *state) refuse(a *Act) {
	first := s.requests[a.Request]
	if first == nil {
		return
	}
	for _, r := range s.requests {
		if r.Number != first.Number && !(r.State == Waiting && r.same(first) && a.At.Before(r.Expires)) {
			continue
		}
		r.State, r.AnsweredBy, r.Because = IsRefused, a.By, a.Because
	}
	s.approvals = slices.DeleteFunc(s.approvals, func(x approval) bool { return x.request == a.Request })
	for key, g := range s.grants {
		if slices.Contains(g.requests, a.Request) {
			delete(s.grants, key)
		}
	}
}

// bar ends all that a client was given, and refuses what it waits for.
func (s *state) bar(a *Act) {
	s.barred[a.Client] = *a
	for key := range s.grants {
		if key.client == a.Client {
			delete(s.grants, key)
		}
	}
	s.approvals = slices.DeleteFunc(s.approvals, func(x approval) bool { return x.Client == a.Client })
	for _, r := range s.requests {
		if r.Client == a.Client && r.State == Waiting && a.At.Before(r.Expires) {
			r.State, r.AnsweredBy, r.Because = IsRefused, a.By, a.Because
		}
	}
}

// known returns what the record says of a client, for the core.
func (s *state) known(client string) consent.Known {
	k := consent.Known{Client: s.clients[client]}
	if a, ok := s.barred[client]; ok {
		k.Barred, k.Because = true, a.Because
	}
	for _, a := range s.approvals {
		if a.Client == client {
			k.Approvals = append(k.Approvals, a.Approval)
		}
	}
	return k
}

// waiting returns the requests that wait, in the order in which they were asked.
func (s *state) waiting() []*Request {
	var list []*Request
	for _, n := range s.order {
		if r := s.requests[n]; r.State == Waiting {
			list = append(list, r)
		}
	}
	return list
}

// client returns what is known of a client: the book's word wins.
func (d *Desk) client(s *state, name string) *consent.Client {
	if c := d.judge.Clients()[name]; c != nil {
		return c
	}
	return s.clients[name]
}

// describe names a request for an error.
func (r *Request) describe() string {
	return fmt.Sprintf("request %d (%s for %s: %s)", r.Number, r.Client, r.Account, strings.Join(r.Scopes, ", "))
}
