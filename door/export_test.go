package door

import (
	"context"
	"time"
)

// LookOnce is what the watch does every so often.
func (d *Door) LookOnce(ctx context.Context) error {
	for {
		if more, err := d.lookOnce(ctx); err != nil || !more {
			return err
		}
	}
}

// WaitForInspection waits until what inspect says of the book in force is recorded.
func (d *Door) WaitForInspection() { d.inspecting.Wait() }

// waitIdle waits until nothing is being sent.
func (o *outbox) waitIdle() {
	for busy := true; busy; time.Sleep(time.Millisecond) {
		o.mu.Lock()
		busy = len(o.behind) > 0
		o.mu.Unlock()
	}
}

// SendLetters sends the letters that are due.
func (d *Door) SendLetters(ctx context.Context) error {
	o := &d.poster.outbox
	o.waitIdle() // those who send already may have read too early
	defer o.waitIdle()
	return o.push(ctx)
}
