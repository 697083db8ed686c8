package postgres_test

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
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
	require.ErrorIs(t, err, postgres.ErrNone)
	_, err = postgres.Join(t.Context(), address)
	require.ErrorIs(t, err, postgres.ErrNone, "and none was made, nor is one for an act")
	s := open(t, address)
	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
		return tx.Append("door", []journal.Entry{storetest.Entry(0, journal.Decision, "liv")})
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
	found, err := journal.Verify(t.Context(), auditor, journal.Verification{})
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
	require.Equal(t, 1, other.OthersAtWork())
	require.Zero(t, one.OthersAtWork(), "it hears of nobody")

	t.Run("a moment later, once nobody else tells", func(t *testing.T) {
		telling, err := pgx.Connect(ctx, address)
		require.NoError(t, err)
		_, err = telling.Exec(ctx, "SELECT pg_advisory_lock($1)", postgres.Telling)
		require.NoError(t, err)
		require.NoError(t, one.Update(ctx, func(tx store.Tx) error {
			tx.TellLater()
			return store.Save(tx, &store.Account{Name: "later"})
		}))
		time.Sleep(20 * time.Millisecond) // in which it tries in vain
		mu.Lock()
		require.False(t, heard["later"])
		mu.Unlock()
		require.NoError(t, telling.Close(ctx))
		require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return heard["later"] }, 10*time.Second, time.Millisecond)
	})

	t.Run("a lost connection is told", func(t *testing.T) {
		_, err := one.Heads(ctx)
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
			return tx.Append("door", []journal.Entry{storetest.Entry(0, journal.Decision, "liv")})
		})
	}
	require.NoError(t, write())
	require.NoError(t, s.EndAll(t.Context()))
	require.Eventually(t, func() bool { return write() == nil }, 10*time.Second, time.Millisecond)
	found, err := journal.Verify(t.Context(), s, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 2, found.Size, "what failed left nothing behind")
}

// TestTablesOfTheVersionBeforeAreCarriedOver: once, and a door of that version does not start on them again.
func TestTablesOfTheVersionBeforeAreCarriedOver(t *testing.T) {
	address := storetest.Postgres(t)
	conn, err := pgx.Connect(t.Context(), address+"&application_name=briskwarden") // as a door of that version does
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), string(storetest.Unzip(t, "before.sql.gz")))
	require.NoError(t, err)
	_, err = postgres.Open(t.Context(), address)
	require.ErrorContains(t, err, "a door of the version before is connected")
	require.NoError(t, conn.Close(t.Context()))
	var s *postgres.Store
	require.Eventually(t, func() bool { s, err = postgres.Open(t.Context(), address); return err == nil }, 5*time.Second, 10*time.Millisecond)
	defer s.Close()
	storetest.CarriedOver(t, s)
	other := open(t, address)
	found, err := journal.Verify(t.Context(), other, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 28, found.Size, "it is carried over once")
}

// TestADatabaseThatWasHalfRestored: without its trigger entries could be changed.
func TestADatabaseThatWasHalfRestored(t *testing.T) {
	address := storetest.Postgres(t)
	s := open(t, address)
	require.NoError(t, s.Run(t.Context(), "DROP TRIGGER entries_stay ON entries"))
	for name, open := range map[string]func() error{
		"a door":  func() error { _, err := postgres.Open(t.Context(), address); return err },
		"a check": func() error { _, err := postgres.Read(t.Context(), address); return err },
	} {
		t.Run(name, func(t *testing.T) { require.ErrorContains(t, open(), "has lost the trigger entries_stay") })
	}
}

// TestALogWhoseHeadIsGone is found out.
func TestALogWhoseHeadIsGone(t *testing.T) {
	s := open(t, storetest.Postgres(t))
	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
		return tx.Append("door", []journal.Entry{storetest.Entry(0, journal.Report, "")})
	}))
	require.NoError(t, s.Run(t.Context(), "DELETE FROM logs"))
	_, err := journal.Verify(t.Context(), s, journal.Verification{})
	require.ErrorContains(t, err, "the journal has 1 entries and says that it has 0")
}

// TestLongRowsArePacked, and come back as they were, for who has never heard of what they are packed by too.
func TestLongRowsArePacked(t *testing.T) {
	address := storetest.Postgres(t)
	one := open(t, address)
	circumstances := `{"account":"nobody","app":"mail","through":"browser","proofs":[` +
		strings.Repeat(`{"method":"password","at":"2026-06-08"},`, 20)
	one.Resembling([]byte(circumstances))
	rows := []store.Row{{Key: store.Key{Kind: store.Sessions, Key: "long"}, Value: []byte(circumstances + circumstances[:100])},
		{Key: store.Key{Kind: store.Sessions, Key: "short"}, Value: []byte(`{"account":"nobody"}`)}}
	require.NoError(t, one.Update(t.Context(), func(tx store.Tx) error { return errors.Join(tx.Put(rows[0]), tx.Put(rows[1])) }))
	for key, want := range map[string]string{"long": "true", "short": "false"} {
		require.NoError(t, one.Run(t.Context(), "DO $$ BEGIN ASSERT (SELECT dictionary IS NOT NULL AND length(value) < 100 FROM facts"+
			" WHERE key = '"+key+"') = "+want+"; END $$"))
	}
	read, err := open(t, address).List(t.Context(), store.Query{Kind: store.Sessions})
	require.NoError(t, err)
	require.Len(t, read, 2)
	for i := range rows {
		require.Equal(t, rows[i].Value, read[i].Value)
	}
	require.NoError(t, one.Run(t.Context(), "UPDATE dictionaries SET text = 'another'"))
	_, err = open(t, address).Get(t.Context(), rows[0].Key)
	require.ErrorContains(t, err, "damaged")
}

// TestTwoDoorsOfOneNameAreOneTooMany, until the first has gone.
func TestTwoDoorsOfOneNameAreOneTooMany(t *testing.T) {
	address := storetest.Postgres(t)
	one, other := open(t, address), open(t, address)
	require.NoError(t, one.Hold(t.Context(), "door"))
	require.NoError(t, one.Hold(t.Context(), "door"), "it has it already")
	require.ErrorContains(t, other.Hold(t.Context(), "door"), `another door runs under the name "door"`)
	require.NoError(t, other.Hold(t.Context(), "door-2"))
	for _, s := range []*postgres.Store{one, other} {
		held, err := s.Held(t.Context(), "door-2")
		require.NoError(t, err)
		require.True(t, held)
		held, err = s.Held(t.Context(), "door-3")
		require.NoError(t, err)
		require.False(t, held)
	}
	require.NoError(t, other.Run(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_locks,"+
		" (SELECT hashtextextended(current_schema() || '/door', 0) AS number) AS of WHERE locktype = 'advisory'"+
		" AND classid::bigint = (number >> 32) & 4294967295 AND objid::bigint = number & 4294967295"))
	require.Eventually(t, func() bool { held, err := other.Held(t.Context(), "door"); return err == nil && !held }, 5*time.Second,
		10*time.Millisecond)
	require.NoError(t, one.Hold(t.Context(), "door"), "what a database that was away has lost is taken again")
	require.ErrorContains(t, other.Hold(t.Context(), "door"), `another door runs under the name "door"`)
	require.NoError(t, other.Release("door-2"))
	require.Eventually(t, func() bool { return one.Hold(t.Context(), "door-2") == nil }, 5*time.Second, 10*time.Millisecond)
	require.NoError(t, one.Close())
	require.Eventually(t, func() bool { return other.Hold(t.Context(), "door") == nil }, 5*time.Second, 10*time.Millisecond)
}

// TestWhoWasFirst: a transaction that rests on what another changed meanwhile is done again, and nothing of it is kept but once.
func TestWhoWasFirst(t *testing.T) {
	address := storetest.Postgres(t)
	one, other := open(t, address), open(t, address)
	ctx := t.Context()
	key := store.Key{Kind: store.Devices, Key: "till-04"}
	put := func(s *postgres.Store, value string) {
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return tx.Put(store.Row{Key: key, Value: []byte(value)}) }))
	}
	put(one, `"old"`)
	remembered, err := one.Get(ctx, key)
	require.NoError(t, err)
	for name, rests := range map[string]func(tx store.Tx) error{
		"on a row that it read":       func(tx store.Tx) error { _, err := tx.Get(ctx, key); return err },
		"on rows that it listed":      func(tx store.Tx) error { _, err := tx.List(ctx, store.Query{Kind: store.Devices}); return err },
		"on a row that is remembered": func(tx store.Tx) error { tx.Rests(key, remembered.Stamp); return nil },
	} {
		t.Run(name, func(t *testing.T) {
			put(one, `"old"`)
			remembered, err = one.Get(ctx, key)
			require.NoError(t, err)
			tries := 0
			require.NoError(t, one.Update(ctx, func(tx store.Tx) error {
				tries++
				if tries > 1 {
					require.False(t, tx.Rests(key, remembered.Stamp), "what was remembered is to be read again")
					row, err := tx.Get(ctx, key)
					require.Equal(t, `"new"`, string(row.Value))
					return errors.Join(err, tx.Append("door", []journal.Entry{storetest.Entry(0, journal.Report, name)}))
				}
				err := rests(tx)
				put(other, `"new"`)
				return errors.Join(err, tx.Append("door", []journal.Entry{storetest.Entry(0, journal.Report, name)}))
			}))
			require.Equal(t, 2, tries)
		})
	}
	t.Run("on a row that there was not", func(t *testing.T) {
		tries := 0
		require.NoError(t, one.Update(ctx, func(tx store.Tx) error {
			tries++
			_, err := tx.Get(ctx, store.Key{Kind: store.Devices, Key: "till-05"})
			if tries == 1 {
				require.ErrorIs(t, err, store.ErrNotFound)
				require.NoError(t, other.Update(ctx, func(tx store.Tx) error { return store.Save(tx, &store.Device{ID: "till-05"}) }))
			}
			return store.Save(tx, &store.SeenToken{Issuer: "i", JTI: "j"})
		}))
		require.Equal(t, 2, tries)
		tries = 0
		require.NoError(t, one.Update(ctx, func(tx store.Tx) error {
			tries++
			device := &store.Device{ID: "till-06"}
			if err := store.Load(ctx, tx, device); tries == 1 {
				require.ErrorIs(t, err, store.ErrNotFound)
				require.NoError(t, other.Update(ctx, func(tx store.Tx) error {
					return store.Save(tx, &store.Device{ID: "till-06", Platform: "linux"})
				}))
			}
			device.Facts = map[string]attempt.Scalar{"firewall": attempt.BoolScalar(true)}
			return store.Save(tx, device)
		}))
		require.Equal(t, 2, tries)
		both := &store.Device{ID: "till-06"}
		require.NoError(t, store.Load(ctx, one, both))
		require.Equal(t, "linux", both.Platform, "what the other made first is not lost")
	})
	found, err := journal.Verify(ctx, one, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 3, found.Size)
}
