package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/briskwarden/briskwarden/journal"
)

// prunedTogether is how many entries one transaction takes out, so that nobody waits long for it.
const prunedTogether = 4096

// Prune takes out what entries before a moment say, but for entries about earlier prunings, and records which they were. By is
// who wants it. What a failure left undone is done by calling it again.
func Prune(ctx context.Context, s Store, before time.Time, by string, at time.Time) (entries int64, err error) {
	for {
		var numbers []int64
		err := s.Update(ctx, func(tx Tx) (err error) {
			if numbers, err = tx.Prune(before, prunedTogether); err != nil || len(numbers) == 0 {
				return err
			}
			said, err := json.Marshal(journal.Pruning{Before: before.UTC(), By: by, Entries: int64(len(numbers)),
				Emptied: journal.Stretches(numbers)})
			if err != nil {
				return err
			}
			return tx.Append([]journal.Entry{journal.Make(journal.Pruned, journal.NewID(), at, by, "", "pruned", said)})
		})
		if err != nil || len(numbers) == 0 {
			return entries, err
		}
		entries += int64(len(numbers))
	}
}
