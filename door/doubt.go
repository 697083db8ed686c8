package door

import (
	"context"
	"fmt"

	"github.com/briskwarden/briskwarden/store"
)

// A store that was put back to an older copy is in doubt: what was ended, disabled or taken away since is not in it. Until an
// administrator says that it is meant, and it is resynced with each source that states facts, nobody knows of an account whether it
// may sign on.

// doubt is the error of an account whose facts nobody can tell, since the store is in doubt.
type doubt struct{ why string }

// Error implements error.
func (d *doubt) Error() string { return d.why }

// putBack is why what was authenticated before a store was put back counts no more.
const putBack = "the store was put back to an older copy"

// Suspend says that the store is in doubt, so that the door lets in none but the emergency accounts of its book until Resume. It is
// for who found out that the store does not go on from what this door wrote to it last, and may be called at any time.
func (d *Door) Suspend() { d.facts.suspended.Store(true) }

// Resume ends Suspend, and has open sessions judged again.
func (d *Door) Resume() {
	d.facts.suspended.Store(false)
	d.lookAgain(review{because: putBack})
}

// restoredAt returns what is kept of a store that was put back.
func (f *facts) restoredAt(ctx context.Context) (store.Restored, error) {
	return f.restored.get(&f.following, func() (store.Restored, error) { return store.RestoredOf(ctx, f.store) })
}

// inDoubt is what is said where the store is in doubt.
const inDoubt = "the store is in doubt, so emergency accounts alone are let in"

// doubted returns a doubt where nobody can tell whether an account may sign on, since the store is in doubt.
func (f *facts) doubted(ctx context.Context, b *inForce, account string) error {
	suspended := f.suspended.Load()
	restored, err := f.restoredAt(ctx)
	if err != nil || !suspended && restored.At.IsZero() || b.emergencyAccount(account) != nil {
		return err
	}
	if suspended {
		return &doubt{inDoubt}
	}
	for _, s := range *f.sources.Load() {
		if restored.Owes(s.By) && s.speaksFor(account) {
			return &doubt{fmt.Sprintf("%s, and is not yet resynced with %s", putBack, s.By)}
		}
	}
	return nil
}

// source is who states facts to a door, with the accounts for which it speaks.
type source struct {
	By        store.Source
	speaksFor func(account string) bool
}

// sources returns who states facts: callers who may `people`, issuers of events within the bounds of any who may hand events
// in, and administrators, who may act on anyone.
func (c *Config) sources() []source {
	list := []source{{store.Administrators, func(string) bool { return true }}}
	for i := range c.Callers {
		if caller := &c.Callers[i]; caller.may(MayPeople) {
			list = append(list, source{store.CallerSource(caller.Name), func(account string) bool {
				return isFor(caller.People.Accounts, caller.People.Domains, account)
			}})
		}
	}
	for i := range c.Events {
		list = append(list, source{store.IssuerSource(c.Events[i].Issuer), func(account string) bool {
			for i := range c.Callers {
				if caller := &c.Callers[i]; caller.may(MayEvents) && isFor(caller.Events.Accounts, caller.Events.Domains, account) {
					return true
				}
			}
			return false
		}})
	}
	return list
}

// Owed returns the sources of a configuration with which a store that was put back is not yet resynced, in the order in which the
// configuration names them.
func (c *Config) Owed(r *store.Restored) (owed []store.Source) {
	for _, s := range c.sources() {
		if r.Owes(s.By) {
			owed = append(owed, s.By)
		}
	}
	return owed
}
