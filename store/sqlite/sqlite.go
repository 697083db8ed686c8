// Package sqlite keeps a store in one SQLite file, for a door that runs alone.
package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver, which needs no C

	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// application marks the file as one of ours (PRAGMA application_id): "BWst" as a number.
const application = 0x42577374

// migration brings a file from one form to the next: what its text says, and then what it moves.
type migration struct {
	text string
	move func(*sql.Tx) error
}

// migrations make the tables; PRAGMA user_version is how many of them a file has had. A new
// form of the file adds one, and none is changed once it has landed.
var migrations = []migration{{text: `
CREATE TABLE facts (kind TEXT NOT NULL, key TEXT NOT NULL, account TEXT NOT NULL, device TEXT NOT NULL, due INTEGER, value BLOB NOT NULL,
	PRIMARY KEY (kind, key)) STRICT, WITHOUT ROWID;
CREATE INDEX facts_by_account ON facts (account, kind) WHERE kind IN ('session', 'outgoing');
CREATE INDEX facts_by_device ON facts (device, kind) WHERE device <> '';
CREATE INDEX facts_by_due ON facts (kind, due) WHERE due IS NOT NULL;
CREATE TABLE entries (number INTEGER PRIMARY KEY, id TEXT NOT NULL, at INTEGER NOT NULL, kind INTEGER NOT NULL, account TEXT NOT NULL,
	leaf BLOB, hash BLOB NOT NULL) STRICT;
CREATE UNIQUE INDEX entries_by_id ON entries (id);
CREATE INDEX entries_by_at ON entries (at);
CREATE INDEX entries_by_account ON entries (account, number) WHERE account <> '';
CREATE TABLE head (one INTEGER PRIMARY KEY CHECK (one = 1), head TEXT NOT NULL) STRICT;
INSERT INTO head VALUES (1, '0');
CREATE TRIGGER entries_stay BEFORE UPDATE OF number, id, at, kind, account, hash ON entries
	BEGIN SELECT RAISE(ABORT, 'entries are never changed'); END;
CREATE TRIGGER entries_remain BEFORE DELETE ON entries BEGIN SELECT RAISE(ABORT, 'entries are never deleted'); END;
`}, {text: `
CREATE TABLE groups (first INTEGER PRIMARY KEY, size INTEGER NOT NULL, kinds INTEGER NOT NULL, since INTEGER NOT NULL,
	until INTEGER NOT NULL, heads BLOB NOT NULL, leaves BLOB) STRICT;
CREATE INDEX groups_by_since ON groups (since);
CREATE INDEX groups_unpruned ON groups (since) WHERE leaves IS NOT NULL;
CREATE TRIGGER groups_stay BEFORE UPDATE OF first, size, kinds, since, until ON groups
	BEGIN SELECT RAISE(ABORT, 'entries are never changed'); END;
CREATE TRIGGER groups_shrink BEFORE UPDATE OF heads, leaves ON groups
	WHEN length(coalesce(NEW.leaves, '')) >= length(coalesce(OLD.leaves, ''))
	BEGIN SELECT RAISE(ABORT, 'entries are never changed but to be pruned'); END;
CREATE TRIGGER groups_remain BEFORE DELETE ON groups BEGIN SELECT RAISE(ABORT, 'entries are never deleted'); END;
ALTER TABLE head ADD COLUMN widest INTEGER NOT NULL DEFAULT 0;
CREATE TABLE changes (number INTEGER PRIMARY KEY, rows BLOB NOT NULL) STRICT;
CREATE TABLE runs (number INTEGER PRIMARY KEY, level INTEGER NOT NULL, beyond INTEGER NOT NULL, last_id TEXT NOT NULL,
	ready INTEGER NOT NULL) STRICT;
CREATE TABLE buckets (number INTEGER PRIMARY KEY, seeks BLOB NOT NULL) STRICT;
`, move: groupEntries}, {text: `
DROP INDEX facts_by_account;
CREATE INDEX facts_by_account ON facts (account, kind) WHERE kind IN ('session', 'outgoing', 'member');
`}}

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
	head       journal.Head
	tail       tail
	// unsure says that a transaction may have been kept or not, so that what is in memory has to be
	// read again.
	unsure bool

	pending pending
	indexer indexer
}

// Open opens the file for a door, and makes it where it is missing. One door at a time can have
// it; another gets an error. What was acknowledged survives a crash of the machine.
func Open(path string) (*Store, error) {
	lock, err := lockFile(path + ".lock")
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil { // what it holds is about people
		return nil, errors.Join(err, lock.Close())
	} else if err := f.Close(); err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	s, err := open(path, url.Values{"_pragma": {"busy_timeout(10000)", "journal_mode(WAL)", "synchronous(FULL)", "cache_size(-65536)",
		"wal_autocheckpoint(500)"}})
	if err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	s.lock = lock
	if err := s.migrate(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), s.Close())
	}
	if err := s.begin(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), s.Close())
	}
	return s, nil
}

// ErrOlder is returned by Read for a file that Open would bring to a newer form.
var ErrOlder = errors.New("the file is of an older version of this program")

// Read opens the file to be looked at, also while a door has it. It shows rows as they were then,
// and entries as they are. What is written to it is an error, and so is a file that a door has not
// brought to the newest form (ErrOlder).
func Read(path string) (*Store, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there is no store %s", path)
	}
	s, err := open(path, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)", "query_only(1)"}})
	if err != nil {
		return nil, err
	}
	version, err := s.version()
	if err == nil && version < len(migrations) {
		err = fmt.Errorf("%w (form %d, and this one reads %d): start a door on it once, which brings it to the newest", ErrOlder, version,
			len(migrations))
	}
	if err == nil {
		err = s.pending.load(context.Background(), s.db)
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
	return &Store{db: db, writer: writer, path: path, statements: map[string]*sql.Stmt{}, indexer: indexer{inRun: usualRun}}, nil
}

// version reads how many migrations the file has had.
func (s *Store) version() (int, error) {
	var version, id, tables int
	ctx := context.Background()
	if err := errors.Join(
		s.writer.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version),
		s.writer.QueryRowContext(ctx, "PRAGMA application_id").Scan(&id),
		s.writer.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema").Scan(&tables),
	); err != nil {
		return 0, err
	}
	switch {
	case tables == 0:
		return 0, nil
	case id != application:
		return 0, errors.New("the file is no store of a door")
	case version > len(migrations):
		return 0, fmt.Errorf("the file is of a newer version of this program (form %d, and this one knows %d)", version, len(migrations))
	}
	return version, nil
}

// migrate brings the file to the newest form, whole or not at all.
func (s *Store) migrate() error {
	version, err := s.version()
	if err != nil {
		return err
	}
	for ; version < len(migrations); version++ {
		tx, err := s.writer.Begin()
		if err != nil {
			return err
		}
		_, err = tx.Exec(migrations[version].text)
		if move := migrations[version].move; err == nil && move != nil {
			err = move(tx)
		}
		if err == nil {
			_, err = tx.Exec(fmt.Sprintf("PRAGMA user_version = %d; PRAGMA application_id = %d;", version+1, application))
		}
		if err != nil {
			return errors.Join(err, tx.Rollback())
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	return nil
}

// Backup writes a copy of the file as it is at this moment, also while a door has it. The copy
// must not exist.
func (s *Store) Backup(ctx context.Context, path string) error {
	if err := newfile.CheckFile(path); err != nil {
		return err
	}
	// A connection of its own: that of a reader may write nothing, not even a copy.
	db, err := connect(s.path, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)"}})
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "VACUUM INTO ?", path)
	return errors.Join(err, db.Close())
}

// begin reads what a door needs in memory, and starts what works behind it.
func (s *Store) begin() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	ctx := context.Background()
	if err := s.connect(ctx); err != nil {
		return err
	}
	if err := s.sweepRuns(ctx); err != nil {
		return err
	}
	if err := s.restore(ctx); err != nil {
		return err
	}
	s.indexer.start(s)
	return nil
}

// connect takes the connection that writes.
func (s *Store) connect(ctx context.Context) (err error) {
	if s.conn == nil {
		s.conn, err = s.writer.Conn(context.WithoutCancel(ctx))
	}
	return err
}

// restore reads what is kept in memory from the file.
func (s *Store) restore(ctx context.Context) error {
	s.unsure = true
	var err error
	if s.head, err = readHead(ctx, s.conn); err != nil {
		return err
	}
	if err := s.pending.load(ctx, s.conn); err != nil {
		return err
	}
	if err := s.loadTail(ctx); err != nil {
		return err
	}
	s.unsure = false
	return nil
}

// Close implements store.Store.
func (s *Store) Close() error {
	s.stopIndexing()
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	if s.conn != nil {
		// What is pending is safe where it is. In its place it spares the next opening the work.
		errs = append(errs, s.transact(context.Background(), func(t *tx) error { return t.settle(s.pending.length()) }))
	}
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
	if row, found := s.pending.find(key); found {
		return rowOrNone(row)
	}
	return scanRow(s.db.QueryRowContext(ctx, getRow, string(key.Kind), key.Key).Scan)
}

// List implements store.Reader.
func (s *Store) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	return overlaid(ctx, s.db, q, s.pending.of(q.Kind))
}

func list(ctx context.Context, from querier, q store.Query) ([]store.Row, error) {
	text, args := "SELECT "+columns+" FROM facts WHERE kind = ? AND key > ?", []any{string(q.Kind), q.After}
	if q.Prefix != "" {
		text, args = text+" AND key >= ? AND key < ?", append(args, q.Prefix, q.Prefix+"\U0010ffff")
	}
	if q.Account != "" {
		text, args = text+" AND account = ?", append(args, q.Account)
	}
	if q.Device != "" {
		text, args = text+" AND device = ? AND device <> ''", append(args, q.Device) // the latter for the partial index
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

// Update implements store.Store.
func (s *Store) Update(ctx context.Context, change func(store.Tx) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.connect(ctx); err != nil {
		return err
	}
	if s.unsure {
		if err := s.restore(ctx); err != nil {
			return err
		}
	}
	if err := s.indexer.broken(&s.tail); err != nil {
		return err
	}
	return s.transact(ctx, func(t *tx) error {
		if err := change(t); err != nil {
			return err
		}
		return t.keep()
	})
}

// transact runs a transaction on the connection that writes, whose lock is held.
func (s *Store) transact(ctx context.Context, work func(*tx) error) error {
	t := &tx{s: s, ctx: ctx, changed: map[store.Key]*store.Row{}}
	if _, err := t.exec("BEGIN IMMEDIATE"); err != nil {
		return err
	}
	err := work(t)
	if err == nil {
		if _, err = t.exec("COMMIT"); err != nil {
			s.unsure = true
		}
	}
	if err != nil {
		t.ctx = context.WithoutCancel(ctx)
		_, undone := t.exec("ROLLBACK")
		return errors.Join(err, undone)
	}
	s.pending.kept(t.settled, t.change, t.changed, t.size)
	if len(t.entries) > 0 {
		s.head = t.head
		s.tail.add(t.entries)
	}
	if t.afterwards != nil {
		t.afterwards()
	}
	s.indexer.wake(&s.tail)
	return nil
}

// tx is one transaction on the connection that writes.
type tx struct {
	s       *Store
	ctx     context.Context
	changed map[store.Key]*store.Row
	entries []journal.Entry
	// head is the end of the journal behind the entries, where there are any.
	head journal.Head
	// change numbers what was changed, and size is how many bytes of it are kept; 0 where nothing was.
	change int64
	size   int
	// afterwards is done once the transaction was kept.
	afterwards func()
	// settled is how many rows that were pending went to their place.
	settled int
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

func (t *tx) exec(query string, args ...any) (sql.Result, error) {
	statement, err := t.prepare(query)
	if err != nil {
		return nil, err
	}
	return statement.ExecContext(t.ctx, args...)
}

// Get implements store.Reader.
func (t *tx) Get(ctx context.Context, key store.Key) (store.Row, error) {
	if row, changed := t.changed[key]; changed {
		return rowOrNone(row)
	}
	if row, found := t.s.pending.find(key); found {
		return rowOrNone(row)
	}
	statement, err := t.prepare(getRow)
	if err != nil {
		return store.Row{}, err
	}
	return scanRow(statement.QueryRowContext(ctx, string(key.Kind), key.Key).Scan)
}

// List implements store.Reader.
func (t *tx) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	changed := t.s.pending.of(q.Kind)
	for key, row := range t.changed {
		if key.Kind == q.Kind {
			changed[key.Key] = row
		}
	}
	return overlaid(ctx, t.s.conn, q, changed)
}

// Put implements store.Tx.
func (t *tx) Put(row store.Row) error {
	row.Value = bytes.Clone(row.Value)
	if !row.Due.IsZero() {
		row.Due = time.UnixMicro(row.Due.UnixMicro()).UTC() // as exact as the file has it
	}
	t.changed[row.Key] = &row
	return nil
}

// Delete implements store.Tx.
func (t *tx) Delete(key store.Key) error {
	t.changed[key] = nil
	return nil
}

// Append implements store.Tx.
func (t *tx) Append(entries []journal.Entry) error {
	t.entries = append(t.entries, entries...)
	return nil
}

// keep keeps the entries and the changes of the transaction.
func (t *tx) keep() error {
	if err := t.appendEntries(); err != nil {
		return err
	}
	if err := t.keepChanges(); err != nil {
		return err
	}
	return t.settle(t.s.pending.over(len(t.changed)))
}

// IsShared implements store.Store.
func (s *Store) IsShared() bool { return false }

// Watch implements store.Store. The file is this door's alone.
func (s *Store) Watch(context.Context, store.Watcher) error { return nil }
