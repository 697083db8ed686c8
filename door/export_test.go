package door

import "context"

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

// SendLetters sends the letters that are due.
func (d *Door) SendLetters(ctx context.Context) error { return d.poster.outbox.push(ctx) }
