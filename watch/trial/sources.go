package trial

import (
	"context"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch/lookout"
)

// Of returns a trial of what a book says of who hears what.
func Of(b *book.Book) (*Trial, error) {
	judge, err := b.Compile()
	if err != nil {
		return nil, err
	}
	w, err := lookout.New(judge, &b.Watch)
	if err != nil {
		return nil, err
	}
	return New(w), nil
}

// OverJournal goes through the decisions of a store's journal that a filter leaves.
func (t *Trial) OverJournal(ctx context.Context, s store.Store, f journal.Filter) error {
	f.Kind = journal.Decision
	for e, err := range s.Entries(ctx, f) {
		if err != nil {
			return err
		}
		brief, err := e.ReadBrief()
		if err != nil {
			continue // it was pruned
		}
		t.Take(ctx, lookout.Decision{Number: e.Number, At: e.At, Account: e.Account, Brief: brief})
	}
	return nil
}

// OverHistory goes through a history as a book judges it, leaving out what lies outside of the filter's
// stretch of time.
func (t *Trial) OverHistory(ctx context.Context, b *book.Book, sources []replay.Source, o replay.Options, f journal.Filter) (*replay.Basis,
	error) {
	judge, err := b.Compile()
	if err != nil {
		return nil, err
	}
	judges, err := o.Judges([]*engine.Judge{judge})
	if err != nil {
		return nil, err
	}
	ordered := replay.InOrder{Take: func(j *replay.Judged) {
		t.Take(ctx, lookout.Decision{Number: j.Number, At: j.At, Account: j.Account, Brief: j.Brief})
	}}
	var counted replay.Counter
	reading, err := replay.Walk(ctx, judges, sources, o, func() replay.Visit {
		var short engine.Brief
		return func(ctx context.Context, number int64, filled []*attempt.Attempt) {
			if at := filled[0].At; !f.From.IsZero() && at.Before(f.From) || !f.To.IsZero() && !at.Before(f.To) {
				return
			}
			ordered.Add(replay.JudgedBy(ctx, judges[0], number, filled[0], &short))
			counted.Count(filled[0], &short)
		}
	})
	ordered.Flush()
	basis := counted.Basis(reading, o)
	return &basis, err
}
