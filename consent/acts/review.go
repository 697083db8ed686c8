package acts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/consent"
)

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
	done, err := d.act(ctx, a.At, func(s *sitting) error {
		act, first, err := d.approval(ctx, s, a)
		if err != nil {
			return err
		}
		c, err := s.client(act.Client)
		overruled = ""
		switch {
		case err != nil:
			return err
		case c.Bar != nil:
			bar := c.Bar
			overruled = fmt.Sprintf("%s barred %s at %s", bar.By, bar.Client, bar.At.Format(time.RFC3339))
		case first != nil && first.State == IsRefused:
			overruled = fmt.Sprintf("%s refused %s", first.AnsweredBy, first.describe())
		}
		act.Overruled = overruled != ""
		if err := s.append(act); err != nil || act.Overruled {
			return err
		}
		return d.answer(ctx, s, act, first)
	})
	if err == nil && overruled != "" {
		err = fmt.Errorf("%w: %s", ErrOverruled, overruled)
	}
	return done, err
}

// approval makes the act of an approval, and finds the request that it answers.
func (d *Desk) approval(ctx context.Context, s *sitting, a Approval) (Act, *Request, error) {
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
	if !d.judge.MayReview(ctx, a.By, a.At) {
		return act, nil, fmt.Errorf("%s %w", a.By, ErrNotReviewer)
	}
	if lasts := d.scheme().Lasts; lasts > 0 {
		act.Until = a.At.Add(time.Duration(lasts))
	}
	var first *Request
	if a.Request != 0 {
		var err error
		if first, err = s.find(a.Request); err != nil {
			return act, nil, err
		}
		if first.State == IsExpired {
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
	client, err := s.clientOf(act.Client)
	switch {
	case err != nil:
		return act, nil, err
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
	case client == nil && act.RedirectURI == "":
		return act, nil, fmt.Errorf("nobody knows where %s is answered, so an approval of it says where", act.Client)
	}
	if err := consent.CheckRedirect(act.RedirectURI); err != nil {
		return act, nil, err
	}
	if act.Account != "" && !d.judge.HasAccount(ctx, act.Account) {
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
	if d.scheme().OwnRequests {
		return act, first, nil
	}
	benefits, err := s.benefits(act, a.By)
	if benefits {
		err = fmt.Errorf("%s %w", a.By, ErrOwnRequest)
	}
	return act, first, err
}

// benefits reports whether the reviewer waits for something that her approval would
// cover, or approves for herself.
func (s *sitting) benefits(act Act, by string) (bool, error) {
	if act.Account == by {
		return true, nil
	}
	waiting, err := s.waiting(act.Client)
	return slices.ContainsFunc(waiting, func(r *Request) bool {
		return r.Account == by && slices.ContainsFunc(act.Scopes, func(scope string) bool { return slices.Contains(r.Scopes, scope) })
	}), err
}

// answer grants what comes of an approval: to the request that it answers and those that
// ask for the same, as far as it reaches, and to all who wait for no more than is allowed
// now.
func (d *Desk) answer(ctx context.Context, s *sitting, act Act, first *Request) error {
	waiting, err := s.waiting(act.Client)
	if err != nil {
		return err
	}
	known, err := s.known(act.Client)
	if err != nil {
		return err
	}
	for _, r := range waiting {
		narrowed := r.of(act.At)
		if first != nil && r.same(first) && d.isFor(ctx, act, r.Account) {
			narrowed.Scopes = act.Scopes
		}
		decision, err := d.judge.Decide(ctx, narrowed, known)
		if err != nil || decision.Outcome != consent.Allow {
			continue
		}
		err = s.append(Act{At: act.At, By: act.By, Kind: Granted, Request: r.Number, Client: r.Client, Account: r.Account,
			Scopes: narrowed.Scopes, Resource: r.Resource, RedirectURI: r.Redirect, Because: act.Because, Until: act.Until})
		if err != nil {
			return err
		}
	}
	return nil
}

// isFor reports whether an approval is for an account.
func (d *Desk) isFor(ctx context.Context, act Act, account string) bool {
	switch {
	case act.Account != "":
		return act.Account == account
	case act.Group != "":
		return d.judge.IsMember(ctx, account, act.Group)
	}
	return true
}

// Refusal says what a reviewer refuses.
type Refusal struct {
	By string
	At time.Time
	// Requests are the numbers of the requests that are refused. All that wait for the same
	// are refused with them.
	Requests []int64
	// Client, where no request is named, refuses all that the client waits for.
	Client  string
	Because string
}

// Refuse refuses requests and all that ask for the same. What came of the requests before
// is taken back. There is one act for each that is named, or that asks for something else.
func (d *Desk) Refuse(ctx context.Context, r Refusal) ([]Act, error) {
	return d.act(ctx, r.At, func(s *sitting) error {
		switch {
		case !d.judge.MayReview(ctx, r.By, r.At):
			return fmt.Errorf("%s %w", r.By, ErrNotReviewer)
		case strings.TrimSpace(r.Because) == "":
			return errors.New("a refusal says why")
		case (len(r.Requests) == 0) == (r.Client == ""):
			return errors.New("a refusal names requests, or a client whose waiting requests are all refused")
		}
		refused, err := s.toRefuse(r)
		if err != nil {
			return err
		}
		for _, asked := range refused {
			if asked.State == IsExpired {
				return fmt.Errorf("%s expired at %s", asked.describe(), asked.Expires.Format(time.RFC3339))
			}
			err := s.append(Act{At: r.At, By: r.By, Kind: Refused, Request: asked.Number, Client: asked.Client, Account: asked.Account,
				Scopes: asked.Scopes, Resource: asked.Resource, Because: r.Because})
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// toRefuse returns the requests that a refusal names; of a client, the first of each that
// wait for the same.
func (s *sitting) toRefuse(r Refusal) ([]*Request, error) {
	var list []*Request
	for _, number := range r.Requests {
		asked, err := s.find(number)
		if err != nil {
			return nil, err
		}
		list = append(list, asked)
	}
	if r.Client == "" {
		return list, nil
	}
	waiting, err := s.waiting(r.Client)
	if err != nil {
		return nil, err
	}
	for _, asked := range waiting {
		if !slices.ContainsFunc(list, asked.same) {
			list = append(list, asked)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s waits for nothing", r.Client)
	}
	return list, nil
}

// Bar bars a client at once: what it was given ends, and what it waits for is
// refused.
func (d *Desk) Bar(ctx context.Context, by, client, because string, at time.Time) ([]Act, error) {
	return d.onClient(ctx, Act{At: at, By: by, Kind: Barred, Client: client, Because: because}, func(bar *Act) error {
		if bar != nil {
			return fmt.Errorf("%s barred %s already, at %s: %s", bar.By, client, bar.At.Format(time.RFC3339), bar.Because)
		}
		return nil
	})
}

// LiftBar lets a client ask again that a reviewer barred. What it had does not
// come back.
func (d *Desk) LiftBar(ctx context.Context, by, client, because string, at time.Time) ([]Act, error) {
	return d.onClient(ctx, Act{At: at, By: by, Kind: BarLifted, Client: client, Because: because}, func(bar *Act) error {
		if bar == nil {
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
	return d.act(ctx, w.At, func(s *sitting) error {
		switch {
		case w.By != w.Account && !d.judge.MayReview(ctx, w.By, w.At):
			return fmt.Errorf("%s %w, and takes back only what was let in for %[1]s", w.By, ErrNotReviewer)
		case w.By != w.Account && strings.TrimSpace(w.Because) == "":
			return errors.New("the act says why")
		}
		g, err := s.grant(w.Client, w.Account, w.Resource)
		if err != nil {
			return err
		}
		if g == nil {
			return fmt.Errorf("%s holds nothing of %s on %s data", w.Client, w.Account, w.Resource)
		}
		return s.append(Act{At: w.At, By: w.By, Kind: Withdrawn, Client: w.Client, Account: w.Account,
			Scopes: d.judge.Ladder().Sort(g.Scopes), Resource: w.Resource, Because: w.Because})
	})
}

// onClient records an act of a reviewer on a client that somebody knows, once the act that
// barred it, nil for none, was looked at.
func (d *Desk) onClient(ctx context.Context, act Act, look func(bar *Act) error) ([]Act, error) {
	return d.act(ctx, act.At, func(s *sitting) error {
		if !d.judge.MayReview(ctx, act.By, act.At) {
			return fmt.Errorf("%s %w", act.By, ErrNotReviewer)
		}
		if err := s.mustKnow(act.Client); err != nil {
			return err
		}
		if strings.TrimSpace(act.Because) == "" {
			return errors.New("the act says why")
		}
		c, err := s.client(act.Client)
		if err != nil {
			return err
		}
		if err := look(c.Bar); err != nil {
			return err
		}
		return s.append(act)
	})
}
