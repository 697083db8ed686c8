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
	// deliver sends once. Lane says through what something is sent: none waits for what is sent through another. Line says with
	// what else something is sent in order.
	deliver    func(context.Context, *store.Outgoing) error
	lane, line func(*store.Outgoing) string
	// giveUp reports whether to give up on something that was not taken, for a reason.
	giveUp func(o *store.Outgoing, err error, now time.Time) bool
	// done is told what became of each try: it was taken, or not, or given up.
	done func(o *store.Outgoing, err error, givenUp bool)
	wake chan struct{}
	now  func() time.Time
	log  *slog.Logger

	// sending are the lanes that are at work. Of each, behind is true where there was more to send meanwhile.
	sending sync.WaitGroup
	mu      sync.Mutex
	behind  map[string]bool
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
	defer o.sending.Wait()
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

// push begins to send all that is due, each lane by itself.
func (o *outbox) push(ctx context.Context) error {
	lanes := map[string][]*store.Outgoing{}
	for row, err := range store.All(ctx, o.store, store.Query{Kind: o.kind}) {
		if err != nil {
			return err
		}
		out := &store.Outgoing{Kind: o.kind}
		if err := store.Read(row, out); err != nil {
			return err
		}
		lanes[o.lane(out)] = append(lanes[o.lane(out)], out)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for lane, list := range lanes {
		if _, busy := o.behind[lane]; busy {
			o.behind[lane] = true
			continue
		}
		o.behind[lane] = false
		o.sending.Go(func() {
			o.sendInOrder(ctx, list)
			o.mu.Lock()
			defer o.mu.Unlock()
			if o.behind[lane] {
				o.ring()
			}
			delete(o.behind, lane)
		})
	}
	return nil
}

// sendInOrder sends what is due of a lane, the oldest first. What is of one line goes in order: while the first of it is not taken, the
// others wait.
func (o *outbox) sendInOrder(ctx context.Context, list []*store.Outgoing) {
	waits := map[string]bool{}
	for _, out := range list {
		in := o.line(out)
		if ctx.Err() != nil || waits[in] {
			continue
		}
		if out.Next.After(o.now()) || !o.claim(ctx, out) || !o.send(ctx, out) {
			waits[in] = true
		}
	}
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
	givenUp := err != nil && o.giveUp(out, err, o.now())
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
