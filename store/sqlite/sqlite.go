// Package sqlite keeps a store in one SQLite file, for a door that runs alone.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	driver "modernc.org/sqlite" // which needs no C
	lib "modernc.org/sqlite/lib"

	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/packed"
	"github.com/briskwarden/briskwarden/store"
)

// application marks the file as one of ours (PRAGMA application_id): "BWst" as a number. A file of a version before bears
// applicationBefore, which a door of that version asks for, so that it does not open one of this.
const application, applicationBefore = 0x42577375, 0x42577374

// form is the form of the tables (PRAGMA user_version), and schema makes them. A newer form brings what changes them.
const form = 1

const schema = `
CREATE TABLE facts (kind TEXT NOT NULL, key TEXT NOT NULL, account TEXT NOT NULL, device TEXT NOT NULL, due INTEGER, value BLOB NOT NULL,
	PRIMARY KEY (kind, key)) STRICT, WITHOUT ROWID;
CREATE INDEX facts_by_account ON facts (account, kind) WHERE account <> '';
CREATE INDEX facts_by_device ON facts (device, kind) WHERE device <> '';
CREATE INDEX facts_by_due ON facts (kind, due) WHERE due IS NOT NULL;
CREATE TABLE logs (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, head BLOB NOT NULL) STRICT;
CREATE TABLE dictionaries (id INTEGER PRIMARY KEY, text BLOB NOT NULL) STRICT;
CREATE TABLE entries (place INTEGER PRIMARY KEY, id BLOB NOT NULL, at INTEGER NOT NULL, kind INTEGER NOT NULL, account TEXT NOT NULL,
	hash BLOB NOT NULL, brief BLOB, dictionary INTEGER, leaf BLOB) STRICT;
CREATE UNIQUE INDEX entries_by_id ON entries (id);
CREATE INDEX entries_by_time ON entries (at);
CREATE INDEX entries_other ON entries (at) WHERE kind <> 1;
CREATE INDEX entries_by_account ON entries (account, at) WHERE account <> '';
CREATE TRIGGER entries_stay BEFORE UPDATE ON entries WHEN NEW.place <> OLD.place OR NEW.id <> OLD.id OR NEW.at <> OLD.at
	OR NEW.kind <> OLD.kind OR NEW.hash <> OLD.hash OR NEW.leaf IS NOT NULL OR NEW.brief IS NOT NULL OR NEW.account <> ''
	BEGIN SELECT RAISE(ABORT, 'entries are never changed, and pruned whole'); END;
CREATE TRIGGER entries_remain BEFORE DELETE ON entries BEGIN SELECT RAISE(ABORT, 'entries are never deleted'); END;
CREATE TRIGGER logs_remain BEFORE DELETE ON logs BEGIN SELECT RAISE(ABORT, 'logs are never deleted'); END;
`

// Store is a store.Store in one file.
type Store struct {
	// db reads; writer writes, one transaction at a time.
	db, writer *sql.DB
	lock       *os.File
	path       string

	// mu is held while a transaction writes. What follows belongs to its holder.
	mu         sync.Mutex
	conn       *sql.Conn
	statements map[string]*sql.Stmt
	// heads are those of logs that were appended to, as the file has them, and kept the dictionaries that it has.
	heads map[string]numbered
	kept  map[int64]bool
	// version is other after each change by another program (PRAGMA data_version), and watcher hears of it.
	version int64
	watcher store.Watcher

	// leaves is what leaves are packed by, and names are those of logs by number.
	leaves packed.Dictionaries
	names  sync.Map
}

// Open opens the file for a door, and makes it where it is missing. One door at a time can have
// it; another gets an error. What was acknowledged survives a crash of the machine. A file of the version before is an
// ErrOlder: CarryOver brings it to this one.
func Open(path string) (*Store, error) {
	lock, err := lockFile(path + ".lock")
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	s, err := Join(path)
	if err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	s.lock = lock
	return s, nil
}

// Join opens the file for what an administrator does at a terminal, also while a door has it, which hears of what is changed.
// Else it is as Open.
func Join(path string) (*Store, error) {
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil { // what it holds is about people
		return nil, err
	} else if err := f.Close(); err != nil {
		return nil, err
	}
	s, err := open(path, url.Values{"_pragma": {"busy_timeout(10000)", "journal_mode(WAL)", "synchronous(FULL)", "cache_size(-65536)",
		"wal_autocheckpoint(1000)"}})
	if err != nil {
		return nil, err
	}
	if err := s.prepareFile(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), s.Close())
	}
	return s, nil
}

// IsAway reports whether an error says that the file cannot be used now: the disk is full or gone, or fails.
func IsAway(err error) bool {
	var failed *driver.Error
	if errors.As(err, &failed) {
		return slices.Contains([]int{lib.SQLITE_IOERR, lib.SQLITE_FULL, lib.SQLITE_CANTOPEN}, failed.Code()&0xff)
	}
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EIO) || errors.Is(err, syscall.EROFS)
}

// ErrOlder is returned for a file of a version before, which CarryOver brings to this one.
var ErrOlder = errors.New("the file is of an older version of this program")

// Read opens the file to be looked at, also while a door has it. What is written to it is an error, and so is a file of a
// version before (ErrOlder). Nothing beside the file is needed where no door has it, so that a copy on a medium that cannot
// be written to can be read.
func Read(path string) (*Store, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there is no store %s", path)
	}
	options := url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)", "query_only(1)"}}
	s, err := open(path, options)
	if err != nil {
		return nil, err
	}
	err = s.check(context.Background())
	if about, missing := os.Stat(path + "-wal"); err != nil && !errors.Is(err, ErrOlder) && (missing != nil || about.Size() == 0) {
		// No door has it, and SQLite cannot make the files beside it by which it would find out.
		options.Set("immutable", "1")
		closed := s.Close()
		if s, err = open(path, options); errors.Join(closed, err) != nil {
			return nil, errors.Join(closed, err)
		}
		err = s.check(context.Background())
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), s.Close())
	}
	return s, nil
}

// connect makes a pool of connections to a file.
func connect(path string, options url.Values) (*sql.DB, error) {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: url.PathEscape(path), RawQuery: options.Encode()}).String())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return db, nil
}

func open(path string, options url.Values) (*Store, error) {
	db, err := connect(path, options)
	if err != nil {
		return nil, err
	}
	writer, err := connect(path, options)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	writer.SetMaxOpenConns(1)
	db.SetMaxOpenConns(4)
	return &Store{db: db, writer: writer, path: path, statements: map[string]*sql.Stmt{}, heads: map[string]numbered{},
		kept: map[int64]bool{}}, nil
}

// about reads what the file says of itself. An empty one has no tables.
func (s *Store) about(ctx context.Context) (id, version, tables int, err error) {
	return id, version, tables, errors.Join(
		s.db.QueryRowContext(ctx, "PRAGMA application_id").Scan(&id),
		s.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version),
		s.db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema").Scan(&tables),
	)
}

// check reports where the file is not one of this version.
func (s *Store) check(ctx context.Context) error {
	id, version, tables, err := s.about(ctx)
	switch {
	case err != nil:
		return err
	case tables == 0:
		return errors.New("the file is empty: a door makes its tables when it starts")
	case id == applicationBefore:
		return fmt.Errorf("%w: a door brings it to this one when it starts, or `briskwarden serve carry-over` beforehand", ErrOlder)
	case id != application:
		return errors.New("the file is no store of a door")
	case version != form:
		return fmt.Errorf("the file is of a newer version of this program (form %d, and this one knows %d)", version, form)
	}
	return nil
}

// prepareFile makes the tables in an empty file, whole or not at all, and takes the connection that writes.
func (s *Store) prepareFile() (err error) {
	ctx := context.Background()
	_, _, tables, err := s.about(ctx)
	if err == nil && tables > 0 {
		err = s.check(ctx)
	}
	if err != nil {
		return err
	}
	if s.conn, err = s.writer.Conn(ctx); err != nil || tables > 0 {
		return err
	}
	if _, err := s.conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		return err
	}
	if err = s.conn.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema").Scan(&tables); err == nil && tables == 0 {
		_, err = s.conn.ExecContext(ctx, schema+fmt.Sprintf("PRAGMA user_version = %d; PRAGMA application_id = %d;", form, application))
	} else if err == nil { // another program was first
		err = s.check(ctx)
	}
	end := "COMMIT"
	if err != nil {
		end = "ROLLBACK"
	}
	_, ended := s.conn.ExecContext(ctx, end)
	return errors.Join(err, ended)
}

// Backup writes a copy of the file as it is at this moment, also while a door has it. The copy
// must not exist, and its owner alone can read it.
func (s *Store) Backup(ctx context.Context, path string) error {
	if err := newfile.CheckFile(path); err != nil {
		return err
	}
	made, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o600) // SQLite fills an empty file, and leaves its mode as it is
	if err == nil {
		err = made.Close()
	}
	if err != nil {
		return err
	}
	// A connection of its own: that of a reader may write nothing, not even a copy.
	db, err := connect(s.path, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)"}})
	if err == nil {
		_, err = db.ExecContext(ctx, "VACUUM INTO ?", path)
		err = errors.Join(err, db.Close())
	}
	if err != nil {
		return errors.Join(err, os.Remove(path))
	}
	return nil
}

// Close implements store.Store.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, statement := range s.statements {
		errs = append(errs, statement.Close())
	}
	clear(s.statements)
	if s.conn != nil {
		errs = append(errs, s.conn.Close())
		s.conn = nil
	}
	errs = append(errs, s.db.Close(), s.writer.Close())
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
}

// querier is what rows are read through: the pool, or the connection of a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

const columns = "kind, key, account, device, due, value"

func scanRow(scan func(...any) error) (store.Row, error) {
	var row store.Row
	var due sql.NullInt64
	err := scan((*string)(&row.Kind), &row.Key.Key, &row.Account, &row.Device, &due, &row.Value)
	if due.Valid {
		row.Due = time.UnixMicro(due.Int64).UTC()
	}
	if errors.Is(err, sql.ErrNoRows) {
		err = store.ErrNotFound
	}
	return row, err
}

func micros(t time.Time) any {
	if t.IsZero() {
		return nil
	}
	return t.UnixMicro()
}

const getRow = "SELECT " + columns + " FROM facts WHERE kind = ? AND key = ?"

// Get implements store.Reader.
func (s *Store) Get(ctx context.Context, key store.Key) (store.Row, error) {
	return scanRow(s.db.QueryRowContext(ctx, getRow, string(key.Kind), key.Key).Scan)
}

// List implements store.Reader.
func (s *Store) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	return list(ctx, s.db, q)
}

func list(ctx context.Context, from querier, q store.Query) ([]store.Row, error) {
	text, args := "SELECT "+columns+" FROM facts WHERE kind = ? AND key > ?", []any{string(q.Kind), q.After}
	if q.Prefix != "" {
		text, args = text+" AND key >= ? AND key < ?", append(args, q.Prefix, q.Prefix+"\U0010ffff")
	}
	if q.Account != "" {
		text, args = text+" AND account = ? AND account <> ''", append(args, q.Account) // the latter for the partial index
	}
	if q.Device != "" {
		text, args = text+" AND device = ? AND device <> ''", append(args, q.Device)
	}
	if !q.DueBy.IsZero() {
		text, args = text+" AND due <= ?", append(args, q.DueBy.UnixMicro())
	}
	text += " ORDER BY key"
	if q.Limit > 0 {
		text, args = text+" LIMIT ?", append(args, q.Limit)
	}
	rows, err := from.QueryContext(ctx, text, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var found []store.Row
	for rows.Next() {
		row, err := scanRow(rows.Scan)
		if err != nil {
			return nil, err
		}
		found = append(found, row)
	}
	return found, rows.Err()
}

// Update implements store.Store. One transaction at a time writes to a file, so change is called once.
func (s *Store) Update(ctx context.Context, change func(store.Tx) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn == nil {
		return fmt.Errorf("%s is open to be looked at, and not to be changed", s.path)
	}
	t := &tx{s: s, ctx: ctx, heads: map[string]numbered{}}
	if _, err := s.conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil { // which waits for others
		return err
	}
	err := s.hear(ctx)
	if err == nil {
		err = change(t)
	}
	if err == nil {
		err = t.saveHeads()
	}
	if err == nil {
		_, err = t.exec("COMMIT")
	}
	if err != nil {
		t.ctx = context.WithoutCancel(ctx)
		_, undone := t.exec("ROLLBACK")
		clear(s.heads) // what the file has now is read again
		return errors.Join(err, undone)
	}
	for log, head := range t.heads {
		s.heads[log] = head
	}
	for _, id := range t.added {
		s.kept[id] = true
	}
	return nil
}

// tx is one transaction on the connection that writes.
type tx struct {
	s   *Store
	ctx context.Context
	// heads are those of logs that it appended to, and added the dictionaries that it wrote.
	heads map[string]numbered
	added []int64
}

func (t *tx) prepare(query string) (*sql.Stmt, error) {
	if statement := t.s.statements[query]; statement != nil {
		return statement, nil
	}
	statement, err := t.s.conn.PrepareContext(context.WithoutCancel(t.ctx), query)
	if err == nil {
		t.s.statements[query] = statement
	}
	return statement, err
}

// exec runs a statement. Of its context it asks only before, since a statement on one row is short, and the driver starts a
// goroutine for each that could be interrupted.
func (t *tx) exec(query string, args ...any) (sql.Result, error) {
	if err := t.ctx.Err(); err != nil {
		return nil, err
	}
	statement, err := t.prepare(query)
	if err != nil {
		return nil, err
	}
	return statement.Exec(args...)
}

// Get implements store.Reader.
func (t *tx) Get(ctx context.Context, key store.Key) (store.Row, error) {
	statement, err := t.prepare(getRow)
	if err != nil {
		return store.Row{}, err
	}
	return scanRow(statement.QueryRowContext(ctx, string(key.Kind), key.Key).Scan)
}

// List implements store.Reader.
func (t *tx) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	return list(ctx, t.s.conn, q)
}

// Put implements store.Tx.
func (t *tx) Put(row store.Row) error {
	_, err := t.exec("INSERT INTO facts VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (kind, key) DO UPDATE SET account = excluded.account,"+
		" device = excluded.device, due = excluded.due, value = excluded.value",
		string(row.Kind), row.Key.Key, row.Account, row.Device, micros(row.Due), row.Value)
	return err
}

// Delete implements store.Tx.
func (t *tx) Delete(key store.Key) error {
	_, err := t.exec("DELETE FROM facts WHERE kind = ? AND key = ?", string(key.Kind), key.Key)
	return err
}

// Rests implements store.Tx. Nobody else changes a row.
func (t *tx) Rests(store.Key, int64) bool { return true }

// Stamp implements store.Tx.
func (t *tx) Stamp() int64 { return 0 }

// TellLater implements store.Tx. Nobody else is to hear.
func (t *tx) TellLater() {}

// IsShared implements store.Store: what is done at a terminal changes the file too.
func (s *Store) IsShared() bool { return true }

// OthersAtWork implements store.Store: no other door has the file.
func (s *Store) OthersAtWork() int { return 0 }

// hear forgets what is remembered of the file where another program changed it, and tells the watcher. The lock is held.
func (s *Store) hear(ctx context.Context) error {
	before := s.version
	statement, err := (&tx{s: s, ctx: ctx}).prepare("PRAGMA data_version")
	if err == nil {
		err = statement.QueryRow().Scan(&s.version)
	}
	if err != nil {
		return err
	}
	if s.version == before || before == 0 {
		return nil
	}
	clear(s.heads)
	clear(s.kept)
	if s.watcher.Lost != nil {
		s.watcher.Lost()
		s.watcher.Found()
	}
	return nil
}

// listening is how often it is looked whether another program changed the file.
const listening = 100 * time.Millisecond

// Watch implements store.Store. A transaction hears of changes before it reads.
func (s *Store) Watch(ctx context.Context, w store.Watcher) error {
	set := func(w store.Watcher) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.conn == nil {
			return fmt.Errorf("%s is open to be looked at", s.path)
		}
		s.watcher = w
		return s.hear(ctx)
	}
	if err := set(w); err != nil {
		return err
	}
	defer set(store.Watcher{})
	w.Found()
	tick := time.NewTicker(listening)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		s.mu.Lock()
		err := s.hear(ctx)
		s.mu.Unlock()
		if err != nil && ctx.Err() == nil {
			w.Lost() // until it can be heard again nothing is remembered
			continue
		}
		w.Found()
	}
}

// Hold implements store.Store. One door at a time can have the file.
func (s *Store) Hold(context.Context, string) error { return nil }

// Release implements store.Store.
func (s *Store) Release(string) error { return nil }

// Held implements store.Store. No other door can have the file.
func (s *Store) Held(context.Context, string) (bool, error) { return false, nil }
