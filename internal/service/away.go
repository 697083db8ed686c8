package service

import (
	"context"
	"errors"
	"iter"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// A door whose store cannot be reached when it starts runs on one that has nothing and takes nothing, so that it lets in emergency
// accounts by what it kept of them, until the store can be opened. Then another door takes its place.

// comesBackEvery is how often it is tried whether the store can be opened.
const comesBackEvery = 2 * time.Second

// isAway reports whether an error says that a store cannot be reached, rather than that it is not to be used.
func isAway(err error) bool { return err != nil && (postgres.IsAway(err) || sqlite.IsAway(err)) }

// startAway starts a door without its store.
func (s *Service) startAway(ctx context.Context, settled *settledTLS) (*running, error) {
	r, _, err := s.open(ctx, away{}, settled, door.Options{Away: true})
	return r, err
}

// comeBack waits until the store can be opened, and has a door on it take the place of the one without. It returns the door that runs, and
// an error where nothing is to be waited for any more.
func (s *Service) comeBack(ctx context.Context, settled *settledTLS, serving *switched, r *running, failed chan error) (*running, error) {
	every := time.NewTicker(comesBackEvery)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return r, nil
		case err := <-failed:
			return r, err
		case <-every.C:
		}
		back, err := s.start(ctx, settled)
		switch {
		case isAway(err) || ctx.Err() != nil:
			continue
		case err != nil:
			return r, err
		}
		serving.to(back.door)
		s.Log.Info("the store can be reached again")
		return back, r.stop()
	}
}

// switched serves requests by the door that runs.
type switched struct{ handler atomic.Pointer[http.Handler] }

func (s *switched) to(d *door.Door) {
	h := d.Handler()
	s.handler.Store(&h)
}

// ServeHTTP implements http.Handler.
func (s *switched) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	(*s.handler.Load()).ServeHTTP(w, r)
}

// errAway is the error of all that is asked of a store that is away.
var errAway = errors.New("the store cannot be reached")

// away is a store that cannot be reached. Each method does as store.Store says of one that cannot be relied on now.
type away struct{}

// Get implements store.Store: nothing can be asked or kept.
func (away) Get(context.Context, store.Key) (store.Row, error) { return store.Row{}, errAway }

// List implements store.Store: nothing can be asked or kept.
func (away) List(context.Context, store.Query) ([]store.Row, error) { return nil, errAway }

// Update implements store.Store: nothing can be asked or kept.
func (away) Update(context.Context, func(store.Tx) error) error { return errAway }

// Entries implements store.Store: nothing can be asked or kept.
func (away) Entries(context.Context, journal.Filter) iter.Seq2[journal.Entry, error] {
	return func(yield func(journal.Entry, error) bool) { yield(journal.Entry{}, errAway) }
}

// Entry implements store.Store: nothing can be asked or kept.
func (away) Entry(context.Context, string) (journal.Entry, error) { return journal.Entry{}, errAway }

// Heads implements store.Store: nothing can be asked or kept.
func (away) Heads(context.Context) ([]journal.Head, error) { return nil, errAway }

// Resembling implements store.Store: nothing is packed.
func (away) Resembling([]byte) {}

// Hold implements store.Store: nothing can be asked or kept.
func (away) Hold(context.Context, string) error { return errAway }

// Release implements store.Store: no name is held.
func (away) Release(string) error { return nil }

// Held implements store.Store: nobody can tell.
func (away) Held(context.Context, string) (bool, error) { return false, errAway }

// Watch hears of nothing, and so vouches for nothing.
func (away) Watch(ctx context.Context, _ store.Watcher) error {
	<-ctx.Done()
	return ctx.Err()
}

// IsShared implements store.Store: nothing of it is remembered.
func (away) IsShared() bool { return true }

// OthersAtWork implements store.Store: nobody is heard of.
func (away) OthersAtWork() int { return 0 }

// Close implements store.Store: there is nothing to free.
func (away) Close() error { return nil }
