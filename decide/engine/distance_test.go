package engine_test

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

func TestDistanceAndSpeed(t *testing.T) {
	oslo, rio := attempt.Location{Lat: 59.9139, Lon: 10.7522}, attempt.Location{Lat: -22.9068, Lon: -43.1729}
	pole, antipode := attempt.Location{Lat: 90}, attempt.Location{Lat: -90, Lon: 77}
	quarter := math.Pi * 6371.0088 / 2
	require.InDelta(t, quarter, engine.Distance(attempt.Location{}, attempt.Location{Lon: 90}), 1e-6)
	require.InDelta(t, 2*quarter, engine.Distance(pole, antipode), 1e-6)
	require.InDelta(t, engine.Distance(oslo, rio), engine.Distance(rio, oslo), 1e-9)
	require.InDelta(t, 0.1, engine.Distance(attempt.Location{Lon: 179.99955}, attempt.Location{Lon: -179.99955}), 1e-3, "over the date line")
	require.InDelta(t, quarter, engine.Speed(attempt.Location{}, attempt.Location{Lon: 90}, time.Hour), 1e-6)
	require.Zero(t, engine.Speed(oslo, oslo, 0), "who stays does not travel")
	require.True(t, math.IsInf(engine.Speed(oslo, rio, 0), 1) && math.IsInf(engine.Speed(oslo, rio, -time.Hour), 1))
}

func TestLevels(t *testing.T) {
	for score, want := range map[int]directory.Level{0: directory.NoRisk, 1: directory.LowRisk, 39: directory.LowRisk,
		40: directory.MediumRisk, 80: directory.HighRisk, 100: directory.HighRisk} {
		t.Run(fmt.Sprint(score), func(t *testing.T) {
			require.Equal(t, want, risk.DefaultLevels.Of(score), score)
		})
	}
	for _, l := range []risk.Levels{{Low: 0, Medium: 2, High: 3}, {Low: 5, Medium: 5, High: 9}, {Low: 1, Medium: 2, High: 101}} {
		require.Error(t, l.Check(), l)
	}
}

func TestSignalsAreChecked(t *testing.T) {
	for _, c := range []struct {
		signal risk.Signal
		wrong  string
	}{
		{risk.Signal{Points: 101}, "points are from 1 to 100"},
		{risk.Signal{Points: 5, Detect: risk.Travel}, "faster_than"},
		{risk.Signal{Points: 5, FasterThan: 900}, "faster_than"},
		{risk.Signal{Points: 5, Detect: risk.FailedBurst, Failures: 3}, "failures and within"},
		{risk.Signal{Points: 5, Detect: risk.Dormant}, "after belongs"},
		{risk.Signal{Points: 5, Detect: risk.Dormant, After: directory.Span(time.Hour)}, ""},
	} {
		t.Run(c.wrong, func(t *testing.T) {
			if err := c.signal.Check(); c.wrong == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.wrong)
			}
		})
	}
}
