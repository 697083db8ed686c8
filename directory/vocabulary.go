package directory

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
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
	e := v.Directory
	switch t.Key {
	case condition.Anyone:
		return condition.Binding{Words: "an account of the book"}, nil
	case condition.Every:
		return condition.Binding{Words: "an app of the book"}, nil
	case condition.Accounts:
		return one("account", value, e.accountNumber)
	case condition.Groups:
		return one("group", value, e.groupNumber)
	case condition.Names:
		return one("app", value, e.appNumber)
	case condition.Enrolled:
		return one("method", value, e.methodNumber)
	case condition.Posture:
		return one("posture", value, e.postureNumber)
	case condition.Domains:
		domain, err := NormalDomain(value)
		return condition.Binding{Texts: []string{domain}, Words: value}, err
	case condition.Tags:
		return orNobody(e.tagNumber, value, value), nil
	case condition.Attributes:
		return condition.Binding{Words: value}, nil // compared as text: accounts bring values of their own
	case condition.Kinds:
		return wordOf(new(Kind), value)
	case condition.Through:
		return wordOf(new(attempt.Through), value)
	case condition.Actions:
		return wordOf(new(attempt.Action), value)
	case condition.Device:
		return wordOf(new(DeviceTrait), value)
	case condition.Platforms, condition.DeviceTags:
		return condition.Binding{Words: value}, nil // compared as text: attempts bring names of their own
	case condition.AccountRiskAtLeast:
		return LevelBinding(value)
	case condition.JoinedWithin:
		var span Span
		err := span.UnmarshalText([]byte(value))
		return condition.Binding{Limit: int64(span), Words: "at most " + value}, err
	case condition.Share:
		percent, err := Percent(value)
		return condition.Binding{Limit: int64(percent), Salt: v.salt, Words: value + " %"}, err
	case condition.Networks:
		if r, err := ParseRange(value); err == nil {
			if i := slices.Index(e.Literals, r); i >= 0 {
				return condition.Binding{Numbers: []int32{int32(len(e.Networks) + i)}, Words: value}, nil
			}
		}
		return one("network", value, e.networkNumber)
	case condition.OurNetwork:
		if value == "true" {
			return condition.Binding{Numbers: []int32{1}, Words: "an own network"}, nil
		}
		return condition.Binding{Numbers: []int32{0}, Words: "no own network"}, nil
	case condition.Countries:
		return e.bindCountries(value)
	case condition.During:
		b, err := one("window", value, e.windowNumber)
		if err == nil {
			if hours := e.Windows[b.Numbers[0]].String(); hours != "" {
				b.Words += " (" + hours + ")"
			}
		}
		return b, err
	}
	return condition.Binding{}, fmt.Errorf("the key %s has no meaning here", t.Key)
}

// Percent reads a whole number from 1 to 100.
func Percent(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 100 {
		return 0, fmt.Errorf("expected a whole number from 1 to 100, found %q", text)
	}
	return n, nil
}

// LevelBinding binds the name of a level of risk.
func LevelBinding(value string) (condition.Binding, error) {
	level, err := ParseLevel(value)
	return condition.Binding{Limit: int64(level), Words: "at least " + value}, err
}

// wordOf binds a word of a closed list to its number.
func wordOf[T ~uint8, P interface {
	*T
	UnmarshalText([]byte) error
}](into P, value string) (condition.Binding, error) {
	err := into.UnmarshalText([]byte(value))
	return condition.Binding{Numbers: []int32{int32(*into)}, Words: value}, err
}

// DeviceTrait is what the key `device` can ask for.
type DeviceTrait uint8

// What a device can be.
const (
	KnownDevice DeviceTrait = iota
	ManagedDevice
	SharedDevice
	OwnDevice
)

var deviceTraits = []string{"known", "managed", "shared", "own"}

// DeviceTraits returns the words for what a device can be.
func DeviceTraits() []string { return slices.Clone(deviceTraits) }

// UnmarshalText reads known, managed, shared or own.
func (d *DeviceTrait) UnmarshalText(text []byte) error {
	return parseWord(d, "what a device can be", string(text), deviceTraits)
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
	var code Country
	if err := code.UnmarshalText([]byte(value)); err != nil {
		return condition.Binding{}, fmt.Errorf("no region is named so, and %w", err)
	}
	return condition.Binding{Numbers: []int32{attempt.CountryCode(code).Number()}, Words: value}, nil
}

// AppFacts answers the tests on one app, by number.
type AppFacts struct {
	Directory *Directory
	App       int
}

// Holds implements condition.Facts.
func (f AppFacts) Holds(t *condition.Test) condition.Truth { return f.Directory.AppHolds(f.App, t) }

// AppHolds answers a bound test about the app of that number.
func (e *Directory) AppHolds(app int, t *condition.Test) condition.Truth {
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
func (e *Directory) PlaceHolds(p *Place, t *condition.Test) condition.Truth {
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
	if !c.IsAssigned() {
		return condition.Unknown
	}
	return among(t, c.Number())
}

// NumberHolds answers a bound test about a fact that is one number, such as what
// a sign-in is made through.
func NumberHolds(number int32, t *condition.Test) condition.Truth { return among(t, number) }

// DeviceHolds answers a bound test about the device of an attempt by an account,
// by name.
func (e *Directory) DeviceHolds(v *DeviceView, account string, t *condition.Test) condition.Truth {
	holds := condition.False
	switch t.Key {
	case condition.Platforms:
		name, known := v.Platform()
		if !known {
			return condition.Unknown
		}
		return condition.Of(slices.Contains(t.Values, name))
	case condition.DeviceTags:
		tags, known := v.Tags()
		if !known {
			return condition.Unknown
		}
		return condition.Of(slices.ContainsFunc(tags, func(tag string) bool { return slices.Contains(t.Values, tag) }))
	case condition.Posture:
		for _, n := range t.Numbers() {
			holds = max(holds, v.PassesPosture(&e.Postures[n]))
		}
	case condition.Device:
		for _, n := range t.Numbers() {
			holds = max(holds, v.is(DeviceTrait(n), account))
		}
	}
	return holds
}

func (v *DeviceView) is(trait DeviceTrait, account string) condition.Truth {
	switch trait {
	case KnownDevice:
		return v.Known()
	case ManagedDevice:
		return v.Managed()
	case SharedDevice:
		return v.Shared()
	}
	return v.OwnedBy(account)
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

// CountryMayHold answers a bound test about a country that is stated while the
// address is not known: a network that states another country could yet
// contradict it, so the answer is sure only where those would answer the same.
func (e *Directory) CountryMayHold(stated attempt.CountryCode, t *condition.Test) condition.Truth {
	held := CountryHolds(stated, t)
	for _, code := range e.stated {
		if CountryHolds(code, t) != held {
			return condition.Unknown
		}
	}
	return held
}

// SawDevice describes what a bound test sees of the device of an attempt.
func (e *Directory) SawDevice(v *DeviceView, account string, t *condition.Test) string {
	switch t.Key {
	case condition.Platforms:
		name, _ := v.Platform()
		return name
	case condition.DeviceTags:
		tags, known := v.Tags()
		if !known {
			return ""
		}
		return orNone(tags, "no tag")
	case condition.Posture:
		return e.sawPosture(v, t)
	}
	var is, isNot []string
	for n, word := range deviceTraits {
		switch v.is(DeviceTrait(n), account) {
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

// SawApp describes what a bound test sees of the app of that number.
func (e *Directory) SawApp(app int, t *condition.Test) string {
	if app < 0 {
		return "an app that the book does not have"
	}
	if t.Key == condition.Tags {
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
