package engine_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// weighed compiles a rulebook with a scheme and returns the score of an attempt by it.
func weighed(t *testing.T, scheme risk.Scheme, a attempt.Attempt) (*engine.Judge, engine.Score) {
	t.Helper()
	judge, err := engine.Compile(decide.Rulebook{Risk: scheme, Directory: directory.Contents{Zone: time.UTC,
		Accounts: []directory.Account{{Name: "ann"}}, Apps: []directory.App{{Name: "mail"}},
		Networks: []directory.Network{{Name: "relay", Anonymous: true, Ranges: []directory.Range{rangeOf(t, "192.0.2.128/25")}}}}})
	require.NoError(t, err)
	a.Account, a.App = "ann", "mail"
	require.NoError(t, a.Check())
	return judge, judge.Score(&a)
}

func rangeOf(t *testing.T, text string) directory.Range {
	r, err := directory.ParseRange(text)
	require.NoError(t, err)
	return r
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
	exact := engine.Speed(attempt.Location{}, attempt.Location{Lon: 90}, 10*time.Hour)
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
		set    func(a *attempt.Attempt)
		want   condition.Truth
	}{
		{"travel too fast", travel, func(a *attempt.Attempt) { a.Previous = away(time.Hour) }, yes},
		{"travel in time", travel, func(a *attempt.Attempt) { a.Previous = away(100 * time.Hour) }, no},
		{"travel at the very speed", atThreshold, func(a *attempt.Attempt) { a.Previous = away(10 * time.Hour) }, no},
		{"travel a moment faster", atThreshold, func(a *attempt.Attempt) { a.Previous = away(10*time.Hour - time.Second) }, yes},
		{"travel in no time", travel, func(a *attempt.Attempt) { a.Previous = away(0) }, yes},
		{"staying", travel, func(a *attempt.Attempt) { a.Previous, a.Location = away(time.Hour), place(0, 90) }, no},
		{"travel of a first sign-in", travel, func(a *attempt.Attempt) { a.Previous = attempt.None[attempt.Previous]() }, no},
		{"travel of nobody knows", travel, func(*attempt.Attempt) {}, maybe},
		{"travel to nobody knows where", travel,
			func(a *attempt.Attempt) { a.Previous, a.Location = away(time.Hour), attempt.Fact[attempt.Location]{} },
			maybe},
		{"travel from nobody knows where", travel,
			func(a *attempt.Attempt) { a.Previous = before(at.Add(-time.Hour), attempt.Previous{}) }, maybe},
		{"travel since nobody knows when", travel, func(a *attempt.Attempt) {
			a.Previous = before(time.Time{}, attempt.Previous{Location: place(0,
				90)})
		}, maybe},
		{"travel since a later sign-in", travel, func(a *attempt.Attempt) { a.Previous = away(-time.Second) }, maybe},
		{"another country", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(a *attempt.Attempt) {
			a.Previous, a.Country = away(time.Hour), attempt.Known[attempt.CountryCode]("SE")
		}, yes},
		{"the same country", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(a *attempt.Attempt) {
			a.Previous, a.Country = away(time.Hour), attempt.Known[attempt.CountryCode]("NO")
		}, no},
		{"a country before that nobody knows", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(a *attempt.Attempt) {
			a.Previous, a.Country = before(at, attempt.Previous{}), attempt.Known[attempt.CountryCode]("NO")
		}, maybe},
		{"a country of a first sign-in", risk.Signal{Name: "s", Points: 10, Detect: risk.CountryChange}, func(a *attempt.Attempt) {
			a.Previous = attempt.None[attempt.Previous]()
		}, no},
		{"a new device", risk.Signal{Name: "s", Points: 10, Detect: risk.NewDevice}, func(a *attempt.Attempt) {
			a.Device = attempt.Known(attempt.Device{
				Known: attempt.Known(false)})
		}, yes},
		{"a device that nobody knows of", risk.Signal{Name: "s", Points: 10, Detect: risk.NewDevice}, func(a *attempt.Attempt) {
			a.Device = attempt.Known(attempt.Device{})
		}, maybe},
		{"a hidden origin", risk.Signal{Name: "s", Points: 10, Detect: risk.AnonymousNetwork}, func(a *attempt.Attempt) {
			a.IP = attempt.Known(netip.MustParseAddr("192.0.2.200"))
		}, yes},
		{"two failures", burst, func(a *attempt.Attempt) { a.Failures = failed(0, 10*time.Minute) }, yes},
		{"one failure too long ago", burst, func(a *attempt.Attempt) { a.Failures = failed(0, 10*time.Minute+time.Second) }, no},
		{"one failure still to come", burst, func(a *attempt.Attempt) { a.Failures = failed(0, -time.Second) }, no},
		{"no failures", burst, func(a *attempt.Attempt) { a.Failures = attempt.None[[]time.Time]() }, no},
		{"failures that nobody knows", burst, func(*attempt.Attempt) {}, maybe},
		{"dormant to the very moment", dormant, func(a *attempt.Attempt) { a.Previous = before(at.AddDate(0, 0, -90), attempt.Previous{}) }, yes},
		{"a moment less", dormant, func(a *attempt.Attempt) {
			a.Previous = before(at.AddDate(0, 0, -90).Add(time.Second), attempt.Previous{})
		}, no},
		{"dormant since nobody knows when", dormant, func(a *attempt.Attempt) { a.Previous = before(time.Time{}, attempt.Previous{}) }, maybe},
		{"dormant before a first sign-in", dormant, func(a *attempt.Attempt) { a.Previous = attempt.None[attempt.Previous]() }, no},
		{"a refused proof", risk.Signal{Name: "s", Points: 10, Detect: risk.ProofRefused}, func(a *attempt.Attempt) {
			a.Failed = []attempt.Failure{{
				Method: "push"}}
		}, yes},
		{"one that timed out", risk.Signal{Name: "s", Points: 10, Detect: risk.ProofRefused}, func(a *attempt.Attempt) {
			a.Failed = []attempt.Failure{{
				Method: "push", Reason: attempt.TimedOut}}
		}, no},
		{"named by the attempt", risk.Signal{Name: "s", Points: 10}, func(a *attempt.Attempt) { a.Signals = []string{"r", "s"} }, yes},
		{"named by nobody", risk.Signal{Name: "s", Points: 10}, func(a *attempt.Attempt) { a.Signals = []string{"r"} }, no},
		{"a condition", risk.Signal{Name: "s", Points: 10, When: &condition.Test{Key: engine.KeyPlatforms, Values: []string{"ios"}}},
			func(a *attempt.Attempt) {
				a.Device = attempt.Known(attempt.Device{Platform: attempt.Known("ios")})
			}, yes},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := attempt.Attempt{At: at, Location: place(0, 0)}
			c.set(&a)
			_, score := weighed(t, risk.Scheme{Signals: []risk.Signal{c.signal}}, a)
			require.Equal(
				t,
				engine.Score{
					Low:  map[condition.Truth]int{yes: 10}[c.want],
					High: map[condition.Truth]int{yes: 10, maybe: 10}[c.want],
				},
				score,
			)
		})
	}
}

// TestScoresAreSpansUpToAHundred adds signals that hold to ones that may.
func TestScoresAreSpansUpToAHundred(t *testing.T) {
	judge, score := weighed(t, risk.Scheme{Levels: risk.Levels{Low: 2, Medium: 50, High: 90}, Signals: []risk.Signal{
		{Name: "c", Points: 40}, {Name: "b", Points: 30}, {Name: "a", Points: 60, Detect: risk.NewDevice}}},
		attempt.Attempt{At: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Signals: []string{"b", "c"}})
	require.Equal(t, engine.Score{Low: 70, High: risk.MaxScore}, score)
	require.Equal(t, "a", judge.Risk().Signals[0].Name, "in order of name")
	require.Nil(t, judge.Risk().Signals[0].When)
	for wrong, scheme := range map[string]risk.Scheme{
		"levels rise":       {Levels: risk.Levels{Low: 9, Medium: 8, High: 7}},
		"points are from 1": {Signals: []risk.Signal{{Name: "s"}}},
		"detect or when":    {Signals: []risk.Signal{{Name: "s", Points: 1, Detect: risk.NewDevice, When: &condition.All{}}}},
		"platforms":         {Signals: []risk.Signal{{Name: "s", Points: 1, When: &condition.Test{Key: engine.KeyPlatforms}}}},
	} {
		t.Run(fmt.Sprint(wrong), func(t *testing.T) {
			_, err := engine.Compile(decide.Rulebook{Risk: scheme})
			require.ErrorContains(t, err, wrong)
		})
	}
}
