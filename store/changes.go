package store

import (
	"bytes"
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"
)

// Changes are rows that a transaction changed and that are not kept yet: nil is one that was dropped. An implementation of
// Tx that gathers changes keeps them here. The zero Changes has none.
type Changes map[Key]*Row

// Put implements Tx for an implementation that gathers changes.
func (c *Changes) Put(row Row) error {
	row.Value = bytes.Clone(row.Value)
	if !row.Due.IsZero() {
		row.Due = row.Due.UTC().Truncate(time.Microsecond) // as finely as every store keeps it
	}
	c.set(row.Key, &row)
	return nil
}

// Delete is Put for dropping a row.
func (c *Changes) Delete(key Key) error {
	c.set(key, nil)
	return nil
}

func (c *Changes) set(key Key, row *Row) {
	if *c == nil {
		*c = Changes{}
	}
	(*c)[key] = row
}

// Get returns a row that was changed, and ErrNotFound where it was dropped. It reports whether it was changed at all.
func (c Changes) Get(key Key) (row Row, changed bool, err error) {
	r, changed := c[key]
	if r == nil {
		return Row{}, changed, ErrNotFound
	}
	row = *r
	row.Value = bytes.Clone(row.Value)
	return row, changed, nil
}

// List returns the rows that match as they are with what was changed. Kept lists those that are kept.
func (c Changes) List(q Query, kept func(Query) ([]Row, error)) ([]Row, error) {
	wide := q
	for key := range c {
		if key.Kind == q.Kind && q.Limit > 0 {
			wide.Limit++ // since it may be one that no longer matches
		}
	}
	rows, err := kept(wide)
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(r Row) bool { _, changed := c[r.Key]; return changed })
	for _, row := range c {
		if row != nil && q.matches(row) {
			own := *row
			own.Value = bytes.Clone(row.Value)
			rows = append(rows, own)
		}
	}
	return q.inOrder(rows), nil
}

// Keys returns the keys in order, so that transactions change rows in one order and do not wait for each other in turn.
func (c Changes) Keys() []Key { return slices.SortedFunc(maps.Keys(c), Key.Compare) }

// matches reports whether a row is one that the query leaves, as far as it does not count.
func (q *Query) matches(r *Row) bool {
	return r.Kind == q.Kind && r.Key.Key > q.After && strings.HasPrefix(r.Key.Key, q.Prefix) && (q.Account == "" || r.Account == q.Account) &&
		(q.Device == "" || r.Device == q.Device) &&
		(q.DueBy.IsZero() || !r.Due.IsZero() && !r.Due.After(q.DueBy))
}

// inOrder sorts rows, and returns the first of them where the query has a limit.
func (q *Query) inOrder(rows []Row) []Row {
	slices.SortFunc(rows, func(a, b Row) int { return cmp.Compare(a.Key.Key, b.Key.Key) })
	if q.Limit > 0 && len(rows) > q.Limit {
		return rows[:q.Limit]
	}
	return rows
}
