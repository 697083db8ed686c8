package desk

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"sync"

	_ "modernc.org/sqlite" // the driver, which needs no C
)

// formatVersion is kept as SQLite's user_version.
const formatVersion = 1

// layout lays out a new file. The triggers keep the record from being edited by
// mistake; that it was not edited on purpose the chain of hashes tells.
const layout = `
CREATE TABLE acts (number INTEGER PRIMARY KEY, act TEXT NOT NULL) STRICT;
CREATE TRIGGER acts_stay BEFORE UPDATE ON acts BEGIN SELECT RAISE(ABORT, 'acts are never changed'); END;
CREATE TRIGGER acts_remain BEFORE DELETE ON acts BEGIN SELECT RAISE(ABORT, 'acts are never deleted'); END;
PRAGMA user_version = 1;`

// File is a Store in one SQLite file, which several processes may share.
type File struct {
	db *sql.DB
	mu sync.Mutex
	// read are the acts that have been read; since acts stay as they are, only those
	// behind them are read again.
	read []Act
}

// OpenFile opens a file of acts, and makes it where it is missing.
func OpenFile(path string) (*File, error) {
	// An act that was acknowledged survives a crash (synchronous), and who writes
	// waits for others instead of failing (busy_timeout).
	options := url.Values{"_txlock": {"immediate"}, "_pragma": {"busy_timeout(20000)", "journal_mode(WAL)", "synchronous(FULL)"}}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: url.PathEscape(path), RawQuery: options.Encode()}).String())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	f := &File{db: db}
	if err := f.lay(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	return f, nil
}

// lay makes the tables where the file is new.
func (f *File) lay() error {
	tx, err := f.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var version, tables int
	if err := tx.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if err := tx.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(&tables); err != nil {
		return err
	}
	switch {
	case version == formatVersion:
		return nil
	case version != 0 || tables > 0:
		return fmt.Errorf("the file is no record of consent that this program knows (version %d)", version)
	}
	if _, err := tx.Exec(layout); err != nil {
		return err
	}
	return tx.Commit()
}

// Acts implements Store.
func (f *File) Acts(ctx context.Context) ([]Act, error) { return f.acts(ctx, f.db) }

type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// acts returns all acts. It reads only the new ones.
func (f *File) acts(ctx context.Context, from queryer) ([]Act, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	last := int64(0)
	if len(f.read) > 0 {
		last = f.read[len(f.read)-1].Number
	}
	rows, err := from.QueryContext(ctx, "SELECT number, act FROM acts WHERE number > ? ORDER BY number", last)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	acts := f.read[:len(f.read):len(f.read)]
	for rows.Next() {
		var number int64
		var text string
		if err := rows.Scan(&number, &text); err != nil {
			return nil, err
		}
		var a Act
		if err := json.Unmarshal([]byte(text), &a); err != nil {
			return nil, fmt.Errorf("act %d cannot be read: %w", number, err)
		}
		acts = append(acts, a)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	f.read = acts
	return acts[:len(acts):len(acts)], nil
}

// Append implements Store.
func (f *File) Append(ctx context.Context, decide func([]Act) ([]Act, error)) ([]Act, error) {
	tx, err := f.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	acts, err := f.acts(ctx, tx)
	if err != nil {
		return nil, err
	}
	more, err := decide(acts)
	if err != nil {
		return nil, err
	}
	chained := Chain(acts, more)
	for i := range chained {
		text, err := json.Marshal(&chained[i])
		if err != nil {
			return nil, err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO acts (number, act) VALUES (?, ?)", chained[i].Number, string(text)); err != nil {
			return nil, err
		}
	}
	return chained, tx.Commit()
}

// Close implements Store.
func (f *File) Close() error { return f.db.Close() }
