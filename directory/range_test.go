package directory_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

func TestParseRange(t *testing.T) {
	for _, c := range []struct{ text, from, to, shown, wrong string }{
		{"198.51.100.7", "198.51.100.7", "198.51.100.7", "198.51.100.7", ""},
		{"203.0.113.0/24", "203.0.113.0", "203.0.113.255", "203.0.113.0/24", ""},
		{"198.51.100.64-198.51.100.95", "198.51.100.64", "198.51.100.95", "198.51.100.64/27", ""},
		{"198.51.100.64 - 198.51.100.96", "198.51.100.64", "198.51.100.96", "198.51.100.64-198.51.100.96", ""},
		{"2001:db8:51::/48", "2001:db8:51::", "2001:db8:51:ffff:ffff:ffff:ffff:ffff", "2001:db8:51::/48", ""},
		{"::ffff:203.0.113.9", "203.0.113.9", "203.0.113.9", "203.0.113.9", ""},
		{"::ffff:203.0.113.0/120", "203.0.113.0", "203.0.113.255", "203.0.113.0/24", ""},
		{"0.0.0.0/0", "0.0.0.0", "255.255.255.255", "0.0.0.0/0", ""},
		{text: "203.0.113.5/24", wrong: `"203.0.113.5/24" has bits set behind the /24; write 203.0.113.0/24 for the block or 203.0.113.5 for the one address`},
		{text: "198.51.100.95-198.51.100.64", wrong: "write 198.51.100.64-198.51.100.95"},
		{text: "198.51.100.1-2001:db8::1", wrong: "from IPv4 to IPv6"},
		{text: "::ffff:0.0.0.0/95", wrong: "wider than all of IPv4"},
		{text: "fe80::1%eth0", wrong: "write fe80::1"},
		{text: "203.0.113.0/33", wrong: "is no CIDR block"},
		{text: "203.0.113", wrong: "is no IP address"},
		{text: "", wrong: "is no IP address"},
	} {
		r, err := directory.ParseRange(c.text)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		require.Equal(t, []string{c.from, c.to, c.shown}, []string{r.From.String(), r.To.String(), r.String()}, c.text)
	}
}

func FuzzParseRange(f *testing.F) {
	for _, seed := range []string{"198.51.100.7", "203.0.113.0/24", "198.51.100.64-198.51.100.95", "2001:db8::/32", "::ffff:1.2.3.4/100", "::-::1", "1-2", "/", "-"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := directory.ParseRange(text)
		if err != nil {
			return
		}
		again, err := directory.ParseRange(r.String())
		require.NoError(t, err, "what String writes can be read")
		require.Equal(t, r, again)
		require.True(t, r.Contains(r.From) && r.Contains(r.To) && !r.Contains(r.To.Next()) && !r.Contains(r.From.Prev()))
		for _, p := range r.Prefixes() {
			require.True(t, r.Contains(p.Addr()), "%s of %s", p, r)
		}
	})
}

func TestPlacesInheritFromWiderRanges(t *testing.T) {
	ranges := func(texts ...string) (all []directory.Range) {
		for _, text := range texts {
			r, err := directory.ParseRange(text)
			require.NoError(t, err)
			all = append(all, r)
		}
		return all
	}
	e, err := directory.New(directory.Contents{Networks: []directory.Network{
		{Name: "world", Ranges: ranges("0.0.0.0/0"), Country: "US"},
		{Name: "office", Ranges: ranges("203.0.113.0/24", "2001:db8::/32"), Ours: true, Country: "NO"},
		{Name: "till", Ranges: ranges("203.0.113.64-203.0.113.99")},
		// Its last block is narrower than the corner, but the range is not.
		{Name: "spread", Ranges: ranges("203.0.113.90-203.0.113.112"), Country: "PL"},
		{Name: "corner", Ranges: ranges("203.0.113.112/29"), Country: "SE", Anonymous: true},
	}})
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
		place := e.Place(netip.MustParseAddr(c.ip))
		require.Equal(t, c.networks, e.NetworkNames(place), c.ip)
		require.Equal(t, c.country, string(place.Country), c.ip)
		require.Equal(t, c.ours, place.Ours, c.ip)
	}
	require.Empty(t, e.Place(netip.Addr{}).Networks, "no address lies nowhere")
	near, ok := e.NearestNetwork(netip.MustParseAddr("2001:db9::"))
	require.True(t, ok)
	require.Equal(t, "office 1", near.Network+" "+near.Away.String())
}

func TestGroupsReachThroughIncludes(t *testing.T) {
	e, err := directory.New(directory.Contents{
		Accounts: []directory.Account{{Name: "liv@One.Example", Groups: []string{"engine"}}, {Name: "pelle"}},
		Groups: []directory.Group{{Name: "all", Includes: []string{"crew"}}, {Name: "crew", Includes: []string{"engine"}},
			{Name: "engine"}, {Name: "deck", Members: []string{"pelle"}}},
	})
	require.NoError(t, err)
	require.Equal(t, []string{"all", "crew", "engine"}, e.Profile(0).Groups())
	require.Equal(t, []string{"deck"}, e.Profile(1).Groups())
	domain, err := condition.Bind(&condition.Test{Key: directory.KeyDomains, Values: []string{"one.example"}}, e.Vocabulary(""))
	require.NoError(t, err)
	require.Equal(t, condition.True, domain.(*condition.Test).Holds(directory.FactsOf(e.Profile(0), time.Time{})), "domains have no case")
	require.Equal(
		t,
		condition.False,
		domain.(*condition.Test).Holds(directory.FactsOf(e.Profile(1), time.Time{})),
		"a name without @ has no domain",
	)
}

func TestNewRefuses(t *testing.T) {
	for wrong, c := range map[string]directory.Contents{
		`account "a" is defined twice`:             {Accounts: []directory.Account{{Name: "a"}, {Name: "a"}}},
		`account a: group "g" is not defined`:      {Accounts: []directory.Account{{Name: "a", Groups: []string{"g"}}}},
		`account a: method "smoke" is not defined`: {Accounts: []directory.Account{{Name: "a", Methods: []string{"smoke"}}}},
		`group g: account "a" is not defined`:      {Groups: []directory.Group{{Name: "g", Members: []string{"a"}}}},
		"group g includes itself: g > h > g":       {Groups: []directory.Group{{Name: "g", Includes: []string{"h"}}, {Name: "h", Includes: []string{"g"}}}},
		`app p: group "g" is not defined`:          {Apps: []directory.App{{Name: "p", OpenTo: []string{"g"}}}},
	} {
		_, err := directory.New(c)
		require.ErrorContains(t, err, wrong)
	}
}
