// Package postgres keeps a store in PostgreSQL, version 15 or later, for several doors that
// share it.
package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// migrations make the tables; the table briskwarden_form says how many of them the database
// has had. A new form adds one, and none is changed once it has landed.
var migrations = []string{`
CREATE TABLE briskwarden_facts (kind text COLLATE "C" NOT NULL, key text COLLATE "C" NOT NULL, account text COLLATE "C" NOT NULL,
	device text COLLATE "C" NOT NULL, due timestamptz, value bytea NOT NULL, PRIMARY KEY (kind, key));
CREATE INDEX briskwarden_facts_by_account ON briskwarden_facts (account, kind) WHERE kind IN ('session', 'outgoing');
CREATE INDEX briskwarden_facts_by_device ON briskwarden_facts (device, kind) WHERE device <> '';
CREATE INDEX briskwarden_facts_by_due ON briskwarden_facts (kind, due) WHERE due IS NOT NULL;
CREATE TABLE briskwarden_entries (number bigint PRIMARY KEY, id text COLLATE "C" NOT NULL UNIQUE, at timestamptz NOT NULL,
	kind smallint NOT NULL, account text COLLATE "C" NOT NULL, leaf bytea, hash bytea NOT NULL);
CREATE INDEX briskwarden_entries_by_at ON briskwarden_entries (at);
CREATE INDEX briskwarden_entries_by_account ON briskwarden_entries (account, number) WHERE account <> '';
CREATE TABLE briskwarden_head (one int PRIMARY KEY CHECK (one = 1), head text NOT NULL);
INSERT INTO briskwarden_head VALUES (1, '0');
CREATE FUNCTION briskwarden_entry_stays() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
	IF TG_OP = 'DELETE' OR (NEW.number, NEW.id, NEW.at, NEW.kind, NEW.account, NEW.hash) IS DISTINCT FROM
		(OLD.number, OLD.id, OLD.at, OLD.kind, OLD.account, OLD.hash) THEN
		RAISE EXCEPTION 'entries are never changed';
	END IF;
	RETURN NEW;
END $$;
CREATE TRIGGER briskwarden_entries_stay BEFORE UPDATE OR DELETE ON briskwarden_entries
	FOR EACH ROW EXECUTE FUNCTION briskwarden_entry_stays();
`, `
ALTER TABLE briskwarden_entries ADD COLUMN brief bytea;
DROP INDEX briskwarden_entries_by_at;
CREATE INDEX briskwarden_entries_by_at ON briskwarden_entries (at, number);
CREATE INDEX briskwarden_entries_unpruned ON briskwarden_entries (at) WHERE leaf IS NOT NULL;
CREATE OR REPLACE FUNCTION briskwarden_entry_stays() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
	IF TG_OP = 'DELETE' OR (NEW.number, NEW.id, NEW.at, NEW.kind, NEW.hash) IS DISTINCT FROM (OLD.number, OLD.id, OLD.at, OLD.kind, OLD.hash)
		OR NEW.leaf IS NOT NULL OR NEW.brief IS NOT NULL OR NEW.account <> '' THEN
		RAISE EXCEPTION 'entries are never changed, and pruned whole';
	END IF;
	RETURN NEW;
END $$;
`, `
DROP INDEX briskwarden_facts_by_account;
CREATE INDEX briskwarden_facts_by_account ON briskwarden_facts (account, kind) WHERE kind IN ('session', 'outgoing', 'member');
`}

const (
	// writing is the advisory lock that one transaction at a time holds, "BWst" as a number.
	writing = 0x42577374
	// channel is where keys of rows that changed are told.
	channel = "briskwarden_changes"
)

// Store is a store.Store in a database.
type Store struct {
	pool *pgxpool.Pool
	// self names this connection of the program, so that it leaves out what it changed itself.
	self string
}

// Open opens the database that a URL or a connection string names (as libpq reads them), and
// makes the tables where they are missing.
func Open(ctx context.Context, at string) (*Store, error) {
	s, err := connect(ctx, at, "off")
	if err != nil {
		return nil, err
	}
	if err := s.migrate(ctx); err != nil {
		s.pool.Close()
		return nil, err
	}
	return s, nil
}

// Read opens the database to be looked at, by somebody who may read its tables and no more. What is written to it is an
// error, and so is a database that a door of this version has not brought to its form.
func Read(ctx context.Context, at string) (*Store, error) {
	s, err := connect(ctx, at, "on")
	if err != nil {
		return nil, err
	}
	form := 0
	err = s.pool.QueryRow(ctx, "SELECT max(form) FROM briskwarden_form").Scan(&form)
	if undefined := new(pgconn.PgError); errors.As(err, &undefined) && undefined.Code == "42P01" { // undefined_table
		err = errors.New("the database has no store: a door makes it when it starts")
	}
	if err == nil && form != len(migrations) {
		err = fmt.Errorf("the database is of another version of this program (form %d, and this one reads %d): a door of this version brings an "+
			"older one to its form when it starts", form, len(migrations))
	}
	if err != nil {
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
	config.ConnConfig.RuntimeParams["application_name"] = "briskwarden"
	config.ConnConfig.RuntimeParams["default_transaction_read_only"] = readOnly
	config.ConnConfig.RuntimeParams["synchronous_commit"] = "on" // what was acknowledged survives a crash
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	return &Store{pool: pool, self: journal.NewID()}, nil
}

// migrate brings the tables to the newest form, one door at a time.
func (s *Store) migrate(ctx context.Context) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", writing); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "CREATE TABLE IF NOT EXISTS briskwarden_form (form int NOT NULL)"); err != nil {
			return err
		}
		form := 0
		if err := tx.QueryRow(ctx, "SELECT coalesce(max(form), 0) FROM briskwarden_form").Scan(&form); err != nil {
			return err
		}
		if form > len(migrations) {
			return fmt.Errorf("the database is of a newer version of this program (form %d, and this one knows %d)", form, len(migrations))
		}
		for ; form < len(migrations); form++ {
			if _, err := tx.Exec(ctx, migrations[form]); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, "INSERT INTO briskwarden_form VALUES ($1)", form+1); err != nil {
				return err
			}
		}
		return nil
	})
}

// Close implements store.Store.
func (s *Store) Close() error {
	s.pool.Close()
	return nil
}

// querier is what rows are read through: the pool or a transaction.
type querier interface {
	Query(ctx context.Context, query string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, query string, args ...any) pgx.Row
}

const columns = "kind, key, account, device, due, value"

func scanRow(from pgx.Row) (store.Row, error) {
	var row store.Row
	var due *time.Time
	err := from.Scan(&row.Kind, &row.Key.Key, &row.Account, &row.Device, &due, &row.Value)
	if due != nil {
		row.Due = due.UTC()
	}
	if errors.Is(err, pgx.ErrNoRows) {
		err = store.ErrNotFound
	}
	return row, err
}

func get(ctx context.Context, from querier, key store.Key) (store.Row, error) {
	return scanRow(from.QueryRow(ctx, "SELECT "+columns+" FROM briskwarden_facts WHERE kind = $1 AND key = $2", string(key.Kind), key.Key))
}

// Get implements store.Reader.
func (s *Store) Get(ctx context.Context, key store.Key) (store.Row, error) {
	return get(ctx, s.pool, key)
}

// List implements store.Reader.
func (s *Store) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	return list(ctx, s.pool, q)
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

func list(ctx context.Context, from querier, q store.Query) ([]store.Row, error) {
	var c clause
	c.add("kind = ?", string(q.Kind))
	c.add("key > ?", q.After)
	if q.Prefix != "" {
		c.add("starts_with(key, ?)", q.Prefix)
		c.add("key >= ?", q.Prefix)
		c.add("key < ?", q.Prefix+"\U0010ffff")
	}
	if q.Account != "" {
		c.add("account = ?", q.Account)
	}
	if q.Device != "" {
		c.add("device = ? AND device <> ''", q.Device)
	}
	if !q.DueBy.IsZero() {
		c.add("due <= ?", q.DueBy)
	}
	rows, err := from.Query(ctx, "SELECT "+columns+" FROM briskwarden_facts"+c.where()+" ORDER BY key"+limit(q.Limit), c.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (store.Row, error) { return scanRow(row) })
}

// Update implements store.Store.
func (s *Store) Update(ctx context.Context, change func(store.Tx) error) error {
	return pgx.BeginFunc(ctx, s.pool, func(begun pgx.Tx) error {
		if _, err := begun.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", writing); err != nil {
			return err
		}
		t := &tx{tx: begun, ctx: ctx, changed: map[store.Key]*store.Row{}}
		if err := change(t); err != nil {
			return err
		}
		if err := t.flush(); err != nil {
			return err
		}
		return t.tell(s.self)
	})
}

// tx gathers what changes, and sends all of it at the end in few round trips.
type tx struct {
	tx      pgx.Tx
	ctx     context.Context
	changed map[store.Key]*store.Row
	entries []journal.Entry
}

// Get implements store.Reader.
func (t *tx) Get(ctx context.Context, key store.Key) (store.Row, error) {
	if row, changed := t.changed[key]; changed {
		if row == nil {
			return store.Row{}, store.ErrNotFound
		}
		return *row, nil
	}
	return get(ctx, t.tx, key)
}

// List implements store.Reader. What was changed before is sent first.
func (t *tx) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	if err := t.send(); err != nil {
		return nil, err
	}
	return list(ctx, t.tx, q)
}

// Put implements store.Tx.
func (t *tx) Put(row store.Row) error {
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

// send sends the rows that were changed. They stay in changed, whose keys are told at the end.
func (t *tx) send() error {
	var kinds, keys, accounts, devices, gone, goneKeys []string
	var dues []*time.Time
	var values [][]byte
	for key, row := range t.changed {
		if row == nil {
			gone, goneKeys = append(gone, string(key.Kind)), append(goneKeys, key.Key)
			continue
		}
		var due *time.Time
		if !row.Due.IsZero() {
			due = &row.Due
		}
		kinds, keys, accounts = append(kinds, string(row.Kind)), append(keys, row.Key.Key), append(accounts, row.Account)
		devices, dues, values = append(devices, row.Device), append(dues, due), append(values, row.Value)
	}
	var batch pgx.Batch
	if len(gone) > 0 {
		batch.Queue("DELETE FROM briskwarden_facts f USING unnest($1::text[], $2::text[]) AS g (kind, key)"+
			" WHERE f.kind = g.kind AND f.key = g.key", gone, goneKeys)
	}
	if len(keys) > 0 {
		batch.Queue("INSERT INTO briskwarden_facts SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::text[],"+
			" $5::timestamptz[], $6::bytea[])"+
			" ON CONFLICT (kind, key) DO UPDATE SET account = excluded.account,"+
			" device = excluded.device, due = excluded.due, value = excluded.value",
			kinds, keys, accounts, devices, dues, values)
	}
	if batch.Len() == 0 {
		return nil
	}
	return t.tx.SendBatch(t.ctx, &batch).Close()
}

// flush sends what was changed, and moves the head behind the new entries.
func (t *tx) flush() error {
	if err := t.send(); err != nil || len(t.entries) == 0 {
		return err
	}
	head, err := scanHead(t.tx.QueryRow(t.ctx, "SELECT head FROM briskwarden_head"))
	if err != nil {
		return err
	}
	head.Append(t.entries)
	text, err := head.MarshalText()
	if err != nil {
		return err
	}
	n := len(t.entries)
	numbers, ids, ats, kinds := make([]int64, n), make([]string, n), make([]time.Time, n), make([]int16, n)
	accounts, leaves, hashes, briefs := make([]string, n), make([][]byte, n), make([][]byte, n), make([][]byte, n)
	for i := range t.entries {
		e := &t.entries[i]
		numbers[i], ids[i], ats[i], kinds[i], accounts[i] = e.Number, e.ID, e.At, int16(e.Kind), e.Account
		leaves[i], hashes[i], briefs[i] = e.Leaf, e.Hash[:], e.Brief
	}
	var batch pgx.Batch
	batch.Queue("INSERT INTO briskwarden_entries SELECT * FROM unnest($1::bigint[], $2::text[], $3::timestamptz[], $4::smallint[],"+
		" $5::text[], $6::bytea[], $7::bytea[], $8::bytea[])", numbers, ids, ats, kinds, accounts, leaves, hashes, briefs)
	batch.Queue("UPDATE briskwarden_head SET head = $1", string(text))
	return t.tx.SendBatch(t.ctx, &batch).Close()
}

// Prune implements store.Tx.
func (t *tx) Prune(before time.Time, most int) (numbers []int64, err error) {
	rows, err := t.tx.Query(t.ctx, "UPDATE briskwarden_entries SET leaf = NULL, brief = NULL, account = '' WHERE number IN"+
		" (SELECT number FROM briskwarden_entries WHERE at < $1 AND leaf IS NOT NULL AND kind <> $3 ORDER BY at LIMIT $2) RETURNING number",
		before, most, int16(journal.Pruned))
	if err == nil {
		numbers, err = pgx.CollectRows(rows, pgx.RowTo[int64])
	}
	slices.Sort(numbers)
	return numbers, err
}

// longestNotice is how long a notification may be, in bytes (PostgreSQL: shorter than 8000).
const longestNotice = 7900

// change is what a notification says: who changed which rows. All says that they were too many
// to name.
type change struct {
	By   string      `json:"by"`
	Keys []store.Key `json:"keys,omitempty"`
	All  bool        `json:"all,omitzero"`
}

// tell notifies the others of the keys that were changed, when the transaction ends.
func (t *tx) tell(self string) error {
	const most = 10_000 // beyond that they are told to forget all
	send := func(c change) error {
		text, err := json.Marshal(c)
		if err == nil {
			_, err = t.tx.Exec(t.ctx, "SELECT pg_notify($1, $2)", channel, string(text))
		}
		return err
	}
	if len(t.changed) > most {
		return send(change{By: self, All: true})
	}
	told, size := change{By: self}, 0
	for key := range t.changed {
		length := 6*(len(key.Kind)+len(key.Key)) + 20 // as JSON, at the worst
		if length > longestNotice {
			return send(change{By: self, All: true})
		}
		if size+length > longestNotice-100 && len(told.Keys) > 0 {
			if err := send(told); err != nil {
				return err
			}
			told.Keys, size = nil, 0
		}
		told.Keys, size = append(told.Keys, key), size+length
	}
	if len(told.Keys) == 0 {
		return nil
	}
	return send(told)
}

// IsShared implements store.Store.
func (s *Store) IsShared() bool { return true }

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
	var c change
	switch err := json.Unmarshal([]byte(payload), &c); {
	case err != nil || c.All && c.By != s.self:
		w.Lost()
		w.Found()
	case c.By != s.self:
		w.Changed(c.Keys)
	}
}

func scanHead(row pgx.Row) (head journal.Head, err error) {
	var text string
	if err := row.Scan(&text); err != nil {
		return head, err
	}
	return head, head.UnmarshalText([]byte(text))
}

// Head implements store.Store.
func (s *Store) Head(ctx context.Context) (journal.Head, error) {
	return scanHead(s.pool.QueryRow(ctx, "SELECT head FROM briskwarden_head"))
}

const entryColumns, bareColumns = "number, id, at, kind, account, leaf, hash, brief", "number, id, at, kind, account, NULL, hash, brief"

func scanEntry(row pgx.Row) (journal.Entry, error) {
	var e journal.Entry
	var kind int16
	var hash []byte
	err := row.Scan(&e.Number, &e.ID, &e.At, &kind, &e.Account, &e.Leaf, &hash, &e.Brief)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return e, store.ErrNotFound
	case err != nil:
		return e, err
	case len(hash) != tlog.HashSize:
		return e, fmt.Errorf("entry %d has no hash", e.Number)
	}
	e.At, e.Kind, e.Hash = e.At.UTC(), journal.Kind(kind), tlog.Hash(hash)
	return e, nil
}

// Entry implements store.Store.
func (s *Store) Entry(ctx context.Context, id string) (journal.Entry, error) {
	return scanEntry(s.pool.QueryRow(ctx, "SELECT "+entryColumns+" FROM briskwarden_entries WHERE id = $1", id))
}

// Entries implements store.Store.
func (s *Store) Entries(ctx context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	var c clause
	if f.After != 0 {
		c.add("number >= ?", f.After) // else one with a number below 0, which is none of the journal's, is seen too
	}
	if f.Kind != 0 {
		c.add("kind = ?", int16(f.Kind))
	}
	if f.Account != "" {
		c.add("account = ?", f.Account)
	}
	if !f.From.IsZero() {
		c.add("at >= ?", f.From)
	}
	if !f.To.IsZero() {
		c.add("at < ?", f.To)
	}
	columns := entryColumns
	if f.Bare || f.Match != nil {
		columns = bareColumns // those that match get theirs one by one
	}
	text := "SELECT " + columns + " FROM briskwarden_entries" + c.where() + " ORDER BY number"
	if f.Latest {
		text += " DESC"
	}
	if f.Match == nil {
		text += limit(f.Limit)
	}
	return func(yield func(journal.Entry, error) bool) {
		rows, err := s.pool.Query(ctx, text, c.args...)
		if err != nil {
			yield(journal.Entry{}, err)
			return
		}
		defer rows.Close()
		told := 0
		for rows.Next() {
			e, err := scanEntry(rows)
			switch {
			case err != nil || f.Match == nil:
			case !f.Match(&e):
				continue
			case !f.Bare:
				err = s.pool.QueryRow(ctx, "SELECT leaf FROM briskwarden_entries WHERE number = $1", e.Number).Scan(&e.Leaf)
			}
			if told++; !yield(e, err) || err != nil || told == f.Limit {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(journal.Entry{}, err)
		}
	}
}

// Check reports what keeps a database from being opened, and changes nothing in it.
func Check(ctx context.Context, at string) error {
	conn, err := pgx.Connect(ctx, at)
	if err != nil {
		return err
	}
	return errors.Join(conn.Ping(ctx), conn.Close(ctx))
}
