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
}

// sitting is a record looked at by one book at one moment.
type sitting struct {
	ledger
	desk *Desk
	at   time.Time
	// start is the end of the record when the sitting began, and end what it is now.
	start, end head
	// last is when the last act was done.
	last time.Time
	// done are the acts that were appended.
	done []Act
}

// append keeps an act behind the others. What is read afterwards knows it.
func (s *sitting) append(a Act) error {
	kept, err := appendAct(s.ledger, &s.end, s.last, a)
	if err != nil {
		return err
	}
	s.done, s.last = append(s.done, kept), kept.At
	return nil
}

// read returns an act of the record, held against the tree. Acts that were appended in this
// sitting are not in the tree yet.
func (s *sitting) read(number int64) (Act, error) {
	if n := len(s.done); n > 0 && number >= s.done[0].Number {
		return s.done[number-s.done[0].Number], nil
	}
	return verified(s.ledger, s.start, number)
}

// known returns what the record says of a client to an account, for the core.
func (s *sitting) known(client, account string) (consent.Known, error) {
	var k consent.Known
	row, _, err := s.client(client)
	if err != nil {
		return k, err
	}
	if k.Client, err = s.imported(row); err != nil {
		return k, err
	}
	if row.bar != 0 {
		bar, err := s.read(row.bar)
		if err != nil {
			return k, err
		}
		k.Barred, k.Because = true, bar.Because
	}
	approvals, err := s.approvals(approvalFilter{client: client, covers: account})
	if err != nil {
		return k, err
	}
	for _, approval := range approvals {
		a, err := s.read(approval.act)
		if err != nil {
			return k, err
		}
		k.Approvals = append(k.Approvals, consent.Approval{Client: a.Client, Scopes: a.Scopes, Account: a.Account, Group: a.Group,
			Resource: a.Resource, RedirectURI: a.RedirectURI, By: a.By, From: a.At, Until: a.Until})
	}
	return k, nil
}

// imported returns what another system said of a client, nil for nothing.
func (s *sitting) imported(row clientRow) (*consent.Client, error) {
	if row.imported == 0 {
		return nil, nil
	}
	a, err := s.read(row.imported)
	return a.Imported, err
}

// waiting returns the requests that wait, in the order in which they were asked.
func (s *sitting) waiting(f requestFilter) ([]*Request, error) {
	found, err := s.requests(f)
	if err != nil {
		return nil, err
	}
	var list []*Request
	for _, row := range found {
		if row.until <= micros(s.at) {
			continue // it expired
		}
		text, err := s.act(row.number)
		if err != nil {
			return nil, err
		}
		// Not held against the tree: whatever answers a request reads it again.
		a, err := parseAct(text, row.number)
		if err != nil {
			return nil, err
		}
		list = append(list, s.requestOf(&a))
	}
	return list, nil
}

// requestOf returns what an act asks for, as one that waits.
func (s *sitting) requestOf(a *Act) *Request {
	return &Request{
		Number:   a.Number,
		At:       a.At,
		Account:  a.Account,
		Client:   a.Client,
		Scopes:   s.desk.judge.Ladder().Sort(a.Scopes),
		Resource: a.Resource,
		Redirect: a.RedirectURI,
		Why:      a.Because,
		Expires:  a.Until,
		State:    Waiting,
	}
}

// find returns the request of a number and how it stands. That there is none is
// ErrNoRequest.
func (s *sitting) find(number int64) (*Request, error) {
	row, is, err := s.request(number)
	if err != nil {
		return nil, err
	}
	if !is {
		return nil, fmt.Errorf("%w %d", ErrNoRequest, number)
	}
	a, err := s.read(number)
	if err != nil {
		return nil, err
	}
	r := s.requestOf(&a)
	switch {
	case row.answer != 0:
		answer, err := s.read(row.answer)
		if err != nil {
			return nil, err
		}
		r.State, r.AnsweredBy, r.Because = IsRefused, answer.By, answer.Because
		if answer.Kind == Granted {
			r.State = IsApproved
		}
	case row.until <= micros(s.at):
		r.State = IsExpired
	}
	return r, nil
}

// grantOf returns what an account let a client have.
func (s *sitting) grantOf(row grantRow) (*Grant, error) {
	g := &Grant{Account: row.account, Client: row.client, Scopes: s.desk.judge.Ladder().Sort(row.scopes), Redirect: row.redirect,
		Since: moment(row.since), LastUsed: moment(row.lastUsed)}
	return g, g.Resource.UnmarshalText([]byte(row.resource))
}

// granted returns the grants of a client, or all where it is "".
func (s *sitting) granted(client string) ([]*Grant, error) {
	found, err := s.grants(client)
	if err != nil {
		return nil, err
	}
	list := make([]*Grant, len(found))
	for i, row := range found {
		if list[i], err = s.grantOf(row); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// clientOf returns what is known of a client: the book's word wins.
func (s *sitting) clientOf(name string) (*consent.Client, error) {
	if c := s.desk.judge.Clients()[name]; c != nil {
		return c, nil
	}
	row, _, err := s.client(name)
	if err != nil {
		return nil, err
	}
	return s.imported(row)
}

// describe names a request for an error.
func (r *Request) describe() string {
	return fmt.Sprintf("request %d (%s for %s: %s)", r.Number, r.Client, r.Account, strings.Join(r.Scopes, ", "))
}
