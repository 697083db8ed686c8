package consent

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Judge decides requests by one book. It does not change and is safe for
// concurrent use.
type Judge struct {
	directory *engine.Directory
	accounts  directory.Accounts
	scheme    Scheme
	ladder    *Ladder
	clients   map[string]*Client
	when      []condition.Node
	reviewers condition.Node
}

// Compile makes a Judge that decides on the facts of a judge of sign-ins: its directory,
// and the accounts that are supplied to it. What it is given must not change
// afterwards. The error names what is wrong: something undefined, a name that stands
// twice, tiers of the same gravity.
func Compile(judge *engine.Judge, scheme Scheme, tiers []Tier, clients []Client) (*Judge, error) {
	j := &Judge{directory: judge.Directory(), accounts: judge.Accounts(), scheme: scheme, clients: map[string]*Client{}}
	var err error
	if j.ladder, err = NewLadder(tiers); err != nil {
		return nil, err
	}
	for i := range clients {
		if _, twice := j.clients[clients[i].Name]; twice {
			return nil, fmt.Errorf("client %q is defined twice", clients[i].Name)
		}
		j.clients[clients[i].Name] = &clients[i]
	}
	names := vocabulary{j.directory.Vocabulary("consent"), j}
	for _, r := range scheme.Rules {
		when, err := condition.Bind(r.When, names)
		if err != nil {
			return nil, fmt.Errorf("consent rule %s: %w", r.Name, err)
		}
		j.when = append(j.when, when)
	}
	if scheme.Reviewers != nil {
		if j.reviewers, err = condition.Bind(scheme.Reviewers, names); err != nil {
			return nil, fmt.Errorf("consent: reviewers: %w", err)
		}
	}
	return j, nil
}

// Ladder returns the tiers of scopes.
func (j *Judge) Ladder() *Ladder { return j.ladder }

// Scheme returns what the book says of consent, with its conditions bound.
func (j *Judge) Scheme() Scheme {
	s := j.scheme
	s.Reviewers = j.reviewers
	s.Rules = slices.Clone(s.Rules)
	for i := range s.Rules {
		if s.Rules[i].When != nil {
			s.Rules[i].When = j.when[i]
		}
	}
	return s
}

// Clients returns the clients of the book, by name.
func (j *Judge) Clients() map[string]*Client { return j.clients }

// IsGroup reports whether the book declares a group of that name.
func (j *Judge) IsGroup(name string) bool {
	return slices.ContainsFunc(j.directory.Groups, func(g directory.Group) bool { return g.Name == name })
}

// IsMember reports whether an account is surely in a group. One that nobody could find
// out about is in none.
func (j *Judge) IsMember(ctx context.Context, account, group string) bool {
	profile, err := j.account(ctx, account, time.Time{})
	return err == nil && profile != nil && slices.Contains(profile.Groups(), group)
}

// Zone is the time zone of the book.
func (j *Judge) Zone() *time.Location { return j.directory.Zone }

// HasAccount reports whether there surely is an account of that name.
func (j *Judge) HasAccount(ctx context.Context, name string) bool {
	profile, err := j.account(ctx, name, time.Time{})
	return err == nil && profile != nil
}

// MayReview reports whether an account may surely answer requests at a moment. One
// that nobody could find out about may not.
func (j *Judge) MayReview(ctx context.Context, account string, at time.Time) bool {
	profile, err := j.account(ctx, account, at)
	return err == nil && profile != nil && !profile.Disabled() && j.reviewers != nil &&
		condition.Eval(j.reviewers, engine.FactsOf(profile, at)) == condition.True
}

// account finds an account where accounts are supplied, and else in the book: nil
// where there is none, and an error where nobody could find out.
func (j *Judge) account(ctx context.Context, name string, at time.Time) (*engine.Profile, error) {
	return j.directory.Lookup(ctx, j.accounts, name, at, new(engine.Room))
}

// vocabulary knows the names of the directory, and those of clients, tiers and
// scopes.
type vocabulary struct {
	engine.Vocabulary
	judge *Judge
}

// Bind implements condition.Vocabulary.
func (v vocabulary) Bind(t *condition.Test, value string) (condition.Binding, error) {
	return t.Key.Definition().Bind(v, t, value)
}

// scopeRequest is one scope of a request with what is known. It implements condition.Facts.
type scopeRequest struct {
	// Facts are what is known of the account.
	*engine.Facts
	judge   *Judge
	request *Request
	// client is nil where nobody knows it.
	client *Client
	scope  string
	rank   int
}

// Holds implements condition.Facts.
func (r *scopeRequest) Holds(t *condition.Test) condition.Truth { return keys.HoldsOr(r, t, r.Facts) }

// Saw implements condition.Facts.
func (r *scopeRequest) Saw(t *condition.Test) string { return keys.SawOr(r, t, r.Facts) }

// ownsGroup reports whether the account owns the group whose data is asked for.
func (r *scopeRequest) ownsGroup() bool {
	return slices.ContainsFunc(r.judge.directory.Groups, func(g directory.Group) bool {
		return g.Name == r.request.Resource.Group && slices.Contains(g.Owners, r.request.Account)
	})
}
