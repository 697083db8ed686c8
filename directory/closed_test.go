package directory_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

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

func TestNamesThatNobodyCouldTellApart(t *testing.T) {
	for name, wrong := range map[string]string{
		"ingrid@kestrelsound.example": "", "bücher": "", "naïve": "", "": "cannot be empty", "a b": "U+0020", "a\tb": "U+0009", "a\u200bb": "U+200B", "a\u202eb": "U+202E",
		"a\u00a0b": "U+00A0", "\u212aate": "write \"Kate\"", "nai\u0308ve": "composed form", "a\x1b[2Jb": "U+001B", "\ufeffa": "U+FEFF", "a\xffb": "UTF-8",
	} {
		if err := directory.CheckName(name); wrong == "" {
			require.NoError(t, err, name)
		} else {
			require.ErrorContains(t, err, wrong, "%+q", name)
		}
	}
}

func TestDomainsAreComparedByIDNA(t *testing.T) {
	d, err := directory.New(
		directory.Contents{
			Accounts: []directory.Account{
				{Name: "a@bücher.example"},
				{Name: "b@xn--bcher-kva.example"},
				{Name: "c@BÜCHER.example"},
				{Name: "d@book.example"},
				{Name: "e@f@BOOK.example"},
			},
		},
	)
	require.NoError(t, err)
	for domain, want := range map[string][]bool{"bücher.example": {true, true, true, false, false}, "xn--bcher-kva.example": {true, true, true, false, false}, "boo\u212a.example": {false, false, false, true, true}} {
		test, err := condition.Bind(&condition.Test{Key: directory.KeyDomains, Values: []string{domain}}, d.Vocabulary(""))
		require.NoError(t, err)
		for i, holds := range want {
			require.Equal(
				t,
				condition.Of(holds),
				test.(*condition.Test).Holds(directory.FactsOf(d.Profile(i), time.Time{})),
				"%s %s",
				domain,
				d.Accounts[i].Name,
			)
		}
	}
	_, err = condition.Bind(&condition.Test{Key: directory.KeyDomains, Values: []string{"not a domain"}}, d.Vocabulary(""))
	require.ErrorContains(t, err, "no domain")
}

func TestAddressesThatCarryAnother(t *testing.T) {
	r, err := directory.ParseRange("198.51.100.0/24")
	require.NoError(t, err)
	for text, in := range map[string]bool{"198.51.100.7": true, "::ffff:198.51.100.7": true, "64:ff9b::198.51.100.7": true, "64:ff9b:1::198.51.100.7": false, "2002:c633:6407::1": false, "198.51.101.7": false} {
		require.Equal(t, in, r.Contains(netip.MustParseAddr(text)), text)
	}
	for text, want := range map[string]string{"64:ff9b::198.51.100.0/120": "198.51.100.0/24", "64:ff9b::198.51.100.7": "198.51.100.7", "2002:c633:6400::/48": "2002:c633:6400::/48"} {
		r, err := directory.ParseRange(text)
		require.NoError(t, err)
		require.Equal(t, want, r.String())
	}
}

func TestTimesOfDayAreWrittenOneWay(t *testing.T) {
	for _, text := range []string{"+5:00", " 5:00", "05:+1", "5:00", "24:01", "29:00", "05:60", "05-00", "05:00 "} {
		require.Error(t, new(directory.Clock).UnmarshalText([]byte(text)), text)
	}
}

// TestSharesDependOnTheKey: anyone who chooses a name does not choose its side without
// the key.
func TestSharesDependOnTheKey(t *testing.T) {
	side := func(key string) (sides string) {
		var accounts []directory.Account
		for i := range 64 {
			accounts = append(accounts, directory.Account{Name: string(rune('a'+i%26)) + string(rune('a'+i/26))})
		}
		d, err := directory.New(directory.Contents{ShareKey: key, Accounts: accounts})
		require.NoError(t, err)
		test, err := condition.Bind(&condition.Test{Key: directory.KeyShare, Values: []string{"50"}}, d.Vocabulary("owner"))
		require.NoError(t, err)
		var room directory.Room
		for i := range accounts {
			holds := test.(*condition.Test).Holds(directory.FactsOf(d.Profile(i), time.Time{}))
			require.Equal(
				t,
				holds,
				test.(*condition.Test).Holds(directory.FactsOf(d.Resolve(&accounts[i], &room), time.Time{})),
				"supplied or listed, it is the same side",
			)
			sides += holds.String()[:1]
		}
		return sides
	}
	require.Equal(t, side("one"), side("one"))
	require.NotEqual(t, side("one"), side("two"))
	require.NotEqual(t, side(""), side("one"))
}

func TestAPushReachesOutWhateverABookLists(t *testing.T) {
	for _, m := range directory.Catalogue([]directory.Method{{Name: "push", Traits: []directory.Trait{directory.DeviceBound}}, {Name: "sms-code", Traits: []directory.Trait{}}}) {
		if m.Name == "push" || m.Name == "sms-code" {
			require.Contains(t, m.Traits, directory.OutOfBand, m.Name)
		}
	}
}

// TestWhatADeviceSays goes through what the attempt and the directory say of a
// device, and how old that is.
func TestWhatADeviceSays(t *testing.T) {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	ago := func(d time.Duration) *time.Time { t := at.Add(-d); return &t }
	yes, no := attempt.BoolScalar(true), attempt.BoolScalar(false)
	encrypted, firewall := directory.Check{Fact: "encrypted", Is: &yes}, directory.Check{Fact: "firewall", Is: &yes}
	version := directory.Check{Fact: "os", AtLeast: &directory.Minimum{ByPlatform: map[string]string{"windows": "10"}}}
	day := directory.Span(24 * time.Hour)
	for _, c := range []struct {
		name   string
		entry  directory.Device
		said   attempt.Device
		checks []directory.Check
		fresh  directory.Span
		want   directory.Fitness
	}{
		{"fresh and fit", directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(time.Hour)}, attempt.Device{}, []directory.Check{firewall}, day, directory.Fit},
		{"a new report does not make old facts new", directory.Device{Facts: map[string]attempt.Scalar{"encrypted": yes}, ReportedAt: ago(300 * 24 * time.Hour)},
			attempt.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: attempt.Known(at)}, []directory.Check{encrypted, firewall}, day, directory.Unreported},
		{"a report that is dated later did not happen", directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(-2 * time.Minute)}, attempt.Device{}, []directory.Check{firewall}, 0, directory.Unreported},
		{"but for the skew of clocks", directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(-time.Minute)}, attempt.Device{}, []directory.Check{firewall}, day, directory.Fit},
		{"an old report that fails is no report", directory.Device{Facts: map[string]attempt.Scalar{"firewall": no}, ReportedAt: ago(48 * time.Hour)}, attempt.Device{}, []directory.Check{firewall}, day, directory.Unreported},
		{"a platform that is not listed fails, reported or not", directory.Device{Platform: "linux"}, attempt.Device{}, []directory.Check{version}, day, directory.Unfit},
		{"a platform that nobody states is open", directory.Device{Facts: map[string]attempt.Scalar{"os": attempt.TextScalar("11")}, ReportedAt: ago(0)}, attempt.Device{}, []directory.Check{version}, day, directory.Unreported},
		{"what the attempt says wins", directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(0)}, attempt.Device{Facts: map[string]attempt.Scalar{"firewall": no}}, []directory.Check{firewall}, 0, directory.Unfit},
		{"a version that begins with a dot is none", directory.Device{Platform: "windows", Facts: map[string]attempt.Scalar{"os": attempt.TextScalar(".11")}, ReportedAt: ago(0)}, attempt.Device{}, []directory.Check{version}, day, directory.Unfit},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.entry.Name, c.said.ID = "laptop", attempt.Known("laptop")
			d, err := directory.New(directory.Contents{Devices: []directory.Device{c.entry}})
			require.NoError(t, err)
			view := d.View(&attempt.Attempt{At: at, Device: attempt.Known(c.said)})
			require.Equal(t, c.want, view.Assess(&directory.Posture{Name: "fit", Fresh: c.fresh, Checks: c.checks}))
		})
	}
	d, err := directory.New(directory.Contents{Devices: []directory.Device{{Name: "hub"}}})
	require.NoError(t, err)
	view := d.View(&attempt.Attempt{At: at, Device: attempt.Known(attempt.Device{ID: attempt.Known("hub")})})
	_, known := view.Platform()
	require.False(t, known, "a platform that the directory does not state is unknown")
	require.Equal(t, condition.False, view.Managed(), "but a device in it is managed only where it says so")
}
