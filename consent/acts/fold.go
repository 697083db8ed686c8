package acts

import (
	"fmt"
	"slices"
)

// fold adds an act to what the acts before it come to. What an act means is said here and
// nowhere else. Acts of a kind that a newer program has are refused.
func (l *ledger) fold(a *Act) error {
	if a.Overruled {
		return nil
	}
	c, err := l.client(a.Client)
	if err != nil {
		return err
	}
	before := *c
	switch a.Kind {
	case Asked:
		err = l.setRequest(&Request{Number: a.Number, At: a.At, Account: a.Account, Client: a.Client, Scopes: a.Scopes, Resource: a.Resource,
			Redirect: a.RedirectURI, Why: a.Because, Expires: a.Until, State: Waiting})
	case Approved:
		err = l.setApproval(a)
	case Granted, GrantImported:
		c.Ever = true
		err = l.addGrant(a)
	case Refused:
		err = l.refuse(a)
	case Barred:
		c.Bar = a
		err = l.endAll(a)
	case BarLifted:
		c.Bar = nil
	case Withdrawn:
		err = l.withdraw(a)
	case ClientImported:
		c.Imported = a.Imported
	default:
		return fmt.Errorf("act %d is of the kind %q, which this program does not know", a.Number, a.Kind)
	}
	if err != nil || c.isKept && *c == before {
		return err
	}
	return l.setClient(c)
}

// answered notes by which act a request was answered, and how it stands.
func (l *ledger) answered(r *Request, by *Act, state State) error {
	r.State, r.AnsweredBy, r.Because = state, by.By, by.Because
	return l.setRequest(r)
}

func (l *ledger) addGrant(a *Act) error {
	g, err := l.grant(a.Client, a.Account, a.Resource)
	if err != nil {
		return err
	}
	if g == nil {
		g = &grant{Grant: Grant{Account: a.Account, Client: a.Client, Resource: a.Resource, Redirect: a.RedirectURI, Since: a.At}}
		if !a.Since.IsZero() {
			g.Since = a.Since
		}
	}
	g.Scopes = sortedByName(slices.Concat(g.Scopes, a.Scopes))
	if a.LastUsed.After(g.LastUsed) {
		g.LastUsed = a.LastUsed
	}
	if a.Request != 0 {
		r, err := l.request(a.Request)
		if err != nil {
			return err
		}
		if r != nil {
			g.Requests = append(g.Requests, r.Number)
			if err := l.answered(r, a, IsApproved); err != nil {
				return err
			}
		}
	}
	return l.setGrant(g)
}

func (l *ledger) withdraw(a *Act) error {
	g, err := l.grant(a.Client, a.Account, a.Resource)
	if err != nil || g == nil {
		return err
	}
	return l.dropGrant(g)
}

// refuse answers a request and all that ask for the same. What had come of the
// request is taken back: of two reviewers who act at once the stricter stands.
func (l *ledger) refuse(a *Act) error {
	first, err := l.request(a.Request)
	if err != nil || first == nil {
		return err
	}
	pending, err := l.pending(first.Client)
	if err != nil {
		return err
	}
	for _, r := range pending {
		if r.Number == first.Number || r.asked() != first.asked() || !r.Expires.After(a.At) {
			continue // the latter expired before
		}
		if err := l.answered(r, a, IsRefused); err != nil {
			return err
		}
	}
	if err := l.answered(first, a, IsRefused); err != nil {
		return err
	}
	if err := l.dropApprovals(first.Client, func(approval *Act) bool { return approval.Request == a.Request }); err != nil {
		return err
	}
	g, err := l.grant(first.Client, first.Account, first.Resource)
	if err != nil || g == nil || !slices.Contains(g.Requests, a.Request) {
		return err
	}
	return l.dropGrant(g)
}

// endAll ends all that a client was given, and refuses what it waits for.
func (l *ledger) endAll(a *Act) error {
	grants, err := l.grants(a.Client)
	if err != nil {
		return err
	}
	for _, g := range grants {
		if err := l.dropGrant(g); err != nil {
			return err
		}
	}
	if err := l.dropApprovals(a.Client, func(*Act) bool { return true }); err != nil {
		return err
	}
	pending, err := l.pending(a.Client)
	if err != nil {
		return err
	}
	for _, r := range pending {
		if r.Expires.After(a.At) {
			if err := l.answered(r, a, IsRefused); err != nil {
				return err
			}
		}
	}
	return nil
}

func (l *ledger) dropApprovals(client string, which func(*Act) bool) error {
	approvals, err := l.approvals(client)
	if err != nil {
		return err
	}
	for _, a := range approvals {
		if which(a) {
			if err := l.dropApproval(a); err != nil {
				return err
			}
		}
	}
	return nil
}
