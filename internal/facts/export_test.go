package facts

import (
	"strings"

	"golang.org/x/net/idna"
)

// PlainHost returns whether a host is taken as it stands, and what IDNA makes of it.
func PlainHost(host string) (plain bool, ascii string, err error) {
	ascii, err = idna.Lookup.ToASCII(strings.TrimSuffix(host, "."))
	return isPlainHost(host), ascii, err
}
