package engine

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// whereabouts is where an attempt comes from, as far as is known.
type whereabouts struct {
	country attempt.CountryCode
	state   countryState
	// address is to be looked up, where it is valid, once the country or the
	// location is asked for. lost is why nobody could look it up.
	address  netip.Addr
	location attempt.Fact[attempt.Location]
	lost     error
}

type countryState uint8

const (
	countryUnknown countryState = iota
	// countryStated is what the attempt says while its address is unknown: a
	// network may yet say otherwise.
	countryStated
	// countryTorn is that of an address in networks of equally narrow ranges that state different ones:
	// nothing else is asked.
	countryTorn
	countryKnown
)

// lookUpPlace finds where the attempt comes from.
func (e *evaluation) lookUpPlace() {
	e.Place = e.where.find(e.judge, e.Attempt)
	e.Address, _ = e.Attempt.IP.Get()
}

// find works out the address's networks, nil where it is not known, and the
// country: a network's own wins over the attempt's, which wins over a look-up. A
// code that is not assigned is no country.
func (w *whereabouts) find(j *Judge, a *attempt.Attempt) (place *Place) {
	*w = whereabouts{location: a.Location}
	ip, addressed := a.IP.Get()
	addressed = addressed && ip.IsValid()
	if addressed {
		place = j.directory.Place(ip)
	}
	stated, isStated := a.Country.Get()
	switch {
	case place != nil && place.Torn:
		w.state = countryTorn
	case place != nil && place.Country != "":
		w.country, w.state = place.Country, countryKnown
	case isStated && stated.IsAssigned() && place == nil:
		w.country, w.state = stated, countryStated
	case isStated && stated.IsAssigned():
		w.country, w.state = stated, countryKnown
	}
	if addressed && j.locator != nil && (w.state == countryUnknown || !isKnown(a.Location)) {
		w.address = directory.Plain(ip)
	}
	return place
}

// isKnown reports whether a fact has a value: one that is none is as good as
// missing.
func isKnown[T any](fact attempt.Fact[T]) bool {
	_, known := fact.Get()
	return known
}

// lookUp fills in what only the look-up of the address can tell.
func (w *whereabouts) lookUp(ctx context.Context, j *Judge) {
	if !w.address.IsValid() {
		return
	}
	var found directory.Whereabouts
	found, w.lost = j.locator.Locate(ctx, w.address)
	w.address = netip.Addr{}
	if w.lost != nil {
		return
	}
	if w.state == countryUnknown && found.Country.IsAssigned() {
		w.country, w.state = found.Country, countryKnown
	}
	if !isKnown(w.location) {
		w.location = found.Location
	}
}

// countryState returns what is known of the country, looking it up if need be.
func (e *evaluation) countryState() countryState {
	e.findPlace()
	if e.where.state == countryUnknown {
		e.where.lookUp(e.context, e.judge)
	}
	return e.where.state
}

// countryHolds answers a bound test on the country.
func (e *evaluation) countryHolds(t *condition.Test) condition.Truth {
	switch e.countryState() {
	case countryKnown:
		return CountryHolds(e.where.country, t)
	case countryStated:
		return e.judge.directory.countryMayHold(e.where.country, t)
	}
	return condition.Unknown
}

// countrySaw describes the country to a reader.
func (e *evaluation) countrySaw(t *condition.Test) string {
	switch e.countryState() {
	case countryKnown:
		return string(e.where.country)
	case countryStated:
		if e.judge.directory.countryMayHold(e.where.country, t) == condition.Unknown {
			return string(e.where.country) + " stated, without an address to bear it out (unknown)"
		}
		return string(e.where.country)
	}
	return ""
}

// score weighs the attempt, once.
func (e *evaluation) score() Score {
	if !e.weighed {
		e.weight = e.judge.model.weigh(e)
		e.weighed = true
	}
	return e.weight
}

func (e *evaluation) scoreReaches(bar int) condition.Truth {
	score := e.score()
	switch {
	case score.Low >= bar:
		return condition.True
	case score.High < bar:
		return condition.False
	}
	return condition.Unknown
}

// proved reports whether the session meets one of the assurances already. It looks
// at what was shown, not at whether sessions are shared.
func (e *evaluation) proved(t *condition.Test) condition.Truth {
	holds := condition.False
	for _, a := range t.Numbers() {
		all := condition.True
		for _, d := range e.judge.assurances[a].demands {
			all = min(all, e.shown(&e.judge.demands[d]))
		}
		holds = max(holds, all)
	}
	return holds
}

// shown reports whether a demand is met as it stands in the book.
func (e *evaluation) shown(d *demand) condition.Truth {
	if e.Profile == nil {
		return condition.False
	}
	switch d.kind {
	case decide.DemandMethod:
		if e.isShown(d, true) {
			return condition.True
		}
		return condition.FalseUnless(e.mayBeShown(d))
	case decide.DemandEnrol:
		switch {
		case d.methods&e.Profile.Enrolled() != 0:
			return condition.True
		case d.methods&e.Profile.PerhapsEnrolled() != 0:
			return condition.Unknown
		}
		return condition.False
	case decide.DemandPosture:
		return e.findDevice().passesPosture(&e.judge.directory.Postures[d.posture])
	case decide.DemandChangePassword:
		return condition.Of(e.passwordChanged())
	case decide.DemandAccept:
		return condition.Of(e.accepted(d))
	case decide.DemandConsent:
		if e.Attempt.Client.IsUnknown() {
			return condition.Unknown
		}
		return condition.Of(e.consented())
	case decide.DemandExternal:
		result, given := e.Attempt.External[d.name]
		return condition.Of(given && result == attempt.CheckPassed)
	}
	return condition.False
}

// location returns where the attempt comes from.
func (e *evaluation) location() attempt.Fact[attempt.Location] {
	e.findPlace()
	if !isKnown(e.where.location) {
		e.where.lookUp(e.context, e.judge)
	}
	return e.where.location
}

// comesFromOther reports whether the attempt comes from another country.
func (e *evaluation) comesFromOther(country attempt.CountryCode) condition.Truth {
	if !country.IsAssigned() {
		return condition.Unknown
	}
	switch e.countryState() {
	case countryKnown:
		return condition.Of(e.where.country != country)
	case countryStated:
		if e.judge.directory.MayStateOther(e.where.country, country) {
			return condition.Unknown
		}
		return condition.Of(e.where.country != country)
	}
	return condition.Unknown
}

// reported asks the risk engine, where there is one, of a signal that nothing else
// reports.
func (e *evaluation) reported(signal string) condition.Truth {
	if e.judge.reports == nil {
		return condition.False
	}
	reported, err := e.judge.reports.Signal(e.context, e.Attempt, signal)
	holds, known := reported.Get()
	if err != nil || !known {
		return condition.Unknown
	}
	return condition.Of(holds)
}

// sawRisk describes the score with the signals behind it.
func (e *evaluation) sawRisk(*condition.Test) string {
	score := e.score()
	text := fmt.Sprintf("score %d", score.Low)
	if score.High != score.Low {
		text += fmt.Sprintf(" to %d", score.High)
	}
	var names []string
	for i, holds := range e.signals {
		switch holds {
		case condition.True:
			names = append(names, e.judge.model.Signals[i].Name)
		case condition.Unknown:
			names = append(names, e.judge.model.Signals[i].Name+" unknown")
		}
	}
	if len(names) > 0 {
		text += " (" + strings.Join(names, ", ") + ")"
	}
	return text
}

// sawSignals reports which of the signals that a test asks for hold, or may.
func (e *evaluation) sawSignals(t *condition.Test) string {
	e.score()
	var names []string
	for _, n := range t.Numbers() {
		switch e.signals[n] {
		case condition.True:
			names = append(names, e.judge.model.Signals[n].Name)
		case condition.Unknown:
			names = append(names, e.judge.model.Signals[n].Name+" unknown")
		}
	}
	if len(names) == 0 {
		return "none of these"
	}
	return strings.Join(names, ", ")
}

// sawProofs names the methods that were proven, "" where it is not known what a test asks.
func (e *evaluation) sawProofs(t *condition.Test) string {
	if e.proved(t) == condition.Unknown {
		return ""
	}
	if len(e.gatherProofs()) == 0 {
		return "no proof"
	}
	var set MethodSet
	for _, p := range e.gatherProofs() {
		set = set.Add(p.method)
	}
	return strings.Join(e.judge.appendMethodNames(nil, set), ", ")
}
