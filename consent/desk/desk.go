package desk

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Desk answers requests by a book and keeps a record in a store.
type Desk struct {
	judge *consent.Judge
	store Store
}

// New makes a desk.
func New(judge *consent.Judge, store Store) *Desk { return &Desk{judge, store} }

// MaxWaiting is how many requests of one account wait at most.
const MaxWaiting = 50

// The errors that tell why an act was not done.
var (
	// ErrNotReviewer: who acts may not review.
	ErrNotReviewer = errors.New("is no reviewer of the book")
	// ErrOwnRequest: a reviewer does not answer what she asked for herself.
	ErrOwnRequest = errors.New("asked for it, and the book lets nobody approve their own requests")
	// ErrNoRequest: there is no such request.
	ErrNoRequest = errors.New("there is no such request")
	// ErrTooMany: the account has MaxWaiting requests that wait.
	ErrTooMany = errors.New("has as many requests waiting as anybody may have; a reviewer answers some first")
	// ErrOverruled: the act is recorded, and a refusal or a bar that stood already
	// stands.
	ErrOverruled = errors.New("the act is recorded and has no effect")
)

// Answer is what became of asking.
type Answer struct {
	*consent.Decision
	// Request is the number of the request that waits, zero where none does.
	Request int64     `json:"request,omitzero" doc:"number of the request that waits"`
	Expires time.Time `json:"expires,omitzero" doc:"when it expires"`
	// Others is how many others wait for the same.
	Others int `json:"others" doc:"how many others wait for the same"`
}

// look calls work with the record as it stands, looked at by the book at a moment.
func (d *Desk) look(ctx context.Context, at time.Time, work func(*sitting) error) error {
	return d.store.view(ctx, func(l ledger) error {
		h, err := l.head()
		if err != nil {
			return err
		}
		return work(&sitting{ledger: l, desk: d, start: h, end: h, at: at})
	})
}

// act calls work with the record, which nobody else changes meanwhile, once its end has
// been checked, and returns the acts that work appends: all of them or, where anything
// fails, none.
func (d *Desk) act(ctx context.Context, at time.Time, work func(*sitting) error) (done []Act, err error) {
	err = d.store.update(ctx, func(l ledger) error {
		h, err := check(l)
		if err != nil {
			return err
		}
		s := &sitting{ledger: l, desk: d, start: h, end: h, at: at}
		if h.size > 0 {
			last, err := s.read(h.size)
			if err != nil {
				return err
			}
			s.last = last.At
		}
		if err := work(s); err != nil || len(s.done) == 0 {
			return err
		}
		done = s.done
		return seal(l, &s.end)
	})
	if err != nil {
		return nil, err
	}
	return done, nil
}

// Ask decides a request. What is allowed is recorded as a grant, once; what a reviewer
// must look at waits, once for each person, who may have MaxWaiting requests that wait.
func (d *Desk) Ask(ctx context.Context, r consent.Request, why string) (*Answer, error) {
	if err := r.Check(); err != nil {
		return nil, err
	}
	answer := &Answer{}
	done, err := d.act(ctx, r.At, func(s *sitting) error {
		known, err := s.known(r.Client, r.Account)
		if err != nil {
			return err
		}
		if answer.Decision, err = d.judge.Decide(ctx, &r, known); err != nil {
			return err
		}
		same := requestFilter{client: r.Client, asked: askedOf(r.Scopes, r.Resource, r.RedirectURI)}
		if answer.Others, err = s.count(same, micros(r.At)); err != nil {
			return err
		}
		same.account = r.Account
		own, err := s.waiting(same)
		if err != nil {
			return err
		}
		if len(own) > 0 {
			answer.Request, answer.Expires = own[0].Number, own[0].Expires
			answer.Others -= len(own)
		}
		act := Act{
			At:          r.At,
			By:          r.Account,
			Account:     r.Account,
			Client:      r.Client,
			Scopes:      d.judge.Ladder().Sort(r.Scopes),
			Resource:    r.Resource,
			RedirectURI: r.RedirectURI,
			Because:     why,
		}
		switch {
		case answer.Outcome == consent.Allow:
			held, _, err := s.grant(grantKey{r.Client, r.Account, r.Resource.String()})
			if err != nil || holdsAll(held.scopes, r.Scopes) {
				return err
			}
			act.Kind = Granted
		case answer.Outcome == consent.Review && answer.Request == 0:
			all, err := s.count(requestFilter{account: r.Account}, micros(r.At))
			if err != nil {
				return err
			}
			if all >= MaxWaiting {
				return fmt.Errorf("%s %w", r.Account, ErrTooMany)
			}
			act.Kind, act.Until = Asked, r.At.Add(d.scheme().Wait())
		default:
			return nil
		}
		return s.append(act)
	})
	if err != nil {
		return nil, err
	}
	if len(done) == 1 && done[0].Kind == Asked {
		answer.Request, answer.Expires = done[0].Number, done[0].Until
	}
	return answer, nil
}

// holdsAll reports whether scopes, sorted by name, have all that are wanted.
func holdsAll(scopes, wanted []string) bool {
	return !slices.ContainsFunc(wanted, func(scope string) bool {
		_, is := slices.BinarySearch(scopes, scope)
		return !is
	})
}

// ActsAfter returns the acts behind one of that number, at most so many of them, as they stand: it
// verifies nothing but that each stands in its place.
func (d *Desk) ActsAfter(ctx context.Context, number int64, most int) (acts []Act, err error) {
	err = d.store.view(ctx, func(l ledger) error {
		h, err := l.head()
		if err != nil {
			return err
		}
		for n := number + 1; n <= h.size && len(acts) < most; n++ {
			text, err := l.act(n)
			if err != nil {
				return err
			}
			a, err := parseAct(text, n)
			if err != nil {
				return err
			}
			acts = append(acts, a)
		}
		return nil
	})
	return acts, err
}

func (d *Desk) scheme() consent.Scheme { return d.judge.Scheme() }

// Zone is the time zone of the book.
func (d *Desk) Zone() *time.Location { return d.judge.Zone() }

// Rehearse decides a request and records nothing.
func (d *Desk) Rehearse(ctx context.Context, r consent.Request) (*consent.Decision, error) {
	var decision *consent.Decision
	err := d.look(ctx, r.At, func(s *sitting) error {
		known, err := s.known(r.Client, r.Account)
		if err != nil {
			return err
		}
		decision, err = d.judge.Decide(ctx, &r, known)
		return err
	})
	return decision, err
}

// RegisteredAt returns the first place where a client of the book is answered, ""
// where the book has none.
func (d *Desk) RegisteredAt(client string) string {
	if c := d.judge.Clients()[client]; c != nil && len(c.RedirectURIs) > 0 {
		return c.RedirectURIs[0]
	}
	return ""
}

// mustKnow refuses a client that neither the book nor the record has.
func (s *sitting) mustKnow(client string) error {
	_, recorded, err := s.client(client)
	if _, inBook := s.desk.judge.Clients()[client]; err != nil || recorded || inBook {
		return err
	}
	names, err := s.names()
	if err != nil {
		return err
	}
	return fmt.Errorf("nobody knows the client %q: it is not in the book, and never asked%s", client, nearest.DidYouMean(client, names))
}

// names returns the names of all clients, sorted.
func (s *sitting) names() ([]string, error) {
	rows, err := s.clients()
	names := slices.Collect(maps.Keys(s.desk.judge.Clients()))
	for _, row := range rows {
		names = append(names, row.name)
	}
	slices.Sort(names)
	return slices.Compact(names), err
}
