package acts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/briskwarden/briskwarden/store"
)

// TakeOver takes over the acts of a record of the version before, each as JSON and in order, into a store: once for each
// record, which is named by the root of its tree. Several are merged, and a bar wins: of a client that the store bars, what
// another record says to let it in has no effect. It enters them in a log, but for those that the journal has already, and
// returns how many acts it took.
func TakeOver(ctx context.Context, s store.Store, log, record string, acts []string) (taken int, err error) {
	err = s.Update(ctx, func(tx store.Tx) error {
		taken = 0
		done := &store.Form{Name: "consent record " + record, Form: 1}
		if err := store.Load(ctx, tx, done); !errors.Is(err, store.ErrNotFound) {
			return err // nil where it was taken over
		}
		if err := store.Save(tx, done); err != nil {
			return err
		}
		s := &sitting{ledger: ledger{ctx: ctx, from: tx, tx: tx}}
		entered, err := s.followed()
		if err != nil {
			return err
		}
		clients, err := s.clients()
		if err != nil {
			return err
		}
		barred := map[string]bool{}
		for _, c := range clients {
			barred[c.Client] = c.Bar != nil
		}
		numbers := map[int64]int64{0: 0}
		for i, text := range acts {
			var a Act
			if err := json.Unmarshal([]byte(text), &a); err != nil {
				return fmt.Errorf("act %d of the record cannot be read: %w", i+1, err)
			}
			was := a.Number
			a.Request, taken = numbers[a.Request], i+1
			a.Overruled = a.Overruled || barred[a.Client] && slices.Contains([]Kind{Asked, Approved, Granted, GrantImported, BarLifted}, a.Kind)
			if err := s.append(a); err != nil {
				return err
			}
			numbers[was] = s.done[i].Number
		}
		s.done = s.done[min(int64(len(s.done)), entered):]
		return s.enter(log)
	})
	return taken, err
}

// followed is how many acts of the record of before the journal has, which counts for the record that is taken over first.
func (l *ledger) followed() (int64, error) {
	c := new(count)
	if is, err := l.load(store.Counts, countKey, c); is || err != nil {
		return 0, err
	}
	var f struct{ Acts int64 }
	key := store.Key{Kind: "followed", Key: "consent"}
	if is, err := l.load(key.Kind, key.Key, &f); !is || err != nil {
		return 0, err
	}
	return f.Acts, l.drop(key.Kind, key.Key)
}
