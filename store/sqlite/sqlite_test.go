package sqlite_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

func open(t *testing.T, path string) *sqlite.Store {
	s, err := sqlite.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestStore(t *testing.T) {
	paths := map[store.Store]string{}
	storetest.Run(t, func(t *testing.T) store.Store {
		path := filepath.Join(t.TempDir(), "door ?#%.db")
		s := open(t, path)
		paths[s] = path
		return s
	}, func(t *testing.T, s store.Store) store.Store {
		require.NoError(t, s.Close())
		return open(t, paths[s])
	})
}

func TestOneDoorHasAFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "door.db")
	s := open(t, path)
	_, err := sqlite.Open(path)
	require.ErrorContains(t, err, "another door has this store open")
	about, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), about.Mode().Perm(), "what it holds is about people")

	require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
		return tx.Append([]journal.Entry{storetest.Entry(0, journal.Reload, "")})
	}))
	t.Run("others may look", func(t *testing.T) {
		reader, err := sqlite.Read(path)
		require.NoError(t, err)
		defer reader.Close()
		head, err := reader.Head(t.Context())
		require.NoError(t, err)
		require.EqualValues(t, 1, head.Size)
		require.Error(t, reader.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, &store.Account{Name: "liv"}) }))
	})
	t.Run("a copy is whole", func(t *testing.T) {
		copied := filepath.Join(t.TempDir(), "copy.db")
		reader, err := sqlite.Read(path)
		require.NoError(t, err)
		defer reader.Close()
		require.NoError(t, reader.Backup(t.Context(), copied))
		require.ErrorContains(t, reader.Backup(t.Context(), copied), "exists already")
		other := open(t, copied)
		head, err := other.Head(t.Context())
		require.NoError(t, err)
		_, err = journal.Verify(t.Context(), other, nil, "")
		require.NoError(t, err)
		require.EqualValues(t, 1, head.Size)
	})
}

func TestWhatIsNoStore(t *testing.T) {
	dir := t.TempDir()
	text := filepath.Join(dir, "notes.txt")
	require.NoError(t, os.WriteFile(text, []byte("Dear diary, this is no database, and it is long enough to be seen as none."), 0o600))
	_, err := sqlite.Open(text)
	require.ErrorContains(t, err, "not a database")
	_, err = sqlite.Read(filepath.Join(dir, "none.db"))
	require.ErrorContains(t, err, "there is no store")
	kept, err := os.ReadFile(text)
	require.NoError(t, err)
	require.Contains(t, string(kept), "Dear diary")
}

func TestAFullDiskLosesNothing(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "door.db"))
	ctx := t.Context()
	write := func() error {
		return s.Update(ctx, func(tx store.Tx) error {
			var entries []journal.Entry
			for i := range 200 {
				entries = append(entries, storetest.Entry(i, journal.Decision, "liv"))
			}
			return tx.Append(entries)
		})
	}
	require.NoError(t, write())
	require.NoError(t, s.LimitTo(ctx, 0))
	require.ErrorContains(t, write(), "full")
	head, err := s.Head(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 200, head.Size, "what failed left nothing behind")
	_, err = journal.Verify(ctx, s, nil, "")
	require.NoError(t, err)
	require.NoError(t, s.LimitTo(ctx, -1))
	require.NoError(t, write(), "and it goes on when there is room")
	head, err = s.Head(ctx)
	require.NoError(t, err)
	_, err = journal.Verify(ctx, s, nil, "")
	require.NoError(t, err)
	require.EqualValues(t, 400, head.Size)
}

// crashed returns a copy of a store's files as a crash would leave them, opened.
func crashed(t *testing.T, path string) *sqlite.Store {
	copied := filepath.Join(t.TempDir(), "door.db")
	for _, suffix := range []string{"", "-wal"} {
		text, err := os.ReadFile(path + suffix)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(copied+suffix, text, 0o600))
	}
	return open(t, copied)
}

func numbers(t *testing.T, s store.Store, f journal.Filter) []int64 {
	list := []int64{}
	for e, err := range s.Entries(t.Context(), f) {
		require.NoError(t, err)
		require.NotNil(t, e.Leaf)
		list = append(list, e.Number)
	}
	return list
}

func TestManyEntriesAreFound(t *testing.T) {
	ctx := t.Context()
	path := filepath.Join(t.TempDir(), "door.db")
	s := open(t, path)
	s.SetRun(32)
	random := rand.New(rand.NewPCG(1, 2))
	var all []journal.Entry
	want := map[string][]int64{}
	for len(all) < 12_000 { // runs of three levels, and some that are in none
		var some []journal.Entry
		for range 1 + random.IntN(300) {
			account := ""
			if random.IntN(10) > 0 {
				account = fmt.Sprintf("account-%d", random.IntN(1+random.IntN(200)))
			}
			n := len(all) + len(some)
			some = append(some, storetest.Entry(n, journal.Kind(1+n%3), account))
			want[account] = append(want[account], int64(n))
		}
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(some) }))
		all = append(all, some...)
	}
	check := func(t *testing.T, s *sqlite.Store) {
		for _, account := range []string{"account-0", "account-7", "account-150", "nobody"} {
			list := append([]int64{}, want[account]...)
			require.Equal(t, list, numbers(t, s, journal.Filter{Account: account}), account)
			latest := []int64{}
			for i := len(list) - 1; i >= 0 && len(latest) < 5; i-- {
				latest = append(latest, list[i])
			}
			require.Equal(t, latest, numbers(t, s, journal.Filter{Account: account, Latest: true, Limit: 5}), account)
			between := journal.Filter{Account: account, From: all[3000].At, To: all[9000].At}
			inside := []int64{}
			for _, n := range list {
				if n >= 3000 && n < 9000 {
					inside = append(inside, n)
				}
			}
			require.Equal(t, inside, numbers(t, s, between), account)
		}
		for _, n := range []int{0, 31, 32, 5000, len(all) - 1} {
			e, err := s.Entry(ctx, all[n].ID)
			require.NoError(t, err)
			require.Equal(t, all[n].Leaf, e.Leaf)
			require.EqualValues(t, n, e.Number)
		}
		_, err := s.Entry(ctx, journal.NewID())
		require.ErrorIs(t, err, store.ErrNotFound)
		require.Len(t, numbers(t, s, journal.Filter{Kind: journal.Report}), len(all)/3)
		found, err := journal.Verify(ctx, s, nil, "")
		require.NoError(t, err)
		require.EqualValues(t, len(all), found.Size)
		for _, n := range []int{0, 6000, len(all) - 1} {
			require.ErrorContains(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append(all[n : n+1]) }), "has an entry")
		}
	}
	t.Run("as they come", func(t *testing.T) { check(t, s) })
	t.Run("once all are indexed", func(t *testing.T) {
		levels, err := s.Runs(ctx)
		require.NoError(t, err)
		require.Greater(t, levels[1], 0)
		require.Less(t, levels[0], 16)
		check(t, s)
	})
	t.Run("after a crash", func(t *testing.T) { check(t, crashed(t, path)) })
	t.Run("after a stop", func(t *testing.T) {
		require.NoError(t, s.Close())
		check(t, open(t, path))
	})
}

func TestChangesThatAreNotInTheirPlace(t *testing.T) {
	ctx := t.Context()
	path := filepath.Join(t.TempDir(), "door.db")
	s, model := open(t, path), new(store.Memory)
	random := rand.New(rand.NewPCG(3, 4))
	check := func(t *testing.T, s store.Store) {
		for name, q := range map[string]store.Query{
			"all":        {Kind: store.Sessions},
			"a page":     {Kind: store.Sessions, After: "k-3", Limit: 50},
			"an account": {Kind: store.Sessions, Account: "a-3"},
			"a device":   {Kind: store.Sessions, Device: "d-1", Limit: 20},
			"due":        {Kind: store.Sessions, DueBy: time.Unix(50, 0), Limit: 30},
		} {
			want, err := model.List(ctx, q)
			require.NoError(t, err)
			found, err := s.List(ctx, q)
			require.NoError(t, err)
			require.Equal(t, want, found, name)
		}
	}
	for range 250 {
		var change []func(store.Tx) error
		for range 100 {
			key := store.Key{Kind: store.Sessions, Key: fmt.Sprintf("k-%d", random.IntN(9000))}
			row := store.Row{Key: key, Account: fmt.Sprintf("a-%d", random.IntN(50)), Device: fmt.Sprintf("d-%d", random.IntN(5)),
				Value: fmt.Appendf(nil, "%d", random.Int())}
			if random.IntN(2) == 0 {
				row.Due = time.Unix(int64(1+random.IntN(100)), 0).UTC()
			}
			if random.IntN(4) == 0 {
				change = append(change, func(tx store.Tx) error { return tx.Delete(key) })
			} else {
				change = append(change, func(tx store.Tx) error { return tx.Put(row) })
			}
		}
		for _, s := range []store.Store{s, model} {
			require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
				for _, c := range change {
					if err := c(tx); err != nil {
						return err
					}
				}
				return nil
			}))
		}
	}
	n, err := s.Changes(ctx)
	require.NoError(t, err)
	require.Positive(t, n, "some are not")
	require.Less(t, n, 200, "and most are")
	t.Run("are seen", func(t *testing.T) { check(t, s) })
	t.Run("are seen by another program", func(t *testing.T) {
		reader, err := sqlite.Read(path)
		require.NoError(t, err)
		defer reader.Close()
		check(t, reader)
	})
	t.Run("survive a crash", func(t *testing.T) { check(t, crashed(t, path)) })
	t.Run("go there at a stop", func(t *testing.T) {
		require.NoError(t, s.Close())
		again := open(t, path)
		n, err := again.Changes(ctx)
		require.NoError(t, err)
		require.Zero(t, n)
		check(t, again)
	})
}

func TestTheFirstFormIsTaken(t *testing.T) {
	ctx := t.Context()
	path := filepath.Join(t.TempDir(), "door.db")
	var entries []journal.Entry
	for i := range 700 {
		entries = append(entries, storetest.Entry(i, journal.Decision, "liv"))
	}
	entries[3].Leaf, entries[3].Account = nil, "" // pruned
	entries[9] = journal.Make(journal.Pruned, entries[9].ID, entries[9].At, "", "", "pruned",
		[]byte(`{"before":"`+entries[4].At.Format(time.RFC3339Nano)+`","entries":1}`)) // as it was recorded then
	require.NoError(t, sqlite.WriteFirstForm(path, entries))
	_, err := sqlite.Read(path)
	require.ErrorContains(t, err, "of an older version")
	s := open(t, path)
	require.NoError(t, store.Load(ctx, s, &store.Account{Name: "liv"}))
	found, err := journal.Verify(ctx, s, nil, "")
	require.NoError(t, err)
	require.EqualValues(t, 700, found.Size)
	require.EqualValues(t, 1, found.Pruned)
	e, err := s.Entry(ctx, entries[699].ID)
	require.NoError(t, err)
	require.Equal(t, entries[699].Leaf, e.Leaf)
}
