package door

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/store"
)

// facts are what a door knows beyond the book. It supplies accounts and devices to decisions.
type facts struct {
	store     store.Store
	accounts  *kept[store.Account]
	devices   *kept[store.Device]
	sessions  *kept[store.Session]
	following atomic.Bool
	// managed are the groups that feeds manage, and restored says whether the store was put back to an older copy.
	managed  whole[map[string]store.Source]
	restored whole[store.Restored]
	// suspended says that the store is in doubt, and sources are who states facts.
	suspended atomic.Bool
	sources   atomic.Pointer[[]source]
	// complete says that what the store has no record of did not happen.
	complete    bool
	emergencies *emergencies
	// sessionAtMost is how long what was authenticated counts.
	sessionAtMost time.Duration
}

func newFacts(s store.Store, c *Config) *facts {
	f := &facts{store: s, complete: c.Store.History == Complete,
		sessionAtMost: time.Duration(c.Limits.SessionAtMost)}
	f.accounts = newKept[store.Account](store.Accounts, c, &f.following)
	f.devices = newKept[store.Device](store.Devices, c, &f.following)
	f.sessions = newKept[store.Session](store.Sessions, c, &f.following)
	f.following.Store(!s.IsShared())
	return f
}

// forget drops what is remembered of rows that others changed.
func (f *facts) forget(keys []store.Key) {
	for _, key := range keys {
		switch key.Kind {
		case store.Accounts:
			f.accounts.forget(key.Key)
		case store.Devices:
			f.devices.forget(key.Key)
		case store.Sessions:
			f.sessions.forget(key.Key)
		case store.Groups:
			f.managed.forget()
		case store.Restorations:
			f.restored.forget()
		}
	}
}

// lost drops everything, and remembers nothing until found.
func (f *facts) lost() {
	f.following.Store(false)
	f.forgetAll()
}

func (f *facts) forgetAll() {
	f.accounts.forgetAll()
	f.devices.forgetAll()
	f.sessions.forgetAll()
	f.managed.forget()
	f.restored.forget()
}

func (f *facts) found() { f.following.Store(true) }

// Where a fact of a decision came from.
const (
	fromAttempt     = "attempt"
	fromStore       = "store"
	fromBook        = "book"
	fromNobody      = "nobody"
	fromUnavailable = "unavailable"
)

// gathering is what the store knows for one decision.
type gathering struct {
	account remembered[store.Account]
	device  remembered[store.Device]
	session remembered[store.Session]
	// restored is that of the store.
	restored store.Restored
	// protected says that no source counts of the account but the book and administrators, and stoodIn that what the door kept of it
	// stands in for what could not be read.
	protected, stoodIn bool
	// provenNow says that something was proven in this very attempt, at the moment of it.
	provenNow bool
	// authenticated is when the person last authenticated for the attempt, zero where that is not known.
	authenticated time.Time
	// accountLost, deviceLost and sessionLost say that nobody could find out.
	accountLost, deviceLost, sessionLost error
	// joined is the account as all sources say together, nil where nothing but the book does, and origins where its
	// facts are from.
	joined  *directory.Account
	origins []store.Origin
	// listedDevice is the attempt's device as the book or the program lists it, nil where neither does.
	listedDevice *directory.Device
	// supplied is the device as it is supplied, where there is one.
	supplied *directory.Device
}

// made is when the account was made anew.
func (g *gathering) made() *store.Making {
	if g.account.value == nil {
		return new(store.Making)
	}
	return &g.account.value.Made
}

type gatheringKey struct{}

// gatheringOf returns what was gathered for the decision of a context, nil where nothing was.
func gatheringOf(ctx context.Context) *gathering {
	g, _ := ctx.Value(gatheringKey{}).(*gathering)
	return g
}

// gather reads what the store knows of an attempt's account and device, and of a session, "" for none.
func (f *facts) gather(ctx context.Context, b *inForce, a *attempt.Attempt, session string, g *gathering) {
	f.gatherAccount(ctx, b, a.Account, a.At, g)
	if device := a.Device.Ref(); device != nil {
		if id, ok := device.ID.Get(); ok && id != "" {
			g.device, g.deviceLost = f.devices.get(ctx, f.store, id)
			if g.deviceLost == nil {
				g.listedDevice, g.deviceLost = b.supplier.listedDevice(ctx, id)
			}
			g.supplied = g.device.value.Supplied(g.listedDevice)
		}
	}
	if session != "" {
		g.session, g.sessionLost = f.sessions.get(ctx, f.store, session)
	}
	if g.protected {
		g.deviceLost = nil // its facts are unknown, and it is for the book to ask for them
	}
}

// gatherAccount reads what is known of an account, as seen at a moment.
func (f *facts) gatherAccount(ctx context.Context, b *inForce, account string, at time.Time, g *gathering) {
	g.account, g.accountLost = f.accounts.get(ctx, f.store, account)
	g.account.value = g.account.value.OrNone(account)
	if g.accountLost == nil {
		g.restored, g.accountLost = f.restoredAt(ctx)
	}
	if g.accountLost == nil {
		g.joined, g.origins, g.accountLost = b.supplier.join(ctx, g.account.value, at)
	}
	if listed := b.emergencyAccount(account); listed != nil {
		f.standIn(listed, g)
	}
}

// origins are where the facts of a decision came from, in the order in which they are told.
type origins []origin

type origin struct{ fact, from string }

// add notes where a fact came from; of several sources of one fact all are told.
func (o *origins) add(fact, from string) {
	if last := len(*o) - 1; last >= 0 && (*o)[last].fact == fact {
		(*o)[last].from += ", " + from
		return
	}
	*o = append(*o, origin{fact, from})
}

// complete fills in what the attempt leaves out and the store knows. What the attempt states
// stays, and what nobody knows stays unknown. The attempt that it returns shares what the other
// one holds.
func (f *facts) completed(b *inForce, stated *attempt.Attempt, g *gathering, from *origins) *attempt.Attempt {
	a := *stated
	f.tellAccount(b, &a, g, from)
	f.fillPast(&a, g, from)
	f.fillSession(b, &a, g, from)
	f.fillDevice(&a, g, from)
	return &a
}

func (f *facts) tellAccount(b *inForce, a *attempt.Attempt, g *gathering, from *origins) {
	switch {
	case g.accountLost != nil:
		from.add("account", fromUnavailable)
	case g.joined != nil && len(g.origins) > 0:
		from.add("account", fromStore)
		for _, o := range g.origins {
			from.add("account."+o.Fact, string(o.By))
		}
	case g.joined != nil, b.lists(a.Account):
		from.add("account", fromBook)
	default:
		from.add("account", fromNobody)
	}
}

// fillPast fills in the sign-in before, failed sign-ins and accepted documents.
func (f *facts) fillPast(a *attempt.Attempt, g *gathering, from *origins) {
	record := g.account.value
	known := g.accountLost == nil
	// Of an account that came to be while the store looked on, it knows all.
	whole := known && (f.complete || !record.Made.At.IsZero() || g.stoodIn)
	origin := func(fact string, stated, found bool) {
		switch {
		case stated:
			from.add(fact, fromAttempt)
		case !known:
			from.add(fact, fromUnavailable)
		case found:
			from.add(fact, fromStore)
		default:
			from.add(fact, fromNobody)
		}
	}
	stated := !a.Previous.IsUnknown()
	switch {
	case stated || !known:
	case record.Previous != nil:
		a.Previous = attempt.Known(*record.Previous)
	case whole:
		a.Previous = attempt.None[attempt.Previous]()
	}
	origin("previous", stated, !a.Previous.IsUnknown())

	stated = !a.Failures.IsUnknown()
	switch {
	case stated || !known:
	case len(record.Failures) > 0:
		a.Failures = attempt.Known(record.Failures)
	case whole || record.Previous != nil: // which was seen, so that failures after it were too
		a.Failures = attempt.None[[]time.Time]()
	}
	origin("failures", stated, !a.Failures.IsUnknown())

	if known {
		for _, x := range record.Accepted {
			if !slices.ContainsFunc(a.Accepted, func(y attempt.Acceptance) bool { return y.Document == x.Document }) {
				a.Accepted = append(slices.Clip(a.Accepted), x)
			}
		}
	}
	if len(a.Accepted) > 0 {
		origin("accepted", len(record.Accepted) == 0, true)
	}
}

// fillSession fills in what went before in the session, where the attempt only names it. What was authenticated at or before an end, a
// revocation or the change of a credential proves nothing, and what was proven for an app that the session lost since was proven for none.
func (f *facts) fillSession(b *inForce, a *attempt.Attempt, g *gathering, from *origins) {
	s := g.session.value
	switch {
	case a.Session.ID == "":
	case !a.Session.Started.IsZero() || a.Session.Proofs != nil:
		from.add("session", fromAttempt)
	case g.sessionLost != nil:
		from.add("session", fromUnavailable)
	case s == nil:
		from.add("session", fromNobody)
	default:
		a.Session.Started, a.Session.Proofs = s.Started, s.Proofs
		from.add("session", fromStore)
	}
	if g.authenticated.IsZero() {
		g.authenticated = authenticated(a)
	}
	oldest := a.At.Add(-f.sessionAtMost)
	isVoid := func(p *attempt.Proof, at time.Time) bool {
		return g.voids(at) || at.Before(oldest) || g.isChanged(p.Method, at)
	}
	a.Proofs = withoutProofs(a.Proofs, func(p *attempt.Proof) bool {
		if p.At.IsZero() { // it is made now, since the store was put back
			return g.revoked(a.At) || g.isChanged(p.Method, a.At)
		}
		return isVoid(p, p.At)
	})
	g.provenNow = slices.ContainsFunc(a.Proofs, func(p attempt.Proof) bool { return p.At.IsZero() })
	a.Session.Proofs = withoutProofs(a.Session.Proofs, func(p *attempt.Proof) bool {
		at := cmp.Or(p.At, a.Session.Started)
		if at.IsZero() { // when it was made nobody knows
			return g.holdsAny() || s != nil && s.Voids(at)
		}
		return isVoid(p, at) || s != nil && s.Voids(at)
	})
	started := a.Session.Started
	if !started.IsZero() && started.Before(g.authenticated) && (g.voids(started) || s != nil && s.Voids(started)) {
		a.Session.Started = g.authenticated // a new session of the same name
	}
	if _, ended, _ := g.grant(b, a); !ended.IsZero() {
		a.Session.Proofs = slices.Clone(a.Session.Proofs)
		for i := range a.Session.Proofs {
			if p := &a.Session.Proofs[i]; b.appNamed(p.App) == b.appNamed(a.App) && store.Holds(ended, p.At) {
				p.App = ""
			}
		}
	}
}

// grant returns what the session was granted at the app of an attempt, nil where it was not or that has ended; then also when, and why.
func (g *gathering) grant(b *inForce, a *attempt.Attempt) (goesOn *store.Granted, ended time.Time, because string) {
	if g.session.value == nil {
		return nil, ended, ""
	}
	found := g.session.value.Grant(b.appNamed(a.App))
	if found == nil {
		return nil, ended, ""
	}
	if ended, because = found.EndedBy(a.At); !ended.IsZero() {
		return nil, ended, because
	}
	return found, ended, ""
}

// authenticated returns when the person last authenticated for an attempt, zero where that is not known. It is never ahead of the attempt.
func authenticated(a *attempt.Attempt) time.Time {
	last := a.Session.Started
	note := func(at time.Time) {
		if at.After(last) && !attempt.IsLater(at, a.At) {
			last = at
		}
	}
	for i := range a.Session.Proofs {
		note(a.Session.Proofs[i].At)
	}
	for i := range a.Proofs {
		note(cmp.Or(a.Proofs[i].At, a.At))
	}
	if last.After(a.At) {
		return a.At
	}
	return last
}

// withoutProofs returns proofs without some, in a list of its own where there are such.
func withoutProofs(proofs []attempt.Proof, these func(*attempt.Proof) bool) []attempt.Proof {
	for i := range proofs {
		if these(&proofs[i]) {
			return slices.DeleteFunc(slices.Clone(proofs), func(p attempt.Proof) bool { return these(&p) })
		}
	}
	return proofs
}

// voids reports whether what was authenticated at a moment proves nothing any more: a former bearer of the name did it, it was revoked,
// or it was before the store was put back.
func (g *gathering) voids(at time.Time) bool {
	return g.revoked(at) || g.restored.Voids(at)
}

// revoked reports whether what was authenticated at a moment was revoked, or is a former bearer's.
func (g *gathering) revoked(at time.Time) bool {
	switch a := g.account.value; {
	case a == nil:
		return false
	case g.protected:
		return a.VoidsProtected(at)
	default:
		return a.Voids(at)
	}
}

// holdsAny reports whether anything of the account was ever taken back.
func (g *gathering) holdsAny() bool {
	return g.account.value != nil && (!g.account.value.VoidUntil().IsZero() || len(g.account.value.Changed) > 0) || !g.restored.At.IsZero()
}

// isChanged reports whether a credential was revoked or changed since it proved something, in another session than this.
func (g *gathering) isChanged(method string, at time.Time) bool {
	if g.account.value == nil {
		return false
	}
	changed := g.account.value.Changed[method]
	return store.Holds(changed, at) && (g.session.value == nil || g.session.value.Spared.Before(changed))
}

// fillDevice fills in whether the account was seen on the device before, and who is remembered
// on it.
func (f *facts) fillDevice(a *attempt.Attempt, g *gathering, from *origins) {
	stated := a.Device.Ref()
	if stated == nil {
		return
	}
	if id, ok := stated.ID.Get(); !ok || id == "" {
		return
	}
	d := *stated
	kept := g.device.value
	if kept == nil {
		kept = new(store.Device)
	}
	facts, at := kept.Reported()
	reported := g.listedDevice == nil && at != nil && d.Facts == nil && d.ReportedAt.IsUnknown()
	if reported {
		d.Facts, d.ReportedAt = facts, attempt.Known(*at)
		if d.Platform.IsUnknown() && kept.Platform != "" {
			d.Platform = attempt.Known(kept.Platform)
		}
	}
	switch {
	case g.supplied != nil || reported:
		from.add("device", fromStore)
	case g.deviceLost != nil:
		from.add("device", fromUnavailable)
	case g.listedDevice != nil:
		from.add("device", fromBook)
	default:
		from.add("device", fromNobody)
	}
	seen := kept.WasSeenWith(a.Account, g.made())
	switch {
	case !d.Known.IsUnknown():
		from.add("device.known", fromAttempt)
	case g.deviceLost != nil:
		from.add("device.known", fromUnavailable)
	case g.listedDevice != nil:
		from.add("device.known", fromBook) // one of the book is known
	case seen || f.complete || !g.made().At.IsZero():
		d.Known = attempt.Known(seen)
		from.add("device.known", fromStore)
	default:
		from.add("device.known", fromNobody)
	}
	switch {
	case d.Remembered != nil:
		from.add("device.remembered", fromAttempt)
	case g.deviceLost == nil && len(kept.Remembered) > 0:
		d.Remembered = kept.Remembered
		from.add("device.remembered", fromStore)
	}
	if slices.ContainsFunc(d.Remembered, g.isVoid) {
		d.Remembered = slices.DeleteFunc(slices.Clone(d.Remembered), g.isVoid)
	}
	a.Device = attempt.Known(d)
}

// isVoid reports whether what was remembered of the account counts no more, or is of a method that was revoked since.
func (g *gathering) isVoid(r attempt.Remembered) bool {
	record := g.account.value
	return r.Account == record.Name && (g.voids(r.At) || !record.RevokedAt(r.Method).Before(r.At))
}

// revokedSince is why a session ends in which everything was revoked.
const revokedSince = "what was proven in it was revoked since"

// Why an attempt may not go on in its session.
const (
	ofAFormer = "it is of somebody who bore the name before"
	tooOld    = "the sign-in is longer ago than a session may last"
	wasEnded  = "it was ended"
)

// ended returns why the attempt may not go on in its session, "" where it may: what was authenticated was ended since, is that of a former
// bearer of the name, or is too old. That holds of the session as a whole, or at the app alone.
func (f *facts) ended(b *inForce, a *attempt.Attempt, g *gathering) (because string, whole bool) {
	at, s := g.authenticated, g.session.value
	switch {
	case s != nil && s.Voids(at):
		return cmp.Or(s.Because, wasEnded), true
	case a.Session.ID != "" && g.account.value != nil && store.Holds(g.account.value.SIDEnded(a.Session.ID), at):
		return wasEnded, true
	case at.IsZero():
		return "", false
	case g.revoked(at) && g.made().IsFormer(at):
		return ofAFormer, true
	case g.revoked(at):
		return revokedSince, true
	case g.restored.Voids(at) && !g.provenNow:
		return putBack, true
	case at.Before(a.At.Add(-f.sessionAtMost)):
		return tooOld, true
	}
	if _, ended, why := g.grant(b, a); store.Holds(ended, at) {
		because = why
	}
	return because, false
}

// lapsed reports whether what a decision grants lasts no longer, counted from when the person authenticated.
func (g *gathering) lapsed(b *inForce, a *attempt.Attempt, lasts time.Duration) bool {
	at := g.restsOn(b, a)
	return lasts > 0 && !at.IsZero() && !a.At.Before(at.Add(lasts))
}

// restsOn is when the authentication was made that a grant of the attempt's app rests on: a later one than the attempt's own, where the
// session was granted the app on it.
func (g *gathering) restsOn(b *inForce, a *attempt.Attempt) time.Time {
	grant, _, _ := g.grant(b, a)
	if grant == nil {
		return g.authenticated
	}
	return latest(g.authenticated, grant.Authenticated)
}

// degraded lists what a decision lacked because the store could not be asked.
func (g *gathering) degraded() []string {
	if g.accountLost == nil && g.deviceLost == nil && g.sessionLost == nil && !g.stoodIn {
		return nil
	}
	var list []string
	if g.stoodIn {
		list = append(list, "the store could not be asked about the account, which is for emergencies: the book counts, and what the door "+
			"last read of it")
	}
	for what, err := range map[string]error{"account": g.accountLost, "device": g.deviceLost, "session": g.sessionLost} {
		var doubt *doubt
		switch {
		case errors.As(err, &doubt):
			list = append(list, doubt.why)
		case err != nil:
			list = append(list, fmt.Sprintf("the store could not be asked about the %s", what))
		}
	}
	slices.Sort(list)
	return list
}

// appendJSON appends what the store knew of the account and the device of a decision, and where each
// of its facts came from, to an object.
func (g *gathering) appendJSON(text []byte, from origins) []byte {
	if g.joined != nil {
		text = store.ShownOf(g.joined).AppendJSON(jsontext.Key(text, "account"))
	}
	if g.supplied != nil {
		text = append(jsontext.Key(text, "device"), g.device.text...)
	}
	text = append(jsontext.Key(text, "from"), '{')
	for _, o := range from {
		text = jsontext.String(append(jsontext.String(jsontext.Next(text), o.fact), ':'), o.from)
	}
	return append(text, '}')
}
