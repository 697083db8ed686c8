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
	sources   []source
	// complete says that what the store has no record of did not happen.
	complete bool
}

func newFacts(s store.Store, c *Config) *facts {
	f := &facts{store: s, sources: c.sources(), complete: c.Store.History == Complete}
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

// gather reads what the store knows of an attempt's account, device and session.
func (f *facts) gather(ctx context.Context, b *inForce, a *attempt.Attempt, g *gathering) {
	g.account, g.accountLost = f.accounts.get(ctx, f.store, a.Account)
	g.account.value = g.account.value.OrNone(a.Account)
	if g.accountLost == nil {
		g.restored, g.accountLost = f.restoredAt(ctx)
	}
	if g.accountLost == nil {
		g.joined, g.origins, g.accountLost = b.supplier.join(ctx, g.account.value, a.At)
	}
	if device := a.Device.Ref(); device != nil {
		if id, ok := device.ID.Get(); ok && id != "" {
			g.device, g.deviceLost = f.devices.get(ctx, f.store, id)
			if g.deviceLost == nil {
				g.listedDevice, g.deviceLost = b.supplier.listedDevice(ctx, id)
			}
			g.supplied = g.device.value.Supplied(g.listedDevice)
		}
	}
	if a.Session.ID != "" {
		g.session, g.sessionLost = f.sessions.get(ctx, f.store, a.Session.ID)
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
	f.fillSession(&a, g, from)
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
	whole := known && (f.complete || !record.Made.At.IsZero())
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

// fillSession fills in what went before in the session, where the attempt only names it.
func (f *facts) fillSession(a *attempt.Attempt, g *gathering, from *origins) {
	switch s := g.session.value; {
	case a.Session.ID == "":
	case !a.Session.Started.IsZero() || a.Session.Proofs != nil:
		from.add("session", fromAttempt)
	case g.sessionLost != nil:
		from.add("session", fromUnavailable)
	case s == nil || s.Account != a.Account:
		from.add("session", fromNobody)
	default:
		a.Session.Started, a.Session.Proofs = s.Started, s.Proofs
		from.add("session", fromStore)
	}
	isVoid := func(p attempt.Proof) bool { return !p.At.IsZero() && g.voids(p.At) }
	s := g.session.value
	isOver := func(p attempt.Proof) bool { return isVoid(p) || s != nil && s.Account == a.Account && s.Voids(p.At) }
	a.Proofs, a.Session.Proofs = withoutProofs(a.Proofs, isVoid), withoutProofs(a.Session.Proofs, isOver)
}

// withoutProofs returns proofs without some, in a list of its own where there are such.
func withoutProofs(proofs []attempt.Proof, these func(attempt.Proof) bool) []attempt.Proof {
	if !slices.ContainsFunc(proofs, these) {
		return proofs
	}
	return slices.DeleteFunc(slices.Clone(proofs), these)
}

// voids reports whether what was authenticated at a moment proves nothing any more: a former bearer of the name did it, it was revoked,
// or it was before the store was put back.
func (g *gathering) voids(at time.Time) bool {
	return g.account.value != nil && g.account.value.Voids(at) || g.restored.Voids(at)
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

// ended returns why the attempt may not go on in its session: it was ended, or is that of a former bearer of the name. It
// is "" where it may.
func (g *gathering) ended(a *attempt.Attempt) string {
	s := g.session.value
	started := a.Session.Started
	if s != nil && s.Account == a.Account {
		if started.IsZero() {
			started = s.Started
		}
		if s.Voids(started) {
			return cmp.Or(s.Because, "it was ended")
		}
	}
	switch {
	case started.IsZero():
		return ""
	case g.made().IsFormer(started):
		return "it is of somebody who bore the name before"
	case g.account.value != nil && g.account.value.Voids(started):
		return revokedSince
	case g.restored.Voids(started):
		return putBack
	}
	return ""
}

// degraded lists what a decision lacked because the store could not be asked.
func (g *gathering) degraded() []string {
	if g.accountLost == nil && g.deviceLost == nil && g.sessionLost == nil {
		return nil
	}
	var list []string
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
