package facts

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
	// Late looks up the place and the device once a condition asks for them; nil where
	// those below are all that is known. PlaceFound and DeviceFound say that it did.
	Late                    LateFacts
	PlaceFound, DeviceFound bool
	// Place is what is known of the address Address, nil where that is unknown.
	Place   *Place
	Address netip.Addr
	// Countries answers for the country; nil knows none.
	Countries CountryFacts
	// Device is nil where nothing is known of it.
	Device  *DeviceView
	Attempt *attempt.Attempt
	// Beyond is what the keys of other packages look at.
	Beyond any
}

// LateFacts set the Place, the Address and the Device of facts.
type LateFacts interface {
	LookUpPlace()
	LookUpDevice()
}

// FindPlace returns what is known of the address, nil where that is unknown.
func (f *Facts) FindPlace() *Place {
	if !f.PlaceFound && f.Late != nil {
		f.PlaceFound = true
		f.Late.LookUpPlace()
	}
	return f.Place
}

// FindDevice returns what is known of the device, nil where that is nothing.
func (f *Facts) FindDevice() *DeviceView {
	if !f.DeviceFound && f.Late != nil {
		f.DeviceFound = true
		f.Late.LookUpDevice()
	}
	return f.Device
}

// CountryFacts answer the tests on the country of an attempt.
type CountryFacts interface {
	CountryHolds(t *condition.Test) condition.Truth
	CountrySaw(t *condition.Test) string
}

// Judged answers the tests on risk by what a decision came to, where it is not worked out again. It is
// what Facts.Beyond may be.
type Judged interface {
	// Noticed reports whether a signal held.
	Noticed(signal string) bool
	// Risk returns the score and its level.
	Risk() (score int, level directory.Level)
}

// FactsOf are the facts of one account at one moment.
func FactsOf(p *Profile, moment time.Time) *Facts {
	return &Facts{HasProfile: true, Profile: p, Moment: moment, At: moment}
}

// FactsOfApp are those of one app, by its number.
func (d *Directory) FactsOfApp(app int) *Facts {
	return &Facts{Directory: d, HasApp: true, App: app}
}

// unseen are the facts of those who bring none: nothing is known.
var unseen Facts

// seen returns the facts that a key of this package looks at.
func seen(facts any) *Facts {
	if f, ok := facts.(*Facts); ok {
		return f
	}
	return &unseen
}

// accountName is the account as the attempt names it.
func (f *Facts) accountName() string {
	if f.Attempt == nil {
		return ""
	}
	return f.Attempt.Account
}
