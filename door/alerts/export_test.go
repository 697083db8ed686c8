package alerts

import (
	"context"
	"time"

	"github.com/briskwarden/briskwarden/door"
)

// Waiting is a room that looks and sends when a test says so.
type Waiting struct{ room }

// Room makes the room.
func (w *Waiting) Room(of *door.Door) (*door.Opened, error) {
	return w.open(of, Options{Every: time.Hour, Book: "kestrel", Journal: []string{"--config", "door.yaml"}})
}

// LookOnce is what the room does every so often.
func (w *Waiting) LookOnce(ctx context.Context) error {
	for {
		if more, err := w.lookOnce(ctx); err != nil || !more {
			return err
		}
	}
}

// SendLetters sends the letters that are due.
func (w *Waiting) SendLetters(ctx context.Context) error {
	o := w.poster.outbox
	o.WaitIdle() // those who send already may have read too early
	defer o.WaitIdle()
	return o.Push(ctx)
}
