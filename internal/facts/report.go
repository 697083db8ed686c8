package facts

import (
	"maps"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// Registered returns the device that the directory has for an attempt, nil where it
// has none.
func (d *Directory) Registered(a *attempt.Attempt) *directory.Device {
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
	if entry := d.Registered(a); entry != nil && entry.ReportedAt != nil {
		return *entry.ReportedAt, true
	}
	return time.Time{}, false
}

// LetReport lets the device of an attempt report at a moment what is known of it.
func (d *Directory) LetReport(a *attempt.Attempt, at time.Time) {
	device, _ := a.Device.Get()
	reported := maps.Clone(device.Facts)
	if entry := d.Registered(a); entry != nil {
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

// UnregisteredDevice is the ordinary device that the directory does not have: seen before,
// but nobody's and not managed, and without an identity.
func UnregisteredDevice() attempt.Device {
	return attempt.Device{
		Known: attempt.Known(true), Managed: attempt.Known(false),
		Shared: attempt.Known(false), Owner: attempt.Known(""),
	}
}
