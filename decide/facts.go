package decide

import (
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
	// location is asked for.
	address  netip.Addr
	location attempt.Fact[attempt.Location]
}

type countryState uint8

const (
	countryUnknown countryState = iota
	// countryStated is what the attempt says while its address is unknown: a
	// network may yet say otherwise.
	countryStated
	countryKnown
	countryNone
)

// find works out the address's networks and the country: a network's own wins
// over the attempt's, which wins over a look-up.
func (w *whereabouts) find(j *Judge, a *attempt.Attempt) {
	w.place, w.country, w.state, w.address, w.location = nil, "", countryUnknown, netip.Addr{}, a.Location
	ip, addressed := a.IP.Get()
	if !a.IP.IsUnknown() {
		if !addressed {
			ip = netip.Addr{} // no address lies nowhere
		}
		w.place = j.directory.Place(ip)
	}
	stated, isStated := a.Country.Get()
	switch {
	case w.place != nil && w.place.Country != "":
		w.country, w.state = w.place.Country, countryKnown
	case isStated && w.place == nil:
		w.country, w.state = stated, countryStated
	case isStated:
		w.country, w.state = stated, countryKnown
	case a.Country.IsNone() && w.place != nil:
		w.state = countryNone
	}
	if addressed && j.locator != nil && (w.state == countryUnknown || a.Location.IsUnknown()) {
		w.address = ip.Unmap()
	}
}

// lookUp fills in what only the look-up of the address can tell.
func (w *whereabouts) lookUp(j *Judge) {
	if !w.address.IsValid() {
		return
	}
	country, location := j.locator.Locate(w.address)
	w.address = netip.Addr{}
	if w.state == countryUnknown && country != "" {
		w.country, w.state = country, countryKnown
	}
	if w.location.IsUnknown() {
		w.location = location
	}
}

// countryState returns what is known of the country, looking it up if need be.
func (s *sitting) countryState() countryState {
	if s.where.state == countryUnknown {
		s.where.lookUp(s.judge)
	}
	return s.where.state
}

// countryHolds answers a bound test on the country.
func (s *sitting) countryHolds(t *condition.Test) condition.Truth {
	switch s.countryState() {
	case countryKnown:
		return directory.CountryHolds(s.where.country, t)
	case countryNone:
		return condition.False
	case countryStated:
		return s.judge.directory.CountryMayHold(s.where.country, t)
	}
	return condition.Unknown
}

// Holds implements condition.Facts.
func (s *sitting) Holds(t *condition.Test) condition.Truth {
	e := s.judge.directory
	switch t.About() {
	case condition.AboutAccount:
		if s.account < 0 {
			return condition.False
		}
		return e.AccountHolds(s.account, s.moment, t)
	case condition.AboutApp:
		if s.app < 0 {
			return condition.False
		}
		return e.AppHolds(s.app, t)
	}
	switch t.Key {
	case condition.Networks, condition.OurNetwork:
		if s.where.place == nil {
			return condition.Unknown
		}
		return e.PlaceHolds(s.where.place, t)
	case condition.Countries:
		return s.countryHolds(t)
	case condition.During:
		for _, w := range t.Numbers() {
			if e.InWindow(int(w), s.moment) {
				return condition.True
			}
		}
		return condition.False
	case condition.Through:
		if through, ok := s.attempt.Through.Get(); ok {
			return directory.NumberHolds(int32(through), t)
		}
		return condition.FalseUnless(s.attempt.Through.IsUnknown())
	case condition.Actions:
		return directory.NumberHolds(int32(s.attempt.Action), t)
	case condition.Platforms, condition.Device, condition.DeviceTags, condition.Posture:
		return e.DeviceHolds(&s.device, s.attempt.Account, s.attempt.At, t)
	case condition.Signals:
		s.score()
		holds := condition.False
		for _, n := range t.Numbers() {
			holds = max(holds, s.signals[n])
		}
		return holds
	case condition.RiskAtLeast:
		return s.scoreReaches(s.judge.model.Levels.From(directory.Level(t.Limit())))
	case condition.ScoreAtLeast:
		return s.scoreReaches(int(t.Limit()))
	case condition.Proved:
		return s.proved(t)
	}
	return condition.Unknown
}

// score weighs the attempt, once.
func (s *sitting) score() risk.Score {
	if !s.weighed {
		s.weight = s.judge.model.Weigh(s, s.signals)
		s.weighed = true
	}
	return s.weight
}

func (s *sitting) scoreReaches(bar int) condition.Truth {
	score := s.score()
	switch {
	case score.Low >= bar:
		return condition.True
	case score.High < bar:
		return condition.False
	}
	return condition.Unknown
}

// proved tells whether the session meets one of the assurances already. It looks
// at what was shown, not at whether sessions are shared.
func (s *sitting) proved(t *condition.Test) condition.Truth {
	unshared := s.limits.unshared
	s.limits.unshared = false
	holds := condition.False
	for _, a := range t.Numbers() {
		all := condition.True
		for _, d := range s.judge.assurances[a].demands {
			all = min(all, s.shown(&s.judge.demands[d]))
		}
		holds = max(holds, all)
	}
	s.limits.unshared = unshared
	return holds
}

// shown tells whether a demand is met as it stands in the book.
func (s *sitting) shown(d *demand) condition.Truth {
	if s.account < 0 {
		return condition.False
	}
	switch d.kind {
	case methodDemand:
		return condition.Of(s.isMet(d))
	case enrolDemand:
		return condition.Of(d.methods&s.judge.directory.Enrolled(s.account) != 0)
	case postureDemand:
		return s.device.PassesPosture(&s.judge.directory.Postures[d.posture], s.attempt.At)
	case passwordDemand:
		return condition.Of(s.passwordChanged())
	case acceptDemand:
		return condition.Of(s.accepted(d))
	case consentDemand:
		if s.attempt.Client.IsUnknown() {
			return condition.Unknown
		}
		return condition.Of(s.consented())
	case externalDemand:
		result, given := s.attempt.External[d.name]
		return condition.Of(given && result == attempt.CheckPassed)
	}
	return condition.False
}

// The methods below implement risk.Evidence.

// Attempt returns the attempt.
func (s *sitting) Attempt() *attempt.Attempt { return s.attempt }

// Location returns where the attempt comes from.
func (s *sitting) Location() attempt.Fact[attempt.Location] {
	if s.where.location.IsUnknown() {
		s.where.lookUp(s.judge)
	}
	return s.where.location
}

// ComesFromOther tells whether the attempt comes from another country.
func (s *sitting) ComesFromOther(country attempt.CountryCode) condition.Truth {
	switch s.countryState() {
	case countryKnown:
		return condition.Of(s.where.country != country)
	case countryNone:
		return condition.False
	case countryStated:
		if s.judge.directory.MayStateOther(s.where.country, country) {
			return condition.Unknown
		}
		return condition.Of(s.where.country != country)
	}
	return condition.Unknown
}

// Anonymous tells whether the address hides where the attempt comes from.
func (s *sitting) Anonymous() condition.Truth {
	if s.where.place == nil {
		return condition.Unknown
	}
	return condition.Of(s.where.place.Anonymous)
}

// DeviceKnown tells whether the device was seen before.
func (s *sitting) DeviceKnown() condition.Truth { return s.device.Known() }

// Saw implements condition.Witness.
func (s *sitting) Saw(t *condition.Test) string {
	e := s.judge.directory
	switch t.Key.About() {
	case condition.AboutAccount:
		return e.SawAccount(s.account, t)
	case condition.AboutApp:
		return e.SawApp(s.app, t)
	}
	switch t.Key {
	case condition.Networks, condition.OurNetwork:
		return s.sawPlace()
	case condition.Countries:
		switch s.countryState() {
		case countryKnown:
			return string(s.where.country)
		case countryStated:
			if e.CountryMayHold(s.where.country, t) == condition.Unknown {
				return string(s.where.country) + " stated, without an address to bear it out (unknown)"
			}
			return string(s.where.country)
		case countryNone:
			return "no country"
		}
		return ""
	case condition.During:
		return s.moment.In(e.Zone).Format("Mon 2006-01-02 15:04 MST")
	case condition.Through:
		if through, ok := s.attempt.Through.Get(); ok {
			return through.String()
		}
		if s.attempt.Through.IsNone() {
			return "nothing"
		}
		return ""
	case condition.Actions:
		return s.attempt.Action.String()
	case condition.Platforms, condition.Device, condition.DeviceTags, condition.Posture:
		return e.SawDevice(&s.device, s.attempt.Account, s.attempt.At, t)
	case condition.Signals:
		return s.sawSignals(t)
	case condition.RiskAtLeast, condition.ScoreAtLeast:
		return s.sawRisk()
	case condition.Proved:
		return s.sawProofs()
	}
	return ""
}

func (s *sitting) sawPlace() string {
	ip, ok := s.attempt.IP.Get()
	switch {
	case s.where.place == nil:
		return ""
	case !ok:
		return "no address"
	}
	names := "no network"
	if known := s.judge.directory.NetworkNames(s.where.place); len(known) > 0 {
		names = strings.Join(known, ", ")
	}
	return fmt.Sprintf("%s (in %s)", ip.Unmap(), names)
}

// sawRisk describes the score with the signals behind it.
func (s *sitting) sawRisk() string {
	score := s.score()
	text := fmt.Sprintf("score %d", score.Low)
	if score.High != score.Low {
		text += fmt.Sprintf(" to %d", score.High)
	}
	var names []string
	for i, holds := range s.signals {
		switch holds {
		case condition.True:
			names = append(names, s.judge.model.Signals[i].Name)
		case condition.Unknown:
			names = append(names, s.judge.model.Signals[i].Name+" unknown")
		}
	}
	if len(names) > 0 {
		text += " (" + strings.Join(names, ", ") + ")"
	}
	return text
}

// sawSignals tells which of the signals that a test asks for hold, or may.
func (s *sitting) sawSignals(t *condition.Test) string {
	s.score()
	var names []string
	for _, n := range t.Numbers() {
		switch s.signals[n] {
		case condition.True:
			names = append(names, s.judge.model.Signals[n].Name)
		case condition.Unknown:
			names = append(names, s.judge.model.Signals[n].Name+" unknown")
		}
	}
	if len(names) == 0 {
		return "none of these"
	}
	return strings.Join(names, ", ")
}

func (s *sitting) sawProofs() string {
	if len(s.proofs) == 0 {
		return "no proof"
	}
	var set directory.MethodSet
	for _, p := range s.proofs {
		set = set.Add(p.method)
	}
	return strings.Join(s.judge.MethodNames(set), ", ")
}
