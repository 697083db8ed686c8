package door

import (
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
	// complete says that what the store has no record of did not happen.
	complete bool
}

func newFacts(s store.Store, c *Config) *facts {
	f := &facts{store: s, complete: c.Store.History == Complete}
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
	// accountLost, deviceLost and sessionLost say that nobody could find out.
	accountLost, deviceLost, sessionLost error
	// bookDevice is the book's own device of the attempt's, nil where it has none.
	bookDevice *directory.Device
	// supplied is the device as it is supplied, where there is one.
	supplied *directory.Device
}

type gatheringKey struct{}

// gatheringOf returns what was gathered for the decision of a context, nil where nothing was.
func gatheringOf(ctx context.Context) *gathering {
	g, _ := ctx.Value(gatheringKey{}).(*gathering)
	return g
}

// Account implements directory.Accounts: the record of the store, where it states anything that
// a directory knows. A decision that was not made by the door asks the store too.
func (f *facts) Account(ctx context.Context, name string) (directory.Account, error) {
	g := gatheringOf(ctx)
	if g == nil {
		g = new(gathering)
		if g.account, g.accountLost = f.accounts.get(ctx, f.store, name); g.accountLost != nil {
			g.account = remembered[store.Account]{}
		}
	}
	switch a := g.account.value; {
	case g.accountLost != nil:
		return directory.Account{}, g.accountLost
	case a == nil || !a.States():
		return directory.Account{}, directory.ErrNotFound
	default:
		return a.Entry(), nil
	}
}

// Device implements directory.Devices: the book's device with what it last reported to the door.
func (f *facts) Device(ctx context.Context, id string) (directory.Device, error) {
	g := gatheringOf(ctx)
	switch {
	case g == nil:
		return directory.Device{}, errors.New("devices are supplied to decisions of the door alone")
	case g.deviceLost != nil:
		return directory.Device{}, g.deviceLost
	case g.supplied == nil:
		return directory.Device{}, directory.ErrNotFound
	}
	return *g.supplied, nil
}

// gather reads what the store knows of an attempt's account, device and session.
func (f *facts) gather(ctx context.Context, b *inForce, a *attempt.Attempt, g *gathering) {
	g.account, g.accountLost = f.accounts.get(ctx, f.store, a.Account)
	if device := a.Device.Ref(); device != nil {
		if id, ok := device.ID.Get(); ok && id != "" {
			g.device, g.deviceLost = f.devices.get(ctx, f.store, id)
			g.bookDevice = b.devices[id]
			g.supplied = g.device.value.Supplied(g.bookDevice)
		}
	}
	if a.Session.ID != "" {
		g.session, g.sessionLost = f.sessions.get(ctx, f.store, a.Session.ID)
	}
}

// origins are where the facts of a decision came from, in the order in which they are told.
type origins []origin

type origin struct{ fact, from string }

func (o *origins) add(fact, from string) { *o = append(*o, origin{fact, from}) }

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
	switch record := g.account.value; {
	case g.accountLost != nil:
		from.add("account", fromUnavailable)
	case record != nil && record.States():
		from.add("account", fromStore)
	case b.lists(a.Account):
		from.add("account", fromBook)
	default:
		from.add("account", fromNobody)
	}
}

// fillPast fills in the sign-in before, failed sign-ins and accepted documents.
func (f *facts) fillPast(a *attempt.Attempt, g *gathering, from *origins) {
	record := g.account.value
	if record == nil {
		record = new(store.Account)
	}
	known := g.accountLost == nil
	// Of an account that came to be while the store looked on, it knows all.
	whole := known && (f.complete || !record.Since.IsZero())
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
	reported := g.bookDevice == nil && at != nil && d.Facts == nil && d.ReportedAt.IsUnknown()
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
	case g.bookDevice != nil:
		from.add("device", fromBook)
	default:
		from.add("device", fromNobody)
	}
	seen := slices.Contains(kept.SeenWith, a.Account)
	switch {
	case !d.Known.IsUnknown():
		from.add("device.known", fromAttempt)
	case g.deviceLost != nil:
		from.add("device.known", fromUnavailable)
	case g.bookDevice != nil:
		from.add("device.known", fromBook) // one of the book is known
	case seen || f.complete:
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
	a.Device = attempt.Known(d)
}

// hasEnded reports whether the attempt continues a session that was ended.
func (g *gathering) hasEnded(a *attempt.Attempt) bool {
	s := g.session.value
	return s != nil && s.Account == a.Account && !s.Ended.IsZero()
}

// degraded lists what a decision lacked because the store could not be asked.
func (g *gathering) degraded() []string {
	if g.accountLost == nil && g.deviceLost == nil && g.sessionLost == nil {
		return nil
	}
	var list []string
	for what, err := range map[string]error{"account": g.accountLost, "device": g.deviceLost, "session": g.sessionLost} {
		if err != nil {
			list = append(list, fmt.Sprintf("the store could not be asked about the %s", what))
		}
	}
	slices.Sort(list)
	return list
}

// appendJSON appends what the store knew of the account and the device of a decision, and where each
// of its facts came from, to an object.
func (g *gathering) appendJSON(text []byte, from origins) []byte {
	if g.account.value != nil && g.account.value.States() {
		text = append(jsontext.Key(text, "account"), g.account.text...)
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
