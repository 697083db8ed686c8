package door

import (
	"context"
	"time"

	"github.com/briskwarden/briskwarden/store"
)

// pruneEvery is how often it is looked whether entries have been kept long enough.
const pruneEvery = time.Hour

// pruneJournal takes out what entries say that have been kept long enough.
func (d *Door) pruneJournal(ctx context.Context) {
	every := time.NewTicker(pruneEvery)
	defer every.Stop()
	for {
		before := d.now().Add(-time.Duration(d.config.Journal.Keep))
		entries, err := store.Prune(ctx, d.facts.store, d.config.Journal.Door, before, "", d.now())
		switch {
		case err != nil && ctx.Err() == nil:
			d.log.Error("the journal could not be pruned", "error", err)
		case entries > 0:
			d.log.Info("the journal was pruned", "before", before, "entries", entries)
		}
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
	}
}
