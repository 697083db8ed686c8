package attempt

import (
	"fmt"
	"strings"
)

// CountryCode is an ISO 3166-1 alpha-2 code in capitals. A code that is not
// assigned, or not in capitals, is no known country: whatever asks for the
// country then finds it unknown.
type CountryCode string

// assigned has a bit for each code that ISO 3166-1 assigns, and for XK, which the
// standard leaves to its users and which geolocation data uses for Kosovo.
var assigned = func() (codes [26]uint32) {
	for _, code := range strings.Fields(
		"AD AE AF AG AI AL AM AO AQ AR AS AT AU AW AX AZ BA BB BD BE BF BG BH BI BJ BL BM BN BO BQ BR BS BT BV BW BY BZ " +
			"CA CC CD CF CG CH CI CK CL CM CN CO CR CU CV CW CX CY CZ DE DJ DK DM DO DZ EC EE EG EH ER ES ET FI FJ FK FM FO FR " +
			"GA GB GD GE GF GG GH GI GL GM GN GP GQ GR GS GT GU GW GY HK HM HN HR HT HU ID IE IL IM IN IO IQ IR IS IT JE JM JO JP " +
			"KE KG KH KI KM KN KP KR KW KY KZ LA LB LC LI LK LR LS LT LU LV LY MA MC MD ME MF MG MH MK ML MM MN MO MP MQ MR MS MT " +
			"MU MV MW MX MY MZ NA NC NE NF NG NI NL NO NP NR NU NZ OM PA PE PF PG PH PK PL PM PN PR PS PT PW PY QA RE RO RS RU RW " +
			"SA SB SC SD SE SG SH SI SJ SK SL SM SN SO SR SS ST SV SX SY SZ TC TD TF TG TH TJ TK TL TM TN TO TR TT TV TW TZ " +
			"UA UG UM US UY UZ VA VC VE VG VI VN VU WF WS XK YE YT ZA ZM ZW") {
		codes[code[0]-'A'] |= 1 << (code[1] - 'A')
	}
	return codes
}()

// IsAssigned reports whether the code is one that ISO 3166-1 assigns, or XK.
func (c CountryCode) IsAssigned() bool {
	return len(c) == 2 && isCapital(c[0]) && isCapital(c[1]) && assigned[c[0]-'A']&(1<<(c[1]-'A')) != 0
}

// Number returns a number from 0 to 675 that no other code has, and -1 for a code
// that is not assigned.
func (c CountryCode) Number() int32 {
	if !c.IsAssigned() {
		return -1
	}
	return int32(c[0]-'A')*26 + int32(c[1]-'A')
}

// UnmarshalText reads two capital letters. Whether the code is assigned is not
// asked here, so that one odd record does not make a history unreadable.
func (c *CountryCode) UnmarshalText(text []byte) error {
	if len(text) != 2 || !isCapital(text[0]) || !isCapital(text[1]) {
		return fmt.Errorf("a country is two capital letters (ISO 3166-1 alpha-2) such as NO, not %q", text)
	}
	*c = CountryCode(text)
	return nil
}

func isCapital(b byte) bool { return 'A' <= b && b <= 'Z' }
