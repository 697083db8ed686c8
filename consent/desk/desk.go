package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
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

// The errors that tell why an act was not done.
var (
	// ErrNotReviewer: who acts may not review.
	ErrNotReviewer = errors.New("is no reviewer of the book")
	// ErrOwnRequest: a reviewer does not answer what she asked for herself.
	ErrOwnRequest = errors.New("asked for it, and the book lets nobody approve their own requests")
	// ErrNoRequest: there is no such request.
	ErrNoRequest = errors.New("there is no such request")
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

// Ask decides a request. What is allowed is recorded as a grant; what a reviewer
// must look at waits, once for each person.
func (d *Desk) Ask(ctx context.Context, r consent.Request, why string) (*Answer, error) {
	if err := r.Check(); err != nil {
		return nil, err
	}
	answer := &Answer{}
	appended, err := d.store.Append(ctx, func(acts []Act) ([]Act, error) {
		s := d.add(acts, r.At)
		decision, err := d.judge.Decide(ctx, &r, s.known(r.Client))
		if err != nil {
			return nil, err
		}
		answer.Decision, answer.Others = decision, 0
		asked := &Request{Client: r.Client, Resource: r.Resource, Redirect: r.RedirectURI, Scopes: d.judge.Ladder().Sort(r.Scopes)}
		for _, w := range s.waiting() {
			switch {
			case !w.same(asked):
			case w.Account == r.Account:
				answer.Request, answer.Expires = w.Number, w.Expires
			default:
				answer.Others++
			}
		}
		act := Act{
			At:          r.At,
			By:          r.Account,
			Account:     r.Account,
			Client:      r.Client,
			Scopes:      asked.Scopes,
			Resource:    r.Resource,
			RedirectURI: r.RedirectURI,
			Because:     why,
		}
		switch {
		case decision.Outcome == consent.Allow:
			act.Kind = Granted
		case decision.Outcome == consent.Review && answer.Request == 0:
			act.Kind, act.Until = Asked, r.At.Add(d.scheme().Wait())
		default:
			return nil, nil
		}
		return []Act{act}, nil
	})
	if err == nil && len(appended) == 1 && appended[0].Kind == Asked {
		answer.Request, answer.Expires = appended[0].Number, appended[0].Until
	}
	return answer, err
}

func (d *Desk) scheme() consent.Scheme { return d.judge.Scheme() }

// Zone is the time zone of the book.
func (d *Desk) Zone() *time.Location { return d.judge.Zone() }

// Rehearse decides a request and records nothing.
func (d *Desk) Rehearse(ctx context.Context, r consent.Request) (*consent.Decision, error) {
	acts, err := d.acts(ctx)
	if err != nil {
		return nil, err
	}
	return d.judge.Decide(ctx, &r, d.add(acts, r.At).known(r.Client))
}

// Batch is what several people wait for alike.
type Batch struct {
	Client   string           `json:"client" doc:"the client_id"`
	Title    string           `json:"title,omitzero" doc:"what people know it as"`
	Resource consent.Resource `json:"resource,omitzero" doc:"whose data it is about"`
	Redirect string           `json:"redirect_uri,omitzero" doc:"where the client wants to be answered"`
	// Scopes are from the mildest to the gravest, each with what the rules say.
	Scopes   []consent.ScopeDecision `json:"scopes" doc:"the scopes, the mildest first, with what the rules say"`
	Causes   []consent.Cause         `json:"causes" doc:"why a reviewer looks"`
	Grade    consent.Grade           `json:"grade" doc:"how dangerous the client is"`
	Requests []Request               `json:"requests" doc:"the requests, the oldest first"`
}

// Queue returns what waits at a moment, the most dangerous clients first.
func (d *Desk) Queue(ctx context.Context, at time.Time) ([]Batch, error) {
	acts, err := d.acts(ctx)
	if err != nil {
		return nil, err
	}
	s := d.add(acts, at)
	batches := []Batch{}
	for _, r := range s.waiting() {
		i := slices.IndexFunc(batches, func(b Batch) bool { return b.Requests[0].same(r) })
		if i >= 0 {
			batches[i].Requests = append(batches[i].Requests, *r)
			continue
		}
		decision, err := d.judge.Decide(ctx, r.asked(at), s.known(r.Client))
		if err != nil {
			return nil, err
		}
		b := Batch{
			Client:   r.Client,
			Resource: r.Resource,
			Redirect: r.Redirect,
			Scopes:   decision.Scopes,
			Causes:   decision.Causes,
			Requests: []Request{*r},
			Grade:    d.grade(s, r.Client, at),
		}
		if c := d.client(s, r.Client); c != nil {
			b.Title = c.Title
		}
		batches = append(batches, b)
	}
	slices.SortStableFunc(batches, func(a, b Batch) int {
		return cmp.Or(cmp.Compare(b.Grade.Danger, a.Grade.Danger), cmp.Compare(a.Requests[0].Number, b.Requests[0].Number))
	})
	return batches, nil
}

// Approval says what a reviewer approves.
type Approval struct {
	// By is the reviewer, At when she acts.
	By string
	At time.Time
	// Request is the number of the request that is answered; zero approves a client
	// without one, and then Client, Scopes and Resource say what.
	Request  int64
	Client   string
	Resource consent.Resource
	// Redirect is where a client is answered that neither the book nor an import knows,
	// where no request says it.
	Redirect string
	// Scopes narrow what is approved; nil approves all that was asked for.
	Scopes []string
	// Everyone and Group widen whom it is for; else it is for the one who asked, or
	// for Account.
	Everyone       bool
	Group, Account string
	Because        string
}

// Approve approves scopes and answers all who wait for no more than that. It
// returns the acts that were recorded. Where a refusal or a bar stood already
// the act is recorded without effect, and the error is ErrOverruled.
func (d *Desk) Approve(ctx context.Context, a Approval) ([]Act, error) {
	overruled := ""
	appended, err := d.store.Append(ctx, func(acts []Act) ([]Act, error) {
		s := d.add(acts, a.At)
		overruled = ""
		act, first, err := d.approval(s, a)
		if err != nil {
			return nil, err
		}
		bar, barred := s.barred[act.Client]
		switch {
		case barred:
			overruled = fmt.Sprintf("%s barred %s at %s", bar.By, bar.Client, bar.At.Format(time.RFC3339))
		case first != nil && first.State == IsRefused:
			overruled = fmt.Sprintf("%s refused %s", first.AnsweredBy, first.describe())
		}
		if overruled != "" {
			act.Overruled = true
			return []Act{act}, nil
		}
		return append([]Act{act}, d.answered(s, act, first)...), nil
	})
	if err == nil && overruled != "" {
		err = fmt.Errorf("%w: %s", ErrOverruled, overruled)
	}
	return appended, err
}

// approval makes the act of an approval, and finds the request that it answers.
func (d *Desk) approval(s *state, a Approval) (Act, *Request, error) {
	act := Act{
		At:       a.At,
		By:       a.By,
		Kind:     Approved,
		Request:  a.Request,
		Client:   a.Client,
		Account:  a.Account,
		Group:    a.Group,
		Scopes:   a.Scopes,
		Resource: a.Resource,
		Because:  a.Because,

		RedirectURI: a.Redirect,
	}
	if !d.judge.MayReview(context.Background(), a.By, a.At) {
		return act, nil, fmt.Errorf("%s %w", a.By, ErrNotReviewer)
	}
	if lasts := d.scheme().Lasts; lasts > 0 {
		act.Until = a.At.Add(time.Duration(lasts))
	}
	var first *Request
	if a.Request != 0 {
		first = s.requests[a.Request]
		switch {
		case first == nil:
			return act, nil, fmt.Errorf("%w %d", ErrNoRequest, a.Request)
		case first.State == IsExpired:
			return act, nil, fmt.Errorf(
				"%s expired at %s; ask again if it is still needed",
				first.describe(),
				first.Expires.Format(time.RFC3339),
			)
		}
		act.Client, act.Resource, act.RedirectURI = first.Client, first.Resource, first.Redirect
		if a.Scopes == nil {
			act.Scopes = first.Scopes
		}
		for _, scope := range act.Scopes {
			if !slices.Contains(first.Scopes, scope) {
				return act, nil, fmt.Errorf("%s does not ask for %s", first.describe(), scope)
			}
		}
		if !a.Everyone && a.Group == "" && a.Account == "" {
			act.Account = first.Account
		}
	}
	switch {
	case act.Client == "" || len(act.Scopes) == 0:
		return act, nil, errors.New("an approval names a client and at least one scope")
	case !a.Everyone && act.Group == "" && act.Account == "":
		return act, nil, errors.New("an approval is for an account, a group or everyone")
	case a.Everyone && (act.Group != "" || act.Account != ""), act.Group != "" && act.Account != "":
		return act, nil, errors.New("an approval is for one of an account, a group and everyone")
	case a.Group != "" && !d.judge.IsGroup(a.Group):
		return act, nil, fmt.Errorf("the book has no group %q", a.Group)
	case a.Request != 0 && (a.Client != "" || a.Redirect != "" || a.Resource != consent.Resource{}):
		return act, nil, errors.New("a request says which client it is of, whose data it is about and where it is answered")
	case d.client(s, act.Client) == nil && act.RedirectURI == "":
		return act, nil, fmt.Errorf("nobody knows where %s is answered, so an approval of it says where", act.Client)
	}
	if err := consent.CheckRedirect(act.RedirectURI); err != nil {
		return act, nil, err
	}
	if act.Account != "" && !d.judge.HasAccount(context.Background(), act.Account) {
		return act, nil, fmt.Errorf("there is no account %q", act.Account)
	}
	for _, scope := range act.Scopes {
		if err := consent.CheckScope(scope); err != nil {
			return act, nil, err
		}
		if strings.Contains(scope, "*") {
			return act, nil, fmt.Errorf("%s is a pattern; an approval names each scope", scope)
		}
	}
	act.Scopes = d.judge.Ladder().Sort(act.Scopes)
	if !d.scheme().OwnRequests && d.benefits(s, act, a.By) {
		return act, nil, fmt.Errorf("%s %w", a.By, ErrOwnRequest)
	}
	return act, first, nil
}

// benefits reports whether the reviewer waits for something that her approval would
// cover, or approves for herself.
func (d *Desk) benefits(s *state, act Act, by string) bool {
	if act.Account == by {
		return true
	}
	return slices.ContainsFunc(s.waiting(), func(r *Request) bool {
		return r.Account == by && r.Client == act.Client &&
			slices.ContainsFunc(act.Scopes, func(scope string) bool { return slices.Contains(r.Scopes, scope) })
	})
}

// answered returns the grants that come of an approval: to the request that it
// answers and those that ask for the same, as far as it reaches, and to all who
// wait for no more than is allowed now.
func (d *Desk) answered(s *state, act Act, first *Request) []Act {
	s.approvals = append(
		s.approvals,
		approval{Approval: consent.Approval{Client: act.Client, Scopes: act.Scopes, Account: act.Account, Group: act.Group,
			Resource: act.Resource, RedirectURI: act.RedirectURI, By: act.By, From: act.At, Until: act.Until}},
	)
	var grants []Act
	for _, r := range s.waiting() {
		if r.Client != act.Client {
			continue
		}
		narrowed := r.asked(act.At)
		if first != nil && r.same(first) && d.isFor(act, r.Account) {
			narrowed.Scopes = act.Scopes
		}
		decision, err := d.judge.Decide(context.Background(), narrowed, s.known(r.Client))
		if err != nil || decision.Outcome != consent.Allow {
			continue
		}
		grants = append(
			grants,
			Act{At: act.At, By: act.By, Kind: Granted, Request: r.Number, Client: r.Client, Account: r.Account, Scopes: narrowed.Scopes,
				Resource: r.Resource, RedirectURI: r.Redirect, Because: act.Because, Until: act.Until},
		)
	}
	return grants
}

// isFor reports whether an approval is for an account.
func (d *Desk) isFor(act Act, account string) bool {
	switch {
	case act.Account != "":
		return act.Account == account
	case act.Group != "":
		return d.judge.IsMember(context.Background(), account, act.Group)
	}
	return true
}

// Refuse refuses a request and all that ask for the same. What came of the
// request before is taken back.
func (d *Desk) Refuse(ctx context.Context, by string, number int64, because string, at time.Time) ([]Act, error) {
	return d.store.Append(ctx, func(acts []Act) ([]Act, error) {
		if !d.judge.MayReview(ctx, by, at) {
			return nil, fmt.Errorf("%s %w", by, ErrNotReviewer)
		}
		r := d.add(acts, at).requests[number]
		switch {
		case r == nil:
			return nil, fmt.Errorf("%w %d", ErrNoRequest, number)
		case r.State == IsExpired:
			return nil, fmt.Errorf("%s expired at %s", r.describe(), r.Expires.Format(time.RFC3339))
		case strings.TrimSpace(because) == "":
			return nil, errors.New("a refusal says why")
		}
		return []Act{
			{
				At:       at,
				By:       by,
				Kind:     Refused,
				Request:  number,
				Client:   r.Client,
				Account:  r.Account,
				Scopes:   r.Scopes,
				Resource: r.Resource,
				Because:  because,
			},
		}, nil
	})
}

// Bar bars a client at once: what it was given ends, and what it waits for is
// refused.
func (d *Desk) Bar(ctx context.Context, by, client, because string, at time.Time) ([]Act, error) {
	return d.onClient(ctx, Act{At: at, By: by, Kind: Barred, Client: client, Because: because}, func(s *state) error {
		if old, is := s.barred[client]; is {
			return fmt.Errorf("%s barred %s already, at %s: %s", old.By, client, old.At.Format(time.RFC3339), old.Because)
		}
		return nil
	})
}

// LiftBar lets a client ask again that a reviewer barred. What it had does not
// come back.
func (d *Desk) LiftBar(ctx context.Context, by, client, because string, at time.Time) ([]Act, error) {
	return d.onClient(ctx, Act{At: at, By: by, Kind: BarLifted, Client: client, Because: because}, func(s *state) error {
		if _, is := s.barred[client]; !is {
			return fmt.Errorf("no reviewer barred %s", client)
		}
		return nil
	})
}

// Withdrawal says which grant is taken back.
type Withdrawal struct {
	// By is who acts: the account that let the client in, or a reviewer.
	By string
	At time.Time
	// Account let the client in to the data of Resource.
	Account, Client string
	Resource        consent.Resource
	Because         string
}

// Withdraw takes back what an account let a client have. The account may do that for
// itself, and a reviewer for anybody. What was approved stays approved.
func (d *Desk) Withdraw(ctx context.Context, w Withdrawal) ([]Act, error) {
	return d.store.Append(ctx, func(acts []Act) ([]Act, error) {
		s := d.add(acts, w.At)
		switch {
		case w.By != w.Account && !d.judge.MayReview(ctx, w.By, w.At):
			return nil, fmt.Errorf("%s %w, and takes back only what was let in for %[1]s", w.By, ErrNotReviewer)
		case w.By != w.Account && strings.TrimSpace(w.Because) == "":
			return nil, errors.New("the act says why")
		}
		grant := s.grants[grantKey{w.Account, w.Client, w.Resource}]
		if grant == nil {
			return nil, fmt.Errorf("%s holds nothing of %s on %s data", w.Client, w.Account, w.Resource)
		}
		return []Act{{At: w.At, By: w.By, Kind: Withdrawn, Client: w.Client, Account: w.Account, Scopes: grant.Scopes,
			Resource: w.Resource, Because: w.Because}}, nil
	})
}

// Holds returns the grants of one client, by account.
func (d *Desk) Holds(ctx context.Context, client string, at time.Time) ([]Grant, error) {
	acts, err := d.acts(ctx)
	if err != nil {
		return nil, err
	}
	s := d.add(acts, at)
	if !d.knows(s, client) {
		return nil, fmt.Errorf("nobody knows the client %q: it is not in the book, and never asked%s", client,
			nearest.DidYouMean(client, d.names(s)))
	}
	grants := []Grant{}
	for key, g := range s.grants {
		if key.client == client {
			grants = append(grants, *g)
		}
	}
	slices.SortFunc(grants, func(a, b Grant) int {
		return cmp.Or(cmp.Compare(a.Account, b.Account), cmp.Compare(a.Resource.String(), b.Resource.String()))
	})
	return grants, nil
}

// onClient records an act of a reviewer on a client that somebody knows.
func (d *Desk) onClient(ctx context.Context, act Act, check func(*state) error) ([]Act, error) {
	return d.store.Append(ctx, func(acts []Act) ([]Act, error) {
		s := d.add(acts, act.At)
		switch {
		case !d.judge.MayReview(ctx, act.By, act.At):
			return nil, fmt.Errorf("%s %w", act.By, ErrNotReviewer)
		case !d.knows(s, act.Client):
			return nil, fmt.Errorf("nobody knows the client %q: it is not in the book, and never asked", act.Client)
		case strings.TrimSpace(act.Because) == "":
			return nil, errors.New("the act says why")
		}
		if err := check(s); err != nil {
			return nil, err
		}
		return []Act{act}, nil
	})
}

// knows reports whether the book or the record has a client of that name.
func (d *Desk) knows(s *state, client string) bool { return slices.Contains(d.names(s), client) }

// names returns the names of all clients, sorted.
func (d *Desk) names(s *state) []string {
	var names []string
	for name := range d.judge.Clients() {
		names = append(names, name)
	}
	for name := range s.clients {
		names = append(names, name)
	}
	for _, r := range s.requests {
		names = append(names, r.Client)
	}
	for key := range s.grants {
		names = append(names, key.client)
	}
	for name := range s.barred {
		names = append(names, name)
	}
	for name := range s.ever {
		names = append(names, name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Entry is a client in the register.
type Entry struct {
	Client    string            `json:"client" doc:"the client_id"`
	Title     string            `json:"title,omitzero" doc:"what people know it as"`
	Publisher consent.Publisher `json:"publisher,omitzero" doc:"who makes it"`
	Standing  consent.Standing  `json:"standing" doc:"unreviewed, approved or barred"`
	Because   string            `json:"because,omitzero" doc:"the reason of its standing"`
	Grade     consent.Grade     `json:"grade" doc:"how dangerous it is"`
	Users     int               `json:"users" doc:"how many accounts let it in"`
	Ever      bool              `json:"ever" doc:"true where somebody let it in at some time"`
	Scopes    []string          `json:"scopes" doc:"what it was given by anybody, the mildest first"`
	LastUsed  time.Time         `json:"last_used,omitzero" doc:"when it was last used, as far as is known"`
	Waiting   int               `json:"waiting" doc:"how many requests wait"`
}

// Register returns all clients, the most dangerous first.
func (d *Desk) Register(ctx context.Context, at time.Time) ([]Entry, error) {
	acts, err := d.acts(ctx)
	if err != nil {
		return nil, err
	}
	s := d.add(acts, at)
	entries := []Entry{}
	for _, name := range d.names(s) {
		u := d.usage(s, name)
		e := Entry{Client: name, Grade: d.grade(s, name, at), Users: u.Users, Ever: s.ever[name], Scopes: u.Holds, LastUsed: u.LastUsed}
		if c := d.client(s, name); c != nil {
			e.Title, e.Publisher, e.Standing, e.Because = c.Title, c.Publisher, c.Standing, c.Because
		}
		if bar, is := s.barred[name]; is {
			e.Standing, e.Because = consent.Barred, bar.Because
		}
		for _, r := range s.waiting() {
			if r.Client == name {
				e.Waiting++
			}
		}
		entries = append(entries, e)
	}
	slices.SortStableFunc(entries, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(b.Grade.Danger, a.Grade.Danger), cmp.Compare(a.Client, b.Client))
	})
	return entries, nil
}

// Usage returns how each client is used, by name.
func (d *Desk) Usage(ctx context.Context, at time.Time) (map[string]consent.Usage, error) {
	acts, err := d.acts(ctx)
	if err != nil {
		return nil, err
	}
	s := d.add(acts, at)
	all := map[string]consent.Usage{}
	for _, name := range d.names(s) {
		all[name] = d.usage(s, name)
	}
	return all, nil
}

// usage sums up how a client is used.
func (d *Desk) usage(s *state, client string) consent.Usage {
	u := consent.Usage{Holds: []string{}}
	for key, g := range s.grants {
		if key.client != client {
			continue
		}
		u.Users++
		u.Holds = append(u.Holds, g.Scopes...)
		if g.LastUsed.After(u.LastUsed) {
			u.LastUsed = g.LastUsed
		}
		if u.Since.IsZero() || g.Since.Before(u.Since) {
			u.Since = g.Since
		}
	}
	for _, r := range s.waiting() {
		if r.Client == client {
			u.Wants = append(u.Wants, r.Scopes...)
		}
	}
	u.Holds, u.Wants = d.judge.Ladder().Sort(u.Holds), d.judge.Ladder().Sort(u.Wants)
	return u
}

func (d *Desk) grade(s *state, client string, at time.Time) consent.Grade {
	_, barred := s.barred[client]
	return d.judge.GradeClient(d.client(s, client), barred, d.usage(s, client), at)
}

// Stray is a grant that today's rules would not allow.
type Stray struct {
	Grant
	Outcome consent.Outcome `json:"outcome" doc:"what the rules would say today"`
	Causes  []consent.Cause `json:"causes" doc:"why"`
	// Over are the scopes that are not allowed.
	Over []string `json:"over" doc:"the scopes that are not allowed, the mildest first"`
}

// Strays returns the grants that would not be allowed today, by client and
// account: rules were tightened, an approval ended, or they were imported.
func (d *Desk) Strays(ctx context.Context, at time.Time) ([]Stray, error) {
	acts, err := d.acts(ctx)
	if err != nil {
		return nil, err
	}
	s := d.add(acts, at)
	strays := []Stray{}
	for _, g := range s.grants {
		decision, err := d.judge.Decide(
			ctx,
			&consent.Request{
				At:          at,
				Account:     g.Account,
				Client:      g.Client,
				Scopes:      g.Scopes,
				Resource:    g.Resource,
				RedirectURI: d.answeredAt(s, g),
			},
			s.known(g.Client),
		)
		if err != nil {
			return nil, err
		}
		if decision.Outcome == consent.Allow {
			continue
		}
		stray := Stray{Grant: *g, Outcome: decision.Outcome, Causes: decision.Causes, Over: []string{}}
		for _, scope := range decision.Scopes {
			if scope.Outcome != consent.Allow {
				stray.Over = append(stray.Over, scope.Scope)
			}
		}
		strays = append(strays, stray)
	}
	slices.SortFunc(strays, func(a, b Stray) int {
		return cmp.Or(
			cmp.Compare(a.Outcome, b.Outcome),
			cmp.Compare(a.Client, b.Client),
			cmp.Compare(a.Account, b.Account),
			cmp.Compare(a.Resource.String(), b.Resource.String()),
		)
	})
	return strays, nil
}

// answeredAt returns where the client of a grant is answered. A grant that came
// from another system does not say, so the client's first place stands in.
func (d *Desk) answeredAt(s *state, g *Grant) string {
	if g.Redirect != "" {
		return g.Redirect
	}
	if c := d.client(s, g.Client); c != nil && len(c.RedirectURIs) > 0 {
		return c.RedirectURIs[0]
	}
	return ""
}

// Acts returns the record, once it has been verified.
func (d *Desk) Acts(ctx context.Context) ([]Act, error) {
	return d.acts(ctx)
}

// acts returns the record, once it has been verified.
func (d *Desk) acts(ctx context.Context) ([]Act, error) {
	acts, err := d.store.Acts(ctx)
	if err != nil {
		return nil, err
	}
	return acts, Verify(acts)
}

// RegisteredAt returns the first place where a client of the book is answered, ""
// where the book has none.
func (d *Desk) RegisteredAt(client string) string {
	if c := d.judge.Clients()[client]; c != nil && len(c.RedirectURIs) > 0 {
		return c.RedirectURIs[0]
	}
	return ""
}

// Queued, Registered, Strayed and Record are what the commands print as JSON.
type (
	// Queued is what waits.
	Queued struct {
		Batches []Batch `json:"batches" doc:"what waits, the most dangerous clients first"`
	}
	// Registered are the clients.
	Registered struct {
		Clients []Entry `json:"clients" doc:"all clients, the most dangerous first"`
		// Grants are set where one client was asked for.
		Grants []Grant `json:"grants,omitempty" doc:"who let the client in, and to what, where one was asked for"`
	}
	// Strayed are the grants that would not be allowed today.
	Strayed struct {
		Grants []Stray `json:"grants" doc:"grants that today's rules would not allow"`
	}
	// Record are acts.
	Record struct {
		Acts []Act `json:"acts" doc:"acts, in order"`
	}
)
