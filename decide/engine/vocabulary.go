package engine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// nobody is the number of a name that may stand in a condition though nothing
// bears it, such as a domain without accounts.
const nobody int32 = -1

// Vocabulary knows the names of an directory. It implements condition.Vocabulary
// for the keys whose names the directory defines.
type Vocabulary struct {
	*Directory
	salt uint64
}

// Vocabulary returns the directory's names. Shares are drawn for the owner, such as
// a policy: two owners draw different accounts.
func (e *Directory) Vocabulary(owner string) Vocabulary { return Vocabulary{e, e.hashText(owner)} }

// Bind implements condition.Vocabulary.
func (v Vocabulary) Bind(t *condition.Test, value string) (condition.Binding, error) {
	return t.Key.Definition().Bind(v, t, value)
}

// Percent reads a whole number from 1 to 100.
func Percent(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 100 {
		return 0, fmt.Errorf("expected a whole number from 1 to 100, found %q", text)
	}
	return n, nil
}

// levelBinding binds the name of a level of risk.
func levelBinding(value string) (condition.Binding, error) {
	level, err := directory.ParseLevel(value)
	return condition.Binding{Limit: int64(level), Words: "at least " + value}, err
}

// deviceTrait is what the key `device` can ask for.
type deviceTrait uint8

// What a device can be.
const (
	knownDevice deviceTrait = iota
	managedDevice
	sharedDevice
	ownDevice
)

var deviceTraits = []string{"known", "managed", "shared", "own"}

// UnmarshalText reads known, managed, shared or own.
func (d *deviceTrait) UnmarshalText(text []byte) error {
	return words.Parse(d, "what a device can be", string(text), deviceTraits, 0)
}

func one(what, name string, numbers map[string]int32) (condition.Binding, error) {
	n, ok := numbers[name]
	if !ok {
		return condition.Binding{}, fmt.Errorf("%s %q is not defined", what, name)
	}
	return condition.Binding{Numbers: []int32{n}, Words: name}, nil
}

func orNobody(numbers map[string]int32, name, words string) condition.Binding {
	if n, ok := numbers[name]; ok {
		return condition.Binding{Numbers: []int32{n}, Words: words}
	}
	return condition.Binding{Numbers: []int32{nobody}, Words: words}
}

func (e *Directory) bindCountries(value string) (condition.Binding, error) {
	if region, ok := e.regionNumber[value]; ok {
		var numbers []int32
		var codes []string
		for _, c := range e.Regions[region].Countries {
			numbers = append(numbers, attempt.CountryCode(c).Number())
			codes = append(codes, string(c))
		}
		slices.Sort(codes)
		return condition.Binding{Numbers: numbers, Words: value + " (" + strings.Join(codes, ", ") + ")"}, nil
	}
	var code directory.Country
	if err := code.UnmarshalText([]byte(value)); err != nil {
		return condition.Binding{}, fmt.Errorf("no region is named so, and %w", err)
	}
	return condition.Binding{Numbers: []int32{attempt.CountryCode(code).Number()}, Words: value}, nil
}

// CountryHolds answers a bound test about a country.
func CountryHolds(c attempt.CountryCode, t *condition.Test) condition.Truth {
	if !c.IsAssigned() {
		return condition.Unknown
	}
	return among(t, c.Number())
}

func (v *DeviceView) is(trait deviceTrait, account string) condition.Truth {
	switch trait {
	case knownDevice:
		return v.isKnown()
	case managedDevice:
		return v.Managed()
	case sharedDevice:
		return v.Shared()
	}
	return v.ownedBy(account)
}

// among reports whether the number is one that the test names.
func among(t *condition.Test, number int32) condition.Truth {
	for _, n := range t.Numbers() {
		if n == number {
			return condition.True
		}
	}
	return condition.False
}

// countryMayHold answers a bound test about a country that is stated while the
// address is not known: a network that states another country could yet
// contradict it, so the answer is sure only where those would answer the same.
func (e *Directory) countryMayHold(stated attempt.CountryCode, t *condition.Test) condition.Truth {
	held := CountryHolds(stated, t)
	for _, code := range e.stated {
		if CountryHolds(code, t) != held {
			return condition.Unknown
		}
	}
	return held
}

// sawTraits lists what the device is, and what it is not.
func (v *DeviceView) sawTraits(account string) string {
	var is, isNot []string
	for n, word := range deviceTraits {
		switch v.is(deviceTrait(n), account) {
		case condition.True:
			is = append(is, word)
		case condition.False:
			isNot = append(isNot, "not "+word)
		}
	}
	return strings.Join(append(is, isNot...), ", ")
}

func (e *Directory) sawPosture(v *DeviceView, t *condition.Test) string {
	var saw []string
	for _, name := range t.Values {
		p := &e.Postures[e.postureNumber[name]]
		switch v.Assess(p) {
		case Fit:
			return p.Name + " passed"
		case Unidentified:
			return "a device that nothing identifies (unknown)"
		case Unreported:
			return ""
		case Unfit:
			for _, f := range v.Failing(p) {
				saw = append(saw, f.Check.Fact+" "+f.Saw)
			}
		}
	}
	return strings.Join(saw, ", ")
}

func orNone(names []string, none string) string {
	if len(names) == 0 {
		return none
	}
	return strings.Join(names, ", ")
}
