package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/briskwarden/briskwarden/journal"
)

// TerminalLog is the log of what administrators do at a terminal.
const TerminalLog = "terminal"

// IsOfDoor reports whether a log is one that a door of this version writes.
func IsOfDoor(log string) bool { return log != TerminalLog && log != journal.BeforeLog }

// prunedTogether is how many entries one transaction takes out, so that nobody waits long for it.
const prunedTogether = 4096

// Prune takes out what entries before a moment say, but for entries about earlier prunings, and records which they were. It
// says so in the log `in`; by is who wants it. What a failure left undone is done by calling it again.
func Prune(ctx context.Context, s Store, in string, before time.Time, by string, at time.Time) (entries int64, err error) {
	heads, err := s.Heads(ctx)
	if err != nil {
		return 0, err
	}
	for i := range heads {
		for {
			n, err := pruneSome(ctx, s, in, heads[i].Log, before, by, at)
			if err != nil {
				return entries, err
			}
			if n == 0 {
				break
			}
			entries += n
		}
	}
	return entries, nil
}

// pruneSome prunes some entries of one log.
func pruneSome(ctx context.Context, s Store, in, log string, before time.Time, by string, at time.Time) (entries int64, err error) {
	err = s.Update(ctx, func(tx Tx) error {
		numbers, err := tx.Prune(log, before, prunedTogether)
		if entries = int64(len(numbers)); err != nil || entries == 0 {
			return err
		}
		said := journal.Pruning{Before: before.UTC(), By: by, Entries: entries, Emptied: journal.Stretches(numbers)}
		if log != in {
			said.Log = log
		}
		text, err := json.Marshal(said)
		if err != nil {
			return err
		}
		return tx.Append(in, []journal.Entry{journal.Make(journal.Pruned, journal.NewID(), at, by, "", "pruned", text)})
	})
	return entries, err
}
