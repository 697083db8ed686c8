package mmdb_test

import (
	"context"
	"io/fs"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
)

func TestConcurrentLookUps(t *testing.T) {
	file, err := fs.ReadFile(demo.Files(), "places.mmdb")
	require.NoError(t, err)
	database, err := mmdb.Open(file)
	require.NoError(t, err)
	bergen := attempt.Known(attempt.Location{Lat: 60.39, Lon: 5.32})
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for range 200 {
				for ip, want := range map[string]attempt.CountryCode{
					"192.0.2.70": "NO", "192.0.2.150": "BR", "192.0.2.20": "PL", "2001:db8:77::1": "SE", "198.51.100.200": "", "2001:db8:78::1": "",
				} {
					found, _ := database.Locate(context.Background(), netip.MustParseAddr(ip))
					if found.Country != want || found.Location.IsUnknown() != (want == "") ||
						ip == "192.0.2.70" && found.Location != bergen {
						t.Errorf("%s is in %q at %v", ip, found.Country, found.Location)
					}
				}
			}
		})
	}
	group.Wait()
	_, err = mmdb.Open(file[:100])
	require.ErrorContains(t, err, "this is no MMDB file")
}

// TestSurvey: each address of a range at which what is known changes is visited, with what a look-up of it finds.
func TestSurvey(t *testing.T) {
	file, err := fs.ReadFile(demo.Files(), "places.mmdb")
	require.NoError(t, err)
	database, err := mmdb.Open(file)
	require.NoError(t, err)
	for text, want := range map[string][]attempt.CountryCode{
		"192.0.2.0/25": {"", "PL", "", "NO"}, "192.0.2.70-192.0.2.71": {"NO"}, "2001:db8:76::/47": {"", "SE"}, "198.51.100.200": {""},
	} {
		r, err := directory.ParseRange(text)
		require.NoError(t, err)
		var seen []attempt.CountryCode
		last := netip.Addr{}
		require.NoError(t, database.Survey(r, func(first netip.Addr, found directory.Whereabouts) bool {
			require.True(t, r.Contains(first) && last.Less(first), "%s in %s", first, text)
			is, _ := database.Locate(context.Background(), first)
			require.Equal(t, is, found)
			if last = first; len(seen) == 0 || seen[len(seen)-1] != found.Country {
				seen = append(seen, found.Country)
			}
			return true
		}))
		require.Equal(t, want, seen, text)
	}
}
