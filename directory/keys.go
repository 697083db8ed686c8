package directory

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// What the keys of this package ask facts for. Each answers false, nil or unknown
// where it does not know; facts that lack one of these know nothing of it.
type (
	// AccountSeer shows the account, nil where there is none, with the moments of
	// [AccountFacts].
	AccountSeer interface {
		SeenAccount() (p *Profile, moment, at time.Time)
	}
	// AppSeer shows the app by its number, negative where there is none.
	AppSeer interface {
		SeenApp() (d *Directory, app int)
	}
	// PlaceSeer shows the address with its networks; the place is nil where it is
	// unknown.
	PlaceSeer interface {
		SeenPlace() (d *Directory, p *Place, address netip.Addr)
		CountryHolds(t *condition.Test) condition.Truth
		CountrySaw(t *condition.Test) string
	}
	// MomentSeer shows the time for windows.
	MomentSeer interface {
		SeenMoment() (d *Directory, moment time.Time)
	}
	// DeviceSeer shows the device of an attempt by an account.
	DeviceSeer interface {
		SeenDevice() (d *Directory, v *DeviceView, account string)
	}
	// AttemptSeer shows the attempt.
	AttemptSeer interface {
		Attempt() *attempt.Attempt
	}
)

// named is a vocabulary that knows the names of a directory.
type named interface{ vocabulary() Vocabulary }

func (v Vocabulary) vocabulary() Vocabulary { return v }

// bindBy makes the Bind of a definition from a function on the directory's names.
func bindBy(
	bind func(v Vocabulary, t *condition.Test, value string) (condition.Binding, error),
) func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
	return func(names condition.Vocabulary, t *condition.Test, value string) (condition.Binding, error) {
		v, ok := names.(named)
		if !ok {
			return condition.Binding{}, fmt.Errorf("the key %s has no meaning here", t.Key)
		}
		return bind(v.vocabulary(), t, value)
	}
}

// bindName binds names of one kind of definition to their numbers.
func bindName(
	what string,
	numbers func(*Directory) map[string]int32,
) func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
	return bindBy(func(v Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
		return one(what, value, numbers(v.Directory))
	})
}

// bindText binds a value that is compared as text, since accounts and attempts bring
// values of their own.
func bindText(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
	return condition.Binding{Words: value}, nil
}

// PlaceFacts answers the tests on where an attempt comes from, for one address and
// country. A country that is not assigned is unknown.
type PlaceFacts struct {
	Directory *Directory
	// Place is nil where the address is unknown.
	Place   *Place
	Address netip.Addr
	Country attempt.CountryCode
}

// Holds implements condition.Facts.
func (f PlaceFacts) Holds(t *condition.Test) condition.Truth { return t.Key.Definition().Holds(f, t) }

// Saw implements condition.Witness.
func (f PlaceFacts) Saw(t *condition.Test) string { return t.Key.Definition().Saw(f, t) }

// SeenPlace implements PlaceSeer.
func (f PlaceFacts) SeenPlace() (*Directory, *Place, netip.Addr) {
	return f.Directory, f.Place, f.Address
}

// CountryHolds implements PlaceSeer.
func (f PlaceFacts) CountryHolds(t *condition.Test) condition.Truth {
	return CountryHolds(f.Country, t)
}

// CountrySaw implements PlaceSeer.
func (f PlaceFacts) CountrySaw(*condition.Test) string { return string(f.Country) }

// DeviceFacts answers the tests on the device of an attempt by an account.
type DeviceFacts struct {
	Directory *Directory
	View      *DeviceView
	Account   string
}

// Holds implements condition.Facts.
func (f DeviceFacts) Holds(t *condition.Test) condition.Truth { return t.Key.Definition().Holds(f, t) }

// Saw implements condition.Witness.
func (f DeviceFacts) Saw(t *condition.Test) string { return t.Key.Definition().Saw(f, t) }

// SeenDevice implements DeviceSeer.
func (f DeviceFacts) SeenDevice() (*Directory, *DeviceView, string) {
	return f.Directory, f.View, f.Account
}
