package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"math"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/internal/packed"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Resembling implements store.Store.
func (s *Store) Resembling(leaf []byte) { s.leaves.Resembling(leaf) }

// An entry's place in the file (its rowid) is the number of its log, and in the lower bits its own: so the entries of a log lie
// together, in order, and no index is needed for it.
const bitsOfNumber = 40 // as many as journal.Head has

func place(log, number int64) int64 { return log<<bitsOfNumber | number }

// numbered is the end of a log, and the number of the log.
type numbered struct {
	journal.Head
	log int64
}

// head returns the end of a log within the transaction. A log that is new gets a number.
func (t *tx) head(log string) (numbered, error) {
	if head, appended := t.heads[log]; appended {
		return head, nil
	}
	if head, known := t.s.heads[log]; known {
		return head, nil
	}
	head := numbered{Head: journal.Head{Log: log}}
	if err := journal.CheckLog(log); err != nil {
		return head, err
	}
	statement, err := t.prepare("SELECT id, head FROM logs WHERE name = ?")
	if err != nil {
		return head, err
	}
	var text []byte
	switch err := statement.QueryRow(log).Scan(&head.log, &text); {
	case errors.Is(err, sql.ErrNoRows):
		empty, err := head.MarshalBinary()
		if err != nil {
			return head, err
		}
		made, err := t.exec("INSERT INTO logs VALUES (NULL, ?, ?)", log, empty)
		if err == nil {
			head.log, err = made.LastInsertId()
		}
		return head, err
	case err != nil:
		return head, err
	}
	return head, head.UnmarshalBinary(text)
}

// dictionary returns what leaves are packed by, kept in the file; nil where that is not known.
func (t *tx) dictionary() (*packed.Dictionary, error) {
	d := t.s.leaves.Next()
	if d == nil || t.s.kept[d.ID] {
		return d, nil
	}
	_, err := t.exec("INSERT INTO dictionaries VALUES (?, ?) ON CONFLICT DO NOTHING", d.ID, d.Text)
	t.added = append(t.added, d.ID)
	return d, err
}

// Append implements store.Tx.
func (t *tx) Append(log string, entries []journal.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	head, err := t.head(log)
	if err != nil {
		return err
	}
	head.Append(entries)
	d, err := t.dictionary()
	if err != nil {
		return err
	}
	for i := range entries {
		e := &entries[i]
		id, err := uuid.Parse(e.ID)
		if err != nil || id.String() != e.ID {
			return fmt.Errorf("the id %q of an entry is no UUID", e.ID)
		}
		var by, brief any
		leaf := e.Leaf
		if d != nil && leaf != nil {
			by, leaf = d.ID, d.Pack(leaf)
		}
		if e.Brief != nil {
			brief = e.Brief
		}
		if _, err := t.exec("INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", place(head.log, e.Number), id[:], e.At.UnixMicro(),
			int64(e.Kind), e.Account, e.Hash[:], brief, by, leaf); err != nil {
			if strings.Contains(err.Error(), "entries.id") {
				return errors.New("the journal has an entry " + e.ID)
			}
			return err
		}
	}
	t.heads[log] = head
	return nil
}

// saveHeads writes the ends of the logs that the transaction appended to.
func (t *tx) saveHeads() error {
	for _, head := range t.heads {
		text, err := head.MarshalBinary()
		if err != nil {
			return err
		}
		if _, err := t.exec("UPDATE logs SET head = ? WHERE id = ?", text, head.log); err != nil {
			return err
		}
	}
	return nil
}

// Prune implements store.Tx.
func (t *tx) Prune(log string, before time.Time, most int) (numbers []int64, err error) {
	of, err := numberOf(t.ctx, t.s.conn, log)
	if err != nil {
		return nil, err
	}
	rows, err := t.s.conn.QueryContext(t.ctx, "SELECT place FROM entries WHERE place >= ? AND place < ? AND at < ? AND leaf IS NOT NULL"+
		" AND kind <> ? ORDER BY place LIMIT ?", place(of, 0), place(of+1, 0), before.UnixMicro(), int64(journal.Pruned), most)
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		var at int64
		if err := rows.Scan(&at); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		numbers = append(numbers, at-place(of, 0))
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	for _, n := range numbers {
		if _, err := t.exec("UPDATE entries SET leaf = NULL, brief = NULL, dictionary = NULL, account = '' WHERE place = ?",
			place(of, n)); err != nil {
			return nil, err
		}
	}
	return numbers, nil
}

// Heads implements store.Store.
func (s *Store) Heads(ctx context.Context) (heads []journal.Head, err error) {
	rows, err := s.db.QueryContext(ctx, `WITH RECURSIVE found (log) AS (SELECT min(place) >> 40 FROM entries
		UNION ALL SELECT (SELECT min(place) >> 40 FROM entries WHERE place >= (log + 1) << 40) FROM found WHERE log IS NOT NULL)
		SELECT coalesce(name, printf('`+nameless+`', every.log)), head
		FROM (SELECT log FROM found WHERE log IS NOT NULL UNION SELECT id FROM logs) AS every
		LEFT JOIN logs ON id = every.log ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var head journal.Head
		var text []byte
		if err := rows.Scan(&head.Log, &text); err != nil {
			return nil, err
		}
		if text != nil {
			if err := head.UnmarshalBinary(text); err != nil {
				return nil, err
			}
		}
		heads = append(heads, head)
	}
	return heads, rows.Err()
}

// nameless names a log whose row is gone, so that its entries are found, and told to be of no head. No door can have such a name.
const nameless = "#%d"

// nameOf returns the name of a log, and numberOf its number: 0 where there is none.
func (s *Store) nameOf(ctx context.Context, log int64) (name string, err error) {
	if name, ok := s.names.Load(log); ok {
		return name.(string), nil
	}
	err = s.db.QueryRowContext(ctx, "SELECT coalesce((SELECT name FROM logs WHERE id = ?), ?)", log, fmt.Sprintf(nameless, log)).Scan(&name)
	if err == nil {
		s.names.Store(log, name)
	}
	return name, err
}

func numberOf(ctx context.Context, from querier, name string) (log int64, err error) {
	_, _ = fmt.Sscanf(name, nameless, &log) // 0 where it is none
	return log, from.QueryRowContext(ctx, "SELECT coalesce((SELECT id FROM logs WHERE name = ?), ?)", name, log).Scan(&log)
}

// Each column costs a third of what reading a row costs, so that as few are read as are asked for.
const (
	barestColumns = "at, account, brief"
	bareColumns   = barestColumns + ", kind, place"
	entryColumns  = bareColumns + ", hash, id, dictionary, leaf"
)

// scanned is a row as it was read. Its texts are of memory that the next one overwrites.
type scanned struct {
	account, hash, brief, id, leaf sql.RawBytes
	place, at, kind                int64
	dictionary                     sql.NullInt64
}

// columns returns those that are read for a filter, and the places for them.
func (x *scanned) columns(f journal.Filter) (names string, into []any) {
	into = []any{&x.at, &x.account, &x.brief, &x.kind, &x.place, &x.hash, &x.id, &x.dictionary, &x.leaf}
	switch {
	case !f.Bare:
		return entryColumns, into
	case f.Log == "" && f.Kind != 0:
		x.kind = int64(f.Kind)
		return barestColumns, into[:3]
	}
	return bareColumns, into[:5]
}

// entry makes an entry of what was scanned, without its leaf.
func (s *Store) entry(ctx context.Context, x *scanned, f journal.Filter) (e journal.Entry, err error) {
	e = journal.Entry{Log: f.Log, Number: x.place & (1<<bitsOfNumber - 1), At: time.UnixMicro(x.at).UTC(), Kind: journal.Kind(x.kind),
		Account: string(x.account)}
	if x.brief != nil {
		e.Brief = append(make([]byte, 0, len(x.brief)), x.brief...)
	}
	if f.Bare {
		return e, nil
	}
	if e.Log, err = s.nameOf(ctx, x.place>>bitsOfNumber); err != nil {
		return e, err
	}
	if len(x.hash) != tlog.HashSize || x.kind < 0 || x.kind > math.MaxUint8 {
		return e, fmt.Errorf("the file is damaged: entry %d of the log %s cannot be read", e.Number, e.Log)
	}
	copy(e.Hash[:], x.hash)
	id, err := uuid.FromBytes(x.id)
	e.ID = id.String()
	return e, err
}

// unpack reads a leaf; one that was pruned is nil.
func (s *Store) unpack(ctx context.Context, dictionary sql.NullInt64, leaf []byte) ([]byte, error) {
	if leaf == nil || !dictionary.Valid {
		return append([]byte(nil), leaf...), nil
	}
	return s.leaves.Unpack(dictionary.Int64, leaf, func() (text []byte, err error) {
		return text, s.db.QueryRowContext(ctx, "SELECT text FROM dictionaries WHERE id = ?", dictionary.Int64).Scan(&text)
	})
}

// where returns the conditions of a filter, as far as a database can look at them, and the order.
func (s *Store) where(ctx context.Context, f journal.Filter) (text string, args []any, err error) {
	var conditions []string
	add := func(condition string, values ...any) {
		conditions, args = append(conditions, condition), append(args, values...)
	}
	order := []string{"at", "place"}
	if f.Log != "" {
		log, err := numberOf(ctx, s.db, f.Log)
		if err != nil {
			return "", nil, err
		}
		add("place >= ? AND place < ?", place(log, f.After), place(log+1, 0))
		order = []string{"place"}
	}
	if f.Kind != 0 {
		add("kind = ?", int64(f.Kind))
		if f.Kind != journal.Decision {
			add("kind <> 1") // for the partial index
		}
	}
	if f.Account != "" {
		add("account = ? AND account <> ''", f.Account) // the latter for the partial index
	}
	if !f.From.IsZero() {
		add("at >= ?", f.From.UnixMicro())
	}
	if !f.To.IsZero() {
		add("at < ?", f.To.UnixMicro())
	}
	if len(conditions) > 0 {
		text = " WHERE " + strings.Join(conditions, " AND ")
	}
	down := ""
	if f.Latest {
		down = " DESC"
	}
	text += " ORDER BY " + strings.Join(order, down+", ") + down
	if f.Limit > 0 && f.Match == nil {
		text, args = text+" LIMIT ?", append(args, f.Limit)
	}
	return text, args, nil
}

// Entries implements store.Store.
func (s *Store) Entries(ctx context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	return func(yield func(journal.Entry, error) bool) {
		if err := s.entries(ctx, f, func(e journal.Entry) bool { return yield(e, nil) }); err != nil {
			yield(journal.Entry{}, err)
		}
	}
}

// entries calls yield for the entries that a filter leaves, until it returns false.
func (s *Store) entries(ctx context.Context, f journal.Filter, yield func(journal.Entry) bool) error {
	x := new(scanned)
	columns, into := x.columns(f)
	conditions, args, err := s.where(ctx, f)
	if err != nil {
		return err
	}
	rows, err := s.db.QueryContext(ctx, "SELECT "+columns+" FROM entries"+conditions, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	var e journal.Entry
	told := 0
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if e, err = s.entry(ctx, x, f); err != nil {
			return err
		}
		if f.Match != nil && !f.Match(&e) {
			continue
		}
		if !f.Bare {
			if e.Leaf, err = s.unpack(ctx, x.dictionary, x.leaf); err != nil {
				return fmt.Errorf("entry %d of the log %s: %w", e.Number, e.Log, err)
			}
		}
		if told++; !yield(e) || told == f.Limit {
			return nil
		}
	}
	return rows.Err()
}

// Entry implements store.Store.
func (s *Store) Entry(ctx context.Context, id string) (e journal.Entry, err error) {
	parsed, err := uuid.Parse(id)
	if err != nil || parsed.String() != id {
		return e, store.ErrNotFound
	}
	rows, err := s.db.QueryContext(ctx, "SELECT "+entryColumns+" FROM entries WHERE id = ?", parsed[:])
	if err != nil {
		return e, err
	}
	defer rows.Close()
	if !rows.Next() {
		if err := rows.Err(); err != nil {
			return e, err
		}
		return e, store.ErrNotFound
	}
	x := new(scanned)
	_, into := x.columns(journal.Filter{})
	if err := rows.Scan(into...); err != nil {
		return e, err
	}
	if e, err = s.entry(ctx, x, journal.Filter{}); err == nil {
		e.Leaf, err = s.unpack(ctx, x.dictionary, x.leaf)
	}
	return e, err
}
