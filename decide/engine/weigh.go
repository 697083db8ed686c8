package engine

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
)

// riskModel is a scheme made ready.
type riskModel struct {
	Levels  risk.Levels
	Signals []risk.Signal
	when    []condition.Node
	// asks are the same, laid out for evaluation.
	asks []condition.Conjunction
}

// Scheme returns what the model was made from, with the levels that hold and the
// conditions bound.
func (m *riskModel) Scheme() risk.Scheme {
	signals := slices.Clone(m.Signals)
	for i := range signals {
		if signals[i].When != nil {
			signals[i].When = m.when[i]
		}
	}
	return risk.Scheme{Levels: m.Levels, Signals: signals}
}

// Compile makes a Model, with the signals in order of name. The error names what is wrong with a signal.
func compileModel(s risk.Scheme, names condition.Vocabulary) (*riskModel, error) {
	m := &riskModel{Levels: s.Levels, Signals: slices.Clone(s.Signals)}
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

// Score is a span of points: without the unknown signals, and with them.
type Score struct{ Low, High int }

// weigh notes which signals of an attempt hold, and returns the score.
func (m *riskModel) weigh(e *evaluation) Score {
	var score Score
	for i := range m.Signals {
		holds := m.holds(i, e)
		e.signals[i] = holds
		if holds == condition.True {
			score.Low += m.Signals[i].Points
		}
		if holds != condition.False {
			score.High += m.Signals[i].Points
		}
	}
	return Score{min(score.Low, risk.MaxScore), min(score.High, risk.MaxScore)}
}

func (m *riskModel) holds(i int, e *evaluation) condition.Truth {
	switch s := &m.Signals[i]; {
	case s.When != nil:
		return m.asks[i].Eval(e)
	case s.Detect != risk.NoDetector:
		return e.detects(s)
	default:
		if slices.Contains(e.Attempt.Signals, s.Name) {
			return condition.True
		}
		return e.reported(s.Name)
	}
}

// detects reports whether the detector of a signal notices something.
func (e *evaluation) detects(s *risk.Signal) condition.Truth {
	a := e.Attempt
	switch s.Detect {
	case risk.Travel:
		return e.travelled(s)
	case risk.CountryChange:
		return e.countryChanged()
	case risk.NewDevice:
		return e.findDevice().isKnown().Not()
	case risk.AnonymousNetwork:
		if e.findPlace() == nil {
			return condition.Unknown
		}
		return condition.Of(e.Place.Anonymous)
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

func (e *evaluation) travelled(s *risk.Signal) condition.Truth {
	a := e.Attempt
	p := a.Previous.Ref()
	if p == nil {
		return condition.FalseUnless(a.Previous.IsUnknown())
	}
	from := p.Location.Ref()
	if from == nil || p.At.IsZero() || p.At.After(a.At) {
		return condition.Unknown // wherever it comes from, which takes a look-up to know
	}
	here := e.location()
	to := here.Ref()
	if to == nil {
		return condition.Unknown
	}
	return condition.Of(Speed(*from, *to, a.At.Sub(p.At)) > s.FasterThan)
}

func (e *evaluation) countryChanged() condition.Truth {
	a := e.Attempt
	p := a.Previous.Ref()
	if p == nil {
		return condition.FalseUnless(a.Previous.IsUnknown())
	}
	if code := p.Country.Ref(); code != nil {
		return e.comesFromOther(*code)
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
