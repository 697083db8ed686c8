// Package risk says what is noticed about an attempt and how much it weighs: signals
// that hold are worth points, the points add up to a score, and the score to a level. A
// signal that depends on a missing fact makes the score a span.
package risk

import (
	"fmt"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// MaxScore is the highest score; more points change nothing.
const MaxScore = 100

// Scheme says what is noticed and how much it weighs.
type Scheme struct {
	Levels  Levels   `book:"levels" doc:"the scores from which a level is reached" default:"low 1, medium 40, high 80"`
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
	Detect Detector           `book:"detect" doc:"travel, country-change, new-device, anonymous-network, failed-burst, dormant, proof-refused"`
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
func (d Detector) String() string { return words.Of(d, detectors, 0) }

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
