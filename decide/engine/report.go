package engine

import (
	"maps"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// registered returns the device that the directory has for an attempt, nil where it
// has none.
func (d *Directory) registered(a *attempt.Attempt) *directory.Device {
	device, _ := a.Device.Get()
	id, _ := device.ID.Get()
	if n, ok := d.deviceNumber[id]; ok && id != "" {
		return &d.Devices[n]
	}
	return nil
}

// LastReport returns when the device of an attempt last reported, as the attempt
// says or the directory.
func (d *Directory) LastReport(a *attempt.Attempt) (time.Time, bool) {
	if said := a.Device.Ref(); said != nil {
		if reported, ok := said.ReportedAt.Get(); ok {
			return reported, true
		}
	}
	if entry := d.registered(a); entry != nil && entry.ReportedAt != nil {
		return *entry.ReportedAt, true
	}
	return time.Time{}, false
}

// LetReport lets the device of an attempt report at a moment what is known of it.
func (d *Directory) LetReport(a *attempt.Attempt, at time.Time) {
	device, _ := a.Device.Get()
	reported := maps.Clone(device.Facts)
	if entry := d.registered(a); entry != nil {
		for name, value := range entry.Facts {
			if _, said := reported[name]; !said {
				if reported == nil {
					reported = map[string]attempt.Scalar{}
				}
				reported[name] = value
			}
		}
	}
	device.Facts, device.ReportedAt = reported, attempt.Known(at)
	a.Device = attempt.Known(device)
}

// Repair lets the device of an attempt report at a moment that it passes every check of every
// posture, as far as another value could pass, and returns the facts that it changed.
func (d *Directory) Repair(a *attempt.Attempt, at time.Time) (repaired []string) {
	view := d.View(a)
	failing := map[string]attempt.Scalar{}
	platform, _ := view.Platform()
	for i := range d.Postures {
		p := &d.Postures[i]
		for k := range p.Checks {
			c := &p.Checks[k]
			if view.Passes(p, c) == condition.True {
				continue
			}
			if value, ok := passing(c, platform); ok {
				failing[c.Fact] = value
			}
		}
	}
	d.LetReport(a, at)
	device, _ := a.Device.Get()
	for name, value := range failing {
		if device.Facts == nil {
			device.Facts = map[string]attempt.Scalar{}
		}
		if device.Facts[name] != value {
			device.Facts[name] = value
			repaired = append(repaired, name)
		}
	}
	a.Device = attempt.Known(device)
	slices.Sort(repaired)
	return repaired
}

// passing returns a value that passes a check on a platform, and false where none does.
func passing(c *directory.Check, platform string) (attempt.Scalar, bool) {
	switch {
	case isUnlisted(c, platform):
		return attempt.Scalar{}, false
	case c.Is != nil:
		return *c.Is, true
	case c.AtMost != nil:
		return attempt.NumberScalar(*c.AtMost), true
	case c.In != nil:
		return c.In[0], true
	case c.AtLeast.ByPlatform != nil:
		return attempt.TextScalar(c.AtLeast.ByPlatform[platform]), true
	}
	return attempt.TextScalar(c.AtLeast.All), true
}

// UnregisteredDevice is the ordinary device that the directory does not have: seen before,
// but nobody's and not managed, and without an identity.
func UnregisteredDevice() attempt.Device {
	return attempt.Device{
		Known: attempt.Known(true), Managed: attempt.Known(false),
		Shared: attempt.Known(false), Owner: attempt.Known(""),
	}
}
