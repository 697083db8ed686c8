package store

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/journal"
)

// Memory is a Store in memory, for tests and for a program that keeps nothing. The zero Memory
// is empty.
type Memory struct {
	mu      sync.RWMutex
	rows    map[Kind]map[string]Row
	entries []journal.Entry
	byID    map[string]int
	head    journal.Head
}

// Get implements Reader.
func (m *Memory) Get(_ context.Context, key Key) (Row, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return m.get(key)
}

func (m *Memory) get(key Key) (Row, error) {
	row, ok := m.rows[key.Kind][key.Key]
	if !ok {
		return Row{}, ErrNotFound
	}
	row.Value = bytes.Clone(row.Value)
	return row, nil
}

// List implements Reader.
func (m *Memory) List(_ context.Context, q Query) ([]Row, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return m.list(q), nil
}

func (m *Memory) list(q Query) []Row {
	var rows []Row
	for _, row := range m.rows[q.Kind] {
		if q.Matches(&row) {
			row.Value = bytes.Clone(row.Value)
			rows = append(rows, row)
		}
	}
	return q.InOrder(rows)
}

// Matches reports whether a row is one that the query leaves, as far as it does not count.
func (q *Query) Matches(r *Row) bool {
	return r.Kind == q.Kind && r.Key.Key > q.After && strings.HasPrefix(r.Key.Key, q.Prefix) && (q.Account == "" || r.Account == q.Account) &&
		(q.Device == "" || r.Device == q.Device) &&
		(q.DueBy.IsZero() || !r.Due.IsZero() && !r.Due.After(q.DueBy))
}

// InOrder sorts rows, and returns the first of them where the query has a limit.
func (q *Query) InOrder(rows []Row) []Row {
	slices.SortFunc(rows, func(a, b Row) int { return cmp.Compare(a.Key.Key, b.Key.Key) })
	if q.Limit > 0 && len(rows) > q.Limit {
		return rows[:q.Limit]
	}
	return rows
}

// Update implements Store.
func (m *Memory) Update(ctx context.Context, change func(Tx) error) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	tx := &memoryTx{m: m, changed: map[Key]*Row{}}
	if err := errors.Join(change(tx), ctx.Err()); err != nil {
		return err
	}
	for key, row := range tx.changed {
		if row == nil {
			delete(m.rows[key.Kind], key.Key)
			continue
		}
		if m.rows == nil {
			m.rows = map[Kind]map[string]Row{}
		}
		if m.rows[key.Kind] == nil {
			m.rows[key.Kind] = map[string]Row{}
		}
		m.rows[key.Kind][key.Key] = *row
	}
	if len(tx.pruned) > 0 {
		m.entries = slices.Clone(m.entries) // which others look through
		for _, i := range tx.pruned {
			m.entries[i].Prune()
		}
	}
	m.head.Append(tx.entries)
	if m.byID == nil {
		m.byID = map[string]int{}
	}
	for i := range tx.entries {
		m.byID[tx.entries[i].ID] = len(m.entries)
		m.entries = append(m.entries, tx.entries[i])
	}
	return nil
}

// memoryTx keeps what is changed apart until all of it is kept.
type memoryTx struct {
	m       *Memory
	changed map[Key]*Row
	entries []journal.Entry
	// pruned are the places of entries.
	pruned []int
}

// Get implements Reader.
func (t *memoryTx) Get(_ context.Context, key Key) (Row, error) {
	row, changed := t.changed[key]
	switch {
	case !changed:
		return t.m.get(key)
	case row == nil:
		return Row{}, ErrNotFound
	}
	return *row, nil
}

// List implements Reader.
func (t *memoryTx) List(_ context.Context, q Query) ([]Row, error) {
	whole := q
	whole.Limit = 0
	rows := slices.DeleteFunc(t.m.list(whole), func(r Row) bool { _, changed := t.changed[r.Key]; return changed })
	for _, row := range t.changed {
		if row != nil && q.Matches(row) {
			rows = append(rows, *row)
		}
	}
	return q.InOrder(rows), nil
}

// Put implements Tx.
func (t *memoryTx) Put(row Row) error {
	row.Value = bytes.Clone(row.Value)
	t.changed[row.Key] = &row
	return nil
}

// Delete implements Tx.
func (t *memoryTx) Delete(key Key) error {
	t.changed[key] = nil
	return nil
}

// Append implements Tx.
func (t *memoryTx) Append(entries []journal.Entry) error {
	for _, e := range entries {
		if _, twice := t.m.byID[e.ID]; twice {
			return errors.New("the journal has an entry " + e.ID)
		}
	}
	t.entries = append(t.entries, entries...)
	return nil
}

// Prune implements Tx.
func (t *memoryTx) Prune(before time.Time, most int) (numbers []int64, err error) {
	for i := range t.m.entries {
		e := &t.m.entries[i]
		if len(numbers) < most && e.Leaf != nil && e.Kind != journal.Pruned && e.At.Before(before) && !slices.Contains(t.pruned, i) {
			t.pruned, numbers = append(t.pruned, i), append(numbers, e.Number)
		}
	}
	return numbers, nil
}

// Entries implements Store.
func (m *Memory) Entries(_ context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	m.mu.RLock()
	entries := m.entries[:len(m.entries):len(m.entries)]
	m.mu.RUnlock()
	return func(yield func(journal.Entry, error) bool) {
		all := slices.All(entries)
		if f.Latest {
			all = slices.Backward(entries)
		}
		told := 0
		for _, e := range all {
			if !f.Matches(&e) {
				continue
			}
			if f.Bare {
				e.Leaf = nil
			}
			if told++; !yield(e, nil) || told == f.Limit {
				return
			}
		}
	}
}

// Entry implements Store.
func (m *Memory) Entry(_ context.Context, id string) (journal.Entry, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	i, ok := m.byID[id]
	if !ok {
		return journal.Entry{}, ErrNotFound
	}
	return m.entries[i], nil
}

// Head implements Store.
func (m *Memory) Head(context.Context) (journal.Head, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return m.head, nil
}

// Watch implements Store. Nobody else can change it.
func (m *Memory) Watch(context.Context, Watcher) error { return nil }

// IsShared implements Store.
func (m *Memory) IsShared() bool { return false }

// Close implements Store.
func (m *Memory) Close() error { return nil }
