package acts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/store"
)

// Desk answers requests by a book and keeps acts in a store.
type Desk struct {
	judge *consent.Judge
	store store.Store
	log   string
}

// New makes a desk that enters its acts in a log of a store.
func New(judge *consent.Judge, s store.Store, log string) *Desk { return &Desk{judge, s, log} }

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

// look calls work with what is kept, looked at by the book at a moment.
func (d *Desk) look(ctx context.Context, at time.Time, work func(*sitting) error) error {
	return work(&sitting{ledger: ledger{ctx: ctx, from: d.store}, desk: d, at: at})
}

// act calls work with what is kept, which nobody else changes meanwhile, and returns the acts that work appends: all of them
// or, where anything fails, none. Work may be called again.
func (d *Desk) act(ctx context.Context, at time.Time, work func(*sitting) error) (done []Act, err error) {
	err = d.store.Update(ctx, func(tx store.Tx) error {
		s := &sitting{ledger: ledger{ctx: ctx, from: tx, tx: tx}, desk: d, at: at}
		if err := work(s); err != nil {
			return err
		}
		done = s.done
		return s.enter(d.log)
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
		*answer = Answer{}
		known, err := s.known(r.Client)
		if err != nil {
			return err
		}
		if answer.Decision, err = d.judge.Decide(ctx, &r, known); err != nil {
			return err
		}
		waiting, err := s.waiting(r.Client)
		if err != nil {
			return err
		}
		for _, w := range waiting {
			switch {
			case w.asked() != askedOf(r.Scopes, r.Resource, r.RedirectURI):
			case w.Account != r.Account:
				answer.Others++
			case answer.Request == 0:
				answer.Request, answer.Expires = w.Number, w.Expires
			}
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
			held, err := s.grant(r.Client, r.Account, r.Resource)
			if err != nil || held != nil && holdsAll(held.Scopes, r.Scopes) {
				return err
			}
			act.Kind = Granted
		case answer.Outcome == consent.Review && answer.Request == 0:
			all, err := s.waitingOf(r.Account)
			if err != nil {
				return err
			}
			if len(all) >= MaxWaiting {
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

// holdsAll reports whether scopes have all that are wanted.
func holdsAll(scopes, wanted []string) bool {
	return !slices.ContainsFunc(wanted, func(scope string) bool { return !slices.Contains(scopes, scope) })
}

func (d *Desk) scheme() consent.Scheme { return d.judge.Scheme() }

// Zone is the time zone of the book.
func (d *Desk) Zone() *time.Location { return d.judge.Zone() }

// Rehearse decides a request and records nothing.
func (d *Desk) Rehearse(ctx context.Context, r consent.Request) (*consent.Decision, error) {
	var decision *consent.Decision
	err := d.look(ctx, r.At, func(s *sitting) error {
		known, err := s.known(r.Client)
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

// mustKnow refuses a client that neither the book nor an act has.
func (s *sitting) mustKnow(client string) error {
	c, err := s.client(client)
	if _, inBook := s.desk.judge.Clients()[client]; err != nil || c.isKept || inBook {
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
	for _, c := range rows {
		names = append(names, c.Client)
	}
	slices.Sort(names)
	return slices.Compact(names), err
}
