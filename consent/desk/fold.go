package desk

import (
	"fmt"
	"slices"
)

// fold adds an act to what the acts before it add up to. What an act means is said here and
// nowhere else. Acts of a kind that a newer program has are refused.
func fold(l ledger, a *Act) error {
	if a.Overruled {
		return nil
	}
	client, _, err := l.client(a.Client)
	if err != nil {
		return err
	}
	before := client
	client.name = a.Client
	switch a.Kind {
	case Asked:
		err = l.setRequest(requestRow{number: a.Number, client: a.Client, account: a.Account,
			asked: askedOf(a.Scopes, a.Resource, a.RedirectURI), until: micros(a.Until)})
	case Approved:
		err = l.setApproval(approvalRow{act: a.Number, client: a.Client, account: a.Account, request: a.Request})
	case Granted, GrantImported:
		client.ever = true
		err = addGrant(l, a)
	case Refused:
		err = refuse(l, a)
	case Barred:
		client.bar = a.Number
		err = endAll(l, a)
	case BarLifted:
		client.bar = 0
	case Withdrawn:
		err = l.dropGrant(grantKey{a.Client, a.Account, a.Resource.String()})
	case ClientImported:
		client.imported = a.Number
	default:
		return fmt.Errorf("act %d is of the kind %q, which this program does not know", a.Number, a.Kind)
	}
	if err == nil && client != before {
		err = l.setClient(client)
	}
	return err
}

func addGrant(l ledger, a *Act) error {
	key := grantKey{a.Client, a.Account, a.Resource.String()}
	g, is, err := l.grant(key)
	if err != nil {
		return err
	}
	if !is {
		g = grantRow{grantKey: key, redirect: a.RedirectURI, since: micros(a.At), lastUsed: never}
		if !a.Since.IsZero() {
			g.since = micros(a.Since)
		}
	}
	g.scopes = sortedByName(slices.Concat(g.scopes, a.Scopes))
	g.lastUsed = max(g.lastUsed, micros(a.LastUsed))
	r, is, err := l.request(a.Request)
	if err != nil {
		return err
	}
	if is {
		g.requests = append(slices.Clone(g.requests), r.number)
		r.answer = a.Number
		if err := l.setRequest(r); err != nil {
			return err
		}
	}
	return l.setGrant(g)
}

// refuse answers a request and all that ask for the same. What had come of the
// request is taken back: of two reviewers who act at once the stricter stands.
func refuse(l ledger, a *Act) error {
	first, is, err := l.request(a.Request)
	if err != nil || !is {
		return err
	}
	answered, err := l.requests(requestFilter{client: first.client, asked: first.asked})
	if err != nil {
		return err
	}
	if first.answer != 0 {
		answered = append(answered, first)
	}
	for _, r := range answered {
		if r.number != first.number && r.until <= micros(a.At) {
			continue // it expired before
		}
		r.answer = a.Number
		if err := l.setRequest(r); err != nil {
			return err
		}
	}
	if err := dropApprovals(l, approvalFilter{client: first.client, request: a.Request}); err != nil {
		return err
	}
	asked, err := l.act(first.number)
	if err != nil {
		return err
	}
	request, err := parseAct(asked, first.number)
	if err != nil {
		return err
	}
	g, is, err := l.grant(grantKey{first.client, first.account, request.Resource.String()})
	if err != nil || !is || !slices.Contains(g.requests, a.Request) {
		return err
	}
	return l.dropGrant(g.grantKey)
}

// endAll ends all that a client was given, and refuses what it waits for.
func endAll(l ledger, a *Act) error {
	grants, err := l.grants(a.Client)
	if err != nil {
		return err
	}
	for _, g := range grants {
		if err := l.dropGrant(g.grantKey); err != nil {
			return err
		}
	}
	if err := dropApprovals(l, approvalFilter{client: a.Client}); err != nil {
		return err
	}
	waiting, err := l.requests(requestFilter{client: a.Client})
	if err != nil {
		return err
	}
	for _, r := range waiting {
		if r.until > micros(a.At) {
			r.answer = a.Number
			if err := l.setRequest(r); err != nil {
				return err
			}
		}
	}
	return nil
}

func dropApprovals(l ledger, f approvalFilter) error {
	approvals, err := l.approvals(f)
	if err != nil {
		return err
	}
	for _, approval := range approvals {
		if err := l.dropApproval(approval.act); err != nil {
			return err
		}
	}
	return nil
}
