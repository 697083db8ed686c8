package inspect

import (
	"net/netip"
	"strings"

	"github.com/briskwarden/briskwarden/directory"
)

// PlaceholderCheck is the check that finds what a new book lays out to be replaced.
const PlaceholderCheck = "placeholder"

var placeholderChecks = []Check{
	{PlaceholderCheck, topicUpkeep, Warning, "a name or an address that is for documentation",
		"A new book is laid out with names and addresses that belong to nobody. Where one is left in, the policies are about a house that " +
			"does not exist: nobody comes from the office, and nobody signs on to the app.",
		"Put in your own.", placeholders},
}

// documentation are the addresses that belong to nobody (RFC 5737 §3, RFC 3849 §2).
var documentation = []netip.Prefix{
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("2001:db8::/32"),
}

// isForDocumentation reports whether a domain is one of those that RFC 2606 §3 reserves.
func isForDocumentation(domain string) bool {
	for _, reserved := range []string{"example.com", "example.net", "example.org"} {
		if domain == reserved || strings.HasSuffix(domain, "."+reserved) {
			return true
		}
	}
	return false
}

// placeholders finds what start lays out to be replaced. A house whose hosts are all made
// up (under .example, RFC 2606 §2), such as the demo's, has made-up addresses too.
func placeholders(in *Pass) {
	real := false
	for i := range in.Directory.Apps {
		app := &in.Directory.Apps[i]
		for _, host := range app.Hosts {
			name, _, _ := strings.Cut(host, "/")
			real = real || !strings.HasSuffix(name, ".example")
			if isForDocumentation(name) {
				in.Report("app/"+app.Name, in.where("app", app.Name), "The host %s of %s is for documentation.", host, app.Name)
			}
		}
	}
	for i := range in.Directory.Accounts {
		a := &in.Directory.Accounts[i]
		if isForDocumentation(in.Directory.Profile(i).Domain()) {
			in.Report("account/"+a.Name, in.where("account", a.Name), "The account %s is of a domain for documentation.", a.Name)
		}
	}
	if !real {
		return
	}
	in.eachRange(func(n directory.Network, r directory.Range, p netip.Prefix) {
		for _, d := range documentation {
			if n.Ours && d.Overlaps(p) && d.Bits() <= p.Bits() {
				in.Report("network/"+n.Name, in.where("network", n.Name), "The range %s of the own network %s is for documentation.", r, n.Name)
			}
		}
	})
}
