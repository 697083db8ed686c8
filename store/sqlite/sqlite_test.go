package sqlite_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
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
		return tx.Append("door", []journal.Entry{storetest.Entry(0, journal.Reload, "")})
	}))
	t.Run("others may look", func(t *testing.T) {
		reader, err := sqlite.Read(path)
		require.NoError(t, err)
		defer reader.Close()
		head := storetest.Head(t, reader)
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
		head := storetest.Head(t, other)
		_, err = journal.Verify(t.Context(), other, journal.Verification{})
		require.NoError(t, err)
		require.EqualValues(t, 1, head.Size)
	})
}

// TestALogWhoseHeadIsGone is found out, though its name is gone with it.
func TestALogWhoseHeadIsGone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "door.db")
	s := open(t, path)
	for _, log := range []string{"door", "other"} {
		require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
			return errors.Join(tx.Append("none", nil), tx.Append(log, []journal.Entry{storetest.Entry(0, journal.Report, "")}))
		}))
	}
	heads, err := s.Heads(t.Context())
	require.NoError(t, err)
	require.Len(t, heads, 2, "a log comes to be with its first entry")
	require.NoError(t, s.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("DROP TRIGGER logs_remain; DELETE FROM logs WHERE name = 'other'")
	require.NoError(t, errors.Join(err, db.Close()))
	_, err = journal.Verify(t.Context(), open(t, path), journal.Verification{})
	require.ErrorContains(t, err, "the log #2 has 1 entries and says that it has 0")
}

// TestWhatIsDoneAtATerminal: a door that runs hears of it, also where both append to one log.
func TestWhatIsDoneAtATerminal(t *testing.T) {
	ctx := t.Context()
	path := filepath.Join(t.TempDir(), "door.db")
	door := open(t, path)
	lost := make(chan bool, 64)
	watching, stop := context.WithCancel(ctx)
	ended := make(chan error)
	found := make(chan bool, 1024)
	go func() {
		ended <- door.Watch(watching, store.Watcher{Changed: func([]store.Key) {}, Lost: func() { lost <- true },
			Found: func() { found <- true }})
	}()
	<-found
	write := func(s *sqlite.Store, second int) {
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
			return errors.Join(tx.Append("door", []journal.Entry{storetest.Entry(second, journal.Report, "")}),
				store.Save(tx, &store.Device{ID: fmt.Sprint(second)}))
		}))
	}
	write(door, 0)
	require.Empty(t, lost, "what it does itself it knows")
	terminal, err := sqlite.Join(path)
	require.NoError(t, err)
	write(terminal, 1)
	<-lost
	write(terminal, 2)
	write(door, 3)
	require.NotEmpty(t, lost, "a transaction hears of it before it reads")
	require.NoError(t, terminal.Close())
	stop()
	require.ErrorIs(t, <-ended, context.Canceled)
	verified, err := journal.Verify(ctx, door, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 4, verified.Size)
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
			return tx.Append("door", entries)
		})
	}
	require.NoError(t, write())
	require.NoError(t, s.LimitTo(ctx, 0))
	require.ErrorContains(t, write(), "full")
	require.EqualValues(t, 200, storetest.Head(t, s).Size, "what failed left nothing behind")
	_, err := journal.Verify(ctx, s, journal.Verification{})
	require.NoError(t, err)
	require.NoError(t, s.LimitTo(ctx, -1))
	require.NoError(t, write(), "and it goes on when there is room")
	_, err = journal.Verify(ctx, s, journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 400, storetest.Head(t, s).Size)
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

// TestWhatWasWrittenSurvivesACrash: of rows and of entries, those that were packed by what was said of them among them.
func TestWhatWasWrittenSurvivesACrash(t *testing.T) {
	ctx := t.Context()
	path := filepath.Join(t.TempDir(), "door.db")
	s := open(t, path)
	var all []journal.Entry
	for i := range 40 {
		if i%10 == 0 { // as where a newer book is in force
			s.Resembling(storetest.Entry(i, journal.Decision, "nobody").Leaf)
		}
		some := []journal.Entry{storetest.Entry(3*i, journal.Decision, "liv"), storetest.Entry(3*i+1, journal.Report, ""),
			storetest.Entry(3*i+2, journal.Event, "oskar")}
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
			return errors.Join(tx.Append("door", some), store.Save(tx, &store.SeenToken{Issuer: "i", JTI: fmt.Sprint(i), At: some[0].At}))
		}))
		all = append(all, some...)
	}
	check := func(t *testing.T, s *sqlite.Store) {
		number := 0
		for e, err := range s.Entries(ctx, journal.Filter{}) {
			require.NoError(t, err)
			require.Equal(t, string(all[number].Leaf), string(e.Leaf))
			number++
		}
		require.Equal(t, len(all), number)
		found, err := journal.Verify(ctx, s, journal.Verification{})
		require.NoError(t, err)
		require.EqualValues(t, len(all), found.Size)
		rows, err := s.List(ctx, store.Query{Kind: store.Seen})
		require.NoError(t, err)
		require.Len(t, rows, 40)
		require.ErrorContains(t, s.Update(ctx, func(tx store.Tx) error { return tx.Append("door", all[7:8]) }), "has an entry")
	}
	t.Run("as they come", func(t *testing.T) { check(t, s) })
	t.Run("after a crash", func(t *testing.T) { check(t, crashed(t, path)) })
	t.Run("after a stop", func(t *testing.T) {
		require.NoError(t, s.Close())
		check(t, open(t, path))
	})
}

// before writes the file of testdata that a door of the version before kept.
func before(t *testing.T) (path string) {
	path = filepath.Join(t.TempDir(), "door.db")
	require.NoError(t, os.WriteFile(path, storetest.Unzip(t, "before.db.gz"), 0o600))
	return path
}

func TestAFileOfTheVersionBeforeIsCarriedOver(t *testing.T) {
	path := before(t)
	was, err := os.ReadFile(path)
	require.NoError(t, err)
	_, err = sqlite.Open(path)
	require.ErrorIs(t, err, sqlite.ErrOlder)
	_, err = sqlite.Read(path)
	require.ErrorIs(t, err, sqlite.ErrOlder)
	require.NoError(t, os.WriteFile(path+".new", []byte("of an attempt that was cut off"), 0o600))
	kept, err := sqlite.CarryOver(t.Context(), path)
	require.NoError(t, err)
	require.Equal(t, path+".before", kept)
	copied, err := os.ReadFile(kept)
	require.NoError(t, err)
	require.Equal(t, len(was), len(copied))
	s := open(t, path)
	storetest.CarriedOver(t, s)
	require.NoError(t, s.Close())
	t.Run("once", func(t *testing.T) {
		again, err := sqlite.CarryOver(t.Context(), path)
		require.NoError(t, err)
		require.Empty(t, again)
	})
	t.Run("not where the copy would be lost", func(t *testing.T) {
		path := before(t)
		require.NoError(t, os.WriteFile(path+".before", []byte("another"), 0o600))
		_, err := sqlite.CarryOver(t.Context(), path)
		require.ErrorContains(t, err, "move it away")
	})
	t.Run("not where its journal was not sound", func(t *testing.T) {
		path := before(t)
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		var head string
		require.NoError(t, db.QueryRow("SELECT head FROM head").Scan(&head))
		last := strings.LastIndexByte(head, ' ') + 1
		other := "A" + head[last+1:]
		if head[last] == 'A' {
			other = "B" + head[last+1:]
		}
		_, err = db.Exec("UPDATE head SET head = ?", head[:last]+other)
		require.NoError(t, errors.Join(err, db.Close()))
		_, err = sqlite.CarryOver(t.Context(), path)
		require.ErrorContains(t, err, "it was not sound")
		require.NoFileExists(t, path+".before", "and it is where it was")
	})
	t.Run("not while a door has it", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "door.db")
		open(t, path)
		_, err := sqlite.CarryOver(t.Context(), path)
		require.ErrorContains(t, err, "another door has this store open")
	})
}
