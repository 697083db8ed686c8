package door

import (
	"bytes"
	"context"
	"errors"
	"maps"

	"github.com/briskwarden/briskwarden/store"
)

// mostPlans is how often a change is planned before it is made within a transaction, where others change the same each time.
const mostPlans = 5

// doPlanned makes a change that may take long, or be refused: it is thought through first, while decisions go on, and what it comes to
// is one short transaction. One at a time is, since two could rest on a row that is not there yet.
func (r *recorder) doPlanned(ctx context.Context, change func(*Change) error) error {
	r.planning.Lock()
	defer r.planning.Unlock()
	for range mostPlans {
		plan := store.NewPlan(r.facts.store)
		planned := &Change{door: r.door, ctx: ctx, tx: plan, aside: r.facts.store, facts: r.facts, were: map[string][]byte{}}
		if err := change(planned); err != nil {
			return err
		}
		maps.DeleteFunc(planned.accounts, func(name string, a *store.Account) bool {
			return bytes.Equal(store.RowOf(a).Value, planned.were[name])
		})
		err := r.do(&job{urgent: true, alone: true, change: func(b *Change) error {
			b.accounts, b.devices, b.sessions = planned.accounts, planned.devices, planned.sessions
			b.groupsChanged, b.entries, b.after = planned.groupsChanged, planned.entries, planned.after
			return plan.Apply(b.ctx, b.tx, planned.changed())
		}})
		if !errors.Is(err, store.ErrOutdated) {
			return err
		}
		r.facts.forget(plan.Read())
	}
	return r.do(&job{urgent: true, alone: true, change: change})
}

// changed returns the keys of the values that are to be changed.
func (b *Change) changed() map[store.Key]bool {
	keys := map[store.Key]bool{}
	for name := range b.accounts {
		keys[store.Key{Kind: store.Accounts, Key: name}] = true
	}
	for id := range b.devices {
		keys[store.Key{Kind: store.Devices, Key: id}] = true
	}
	for id := range b.sessions {
		keys[store.Key{Kind: store.Sessions, Key: id}] = true
	}
	return keys
}
