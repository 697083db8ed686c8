package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// openStore opens the store that a configuration names for a door; one in memory where it names none.
func openStore(ctx context.Context, c *door.Config) (store.Store, error) {
	switch {
	case c.Store.File != "":
		return sqlite.Open(c.Store.File)
	case c.Store.Postgres != "":
		return postgres.Open(ctx, c.Store.Postgres)
	}
	return new(store.Memory), nil
}

// errInMemory is the error of a store that nobody else can look at.
var errInMemory = errors.New("the configuration keeps its store in memory, which nobody else can look at; name a file or a database " +
	"under store")

// ReadStore opens the store that a configuration names to be looked at, while a door has it.
func ReadStore(ctx context.Context, c *door.Config) (store.Store, error) {
	switch {
	case c.Store.File != "":
		return sqlite.Read(c.Store.File)
	case c.Store.Postgres != "":
		return postgres.Read(ctx, c.Store.Postgres)
	}
	return nil, errInMemory
}

// JoinStore opens the store that a configuration names for what an administrator does at a terminal, also while a door has
// it. It makes none.
func JoinStore(ctx context.Context, c *door.Config) (store.Store, error) {
	switch {
	case c.Store.File != "":
		if !exists(c.Store.File) {
			return nil, fmt.Errorf("there is no store %s", c.Store.File)
		}
		return sqlite.Join(c.Store.File)
	case c.Store.Postgres != "":
		return postgres.Join(ctx, c.Store.Postgres)
	}
	return nil, errInMemory
}

// OpenRecord opens a file that keeps acts on consent where no door runs. It is a store, and a record of the version before is
// carried over to one. With looks nothing is written: what is missing is empty, and a record of the version before is read
// into memory.
func OpenRecord(ctx context.Context, path string, looks bool) (s store.Store, kept string, err error) {
	if !looks {
		if kept, err = sqlite.CarryOverActs(ctx, path, fillWith(ctx)); err != nil {
			return nil, "", err
		}
		s, err := sqlite.Join(path)
		return s, kept, err
	}
	memory := new(store.Memory)
	if !exists(path) {
		return memory, "", nil
	}
	switch acts, root, err := sqlite.ActsBefore(ctx, path); {
	case err == nil:
		return memory, "", fillWith(ctx)(memory, acts, root)
	case !errors.Is(err, store.ErrNotFound):
		return nil, "", err
	}
	s, err = sqlite.Read(path)
	return s, "", err
}

// fillWith fills a new store with the acts of a record.
func fillWith(ctx context.Context) func(into store.Store, texts []string, root string) error {
	return func(into store.Store, texts []string, root string) error {
		_, err := acts.TakeOver(ctx, into, store.TerminalLog, root, texts)
		return err
	}
}

// carryOver brings a file of the version before to this one, and says where the file as it was is. Tables in PostgreSQL are
// carried over when they are opened.
func carryOver(ctx context.Context, c *door.Config, say func(string)) error {
	if c.Store.File == "" || !exists(c.Store.File) {
		return nil
	}
	if about, err := os.Stat(c.Store.File); err != nil || about.Size() == 0 {
		return err
	}
	kept, err := sqlite.CarryOver(ctx, c.Store.File)
	if err == nil && kept != "" {
		say(fmt.Sprintf("the store was carried over from the version before; the file as it was is %s", kept))
	}
	return err
}

// takeOverActs takes the acts of a record of the version before into a store, once.
func takeOverActs(ctx context.Context, c *door.Config, s store.Store, say func(string)) error {
	if c.Consent.Record == "" {
		return nil
	}
	texts, root, err := recordBefore(ctx, c)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	taken := 0
	if err == nil {
		taken, err = acts.TakeOver(ctx, s, c.Journal.Door, root, texts)
	}
	if err != nil {
		return fmt.Errorf("the record of consent cannot be taken over: %w", err)
	}
	if taken > 0 {
		say(fmt.Sprintf("%d acts on consent were taken over from %s, which is not written to again", taken, c.Consent.Record))
	}
	return nil
}

// recordBefore reads the record of the version before that a configuration names, and store.ErrNotFound where there is no file.
// One that was carried over to this version by itself is an error: no door reads it, so what was barred in it would be open.
func recordBefore(ctx context.Context, c *door.Config) (texts []string, root string, err error) {
	texts, root, err = sqlite.ActsBefore(ctx, c.Consent.Record)
	if errors.Is(err, store.ErrNotFound) && exists(c.Consent.Record) {
		err = fmt.Errorf("%[1]s is no record of the version before, and a door reads no other. Name the one of before, which was kept "+
			"as %[1]s.before, or none; what was done in this one (consent acts --record %[1]s) is to be done again (consent … --config)",
			c.Consent.Record)
	}
	return texts, root, err
}

// CarryOver does beforehand what a door does at its first start on what a version before kept: it carries over the store, the
// facts in it, and the record of consent. It returns what was done, in sentences.
func CarryOver(ctx context.Context, c *door.Config, at time.Time) (did []string, err error) {
	say := func(what string) { did = append(did, what) }
	if c.Store.File == "" && c.Store.Postgres == "" {
		return nil, errInMemory
	}
	if c.Store.File != "" && !exists(c.Store.File) {
		return nil, fmt.Errorf("there is no store %s", c.Store.File)
	}
	if err := carryOver(ctx, c, say); err != nil {
		return did, err
	}
	s, err := openStore(ctx, c)
	if err != nil {
		return did, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	rows, err := store.CarryOver(ctx, s, at)
	if err != nil {
		return did, err
	}
	if rows > 0 {
		say(fmt.Sprintf("%d rows of facts were brought to the form of this version", rows))
	}
	return did, takeOverActs(ctx, c, s, say)
}

// PushedGroups returns the names of the groups that were pushed to the doors of a store.
func PushedGroups(ctx context.Context, s store.Reader) (names []string, err error) {
	for row, err := range store.All(ctx, s, store.Query{Kind: store.Groups}) {
		if err != nil {
			return nil, err
		}
		names = append(names, row.Key.Key)
	}
	return names, nil
}

// Prune takes out what entries of the journal before a moment say, also while a door runs.
func Prune(ctx context.Context, c *door.Config, before time.Time, by string, at time.Time) (entries int64, err error) {
	s, err := JoinStore(ctx, c)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	return store.Prune(ctx, s, store.TerminalLog, before, by, at)
}

// Lines opens the journal of a store in a SQLite file to be read as JSON lines, each an entry as it was
// recorded; those that were pruned are left out.
func Lines(path string) (io.ReadCloser, error) {
	s, err := sqlite.Read(path)
	if err != nil {
		return nil, err
	}
	from, to := io.Pipe()
	go func() {
		err := evidence.WriteLines(to, s.Entries(context.Background(), journal.Filter{}), 0)
		to.CloseWithError(errors.Join(err, s.Close())) // nil ends it
	}()
	return from, nil
}

// Backup writes a copy of the store, also while a door has it.
func Backup(ctx context.Context, c *door.Config, path string) error {
	if c.Store.File == "" {
		return errors.New("a backup is made of a store in a file; of one in PostgreSQL `pg_dump --schema briskwarden` makes one")
	}
	s, err := sqlite.Read(c.Store.File)
	if err != nil {
		return err
	}
	return errors.Join(s.Backup(ctx, path), s.Close())
}
