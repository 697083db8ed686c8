package postgres

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strconv"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Resembling implements store.Store.
func (s *Store) Resembling(leaf []byte) { s.packing.Resembling(leaf) }

// Heads implements store.Store.
func (s *Store) Heads(ctx context.Context) ([]journal.Head, error) {
	rows, err := s.pool.Query(ctx, `WITH RECURSIVE names (name) AS ((SELECT log FROM entries ORDER BY log LIMIT 1)
		UNION ALL SELECT (SELECT log FROM entries WHERE log > name ORDER BY log LIMIT 1) FROM names WHERE name IS NOT NULL)
		SELECT name, head FROM (SELECT name FROM names WHERE name IS NOT NULL UNION SELECT name FROM logs) AS all_names
		LEFT JOIN logs USING (name) ORDER BY name`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (head journal.Head, err error) {
		var text []byte
		if err := row.Scan(&head.Log, &text); err != nil || text == nil {
			return head, err
		}
		return head, head.UnmarshalBinary(text)
	})
}

const (
	bareColumns  = "log, number, at, kind, account, hash, brief"
	entryColumns = bareColumns + ", id, dictionary, leaf"
)

// scanEntry reads an entry; bare leaves out its ID and its leaf.
func (s *Store) scanEntry(ctx context.Context, row pgx.Row, bare bool) (e journal.Entry, err error) {
	var kind int16
	var hash []byte
	var id uuid.UUID
	var dictionary *int64
	into := []any{&e.Log, &e.Number, &e.At, &kind, &e.Account, &hash, &e.Brief}
	if !bare {
		into = append(into, &id, &dictionary, &e.Leaf)
	}
	err = row.Scan(into...)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return e, store.ErrNotFound
	case err != nil:
		return e, err
	case len(hash) != tlog.HashSize:
		return e, fmt.Errorf("entry %d of the log %s has no hash", e.Number, e.Log)
	}
	e.At, e.Kind, e.Hash = e.At.UTC(), journal.Kind(kind), tlog.Hash(hash)
	if bare {
		return e, nil
	}
	e.ID = id.String()
	if e.Leaf, err = s.unpack(ctx, dictionary, e.Leaf); err != nil {
		return e, fmt.Errorf("entry %d of the log %s: %w", e.Number, e.Log, err)
	}
	return e, nil
}

// Entry implements store.Store.
func (s *Store) Entry(ctx context.Context, id string) (journal.Entry, error) {
	if parsed, err := uuid.Parse(id); err != nil || parsed.String() != id {
		return journal.Entry{}, store.ErrNotFound
	}
	return s.scanEntry(ctx, s.pool.QueryRow(ctx, "SELECT "+entryColumns+" FROM entries WHERE id = $1::uuid", id), false)
}

// query returns what asks for the entries that a filter leaves, as far as a database can look at them.
func query(f journal.Filter, columns string) (text string, args []any) {
	var c clause
	if f.Log != "" {
		c.add("log = ?", f.Log)
		if f.After != 0 {
			c.add("number >= ?", f.After) // else one with a number below 0, which is none of the log's, is seen too
		}
	}
	if f.Kind != 0 {
		condition := "kind = ?"
		if f.Kind != journal.Decision {
			condition += " AND kind <> 1" // for the partial index
		}
		c.add(condition, int16(f.Kind))
	}
	if f.Account != "" {
		// By its hash first, which the index has; the condition behind is for the partial index.
		c.add("hashtext(account) = hashtext(?) AND account = ? AND account <> ''", f.Account)
	}
	if !f.From.IsZero() {
		c.add("at >= ?", f.From)
	}
	if !f.To.IsZero() {
		c.add("at < ?", f.To)
	}
	down := ""
	if f.Latest {
		down = " DESC"
	}
	text = "SELECT " + columns + " FROM entries" + c.where()
	if f.Log != "" {
		text += " ORDER BY number" + down
	} else {
		text += " ORDER BY at" + down + ", log" + down + ", number" + down
	}
	if f.Limit > 0 && f.Match == nil {
		text += " LIMIT " + strconv.Itoa(f.Limit)
	}
	return text, c.args
}

// Entries implements store.Store.
func (s *Store) Entries(ctx context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	columns := entryColumns
	if f.Bare || f.Match != nil {
		columns = bareColumns // those that match get the rest one by one
	}
	text, args := query(f, columns)
	return func(yield func(journal.Entry, error) bool) {
		rows, err := s.pool.Query(ctx, text, args...)
		if err != nil {
			yield(journal.Entry{}, err)
			return
		}
		defer rows.Close()
		told := 0
		for rows.Next() {
			e, err := s.scanEntry(ctx, rows, f.Bare || f.Match != nil)
			switch {
			case err != nil || f.Match == nil:
			case !f.Match(&e):
				continue
			case !f.Bare:
				e, err = s.scanEntry(ctx, s.pool.QueryRow(ctx, "SELECT "+entryColumns+" FROM entries WHERE log = $1 AND number = $2", e.Log, e.Number),
					false)
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
