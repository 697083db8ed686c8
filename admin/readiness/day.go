package readiness

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// day judges the ordinary sign-ons of a day: what somebody would be locked out of is
// decided, and not derived from what the policies say.
type day struct {
	judge *engine.Judge
	// eases are the assurances of the rollout, and proofs what they ask to be proven: the
	// methods that would do for each, fallbacks included.
	eases  []string
	proofs []engine.MethodSet
	// apps are those, by number, at which some policy may ask for one of them.
	apps []int
	// ordinary is what all attempts have in common, and places where they come from: an
	// own network, and elsewhere.
	ordinary attempt.Attempt
	places   []attempt.Fact[netip.Addr]
	// hours are the moments of the day.
	hours []time.Time
}

// hoursOfDay are those at which somebody signs on: in the night, and on a working day.
var hoursOfDay = []int{0, 9, 14, 21}

func newDay(judge *engine.Judge, r decide.Rollout, date directory.Date) *day {
	e := judge.Directory()
	d := &day{judge: judge, eases: r.Eases, ordinary: attempt.Attempt{
		Previous: attempt.None[attempt.Previous](), Failures: attempt.None[[]time.Time](), Client: attempt.None[attempt.ClientAsk](),
		Device: attempt.Known(engine.UnregisteredDevice()), External: map[string]attempt.CheckResult{},
	}}
	for _, a := range judge.Assurances() {
		if slices.Contains(r.Eases, a.Name) {
			for _, p := range a.Prove {
				preferred, fallback := judge.Methods(p.AnyOf, p.Traits, p.Fallback)
				d.proofs = append(d.proofs, preferred|fallback)
			}
		}
		if a.External != "" {
			d.ordinary.External[a.External] = attempt.CheckPassed
		}
	}
	for i := range e.Networks {
		if n := &e.Networks[i]; n.Ours && len(n.Ranges) > 0 {
			d.places = append(d.places, attempt.Known(n.Ranges[0].Sample()))
			if n.Country != "" && d.ordinary.Country.IsUnknown() {
				d.ordinary.Country = attempt.Known(attempt.CountryCode(n.Country))
			}
			break
		}
	}
	elsewhere := attempt.Fact[netip.Addr]{}
	if ip, ok := e.AddressElsewhere(); ok {
		elsewhere = attempt.Known(ip)
	}
	d.places = append(d.places, elsewhere)
	midnight := date.Start(e.Zone)
	for _, hour := range hoursOfDay {
		d.hours = append(d.hours, midnight.Add(time.Duration(hour)*time.Hour))
	}
	asks := make([]bool, len(e.Apps))
	for i, p := range judge.Policies() {
		if p.Stage != decide.Draft && slices.ContainsFunc(p.Rules, func(rule decide.Rule) bool { return d.isEased(rule.Then) }) {
			for _, app := range judge.Apps(i) {
				asks[app] = true
			}
		}
	}
	for app, is := range asks {
		if is || d.isEased(judge.Otherwise()) {
			d.apps = append(d.apps, app)
		}
	}
	return d
}

// isEased reports whether an outcome asks for an assurance that the rollout eases.
func (d *day) isEased(o decide.Outcome) bool {
	return slices.ContainsFunc(o.Require, func(q decide.Requirement) bool {
		return slices.ContainsFunc(q.OneOf, func(name string) bool { return slices.Contains(d.eases, name) })
	})
}

// lockedOut returns the app at which an account is asked for what it cannot show, whatever
// it proves of all that it has; "" where there is none. Away reports that it is so away
// from own networks only.
func (d *day) lockedOut(account int) (app string, away bool) {
	e := d.judge.Directory()
	profile := e.Profile(account)
	// Most have a method for all that is asked: of those nothing has to be judged.
	if !slices.ContainsFunc(d.proofs, func(methods engine.MethodSet) bool { return methods&profile.Enrolled() == 0 }) {
		return "", false
	}
	a := d.ordinary
	a.Account, a.Through = e.Accounts[account].Name, attempt.Known(attempt.Browser)
	if profile.Kind() == directory.Service {
		a.Through = attempt.Known(attempt.Unattended)
	}
	methods := d.judge.MethodNames(profile.Enrolled() | profile.PerhapsEnrolled())
	var brief engine.Brief
	for i, place := range d.places {
		a.IP = place
		for _, number := range d.apps {
			if !e.IsOpenTo(number, profile) {
				continue
			}
			a.App = e.Apps[number].Name
			for _, at := range d.hours {
				a.At, a.Proofs = at, a.Proofs[:0]
				for _, m := range methods {
					a.Proofs = append(a.Proofs, attempt.Proof{Method: m, At: at})
				}
				d.judge.Brief(context.Background(), &a, &brief)
				if brief.MustEnrol && d.cannotShow(d.judge.Outline(context.Background(), &a).Demands) {
					return a.App, i > 0
				}
			}
		}
	}
	return "", false
}

// cannotShow reports whether a method is to be enrolled first for something that the
// rollout eases.
func (d *day) cannotShow(demands []decide.Demand) bool {
	return slices.ContainsFunc(demands, func(demand decide.Demand) bool {
		switch {
		case demand.Met:
			return false
		case demand.Kind == decide.DemandEnrol:
			return slices.ContainsFunc(demand.From, func(s decide.Source) bool { return slices.Contains(d.eases, s.Assurance) })
		case demand.Kind == decide.DemandOneOf: // where no way is left
			blocked, eased := 0, false
			for _, way := range demand.Ways {
				isEnrol := func(inner decide.Demand) bool { return !inner.Met && inner.Kind == decide.DemandEnrol }
				if slices.ContainsFunc(way, isEnrol) {
					blocked++
				}
				eased = eased || d.cannotShow(way)
			}
			return eased && blocked == len(demand.Ways)
		}
		return false
	})
}
