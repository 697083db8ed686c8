package acts

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/store"
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

// asked returns what all requests of the client share that ask for the same.
func (r *Request) asked() string { return askedOf(r.Scopes, r.Resource, r.Redirect) }

// same reports whether two requests ask for the same.
func (r *Request) same(s *Request) bool { return r.Client == s.Client && r.asked() == s.asked() }

// of returns the request as the core's value at a moment.
func (r *Request) of(at time.Time) *consent.Request {
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
}

// sitting is what is kept, looked at by one book at one moment.
type sitting struct {
	ledger
	desk *Desk
	at   time.Time
	// done are the acts that were appended.
	done []Act
}

// append numbers an act and adds it to what is kept. What is read afterwards knows it.
func (s *sitting) append(a Act) (err error) {
	if err := a.check(); err != nil {
		return err
	}
	if a.Number, err = s.next(); err != nil {
		return err
	}
	s.done = append(s.done, a)
	return s.fold(&a)
}

// known returns what is kept of a client, for the core.
func (s *sitting) known(client string) (consent.Known, error) {
	var k consent.Known
	c, err := s.client(client)
	if err != nil {
		return k, err
	}
	k.Client = c.Imported
	if c.Bar != nil {
		k.Barred, k.Because = true, c.Bar.Because
	}
	approvals, err := s.approvals(client)
	for _, a := range approvals {
		k.Approvals = append(k.Approvals, consent.Approval{Client: a.Client, Scopes: a.Scopes, Account: a.Account, Group: a.Group,
			Resource: a.Resource, RedirectURI: a.RedirectURI, By: a.By, From: a.At, Until: a.Until})
	}
	return k, err
}

// waiting returns the requests of a client, or of all where it is "", that wait, in the order in which they were asked.
func (s *sitting) waiting(client string) ([]*Request, error) {
	list, err := s.pending(client)
	return s.stillWait(list), err
}

// waitingOf returns the requests of an account that wait.
func (s *sitting) waitingOf(account string) ([]*Request, error) {
	list, err := all[Request](&s.ledger, store.Query{Kind: store.Pending, Account: account})
	return s.stillWait(list), err
}

// stillWait leaves requests that have not expired, with their scopes as the book orders them.
func (s *sitting) stillWait(list []*Request) []*Request {
	list = slices.DeleteFunc(list, func(r *Request) bool { return !r.Expires.After(s.at) })
	for _, r := range list {
		r.Scopes = s.desk.judge.Ladder().Sort(r.Scopes)
	}
	return list
}

// find returns the request of a number and how it stands. That there is none is
// ErrNoRequest.
func (s *sitting) find(number int64) (*Request, error) {
	r, err := s.request(number)
	switch {
	case err != nil:
		return nil, err
	case r == nil:
		return nil, fmt.Errorf("%w %d", ErrNoRequest, number)
	}
	r.Scopes = s.desk.judge.Ladder().Sort(r.Scopes)
	if r.State == Waiting && !r.Expires.After(s.at) {
		r.State = IsExpired
	}
	return r, nil
}

// granted returns the grants of a client, or all where it is "".
func (s *sitting) granted(client string) ([]*Grant, error) {
	found, err := s.grants(client)
	if err != nil {
		return nil, err
	}
	list := make([]*Grant, len(found))
	for i, g := range found {
		list[i] = &g.Grant
		list[i].Scopes = s.desk.judge.Ladder().Sort(g.Scopes)
	}
	return list, nil
}

// clientOf returns what is known of a client: the book's word wins.
func (s *sitting) clientOf(name string) (*consent.Client, error) {
	if c := s.desk.judge.Clients()[name]; c != nil {
		return c, nil
	}
	c, err := s.client(name)
	return c.Imported, err
}

// describe names a request for an error.
func (r *Request) describe() string {
	return fmt.Sprintf("request %d (%s for %s: %s)", r.Number, r.Client, r.Account, strings.Join(r.Scopes, ", "))
}
