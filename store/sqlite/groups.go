package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"math"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/s2"
	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/internal/packed"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Entries are kept in groups, those of one transaction together: what they are found by (heads) and
// their leaves, which are alike and shrink to a tenth and less when they are packed together. A
// group is one row, so that recording a decision costs a share of one insertion.

// mostInGroup is how many entries a group has at most.
const mostInGroup = 256

// pack compresses with S2, which takes a fifth of the time that zstd takes for this, and leaves a
// third more.
func pack(text []byte) []byte { return s2.Encode(nil, text) }

func unpack(small []byte) ([]byte, error) {
	text, err := s2.Decode(nil, small)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errBroken, err)
	}
	return text, nil
}

// encodeHeads writes what entries are found and counted by, packed.
func encodeHeads(entries []journal.Entry) []byte {
	heads := make([]byte, 0, 256*len(entries))
	before := int64(0)
	for i := range entries {
		e := &entries[i]
		at := e.At.UnixMicro()
		heads = append(binary.AppendVarint(heads, at-before), byte(e.Kind))
		before = at
		if id, err := uuid.Parse(e.ID); err == nil && id.String() == e.ID {
			heads = append(append(heads, 0), id[:]...)
		} else {
			heads = packed.Append(heads, e.ID)
		}
		heads = packed.Append(heads, e.Account)
		heads = append(heads, e.Hash[:]...)
		heads = packed.Append(heads, e.Brief)
	}
	return pack(heads)
}

func decodeHeads(first int64, size int, small []byte, bare bool) ([]journal.Entry, error) {
	heads, err := unpack(small)
	if err != nil {
		return nil, err
	}
	from := packed.Reader{Text: heads}
	shared := ""
	if bare {
		shared = string(heads) // so that accounts are no memory of their own
	}
	entries := make([]journal.Entry, 0, size)
	at := int64(0)
	for len(from.Text) > 0 && !from.Broken {
		e := journal.Entry{Number: first + int64(len(entries))}
		at += from.Varint()
		e.At, e.Kind = time.UnixMicro(at).UTC(), journal.Kind(from.Byte())
		if n := from.Uvarint(); n == 0 {
			if id, err := uuid.FromBytes(from.Bytes(16)); err == nil && !bare { // what is missing is seen below
				e.ID = id.String()
			}
		} else {
			e.ID = string(from.Bytes(n))
		}
		if account := from.Field(); bare {
			end := len(heads) - len(from.Text)
			e.Account = shared[end-len(account) : end]
		} else {
			e.Account = string(account)
		}
		copy(e.Hash[:], from.Bytes(tlog.HashSize))
		if brief := from.Field(); len(brief) > 0 {
			e.Brief = slices.Clip(brief)
		}
		entries = append(entries, e)
	}
	if from.Broken {
		return nil, errBroken
	}
	return entries, nil
}

// encodeLeaves packs leaves; one that was pruned is told from an empty one.
func encodeLeaves(entries []journal.Entry) []byte {
	size := 0
	for i := range entries {
		size += len(entries[i].Leaf) + 4
	}
	text := make([]byte, 0, size)
	for i := range entries {
		if leaf := entries[i].Leaf; leaf == nil {
			text = append(text, 0)
		} else {
			text = append(binary.AppendUvarint(text, uint64(len(leaf)+1)), leaf...)
		}
	}
	return pack(text)
}

// addLeaves gives entries their leaves. Those of a group without any were pruned.
func addLeaves(entries []journal.Entry, small []byte) error {
	if small == nil {
		return nil
	}
	text, err := unpack(small)
	if err != nil {
		return err
	}
	from := packed.Reader{Text: text}
	for i := range entries {
		if n := from.Uvarint(); n > 0 {
			entries[i].Leaf = slices.Clip(from.Bytes(n - 1))
		}
	}
	if from.Broken || len(from.Text) > 0 {
		return errBroken
	}
	return nil
}

// insertGroup writes some entries as a group.
func insertGroup(exec func(query string, args ...any) (sql.Result, error), entries []journal.Entry) (width int64, err error) {
	kinds, since, until := int64(0), int64(math.MaxInt64), int64(math.MinInt64)
	for i := range entries {
		e := &entries[i]
		kinds |= 1 << e.Kind
		since, until = min(since, e.At.UnixMicro()), max(until, e.At.UnixMicro())
	}
	_, err = exec("INSERT INTO groups VALUES (?, ?, ?, ?, ?, ?, ?)", entries[0].Number, len(entries), kinds, since, until,
		encodeHeads(entries), encodeLeaves(entries))
	return until - since, err
}

// appendEntries writes the entries of the transaction and moves the head.
func (t *tx) appendEntries() error {
	if len(t.entries) == 0 {
		return nil
	}
	if err := t.checkIDs(); err != nil {
		return err
	}
	t.head = t.s.head
	t.head.Append(t.entries)
	widest := int64(0)
	for group := range slices.Chunk(t.entries, mostInGroup) {
		width, err := insertGroup(t.exec, group)
		if err != nil {
			return err
		}
		widest = max(widest, width)
	}
	text, err := t.head.MarshalText()
	if err != nil {
		return err
	}
	_, err = t.exec("UPDATE head SET head = ?, widest = max(widest, ?)", string(text), widest)
	return err
}

// Prune implements store.Tx.
func (t *tx) Prune(before time.Time, most int) ([]int64, error) {
	const from = "SELECT first, size, heads, leaves FROM groups WHERE leaves IS NOT NULL AND since < ?1"
	pruned, err := t.pruneGroups(before, from+" AND until < ?1 ORDER BY since LIMIT ?2", max(1, most/mostInGroup))
	if err != nil || len(pruned) > 0 {
		return pruned, err
	}
	return t.pruneGroups(before, from) // what is left stands in the few groups that have later entries too
}

// pruneGroups prunes entries of the groups that a query finds.
func (t *tx) pruneGroups(before time.Time, query string, more ...any) (pruned []int64, err error) {
	rows, err := t.s.conn.QueryContext(t.ctx, query, append([]any{before.UnixMicro()}, more...)...)
	if err != nil {
		return nil, err
	}
	var groups [][]journal.Entry
	for rows.Next() {
		var first int64
		var size int
		var heads, leaves sql.RawBytes
		if err := rows.Scan(&first, &size, &heads, &leaves); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		entries, err := decodeHeads(first, min(size, mostInGroup), heads, false)
		if err == nil {
			err = addLeaves(entries, leaves)
		}
		if err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		older := len(pruned)
		for i := range entries {
			if e := &entries[i]; e.Leaf != nil && e.Kind != journal.Pruned && e.At.Before(before) {
				e.Prune()
				pruned = append(pruned, e.Number)
			}
		}
		if len(pruned) > older {
			groups = append(groups, entries)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	for _, entries := range groups {
		var leaves any
		if slices.ContainsFunc(entries, func(e journal.Entry) bool { return e.Leaf != nil }) {
			leaves = encodeLeaves(entries)
		}
		_, err := t.exec("UPDATE groups SET heads = ?, leaves = ? WHERE first = ?", encodeHeads(entries), leaves, entries[0].Number)
		if err != nil {
			return nil, err
		}
	}
	slices.Sort(pruned)
	return pruned, nil
}

// groupEntries moves entries from the form in which each was a row of its own.
func groupEntries(tx *sql.Tx) error {
	var group []journal.Entry
	widest := int64(0)
	write := func() error {
		if len(group) == 0 {
			return nil
		}
		width, err := insertGroup(tx.Exec, group)
		widest, group = max(widest, width), nil
		return err
	}
	for after := int64(-1); ; {
		rows, err := tx.Query("SELECT number, id, at, kind, account, leaf, hash FROM entries WHERE number > ? ORDER BY number LIMIT ?",
			after, mostInGroup)
		if err != nil {
			return err
		}
		for rows.Next() {
			var e journal.Entry
			var at int64
			var hash []byte
			if err := rows.Scan(&e.Number, &e.ID, &at, &e.Kind, &e.Account, &e.Leaf, &hash); err != nil {
				return errors.Join(err, rows.Close())
			}
			e.At = time.UnixMicro(at).UTC()
			copy(e.Hash[:], hash)
			group, after = append(group, e), e.Number
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		if len(group) == 0 {
			break
		}
		if err := write(); err != nil {
			return err
		}
	}
	if _, err := tx.Exec("UPDATE head SET widest = ?", widest); err != nil {
		return err
	}
	_, err := tx.Exec("DROP TABLE entries")
	return err
}

func readHead(ctx context.Context, from querier) (head journal.Head, err error) {
	var text string
	if err := from.QueryRowContext(ctx, "SELECT head FROM head").Scan(&text); err != nil {
		return head, err
	}
	return head, head.UnmarshalText([]byte(text))
}

// Head implements store.Store.
func (s *Store) Head(ctx context.Context) (journal.Head, error) {
	return readHead(ctx, s.db)
}

// Entry implements store.Store.
func (s *Store) Entry(ctx context.Context, id string) (found journal.Entry, err error) {
	err = s.look(ctx, func(v view) error {
		found, err = v.entry(id)
		return err
	})
	return found, err
}

// Entries implements store.Store.
func (s *Store) Entries(ctx context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	return func(yield func(journal.Entry, error) bool) {
		if err := s.look(ctx, func(v view) error { return v.entries(f, func(e journal.Entry) bool { return yield(e, nil) }) }); err != nil {
			yield(journal.Entry{}, err)
		}
	}
}

// view is the file as it is at one moment.
type view struct {
	ctx  context.Context
	from querier
}

// look shows the file as it is at one moment, whatever is written meanwhile.
func (s *Store) look(ctx context.Context, show func(view) error) error {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	return errors.Join(show(view{ctx, tx}), tx.Rollback())
}

// errEnough ends a walk over groups.
var errEnough = errors.New("enough")

// stretch says which groups are walked.
type stretch struct {
	// Both entries are included.
	from, to int64
	// kinds leaves groups with an entry of one of them.
	kinds int64
	// latest begins with the last.
	latest bool
	// leaves reads the leaves too, which are most of a group.
	leaves bool
	// bare leaves out IDs.
	bare bool
}

// walk calls visit for the groups of a stretch, each with its entries and its packed leaves.
func (v view) walk(s stretch, visit func(entries []journal.Entry, leaves []byte) error) error {
	columns, order := "first, size, heads, NULL", "ASC"
	if s.leaves {
		columns = "first, size, heads, leaves"
	}
	if s.latest {
		order = "DESC"
	}
	// A group begins at most so many entries before the one that is looked for.
	rows, err := v.from.QueryContext(v.ctx, "SELECT "+columns+" FROM groups WHERE first > ? AND first <= ? AND first + size > ?"+
		" AND kinds & ? <> 0 ORDER BY first "+order, s.from-mostInGroup, s.to, s.from, s.kinds)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var first int64
		var size int
		var heads, leaves sql.RawBytes
		if err := rows.Scan(&first, &size, &heads, &leaves); err != nil {
			return err
		}
		entries, err := decodeHeads(first, min(size, mostInGroup), heads, s.bare)
		if err != nil {
			return err
		}
		if err := visit(entries, leaves); err != nil {
			return err
		}
	}
	return rows.Err()
}

const (
	allKinds  = -1
	lastEntry = math.MaxInt64
)

// entry finds an entry by its name.
func (v view) entry(id string) (found journal.Entry, err error) {
	numbers, indexed, err := v.lookUp(keyOfID(id))
	if err != nil {
		return found, err
	}
	isNamed := func(e journal.Entry) bool { return e.ID == id }
	for _, number := range append(numbers, indexed) {
		s := stretch{from: number, to: number, kinds: allKinds}
		if number == indexed {
			s.to = lastEntry
		}
		at := int64(-1)
		err := v.walk(s, func(entries []journal.Entry, _ []byte) error {
			if i := slices.IndexFunc(entries, isNamed); i >= 0 {
				at = entries[i].Number
				return errEnough
			}
			return nil
		})
		if ignoreEnough(err) != nil {
			return found, err
		}
		if at < 0 {
			continue
		}
		err = v.walk(stretch{from: at, to: at, kinds: allKinds, leaves: true}, func(entries []journal.Entry, leaves []byte) error {
			err := addLeaves(entries, leaves)
			found = entries[slices.IndexFunc(entries, isNamed)]
			return err
		})
		return found, err
	}
	return found, store.ErrNotFound
}

func ignoreEnough(err error) error {
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// entries calls yield for the entries that a filter leaves, until it says no.
func (v view) entries(f journal.Filter, yield func(journal.Entry) bool) error {
	from, to, err := v.between(f)
	if err != nil {
		return err
	}
	kinds := int64(allKinds)
	if f.Kind != 0 {
		kinds = 1 << f.Kind
	}
	told := 0
	visit := func(entries []journal.Entry, leaves []byte) error {
		if !slices.ContainsFunc(entries, func(e journal.Entry) bool { return f.Matches(&e) }) {
			return nil
		}
		if !f.Bare {
			if err := addLeaves(entries, leaves); err != nil {
				return err
			}
		}
		if f.Latest {
			slices.Reverse(entries)
		}
		for i := range entries {
			if !f.Matches(&entries[i]) {
				continue
			}
			if !f.Bare {
				entries[i].Leaf = bytes.Clone(entries[i].Leaf) // so that one of them keeps no group in memory
				entries[i].Brief = bytes.Clone(entries[i].Brief)
			}
			if told++; !yield(entries[i]) || told == f.Limit {
				return errEnough
			}
		}
		return nil
	}
	s := stretch{from: from, to: to, kinds: kinds, latest: f.Latest, leaves: !f.Bare, bare: f.Bare && f.Match == nil}
	if f.Account == "" {
		return ignoreEnough(v.walk(s, visit))
	}
	return ignoreEnough(v.ofAccount(f.Account, s, visit))
}

// ofAccount visits the groups in which an account may be: those that the index knows, and those that
// are not in it yet.
func (v view) ofAccount(account string, s stretch, visit func([]journal.Entry, []byte) error) error {
	numbers, indexed, err := v.lookUp(keyOfAccount(account))
	if err != nil {
		return err
	}
	rest := s
	rest.from = max(s.from, indexed)
	if s.latest {
		if err := v.walk(rest, visit); err != nil {
			return err
		}
		slices.Reverse(numbers)
	}
	first, beyond := int64(0), int64(0) // of the group that was visited last
	for _, number := range numbers {
		if number < s.from || number > s.to || first <= number && number < beyond {
			continue
		}
		one := s
		one.from, one.to = number, number
		err := v.walk(one, func(entries []journal.Entry, leaves []byte) error {
			first, beyond = entries[0].Number, entries[len(entries)-1].Number+1
			return visit(entries, leaves)
		})
		if err != nil {
			return err
		}
	}
	if s.latest {
		return nil
	}
	return v.walk(rest, visit)
}

// between returns the first and the last entry that may be of the time of a filter.
func (v view) between(f journal.Filter) (from, to int64, err error) {
	from, to = f.After, lastEntry
	if f.From.IsZero() && f.To.IsZero() {
		return from, to, nil
	}
	since, until := int64(math.MinInt64), int64(math.MaxInt64)
	if !f.From.IsZero() {
		var widest int64
		if err := v.from.QueryRowContext(v.ctx, "SELECT widest FROM head").Scan(&widest); err != nil {
			return 0, 0, err
		}
		since = f.From.UnixMicro() - widest
	}
	if !f.To.IsZero() {
		until = f.To.UnixMicro()
	}
	var first, last sql.NullInt64
	err = v.from.QueryRowContext(v.ctx, "SELECT min(first), max(first) FROM groups WHERE since >= ? AND since < ?", since, until).
		Scan(&first, &last)
	if err != nil || !first.Valid {
		return 1, 0, err // none
	}
	return max(from, first.Int64), last.Int64 + mostInGroup - 1, nil
}
