package store

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// Session is one in which something was granted. It is known by its issuer, its sid and its account.
type Session struct {
	// ID is that of SessionID.
	ID      string          `json:"id" doc:"the door's own identifier of it"`
	Issuer  string          `json:"issuer" doc:"who names it by its sid"`
	SID     string          `json:"sid" doc:"its identifier, as its issuer names it"`
	Account string          `json:"account" doc:"whose it is"`
	Started time.Time       `json:"started" doc:"when it began"`
	Proofs  []attempt.Proof `json:"proofs" doc:"what was proven in it"`
	// Apps are what was granted in it, each with its circumstances; the latest attempt counts.
	Apps []Granted `json:"apps" doc:"the apps that it was granted, with the circumstances"`
	// Device is the one that it is on, "" where that is not known.
	Device string `json:"device,omitzero" doc:"the device that it is on"`
	// Seen is when something was last granted in it.
	Seen time.Time `json:"seen,omitzero" doc:"when something was last granted in it"`
	// Ended is when it was ended before its time, and Because why; it is kept for a while, so that
	// what still bears its name is refused.
	Ended   time.Time `json:"ended,omitzero" doc:"when it was ended before its time"`
	Because string    `json:"because,omitzero" doc:"why it was ended"`
	// VoidUntil is when one of the same name was ended before it: what was authenticated until then counts no more.
	VoidUntil time.Time `json:"void_until,omitzero" doc:"until when what was authenticated in it counts no more"`
	// Spared is until when changes of credentials do not hold against what was proven in it: they were made in it.
	Spared time.Time `json:"spared,omitzero" doc:"until when changes of credentials leave its proofs as they are"`
	// PasswordChange is when it was last let through to change the password.
	PasswordChange time.Time `json:"password_change,omitzero" doc:"when changing the password was last granted in it"`
	// Next is when it is to be looked at again.
	Next time.Time `json:"next,omitzero" doc:"when it is looked at again"`
}

// Granted is an app that a session was granted, in the circumstances of the attempt.
type Granted struct {
	App string `json:"app" doc:"the app"`
	// At is when it was granted first on what was authenticated then: by it the ages of proofs stand still.
	At time.Time `json:"at" doc:"when it was granted"`
	// Authenticated is when the person last authenticated on whom the grant rests.
	Authenticated time.Time       `json:"authenticated,omitzero" doc:"when the authentication was made that the grant rests on"`
	Attempt       json.RawMessage `json:"attempt,omitempty" doc:"the attempt as it was judged"`
	Ends          time.Time       `json:"ends,omitzero" doc:"when the grant ends at the latest"`
	// Idle is how long it may rest, 0 without a limit, and Used when a guard last let a request through, zero where none did. What is
	// kept of that may be a little behind.
	Idle directory.Span `json:"idle,omitzero" doc:"how long it may rest"`
	Used time.Time      `json:"used,omitzero" doc:"when the guard last let a request through"`
	// Decision is the one that granted it.
	Decision string `json:"decision" doc:"the decision that granted it"`
	// Ended is when the grant ended, and Because why: what was authenticated until then opens the app no more.
	Ended   time.Time `json:"ended,omitzero" doc:"when the grant ended"`
	Because string    `json:"because,omitzero" doc:"why it ended"`
}

// Why a grant ends by itself.
const (
	TimeIsUp   = "its time is up"
	RestedLong = "it rested for too long"
)

// Due is when the grant ends by itself as far as is known now, and why; zero where it does not.
func (g *Granted) Due() (at time.Time, because string) {
	at, because = g.Ends, TimeIsUp
	if rests := g.Used.Add(time.Duration(g.Idle)); g.Idle > 0 && !g.Used.IsZero() && (at.IsZero() || rests.Before(at)) {
		return rests, RestedLong
	}
	return at, because
}

// EndedBy is when the grant ended, by a moment, and why; zero where it goes on.
func (g *Granted) EndedBy(now time.Time) (at time.Time, because string) {
	if !g.Ended.IsZero() {
		return g.Ended, g.Because
	}
	if at, because = g.Due(); at.IsZero() || now.Before(at) {
		return time.Time{}, ""
	}
	return at, because
}

// End ends the grant as of a moment, for a reason.
func (g *Granted) End(at time.Time, because string) {
	*g = Granted{App: g.App, At: g.At, Decision: g.Decision, Ended: at, Because: because}
}

// EndedSID is an end of a session whose issuer was not named: it holds against all of that sid.
type EndedSID struct {
	SID string    `json:"sid" doc:"the identifier of the session, as some issuer names it"`
	At  time.Time `json:"at" doc:"when it was ended"`
}

// SessionID returns the identifier that a door gives a session, by who names it, by which sid and of which account. Those of one
// sid begin alike, as SIDPrefix has it.
func SessionID(issuer, sid, account string) string {
	var room [256]byte
	text := append(append(append(append(append(room[:0], sid...), 0), issuer...), 0), account...)
	of, whole := sha256.Sum256(text[:len(sid)]), sha256.Sum256(text)
	return identifier.EncodeToString(append(append(room[:0], of[:ofSID]...), whole[:15]...))
}

// SIDPrefix is how the identifiers of all sessions of one sid begin.
func SIDPrefix(sid string) string {
	whole := sha256.Sum256([]byte(sid))
	return identifier.EncodeToString(whole[:ofSID])
}

// identifier writes hashes as identifiers, and ofSID is how many bytes of one are of the sid: a multiple of five, so that their digits are
// of nothing else.
var identifier = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

const ofSID = 10

// Grant returns what the session was granted at an app, nil where it was not.
func (s *Session) Grant(app string) *Granted {
	for i := range s.Apps {
		if s.Apps[i].App == app {
			return &s.Apps[i]
		}
	}
	return nil
}

// Proved reports whether a method was proven in the session at or before a moment.
func (s *Session) Proved(method string, until time.Time) bool {
	return slices.ContainsFunc(s.Proofs, func(p attempt.Proof) bool { return p.Method == method && Holds(until, p.At) })
}

// Voids reports whether an end of the session, or of one of its name before it, holds against what was authenticated at a moment.
func (s *Session) Voids(at time.Time) bool { return Holds(s.Ended, at) || Holds(s.VoidUntil, at) }

// End ends the session whole, for a reason: nothing that was shown or granted in it counts any more. It ends no earlier than it began, or
// than it was ended before.
func (s *Session) End(at time.Time, because string) {
	for _, least := range []time.Time{s.Started, s.Ended} {
		if at.Before(least) {
			at = least
		}
	}
	s.Apps, s.Proofs, s.Ended, s.Because = nil, nil, at, because
}

func (s *Session) row() Row {
	return Row{Key: Key{Sessions, s.ID}, Account: s.Account, Device: s.Device, Due: s.Next}
}

// Revoke takes back all that was authenticated until a moment. An earlier one than before changes nothing.
func (a *Account) Revoke(at time.Time, by Source) {
	at = at.UTC().Truncate(time.Microsecond)
	if at.After(a.Revoked) {
		a.Revoked = at
	}
	if by.IsAdministrator() && at.After(a.RevokedHere) {
		a.RevokedHere = at
	}
}

// VoidsProtected is Voids of an account for which no source counts but the book and administrators.
func (a *Account) VoidsProtected(at time.Time) bool {
	return a.Made.By.IsAdministrator() && a.Made.IsFormer(at) || Holds(a.RevokedHere, at)
}

// Voids reports whether what was authenticated at a moment counts no more: it was revoked, or a former bearer of the name did it.
func (a *Account) Voids(at time.Time) bool { return a.Made.IsFormer(at) || Holds(a.Revoked, at) }

// VoidUntil is until when what was authenticated counts no more, for either reason; zero where all counts.
func (a *Account) VoidUntil() time.Time {
	if a.Made.IsFirst || a.Revoked.After(a.Made.At) {
		return a.Revoked
	}
	return a.Made.At
}

// EndSID notes that all sessions of a sid were ended until a moment, of all issuers.
func (a *Account) EndSID(sid string, at time.Time) {
	a.EndedSIDs = slices.Clone(a.EndedSIDs)
	for i := range a.EndedSIDs {
		if e := &a.EndedSIDs[i]; e.SID == sid {
			if at.After(e.At) {
				e.At = at
			}
			return
		}
	}
	a.EndedSIDs = append(a.EndedSIDs, EndedSID{sid, at})
}

// SIDEnded is until when sessions of a sid were ended without their issuer; zero where they were not.
func (a *Account) SIDEnded(sid string) time.Time {
	for _, e := range a.EndedSIDs {
		if e.SID == sid {
			return e.At
		}
	}
	return time.Time{}
}

// Change notes that a credential was revoked or changed at a moment.
func (a *Account) Change(method string, at time.Time) {
	if !at.After(a.Changed[method]) {
		return
	}
	changed := maps.Clone(a.Changed)
	if changed == nil {
		changed = map[string]time.Time{}
	}
	changed[method] = at
	a.Changed = changed
}

// Holds reports whether an end or a revocation holds against what was authenticated at a moment, in whole seconds, as tokens state them.
// The zero end holds against nothing.
func Holds(end, at time.Time) bool {
	return !end.IsZero() && !at.Truncate(time.Second).After(end.Truncate(time.Second))
}

// Challenge is the newest challenge that a guard gave an account and a client for an app whose sessions are not shared.
type Challenge struct {
	// Whom is who was challenged, as ChallengeOf names it, and SID the session, "" where the token bears none.
	Whom string `json:"whom" doc:"who was challenged"`
	SID  string `json:"sid,omitzero" doc:"the session"`
	App  string `json:"app" doc:"the app"`
	// Authenticated is when the one authenticated who was challenged: another authentication has to follow.
	Authenticated time.Time `json:"authenticated" doc:"when the one was authenticated who was challenged"`
	// First and Last are when it was given: more often than every ten minutes.
	First time.Time `json:"first" doc:"when it was first given"`
	Last  time.Time `json:"last" doc:"when it was last given"`
	// Met is when the authentication was made that met it, zero until one does.
	Met time.Time `json:"met,omitzero" doc:"when the authentication was made that met it"`
}

func (c *Challenge) row() Row {
	return Row{Key: Key{Challenges, c.Whom + SIDPrefix(c.SID)}, Due: c.Last}
}

// ChallengeOf names who is challenged: an account at a client, by an issuer. The keys of all challenges of it begin with that.
func ChallengeOf(issuer, account, client string) string {
	return SIDPrefix(strings.Join([]string{issuer, account, client}, "\x00"))
}

// Meets reports whether an authentication, in whole seconds, meets the challenge: it followed it by at most so long, and is not the one
// that was challenged. Each challenge is met once.
func (c *Challenge) Meets(at time.Time, within time.Duration) bool {
	if !c.Met.IsZero() {
		return c.Met.Equal(at)
	}
	return at.After(c.Authenticated) && !at.Before(c.First.Truncate(time.Second)) && !at.After(c.Last.Add(within))
}

// Give notes that the challenge is given once more, at an app to one who authenticated at a moment. Given again for the same app within
// a time it goes on; else it begins again.
func (c *Challenge) Give(app string, authenticated, now time.Time, within time.Duration) {
	if c.App != app || !c.Met.IsZero() || now.Sub(c.Last) > within {
		*c = Challenge{Whom: c.Whom, SID: c.SID, App: app, First: now}
	}
	c.Last = now
	if authenticated.After(c.Authenticated) {
		c.Authenticated = authenticated
	}
}
