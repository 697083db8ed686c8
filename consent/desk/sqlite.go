package desk

import (
	"context"
	"database/sql"
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
	// empty says that there is no table in it yet.
	empty bool
}

// OpenFile opens a file of acts, and makes it where it is missing.
func OpenFile(path string) (*File, error) {
	// An act that was acknowledged survives a crash (synchronous), and a writer waits for
	// others instead of failing (busy_timeout).
	return openFile(path, (*File).lay,
		url.Values{"_txlock": {"immediate"}, "_pragma": {"busy_timeout(20000)", "journal_mode(WAL)", "synchronous(FULL)"}})
}

// ReadFile opens a file of acts to be looked at: it writes nothing, so that those who may
// only read the file can. What is appended to it is an error. An empty file is an empty
// record.
func ReadFile(path string) (*File, error) {
	f, err := openFile(path, (*File).check, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(20000)", "query_only(1)"}})
	if err == nil {
		return f, nil
	}
	// In a folder where nothing can be written, SQLite reads a file in WAL mode as one that
	// nobody changes (https://sqlite.org/wal.html#read_only_databases).
	f, again := openFile(path, (*File).check, url.Values{"mode": {"ro"}, "immutable": {"1"}})
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

// check refuses a file that is no record, and notes one that is empty.
func (f *File) check() error {
	version, tables, err := versionOf(f.db)
	if err == nil && version == 0 && tables == 0 {
		f.empty = true
		return nil
	}
	return errors.Join(err, known(version))
}

// versionOf reads which form a file has, and how many tables.
func versionOf(from interface {
	QueryRow(query string, args ...any) *sql.Row
}) (version, tables int, err error) {
	return version, tables, errors.Join(
		from.QueryRow("PRAGMA user_version").Scan(&version),
		from.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(&tables),
	)
}

func known(version int) error {
	if version != formatVersion {
		return fmt.Errorf("the file is no record of consent that this program knows (version %d)", version)
	}
	return nil
}

// lay makes the tables where the file is new.
func (f *File) lay() error {
	tx, err := f.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	version, tables, err := versionOf(tx)
	if err != nil || version != 0 || tables > 0 {
		return errors.Join(err, known(version))
	}
	if _, err := tx.Exec(layout); err != nil {
		return err
	}
	return tx.Commit()
}

// Acts implements Store.
func (f *File) Acts(ctx context.Context) ([]Act, error) {
	acts, err := f.acts(ctx, f.db)
	return copies(acts), err
}

type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// acts returns all acts. It reads only the new ones.
func (f *File) acts(ctx context.Context, from queryer) ([]Act, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.empty {
		return nil, nil
	}
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
		a, err := readAct(text)
		if err != nil {
			return nil, fmt.Errorf("act %d cannot be read: %w", number, err)
		}
		if err := follows(acts, &a); err != nil {
			return nil, err
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
	chained, err := Chain(acts, more)
	if err != nil {
		return nil, err
	}
	for i := range chained {
		if _, err := tx.ExecContext(ctx, "INSERT INTO acts (number, act) VALUES (?, ?)", chained[i].Number, chained[i].text); err != nil {
			return nil, err
		}
	}
	return copies(chained), tx.Commit()
}

// Close implements Store.
func (f *File) Close() error { return f.db.Close() }
