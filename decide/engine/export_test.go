package engine

import (
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"golang.org/x/net/idna"
)

// PlainHost returns whether a host is taken as it stands, and what IDNA makes of it.
func PlainHost(host string) (plain bool, ascii string, err error) {
	ascii, err = idna.Lookup.ToASCII(strings.TrimSuffix(host, "."))
	return isPlainHost(host), ascii, err
}

// CountryMayHold answers a bound test about a country that is stated while the address is not known.
func (e *Directory) CountryMayHold(stated attempt.CountryCode, t *condition.Test) condition.Truth {
	return e.countryMayHold(stated, t)
}
