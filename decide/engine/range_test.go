package engine_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

func TestPlacesInheritFromWiderRanges(t *testing.T) {
	ranges := func(texts ...string) (all []directory.Range) {
		for _, text := range texts {
			r, err := directory.ParseRange(text)
			require.NoError(t, err)
			all = append(all, r)
		}
		return all
	}
	e, err := engine.NewDirectory(directory.Contents{Networks: []directory.Network{
		{Name: "world", Ranges: ranges("0.0.0.0/0"), Country: "US"},
		{Name: "office", Ranges: ranges("203.0.113.0/24", "2001:db8::/32"), Ours: true, Country: "NO"},
		{Name: "till", Ranges: ranges("203.0.113.64-203.0.113.99")},
		// Its last block is narrower than the corner, but the range is not.
		{Name: "spread", Ranges: ranges("203.0.113.90-203.0.113.112"), Country: "PL"},
		{Name: "corner", Ranges: ranges("203.0.113.112/29"), Country: "SE", Anonymous: true},
	}}, engine.Mentioned{})
	require.NoError(t, err)
	for _, c := range []struct {
		ip, country string
		networks    []string
		ours        bool
	}{
		{"192.0.2.1", "US", []string{"world"}, false},
		{"203.0.113.1", "NO", []string{"office", "world"}, true},
		{"::ffff:203.0.113.64", "NO", []string{"office", "till", "world"}, true},
		{"203.0.113.99", "PL", []string{"office", "spread", "till", "world"}, true},
		{"203.0.113.112", "SE", []string{"corner", "office", "spread", "world"}, true},
		{"2001:db8::1", "NO", []string{"office"}, true},
		{"2001:db9::1", "", nil, false},
	} {
		t.Run(c.ip, func(t *testing.T) {
			place := e.Place(netip.MustParseAddr(c.ip))
			require.Equal(t, c.networks, e.NetworkNames(place), c.ip)
			require.Equal(t, c.country, string(place.Country), c.ip)
			require.Equal(t, c.ours, place.Ours, c.ip)
		})
	}
	require.Empty(t, e.Place(netip.Addr{}).Networks, "no address lies nowhere")
	near, ok := e.NearestNetwork(netip.MustParseAddr("2001:db9::"))
	require.True(t, ok)
	require.Equal(t, "office 1", near.Network+" "+near.Away.String())
}

func TestGroupsReachThroughIncludes(t *testing.T) {
	e, err := engine.NewDirectory(directory.Contents{
		Accounts: []directory.Account{{Name: "liv@One.Example", Groups: []string{"engine"}}, {Name: "pelle"}},
		Groups: []directory.Group{{Name: "all", Includes: []string{"crew"}}, {Name: "crew", Includes: []string{"engine"}},
			{Name: "engine"}, {Name: "deck", Members: []string{"pelle"}}},
	}, engine.Mentioned{})
	require.NoError(t, err)
	require.Equal(t, []string{"all", "crew", "engine"}, e.Profile(0).Groups())
	require.Equal(t, []string{"deck"}, e.Profile(1).Groups())
	domain, err := condition.Bind(&condition.Test{Key: engine.KeyDomains, Values: []string{"one.example"}}, e.Vocabulary(""))
	require.NoError(t, err)
	require.Equal(t, condition.True, domain.(*condition.Test).Holds(engine.FactsOf(e.Profile(0), time.Time{})), "domains have no case")
	require.Equal(
		t,
		condition.False,
		domain.(*condition.Test).Holds(engine.FactsOf(e.Profile(1), time.Time{})),
		"a name without @ has no domain",
	)
}

func TestNewRefuses(t *testing.T) {
	for wrong, c := range map[string]directory.Contents{
		`account "a" is defined twice`:             {Accounts: []directory.Account{{Name: "a"}, {Name: "a"}}},
		`account a: group "g" is not defined`:      {Accounts: []directory.Account{{Name: "a", Groups: []string{"g"}}}},
		`account a: method "smoke" is not defined`: {Accounts: []directory.Account{{Name: "a", Methods: []string{"smoke"}}}},
		`group g: account "a" is not defined`:      {Groups: []directory.Group{{Name: "g", Members: []string{"a"}}}},
		"group g includes itself: g > h > g": {Groups: []directory.Group{{Name: "g", Includes: []string{"h"}}, {Name: "h",
			Includes: []string{"g"}}}},
		`app p: group "g" is not defined`: {Apps: []directory.App{{Name: "p", OpenTo: []string{"g"}}}},
	} {
		t.Run(fmt.Sprint(wrong), func(t *testing.T) {
			_, err := engine.NewDirectory(c, engine.Mentioned{})
			require.ErrorContains(t, err, wrong)
		})
	}
}
