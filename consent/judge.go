package consent

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// Judge decides requests by one book. It does not change and is safe for
// concurrent use.
type Judge struct {
	directory *directory.Directory
	accounts  directory.Accounts
	scheme    Scheme
	ladder    *Ladder
	clients   map[string]*Client
	when      []condition.Node
	reviewers condition.Node
}

// Compile makes a Judge that decides on the facts of a directory, and on the
// accounts that are supplied while it decides; nil supplies none. What it is given
// must not change afterwards. The error names what is wrong: something undefined, a
// name that stands twice, tiers of the same gravity.
func Compile(e *directory.Directory, accounts directory.Accounts, scheme Scheme, tiers []Tier, clients []Client) (*Judge, error) {
	j := &Judge{directory: e, accounts: accounts, scheme: scheme, clients: map[string]*Client{}}
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
	names := vocabulary{e.Vocabulary("consent"), j}
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

// Directory returns the facts that the judge decides on.
func (j *Judge) Directory() *directory.Directory { return j.directory }

// MayReview reports whether an account may surely answer requests at a moment. One
// of which nobody could find out may not.
func (j *Judge) MayReview(ctx context.Context, account string, at time.Time) bool {
	profile, err := j.Account(ctx, account)
	return err == nil && profile != nil && !profile.Disabled() && j.reviewers != nil &&
		condition.Eval(j.reviewers, directory.AccountFacts{Profile: profile, Moment: at, At: at}) == condition.True
}

// Account finds an account where accounts are supplied, and else in the book: nil
// where there is none, and an error where nobody could find out.
func (j *Judge) Account(ctx context.Context, name string) (*directory.Profile, error) {
	return j.directory.Lookup(ctx, j.accounts, name, new(directory.Room))
}

// vocabulary knows the names of the directory, and those of clients, tiers and
// scopes.
type vocabulary struct {
	directory.Vocabulary
	judge *Judge
}

// Bind implements condition.Vocabulary. What is compared as text needs no number.
func (v vocabulary) Bind(t *condition.Test, value string) (condition.Binding, error) {
	text := condition.Binding{Words: value}
	switch t.Key {
	case condition.Clients:
		if _, ok := v.judge.clients[value]; !ok {
			return text, fmt.Errorf("client %q is not defined", value)
		}
		return text, nil
	case condition.ClientTags:
		return text, nil
	case condition.Scopes:
		return text, CheckPattern(value)
	case condition.ScopesWithin:
		for rank, tier := range v.judge.ladder.tiers {
			if tier.Name == value {
				return condition.Binding{Numbers: []int32{int32(rank)}, Words: value}, nil
			}
		}
		return text, fmt.Errorf("tier %q is not defined", value)
	case condition.Standing:
		var s Standing
		err := s.UnmarshalText([]byte(value))
		return condition.Binding{Numbers: []int32{int32(s)}, Words: value}, err
	case condition.Resource:
		var k ResourceKind
		err := k.UnmarshalText([]byte(value))
		return condition.Binding{Numbers: []int32{int32(k)}, Words: value}, err
	case condition.PublisherVetted, condition.OwnsGroup:
		n := int32(0)
		if value == "true" {
			n = 1
		}
		return condition.Binding{Numbers: []int32{n}, Words: value}, nil
	}
	return v.Vocabulary.Bind(t, value)
}

// hearing is one scope of a request with what is known.
type hearing struct {
	judge   *Judge
	request *Request
	account *directory.Profile
	// client is nil where nobody knows it.
	client *Client
	scope  string
	rank   int
}

// Holds implements condition.Facts.
func (h *hearing) Holds(t *condition.Test) condition.Truth {
	switch t.About() {
	case condition.AboutAccount:
		return h.account.Holds(t, h.request.At, h.request.At)
	case condition.AboutConsent:
	default:
		return condition.Unknown
	}
	number := func(n int32) condition.Truth { return condition.Of(slices.Contains(t.Numbers(), n)) }
	flag := func(is bool) condition.Truth {
		if is {
			return number(1)
		}
		return number(0)
	}
	switch t.Key {
	case condition.Scopes:
		return condition.Of(slices.ContainsFunc(t.Values, func(p string) bool { return Matches(p, h.scope) }))
	case condition.ScopesWithin:
		return condition.Of(slices.ContainsFunc(t.Numbers(), func(rank int32) bool { return h.rank <= int(rank) }))
	case condition.Resource:
		return number(int32(h.request.Resource.Kind()))
	case condition.OwnsGroup:
		return flag(h.ownsGroup())
	case condition.Clients:
		return condition.Of(slices.Contains(t.Values, h.request.Client))
	}
	// What follows is known of a client that somebody knows.
	if h.client == nil {
		return condition.Unknown
	}
	switch t.Key {
	case condition.ClientTags:
		return condition.Of(slices.ContainsFunc(h.client.Tags, func(tag string) bool { return slices.Contains(t.Values, tag) }))
	case condition.Standing:
		return number(int32(h.client.Standing))
	case condition.PublisherVetted:
		return flag(h.client.Publisher.Vetted)
	}
	return condition.Unknown
}

// ownsGroup reports whether the account owns the group whose data is asked for.
func (h *hearing) ownsGroup() bool {
	return slices.ContainsFunc(h.judge.directory.Groups, func(g directory.Group) bool {
		return g.Name == h.request.Resource.Group && slices.Contains(g.Owners, h.request.Account)
	})
}

// Saw implements condition.Witness.
func (h *hearing) Saw(t *condition.Test) string {
	if t.About() == condition.AboutAccount {
		return h.account.Saw(t, h.request.At)
	}
	switch t.Key {
	case condition.Scopes:
		return h.scope
	case condition.ScopesWithin:
		return h.judge.ladder.TierOf(h.scope)
	case condition.Resource:
		return h.request.Resource.String()
	case condition.OwnsGroup:
		if h.ownsGroup() {
			return "an owner"
		}
		return "no owner"
	case condition.Clients:
		return h.request.Client
	}
	if h.client == nil {
		return ""
	}
	switch t.Key {
	case condition.ClientTags:
		if len(h.client.Tags) == 0 {
			return "no tag"
		}
		return strings.Join(h.client.Tags, ", ")
	case condition.Standing:
		return h.client.Standing.String()
	case condition.PublisherVetted:
		if h.client.Publisher.Vetted {
			return "a vetted publisher"
		}
		return "a publisher that nobody vetted"
	}
	return ""
}
