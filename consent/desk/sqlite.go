package desk

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/url"
	"strings"

	"golang.org/x/mod/sumdb/tlog"
	_ "modernc.org/sqlite" // the driver, which needs no C
)

// formatVersion is kept as SQLite's user_version. Version 1 had the acts alone, each with
// the hash of the one before.
const formatVersion, chainedVersion = 2, 1

// actsTable and its triggers keep the record from being edited by mistake; that it was not
// edited on purpose the tree tells.
const actsTable = `
CREATE TABLE acts (number INTEGER PRIMARY KEY, act TEXT NOT NULL) STRICT;
CREATE TRIGGER acts_stay BEFORE UPDATE ON acts BEGIN SELECT RAISE(ABORT, 'acts are never changed'); END;
CREATE TRIGGER acts_remain BEFORE DELETE ON acts BEGIN SELECT RAISE(ABORT, 'acts are never deleted'); END;`

// besideActs are the hashes of the tree and what the acts add up to.
const besideActs = `
CREATE TABLE hashes (position INTEGER PRIMARY KEY, hash BLOB NOT NULL) STRICT;
CREATE TABLE head (one INTEGER PRIMARY KEY CHECK (one = 1), size INTEGER NOT NULL, root BLOB NOT NULL) STRICT;
CREATE TABLE clients (name TEXT PRIMARY KEY, bar INTEGER NOT NULL, imported INTEGER NOT NULL, ever INTEGER NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE requests (number INTEGER PRIMARY KEY, client TEXT NOT NULL, asked TEXT NOT NULL, account TEXT NOT NULL,
	until INTEGER NOT NULL, answer INTEGER NOT NULL) STRICT;
CREATE INDEX waiting_by_client ON requests (client, asked, until) WHERE answer = 0;
CREATE INDEX waiting_by_account ON requests (account, client, asked) WHERE answer = 0;
CREATE TABLE approvals (act INTEGER PRIMARY KEY, client TEXT NOT NULL, account TEXT NOT NULL, request INTEGER NOT NULL) STRICT;
CREATE INDEX approvals_by_client ON approvals (client, account);
CREATE TABLE grants (client TEXT NOT NULL, account TEXT NOT NULL, resource TEXT NOT NULL, scopes TEXT NOT NULL, redirect TEXT NOT NULL,
	since INTEGER NOT NULL, last_used INTEGER NOT NULL, requests TEXT NOT NULL, PRIMARY KEY (client, account, resource)) STRICT, WITHOUT ROWID;
PRAGMA user_version = 2;`

// File is a Store in one SQLite file, which several processes may share.
type File struct {
	db *sql.DB
	// instead is the record where the file has no tables of this form: it is empty, or of the
	// first form and only read.
	instead *Memory
}

// OpenFile opens a file of acts, and makes it where it is missing. A record of the first
// form is carried over, once. Where the end of the record is not as it was kept, that is an
// error; Desk.Verify looks at all of it.
func OpenFile(path string) (*File, error) {
	// An act that was acknowledged survives a crash (synchronous), and a writer waits for
	// others instead of failing (busy_timeout).
	return openFile(path, (*File).lay,
		url.Values{"_txlock": {"immediate"}, "_pragma": {"busy_timeout(20000)", "journal_mode(WAL)", "synchronous(FULL)"}})
}

// ReadFile opens a file of acts to be looked at: it writes nothing, so that those who may
// only read the file can. What is appended to it is an error. An empty file is an empty
// record. A record of the first form is read whole.
func ReadFile(path string) (*File, error) {
	f, err := openFile(path, (*File).look, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(20000)", "query_only(1)"}})
	if err == nil || errors.Is(err, errBroken) {
		return f, err
	}
	// In a folder where nothing can be written, SQLite reads a file in WAL mode as one that
	// nobody changes (https://sqlite.org/wal.html#read_only_databases).
	f, again := openFile(path, (*File).look, url.Values{"mode": {"ro"}, "immutable": {"1"}})
	if again != nil {
		return nil, err
	}
	return f, nil
}

func openFile(path string, prepare func(*File) error, options url.Values) (*File, error) {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: url.PathEscape(path), RawQuery: options.Encode()}).String())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	f := &File{db: db}
	if err := prepare(f); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	return f, nil
}

// look prepares a file that is only read.
func (f *File) look() error {
	version, tables, err := versionOf(f.db)
	switch {
	case err != nil:
		return err
	case version == 0 && tables == 0:
		f.instead = new(Memory)
		return nil
	case version == chainedVersion:
		texts, err := (&table{from: f.db, ctx: context.Background()}).chained()
		if err != nil {
			return err
		}
		f.instead = new(Memory)
		return f.instead.update(context.Background(), func(l ledger) error { return carry(l, texts) })
	case version != formatVersion:
		return unknownVersion(version)
	}
	return f.checkEnd()
}

// checkEnd looks at the end of the record, once; each update looks at it again.
func (f *File) checkEnd() error {
	return f.view(context.Background(), func(l ledger) error {
		_, err := check(l)
		return err
	})
}

// versionOf reads which form a file has, and how many tables.
func versionOf(from querier) (version, tables int, err error) {
	return version, tables, errors.Join(
		from.QueryRowContext(context.Background(), "PRAGMA user_version").Scan(&version),
		from.QueryRowContext(context.Background(), "SELECT count(*) FROM sqlite_schema").Scan(&tables),
	)
}

func unknownVersion(version int) error {
	return fmt.Errorf("the file is no record of consent that this program knows (version %d)", version)
}

// lay makes the tables where the file is new, and carries an older record over.
func (f *File) lay() error {
	tx, err := f.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	version, tables, err := versionOf(tx)
	l := &table{from: tx, ctx: context.Background()}
	switch {
	case err != nil:
		return err
	case version == formatVersion:
		if err := tx.Rollback(); err != nil {
			return err
		}
		return f.checkEnd()
	case version == 0 && tables == 0:
		if _, err := tx.Exec(actsTable + besideActs); err != nil {
			return err
		}
		err = seal(l, new(head))
	case version == chainedVersion:
		var texts []string
		if texts, err = l.chained(); err != nil {
			return err
		}
		if _, err := tx.Exec(besideActs); err != nil {
			return err
		}
		l.carried = true
		err = carry(l, texts)
	default:
		return unknownVersion(version)
	}
	return errors.Join(err, l.closed(), commitIf(tx, err))
}

func commitIf(tx *sql.Tx, err error) error {
	if err != nil {
		return nil
	}
	return tx.Commit()
}

func (f *File) view(ctx context.Context, look func(ledger) error) error {
	if f.instead != nil {
		return f.instead.view(ctx, look)
	}
	// One transaction sees the record at one moment, also while another process appends.
	conn, err := f.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "BEGIN DEFERRED"); err != nil {
		return err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	l := &table{from: conn, ctx: ctx}
	return errors.Join(look(l), l.closed())
}

func (f *File) update(ctx context.Context, change func(ledger) error) error {
	if f.instead != nil {
		return errors.New("attempt to write a readonly database")
	}
	tx, err := f.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	l := &table{from: tx, ctx: ctx}
	err = change(l)
	return errors.Join(err, l.closed(), commitIf(tx, err))
}

// Close implements Store.
func (f *File) Close() error { return f.db.Close() }

// querier is a database, a connection or a transaction.
type querier interface {
	PrepareContext(ctx context.Context, query string) (*sql.Stmt, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// table is a ledger in the tables of a file, within one transaction.
type table struct {
	from querier
	ctx  context.Context
	// prepared are the statements that were made ready, by their text.
	prepared map[string]*sql.Stmt
	// carried says that the acts are there already, from a record of the first form.
	carried bool
}

// prepare makes a statement ready, once in a transaction.
func (t *table) prepare(query string) (*sql.Stmt, error) {
	if s := t.prepared[query]; s != nil {
		return s, nil
	}
	s, err := t.from.PrepareContext(t.ctx, query)
	if err != nil {
		return nil, err
	}
	if t.prepared == nil {
		t.prepared = map[string]*sql.Stmt{}
	}
	t.prepared[query] = s
	return s, nil
}

// closed frees the statements.
func (t *table) closed() error {
	var errs []error
	for _, s := range t.prepared {
		errs = append(errs, s.Close())
	}
	t.prepared = nil
	return errors.Join(errs...)
}

func (t *table) exec(query string, args ...any) error {
	s, err := t.prepare(query)
	if err != nil {
		return err
	}
	_, err = s.ExecContext(t.ctx, args...)
	return err
}

// one scans one row, and reports whether there is one.
func (t *table) one(query string, args []any, into ...any) (bool, error) {
	s, err := t.prepare(query)
	if err != nil {
		return false, err
	}
	err = s.QueryRowContext(t.ctx, args...).Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return err == nil, err
}

// all scans all rows, each into what fields returns of it.
func all[R any](t *table, query string, args []any, fields func(*R) []any) ([]R, error) {
	s, err := t.prepare(query)
	if err != nil {
		return nil, err
	}
	rows, err := s.QueryContext(t.ctx, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []R
	for rows.Next() {
		var r R
		if err := rows.Scan(fields(&r)...); err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, rows.Err()
}

// where joins conditions on columns that are asked for.
type where struct {
	text []string
	args []any
}

func (w *where) equal(column, value string) {
	if value != "" {
		w.text, w.args = append(w.text, column+" = ?"), append(w.args, value)
	}
}

func (w *where) add(text string, args ...any) {
	w.text, w.args = append(w.text, text), append(w.args, args...)
}

// String returns the WHERE clause, "" where nothing is asked for.
func (w *where) String() string {
	if len(w.text) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(w.text, " AND ")
}

// ReadHashes implements tlog.HashReader.
func (t *table) ReadHashes(positions []int64) ([]tlog.Hash, error) {
	hashes := make([]tlog.Hash, len(positions))
	for i, p := range positions {
		var hash []byte
		is, err := t.one("SELECT hash FROM hashes WHERE position = ?", []any{p}, &hash)
		switch {
		case err != nil:
			return nil, err
		case !is || len(hash) != tlog.HashSize:
			return nil, fmt.Errorf("%w: hash %d is missing", errBroken, p)
		}
		hashes[i] = tlog.Hash(hash)
	}
	return hashes, nil
}

func (t *table) head() (h head, err error) {
	var root []byte
	is, err := t.one("SELECT size, root FROM head", nil, &h.size, &root)
	switch {
	case err != nil:
		return h, err
	case !is || len(root) != tlog.HashSize:
		return h, fmt.Errorf("%w: its head is missing", errBroken)
	}
	h.root = tlog.Hash(root)
	return h, nil
}

func (t *table) setHead(h head) error {
	return t.exec("INSERT INTO head VALUES (1, ?, ?) ON CONFLICT DO UPDATE SET size = excluded.size, root = excluded.root", h.size, h.root[:])
}

func (t *table) act(number int64) (text string, err error) {
	_, err = t.one("SELECT act FROM acts WHERE number = ?", []any{number}, &text)
	return text, err
}

func (t *table) acts() iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		s, err := t.prepare("SELECT number, act FROM acts ORDER BY number")
		if err != nil {
			yield("", err)
			return
		}
		rows, err := s.QueryContext(t.ctx)
		if err != nil {
			yield("", err)
			return
		}
		defer rows.Close()
		for next := int64(1); rows.Next(); next++ {
			var number int64
			var text string
			err := rows.Scan(&number, &text)
			if err == nil && number != next {
				err = fmt.Errorf("%w: act %d is missing", errBroken, next)
			}
			if !yield(text, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield("", err)
		}
	}
}

// chained reads the acts of a record of the first form.
func (t *table) chained() ([]string, error) {
	var texts []string
	for text, err := range t.acts() {
		if err != nil {
			return nil, errors.Join(err, t.closed())
		}
		texts = append(texts, text)
	}
	return texts, t.closed()
}

func (t *table) append(number int64, text string, hashes []tlog.Hash) error {
	if !t.carried {
		if err := t.exec("INSERT INTO acts (number, act) VALUES (?, ?)", number, text); err != nil {
			return err
		}
	}
	for i, hash := range hashes {
		position := tlog.StoredHashIndex(0, number-1) + int64(i)
		if err := t.exec("INSERT INTO hashes (position, hash) VALUES (?, ?)", position, hash[:]); err != nil {
			return err
		}
	}
	return nil
}

const clientColumns = "SELECT name, bar, imported, ever FROM clients"

func (r *clientRow) fields() []any { return []any{&r.name, &r.bar, &r.imported, &r.ever} }

func (t *table) client(name string) (r clientRow, is bool, err error) {
	is, err = t.one(clientColumns+" WHERE name = ?", []any{name}, r.fields()...)
	return r, is, err
}

func (t *table) clients() ([]clientRow, error) {
	return all(t, clientColumns+" ORDER BY name", nil, (*clientRow).fields)
}

func (t *table) setClient(r clientRow) error {
	return t.exec("REPLACE INTO clients (name, bar, imported, ever) VALUES (?, ?, ?, ?)", r.name, r.bar, r.imported, r.ever)
}

const requestColumns = "SELECT number, client, asked, account, until, answer FROM requests"

func (r *requestRow) fields() []any {
	return []any{&r.number, &r.client, &r.asked, &r.account, &r.until, &r.answer}
}

func (t *table) request(number int64) (r requestRow, is bool, err error) {
	is, err = t.one(requestColumns+" WHERE number = ?", []any{number}, r.fields()...)
	return r, is, err
}

func (f requestFilter) where() *where {
	w := new(where)
	if !f.answered {
		w.add("answer = 0")
	}
	w.equal("client", f.client)
	w.equal("account", f.account)
	w.equal("asked", f.asked)
	return w
}

func (t *table) requests(f requestFilter) ([]requestRow, error) {
	w := f.where()
	return all(t, requestColumns+w.String()+" ORDER BY number", w.args, (*requestRow).fields)
}

func (t *table) count(f requestFilter, beyond int64) (n int, err error) {
	w := f.where()
	w.add("until > ?", beyond)
	_, err = t.one("SELECT count(*) FROM requests"+w.String(), w.args, &n)
	return n, err
}

func (t *table) setRequest(r requestRow) error {
	return t.exec("REPLACE INTO requests (number, client, asked, account, until, answer) VALUES (?, ?, ?, ?, ?, ?)",
		r.number, r.client, r.asked, r.account, r.until, r.answer)
}

func (r *approvalRow) fields() []any { return []any{&r.act, &r.client, &r.account, &r.request} }

func (t *table) approvals(f approvalFilter) ([]approvalRow, error) {
	w := new(where)
	w.equal("client", f.client)
	if f.request != 0 {
		w.add("request = ?", f.request)
	}
	if f.covers != "" {
		w.add("account IN ('', ?)", f.covers)
	}
	return all(t, "SELECT act, client, account, request FROM approvals"+w.String()+" ORDER BY act", w.args, (*approvalRow).fields)
}

func (t *table) setApproval(r approvalRow) error {
	return t.exec("INSERT INTO approvals (act, client, account, request) VALUES (?, ?, ?, ?)", r.act, r.client, r.account, r.request)
}

func (t *table) dropApproval(act int64) error {
	return t.exec("DELETE FROM approvals WHERE act = ?", act)
}

const grantColumns = "SELECT client, account, resource, scopes, redirect, since, last_used, requests FROM grants"

// keptGrant is a grantRow as it is kept: scopes with spaces between (RFC 6749 §3.3), numbers
// as JSON.
type keptGrant struct {
	grantRow
	scopeList, requestList string
}

func (r *keptGrant) fields() []any {
	return []any{&r.client, &r.account, &r.resource, &r.scopeList, &r.redirect, &r.since, &r.lastUsed, &r.requestList}
}

func (r *keptGrant) read() (grantRow, error) {
	r.scopes = strings.Fields(r.scopeList)
	if r.requestList == "null" {
		return r.grantRow, nil
	}
	return r.grantRow, json.Unmarshal([]byte(r.requestList), &r.requests)
}

func (t *table) grant(key grantKey) (grantRow, bool, error) {
	var r keptGrant
	is, err := t.one(grantColumns+" WHERE client = ? AND account = ? AND resource = ?",
		[]any{key.client, key.account, key.resource}, r.fields()...)
	if err != nil || !is {
		return grantRow{}, false, err
	}
	g, err := r.read()
	return g, true, err
}

func (t *table) grants(client string) ([]grantRow, error) {
	w := new(where)
	w.equal("client", client)
	kept, err := all(t, grantColumns+w.String()+" ORDER BY client, account, resource", w.args, (*keptGrant).fields)
	var list []grantRow
	for i := range kept {
		g, wrong := kept[i].read()
		if err = errors.Join(err, wrong); err != nil {
			return nil, err
		}
		list = append(list, g)
	}
	return list, err
}

func (t *table) setGrant(g grantRow) error {
	numbers, err := json.Marshal(g.requests)
	if err != nil {
		return err
	}
	return t.exec("REPLACE INTO grants (client, account, resource, scopes, redirect, since, last_used, requests) VALUES (?, ?, ?, ?, ?, "+
		"?, ?, ?)",
		g.client, g.account, g.resource, strings.Join(g.scopes, " "), g.redirect, g.since, g.lastUsed, string(numbers))
}

func (t *table) dropGrant(key grantKey) error {
	return t.exec("DELETE FROM grants WHERE client = ? AND account = ? AND resource = ?", key.client, key.account, key.resource)
}
