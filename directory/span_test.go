package directory_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/directory"
)

func TestWordsOfSpans(t *testing.T) {
	for text, want := range map[string]string{"30d": "30 days", "1d": "24 hours", "12h": "12 hours", "1h": "1 hour", "90m": "90 minutes",
		"45s": "45s", "168h": "7 days"} {
		t.Run(text, func(t *testing.T) {
			var s directory.Span
			require.NoError(t, s.UnmarshalText([]byte(text)))
			require.Equal(t, want, s.Words(), text)
		})
	}
}

// TestDaysBeginWhereTheirDateDoes goes through clock changes that skip midnight, or
// bring it twice.
func TestDaysBeginWhereTheirDateDoes(t *testing.T) {
	for _, c := range []struct{ name, zone, day, starts, ends string }{
		{"an ordinary day", "Europe/Oslo", "2026-11-23", "2026-11-22T23:00:00Z", "2026-11-23T23:00:00Z"},
		{"midnight is skipped west of Greenwich", "America/Santiago", "2026-09-06", "2026-09-06T04:00:00Z", "2026-09-07T03:00:00Z"},
		{"the day before it ends there", "America/Santiago", "2026-09-05", "2026-09-05T04:00:00Z", "2026-09-06T04:00:00Z"},
		{"midnight is skipped in Havana", "America/Havana", "2026-03-08", "2026-03-08T05:00:00Z", "2026-03-09T04:00:00Z"},
		{"midnight comes twice in Havana", "America/Havana", "2026-11-01", "2026-11-01T04:00:00Z", "2026-11-02T05:00:00Z"},
		{"eleven at night comes twice", "America/Santiago", "2026-04-04", "2026-04-04T03:00:00Z", "2026-04-05T04:00:00Z"},
		{"a month ends", "UTC", "2026-02-28", "2026-02-28T00:00:00Z", "2026-03-01T00:00:00Z"},
	} {
		t.Run(c.name, func(t *testing.T) {
			zone, err := time.LoadLocation(c.zone)
			require.NoError(t, err)
			var day directory.Date
			require.NoError(t, day.UnmarshalText([]byte(c.day)))
			require.Equal(t, c.starts, day.Start(zone).UTC().Format(time.RFC3339))
			require.Equal(t, c.ends, day.End(zone).UTC().Format(time.RFC3339))
			require.Equal(t, day, directory.DateOf(day.Start(zone).In(zone)))
			require.NotEqual(t, day, directory.DateOf(day.Start(zone).Add(-time.Nanosecond).In(zone)))
			require.Equal(t, day, directory.DateOf(day.End(zone).Add(-time.Nanosecond).In(zone)))
		})
	}
}

func TestTimesOfDayAreWrittenOneWay(t *testing.T) {
	for _, text := range []string{"+5:00", " 5:00", "05:+1", "5:00", "24:01", "29:00", "05:60", "05-00", "05:00 "} {
		require.Error(t, new(directory.Clock).UnmarshalText([]byte(text)), text)
	}
}

func TestTextForms(t *testing.T) {
	for _, c := range []struct {
		into  interface{ UnmarshalText([]byte) error }
		text  string
		wrong string
	}{
		{new(directory.Span), "1h30m", ""},
		{new(directory.Span), "30", "30d, 12h or 90m"},
		{new(directory.Span), "0h", "30d, 12h or 90m"},
		{new(directory.Clock), "24:00", ""},
		{new(directory.Clock), "24:01", "from 00:00 to 24:00"},
		{new(directory.Clock), "5:00", "from 00:00 to 24:00"},
		{new(directory.Clock), "-1:30", "from 00:00 to 24:00"},
		{new(directory.Date), "2026-02-29", "there is no day 2026-02-29"},
		{new(directory.DateRange), "2026-09-30..2026-05-01", "write 2026-05-01..2026-09-30"},
		{new(directory.Weekday), "mon", ""},
		{new(directory.Weekday), "mom", `did you mean "mon"?`},
		{new(directory.Country), "NO", ""},
		{new(directory.Country), "no", "write NO"},
		{new(directory.Country), "UK", "did you mean GB?"},
		{new(directory.Country), "QQ", "not an ISO 3166-1"},
		{new(directory.Country), " N", "not an ISO 3166-1"},
	} {
		t.Run(fmt.Sprintf("%T %s", c.into, c.text), func(t *testing.T) {
			err := c.into.UnmarshalText([]byte(c.text))
			if c.wrong == "" {
				require.NoError(t, err, c.text)
			} else {
				require.ErrorContains(t, err, c.wrong, c.text)
			}
		})
	}
	for text, want := range map[string]string{"7d": "168h", "90m": "90m", "4h": "4h", "45s": "45s", "2h60m": "3h"} {
		t.Run(text, func(t *testing.T) {
			var s directory.Span
			require.NoError(t, s.UnmarshalText([]byte(text)))
			require.Equal(t, want, s.String())
		})
	}
}
