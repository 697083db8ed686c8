package door

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/store"
)

// supplier supplies accounts and devices to the decisions of one book: as the store, the book and, where the loader
// brings accounts or devices of its own, the program say together.
type supplier struct {
	facts    *facts
	book     *inForce
	accounts directory.Accounts
	devices  directory.Devices
}

// OverAccounts returns the supplier with a program's own accounts beneath those of the store.
func (s *supplier) OverAccounts(base directory.Accounts) directory.Accounts {
	s.accounts = base
	return s
}

// OverDevices is OverAccounts for devices.
func (s *supplier) OverDevices(base directory.Devices) directory.Devices {
	s.devices = base
	return s
}

// Account implements directory.Accounts. A decision that was not made by the door asks the store too.
func (s *supplier) Account(ctx context.Context, name string) (directory.Account, error) {
	g := gatheringOf(ctx)
	if g == nil {
		g = new(gathering)
		if g.account, g.accountLost = s.facts.accounts.get(ctx, s.facts.store, name); g.accountLost == nil {
			g.joined, _, g.accountLost = s.join(ctx, g.account.value.OrNone(name), time.Time{})
		}
	}
	switch {
	case g.accountLost != nil:
		return directory.Account{}, g.accountLost
	case g.joined == nil:
		return directory.Account{}, directory.ErrNotFound
	}
	return *g.joined, nil
}

// join joins what is known of an account, as seen at a moment. It returns nil where there is nothing beyond the book.
func (s *supplier) join(ctx context.Context, record *store.Account, at time.Time) (*directory.Account, []store.Origin, error) {
	if err := s.facts.doubted(ctx, s.book, record.Name); err != nil {
		return nil, nil, err
	}
	listed, own, err := s.listed(ctx, record.Name)
	if err != nil {
		return nil, nil, err
	}
	managed, err := s.facts.managedGroups(ctx)
	if err != nil {
		return nil, nil, err
	}
	states := record.States() || own
	if listed.Account != nil {
		for _, group := range listed.Account.Groups {
			states = states || managed[group] != ""
		}
	}
	if !states {
		return nil, nil, nil
	}
	joined, from, err := record.Join(listed, managed, at)
	return &joined, from, err
}

// listed returns what the book and the program say of an account together, and whether the program says anything.
func (s *supplier) listed(ctx context.Context, name string) (listed store.Listed, own bool, err error) {
	contents := s.book.Judge().Directory()
	if n, ok := contents.FindAccount(name); ok && n < len(contents.Accounts) {
		listed = store.Listed{Account: &contents.Accounts[n], Entry: func() string { return engine.Fingerprint(contents.Accounts[n]) }}
	}
	if s.accounts == nil {
		return listed, false, nil
	}
	program, err := s.accounts.Account(ctx, name)
	switch {
	case errors.Is(err, directory.ErrNotFound):
		return listed, false, nil
	case err != nil:
		return listed, false, err
	case program.Name != name:
		return listed, false, fmt.Errorf("it was answered for %q", program.Name)
	}
	if listed.Account != nil && !program.IsWhole {
		program.CompleteFrom(listed.Account)
	}
	listed.Account = &program
	return listed, true, nil
}

// Device implements directory.Devices: the device that the book or the program lists, with what it last reported to the
// door.
func (s *supplier) Device(ctx context.Context, id string) (directory.Device, error) {
	g := gatheringOf(ctx)
	switch {
	case g == nil:
		return directory.Device{}, errors.New("devices are supplied to decisions of the door alone")
	case g.deviceLost != nil:
		return directory.Device{}, g.deviceLost
	case g.supplied != nil:
		return *g.supplied, nil
	case g.listedDevice != nil && s.devices != nil:
		return *g.listedDevice, nil
	}
	return directory.Device{}, directory.ErrNotFound
}

// listedDevice returns the device that the program lists, else the book's, nil where neither has it.
func (s *supplier) listedDevice(ctx context.Context, id string) (*directory.Device, error) {
	if s.devices != nil {
		d, err := s.devices.Device(ctx, id)
		switch {
		case errors.Is(err, directory.ErrNotFound):
		case err != nil:
			return nil, err
		case d.Name != id:
			return nil, fmt.Errorf("it was answered for %q", d.Name)
		default:
			return &d, nil
		}
	}
	return s.book.devices[id], nil
}

// managedGroups returns which feed manages which group. Nobody changes it.
func (f *facts) managedGroups(ctx context.Context) (map[string]store.Source, error) {
	return f.managed.get(&f.following, func() (map[string]store.Source, error) { return store.Managed(ctx, f.store) })
}
