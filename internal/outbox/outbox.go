// Package outbox sends what is kept in a store until it is taken.
package outbox

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/store"
)

// Outbox sends what is kept in a store until it is taken. Several doors on one store share it.
type Outbox struct {
	Options
	wake chan struct{}

	// sending are the lanes that are at work. Of each, behind is true where there was more to send meanwhile.
	sending sync.WaitGroup
	mu      sync.Mutex
	behind  map[string]bool
}

// Options are what an outbox is made with. All of them are needed.
type Options struct {
	// Kind is that of the rows which are to be sent.
	Kind  store.Kind
	Store store.Store
	// Deliver sends once. Lane says through what something is sent: none waits for what is sent through another. Line says with
	// what else something is sent in order.
	Deliver    func(context.Context, *store.Outgoing) error
	Lane, Line func(*store.Outgoing) string
	// GiveUp reports whether to give up on something that was not taken, for a reason.
	GiveUp func(o *store.Outgoing, err error, now time.Time) bool
	// Done is told what became of each try: it was taken, or not, or given up.
	Done func(o *store.Outgoing, err error, givenUp bool)
	Now  func() time.Time
	Log  *slog.Logger
}

// New makes an outbox. It sends nothing before Run, or Push.
func New(o Options) *Outbox {
	return &Outbox{Options: o, wake: make(chan struct{}, 1), behind: map[string]bool{}}
}

// lease is how long a door has to send something before another door, or itself after a crash, may
// try again.
const lease = 40 * time.Second

// longestWait is how long at most lies between two tries.
const longestWait = 5 * time.Minute

// Ring says that there is something to send.
func (o *Outbox) Ring() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// Run sends what is in the outbox until the context ends.
func (o *Outbox) Run(ctx context.Context) {
	defer o.sending.Wait()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if err := o.Push(ctx); err != nil && ctx.Err() == nil {
			o.Log.Error("what is to be sent could not be read", "kind", string(o.Kind), "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-o.wake:
		case <-tick.C:
		}
	}
}

// Push begins to send all that is due, each lane by itself.
func (o *Outbox) Push(ctx context.Context) error {
	lanes := map[string][]*store.Outgoing{}
	for row, err := range store.All(ctx, o.Store, store.Query{Kind: o.Kind}) {
		if err != nil {
			return err
		}
		out := &store.Outgoing{Kind: o.Kind}
		if err := store.Read(row, out); err != nil {
			return err
		}
		lanes[o.Lane(out)] = append(lanes[o.Lane(out)], out)
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
				o.Ring()
			}
			delete(o.behind, lane)
		})
	}
	return nil
}

// sendInOrder sends what is due of a lane, the oldest first. What is of one line goes in order: while the first of it is not taken, the
// others wait.
func (o *Outbox) sendInOrder(ctx context.Context, list []*store.Outgoing) {
	waits := map[string]bool{}
	for _, out := range list {
		in := o.Line(out)
		if ctx.Err() != nil || waits[in] {
			continue
		}
		if out.Next.After(o.Now()) || !o.claim(ctx, out) || !o.send(ctx, out) {
			waits[in] = true
		}
	}
}

// claim takes something to be sent, so that no other door sends it meanwhile.
func (o *Outbox) claim(ctx context.Context, out *store.Outgoing) bool {
	claimed := false
	err := o.Store.Update(ctx, func(tx store.Tx) error {
		now := &store.Outgoing{Kind: o.Kind, ID: out.ID}
		switch err := store.Load(ctx, tx, now); {
		case errors.Is(err, store.ErrNotFound):
			return nil
		case err != nil:
			return err
		case now.Next.After(o.Now()):
			return nil
		}
		claimed = true
		now.Next, now.Tries = o.Now().Add(lease), now.Tries+1
		*out = *now
		return store.Save(tx, now)
	})
	return err == nil && claimed
}

// send sends something, and reports whether it is out of the way. Where it was not taken it is tried
// again later.
func (o *Outbox) send(ctx context.Context, out *store.Outgoing) bool {
	err := o.Deliver(ctx, out)
	givenUp := err != nil && o.GiveUp(out, err, o.Now())
	kept := o.Store.Update(ctx, func(tx store.Tx) error {
		if err == nil || givenUp {
			return store.Drop(tx, out)
		}
		out.Next = o.Now().Add(min(longestWait, time.Second<<min(out.Tries, 10)))
		return store.Save(tx, out)
	})
	o.Done(out, err, givenUp)
	return (err == nil || givenUp) && kept == nil
}

// WaitIdle waits until nothing is being sent.
func (o *Outbox) WaitIdle() {
	for busy := true; busy; time.Sleep(time.Millisecond) {
		o.mu.Lock()
		busy = len(o.behind) > 0
		o.mu.Unlock()
	}
}
