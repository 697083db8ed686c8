package directory

import (
	"fmt"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
)

// Country is an ISO 3166-1 alpha-2 code that is assigned, or XK, which the
// standard leaves to users and which geolocation data uses for Kosovo.
type Country attempt.CountryCode

// instead are the codes that people write for a country that has another.
var instead = map[string]string{"UK": "GB", "EL": "GR", "SU": "RU", "YU": "RS", "AN": "CW", "TP": "TL", "ZR": "CD", "BU": "MM"}

// UnmarshalText reads a code. The error for one that is not assigned says
// which one probably is meant.
func (c *Country) UnmarshalText(text []byte) error {
	code := string(text)
	upper := strings.ToUpper(code)
	switch other := instead[upper]; {
	case other != "":
		return fmt.Errorf("%q is not an assigned ISO 3166-1 code; did you mean %s?", code, other)
	case !attempt.CountryCode(upper).IsAssigned():
		return fmt.Errorf("%q is not an ISO 3166-1 alpha-2 country code such as NO", code)
	case code != upper:
		return fmt.Errorf("country codes are in capitals: write %s for %q", upper, code)
	}
	*c = Country(code)
	return nil
}

// IsReserved reports whether the standard leaves the code to its users (ISO 3166-1
// §8.1.3); the code of no country is not.
func (c Country) IsReserved() bool {
	return c == "AA" || c == "ZZ" || len(c) == 2 && (c[0] == 'X' || c[0] == 'Q' && c[1] >= 'M')
}

// Region is a named set of countries.
type Region struct {
	Name      string    `book:"-"`
	Countries []Country `book:",whole"`
}
