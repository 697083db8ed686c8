package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"

	"github.com/briskwarden/briskwarden/journal"
)

// LimitTo lets the file have no more pages than it has and so many, as on a disk that is full; a
// negative number sets no limit.
func (s *Store) LimitTo(ctx context.Context, more int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	pages, most := 0, 1<<30
	if err := s.conn.QueryRowContext(ctx, "PRAGMA page_count").Scan(&pages); err != nil {
		return err
	}
	if more >= 0 {
		most = pages + more
	}
	return s.conn.QueryRowContext(ctx, fmt.Sprintf("PRAGMA max_page_count = %d", most)).Scan(&most)
}

// SetRun makes runs of the index so small.
func (s *Store) SetRun(entries int) { s.indexer.inRun = entries }

// Runs waits until the index is written and returns how many runs of each level there are.
func (s *Store) Runs(ctx context.Context) (map[int]int, error) {
	if err := s.index(ctx); err != nil {
		return nil, err
	}
	runs, err := readRuns(ctx, s.db)
	levels := map[int]int{}
	for _, r := range runs {
		levels[r.level]++
	}
	return levels, err
}

// Changes is how many records of changes there are that are not in their place.
func (s *Store) Changes(ctx context.Context) (n int, err error) {
	return n, s.db.QueryRowContext(ctx, "SELECT count(*) FROM changes").Scan(&n)
}

// WriteFirstForm writes a file as the first version of this program did.
func WriteFirstForm(path string, entries []journal.Entry) (err error) {
	db, err := connect(path, url.Values{})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	exec := func(query string, args ...any) {
		if err == nil {
			_, err = db.Exec(query, args...)
		}
	}
	exec(migrations[0].text + fmt.Sprintf("PRAGMA user_version = 1; PRAGMA application_id = %d;", application))
	exec("INSERT INTO facts VALUES ('account', 'liv', 'liv', '', NULL, ?)", []byte(`{"name":"liv"}`))
	var head journal.Head
	head.Append(entries)
	for _, e := range entries {
		var leaf any = e.Leaf
		if e.Leaf == nil {
			leaf = sql.NullString{}
		}
		exec("INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?)", e.Number, e.ID, e.At.UnixMicro(), int64(e.Kind), e.Account, leaf, e.Hash[:])
	}
	text, _ := head.MarshalText()
	exec("UPDATE head SET head = ?", string(text))
	return err
}
