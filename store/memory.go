package store

import (
	"bytes"
	"context"
	"errors"
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/journal"
)

// Memory is a Store in memory, for tests and for a program that keeps nothing. The zero Memory
// is empty.
type Memory struct {
	// updating is held for a whole transaction, and mu only while something is read or kept: what changes rows may ask a judge,
	// which reads the store by itself.
	updating sync.Mutex

	mu   sync.RWMutex
	rows map[Kind]map[string]Row
	// logs have entries by number. A list is replaced where an entry changes, since others look through it.
	logs  map[string][]journal.Entry
	heads map[string]journal.Head
	byID  map[string]place
}

// place is where an entry is.
type place struct {
	log    string
	number int64
}

// Get implements Reader.
func (m *Memory) Get(_ context.Context, key Key) (Row, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
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
	var rows []Row
	for _, row := range m.rows[q.Kind] {
		if q.matches(&row) {
			row.Value = bytes.Clone(row.Value)
			rows = append(rows, row)
		}
	}
	return q.inOrder(rows), nil
}

// Update implements Store.
func (m *Memory) Update(ctx context.Context, change func(Tx) error) error {
	m.updating.Lock()
	defer m.updating.Unlock()
	tx := &memoryTx{m: m, appended: map[string][]journal.Entry{}, pruned: map[string][]int64{}}
	if err := errors.Join(change(tx), ctx.Err()); err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for key, row := range tx.Changes {
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
	m.record(tx)
	return nil
}

// record keeps what a transaction did to the journal.
func (m *Memory) record(tx *memoryTx) {
	for log, numbers := range tx.pruned {
		entries := slices.Clone(m.logs[log])
		for _, n := range numbers {
			entries[n].Prune()
		}
		m.logs[log] = entries
	}
	for log, entries := range tx.appended {
		if m.logs == nil {
			m.logs, m.heads, m.byID = map[string][]journal.Entry{}, map[string]journal.Head{}, map[string]place{}
		}
		head := m.heads[log]
		head.Log = log
		head.Append(entries)
		m.heads[log] = head
		m.logs[log] = append(m.logs[log], entries...)
		for _, e := range entries {
			m.byID[e.ID] = place{log, e.Number}
		}
	}
}

// memoryTx keeps what is changed apart until all of it is kept.
type memoryTx struct {
	m *Memory
	Changes
	appended map[string][]journal.Entry
	pruned   map[string][]int64
}

// Get implements Reader.
func (t *memoryTx) Get(ctx context.Context, key Key) (Row, error) {
	if row, changed, err := t.Changes.Get(key); changed {
		return row, err
	}
	return t.m.Get(ctx, key)
}

// List implements Reader.
func (t *memoryTx) List(ctx context.Context, q Query) ([]Row, error) {
	return t.Changes.List(q, func(q Query) ([]Row, error) { return t.m.List(ctx, q) })
}

// Rests implements Tx. Nobody else can change a row.
func (t *memoryTx) Rests(Key, int64) bool { return true }

// Stamp implements Tx.
func (t *memoryTx) Stamp() int64 { return 0 }

// TellLater implements Tx. Nobody else is to hear.
func (t *memoryTx) TellLater() {}

// Append implements Tx.
func (t *memoryTx) Append(log string, entries []journal.Entry) error {
	if err := journal.CheckLog(log); err != nil {
		return err
	}
	for _, e := range entries {
		if _, twice := t.m.byID[e.ID]; twice {
			return errors.New("the journal has an entry " + e.ID)
		}
	}
	t.appended[log] = append(t.appended[log], entries...)
	return nil
}

// Prune implements Tx.
func (t *memoryTx) Prune(log string, before time.Time, most int) (numbers []int64, err error) {
	for i := range t.m.logs[log] {
		e := &t.m.logs[log][i]
		if len(numbers) < most && e.Leaf != nil && e.Kind != journal.Pruned && e.At.Before(before) && !slices.Contains(t.pruned[log], e.Number) {
			numbers = append(numbers, e.Number)
		}
	}
	t.pruned[log] = append(t.pruned[log], numbers...)
	slices.Sort(t.pruned[log])
	return numbers, nil
}

// Entries implements Store.
func (m *Memory) Entries(_ context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	m.mu.RLock()
	entries := slices.Clip(m.logs[f.Log])
	if f.Log == "" {
		for _, log := range m.logs {
			entries = append(entries, log...)
		}
		slices.SortFunc(entries, func(a, b journal.Entry) int { return journal.Compare(&a, &b) })
	}
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
	at, ok := m.byID[id]
	if !ok {
		return journal.Entry{}, ErrNotFound
	}
	return m.logs[at.log][at.number], nil
}

// Heads implements Store.
func (m *Memory) Heads(context.Context) ([]journal.Head, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	var heads []journal.Head
	for _, log := range slices.Sorted(maps.Keys(m.heads)) {
		heads = append(heads, m.heads[log])
	}
	return heads, nil
}

// Resembling implements Store. It packs nothing.
func (m *Memory) Resembling([]byte) {}

// Hold implements Store. It is this program's alone.
func (m *Memory) Hold(context.Context, string) error { return nil }

// Release implements Store.
func (m *Memory) Release(string) error { return nil }

// Held implements Store. No other program can hold a name.
func (m *Memory) Held(context.Context, string) (bool, error) { return false, nil }

// Watch implements Store. Nobody else can change it.
func (m *Memory) Watch(context.Context, Watcher) error { return nil }

// IsShared implements Store.
func (m *Memory) IsShared() bool { return false }

// OthersAtWork implements Store.
func (*Memory) OthersAtWork() int { return 0 }

// Close implements Store.
func (m *Memory) Close() error { return nil }
