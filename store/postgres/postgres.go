// Package postgres keeps a store in PostgreSQL, version 15 or later, for several doors that
// share it.
package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"github.com/briskwarden/briskwarden/internal/packed"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// form is the form of the tables, as the table form says, and schema makes them. A newer form brings what changes them.
const form = 2

// What changes with each decision stands last in a row, since PostgreSQL logs a row that changes from the first byte that differs to the
// last. Tables give nothing back to the file system by themselves: that locks them against all.
const schema = `
CREATE TABLE form (form int NOT NULL);
CREATE TABLE facts (kind text COLLATE "C" NOT NULL, key text COLLATE "C" NOT NULL, account text COLLATE "C" NOT NULL,
	device text COLLATE "C" NOT NULL, dictionary bigint, value bytea NOT NULL, due timestamptz, stamp bigint NOT NULL,
	PRIMARY KEY (kind, key)) WITH (fillfactor = 80, vacuum_truncate = off);
CREATE INDEX facts_by_account ON facts (account, kind) WHERE account <> '';
CREATE INDEX facts_by_device ON facts (device, kind) WHERE device <> '';
CREATE INDEX facts_by_due ON facts (kind, due) WHERE due IS NOT NULL;
CREATE TABLE logs (name text COLLATE "C" PRIMARY KEY, head bytea NOT NULL, size bigint NOT NULL)
	WITH (fillfactor = 10, vacuum_truncate = off);
ALTER TABLE logs ALTER COLUMN head SET STORAGE EXTERNAL;
CREATE TABLE dictionaries (id bigint PRIMARY KEY, text bytea NOT NULL);
CREATE TABLE entries (log text COLLATE "C" NOT NULL, number bigint NOT NULL, id uuid NOT NULL UNIQUE, at timestamptz NOT NULL,
	kind smallint NOT NULL, account text COLLATE "C" NOT NULL, hash bytea NOT NULL, brief bytea, dictionary bigint, leaf bytea,
	PRIMARY KEY (log, number)) WITH (vacuum_truncate = off);
CREATE INDEX entries_by_time ON entries (at);
CREATE INDEX entries_other ON entries (at) WHERE kind <> 1;
CREATE INDEX entries_by_account ON entries (hashtext(account), at) WHERE account <> '';
CREATE FUNCTION entries_stay() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
	IF TG_OP = 'DELETE' OR (NEW.log, NEW.number, NEW.id, NEW.at, NEW.kind, NEW.hash) IS DISTINCT FROM
		(OLD.log, OLD.number, OLD.id, OLD.at, OLD.kind, OLD.hash) OR NEW.leaf IS NOT NULL OR NEW.brief IS NOT NULL OR NEW.account <> '' THEN
		RAISE EXCEPTION 'entries are never changed, and pruned whole';
	END IF;
	RETURN NEW;
END $$;
CREATE TRIGGER entries_stay BEFORE UPDATE OR DELETE ON entries FOR EACH ROW EXECUTE FUNCTION entries_stay();
INSERT INTO form VALUES (2);
`

const (
	// making is the advisory lock that is held while tables are made, "BWst" as a number, and telling the one while others are told,
	// "BWte".
	making, telling = 0x42577374, 0x42577465
	// channel is where keys of rows that changed are told.
	channel = "briskwarden_changes"
	// home is the schema of the tables where the address names none (search_path). It is of its own, so that pg_dump
	// --schema copies it whole, functions and triggers too.
	home = "briskwarden"
	// program is how a door names itself to the server, and programBefore how one of the version before did.
	program, programBefore = "briskwarden door", "briskwarden"
)

// Store is a store.Store in a database.
type Store struct {
	pool *pgxpool.Pool
	// self names this connection of the program, so that it leaves out what it changed itself.
	self string

	// appending is held while entries are appended, so that transactions of this program do not wait in the database.
	appending sync.Mutex
	// mu guards what follows. heads are those of logs that were appended to, as the database has them, and kept the
	// dictionaries that it has.
	mu    sync.Mutex
	heads map[string]journal.Head
	kept  map[int64]bool
	// heardOf is when each other program was last heard to change rows.
	heardOf map[string]time.Time
	// untold are keys of rows that others are to hear of soon, and telling tells them.
	untold  []store.Key
	telling *time.Timer
	// held are the logs that are this program's, each by the connection that holds it.
	held map[string]*pgx.Conn

	// packing is what leaves and long rows are packed by.
	packing packed.Dictionaries
}

// Open opens the database that a URL or a connection string names (as libpq reads them), and makes the tables where they are
// missing: in the schema briskwarden, unless search_path names another. What a door of the version before kept there is
// carried over, once, as CarryOver says.
func Open(ctx context.Context, at string) (*Store, error) {
	s, err := connect(ctx, at, "off")
	if err != nil {
		return nil, err
	}
	if err = s.make(ctx); err == nil {
		err = s.check(ctx)
	}
	if err != nil {
		s.pool.Close()
		return nil, err
	}
	return s, nil
}

// IsAway reports whether an error says that the database cannot be reached now: there is no connection, it starts, or it stops.
func IsAway(err error) bool {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return strings.HasPrefix(refused.Code, "57P") || strings.HasPrefix(refused.Code, "08") || strings.HasPrefix(refused.Code, "53")
	}
	var connecting *pgconn.ConnectError
	return errors.As(err, &connecting)
}

// ErrNone is returned for a database in which a door has made no tables of this version yet.
var ErrNone = errors.New("the database has no store: a door makes it when it starts")

// Join opens the database for what an administrator does at a terminal, also while doors have it. It makes no tables
// (ErrNone).
func Join(ctx context.Context, at string) (*Store, error) { return existing(ctx, at, "off") }

// Read opens the database to be looked at, by somebody who may read its tables and no more, on a standby too. What is
// written to it is an error, and so is a database that a door of this version has not made its tables in (ErrNone).
func Read(ctx context.Context, at string) (*Store, error) { return existing(ctx, at, "on") }

func existing(ctx context.Context, at, readOnly string) (*Store, error) {
	s, err := connect(ctx, at, readOnly)
	if err != nil {
		return nil, err
	}
	if err := s.check(ctx); err != nil {
		s.pool.Close()
		return nil, err
	}
	return s, nil
}

// connect makes the pool of connections; readOnly is on or off.
func connect(ctx context.Context, at, readOnly string) (*Store, error) {
	config, err := pgxpool.ParseConfig(at)
	if err != nil {
		// The error of the library quotes the string, and the password in it.
		return nil, errors.New("that is no address of a database such as postgres://door@db.example/door")
	}
	config.MaxConns = 8
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	config.ConnConfig.RuntimeParams["application_name"] = program
	config.ConnConfig.RuntimeParams["default_transaction_read_only"] = readOnly
	config.ConnConfig.RuntimeParams["synchronous_commit"] = "on" // what was acknowledged survives a crash
	// Rows are found one by one, in the order in which they are named: so two doors that change the same rows lock them in one
	// order, and none waits for the other in turn.
	for _, plan := range []string{"enable_hashjoin", "enable_mergejoin", "enable_seqscan"} {
		config.ConnConfig.RuntimeParams[plan] = "off"
	}
	if config.ConnConfig.RuntimeParams["search_path"] == "" {
		config.ConnConfig.RuntimeParams["search_path"] = home
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	return &Store{pool: pool, self: journal.NewID(), heads: map[string]journal.Head{}, kept: map[int64]bool{},
		heardOf: map[string]time.Time{}, held: map[string]*pgx.Conn{}}, nil
}

// has reports whether there is a table of a name.
func has(ctx context.Context, from querier, table string) (is bool, err error) {
	return is, from.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", table).Scan(&is)
}

// make makes the tables where they are missing, one door at a time, and carries over what a version before kept.
func (s *Store) make(ctx context.Context) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", making); err != nil {
			return err
		}
		if is, err := has(ctx, tx, "form"); is || err != nil {
			return err
		}
		var path string
		if err := tx.QueryRow(ctx, "SELECT current_setting('search_path')").Scan(&path); err != nil {
			return err
		}
		if path == home {
			if _, err := tx.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+home); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, schema); err != nil {
			return err
		}
		return carryOver(ctx, tx, path)
	})
}

// check reports where the tables are not those of this version, or lack what keeps entries as they are.
func (s *Store) check(ctx context.Context) error {
	is, err := has(ctx, s.pool, "form")
	switch {
	case err != nil:
		return err
	case !is:
		return ErrNone
	}
	var found int
	var guarded bool
	if err := s.pool.QueryRow(ctx, "SELECT (SELECT max(form) FROM form), EXISTS (SELECT FROM pg_trigger"+
		" WHERE tgrelid = to_regclass('entries') AND tgname = 'entries_stay' AND tgenabled IN ('O', 'A'))").Scan(&found, &guarded); err != nil {
		return err
	}
	switch {
	case found != form:
		return fmt.Errorf("the database is of another version of this program (form %d, and this one knows %d)", found, form)
	case !guarded:
		return errors.New("the table entries has lost the trigger entries_stay, without which entries can be changed: restore the " +
			"whole schema, as `pg_dump --schema` copies it")
	}
	return nil
}

// Close implements store.Store.
func (s *Store) Close() error {
	s.tell()
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, conn := range s.held {
		errs = append(errs, conn.Close(context.Background()))
	}
	s.pool.Close()
	return errors.Join(errs...)
}

// querier is what rows are read through: the pool or a transaction.
type querier interface {
	Query(ctx context.Context, query string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, query string, args ...any) pgx.Row
}

const columns = "kind, key, account, device, due, stamp, dictionary, value"

func (s *Store) scanRow(ctx context.Context, from pgx.Row) (row store.Row, err error) {
	var due *time.Time
	var dictionary *int64
	err = from.Scan(&row.Kind, &row.Key.Key, &row.Account, &row.Device, &due, &row.Stamp, &dictionary, &row.Value)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return row, store.ErrNotFound
	case err != nil:
		return row, err
	case due != nil:
		row.Due = due.UTC()
	}
	row.Value, err = s.unpack(ctx, dictionary, row.Value)
	return row, err
}

func (s *Store) scanRows(ctx context.Context, from pgx.Rows) ([]store.Row, error) {
	return pgx.CollectRows(from, func(row pgx.CollectableRow) (store.Row, error) { return s.scanRow(ctx, row) })
}

// unpack undoes the packing by a dictionary; nil says that it was not packed.
func (s *Store) unpack(ctx context.Context, dictionary *int64, value []byte) ([]byte, error) {
	if dictionary == nil || value == nil {
		return value, nil
	}
	return s.packing.Unpack(*dictionary, value, func() (text []byte, err error) {
		return text, s.pool.QueryRow(ctx, "SELECT text FROM dictionaries WHERE id = $1", *dictionary).Scan(&text)
	})
}

func (s *Store) get(ctx context.Context, from querier, key store.Key) (store.Row, error) {
	return s.scanRow(ctx, from.QueryRow(ctx, "SELECT "+columns+" FROM facts WHERE kind = $1 AND key = $2", string(key.Kind), key.Key))
}

// Get implements store.Reader.
func (s *Store) Get(ctx context.Context, key store.Key) (store.Row, error) {
	return s.get(ctx, s.pool, key)
}

// List implements store.Reader.
func (s *Store) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	return s.list(ctx, s.pool, q)
}

// clause joins conditions, whose question marks become numbered parameters.
type clause struct {
	text []string
	args []any
}

func (c *clause) add(text string, arg any) {
	c.args = append(c.args, arg)
	c.text = append(c.text, strings.ReplaceAll(text, "?", fmt.Sprintf("$%d", len(c.args))))
}

func (c *clause) where() string {
	if len(c.text) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(c.text, " AND ")
}

func limit(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" LIMIT %d", n)
}

func (s *Store) list(ctx context.Context, from querier, q store.Query) ([]store.Row, error) {
	var c clause
	c.add("kind = ?", string(q.Kind))
	c.add("key > ?", q.After)
	if q.Prefix != "" {
		c.add("starts_with(key, ?)", q.Prefix)
		c.add("key >= ?", q.Prefix)
		c.add("key < ?", q.Prefix+"\U0010ffff")
	}
	if q.Account != "" {
		c.add("account = ? AND account <> ''", q.Account) // the latter for the partial index
	}
	if q.Device != "" {
		c.add("device = ? AND device <> ''", q.Device)
	}
	if !q.DueBy.IsZero() {
		c.add("due <= ?", q.DueBy)
	}
	rows, err := from.Query(ctx, "SELECT "+columns+" FROM facts"+c.where()+" ORDER BY key"+limit(q.Limit), c.args...)
	if err != nil {
		return nil, err
	}
	return s.scanRows(ctx, rows)
}

// IsShared implements store.Store.
func (s *Store) IsShared() bool { return true }

// OthersAtWork implements store.Store.
func (s *Store) OthersAtWork() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	maps.DeleteFunc(s.heardOf, func(_ string, at time.Time) bool { return time.Since(at) > time.Second })
	return len(s.heardOf)
}

// Watch implements store.Store. It connects again where the connection is lost.
func (s *Store) Watch(ctx context.Context, w store.Watcher) error {
	for wait := 100 * time.Millisecond; ctx.Err() == nil; {
		followed, err := s.follow(ctx, w)
		if ctx.Err() != nil {
			break
		}
		if followed {
			w.Lost()
			wait = 100 * time.Millisecond
		}
		if err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
			wait = min(2*wait, 2*time.Second)
		}
	}
	return ctx.Err()
}

// follow hears notifications on one connection until that is lost. It reports whether it began
// to. A connection that is silent is tried every so often, so that a dead one is found out.
func (s *Store) follow(ctx context.Context, w store.Watcher) (followed bool, err error) {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return false, err
	}
	raw := conn.Hijack() // so that the pool never hands out a connection that listens
	defer raw.Close(context.WithoutCancel(ctx))
	if _, err := raw.Exec(ctx, "LISTEN "+channel); err != nil {
		return false, err
	}
	w.Lost() // what was remembered before may have changed meanwhile
	w.Found()
	const silence = 500 * time.Millisecond
	for {
		waiting, cancel := context.WithTimeout(ctx, silence)
		notice, err := raw.WaitForNotification(waiting)
		cancel()
		switch {
		case ctx.Err() != nil:
			return true, ctx.Err()
		case err == nil:
			s.heard(notice.Payload, w)
		case waiting.Err() == nil:
			return true, err
		default:
			trying, cancel := context.WithTimeout(ctx, silence)
			err := raw.Ping(trying)
			cancel()
			if err != nil {
				return true, err
			}
		}
	}
}

// heard tells the watcher of one notification.
func (s *Store) heard(payload string, w store.Watcher) {
	if strings.HasPrefix(payload, `{"by":"`+s.self) {
		return
	}
	var n notice
	err := json.Unmarshal([]byte(payload), &n)
	s.mu.Lock()
	s.heardOf[n.By] = time.Now()
	s.mu.Unlock()
	if err != nil || n.All {
		w.Lost()
		w.Found()
		return
	}
	w.Changed(n.Keys)
}
