package engine_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

func TestDomainsAreComparedByIDNA(t *testing.T) {
	d, err := engine.NewDirectory(
		directory.Contents{
			Accounts: []directory.Account{
				{Name: "a@bücher.example"},
				{Name: "b@xn--bcher-kva.example"},
				{Name: "c@BÜCHER.example"},
				{Name: "d@book.example"},
				{Name: "e@f@BOOK.example"},
			},
		}, engine.Mentioned{})
	require.NoError(t, err)
	for domain, want := range map[string][]bool{
		"bücher.example": {true, true, true, false, false}, "xn--bcher-kva.example": {true, true, true,
			false, false}, "boo\u212a.example": {false, false, false, true, true}} {
		t.Run(fmt.Sprint(domain), func(t *testing.T) {
			test, err := condition.Bind(&condition.Test{Key: engine.KeyDomains, Values: []string{domain}}, d.Vocabulary(""))
			require.NoError(t, err)
			for i, holds := range want {
				require.Equal(
					t,
					condition.Of(holds),
					test.(*condition.Test).Holds(engine.FactsOf(d.Profile(i), time.Time{})),
					"%s %s",
					domain,
					d.Accounts[i].Name,
				)
			}
		})
	}
	_, err = condition.Bind(&condition.Test{Key: engine.KeyDomains, Values: []string{"not a domain"}}, d.Vocabulary(""))
	require.ErrorContains(t, err, "no domain")
}

// TestSharesDependOnTheKey: anyone who chooses a name does not choose its side without
// the key.
func TestSharesDependOnTheKey(t *testing.T) {
	side := func(key string) (sides string) {
		var accounts []directory.Account
		for i := range 64 {
			accounts = append(accounts, directory.Account{Name: string(rune('a'+i%26)) + string(rune('a'+i/26))})
		}
		d, err := engine.NewDirectory(directory.Contents{ShareKey: key, Accounts: accounts}, engine.Mentioned{})
		require.NoError(t, err)
		test, err := condition.Bind(&condition.Test{Key: engine.KeyShare, Values: []string{"50"}}, d.Vocabulary("owner"))
		require.NoError(t, err)
		var room engine.Room
		for i := range accounts {
			holds := test.(*condition.Test).Holds(engine.FactsOf(d.Profile(i), time.Time{}))
			require.Equal(
				t,
				holds,
				test.(*condition.Test).Holds(engine.FactsOf(d.Resolve(&accounts[i], time.Time{}, &room), time.Time{})),
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
		want   engine.Fitness
	}{
		{"fresh and fit", directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(time.Hour)}, attempt.Device{},
			[]directory.Check{firewall}, day, engine.Fit},
		{"a new report does not make old facts new",
			directory.Device{Facts: map[string]attempt.Scalar{"encrypted": yes}, ReportedAt: ago(300 * 24 * time.Hour)},
			attempt.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: attempt.Known(at)}, []directory.Check{encrypted, firewall},
			day, engine.Unreported},
		{"a report that is dated later did not happen",
			directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(-2 * time.Minute)},
			attempt.Device{}, []directory.Check{firewall}, 0, engine.Unreported},
		{"but for the skew of clocks", directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(-time.Minute)},
			attempt.Device{}, []directory.Check{firewall}, day, engine.Fit},
		{"an old report that fails is no report",
			directory.Device{Facts: map[string]attempt.Scalar{"firewall": no}, ReportedAt: ago(48 * time.Hour)},
			attempt.Device{}, []directory.Check{firewall}, day, engine.Unreported},
		{"a platform that is not listed fails, reported or not", directory.Device{Platform: "linux"}, attempt.Device{},
			[]directory.Check{version}, day, engine.Unfit},
		{"a platform that nobody states is open", directory.Device{Facts: map[string]attempt.Scalar{"os": attempt.TextScalar("11")},
			ReportedAt: ago(0)}, attempt.Device{}, []directory.Check{version}, day, engine.Unreported},
		{"what the attempt says wins", directory.Device{Facts: map[string]attempt.Scalar{"firewall": yes}, ReportedAt: ago(0)},
			attempt.Device{Facts: map[string]attempt.Scalar{"firewall": no}}, []directory.Check{firewall}, 0, engine.Unfit},
		{"a version that begins with a dot is none, however little is asked",
			directory.Device{Facts: map[string]attempt.Scalar{"os": attempt.TextScalar(".5")}, ReportedAt: ago(0)},
			attempt.Device{}, []directory.Check{{Fact: "os", AtLeast: &directory.Minimum{All: "0"}}}, day, engine.Unfit},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.entry.Name, c.said.ID = "laptop", attempt.Known("laptop")
			d, err := engine.NewDirectory(directory.Contents{Devices: []directory.Device{c.entry}}, engine.Mentioned{})
			require.NoError(t, err)
			view := d.View(&attempt.Attempt{At: at, Device: attempt.Known(c.said)})
			require.Equal(t, c.want, view.Assess(&directory.Posture{Name: "fit", Fresh: c.fresh, Checks: c.checks}))
		})
	}
	d, err := engine.NewDirectory(directory.Contents{Devices: []directory.Device{{Name: "hub"}}}, engine.Mentioned{})
	require.NoError(t, err)
	view := d.View(&attempt.Attempt{At: at, Device: attempt.Known(attempt.Device{ID: attempt.Known("hub")})})
	_, known := view.Platform()
	require.False(t, known, "a platform that the directory does not state is unknown")
	require.Equal(t, condition.False, view.Managed(), "but a device in it is managed only where it says so")
}
