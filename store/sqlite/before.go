package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/s2"
	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/internal/packed"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// A file of the version before kept entries in packed groups, and rows that had changed of late in packed records beside
// their table. CarryOver reads both and writes a file of this version.

// Files of these forms are carried over: the newer differs by an index.
const formBefore, newestBefore = 2, 3

// CarryOver brings a file of the version before to this one. The file as it was is kept beside it, under the name that is
// returned. No door may have it open, which is an error. A file of this version is left as it is, and the name is "".
func CarryOver(ctx context.Context, path string) (kept string, err error) {
	if _, err := os.Stat(path); err != nil {
		return "", fmt.Errorf("there is no store %s", path)
	}
	lock, err := lockFile(path + ".lock")
	if err != nil {
		return "", fmt.Errorf("%s: %w", path, err)
	}
	defer func() { err = errors.Join(err, lock.Close()) }()
	old, err := open(path, url.Values{"_pragma": {"busy_timeout(10000)"}})
	if err != nil {
		return "", err
	}
	id, version, _, err := old.about(ctx)
	switch {
	case err != nil:
		err = fmt.Errorf("%s: %w", path, err)
	case id == application:
		return "", old.Close()
	case id != applicationBefore:
		err = fmt.Errorf("%s is no store of a door", path)
	case version < formBefore || version > newestBefore:
		err = fmt.Errorf("%s is of form %d, which is older than what is carried over: start a door of the version before once", path, version)
	}
	if err != nil {
		return "", errors.Join(err, old.Close())
	}
	return old.renew(ctx, func(into *Store) error {
		return into.Update(ctx, func(tx store.Tx) error { // all of it, or nothing
			if err := old.carryRows(ctx, tx); err != nil {
				return err
			}
			return old.carryEntries(ctx, tx)
		})
	})
}

// renew fills a new file, closes the one that is there, and puts the new one in its place. The one that was there is kept
// under the name that is returned.
func (s *Store) renew(ctx context.Context, fill func(*Store) error) (kept string, err error) {
	kept, made := s.path+".before", s.path+".new"
	err = func() error {
		if _, err := os.Lstat(kept); err == nil {
			return fmt.Errorf("%s exists already: move it away, since the file as it was is to be kept there", kept)
		}
		// What waits beside the file goes into it, so that the file alone is the copy.
		if _, err := s.writer.ExecContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
			return err
		}
		for _, suffix := range []string{"", "-wal", "-shm", ".lock"} { // of an attempt that was cut off
			if err := os.Remove(made + suffix); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
		into, err := Open(made)
		if err != nil {
			return err
		}
		if err := errors.Join(fill(into), into.Close()); err != nil {
			return fmt.Errorf("%s cannot be carried over: %w", s.path, err)
		}
		return nil
	}()
	// Closed first, so that nothing is left beside the file that would be taken for the new one's.
	if err := errors.Join(err, s.Close()); err != nil {
		return "", err
	}
	if err := os.Link(s.path, kept); err != nil {
		return "", err
	}
	if err := errors.Join(os.Rename(made, s.path), os.Remove(made+".lock")); err != nil {
		return "", err
	}
	return kept, syncFolder(filepath.Dir(s.path))
}

// ActsBefore reads the acts of a record of consent of the version before, each as JSON and in order, and the root of their
// tree, by which the record is named. A file that is no such record is store.ErrNotFound, and one whose acts are not those of
// its tree is an error.
func ActsBefore(ctx context.Context, path string) (acts []string, root string, err error) {
	switch _, err := os.Stat(path); {
	case errors.Is(err, fs.ErrNotExist):
		return nil, "", store.ErrNotFound
	case err != nil:
		return nil, "", err
	}
	s, err := open(path, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)", "query_only(1)"}})
	if err != nil {
		return nil, "", err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	return s.actsBefore(ctx)
}

// formOfRecord is the form of a record of the version before.
const formOfRecord = 2

func (s *Store) actsBefore(ctx context.Context) (acts []string, root string, err error) {
	id, version, tables, err := s.about(ctx)
	switch {
	case err != nil:
		return nil, "", fmt.Errorf("%s: %w", s.path, err)
	case id != 0 || tables == 0:
		return nil, "", store.ErrNotFound
	case version != formOfRecord:
		return nil, "", fmt.Errorf("%s is of a form that is not carried over: have a program of the version before open it once", s.path)
	}
	var size int64
	var kept []byte
	if err := s.db.QueryRowContext(ctx, "SELECT size, root FROM head").Scan(&size, &kept); err != nil {
		return nil, "", err
	}
	rows, err := s.db.QueryContext(ctx, "SELECT act FROM acts ORDER BY number")
	if err != nil {
		return nil, "", err
	}
	defer rows.Close()
	var head journal.Head
	for rows.Next() {
		var act string
		if err := rows.Scan(&act); err != nil {
			return nil, "", err
		}
		acts = append(acts, act)
		head.Append([]journal.Entry{{Hash: tlog.RecordHash([]byte(act))}})
	}
	if got := head.Root(); rows.Err() == nil && (size != head.Size || !bytes.Equal(kept, got[:])) {
		return nil, "", fmt.Errorf("%s is not whole: its acts do not come to the root of their tree", s.path)
	}
	return acts, head.Root().String(), rows.Err()
}

// CarryOverActs makes a store of a record of consent of the version before. Fill is given a new store, the acts and the root
// of their tree, and fills it. The record as it was is kept beside it, under the name that is returned; "" where the file is
// no such record.
func CarryOverActs(ctx context.Context, path string, fill func(into store.Store, acts []string, root string) error) (kept string,
	err error) {
	if _, err := os.Stat(path); err != nil {
		return "", nil
	}
	old, err := open(path, url.Values{"_pragma": {"busy_timeout(10000)"}})
	if err != nil {
		return "", err
	}
	acts, root, err := old.actsBefore(ctx)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = nil
		}
		return "", errors.Join(err, old.Close())
	}
	return old.renew(ctx, func(into *Store) error { return fill(into, acts, root) })
}

// syncFolder makes names in a folder survive a crash.
func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// carryRows writes the rows of the table, and over them those that had changed of late.
func (s *Store) carryRows(ctx context.Context, tx store.Tx) error {
	rows, err := s.db.QueryContext(ctx, "SELECT "+columns+" FROM facts")
	if err != nil {
		return err
	}
	defer rows.Close()
	put := func(row store.Row) error {
		if row.Kind == store.Accounts {
			row.Account = "" // which the key says
		}
		return tx.Put(row)
	}
	for rows.Next() {
		row, err := scanRow(rows.Scan)
		if err == nil {
			err = put(row)
		}
		if err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	changes, err := s.db.QueryContext(ctx, "SELECT rows FROM changes ORDER BY number")
	if err != nil {
		return err
	}
	defer changes.Close()
	for changes.Next() {
		var kept sql.RawBytes
		if err := changes.Scan(&kept); err != nil {
			return err
		}
		text, err := s2.Decode(nil, kept)
		if err != nil {
			return errBroken
		}
		from := packed.Reader{Text: text}
		for len(from.Text) > 0 && !from.Broken {
			row := store.Row{Key: store.Key{Kind: store.Kind(from.Field()), Key: string(from.Field())}}
			if from.Byte() == 0 {
				err = tx.Delete(row.Key)
			} else {
				row.Account, row.Device = string(from.Field()), string(from.Field())
				if due := from.Varint(); due != 0 {
					row.Due = time.UnixMicro(due).UTC()
				}
				row.Value = bytes.Clone(from.Field())
				err = put(row)
			}
			if err != nil {
				return err
			}
		}
		if from.Broken {
			return errBroken
		}
	}
	return changes.Err()
}

var errBroken = errors.New("the file is damaged: a record in it cannot be read")

// carryEntries appends the entries to the log of what was before. Their hashes are those that they had.
func (s *Store) carryEntries(ctx context.Context, tx store.Tx) error {
	var text string
	if err := s.db.QueryRowContext(ctx, "SELECT head FROM head").Scan(&text); err != nil {
		return err
	}
	head, err := journal.ParseHeadBefore(text)
	if err != nil {
		return err
	}
	rows, err := s.db.QueryContext(ctx, "SELECT first, size, heads, leaves FROM groups ORDER BY first")
	if err != nil {
		return err
	}
	defer rows.Close()
	grown := journal.Head{Log: journal.BeforeLog}
	for rows.Next() {
		var first, size int64
		var heads, leaves sql.RawBytes
		if err := rows.Scan(&first, &size, &heads, &leaves); err != nil {
			return err
		}
		entries, err := groupBefore(heads, leaves)
		if err != nil {
			return err
		}
		if first != grown.Size || int64(len(entries)) != size {
			return fmt.Errorf("entry %d is missing: its journal was not sound", grown.Size)
		}
		grown.Append(entries)
		if err := tx.Append(journal.BeforeLog, entries); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if grown.Size != head.Size || grown.Root() != head.Root() {
		return fmt.Errorf("the %d entries of its journal are not the %d that its head is of: it was not sound", grown.Size, head.Size)
	}
	return nil
}

// groupBefore reads the entries of a group: what they are found by, and their leaves.
func groupBefore(heads, leaves []byte) ([]journal.Entry, error) {
	text, err := s2.Decode(nil, heads)
	if err != nil {
		return nil, errBroken
	}
	from := packed.Reader{Text: text}
	var entries []journal.Entry
	at := int64(0)
	for len(from.Text) > 0 && !from.Broken {
		var e journal.Entry
		at += from.Varint()
		e.At, e.Kind = time.UnixMicro(at).UTC(), journal.Kind(from.Byte())
		if n := from.Uvarint(); n == 0 {
			if id, err := uuid.FromBytes(from.Bytes(16)); err == nil { // what is missing is seen below
				e.ID = id.String()
			}
		} else {
			e.ID = string(from.Bytes(n))
		}
		e.Account = string(from.Field())
		copy(e.Hash[:], from.Bytes(tlog.HashSize))
		if brief := from.Field(); len(brief) > 0 {
			e.Brief = slices.Clip(brief)
		}
		entries = append(entries, e)
	}
	if from.Broken {
		return nil, errBroken
	}
	if leaves == nil {
		return entries, nil // all of them were pruned
	}
	if text, err = s2.Decode(nil, leaves); err != nil {
		return nil, errBroken
	}
	from = packed.Reader{Text: text}
	for i := range entries {
		if n := from.Uvarint(); n > 0 {
			entries[i].Leaf = slices.Clip(from.Bytes(n - 1))
		}
	}
	if from.Broken || len(from.Text) > 0 {
		return nil, errBroken
	}
	return entries, nil
}
