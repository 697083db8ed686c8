package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Restored is what is entered where a store was put back, with what is still missing.
type Restored struct {
	journal.PutBack
	// Owed are the sources with which the store is not yet resynced.
	Owed []store.Source `json:"owed" doc:"the sources with which the store is not yet resynced"`
}

// Restore enters that a store was put back, and has the doors go on from what there is. It is an error where the store is in
// no doubt to the door of the configuration.
func Restore(ctx context.Context, c *door.Config, by, because string, at time.Time) (done *Restored, err error) {
	return actOnRestored(ctx, c, by, because, at, func(s store.Store, _ store.Tx) (*journal.PutBack, *store.Restored, error) {
		var doubt *inDoubt
		switch err := lookAt(ctx, c, s, nil); {
		case err == nil:
			return nil, nil, errors.New("the store goes on from what this door wrote last, or the door keeps no state: there is nothing to say")
		case !errors.As(err, &doubt):
			return nil, nil, err
		}
		return &journal.PutBack{Log: doubt.is.Log, From: doubt.was, To: doubt.is.Size}, new(store.Restored), nil
	})
}

// Resynced enters that a store that was put back is resynced with a source, so that those are let in again for whom it speaks.
func Resynced(ctx context.Context, c *door.Config, source, by, because string, at time.Time) (done *Restored, err error) {
	return actOnRestored(ctx, c, by, because, at, func(_ store.Store, tx store.Tx) (*journal.PutBack, *store.Restored, error) {
		r, err := store.RestoredOf(ctx, tx)
		if err != nil {
			return nil, nil, err
		}
		owed := c.Owed(&r)
		for _, of := range owed {
			if string(of) == source {
				r.Resynced = append(r.Resynced, of)
				return &journal.PutBack{Resynced: source}, &r, nil
			}
		}
		if len(owed) == 0 {
			return nil, nil, errors.New("the store is resynced with every source, or was never put back: there is nothing to say")
		}
		return nil, nil, fmt.Errorf("%q is no source with which the store is still to be resynced: those are %s", source, quoted(owed))
	})
}

func quoted(sources []store.Source) string {
	var texts []string
	for _, s := range sources {
		texts = append(texts, fmt.Sprintf("%q", s))
	}
	return strings.Join(texts, ", ")
}

// actOnRestored keeps and enters what an administrator says of a store that was put back, in one transaction.
func actOnRestored(ctx context.Context, c *door.Config, by, because string, at time.Time,
	act func(store.Store, store.Tx) (*journal.PutBack, *store.Restored, error)) (done *Restored, err error) {
	if strings.TrimSpace(by) == "" || strings.TrimSpace(because) == "" {
		return nil, errors.New("say who does it and why: --as NAME --because TEXT")
	}
	s, err := JoinStore(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	at = at.UTC().Truncate(time.Microsecond) // as finely as every store keeps it
	var r *store.Restored
	err = s.Update(ctx, func(tx store.Tx) error {
		var said *journal.PutBack
		if said, r, err = act(s, tx); err != nil {
			return err
		}
		said.By, said.Because = by, because
		if said.Resynced == "" {
			r.At, r.By, r.Because = at, by, because
		}
		done = &Restored{*said, c.Owed(r)}
		e, err := putBack(said, at)
		if err != nil {
			return err
		}
		return errors.Join(store.Save(tx, r), tx.Append(store.TerminalLog, []journal.Entry{e}))
	})
	if err != nil {
		return nil, err
	}
	if done.Resynced == "" {
		err = keepHead(ctx, c, s, r.At)
	}
	return done, err
}
