package replay

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// past is what a history knows of each account so far.
type past struct {
	judge    *engine.Judge
	zone     *time.Location
	accounts map[string]*accountPast
	// personDays counts for each account the days with attempts.
	personDays int64
	// day is the day of the last attempt, which begins at dayStart and ends before
	// dayEnd, in seconds since 1970.
	day, dayStart, dayEnd int64
}

type accountPast struct {
	lastDay int64
	// signedIn says that previous is the sign-in before, which came from address.
	signedIn bool
	previous attempt.Previous
	address  attempt.Fact[netip.Addr]
	devices  []string
	failures []time.Time
}

const (
	// mostDevices and mostFailures bound what is kept of one account.
	mostDevices  = 16
	mostFailures = 32
)

func newPast(judge *engine.Judge) *past {
	return &past{judge: judge, zone: judge.Directory().Zone, accounts: map[string]*accountPast{}}
}

// see notes an attempt, and fills in before what it lacks where fill is set. Of an
// account that was not seen before nothing is known: its history may have begun
// earlier.
func (p *past) see(a *attempt.Attempt, fill bool) {
	name := a.Account
	isListed := true
	if p.judge.Accounts() == nil {
		// Those that nobody knows share one past, which fills nothing in: they are
		// blocked whatever it says, and a sprayer can make up any number of them.
		if _, isListed = p.judge.Directory().Find(name); !isListed {
			name = ""
		}
	}
	known := p.accounts[name]
	if known == nil {
		known = &accountPast{lastDay: -1}
		p.accounts[name] = known
	} else if fill && isListed {
		known.fill(a)
	}
	if day := p.dayOf(a.At); day != known.lastDay {
		known.lastDay = day
		p.personDays++
	}
	known.note(p.judge, a)
}

// dayOf numbers the days of the calendar in the book's zone. Most attempts are made on
// the day of the one before, which is remembered.
func (p *past) dayOf(t time.Time) int64 {
	now := t.Unix()
	if now < p.dayStart || now >= p.dayEnd {
		local := t.In(p.zone)
		today := directory.DateOf(local)
		p.dayStart, p.dayEnd = today.Start(p.zone).Unix(), directory.DateOf(local.AddDate(0, 0, 1)).Start(p.zone).Unix()
		p.day = today.Start(time.UTC).Unix() / (24 * 60 * 60)
	}
	return p.day
}

func (k *accountPast) fill(a *attempt.Attempt) {
	if a.Previous.IsUnknown() && k.signedIn && !k.previous.At.After(a.At) {
		a.Previous = attempt.Known(k.previous)
	}
	if d := a.Device.Ref(); d != nil && d.Known.IsUnknown() {
		if id, ok := d.ID.Get(); ok && slices.Contains(k.devices, id) {
			d.Known = attempt.Known(true)
		}
	}
	if a.Failures.IsUnknown() {
		// What is there is never written over, so that the attempts can share it.
		before := k.failures[:len(k.failures):len(k.failures)]
		if slices.ContainsFunc(before, a.At.Before) {
			before = slices.DeleteFunc(slices.Clone(before), a.At.Before)
		}
		if len(before) == 0 {
			before = nil
		}
		a.Failures = attempt.Known(before)
	}
}

// note remembers an attempt. One with a failed proof is a failure; one in which
// something was proven, and nothing failed, is a sign-in.
func (k *accountPast) note(judge *engine.Judge, a *attempt.Attempt) {
	if len(a.Failed) > 0 {
		k.failures = append(k.failures, a.At)
		if len(k.failures) > mostFailures {
			k.failures = k.failures[1:]
		}
		return
	}
	if len(a.Proofs) == 0 || a.Action != attempt.SignIn {
		return
	}
	if !k.signedIn || !a.At.Before(k.previous.At) {
		k.moveTo(judge, a)
		k.signedIn, k.previous.At = true, a.At
	}
	if d := a.Device.Ref(); d != nil {
		if id, ok := d.ID.Get(); ok && !slices.Contains(k.devices, id) {
			k.devices = append(k.devices, id)
			if len(k.devices) > mostDevices {
				k.devices = k.devices[1:]
			}
		}
	}
}

// moveTo notes where an attempt comes from. Most come from where the one before did,
// which spares the look-up.
func (k *accountPast) moveTo(judge *engine.Judge, a *attempt.Attempt) {
	if k.signedIn && a.IP == k.address && !a.IP.IsUnknown() && a.Country.IsUnknown() && a.Location.IsUnknown() {
		return
	}
	found := judge.Whereabouts(context.Background(), a)
	k.previous.Country, k.previous.Location = a.Country, found.Location
	if found.Country != "" {
		k.previous.Country = attempt.Known(found.Country)
	}
	k.address = a.IP
	if !a.Country.IsUnknown() || !a.Location.IsUnknown() {
		k.address = attempt.Fact[netip.Addr]{} // it is where the attempt said, not where the address is
	}
}
