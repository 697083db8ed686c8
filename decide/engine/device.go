package engine

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

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
	// reports says that the attempt states a fact that the device reported.
	reports bool
	// at is the attempt's time: what is dated later did not happen.
	at time.Time
	// entry is the directory's device, nil where it has none.
	entry *directory.Device
}

// View returns the device of an attempt, with the book's device of that identity.
// It makes no copy of what it is given, so the attempt must not change while the
// view is used.
func (d *Directory) View(a *attempt.Attempt) DeviceView {
	v := DeviceView{said: a.Device.Ref(), at: a.At}
	if v.said == nil {
		v.said = &unsaid
		return v
	}
	for _, value := range v.said.Facts {
		v.reports = v.reports || value.Kind() != attempt.Nothing
	}
	if id, ok := v.said.ID.Get(); ok {
		if n, ok := d.deviceNumber[id]; ok {
			v.entry = &d.Devices[n]
		}
	}
	return v
}

// With returns the view with another device of the directory: one that was
// supplied, or nil where nobody could find out.
func (v DeviceView) With(entry *directory.Device) DeviceView {
	v.entry = entry
	return v
}

// unsaid is the device about which nothing is said.
var unsaid attempt.Device

// identity returns the device's identity, and false where nothing identifies it.
func (v *DeviceView) identity() (string, bool) {
	id, ok := v.said.ID.Get()
	return id, ok && id != ""
}

// registered reports whether the directory knows the device.
func (v *DeviceView) Registered() bool { return v.entry != nil }

// flag is a truth about the device: as the attempt says, else as the directory
// does, else unknown.
func (v *DeviceView) flag(said attempt.Fact[bool], registered func(*directory.Device) bool) condition.Truth {
	value, ok := said.Get()
	switch {
	case ok:
		return condition.Of(value)
	case v.entry != nil:
		return condition.Of(registered(v.entry))
	}
	return condition.Unknown
}

// isKnown reports whether the device was seen before; a registered one was.
func (v *DeviceView) isKnown() condition.Truth {
	return v.flag(v.said.Known, func(*directory.Device) bool { return true })
}

// Managed reports whether the organisation looks after the device.
func (v *DeviceView) Managed() condition.Truth {
	return v.flag(v.said.Managed, func(e *directory.Device) bool { return e.Managed })
}

// Shared reports whether several people use the device.
func (v *DeviceView) Shared() condition.Truth {
	return v.flag(v.said.Shared, func(e *directory.Device) bool { return e.Shared })
}

// ownedBy reports whether the device belongs to the account.
func (v *DeviceView) ownedBy(account string) condition.Truth {
	owner, ok := v.said.Owner.Get()
	switch {
	case ok:
		return condition.Of(owner == account)
	case v.entry != nil:
		return condition.Of(v.entry.Owner == account)
	}
	return condition.Unknown
}

// Platform returns the platform, and false where nobody states it.
func (v *DeviceView) Platform() (string, bool) {
	if name, ok := v.said.Platform.Get(); ok {
		return name, true
	}
	if v.entry != nil && v.entry.Platform != "" {
		return v.entry.Platform, true
	}
	return "", false
}

// bears returns the tags, and false where they are unknown.
func (v *DeviceView) bears() ([]string, bool) {
	switch {
	case v.said.Tags != nil:
		return v.said.Tags, true
	case v.entry != nil:
		return v.entry.Tags, true
	}
	return nil, false
}

// remembered are the accounts that asked to be remembered on the device.
func (v *DeviceView) remembered() []attempt.Remembered { return v.said.Remembered }

// report is one report of the device: when it was made, as far as that is known,
// and whether it happened at all.
type report struct {
	at    time.Time
	dated bool
	later bool
}

// saidReport is the report that the facts in the attempt came in.
func (v *DeviceView) saidReport() report {
	at, dated := v.said.ReportedAt.Get()
	return report{at, dated, dated && attempt.IsLater(at, v.at)}
}

// entryReport is the report that the facts in the directory came in.
func (v *DeviceView) entryReport() report {
	if v.entry == nil || v.entry.ReportedAt == nil {
		return report{}
	}
	return report{*v.entry.ReportedAt, true, attempt.IsLater(*v.entry.ReportedAt, v.at)}
}

// isFresh reports whether a report is young enough for a posture.
func (r report) isFresh(p *directory.Posture, at time.Time) bool {
	return !r.later && (p.Fresh == 0 || r.dated && at.Sub(r.at) <= time.Duration(p.Fresh))
}

// bothReports says of the two reports that a device may have whether they happened, and
// whether they are young enough for a posture.
type bothReports struct {
	said, entry           report
	saidFresh, entryFresh bool
}

func (v *DeviceView) bothReports(p *directory.Posture) bothReports {
	r := bothReports{entry: v.entryReport()}
	r.entryFresh = r.entry.isFresh(p, v.at)
	if v.reports {
		r.said = v.saidReport()
		r.saidFresh = r.said.isFresh(p, v.at)
	}
	return r
}

// fact returns what the device reported under a name, whether that is young enough, and false where nothing
// is known of it. A fact that is null is one that was left out.
func (v *DeviceView) fact(r *bothReports, name string) (value attempt.Scalar, fresh, ok bool) {
	if v.reports && !r.said.later {
		if value := v.said.Facts[name]; value.Kind() != attempt.Nothing {
			return value, r.saidFresh, true
		}
	}
	if v.entry != nil && !r.entry.later {
		value = v.entry.Facts[name]
	}
	return value, r.entryFresh, value.Kind() != attempt.Nothing
}

// hasLaterReport reports whether a report that the device's facts could come from is dated after the attempt
// and so did not happen.
func (v *DeviceView) hasLaterReport() bool {
	return v.saidReport().later || v.entryReport().later
}

// hasReport reports whether the device has a report that is fresh enough.
func (v *DeviceView) hasReport(p *directory.Posture) bool {
	return p.Fresh == 0 || v.reports && v.saidReport().isFresh(p, v.at) ||
		v.entry != nil && v.entryReport().isFresh(p, v.at)
}

// Assess holds what the device reported against a posture. A fact is as old as
// the report that it came in.
func (v *DeviceView) Assess(p *directory.Posture) Fitness {
	if _, ok := v.identity(); !ok {
		return Unidentified
	}
	passes := condition.True
	reports := v.bothReports(p)
	for i := range p.Checks {
		if passes = min(passes, v.passes(&reports, &p.Checks[i])); passes == condition.False {
			return Unfit
		}
	}
	if passes == condition.True {
		return Fit
	}
	return Unreported
}

// passesPosture is Assess as a truth. On a device that nothing identifies it is
// unknown.
func (v *DeviceView) passesPosture(p *directory.Posture) condition.Truth {
	switch v.Assess(p) {
	case Fit:
		return condition.True
	case Unfit:
		return condition.False
	}
	return condition.Unknown
}

// Passes reports whether the device passes one check of a posture; unknown where
// it did not report the fact, or not lately. On a platform that the check does not
// list it fails, reported or not.
func (v *DeviceView) Passes(p *directory.Posture, c *directory.Check) condition.Truth {
	reports := v.bothReports(p)
	return v.passes(&reports, c)
}

func (v *DeviceView) passes(r *bothReports, c *directory.Check) condition.Truth {
	least := ""
	if c.AtLeast != nil {
		least = c.AtLeast.All
		if c.AtLeast.ByPlatform != nil {
			platform, known := v.Platform()
			if !known {
				return condition.Unknown
			}
			var listed bool
			if least, listed = c.AtLeast.ByPlatform[platform]; !listed {
				return condition.False
			}
		}
	}
	value, fresh, ok := v.fact(r, c.Fact)
	if !ok || !fresh {
		return condition.Unknown
	}
	switch {
	case c.Is != nil:
		return condition.Of(value == *c.Is)
	case c.AtMost != nil:
		n, isNumber := value.Float()
		return condition.Of(isNumber && n <= *c.AtMost)
	case c.In != nil:
		return condition.Of(slices.Contains(c.In, value))
	}
	return condition.Of(versionAtLeast(value, least))
}

// isUnlisted reports whether a check is by platform and does not list this one.
func isUnlisted(c *directory.Check, platform string) bool {
	if c.AtLeast == nil || c.AtLeast.ByPlatform == nil {
		return false
	}
	_, listed := c.AtLeast.ByPlatform[platform]
	return !listed
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

// failedCheck is a check that a device did not pass.
type failedCheck struct {
	Check *directory.Check
	// Saw is what it reported, "nothing" where it did not, or the platform that the
	// check does not list.
	Saw string
}

// Failing returns the checks that the device surely does not pass, and where it has
// a report that is fresh enough, those that it may not pass.
func (v *DeviceView) Failing(p *directory.Posture) []failedCheck {
	var found []failedCheck
	reports := v.bothReports(p)
	for i := range p.Checks {
		c := &p.Checks[i]
		passes := v.passes(&reports, c)
		if passes == condition.True || passes == condition.Unknown && !v.hasReport(p) {
			continue
		}
		value, _, _ := v.fact(&reports, c.Fact)
		saw := value.String()
		if platform, known := v.Platform(); known && isUnlisted(c, platform) {
			saw = platform
		}
		found = append(found, failedCheck{c, saw})
	}
	return found
}
