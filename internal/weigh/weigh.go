// Package weigh weighs attempts by a scheme of package risk: it finds out which signals
// hold and adds up their points.
package weigh

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/internal/facts"
)

// Evidence is what the detectors look at beside the facts of conditions. Its methods
// must not allocate.
type Evidence interface {
	// Reported is whether a risk engine reports a signal of that name; False where
	// there is none.
	Reported(signal string) condition.Truth
	// Location is where the attempt comes from.
	Location() attempt.Fact[attempt.Location]
	// ComesFromOther reports whether the attempt comes from another country than
	// that one; from none at all is not from another.
	ComesFromOther(attempt.CountryCode) condition.Truth
}

// Model is a scheme made ready.
type Model struct {
	Levels  risk.Levels
	Signals []risk.Signal
	when    []condition.Node
	// asks are the same, laid out for evaluation.
	asks []condition.Conjunction
}

// Scheme returns what the model was made from, with the levels that hold and the
// conditions bound.
func (m *Model) Scheme() risk.Scheme {
	signals := slices.Clone(m.Signals)
	for i := range signals {
		if signals[i].When != nil {
			signals[i].When = m.when[i]
		}
	}
	return risk.Scheme{Levels: m.Levels, Signals: signals}
}

// Compile makes a Model, with the signals in order of name. The error names what is wrong with a signal.
func Compile(s risk.Scheme, names condition.Vocabulary) (*Model, error) {
	m := &Model{Levels: s.Levels, Signals: slices.Clone(s.Signals)}
	slices.SortFunc(m.Signals, func(a, b risk.Signal) int { return strings.Compare(a.Name, b.Name) })
	if m.Levels == (risk.Levels{}) {
		m.Levels = risk.DefaultLevels
	}
	if err := m.Levels.Check(); err != nil {
		return nil, err
	}
	for i := range m.Signals {
		signal := &m.Signals[i]
		if err := signal.Check(); err != nil {
			return nil, err
		}
		when, err := condition.Bind(signal.When, names)
		if err != nil {
			return nil, fmt.Errorf("signal %s: %w", signal.Name, err)
		}
		m.when = append(m.when, when)
		m.asks = append(m.asks, condition.Conjoin(when))
	}
	return m, nil
}

// When returns the bound condition of signal number i.
func (m *Model) When(i int) condition.Node { return m.when[i] }

// Score is a span of points: without the unknown signals, and with them.
type Score struct{ Low, High int }

// Weigh writes into truths whether each signal holds, and returns the score.
func (m *Model) Weigh(f *facts.Facts, e Evidence, truths []condition.Truth) Score {
	var score Score
	for i := range m.Signals {
		holds := m.holds(i, f, e)
		truths[i] = holds
		if holds == condition.True {
			score.Low += m.Signals[i].Points
		}
		if holds != condition.False {
			score.High += m.Signals[i].Points
		}
	}
	return Score{min(score.Low, risk.MaxScore), min(score.High, risk.MaxScore)}
}

func (m *Model) holds(i int, f *facts.Facts, e Evidence) condition.Truth {
	switch s := &m.Signals[i]; {
	case s.When != nil:
		return m.asks[i].Eval(f)
	case s.Detect != risk.NoDetector:
		return detect(s, f, e)
	default:
		for _, name := range f.Attempt.Signals {
			if name == s.Name {
				return condition.True
			}
		}
		return e.Reported(s.Name)
	}
}

func detect(s *risk.Signal, f *facts.Facts, e Evidence) condition.Truth {
	a := f.Attempt
	switch s.Detect {
	case risk.Travel:
		return travelled(s, a, e)
	case risk.CountryChange:
		return countryChanged(a, e)
	case risk.NewDevice:
		return f.FindDevice().Known().Not()
	case risk.AnonymousNetwork:
		if f.FindPlace() == nil {
			return condition.Unknown
		}
		return condition.Of(f.Place.Anonymous)
	case risk.FailedBurst:
		return burst(s, a)
	case risk.Dormant:
		if p := a.Previous.Ref(); p != nil {
			if p.At.IsZero() {
				return condition.Unknown
			}
			return condition.Of(a.At.Sub(p.At) >= time.Duration(s.After))
		}
		return condition.FalseUnless(a.Previous.IsUnknown())
	case risk.ProofRefused:
		for _, failed := range a.Failed {
			if failed.Reason == attempt.Refused {
				return condition.True
			}
		}
	}
	return condition.False
}

func travelled(s *risk.Signal, a *attempt.Attempt, e Evidence) condition.Truth {
	p := a.Previous.Ref()
	if p == nil {
		return condition.FalseUnless(a.Previous.IsUnknown())
	}
	from := p.Location.Ref()
	if from == nil || p.At.IsZero() || p.At.After(a.At) {
		return condition.Unknown // wherever it comes from, which takes a look-up to know
	}
	here := e.Location()
	to := here.Ref()
	if to == nil {
		return condition.Unknown
	}
	return condition.Of(Speed(*from, *to, a.At.Sub(p.At)) > s.FasterThan)
}

func countryChanged(a *attempt.Attempt, e Evidence) condition.Truth {
	p := a.Previous.Ref()
	if p == nil {
		return condition.FalseUnless(a.Previous.IsUnknown())
	}
	if code := p.Country.Ref(); code != nil {
		return e.ComesFromOther(*code)
	}
	return condition.Unknown
}

func burst(s *risk.Signal, a *attempt.Attempt) condition.Truth {
	times := a.Failures.Ref()
	if times == nil {
		return condition.FalseUnless(a.Failures.IsUnknown())
	}
	recent := 0
	for _, t := range *times {
		if ago := a.At.Sub(t); ago >= 0 && ago <= time.Duration(s.Within) {
			recent++
		}
	}
	return condition.Of(recent >= s.Failures)
}

// earthRadius is the Earth's mean radius R1 in km (IUGG).
const earthRadius = 6371.0088

// Distance is the great-circle distance of two places in km, by the haversine
// formula (R. W. Sinnott, Virtues of the haversine, Sky and Telescope, 1984).
func Distance(a, b attempt.Location) float64 {
	const radian = math.Pi / 180
	lat := math.Sin((b.Lat - a.Lat) * radian / 2)
	lon := math.Sin((b.Lon - a.Lon) * radian / 2)
	h := lat*lat + math.Cos(a.Lat*radian)*math.Cos(b.Lat*radian)*lon*lon
	return 2 * earthRadius * math.Asin(math.Sqrt(min(1, h)))
}

// Speed is how fast one must travel, in km/h, to be in both places so long
// apart. Two places at once, or the later one first, is infinitely fast.
func Speed(a, b attempt.Location, apart time.Duration) float64 {
	distance := Distance(a, b)
	switch {
	case distance == 0:
		return 0
	case apart <= 0:
		return math.Inf(1)
	}
	return distance / apart.Hours()
}
