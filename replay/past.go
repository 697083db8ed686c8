package replay

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
)

// past is what a history knows of each account so far.
type past struct {
	judge    *decide.Judge
	zone     *time.Location
	accounts map[string]*accountPast
	// personDays counts for each account the days with attempts.
	personDays int64
}

type accountPast struct {
	lastDay  int64
	previous *attempt.Previous
	devices  []string
	failures []time.Time
}

const (
	// mostDevices and mostFailures bound what is kept of one account.
	mostDevices  = 16
	mostFailures = 32
)

func newPast(judge *decide.Judge) *past {
	return &past{judge: judge, zone: judge.Estate().Zone, accounts: map[string]*accountPast{}}
}

// see notes an attempt, and fills in before what it lacks where fill is set. Of an
// account that was not seen before nothing is known: its history may have begun
// earlier.
func (p *past) see(a *attempt.Attempt, fill bool) {
	known := p.accounts[a.Account]
	if known == nil {
		known = &accountPast{lastDay: -1}
		p.accounts[a.Account] = known
	} else if fill {
		known.fill(a)
	}
	if day := dayOf(a.At, p.zone); day != known.lastDay {
		known.lastDay = day
		p.personDays++
	}
	known.note(p.judge, a)
}

// dayOf numbers the days of the calendar in a zone.
func dayOf(t time.Time, zone *time.Location) int64 {
	const day = 24 * 60 * 60
	_, offset := t.In(zone).Zone()
	return (t.Unix() + int64(offset)) / day
}

func (k *accountPast) fill(a *attempt.Attempt) {
	if a.Previous.IsUnknown() && k.previous != nil && !k.previous.At.After(a.At) {
		a.Previous = attempt.Known(*k.previous)
	}
	if d, ok := a.Device.Get(); ok && d.Known.IsUnknown() {
		if id, ok := d.ID.Get(); ok && slices.Contains(k.devices, id) {
			d.Known = attempt.Known(true)
			a.Device = attempt.Known(d)
		}
	}
	if a.Failures.IsUnknown() {
		before := make([]time.Time, 0, len(k.failures))
		for _, t := range k.failures {
			if !t.After(a.At) {
				before = append(before, t)
			}
		}
		a.Failures = attempt.Known(before)
	}
}

// note remembers an attempt. One with a failed proof is a failure; one in which
// something was proven, and nothing failed, is a sign-in.
func (k *accountPast) note(judge *decide.Judge, a *attempt.Attempt) {
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
	if k.previous == nil || !a.At.Before(k.previous.At) {
		country, location := judge.Whereabouts(a)
		if country.IsUnknown() {
			country = a.Country
		}
		k.previous = &attempt.Previous{At: a.At, Country: country, Location: location}
	}
	if d, ok := a.Device.Get(); ok {
		if id, ok := d.ID.Get(); ok && !slices.Contains(k.devices, id) {
			k.devices = append(k.devices, id)
			if len(k.devices) > mostDevices {
				k.devices = k.devices[1:]
			}
		}
	}
}
