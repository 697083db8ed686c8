package risk_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// TestLevels holds the score from which each level is reached against the level of
// that score and of the one before.
func TestLevels(t *testing.T) {
	levels := risk.Levels{Low: 2, Medium: 50, High: 90}
	for level, from := range map[directory.Level]int{directory.LowRisk: 2, directory.MediumRisk: 50, directory.HighRisk: 90} {
		t.Run(level.String(), func(t *testing.T) {
			require.Equal(t, from, levels.From(level))
			require.Equal(t, level, levels.Of(from))
			require.Equal(t, level-1, levels.Of(from-1))
		})
	}
	require.Zero(t, levels.From(directory.NoRisk))
	require.NoError(t, risk.DefaultLevels.Check())
	for name, wrong := range map[string]risk.Levels{"from zero": {}, "falling": {Low: 9, Medium: 8, High: 7}, "alike": {Low: 1, Medium: 1,
		High: 9},
		"more than there is": {Low: 1, Medium: 2, High: risk.MaxScore + 1}} {
		t.Run(name, func(t *testing.T) { require.ErrorContains(t, wrong.Check(), "levels rise from 1 to 100") })
	}
}

// TestSignalsAskForWhatTheyNeed refuses a signal that lacks what its detector needs, or
// has what is another's.
func TestSignalsAskForWhatTheyNeed(t *testing.T) {
	day := directory.Span(24 * time.Hour)
	for name, c := range map[string]struct {
		signal risk.Signal
		wrong  string
	}{
		"reported":                 {risk.Signal{Points: 1}, ""},
		"no points":                {risk.Signal{}, "points are from 1 to 100"},
		"too many points":          {risk.Signal{Points: risk.MaxScore + 1}, "points are from 1 to 100"},
		"detect and when":          {risk.Signal{Points: 1, Detect: risk.NewDevice, When: &condition.All{}}, "not both"},
		"travel":                   {risk.Signal{Points: 1, Detect: risk.Travel, FasterThan: 900}, ""},
		"travel at any speed":      {risk.Signal{Points: 1, Detect: risk.Travel}, "faster_than"},
		"a speed of something":     {risk.Signal{Points: 1, FasterThan: 900}, "faster_than"},
		"a burst":                  {risk.Signal{Points: 1, Detect: risk.FailedBurst, Failures: 3, Within: day}, ""},
		"a burst of any length":    {risk.Signal{Points: 1, Detect: risk.FailedBurst, Failures: 3}, "failures and within"},
		"failures of something":    {risk.Signal{Points: 1, Detect: risk.NewDevice, Failures: 3, Within: day}, "failures and within"},
		"dormant":                  {risk.Signal{Points: 1, Detect: risk.Dormant, After: day}, ""},
		"dormant after any length": {risk.Signal{Points: 1, Detect: risk.Dormant}, "after belongs to"},
	} {
		t.Run(name, func(t *testing.T) {
			err := c.signal.Check()
			if c.wrong == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.wrong)
			}
			require.Equal(t, c.signal.Detect == risk.NoDetector && c.signal.When == nil, c.signal.IsReported())
		})
	}
}

func TestDetectorWords(t *testing.T) {
	var d risk.Detector
	for _, word := range risk.Detectors() {
		require.NoError(t, d.UnmarshalText([]byte(word)))
		require.Equal(t, word, d.String())
	}
	require.Error(t, d.UnmarshalText([]byte("")), "nothing detects nothing")
}
