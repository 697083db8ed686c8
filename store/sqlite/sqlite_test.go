package sqlite_test

import (
	"os"
	"path/filepath"
	"testing"

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
		_, err = journal.Verify(other.Entries(t.Context(), journal.Filter{}), head, nil, "")
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
	_, err = journal.Verify(s.Entries(ctx, journal.Filter{}), head, nil, "")
	require.NoError(t, err)
	require.NoError(t, s.LimitTo(ctx, -1))
	require.NoError(t, write(), "and it goes on when there is room")
	head, err = s.Head(ctx)
	require.NoError(t, err)
	_, err = journal.Verify(s.Entries(ctx, journal.Filter{}), head, nil, "")
	require.NoError(t, err)
	require.EqualValues(t, 400, head.Size)
}
