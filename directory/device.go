package directory

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// Device is a device that the organisation knows, by the identity that it
// states in attempts.
type Device struct {
	Name       string                    `book:"name,required" doc:"the identity that the device states (device.id in attempts)"`
	Platform   string                    `book:"platform" doc:"its platform, such as windows or ios"`
	Managed    bool                      `book:"managed" doc:"true where the organisation looks after the device"`
	Shared     bool                      `book:"shared" doc:"true where several people use it"`
	Owner      string                    `book:"owner" ref:"account" doc:"the account that it belongs to"`
	Tags       []string                  `book:"tags" doc:"tags that conditions can ask for"`
	Facts      map[string]attempt.Scalar `book:"facts" doc:"what it reported of itself, by name"`
	ReportedAt *time.Time                `book:"reported_at" doc:"when it reported that, such as 2026-11-23T18:00:00Z"`
}

// Posture is a named list of checks that a device must pass.
type Posture struct {
	Name string `book:"-"`
	// Fresh is how old a report may be; an older one is no report. Zero sets no
	// limit.
	Fresh  Span    `book:"fresh" doc:"how old the device's report may be, such as 24h"`
	Checks []Check `book:"checks,required" doc:"what the device's report must show, all of it"`
}

// Check is a demand on one fact that a device reports. One of Is, AtLeast,
// AtMost and In is given.
type Check struct {
	Fact    string           `book:"fact,required" doc:"name of the fact"`
	Is      *attempt.Scalar  `book:"is" doc:"the value that it must have"`
	AtLeast *Minimum         `book:"at_least" doc:"the least version or number, or one for each platform; a platform not listed fails"`
	AtMost  *float64         `book:"at_most" doc:"the greatest number"`
	In      []attempt.Scalar `book:"in" doc:"values of which it must have one"`
	Fix     string           `book:"fix" doc:"what the person can do where the check fails"`
}

// Minimum is the least dotted version (or number), for all platforms or for each.
type Minimum struct {
	All        string
	ByPlatform map[string]string
}

// Fitness is what became of a posture. The zero Fitness is [Unfit].
type Fitness uint8

// What may become of a posture.
const (
	// Unfit says that the report fails a check.
	Unfit Fitness = iota
	// Unreported says that no report is fresh enough, or lacks something.
	Unreported
	// Unidentified says that nothing identifies the device.
	Unidentified
	// Fit says that the report passes each check.
	Fit
)

// DeviceView is the device of an attempt together with the one of that identity
// in the directory. Where both say something the attempt wins.
type DeviceView struct {
	// said is what the attempt says, empty where it says nothing.
	said *attempt.Device
	none bool
	// entry is the directory's device, nil where it has none.
	entry *Device
}

// View returns the device of an attempt. It makes no copy of what it is given,
// so the attempt must not change while the view is used.
func (e *Directory) View(a *attempt.Attempt) DeviceView {
	v := DeviceView{said: a.Device.Ref(), none: a.Device.IsNone()}
	if v.said == nil {
		v.said = &unsaid
		return v
	}
	if id, ok := v.said.ID.Get(); ok {
		if n, ok := e.deviceNumber[id]; ok {
			v.entry = &e.Devices[n]
		}
	}
	return v
}

// unsaid is the device of which nothing is said.
var unsaid attempt.Device

// Identity returns the device's identity, and false where nothing identifies it.
func (v *DeviceView) Identity() (string, bool) {
	id, ok := v.said.ID.Get()
	return id, ok && id != ""
}

// Registered tells whether the directory knows the device.
func (v *DeviceView) Registered() bool { return v.entry != nil }

// flag is a truth about the device: as the attempt says, else as the directory
// does, else unknown; false where there is no device.
func (v *DeviceView) flag(said attempt.Fact[bool], registered func(*Device) bool) condition.Truth {
	value, ok := said.Get()
	switch {
	case ok:
		return condition.Of(value)
	case v.none, !said.IsUnknown():
		return condition.False
	case v.entry != nil:
		return condition.Of(registered(v.entry))
	}
	return condition.Unknown
}

// Known tells whether the device was seen before; a registered one was.
func (v *DeviceView) Known() condition.Truth {
	d := v.said
	return v.flag(d.Known, func(*Device) bool { return true })
}

// Managed tells whether the organisation looks after the device.
func (v *DeviceView) Managed() condition.Truth {
	d := v.said
	return v.flag(d.Managed, func(e *Device) bool { return e.Managed })
}

// Shared tells whether several people use the device.
func (v *DeviceView) Shared() condition.Truth {
	d := v.said
	return v.flag(d.Shared, func(e *Device) bool { return e.Shared })
}

// OwnedBy tells whether the device belongs to the account.
func (v *DeviceView) OwnedBy(account string) condition.Truth {
	d := v.said
	owner, ok := d.Owner.Get()
	switch {
	case ok:
		return condition.Of(owner == account)
	case v.none, !d.Owner.IsUnknown():
		return condition.False
	case v.entry != nil:
		return condition.Of(v.entry.Owner == account)
	}
	return condition.Unknown
}

// Platform returns the platform; an unknown fact where nobody says.
func (v *DeviceView) Platform() attempt.Fact[string] {
	d := v.said
	switch {
	case v.none:
		return attempt.None[string]()
	case !d.Platform.IsUnknown() || v.entry == nil:
		return d.Platform
	case v.entry.Platform == "":
		return attempt.None[string]() // the directory is closed
	}
	return attempt.Known(v.entry.Platform)
}

// Tags returns the tags, and false where they are unknown.
func (v *DeviceView) Tags() ([]string, bool) {
	d := v.said
	switch {
	case v.none:
		return nil, true
	case d.Tags != nil:
		return d.Tags, true
	case v.entry != nil:
		return v.entry.Tags, true
	}
	return nil, false
}

// Remembered are the accounts that asked to be remembered on the device.
func (v *DeviceView) Remembered() []attempt.Remembered {
	d := v.said
	return d.Remembered
}

// reportedAt returns when the device reported.
func (v *DeviceView) reportedAt() (time.Time, bool) {
	d := v.said
	if !d.ReportedAt.IsUnknown() {
		return d.ReportedAt.Get()
	}
	if v.entry != nil && v.entry.ReportedAt != nil {
		return *v.entry.ReportedAt, true
	}
	return time.Time{}, false
}

// fact returns what the device reported under a name, and false where nothing is
// known of it.
func (v *DeviceView) fact(name string) (attempt.Scalar, bool) {
	d := v.said
	if value, ok := d.Facts[name]; ok {
		return value, true
	}
	if v.entry != nil {
		value, ok := v.entry.Facts[name]
		return value, ok
	}
	return attempt.Scalar{}, false
}

// HasReport tells whether the device has a report that is fresh enough at a time.
func (v *DeviceView) HasReport(p *Posture, at time.Time) bool {
	if p.Fresh == 0 {
		return true
	}
	reported, ok := v.reportedAt()
	return ok && at.Sub(reported) <= time.Duration(p.Fresh)
}

// Assess holds the device's report against a posture.
func (v *DeviceView) Assess(p *Posture, at time.Time) Fitness {
	if _, ok := v.Identity(); !ok {
		return Unidentified
	}
	if !v.HasReport(p, at) {
		return Unreported
	}
	passes := condition.True
	for i := range p.Checks {
		if passes = min(passes, v.Passes(&p.Checks[i])); passes == condition.False {
			return Unfit
		}
	}
	if passes == condition.True {
		return Fit
	}
	return Unreported
}

// PassesPosture is Assess as a truth: a device that nothing identifies is
// unknown where an identity may yet be stated.
func (v *DeviceView) PassesPosture(p *Posture, at time.Time) condition.Truth {
	switch v.Assess(p, at) {
	case Fit:
		return condition.True
	case Unfit:
		return condition.False
	case Unidentified:
		if v.none || !v.said.ID.IsUnknown() {
			return condition.False
		}
	}
	return condition.Unknown
}

// Passes tells whether the device passes one check; unknown where it did not
// report the fact.
func (v *DeviceView) Passes(c *Check) condition.Truth {
	value, ok := v.fact(c.Fact)
	if !ok {
		return condition.Unknown
	}
	switch {
	case c.Is != nil:
		return condition.Of(value == *c.Is)
	case c.In != nil:
		return condition.Of(slices.Contains(c.In, value))
	case c.AtMost != nil:
		n, isNumber := value.Float()
		return condition.Of(isNumber && n <= *c.AtMost)
	case c.AtLeast.ByPlatform == nil:
		return condition.Of(versionAtLeast(value, c.AtLeast.All))
	}
	platform := v.Platform()
	if platform.IsUnknown() {
		return condition.Unknown
	}
	name, _ := platform.Get()
	least, listed := c.AtLeast.ByPlatform[name]
	return condition.Of(listed && versionAtLeast(value, least))
}

// versionAtLeast compares dotted versions part by part as numbers; what is left
// out counts as 0. What is no version is not enough.
func versionAtLeast(value attempt.Scalar, least string) bool {
	if value.Kind() != attempt.Text && value.Kind() != attempt.Number {
		return false
	}
	version := value.String()
	for version != "" || least != "" {
		have, restHave, ok := cutPart(version)
		want, restWant, _ := cutPart(least)
		if !ok {
			return false
		}
		if have != want {
			return have > want
		}
		version, least = restHave, restWant
	}
	return true
}

// cutPart cuts the first number off a dotted version; an empty version begins
// with 0. It returns false where the version does not begin with a number.
func cutPart(version string) (part uint64, rest string, ok bool) {
	for i := range len(version) {
		digit := version[i] - '0'
		switch {
		case version[i] == '.' && i > 0:
			return part, version[i+1:], true
		case digit > 9 || i == maxDigits:
			return 0, "", false
		}
		part = part*10 + uint64(digit)
	}
	return part, "", true
}

// maxDigits is how many digits a part of a version may have; more would not fit.
const maxDigits = 18

// Check tells what is wrong with a check.
func (c *Check) Check() error {
	given := 0
	for _, is := range []bool{c.Is != nil, c.AtLeast != nil, c.AtMost != nil, c.In != nil} {
		if is {
			given++
		}
	}
	if given != 1 {
		return fmt.Errorf("give is, at_least, at_most or in, and one of them only")
	}
	return nil
}

// Wants says what a check asks for, for a reader.
func (c *Check) Wants() string {
	switch {
	case c.Is != nil:
		return c.Is.String()
	case c.In != nil:
		var words []string
		for _, s := range c.In {
			words = append(words, s.String())
		}
		return "one of " + strings.Join(words, ", ")
	case c.AtMost != nil:
		return "at most " + strconv.FormatFloat(*c.AtMost, 'f', -1, 64)
	case c.AtLeast.ByPlatform == nil:
		return "at least " + c.AtLeast.All
	}
	var words []string
	for platform, least := range c.AtLeast.ByPlatform {
		words = append(words, platform+" "+least)
	}
	slices.Sort(words)
	return "at least " + strings.Join(words, ", ")
}

// Finding is a check that a device did not pass.
type Finding struct {
	Check *Check
	// Saw is what it reported, "nothing" where it did not.
	Saw string
}

// Failing returns the checks that the device does not pass, surely or perhaps.
func (v *DeviceView) Failing(p *Posture) []Finding {
	var found []Finding
	for i := range p.Checks {
		if v.Passes(&p.Checks[i]) != condition.True {
			value, _ := v.fact(p.Checks[i].Fact)
			found = append(found, Finding{&p.Checks[i], value.String()})
		}
	}
	return found
}
