package directory

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
)

// Country is an ISO 3166-1 alpha-2 code that is assigned, or XK, which the
// standard leaves to users and which geolocation data uses for Kosovo.
type Country attempt.CountryCode

// assigned are the officially assigned codes of ISO 3166-1, and XK.
var assigned = strings.Fields("AD AE AF AG AI AL AM AO AQ AR AS AT AU AW AX AZ BA BB BD BE BF BG BH BI BJ BL BM BN BO BQ BR BS BT BV BW BY BZ " +
	"CA CC CD CF CG CH CI CK CL CM CN CO CR CU CV CW CX CY CZ DE DJ DK DM DO DZ EC EE EG EH ER ES ET FI FJ FK FM FO FR " +
	"GA GB GD GE GF GG GH GI GL GM GN GP GQ GR GS GT GU GW GY HK HM HN HR HT HU ID IE IL IM IN IO IQ IR IS IT JE JM JO JP " +
	"KE KG KH KI KM KN KP KR KW KY KZ LA LB LC LI LK LR LS LT LU LV LY MA MC MD ME MF MG MH MK ML MM MN MO MP MQ MR MS MT MU MV MW MX MY MZ " +
	"NA NC NE NF NG NI NL NO NP NR NU NZ OM PA PE PF PG PH PK PL PM PN PR PS PT PW PY QA RE RO RS RU RW " +
	"SA SB SC SD SE SG SH SI SJ SK SL SM SN SO SR SS ST SV SX SY SZ TC TD TF TG TH TJ TK TL TM TN TO TR TT TV TW TZ " +
	"UA UG UM US UY UZ VA VC VE VG VI VN VU WF WS XK YE YT ZA ZM ZW")

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
	case !slices.Contains(assigned, upper):
		return fmt.Errorf("%q is not an ISO 3166-1 alpha-2 country code such as NO", code)
	case code != upper:
		return fmt.Errorf("country codes are in capitals: write %s for %q", upper, code)
	}
	*c = Country(code)
	return nil
}

// IsReserved tells whether the standard leaves the code to its users (ISO 3166-1
// §8.1.3); the code of no country is not.
func (c Country) IsReserved() bool {
	return c == "AA" || c == "ZZ" || len(c) == 2 && (c[0] == 'X' || c[0] == 'Q' && c[1] >= 'M')
}

// countryNumber numbers all pairs of letters, so that a code that no standard
// knows still is a country of its own. What is no pair is no country.
func countryNumber(c attempt.CountryCode) int32 {
	if len(c) != 2 {
		return nobody
	}
	return int32(c[0]-'A')*26 + int32(c[1]-'A')
}

// Region is a named set of countries.
type Region struct {
	Name      string    `book:"-"`
	Countries []Country `book:",whole"`
}
