package door

import (
	"context"
	"errors"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/store"
)

// followsWithin is how soon an authentication has to follow a challenge that asks for one, as long as one counts as made now.
const followsWithin = 10 * time.Minute

// givenEvery is how often at most the store is told that the same challenge is given.
const givenEvery = time.Minute

// give notes that the guard asks the bearer of a token to authenticate for an app whose sessions are not shared, so that the
// authentication that follows counts as made for it.
func (d *Door) give(answer *Answer, token *access) error {
	now := d.now()
	c := &store.Challenge{Whom: token.whom(), SID: token.SID}
	ctx, cancel := context.WithTimeout(d.background, time.Duration(d.config.Limits.Answer))
	defer cancel()
	if err := store.Load(ctx, d.facts.store, c); err == nil && c.App == answer.App && c.Met.IsZero() && now.Sub(c.Last) < givenEvery &&
		!token.authenticated.After(c.Authenticated) {
		return nil
	}
	return d.recorder.do(&job{urgent: true, change: func(b *Change) error {
		c := &store.Challenge{Whom: token.whom(), SID: token.SID}
		if err := store.Load(b.ctx, b.tx, c); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		c.Give(answer.App, token.authenticated, now, followsWithin)
		return store.Save(b.tx, c)
	}})
}

// meet has what a token proves count as made for the app where it followed a challenge for that. Where the store cannot be asked it
// counts as made for none.
func (d *Door) meet(ctx context.Context, b *inForce, a *attempt.Attempt, token *access, g *gathering) {
	app := b.appNamed(a.App)
	if !b.unshared || app == "" || len(a.Session.Proofs) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(d.config.Limits.Answer))
	defer cancel()
	c, err := challengeMet(ctx, d.facts.store, token, app, g.session.value != nil)
	if err == nil && c != nil && c.Met.IsZero() {
		err = d.recorder.do(&job{urgent: true, change: func(b *Change) error {
			if err := store.Load(b.ctx, b.tx, c); err != nil {
				return err
			}
			if c.App != app || !c.Meets(token.authenticated, followsWithin) {
				return errMeanwhile
			}
			c.Met = token.authenticated
			return store.Save(b.tx, c)
		}})
	}
	if err != nil || c == nil {
		if err != nil && !errors.Is(err, errMeanwhile) {
			d.log.Warn("it was not found out whether a sign-in followed a challenge", "error", err)
		}
		return
	}
	for i := range a.Session.Proofs {
		a.Session.Proofs[i].App = app
	}
}

// errMeanwhile says that a challenge was met by another sign-in meanwhile.
var errMeanwhile = errors.New("it was met meanwhile")

// challengeMet returns the challenge for an app that a token meets, nil where there is none: one in its session, or, in a session that
// was never seen, since some issuers begin one with each sign-in, one in another session of the same client.
func challengeMet(ctx context.Context, from store.Reader, token *access, app string, seen bool) (*store.Challenge, error) {
	c := &store.Challenge{Whom: token.whom(), SID: token.SID}
	switch err := store.Load(ctx, from, c); {
	case err == nil && c.App == app && c.Meets(token.authenticated, followsWithin):
		return c, nil
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return nil, err
	case seen || token.SID == "":
		return nil, nil
	}
	var newest *store.Challenge
	for row, err := range store.All(ctx, from, store.Query{Kind: store.Challenges, Prefix: token.whom()}) {
		if err != nil {
			return nil, err
		}
		c := new(store.Challenge)
		if err := store.Read(row, c); err != nil {
			return nil, err
		}
		if c.App == app && c.Meets(token.authenticated, followsWithin) && (newest == nil || c.Last.After(newest.Last)) {
			newest = c
		}
	}
	return newest, nil
}

// whom names who is challenged: the account at the client.
func (a *access) whom() string { return store.ChallengeOf(a.issuer.Issuer, a.account, a.Client) }
