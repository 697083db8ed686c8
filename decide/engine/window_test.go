package engine_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

func clock(t *testing.T, text string) *directory.Clock {
	if text == "" {
		return nil
	}
	var c directory.Clock
	require.NoError(t, c.UnmarshalText([]byte(text)))
	return &c
}

// TestWindows asks windows at moments given in Oslo's own time with its offset:
// clocks there went forward on 2026-03-29 at 02:00 and back on 2026-10-25 at
// 03:00.
func TestWindows(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	season := []directory.DateRange{
		{First: directory.Date{Year: 2026, Month: 5, Day: 1}, Last: directory.Date{Year: 2026, Month: 9, Day: 30}},
	}
	weekend := []directory.Weekday{directory.Weekday(time.Friday), directory.Weekday(time.Saturday)}
	for _, c := range []struct {
		name, from, to string
		days           []directory.Weekday
		dates          []directory.DateRange
		at             string
		want           bool
	}{
		{"from is in", "05:00", "23:00", nil, nil, "2026-11-23T05:00:00+01:00", true},
		{"a moment before from", "05:00", "23:00", nil, nil, "2026-11-23T04:59:59+01:00", false},
		{"a moment before to", "05:00", "23:00", nil, nil, "2026-11-23T22:59:59+01:00", true},
		{"to is out", "05:00", "23:00", nil, nil, "2026-11-23T23:00:00+01:00", false},
		{"the zone counts, not the offset given", "05:00", "23:00", nil, nil, "2026-11-23T04:30:00Z", true},

		{"friday night", "22:00", "06:00", weekend, nil, "2026-11-27T22:00:00+01:00", true},
		{"the morning after friday", "22:00", "06:00", weekend, nil, "2026-11-28T05:59:00+01:00", true},
		{"the morning after saturday", "22:00", "06:00", weekend, nil, "2026-11-29T05:59:00+01:00", true},
		{"the morning after ends at to", "22:00", "06:00", weekend, nil, "2026-11-29T06:00:00+01:00", false},
		{"friday morning belongs to thursday", "22:00", "06:00", weekend, nil, "2026-11-27T05:00:00+01:00", false},
		{"sunday night", "22:00", "06:00", weekend, nil, "2026-11-29T22:30:00+01:00", false},

		{"equal ends are a whole day", "06:00", "06:00", weekend[:1], nil, "2026-11-28T05:59:00+01:00", true},
		{"and no more", "06:00", "06:00", weekend[:1], nil, "2026-11-28T06:00:00+01:00", false},
		{"only from", "22:00", "", nil, nil, "2026-11-23T23:59:59+01:00", true},
		{"only from ends at midnight", "22:00", "", nil, nil, "2026-11-24T00:00:00+01:00", false},
		{"only to", "", "06:00", nil, nil, "2026-11-24T00:00:00+01:00", true},
		{"until 24:00", "22:00", "24:00", nil, nil, "2026-11-23T23:59:59+01:00", true},
		{"nothing limits", "", "", nil, nil, "2026-11-24T03:00:00+01:00", true},

		{"first day of the dates", "", "", nil, season, "2026-05-01T00:00:00+02:00", true},
		{"the moment before", "", "", nil, season, "2026-04-30T23:59:59+02:00", false},
		{"last day of the dates", "", "", nil, season, "2026-09-30T23:59:59+02:00", true},
		{"the day after", "", "", nil, season, "2026-10-01T00:00:00+02:00", false},
		{"the night that starts on the last day", "22:00", "06:00", nil, season, "2026-10-01T03:00:00+02:00", true},
		{"the night before the first day", "22:00", "06:00", nil, season, "2026-05-01T03:00:00+02:00", false},

		{"before the skipped hour", "02:30", "03:30", nil, nil, "2026-03-29T01:59:59+01:00", false},
		{"after it the wall clock shows 03:00", "02:30", "03:30", nil, nil, "2026-03-29T03:00:00+02:00", true},
		{"and ends as ever", "02:30", "03:30", nil, nil, "2026-03-29T03:30:00+02:00", false},
		{"a window in the skipped hour alone is never", "02:00", "03:00", nil, nil, "2026-03-29T03:00:00+02:00", false},
		{"the repeated hour, first time", "02:00", "03:00", nil, nil, "2026-10-25T02:30:00+02:00", true},
		{"the repeated hour, second time", "02:00", "03:00", nil, nil, "2026-10-25T02:30:00+01:00", true},
		{"after the repeated hour", "02:00", "03:00", nil, nil, "2026-10-25T03:00:00+01:00", false},
		{"a night over the change", "22:00", "06:00", weekend, nil, "2026-10-25T05:59:00+01:00", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			e, err := engine.NewDirectory(directory.Contents{Zone: oslo, Windows: []directory.Window{
				{Name: "w", Days: c.days, From: clock(t, c.from), To: clock(t, c.to), Dates: c.dates}}}, engine.Mentioned{})
			require.NoError(t, err)
			at, err := time.Parse(time.RFC3339, c.at)
			require.NoError(t, err)
			require.Equal(t, c.want, e.InWindow(0, at), c.name)
		})
	}
}

// TestWindowTurnsAreWhereAWindowTurns asks a window at each quarter of an hour around the
// days on which clocks change: it opens and closes at the turns, and nowhere else.
func TestWindowTurnsAreWhereAWindowTurns(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	for name, day := range map[string]time.Time{
		"an ordinary day":    time.Date(2026, 11, 23, 0, 0, 0, 0, oslo),
		"clocks go forward":  time.Date(2026, 3, 29, 0, 0, 0, 0, oslo),
		"clocks go back":     time.Date(2026, 10, 25, 0, 0, 0, 0, oslo),
		"the day before":     time.Date(2026, 3, 28, 0, 0, 0, 0, oslo),
		"the day before too": time.Date(2026, 10, 24, 0, 0, 0, 0, oslo),
	} {
		for _, hours := range [][2]string{{"02:30", "05:00"}, {"00:00", "02:30"}, {"02:00", "03:00"}, {"22:00", "02:15"}} {
			t.Run(name+" "+hours[0]+"-"+hours[1], func(t *testing.T) {
				d, err := engine.NewDirectory(directory.Contents{Zone: oslo,
					Windows: []directory.Window{{Name: "w", From: clock(t, hours[0]), To: clock(t, hours[1])}}}, engine.Mentioned{})
				require.NoError(t, err)
				start, end := day.Add(-12*time.Hour), day.Add(36*time.Hour)
				var want []time.Time
				for moment := start.Add(15 * time.Minute); !moment.After(end); moment = moment.Add(15 * time.Minute) {
					if d.InWindow(0, moment) != d.InWindow(0, moment.Add(-15*time.Minute)) {
						want = append(want, moment.UTC())
					}
				}
				var turns []time.Time
				for _, turn := range d.WindowTurns(0, start, end) {
					turns = append(turns, turn.UTC())
				}
				require.Equal(t, want, turns)
			})
		}
	}
}
