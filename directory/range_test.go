package directory_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

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
		{text: "203.0.113.5/24",
			wrong: `"203.0.113.5/24" has bits set behind the /24; write 203.0.113.0/24 for the block or 203.0.113.5 for the one address`},
		{text: "198.51.100.95-198.51.100.64", wrong: "write 198.51.100.64-198.51.100.95"},
		{text: "198.51.100.1-2001:db8::1", wrong: "from IPv4 to IPv6"},
		{text: "::ffff:0.0.0.0/95", wrong: "wider than all of IPv4"},
		{text: "fe80::1%eth0", wrong: "write fe80::1"},
		{text: "203.0.113.0/33", wrong: "is no CIDR block"},
		{text: "203.0.113", wrong: "is no IP address"},
		{text: "", wrong: "is no IP address"},
	} {
		t.Run(c.text, func(t *testing.T) {
			r, err := directory.ParseRange(c.text)
			if c.wrong != "" {
				require.ErrorContains(t, err, c.wrong, c.text)
				return
			}
			require.NoError(t, err, c.text)
			require.Equal(t, []string{c.from, c.to, c.shown}, []string{r.From.String(), r.To.String(), r.String()}, c.text)
		})
	}
}

func FuzzParseRange(f *testing.F) {
	for _, seed := range []string{"198.51.100.7", "203.0.113.0/24", "198.51.100.64-198.51.100.95", "2001:db8::/32", "::ffff:1.2.3.4/100",
		"::-::1", "1-2", "/", "-"} {
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

func TestSample(t *testing.T) {
	for text, want := range map[string]string{"203.0.113.0/24": "203.0.113.1", "198.51.100.7": "198.51.100.7", "2001:db8::/64": "2001:db8::1",
		"10.0.0.8-10.0.0.9": "10.0.0.9"} {
		t.Run(text, func(t *testing.T) {
			r, err := directory.ParseRange(text)
			require.NoError(t, err)
			require.Equal(t, want, r.Sample().String())
		})
	}
}

func TestAddressesThatCarryAnother(t *testing.T) {
	r, err := directory.ParseRange("198.51.100.0/24")
	require.NoError(t, err)
	for text, in := range map[string]bool{"198.51.100.7": true, "::ffff:198.51.100.7": true, "64:ff9b::198.51.100.7": true,
		"64:ff9b::198.51.100.7%eth0": true,
		"64:ff9b:1::198.51.100.7":    false, "2002:c633:6407::1": false, "198.51.101.7": false} {
		t.Run(fmt.Sprint(text), func(t *testing.T) {
			require.Equal(t, in, r.Contains(netip.MustParseAddr(text)), text)
		})
	}
	require.Equal(t, netip.MustParseAddr("fe80::7"), directory.Plain(netip.MustParseAddr("fe80::7%eth0")), "an interface is no part of it")
	for text, want := range map[string]string{"64:ff9b::198.51.100.0/120": "198.51.100.0/24", "64:ff9b::198.51.100.7": "198.51.100.7",
		"2002:c633:6400::/48": "2002:c633:6400::/48"} {
		t.Run(text, func(t *testing.T) {
			r, err := directory.ParseRange(text)
			require.NoError(t, err)
			require.Equal(t, want, r.String())
		})
	}
}
