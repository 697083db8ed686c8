package pages

import (
	"context"
	"encoding/json"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
)

// run ends inspections when the door closes.
func (d *room) run(ctx context.Context) {
	<-ctx.Done()
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed = true; d.end != nil {
		d.end()
	}
	d.inspecting.Wait()
}

// inspect inspects a book that was taken into force, which takes its time, in place of the one before.
func (d *room) inspect(b *briskwarden.Book) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed || d.Config().Journal.Mode == door.JournalOff {
		return
	}
	if d.end != nil {
		d.end()
	}
	ctx, end := context.WithCancel(context.Background())
	d.end = end
	d.inspecting.Go(func() { d.record(ctx, b) })
}

// record records what inspect says of a book that was taken into force, so that a report shows how that moves. Of a book
// that another replaces meanwhile, and where the door closes, it records nothing.
func (d *room) record(ctx context.Context, b *briskwarden.Book) {
	found, err := inspect.Inspect(ctx, b.Source(), d.Now())
	switch {
	case ctx.Err() != nil:
		return
	case err != nil:
		d.Log().Error("the book could not be inspected", "book", b.Digest(), "error", err)
		return
	}
	said := journal.Inspected{Book: b.Digest(), Reached: found.Score.Reached, Possible: found.Score.Possible, Open: []string{}}
	for i := range found.Score.Open {
		said.Open = append(said.Open, found.Score.Open[i].Check)
	}
	text, err := json.Marshal(said)
	if err != nil {
		panic(err) // it is numbers and texts
	}
	e := journal.Make(journal.Inspection, journal.NewID(), d.Now(), "", "", "inspection", text)
	if err := d.Record(e); err != nil && ctx.Err() == nil {
		d.Log().Error("what inspect says of the book was not recorded", "error", err)
	}
}
