package weigh_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
	"github.com/briskwarden/briskwarden/internal/weigh"
)

// evidence is what a test says of an attempt.
type evidence struct {
	a               attempt.Attempt
	here            attempt.Fact[attempt.Location]
	other, reported condition.Truth
	place           *facts.Place
}

func (e *evidence) Location() attempt.Fact[attempt.Location]           { return e.here }
func (e *evidence) ComesFromOther(attempt.CountryCode) condition.Truth { return e.other }
func (e *evidence) Reported(string) condition.Truth                    { return e.reported }

// weighed compiles a scheme and weighs by it what a test says.
func weighed(t *testing.T, scheme risk.Scheme, e *evidence) (*weigh.Model, weigh.Score, []condition.Truth) {
	t.Helper()
	d, err := facts.New(directory.Contents{Zone: time.UTC}, facts.Mentioned{})
	require.NoError(t, err)
	model, err := weigh.Compile(scheme, d.Vocabulary("risk"))
	require.NoError(t, err)
	view, truths := d.View(&e.a), make([]condition.Truth, len(scheme.Signals))
	score := model.Weigh(&facts.Facts{Directory: d, Attempt: &e.a, Place: e.place, Device: &view}, e, truths)
	return model, score, truths
}

// on is an attempt on a device.
func on(device attempt.Device) attempt.Attempt {
	return attempt.Attempt{Device: attempt.Known(device)}
}

func before(at time.Time, p attempt.Previous) attempt.Fact[attempt.Previous] {
	p.At = at
	return attempt.Known(p)
}
func place(lat, lon float64) attempt.Fact[attempt.Location] {
	return attempt.Known(attempt.Location{Lat: lat, Lon: lon})
}

// TestDetectors goes through each detector where it holds, where it fails, at the
// very threshold, and where a fact is missing.
func TestDetectors(t *testing.T) {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	const no, maybe, yes = condition.False, condition.Unknown, condition.True
	travel := risk.Signal{Name: "s", Points: 10, Detect: risk.Travel, FasterThan: 1000}
	// A quarter of the way round the Earth takes ten hours at this speed.
	exact := weigh.Speed(attempt.Location{}, attempt.Location{Lon: 90}, 10*time.Hour)
	atThreshold := travel
	atThreshold.FasterThan = exact
	dormant := risk.Signal{Name: "s", Points: 10, Detect: risk.Dormant, After: directory.Span(90 * 24 * time.Hour)}
	burst := risk.Signal{Name: "s", Points: 10, Detect: risk.FailedBurst, Failures: 2, Within: directory.Span(10 * time.Minute)}
	away := func(d time.Duration) attempt.Fact[attempt.Previous] {
		return before(at.Add(-d), attempt.Previous{Location: place(0, 90), Country: attempt.Known[attempt.CountryCode]("NO")})
	}
	failed := func(ago ...time.Duration) attempt.Fact[[]time.Time] {
		var times []time.Time
		for _, d := range ago {
			times = append(times, at.Add(-d))
		}
		return attempt.Known(times)
	}
	for _, c := range []struct {
		name   string
		signal risk.Signal
		set    func(e *evidence)
		want   condition.Truth
	}{
		{"travel too fast", travel, func(e *evidence) { e.a.Previous = away(time.Hour) }, yes},
		{"travel in time", travel, func(e *evidence) { e.a.Previous = away(100 * time.Hour) }, no},
		{"travel at the very speed", atThreshold, func(e *evidence) { e.a.Previous = away(10 * time.Hour) }, no},
		{"travel a moment faster", atThreshold, func(e *evidence) { e.a.Previous = away(10*time.Hour - time.Second) }, yes},
		{"travel in no time", travel, func(e *evidence) { e.a.Previous = away(0) }, yes},
		{"staying", travel, func(e *evidence) { e.a.Previous, e.here = away(time.Hour), place(0, 90) }, no},
		{"travel of a first sign-in", travel, func(e *evidence) { e.a.Previous = attempt.None[attempt.Previous]() }, no},
		{"travel of nobody knows", travel, func(*evidence) {}, maybe},
		{"travel to nobody knows where", travel, func(e *evidence) { e.a.Previous, e.here = away(time.Hour), attempt.Fact[attempt.Location]{} },
			maybe},
		{"travel from nobody knows where", travel, func(e *evidence) { e.a.Previous = before(at.Add(-time.Hour), attempt.Previous{}) }, maybe},
		{"travel since nobody knows when", travel, func(e *evidence) {
			e.a.Previous = before(time.Time{}, attempt.Previous{Location: place(0,
				90)})
		}, maybe},
		{"travel since a later sign-in", travel, func(e *evidence) { e.a.Previous = away(-time.Second) }, maybe},
		{"another country", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(e *evidence) {
			e.a.Previous, e.other = away(
				time.Hour), yes
		}, yes},
		{"the same country", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(e *evidence) {
			e.a.Previous, e.other = away(
				time.Hour), no
		}, no},
		{"a country before that nobody knows", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(e *evidence) {
			e.a.Previous,
				e.other = before(at, attempt.Previous{}), no
		}, maybe},
		{"a country of a first sign-in", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(e *evidence) {
			e.a.Previous = attempt.None[attempt.Previous]()
		}, no},
		{"a new device", risk.Signal{Name: "s", Points: 10, Detect: risk.NewDevice}, func(e *evidence) {
			e.a = on(attempt.Device{
				Known: attempt.Known(false)})
		}, yes},
		{"a device that nobody knows of", risk.Signal{Name: "s", Points: 10, Detect: risk.NewDevice}, func(e *evidence) {
			e.a = on(
				attempt.Device{})
		}, maybe},
		{"a hidden origin", risk.Signal{Name: "s", Points: 10, Detect: risk.AnonymousNetwork}, func(e *evidence) {
			e.place = &facts.Place{
				Anonymous: true}
		}, yes},
		{"two failures", burst, func(e *evidence) { e.a.Failures = failed(0, 10*time.Minute) }, yes},
		{"one failure too long ago", burst, func(e *evidence) { e.a.Failures = failed(0, 10*time.Minute+time.Second) }, no},
		{"one failure still to come", burst, func(e *evidence) { e.a.Failures = failed(0, -time.Second) }, no},
		{"no failures", burst, func(e *evidence) { e.a.Failures = attempt.None[[]time.Time]() }, no},
		{"failures that nobody knows", burst, func(*evidence) {}, maybe},
		{"dormant to the very moment", dormant, func(e *evidence) { e.a.Previous = before(at.AddDate(0, 0, -90), attempt.Previous{}) }, yes},
		{"a moment less", dormant, func(e *evidence) { e.a.Previous = before(at.AddDate(0, 0, -90).Add(time.Second), attempt.Previous{}) }, no},
		{"dormant since nobody knows when", dormant, func(e *evidence) { e.a.Previous = before(time.Time{}, attempt.Previous{}) }, maybe},
		{"dormant before a first sign-in", dormant, func(e *evidence) { e.a.Previous = attempt.None[attempt.Previous]() }, no},
		{"a refused proof", risk.Signal{Name: "s", Points: 10, Detect: risk.ProofRefused}, func(e *evidence) {
			e.a.Failed = []attempt.Failure{{
				Method: "push"}}
		}, yes},
		{"one that timed out", risk.Signal{Name: "s", Points: 10, Detect: risk.ProofRefused}, func(e *evidence) {
			e.a.Failed = []attempt.Failure{{
				Method: "push", Reason: attempt.TimedOut}}
		}, no},
		{"named by the attempt", risk.Signal{Name: "s", Points: 10}, func(e *evidence) { e.a.Signals = []string{"r", "s"} }, yes},
		{"named by nobody", risk.Signal{Name: "s", Points: 10}, func(e *evidence) { e.a.Signals = []string{"r"} }, no},
		{"reported by an engine", risk.Signal{Name: "s", Points: 10}, func(e *evidence) { e.reported = maybe }, maybe},
		{"a condition", risk.Signal{Name: "s", Points: 10, When: &condition.Test{Key: facts.KeyPlatforms, Values: []string{"ios"}}}, func(
			e *evidence) {
			e.a = on(attempt.Device{Platform: attempt.Known("ios")})
		}, yes},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := &evidence{a: attempt.Attempt{At: at}, here: place(0, 0)}
			c.set(e)
			_, score, truths := weighed(t, risk.Scheme{Signals: []risk.Signal{c.signal}}, e)
			require.Equal(t, c.want, truths[0])
			require.Equal(
				t,
				weigh.Score{Low: map[condition.Truth]int{yes: 10}[c.want], High: map[condition.Truth]int{yes: 10, maybe: 10}[c.want]},
				score,
			)
		})
	}
}

// TestScoresAreSpansUpToAHundred adds signals that hold to ones that may.
func TestScoresAreSpansUpToAHundred(t *testing.T) {
	e := &evidence{a: attempt.Attempt{Signals: []string{"b", "c"}}}
	model, score, _ := weighed(t, risk.Scheme{Levels: risk.Levels{Low: 2, Medium: 50, High: 90}, Signals: []risk.Signal{
		{Name: "c", Points: 40}, {Name: "b", Points: 30}, {Name: "a", Points: 60, Detect: risk.NewDevice}}}, e)
	require.Equal(t, weigh.Score{Low: 70, High: risk.MaxScore}, score)
	require.Equal(t, "a", model.Signals[0].Name, "in order of name")
	require.Nil(t, model.Scheme().Signals[0].When)
	for wrong, scheme := range map[string]risk.Scheme{
		"levels rise":       {Levels: risk.Levels{Low: 9, Medium: 8, High: 7}},
		"points are from 1": {Signals: []risk.Signal{{Name: "s"}}},
		"detect or when":    {Signals: []risk.Signal{{Name: "s", Points: 1, Detect: risk.NewDevice, When: &condition.All{}}}},
		"names a key that":  {Signals: []risk.Signal{{Name: "s", Points: 1, When: &condition.Test{Key: facts.KeyPlatforms}}}},
	} {
		t.Run(fmt.Sprint(wrong), func(t *testing.T) {
			_, err := weigh.Compile(scheme, facts.Vocabulary{})
			require.ErrorContains(t, err, wrong)
		})
	}
}
