package engine

import (
	"net/netip"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// Facts are what the keys of conditions look at. A fact that is left out is unknown.
type Facts struct {
	Directory *Directory
	// HasProfile says that it is known who the account is. A nil Profile then is an
	// account that nobody knows, for which no test on accounts holds.
	HasProfile bool
	Profile    *Profile
	// Moment is the time for windows, dates and joined_within; zero is unknown. At is
	// the time at which facts were known. In a look ahead it is the earlier one.
	Moment, At time.Time
	// HasApp says that it is known what the app is. App is its number, negative for an
	// app that the directory does not have.
	HasApp bool
	App    int
	// evaluation looks up the place, the country and the device once a condition asks for them, and knows the score and what
	// was proven; nil where the other facts are all that is known. placeFound and deviceFound say that it did.
	evaluation              *evaluation
	placeFound, deviceFound bool
	// Place is what is known of the address Address, nil where that is unknown.
	Place   *Place
	Address netip.Addr
	// Device is nil where nothing is known of it.
	Device  *DeviceView
	Attempt *attempt.Attempt
	// Made is a decision that was made, whose country and risk are not worked out again; nil where the facts are of none.
	Made Made
}

// Made is what is kept of a decision that was made.
type Made interface {
	// Noticed reports whether a signal held.
	Noticed(signal string) bool
	// Risk returns the score and its level.
	Risk() (score int, level directory.Level)
	// Country returns where the attempt came from, "" where that is not known.
	Country() attempt.CountryCode
}

// keys are those that are about sign-ins.
var keys condition.Family[*Facts]

// Holds implements condition.Facts.
func (f *Facts) Holds(t *condition.Test) condition.Truth { return keys.Holds(f, t) }

// Saw implements condition.Facts.
func (f *Facts) Saw(t *condition.Test) string { return keys.Saw(f, t) }

// findPlace returns what is known of the address, nil where that is unknown.
func (f *Facts) findPlace() *Place {
	if !f.placeFound && f.evaluation != nil {
		f.placeFound = true
		f.evaluation.lookUpPlace()
	}
	return f.Place
}

// findDevice returns what is known of the device, nil where that is nothing.
func (f *Facts) findDevice() *DeviceView {
	if !f.deviceFound && f.evaluation != nil {
		f.deviceFound = true
		f.evaluation.lookUpDevice()
	}
	return f.Device
}

// FactsOf are the facts of one account at one moment.
func FactsOf(p *Profile, moment time.Time) *Facts {
	return &Facts{HasProfile: true, Profile: p, Moment: moment, At: moment}
}

// FactsOfApp are those of one app, by its number.
func (d *Directory) FactsOfApp(app int) *Facts {
	return &Facts{Directory: d, HasApp: true, App: app}
}

// accountName is the account as the attempt names it.
func (f *Facts) accountName() string {
	if f.Attempt == nil {
		return ""
	}
	return f.Attempt.Account
}
