package briskwarden

import (
	"context"
	"errors"
	"fmt"

	"github.com/briskwarden/briskwarden/directory"
)

// resting is implemented by what supplies accounts and devices on top of others, such as a door's store: it is asked in
// their place, and asks them itself.
type resting interface {
	OverAccounts(base directory.Accounts) directory.Accounts
	OverDevices(base directory.Devices) directory.Devices
}

// both makes one source of two, and neither silently takes the place of the other: one that rests on others is put
// over the other, and else the two are chained.
func both[T comparable](earlier, later T, over func(resting, T) T, chain func(earlier, later T) T) T {
	var none T
	if earlier == none {
		return later
	}
	if top, ok := any(later).(resting); ok {
		return over(top, earlier)
	}
	if top, ok := any(earlier).(resting); ok {
		return over(top, later)
	}
	return chain(earlier, later)
}

func bothAccounts(earlier, later directory.Accounts) directory.Accounts {
	return both(earlier, later, resting.OverAccounts, func(e, l directory.Accounts) directory.Accounts { return accountChain{e, l} })
}

func bothDevices(earlier, later directory.Devices) directory.Devices {
	return both(earlier, later, resting.OverDevices, func(e, l directory.Devices) directory.Devices { return deviceChain{e, l} })
}

// accountChain asks two sources of accounts. What the later states wins, key by key; but it is disabled where either
// says so, and the higher risk stands.
type accountChain struct{ earlier, later directory.Accounts }

// Account implements directory.Accounts.
func (c accountChain) Account(ctx context.Context, name string) (directory.Account, error) {
	found, err := c.later.Account(ctx, name)
	other, otherErr := c.earlier.Account(ctx, name)
	switch missing, otherMissing := errors.Is(err, directory.ErrNotFound), errors.Is(otherErr, directory.ErrNotFound); {
	case err != nil && !missing:
		return directory.Account{}, err
	case otherErr != nil && !otherMissing:
		return directory.Account{}, otherErr
	case missing:
		return other, otherErr
	case otherMissing:
		return found, nil
	case found.Name != name || other.Name != name:
		return directory.Account{}, fmt.Errorf("it was answered for %q and %q", found.Name, other.Name)
	}
	if r := other.AccountRisk; r != nil && found.AccountRisk != nil && level(r) > level(found.AccountRisk) {
		found.AccountRisk = r
	}
	found.CompleteFrom(&other)
	return found, nil
}

// level is the level of a risk as a decision takes it.
func level(r *directory.AccountRisk) directory.Level {
	if r.Level == directory.NoRisk {
		return directory.HighRisk // which nobody stated
	}
	return r.Level
}

// deviceChain asks two sources of devices. Of a device that both have the later's is taken.
type deviceChain struct{ earlier, later directory.Devices }

// Device implements directory.Devices.
func (c deviceChain) Device(ctx context.Context, id string) (directory.Device, error) {
	found, err := c.later.Device(ctx, id)
	if errors.Is(err, directory.ErrNotFound) {
		return c.earlier.Device(ctx, id)
	}
	return found, err
}
