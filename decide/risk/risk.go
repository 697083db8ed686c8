// Package risk weighs an attempt: signals that hold are worth points, the points
// add up to a score, and the score to a level. A signal that depends on a missing
// fact makes the score a span.
package risk

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/facts"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// MaxScore is the highest score; more points change nothing.
const MaxScore = 100

// Scheme says what is noticed and how much it weighs.
type Scheme struct {
	Levels  Levels   `book:"levels" doc:"the scores from which a level is reached; low 1, medium 40, high 80 where left out"`
	Signals []Signal `book:"signals" of:"signal" doc:"what is noticed about an attempt"`
}

// Levels are the scores from which each level is reached.
type Levels struct {
	Low    int `book:"low" doc:"the score from which the risk is low"`
	Medium int `book:"medium" doc:"the score from which the risk is medium"`
	High   int `book:"high" doc:"the score from which the risk is high"`
}

// DefaultLevels hold where a book states none.
var DefaultLevels = Levels{Low: 1, Medium: 40, High: 80}

// Of returns the level of a score.
func (l Levels) Of(score int) directory.Level {
	switch {
	case score >= l.High:
		return directory.HighRisk
	case score >= l.Medium:
		return directory.MediumRisk
	case score >= l.Low:
		return directory.LowRisk
	}
	return directory.NoRisk
}

// From returns the score from which a level is reached.
func (l Levels) From(level directory.Level) int {
	return [...]int{directory.NoRisk: 0, directory.LowRisk: l.Low, directory.MediumRisk: l.Medium, directory.HighRisk: l.High}[level]
}

// Signal is something noticed about an attempt. It holds where its detector
// finds it or its condition holds; one with neither holds where the attempt
// names it.
type Signal struct {
	At     condition.Position `book:"-"`
	Name   string             `book:"name,required" doc:"name of the signal"`
	Detect Detector           `book:"detect" doc:"travel, country-change, new-device, anonymous-network, failed-burst, dormant or proof-refused"`
	When   condition.Node     `book:"when" about:"account,app,attempt" doc:"a condition under which it holds"`
	Points int                `book:"points,required" doc:"what it adds to the score, from 1 to 100"`
	// FasterThan is for travel: a speed in km/h.
	FasterThan float64 `book:"faster_than" doc:"for travel: the speed in km/h above which nobody travels"`
	// Failures and Within are for failed-burst.
	Failures int            `book:"failures" doc:"for failed-burst: so many failed sign-ins"`
	Within   directory.Span `book:"within" doc:"for failed-burst: in so long before the attempt, such as 10m"`
	// After is for dormant.
	After directory.Span `book:"after" doc:"for dormant: so long since the previous sign-in, such as 90d"`
}

// IsReported reports whether the signal holds where others say so, rather than by
// a detector or a condition of its own.
func (s *Signal) IsReported() bool { return s.Detect == NoDetector && s.When == nil }

// Detector is a way to notice a signal.
type Detector uint8

// The detectors. The zero Detector detects nothing.
const (
	NoDetector Detector = iota
	Travel
	CountryChange
	NewDevice
	AnonymousNetwork
	FailedBurst
	Dormant
	ProofRefused
)

var detectors = []string{"", "travel", "country-change", "new-device", "anonymous-network", "failed-burst", "dormant", "proof-refused"}

// Detectors returns the words for the detectors.
func Detectors() []string { return append([]string(nil), detectors[1:]...) }

// String returns the word for the detector.
func (d Detector) String() string { return detectors[d] }

// UnmarshalText reads the word for a detector.
func (d *Detector) UnmarshalText(text []byte) error {
	return words.Parse(d, "a detector", string(text), detectors[1:], 1)
}

// Check reports what is wrong with a signal.
func (s *Signal) Check() error {
	switch {
	case s.Points < 1 || s.Points > MaxScore:
		return fmt.Errorf("signal %s: points are from 1 to %d, not %d", s.Name, MaxScore, s.Points)
	case s.Detect != NoDetector && s.When != nil:
		return fmt.Errorf("signal %s: give detect or when, not both", s.Name)
	case (s.Detect == Travel) != (s.FasterThan > 0):
		return fmt.Errorf("signal %s: faster_than, in km/h, belongs to detect: travel and must be given there", s.Name)
	case (s.Detect == FailedBurst) != (s.Failures > 0 && s.Within > 0):
		return fmt.Errorf("signal %s: failures and within belong to detect: failed-burst and must be given there", s.Name)
	case (s.Detect == Dormant) != (s.After > 0):
		return fmt.Errorf("signal %s: after belongs to detect: dormant and must be given there", s.Name)
	}
	return nil
}

// Check reports what is wrong with the levels.
func (l Levels) Check() error {
	if l.Low < 1 || l.Medium <= l.Low || l.High <= l.Medium || l.High > MaxScore {
		return fmt.Errorf("levels rise from 1 to %d: low %d, medium %d, high %d do not", MaxScore, l.Low, l.Medium, l.High)
	}
	return nil
}

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
	Levels  Levels
	Signals []Signal
	when    []condition.Node
	// asks are the same, laid out for evaluation.
	asks []condition.Conjunction
}

// Condition returns the bound condition of a signal, by its number among Signals; nil
// where it has none.
func (m *Model) Condition(signal int) condition.Node {
	if m.Signals[signal].When == nil {
		return nil
	}
	return m.when[signal]
}

// Compile makes a Model, with the signals in order of name. The error names what is wrong with a signal.
func Compile(s Scheme, names condition.Vocabulary) (*Model, error) {
	m := &Model{Levels: s.Levels, Signals: slices.Clone(s.Signals)}
	slices.SortFunc(m.Signals, func(a, b Signal) int { return strings.Compare(a.Name, b.Name) })
	if m.Levels == (Levels{}) {
		m.Levels = DefaultLevels
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
	return Score{min(score.Low, MaxScore), min(score.High, MaxScore)}
}

func (m *Model) holds(i int, f *facts.Facts, e Evidence) condition.Truth {
	switch s := &m.Signals[i]; {
	case s.When != nil:
		return m.asks[i].Eval(f)
	case s.Detect != NoDetector:
		return s.detect(f, e)
	default:
		for _, name := range f.Attempt.Signals {
			if name == s.Name {
				return condition.True
			}
		}
		return e.Reported(s.Name)
	}
}

func (s *Signal) detect(f *facts.Facts, e Evidence) condition.Truth {
	a := f.Attempt
	switch s.Detect {
	case Travel:
		return s.travelled(a, e)
	case CountryChange:
		return countryChanged(a, e)
	case NewDevice:
		return f.FindDevice().Known().Not()
	case AnonymousNetwork:
		if f.FindPlace() == nil {
			return condition.Unknown
		}
		return condition.Of(f.Place.Anonymous)
	case FailedBurst:
		return s.burst(a)
	case Dormant:
		if p := a.Previous.Ref(); p != nil {
			if p.At.IsZero() {
				return condition.Unknown
			}
			return condition.Of(a.At.Sub(p.At) >= time.Duration(s.After))
		}
		return condition.FalseUnless(a.Previous.IsUnknown())
	case ProofRefused:
		for _, failed := range a.Failed {
			if failed.Reason == attempt.Refused {
				return condition.True
			}
		}
	}
	return condition.False
}

func (s *Signal) travelled(a *attempt.Attempt, e Evidence) condition.Truth {
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

func (s *Signal) burst(a *attempt.Attempt) condition.Truth {
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
