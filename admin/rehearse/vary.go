package rehearse

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Grid is one attempt under varied circumstances.
type Grid struct {
	Axes []Axis `json:"axes" doc:"what is varied"`
	// Verdicts are in the order of the axes, the values of the last one changing
	// fastest.
	Verdicts []decide.Verdict `json:"verdicts" doc:"a verdict for each combination of values, those of the last axis changing fastest"`
}

// Axis is a circumstance with the values that it takes on.
type Axis struct {
	Name   string   `json:"name" doc:"the circumstance"`
	Values []string `json:"values" doc:"its values"`
}

// Circumstances returns the names of what can be varied.
func Circumstances() []string {
	return []string{"network", "country", "hour", "day", "device", "risk", "through", "action", "proved"}
}

// mostCells bounds a grid.
const mostCells = 100_000

// Vary judges the attempt under each combination of values of the named
// circumstances. The error says which name is none, or that there are too many
// combinations.
func Vary(judge *engine.Judge, a *attempt.Attempt, names []string) (*Grid, error) {
	g := &Grid{Verdicts: []decide.Verdict{}}
	var axes [][]candidate
	cells := 1
	for _, name := range names {
		if slices.ContainsFunc(g.Axes, func(x Axis) bool { return x.Name == name }) {
			return nil, fmt.Errorf("%s stands twice", name)
		}
		values, err := valuesOf(judge, a, name)
		if err != nil {
			return nil, err
		}
		if name != "hour" && name != "day" && name != "action" { // which have every value
			values = withOwn(a, values)
		}
		axis := Axis{Name: name}
		for _, v := range values {
			axis.Values = append(axis.Values, v.words)
		}
		g.Axes = append(g.Axes, axis)
		axes = append(axes, values)
		if cells *= len(values); cells > mostCells {
			return nil, fmt.Errorf(
				"%s make more than %d combinations; vary fewer circumstances at once",
				strings.Join(names, ", "),
				mostCells,
			)
		}
	}
	for cell := range cells {
		changed := *a
		rest := cells
		var last *candidate
		for i, values := range axes {
			rest /= len(values)
			value := &values[cell/rest%len(values)]
			if g.Axes[i].Name == "risk" {
				last = value // what brings a level about depends on the place
				continue
			}
			value.set(&changed)
		}
		if last != nil {
			last.set(&changed)
		}
		g.Verdicts = append(g.Verdicts, judge.Verdict(context.Background(), &changed))
	}
	return g, nil
}

// AsGiven is the value of a circumstance that the attempt itself has, where no other value
// of the axis is the same.
const AsGiven = "as given"

// withOwn puts the attempt's own value before the others, where it is none of them.
func withOwn(a *attempt.Attempt, values []candidate) []candidate {
	for _, v := range values {
		changed := *a
		if v.set(&changed); reflect.DeepEqual(&changed, a) {
			return values
		}
	}
	return slices.Insert(slices.Clone(values), 0, candidate{AsGiven, func(*attempt.Attempt) {}})
}

func valuesOf(judge *engine.Judge, a *attempt.Attempt, name string) ([]candidate, error) {
	switch name {
	case "network":
		return addresses(judge), nil
	case "country":
		return countries(judge), nil
	case "hour":
		return hours(judge, a), nil
	case "day":
		return days(judge, a), nil
	case "device":
		return devices(judge), nil
	case "risk":
		return levels(judge, a), nil
	case "through":
		return throughs(), nil
	case "action":
		return actions(), nil
	case "proved":
		return proofs(judge, a), nil
	}
	return nil, fmt.Errorf("%q is nothing to vary%s", name, nearest.DidYouMean(name, Circumstances()))
}

// shift moves an attempt in time, with its proofs, the report of its device and what
// went before, so that their ages stay as they are.
func shift(e *engine.Directory, a *attempt.Attempt, by time.Duration) {
	moved := func(t time.Time) time.Time {
		if t.IsZero() {
			return t
		}
		return t.Add(by)
	}
	proofs := func(list []attempt.Proof) []attempt.Proof {
		list = slices.Clone(list)
		for i := range list {
			list[i].At = moved(list[i].At)
		}
		return list
	}
	a.At, a.Session.Started = moved(a.At), moved(a.Session.Started)
	a.Proofs, a.Session.Proofs = proofs(a.Proofs), proofs(a.Session.Proofs)
	if reported, ok := e.LastReport(a); ok {
		e.LetReport(a, moved(reported))
	}
	if p, ok := a.Previous.Get(); ok {
		p.At = moved(p.At)
		a.Previous = attempt.Known(p)
	}
	if times, ok := a.Failures.Get(); ok {
		times = slices.Clone(times)
		for i := range times {
			times[i] = moved(times[i])
		}
		a.Failures = attempt.Known(times)
	}
}

// at moves an attempt to a moment.
func at(e *engine.Directory, words string, from, to time.Time) candidate {
	return candidate{words, func(a *attempt.Attempt) { shift(e, a, to.Sub(from)) }}
}

// hours returns the hours of the day of the attempt, in the book's zone.
func hours(judge *engine.Judge, a *attempt.Attempt) []candidate {
	local := a.At.In(judge.Directory().Zone)
	var found []candidate
	for h := range 24 {
		to := time.Date(local.Year(), local.Month(), local.Day(), h, local.Minute(), local.Second(), 0, local.Location())
		found = append(found, at(judge.Directory(), fmt.Sprintf("%02d", h), a.At, to))
	}
	return found
}

// days returns the week that begins with the day of the attempt.
func days(judge *engine.Judge, a *attempt.Attempt) []candidate {
	local := a.At.In(judge.Directory().Zone)
	var found []candidate
	for d := range 7 {
		to := local.AddDate(0, 0, d)
		found = append(found, at(judge.Directory(), strings.ToLower(to.Format("Mon")), a.At, to))
	}
	return found
}

func actions() []candidate {
	var found []candidate
	for i, word := range attempt.Actions() {
		found = append(found, candidate{word, func(a *attempt.Attempt) { a.Action = attempt.Action(i) }})
	}
	return found
}

// proofs returns nothing, each method that the account has enrolled, and all of
// them, just proven in place of what the attempt says.
func proofs(judge *engine.Judge, a *attempt.Attempt) []candidate {
	enrolled := enrolledBy(judge, a)
	proving := func(words string, methods ...string) candidate {
		return candidate{words, func(a *attempt.Attempt) {
			a.Proofs, a.Session.Proofs = nil, nil
			for _, m := range methods {
				a.Proofs = append(a.Proofs, attempt.Proof{Method: m, At: a.At})
			}
		}}
	}
	found := []candidate{proving("nothing")}
	for _, m := range enrolled {
		found = append(found, proving(m, m))
	}
	if len(enrolled) > 1 {
		found = append(found, proving(strings.Join(enrolled, "+"), enrolled...))
	}
	return found
}

func enrolledBy(judge *engine.Judge, a *attempt.Attempt) []string {
	n, ok := judge.Directory().FindAccount(a.Account)
	if !ok {
		return nil
	}
	return judge.MethodNames(judge.Directory().Profile(n).Enrolled())
}

// levels returns for each level of risk that can be reached the fewest signs of
// trouble that bring the attempt there, beginning without any.
func levels(judge *engine.Judge, a *attempt.Attempt) []candidate {
	calm := candidate{"none", func(a *attempt.Attempt) {
		a.Signals, a.Failed, a.Previous, a.Failures = nil, nil, attempt.None[attempt.Previous](), attempt.None[[]time.Time]()
	}}
	troubles := troublesOf(judge)
	found := []candidate{}
	for _, level := range []directory.Level{directory.NoRisk, directory.LowRisk, directory.MediumRisk, directory.HighRisk} {
		if c, ok := reachLevel(judge, a, calm, troubles, level); ok {
			found = append(found, c)
		}
	}
	return found
}

// mostTroubles is how many signs of trouble are put together.
const mostTroubles = 3

// reachLevel looks for the fewest signs of trouble that bring the level.
func reachLevel(judge *engine.Judge, a *attempt.Attempt, calm candidate, troubles []candidate, level directory.Level) (candidate, bool) {
	try := func(chosen []candidate) (candidate, bool) {
		c := candidate{level.String(), func(a *attempt.Attempt) {
			calm.set(a)
			for _, t := range chosen {
				t.set(a)
			}
		}}
		changed := *a
		// What is not known yet may be varied too, and must not blur the level.
		if ip, ok := judge.Directory().AddressElsewhere(); ok && changed.IP.IsUnknown() {
			changed.IP = attempt.Known(ip)
		}
		if changed.Device.IsUnknown() {
			changed.Device = attempt.Known(engine.UnregisteredDevice())
		}
		if judge.Whereabouts(context.Background(), &changed).Country == "" {
			changed.Country = attempt.Known[attempt.CountryCode]("AQ") // where nobody lives
		}
		c.set(&changed)
		r := judge.Outline(context.Background(), &changed).Risk
		return c, r.Level == level && r.LevelAtMost == level
	}
	var search func(from, left int, chosen []candidate) (candidate, bool)
	search = func(from, left int, chosen []candidate) (candidate, bool) {
		if left == 0 {
			return try(chosen)
		}
		for i := from; i < len(troubles); i++ {
			if c, ok := search(i+1, left-1, append(slices.Clip(chosen), troubles[i])); ok {
				return c, true
			}
		}
		return candidate{}, false
	}
	for n := range mostTroubles + 1 {
		if c, ok := search(0, n, nil); ok {
			return c, true
		}
	}
	return candidate{}, false
}

// troublesOf returns what can be made to go wrong so that a signal holds: those
// that others report, and those that detectors find in what went before.
func troublesOf(judge *engine.Judge) []candidate {
	var found []candidate
	for _, s := range judge.Risk().Signals {
		name, after, failures := s.Name, s.After, s.Failures
		switch {
		case s.When == nil && s.Detect == risk.NoDetector:
			found = append(found, candidate{name, func(a *attempt.Attempt) { a.Signals = append(slices.Clip(a.Signals), name) }})
		case s.Detect == risk.ProofRefused:
			found = append(found, candidate{name, func(a *attempt.Attempt) {
				a.Failed = append(slices.Clip(a.Failed), attempt.Failure{Method: "recovery-code", Reason: attempt.Refused})
			}})
		case s.Detect == risk.FailedBurst:
			found = append(
				found,
				candidate{name, func(a *attempt.Attempt) { a.Failures = attempt.Known(slices.Repeat([]time.Time{a.At}, failures)) }},
			)
		case s.Detect == risk.Travel, s.Detect == risk.CountryChange:
			found = append(found, candidate{name, func(a *attempt.Attempt) { fromAfar(judge, a) }})
		case s.Detect == risk.NewDevice:
			found = append(found, candidate{name, func(a *attempt.Attempt) {
				device, _ := a.Device.Get()
				device.Known = attempt.Known(false)
				a.Device = attempt.Known(device)
			}})
		case s.Detect == risk.Dormant:
			found = append(found, candidate{name, func(a *attempt.Attempt) {
				p := fromTheSamePlace(judge, a, a.At.Add(-time.Duration(after)-time.Hour))
				if p.Location.IsUnknown() { // wherever it is, it is the same place
					a.Location, p.Location = attempt.Known(attempt.Location{}), attempt.Known(attempt.Location{})
				}
				a.Previous = attempt.Known(p)
			}})
		}
	}
	return found
}

// fromAfar lets the sign-in before come from the other side of the Earth, a minute ago.
func fromAfar(judge *engine.Judge, a *attempt.Attempt) {
	place := judge.Whereabouts(context.Background(), a)
	country := attempt.CountryCode("AQ")
	if place.Country == country {
		country = "NZ"
	}
	here, known := place.Location.Get()
	if !known {
		a.Location = attempt.Known(here)
	}
	there := attempt.Location{Lat: -here.Lat, Lon: here.Lon + 180}
	if here.Lon > 0 {
		there.Lon = here.Lon - 180
	}
	a.Previous = attempt.Known(attempt.Previous{At: a.At.Add(-time.Minute), Location: attempt.Known(there),
		Country: attempt.Known(country)})
}
