// Package sqlite keeps a store in one SQLite file, for a door that runs alone.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/mod/sumdb/tlog"
	_ "modernc.org/sqlite" // the driver, which needs no C

	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// application marks the file as one of ours (PRAGMA application_id): "BWst" as a number.
const application = 0x42577374

// migrations make the tables; PRAGMA user_version is how many of them a file has had. A new
// form of the file adds one, and none is changed once it has landed.
var migrations = []string{`
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
`}

// Store is a store.Store in one file.
type Store struct {
	// db reads; writer writes, one transaction at a time.
	db, writer *sql.DB
	mu         sync.Mutex
	conn       *sql.Conn
	statements map[string]*sql.Stmt
	lock       *os.File
	path       string
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
		"wal_autocheckpoint(4000)"}})
	if err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	s.lock = lock
	if err := s.migrate(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), s.Close())
	}
	return s, nil
}

// Read opens the file to be looked at, also while a door has it. What is written to it is an
// error.
func Read(path string) (*Store, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there is no store %s", path)
	}
	s, err := open(path, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)", "query_only(1)"}})
	if err != nil {
		return nil, err
	}
	if _, err := s.version(); err != nil {
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
	return &Store{db: db, writer: writer, path: path, statements: map[string]*sql.Stmt{}}, nil
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
		_, err = tx.Exec(migrations[version] + fmt.Sprintf("PRAGMA user_version = %d; PRAGMA application_id = %d;", version+1, application))
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
func (s *Store) Update(ctx context.Context, change func(store.Tx) error) (err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn == nil {
		if s.conn, err = s.writer.Conn(context.WithoutCancel(ctx)); err != nil {
			return err
		}
	}
	t := &tx{s: s, ctx: ctx}
	if _, err := t.exec("BEGIN IMMEDIATE"); err != nil {
		return err
	}
	err = change(t)
	if err == nil {
		err = t.flush()
	}
	if err == nil {
		_, err = t.exec("COMMIT")
	}
	if err != nil {
		t.ctx = context.WithoutCancel(ctx)
		_, undone := t.exec("ROLLBACK")
		return errors.Join(err, undone)
	}
	return nil
}

// tx is one transaction on the connection that writes.
type tx struct {
	s       *Store
	ctx     context.Context
	entries []journal.Entry
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
	_, err := t.exec(
		"INSERT INTO facts VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (kind, key) DO UPDATE SET account = excluded.account, device = excluded.device,"+
			" due = excluded.due, value = excluded.value",
		string(row.Kind),
		row.Key.Key,
		row.Account,
		row.Device,
		micros(row.Due),
		row.Value,
	)
	return err
}

// Delete implements store.Tx.
func (t *tx) Delete(key store.Key) error {
	_, err := t.exec("DELETE FROM facts WHERE kind = ? AND key = ?", string(key.Kind), key.Key)
	return err
}

// Append implements store.Tx.
func (t *tx) Append(entries []journal.Entry) error {
	t.entries = append(t.entries, entries...)
	return nil
}

// manyEntries is how many entries one statement writes where there are so many: the statement has its
// cost.
const manyEntries = 16

var insertEntries = map[int]string{
	1:           "INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?)",
	manyEntries: "INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?)" + strings.Repeat(", (?, ?, ?, ?, ?, ?, ?)", manyEntries-1),
}

// flush writes the entries of the transaction and moves the head.
func (t *tx) flush() error {
	if len(t.entries) == 0 {
		return nil
	}
	statement, err := t.prepare("SELECT head FROM head")
	if err != nil {
		return err
	}
	head, err := scanHead(statement.QueryRowContext(t.ctx))
	if err != nil {
		return err
	}
	head.Append(t.entries)
	for rest := t.entries; len(rest) > 0; {
		n := 1
		if len(rest) >= manyEntries {
			n = manyEntries
		}
		args := make([]any, 0, 7*n)
		for i := range rest[:n] {
			e := &rest[i]
			args = append(args, e.Number, e.ID, e.At.UnixMicro(), int64(e.Kind), e.Account, e.Leaf, e.Hash[:])
		}
		if _, err := t.exec(insertEntries[n], args...); err != nil {
			return err
		}
		rest = rest[n:]
	}
	text, err := head.MarshalText()
	if err != nil {
		return err
	}
	_, err = t.exec("UPDATE head SET head = ?", string(text))
	return err
}

func scanHead(row *sql.Row) (head journal.Head, err error) {
	var text string
	if err := row.Scan(&text); err != nil {
		return head, err
	}
	return head, head.UnmarshalText([]byte(text))
}

// Head implements store.Store.
func (s *Store) Head(ctx context.Context) (journal.Head, error) {
	return scanHead(s.db.QueryRowContext(ctx, "SELECT head FROM head"))
}

const entryColumns = "number, id, at, kind, account, leaf, hash"

func scanEntry(scan func(...any) error) (journal.Entry, error) {
	var e journal.Entry
	var at int64
	var hash []byte
	err := scan(&e.Number, &e.ID, &at, &e.Kind, &e.Account, &e.Leaf, &hash)
	if err == nil && len(hash) != tlog.HashSize {
		err = fmt.Errorf("entry %d has no hash", e.Number)
	}
	if errors.Is(err, sql.ErrNoRows) {
		err = store.ErrNotFound
	}
	if err != nil {
		return e, err
	}
	e.At, e.Hash = time.UnixMicro(at).UTC(), tlog.Hash(hash)
	return e, nil
}

// Entry implements store.Store.
func (s *Store) Entry(ctx context.Context, id string) (journal.Entry, error) {
	return scanEntry(s.db.QueryRowContext(ctx, "SELECT "+entryColumns+" FROM entries WHERE id = ?", id).Scan)
}

// Entries implements store.Store.
func (s *Store) Entries(ctx context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	where, args := []string{"number >= ?"}, []any{f.After}
	add := func(text string, arg any) { where, args = append(where, text), append(args, arg) }
	if f.Kind != 0 {
		add("kind = ?", int64(f.Kind))
	}
	if f.Account != "" {
		add("account = ?", f.Account)
		where = append(where, "account <> ''") // which lets the partial index serve
	}
	if !f.From.IsZero() {
		add("at >= ?", f.From.UnixMicro())
	}
	if !f.To.IsZero() {
		add("at < ?", f.To.UnixMicro())
	}
	text := "SELECT " + entryColumns + " FROM entries WHERE " + strings.Join(where, " AND ") + " ORDER BY number"
	if f.Latest {
		text += " DESC"
	}
	if f.Limit > 0 {
		text, args = text+" LIMIT ?", append(args, f.Limit)
	}
	return func(yield func(journal.Entry, error) bool) {
		rows, err := s.db.QueryContext(ctx, text, args...)
		if err != nil {
			yield(journal.Entry{}, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			if e, err := scanEntry(rows.Scan); !yield(e, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(journal.Entry{}, err)
		}
	}
}

// IsShared implements store.Store.
func (s *Store) IsShared() bool { return false }

// Watch implements store.Store. The file is this door's alone.
func (s *Store) Watch(context.Context, store.Watcher) error { return nil }
