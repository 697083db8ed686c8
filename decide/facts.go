package decide

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// whereabouts is where an attempt comes from, as far as is known.
type whereabouts struct {
	// place is nil while the address is unknown.
	place   *directory.Place
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
	countryKnown
)

// find works out the address's networks and the country: a network's own wins
// over the attempt's, which wins over a look-up. A code that is not assigned is no
// country.
func (w *whereabouts) find(j *Judge, a *attempt.Attempt) {
	*w = whereabouts{location: a.Location}
	ip, addressed := a.IP.Get()
	addressed = addressed && ip.IsValid()
	if addressed {
		w.place = j.directory.Place(ip)
	}
	stated, isStated := a.Country.Get()
	switch {
	case w.place != nil && w.place.Country != "":
		w.country, w.state = w.place.Country, countryKnown
	case isStated && stated.IsAssigned() && w.place == nil:
		w.country, w.state = stated, countryStated
	case isStated && stated.IsAssigned():
		w.country, w.state = stated, countryKnown
	}
	if addressed && j.locator != nil && (w.state == countryUnknown || !isKnown(a.Location)) {
		w.address = directory.Plain(ip)
	}
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
	if e.where.state == countryUnknown {
		e.where.lookUp(e.context, e.judge)
	}
	return e.where.state
}

// countryHolds answers a bound test on the country.
func (e *evaluation) countryHolds(t *condition.Test) condition.Truth {
	switch e.countryState() {
	case countryKnown:
		return directory.CountryHolds(e.where.country, t)
	case countryStated:
		return e.judge.directory.CountryMayHold(e.where.country, t)
	}
	return condition.Unknown
}

// Holds implements condition.Facts.
func (e *evaluation) Holds(t *condition.Test) condition.Truth {
	d := e.judge.directory
	switch t.About() {
	case condition.AboutAccount:
		if e.profile == nil {
			return condition.False
		}
		return e.profile.Holds(t, e.moment, e.attempt.At)
	case condition.AboutApp:
		if e.app < 0 {
			return condition.False
		}
		return d.AppHolds(e.app, t)
	}
	switch t.Key {
	case condition.Networks, condition.OurNetwork:
		if e.where.place == nil {
			return condition.Unknown
		}
		return d.PlaceHolds(e.where.place, t)
	case condition.Countries:
		return e.countryHolds(t)
	case condition.During:
		for _, w := range t.Numbers() {
			if d.InWindow(int(w), e.moment) {
				return condition.True
			}
		}
		return condition.False
	case condition.Through:
		if through, ok := e.attempt.Through.Get(); ok {
			return directory.NumberHolds(int32(through), t)
		}
		return condition.Unknown
	case condition.Actions:
		return directory.NumberHolds(int32(e.attempt.Action), t)
	case condition.Platforms, condition.Device, condition.DeviceTags, condition.Posture:
		return d.DeviceHolds(&e.device, e.attempt.Account, t)
	case condition.Signals:
		e.score()
		holds := condition.False
		for _, n := range t.Numbers() {
			holds = max(holds, e.signals[n])
		}
		return holds
	case condition.RiskAtLeast:
		return e.scoreReaches(e.judge.model.Levels.From(directory.Level(t.Limit())))
	case condition.ScoreAtLeast:
		return e.scoreReaches(int(t.Limit()))
	case condition.Proved:
		return e.proved(t)
	}
	return condition.Unknown
}

// score weighs the attempt, once.
func (e *evaluation) score() risk.Score {
	if !e.weighed {
		e.weight = e.judge.model.Weigh(e, e.signals)
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
	if e.profile == nil {
		return condition.False
	}
	switch d.kind {
	case methodDemand:
		return condition.Of(e.isShown(d, true))
	case enrolDemand:
		switch {
		case d.methods&e.profile.Enrolled() != 0:
			return condition.True
		case d.methods&e.profile.PerhapsEnrolled() != 0:
			return condition.Unknown
		}
		return condition.False
	case postureDemand:
		return e.device.PassesPosture(&e.judge.directory.Postures[d.posture])
	case passwordDemand:
		return condition.Of(e.passwordChanged())
	case acceptDemand:
		return condition.Of(e.accepted(d))
	case consentDemand:
		if e.attempt.Client.IsUnknown() {
			return condition.Unknown
		}
		return condition.Of(e.consented())
	case externalDemand:
		result, given := e.attempt.External[d.name]
		return condition.Of(given && result == attempt.CheckPassed)
	}
	return condition.False
}

// The methods below implement risk.Evidence.

// Attempt returns the attempt.
func (e *evaluation) Attempt() *attempt.Attempt { return e.attempt }

// Location returns where the attempt comes from.
func (e *evaluation) Location() attempt.Fact[attempt.Location] {
	if !isKnown(e.where.location) {
		e.where.lookUp(e.context, e.judge)
	}
	return e.where.location
}

// ComesFromOther reports whether the attempt comes from another country.
func (e *evaluation) ComesFromOther(country attempt.CountryCode) condition.Truth {
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

// Reported asks the risk engine, where there is one, of a signal that nothing else
// tells of.
func (e *evaluation) Reported(signal string) condition.Truth {
	if e.judge.reports == nil {
		return condition.False
	}
	holds, err := e.judge.reports.Signal(e.context, e.attempt, signal)
	if err != nil || holds != condition.True && holds != condition.False {
		return condition.Unknown
	}
	return holds
}

// Anonymous reports whether the address hides where the attempt comes from.
func (e *evaluation) Anonymous() condition.Truth {
	if e.where.place == nil {
		return condition.Unknown
	}
	return condition.Of(e.where.place.Anonymous)
}

// DeviceKnown reports whether the device was seen before.
func (e *evaluation) DeviceKnown() condition.Truth { return e.device.Known() }

// Saw implements condition.Witness.
func (e *evaluation) Saw(t *condition.Test) string {
	d := e.judge.directory
	switch t.Key.About() {
	case condition.AboutAccount:
		return e.profile.Saw(t, e.attempt.At)
	case condition.AboutApp:
		return d.SawApp(e.app, t)
	}
	switch t.Key {
	case condition.Networks, condition.OurNetwork:
		return e.sawPlace()
	case condition.Countries:
		switch e.countryState() {
		case countryKnown:
			return string(e.where.country)
		case countryStated:
			if d.CountryMayHold(e.where.country, t) == condition.Unknown {
				return string(e.where.country) + " stated, without an address to bear it out (unknown)"
			}
			return string(e.where.country)
		}
		return ""
	case condition.During:
		return e.moment.In(d.Zone).Format("Mon 2006-01-02 15:04 MST")
	case condition.Through:
		if through, ok := e.attempt.Through.Get(); ok {
			return through.String()
		}
		return ""
	case condition.Actions:
		return e.attempt.Action.String()
	case condition.Platforms, condition.Device, condition.DeviceTags, condition.Posture:
		return d.SawDevice(&e.device, e.attempt.Account, t)
	case condition.Signals:
		return e.sawSignals(t)
	case condition.RiskAtLeast, condition.ScoreAtLeast:
		return e.sawRisk()
	case condition.Proved:
		return e.sawProofs()
	}
	return ""
}

func (e *evaluation) sawPlace() string {
	ip, _ := e.attempt.IP.Get()
	if e.where.place == nil {
		return ""
	}
	names := "no network"
	if known := e.judge.directory.NetworkNames(e.where.place); len(known) > 0 {
		names = strings.Join(known, ", ")
	}
	return fmt.Sprintf("%s (in %s)", directory.Plain(ip), names)
}

// sawRisk describes the score with the signals behind it.
func (e *evaluation) sawRisk() string {
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

// sawSignals tells which of the signals that a test asks for hold, or may.
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

func (e *evaluation) sawProofs() string {
	if len(e.proofs) == 0 {
		return "no proof"
	}
	var set directory.MethodSet
	for _, p := range e.proofs {
		set = set.Add(p.method)
	}
	return strings.Join(e.judge.MethodNames(set), ", ")
}
