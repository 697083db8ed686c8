package postgres_test

import (
	"context"
	"fmt"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
)

func open(t *testing.T, at string) *postgres.Store {
	s, err := postgres.Open(t.Context(), at)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestStore(t *testing.T) {
	at := map[store.Store]string{}
	storetest.Run(t, func(t *testing.T) store.Store {
		address := storetest.Postgres(t)
		s := open(t, address)
		at[s] = address
		return s
	}, func(t *testing.T, s store.Store) store.Store {
		require.NoError(t, s.Close())
		return open(t, at[s])
	})
}

// TestAnAuditorReads: who may read the tables and no more reads the journal; nothing is made or changed by it.
func TestAnAuditorReads(t *testing.T) {
	address := storetest.Postgres(t)
	_, err := postgres.Read(t.Context(), address)
	require.ErrorContains(t, err, "the database has no store")
	_, err = postgres.Read(t.Context(), address)
	require.ErrorContains(t, err, "the database has no store", "and none was made")
	s := open(t, address)
	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
		return tx.Append([]journal.Entry{storetest.Entry(0, journal.Decision, "liv")})
	}))
	role := fmt.Sprintf("auditor_%d", time.Now().UnixNano()) // roles are the server's, not the database's
	require.NoError(t, s.Run(t.Context(),
		fmt.Sprintf("CREATE ROLE %[1]s LOGIN; DO $$ BEGIN EXECUTE format('GRANT USAGE ON SCHEMA %%1$I TO %[1]s; "+
			"GRANT SELECT ON ALL TABLES IN SCHEMA %%1$I TO %[1]s', current_schema()); END $$", role)))
	t.Cleanup(func() { require.NoError(t, s.Run(context.Background(), "DROP OWNED BY "+role+"; DROP ROLE "+role)) })
	at, err := url.Parse(address)
	require.NoError(t, err)
	at.User = url.User(role)
	auditor, err := postgres.Read(t.Context(), at.String())
	require.NoError(t, err)
	defer auditor.Close()
	found, err := journal.Verify(t.Context(), auditor, nil, "")
	require.NoError(t, err)
	require.EqualValues(t, 1, found.Size)
	require.Error(t, auditor.Update(t.Context(), func(tx store.Tx) error {
		return tx.Put(store.Row{Key: store.Key{Kind: store.Seen,
			Key: "x"}})
	}))
	own, err := postgres.Read(t.Context(), address)
	require.NoError(t, err)
	defer own.Close()
	require.ErrorContains(t, own.Update(t.Context(), func(tx store.Tx) error {
		return tx.Put(store.Row{Key: store.Key{Kind: store.Seen, Key: "x"}, Value: []byte("1")})
	}), "read-only", "nor does who may more")
}

func TestOthersHearOfChanges(t *testing.T) {
	address := storetest.Postgres(t)
	one, other := open(t, address), open(t, address)
	var mu sync.Mutex
	heard, found := map[string]bool{}, make(chan bool, 8)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var watching sync.WaitGroup
	watching.Go(func() {
		other.Watch(ctx, store.Watcher{Changed: func(keys []store.Key) {
			mu.Lock()
			defer mu.Unlock()
			for _, k := range keys {
				heard[k.Key] = true
			}
		}, Lost: func() {}, Found: func() { found <- true }})
	})
	<-found
	save := func(s store.Store, names ...string) {
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
			for _, name := range names {
				if err := store.Save(tx, &store.Account{Name: name}); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	long := make([]string, 200)
	for i := range long {
		long[i] = string(rune('a'+i%26)) + "-" + time.Duration(i).String() + "-a-name-of-some-length@kestrelsound.example"
	}
	save(one, long...)
	save(other, "own")
	save(one, "last")
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return heard["last"] }, 10*time.Second, time.Millisecond)
	mu.Lock()
	for _, name := range long {
		require.True(t, heard[name], name)
	}
	require.False(t, heard["own"], "what it changed itself it knows")
	mu.Unlock()

	t.Run("a lost connection is told", func(t *testing.T) {
		_, err := one.Head(ctx)
		require.NoError(t, err)
		require.NoError(t, one.EndOthers(ctx))
		select {
		case <-found: // it was lost before, and found again
		case <-time.After(20 * time.Second):
			t.Fatal("it does not follow again")
		}
	})
	cancel()
	watching.Wait()
}

func TestARestartOfTheServerIsSurvived(t *testing.T) {
	s := open(t, storetest.Postgres(t))
	write := func() error {
		return s.Update(t.Context(), func(tx store.Tx) error {
			return tx.Append([]journal.Entry{storetest.Entry(0, journal.Decision, "liv")})
		})
	}
	require.NoError(t, write())
	require.NoError(t, s.EndAll(t.Context()))
	require.Eventually(t, func() bool { return write() == nil }, 10*time.Second, time.Millisecond)
	head, err := s.Head(t.Context())
	require.NoError(t, err)
	_, err = journal.Verify(t.Context(), s, nil, "")
	require.NoError(t, err)
	require.EqualValues(t, 2, head.Size, "what failed left nothing behind")
}
