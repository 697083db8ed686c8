package estate

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// nobody is the number of a name that may stand in a condition though nothing
// bears it, such as a domain without accounts.
const nobody int32 = -1

// Bind implements condition.Vocabulary.
func (e *Estate) Bind(key condition.Key, value string) ([]int32, string, error) {
	switch key {
	case condition.Anyone:
		return nil, "an account of the book", nil
	case condition.Every:
		return nil, "an app of the book", nil
	case condition.Accounts:
		return one("account", value, e.accountNumber)
	case condition.Groups:
		return one("group", value, e.groupNumber)
	case condition.Names:
		return one("app", value, e.appNumber)
	case condition.Domains:
		return orNobody(e.domainNumber, strings.ToLower(value)), value, nil
	case condition.Tags:
		return orNobody(e.tagNumber, value), value, nil
	case condition.Kinds:
		var kind Kind
		err := kind.UnmarshalText([]byte(value))
		return []int32{int32(kind)}, value, err
	case condition.Networks:
		if r, err := ParseRange(value); err == nil {
			if i := slices.Index(e.Literals, r); i >= 0 {
				return []int32{int32(len(e.Networks) + i)}, value, nil
			}
		}
		return one("network", value, e.networkNumber)
	case condition.OurNetwork:
		if value == "true" {
			return []int32{1}, "an own network", nil
		}
		return []int32{0}, "no own network", nil
	case condition.Countries:
		return e.bindCountries(value)
	case condition.During:
		numbers, words, err := one("window", value, e.windowNumber)
		if err == nil {
			if hours := e.Windows[numbers[0]].String(); hours != "" {
				words += " (" + hours + ")"
			}
		}
		return numbers, words, err
	case condition.Through:
		var through attempt.Through
		err := through.UnmarshalText([]byte(value))
		return []int32{int32(through)}, value, err
	}
	return nil, "", fmt.Errorf("key %s has no meaning here", key)
}

func one(what, name string, numbers map[string]int32) ([]int32, string, error) {
	n, ok := numbers[name]
	if !ok {
		return nil, "", fmt.Errorf("%s %q is not defined", what, name)
	}
	return []int32{n}, name, nil
}

func orNobody(numbers map[string]int32, name string) []int32 {
	if n, ok := numbers[name]; ok {
		return []int32{n}
	}
	return []int32{nobody}
}

func (e *Estate) bindCountries(value string) ([]int32, string, error) {
	if region, ok := e.regionNumber[value]; ok {
		var numbers []int32
		var codes []string
		for _, c := range e.Regions[region].Countries {
			numbers = append(numbers, countryNumber(attempt.CountryCode(c)))
			codes = append(codes, string(c))
		}
		slices.Sort(codes)
		return numbers, value + " (" + strings.Join(codes, ", ") + ")", nil
	}
	var code Country
	if err := code.UnmarshalText([]byte(value)); err != nil {
		return nil, "", fmt.Errorf("no region is named so, and %w", err)
	}
	return []int32{countryNumber(attempt.CountryCode(code))}, value, nil
}

// AccountHolds answers a bound test about the account of that number.
func (e *Estate) AccountHolds(account int, t *condition.Test) condition.Truth {
	switch facts := &e.accounts[account]; t.Key {
	case condition.Anyone:
		return condition.True
	case condition.Accounts:
		return among(t, int32(account))
	case condition.Groups:
		return condition.Of(intersects(t.Numbers(), facts.groups))
	case condition.Domains:
		return among(t, facts.domain)
	case condition.Kinds:
		return among(t, int32(e.Accounts[account].Kind))
	}
	return condition.Unknown
}

// AppHolds answers a bound test about the app of that number.
func (e *Estate) AppHolds(app int, t *condition.Test) condition.Truth {
	switch t.Key {
	case condition.Every:
		return condition.True
	case condition.Names:
		return among(t, int32(app))
	case condition.Tags:
		return condition.Of(intersects(t.Numbers(), e.apps[app].tags))
	}
	return condition.Unknown
}

// PlaceHolds answers a bound test about an address.
func (e *Estate) PlaceHolds(p *Place, t *condition.Test) condition.Truth {
	if t.Key == condition.OurNetwork {
		ours := int32(0)
		if p.Ours {
			ours = 1
		}
		return among(t, ours)
	}
	return condition.Of(intersects(t.Numbers(), p.Networks))
}

// CountryHolds answers a bound test about a country.
func CountryHolds(c attempt.CountryCode, t *condition.Test) condition.Truth {
	return among(t, countryNumber(c))
}

// ThroughHolds answers a bound test about what a sign-in is made through.
func ThroughHolds(through attempt.Through, t *condition.Test) condition.Truth {
	return among(t, int32(through))
}

// among tells whether the number is one that the test names.
func among(t *condition.Test, number int32) condition.Truth {
	for _, n := range t.Numbers() {
		if n == number {
			return condition.True
		}
	}
	return condition.False
}

// CountryMayHold answers a bound test about a country that is stated while the
// address is not known: a network that states another country could yet
// contradict it, so the answer is sure only where those would answer the same.
func (e *Estate) CountryMayHold(stated attempt.CountryCode, t *condition.Test) condition.Truth {
	held := CountryHolds(stated, t)
	for i := range e.Networks {
		if c := e.Networks[i].Country; c != "" && CountryHolds(attempt.CountryCode(c), t) != held {
			return condition.Unknown
		}
	}
	return held
}

// SawAccount describes what a key sees of the account of that number.
func (e *Estate) SawAccount(account int, key condition.Key) string {
	if account < 0 {
		return "an account that the book does not have"
	}
	a := &e.Accounts[account]
	switch key {
	case condition.Groups:
		return orNone(e.GroupsOf(account), "no group")
	case condition.Domains:
		if domain := domainOf(a.Name); domain != "" {
			return domain
		}
		return "no domain"
	case condition.Kinds:
		return a.Kind.String()
	}
	return a.Name
}

// SawApp describes what a key sees of the app of that number.
func (e *Estate) SawApp(app int, key condition.Key) string {
	if app < 0 {
		return "an app that the book does not have"
	}
	if key == condition.Tags {
		return orNone(e.Apps[app].Tags, "no tag")
	}
	return e.Apps[app].Name
}

func orNone(names []string, none string) string {
	if len(names) == 0 {
		return none
	}
	return strings.Join(names, ", ")
}
