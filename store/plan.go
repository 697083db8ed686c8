package store

import (
	"bytes"
	"context"
	"errors"
	"time"

	"github.com/briskwarden/briskwarden/journal"
)

// Plan is a transaction that is thought through beside the store: what is put is gathered, and nothing is locked however long it takes.
// Apply does it in a transaction that is short. A plan appends no entries and prunes none.
type Plan struct {
	Changes
	from Reader
	// read are the rows that it read, as they were; those that there were not have no value.
	read map[Key]Row
}

// NewPlan begins a plan on what is read of a store.
func NewPlan(from Reader) *Plan { return &Plan{from: from, read: map[Key]Row{}} }

// Get implements Reader.
func (p *Plan) Get(ctx context.Context, key Key) (Row, error) {
	if row, changed, err := p.Changes.Get(key); changed {
		return row, err
	}
	row, err := p.from.Get(ctx, key)
	if err == nil || errors.Is(err, ErrNotFound) {
		p.note(key, row)
	}
	return row, err
}

// List implements Reader.
func (p *Plan) List(ctx context.Context, q Query) ([]Row, error) {
	return p.Changes.List(q, func(q Query) ([]Row, error) {
		rows, err := p.from.List(ctx, q)
		for i := range rows {
			p.note(rows[i].Key, rows[i])
		}
		return rows, err
	})
}

// note notes a row as it was read first.
func (p *Plan) note(key Key, row Row) {
	if _, was := p.read[key]; !was {
		p.read[key] = Row{Key: key, Value: bytes.Clone(row.Value), Stamp: row.Stamp}
	}
}

// Rests implements Tx. Without a stamp nobody can tell later whether the row is as it was, so that it is to be read.
func (p *Plan) Rests(key Key, stamp int64) bool {
	if stamp == 0 {
		return false
	}
	p.note(key, Row{Stamp: stamp})
	return true
}

// Stamp implements Tx. What is planned has none yet.
func (p *Plan) Stamp() int64 { return 0 }

// TellLater implements Tx. Others hear of it when it is applied.
func (p *Plan) TellLater() {}

var errPlan = errors.New("a plan changes rows alone")

// Append implements Tx, as an error.
func (p *Plan) Append(string, []journal.Entry) error { return errPlan }

// Prune implements Tx, as an error.
func (p *Plan) Prune(string, time.Time, int) ([]int64, error) { return nil, errPlan }

// ErrOutdated is returned for a plan that rests on rows which are others by now: plan again.
var ErrOutdated = errors.New("what was planned on has changed meanwhile")

// Apply does in a transaction what was planned, where the rows that the plan read are as they were, and else nothing (ErrOutdated). Also
// are rows that the transaction changes besides. In a store without stamps it looks at rows that are changed alone, since to look at
// one is to read it.
func (p *Plan) Apply(ctx context.Context, tx Tx, also map[Key]bool) error {
	for key, was := range p.read {
		if tx.Stamp() != 0 {
			if !tx.Rests(key, was.Stamp) {
				return ErrOutdated
			}
			continue
		}
		if _, changes := p.Changes[key]; !changes && !also[key] {
			continue
		}
		row, err := tx.Get(ctx, key)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		if !bytes.Equal(row.Value, was.Value) {
			return ErrOutdated
		}
	}
	for _, key := range p.Changes.Keys() {
		var err error
		if row := p.Changes[key]; row != nil {
			err = tx.Put(*row)
		} else {
			err = tx.Delete(key)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Read returns the keys of the rows that the plan read.
func (p *Plan) Read() []Key {
	keys := make([]Key, 0, len(p.read))
	for key := range p.read {
		keys = append(keys, key)
	}
	return keys
}
