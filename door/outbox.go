package door

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/store"
)

// outbox sends what is kept in the store until it is taken. Several doors on one store share it.
type outbox struct {
	kind  store.Kind
	store store.Store
	// deliver sends once, and line says with what else something is sent in order.
	deliver func(context.Context, *store.Outgoing) error
	line    func(*store.Outgoing) string
	// giveUp reports whether to give up on something that was not taken; nil never does.
	giveUp func(o *store.Outgoing, now time.Time) bool
	// done is told what became of each try: it was taken, or not, or given up.
	done func(o *store.Outgoing, err error, givenUp bool)
	wake chan struct{}
	now  func() time.Time
	log  *slog.Logger
	// pushing lets one at a time push.
	pushing sync.Mutex
}

// lease is how long a door has to send something before another door, or itself after a crash, may
// try again.
const lease = 40 * time.Second

// longestWait is how long at most lies between two tries.
const longestWait = 5 * time.Minute

// ring says that there is something to send.
func (o *outbox) ring() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// run sends what is in the outbox until the context ends.
func (o *outbox) run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if err := o.push(ctx); err != nil && ctx.Err() == nil {
			o.log.Error("what is to be sent could not be read", "kind", string(o.kind), "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-o.wake:
		case <-tick.C:
		}
	}
}

// push sends all that is due, the oldest first. What is of one line goes in order: while the first of it
// is not taken, the others wait.
func (o *outbox) push(ctx context.Context) error {
	o.pushing.Lock()
	defer o.pushing.Unlock()
	waits := map[string]bool{}
	for row, err := range store.All(ctx, o.store, store.Query{Kind: o.kind}) {
		if err != nil {
			return err
		}
		out := &store.Outgoing{Kind: o.kind}
		if err := store.Read(row, out); err != nil {
			return err
		}
		in := o.line(out)
		if waits[in] {
			continue
		}
		if out.Next.After(o.now()) || !o.claim(ctx, out) || !o.send(ctx, out) {
			waits[in] = true
		}
	}
	return nil
}

// claim takes something to be sent, so that no other door sends it meanwhile.
func (o *outbox) claim(ctx context.Context, out *store.Outgoing) bool {
	claimed := false
	err := o.store.Update(ctx, func(tx store.Tx) error {
		now := &store.Outgoing{Kind: o.kind, ID: out.ID}
		switch err := store.Load(ctx, tx, now); {
		case errors.Is(err, store.ErrNotFound):
			return nil
		case err != nil:
			return err
		case now.Next.After(o.now()):
			return nil
		}
		claimed = true
		now.Next, now.Tries = o.now().Add(lease), now.Tries+1
		*out = *now
		return store.Save(tx, now)
	})
	return err == nil && claimed
}

// send sends something, and reports whether it is out of the way. Where it was not taken it is tried
// again later.
func (o *outbox) send(ctx context.Context, out *store.Outgoing) bool {
	err := o.deliver(ctx, out)
	givenUp := err != nil && o.giveUp != nil && o.giveUp(out, o.now())
	kept := o.store.Update(ctx, func(tx store.Tx) error {
		if err == nil || givenUp {
			return store.Drop(tx, out)
		}
		out.Next = o.now().Add(min(longestWait, time.Second<<min(out.Tries, 10)))
		return store.Save(tx, out)
	})
	o.done(out, err, givenUp)
	return (err == nil || givenUp) && kept == nil
}
