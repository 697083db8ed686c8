package sqlite

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/internal/packed"
	"github.com/briskwarden/briskwarden/store"
)

// pending are rows that were changed and are not in their place in the table of facts yet. What
// changed them is kept in the file, one record a transaction (table changes), so that a commit
// writes at one place instead of one for each row. A row that is changed again and again goes to
// its place once.
type pending struct {
	mu   sync.RWMutex
	rows map[store.Kind]map[string]*waiting
	// order has the keys of rows by the change since which they wait.
	order []orderedKey
	// records are the changes that are in the file, and bytes is their size together. next is the number
	// of the next one.
	records []record
	bytes   int
	next    int64
}

// waiting is a row as it is to be, nil where it was dropped, and since which change it waits.
type waiting struct {
	row   *store.Row
	since int64
}

type orderedKey struct {
	store.Key
	since int64
}

type record struct {
	number int64
	size   int
}

// How much may be pending: beyond either, each transaction moves more rows to their place than it
// adds.
const (
	mostPending      = 4096
	mostPendingBytes = 16 << 20
)

func rowOrNone(row *store.Row) (store.Row, error) {
	if row == nil {
		return store.Row{}, store.ErrNotFound
	}
	own := *row
	own.Value = bytes.Clone(row.Value)
	return own, nil
}

// find returns a row that is pending, nil where it was dropped, and reports whether it is pending.
func (p *pending) find(key store.Key) (*store.Row, bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	if w := p.rows[key.Kind][key.Key]; w != nil {
		return w.row, true
	}
	return nil, false
}

// of returns the pending rows of a kind by their keys.
func (p *pending) of(kind store.Kind) map[string]*store.Row {
	p.mu.RLock()
	defer p.mu.RUnlock()
	rows := make(map[string]*store.Row, len(p.rows[kind]))
	for key, w := range p.rows[kind] {
		rows[key] = w.row
	}
	return rows
}

func (p *pending) length() int {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return len(p.order)
}

// over returns how many rows are to go to their place with a transaction that adds so many.
func (p *pending) over(added int) int {
	p.mu.RLock()
	defer p.mu.RUnlock()
	if len(p.order) <= mostPending && p.bytes <= mostPendingBytes {
		return 0
	}
	return min(len(p.order), max(64, 2*added))
}

// oldest returns rows that have waited longest.
func (p *pending) oldest(n int) []orderedRow {
	p.mu.RLock()
	defer p.mu.RUnlock()
	rows := make([]orderedRow, n)
	for i, key := range p.order[:n] {
		rows[i] = orderedRow{key.Key, p.rows[key.Kind][key.Key.Key].row}
	}
	return rows
}

// orderedRow is a row, or nil, under its key.
type orderedRow struct {
	key store.Key
	row *store.Row
}

// number returns that of the next change.
func (p *pending) number() int64 {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.next
}

// needed returns the first change that is still needed once so many rows went to their place.
func (p *pending) needed(settled int) int64 {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.firstNeeded(settled)
}

func (p *pending) firstNeeded(settled int) int64 {
	if settled < len(p.order) {
		return p.order[settled].since
	}
	return p.next
}

// kept notes that a transaction was kept: so many rows went to their place, and others were changed.
func (p *pending) kept(settled int, number int64, changed map[store.Key]*store.Row, size int) {
	if settled == 0 && len(changed) == 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, key := range p.order[:settled] {
		delete(p.rows[key.Kind], key.Key.Key)
	}
	p.order = slices.Delete(p.order, 0, settled)
	if len(changed) > 0 {
		p.add(number, size, changed)
	}
	needed := p.firstNeeded(0)
	done := 0
	for done < len(p.records) && p.records[done].number < needed {
		p.bytes -= p.records[done].size
		done++
	}
	p.records = slices.Delete(p.records, 0, done)
}

// add adds what a change says.
func (p *pending) add(number int64, size int, changed map[store.Key]*store.Row) {
	if p.rows == nil {
		p.rows = map[store.Kind]map[string]*waiting{}
	}
	for key, row := range changed {
		rows := p.rows[key.Kind]
		if rows == nil {
			rows = map[string]*waiting{}
			p.rows[key.Kind] = rows
		}
		since := number
		if before := rows[key.Key]; before != nil {
			since = before.since
		} else {
			p.order = append(p.order, orderedKey{key, number})
		}
		rows[key.Key] = &waiting{row, since}
	}
	p.records = append(p.records, record{number, size})
	p.bytes += size
	p.next = number + 1
}

// load reads the changes that are in the file.
func (p *pending) load(ctx context.Context, from querier) error {
	rows, err := from.QueryContext(ctx, "SELECT number, rows FROM changes ORDER BY number")
	if err != nil {
		return err
	}
	defer rows.Close()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.rows, p.order, p.records, p.bytes, p.next = nil, nil, nil, 0, 1
	for rows.Next() {
		var number int64
		var kept []byte
		if err := rows.Scan(&number, &kept); err != nil {
			return err
		}
		text, err := unpack(kept)
		if err != nil {
			return err
		}
		changed, err := decodeChanges(text)
		if err != nil {
			return err
		}
		p.add(number, len(text), changed)
	}
	return rows.Err()
}

// keepChanges keeps what the transaction changed as one record.
func (t *tx) keepChanges() error {
	if len(t.changed) == 0 {
		return nil
	}
	text := encodeChanges(t.changed)
	t.change, t.size = t.s.pending.number(), len(text)
	_, err := t.exec("INSERT INTO changes VALUES (?, ?)", t.change, pack(text))
	return err
}

// settle moves the rows that have waited longest to their place, and drops the records that nobody
// needs after that.
func (t *tx) settle(n int) error {
	if n == 0 {
		return nil
	}
	rows := t.s.pending.oldest(n)
	slices.SortFunc(rows, func(a, b orderedRow) int {
		return cmp.Or(cmp.Compare(a.key.Kind, b.key.Kind), cmp.Compare(a.key.Key, b.key.Key)) // neighbours share pages
	})
	for _, r := range rows {
		var err error
		if r.row == nil {
			_, err = t.exec("DELETE FROM facts WHERE kind = ? AND key = ?", string(r.key.Kind), r.key.Key)
		} else {
			_, err = t.exec("INSERT INTO facts VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (kind, key) DO UPDATE SET account = excluded.account,"+
				" device = excluded.device, due = excluded.due, value = excluded.value",
				string(r.key.Kind), r.key.Key, r.row.Account, r.row.Device, micros(r.row.Due), r.row.Value)
		}
		if err != nil {
			return err
		}
	}
	t.settled = n
	_, err := t.exec("DELETE FROM changes WHERE number < ?", t.s.pending.needed(n))
	return err
}

// overlaid returns rows of the table as they are with what is not in it yet.
func overlaid(ctx context.Context, from querier, q store.Query, changed map[string]*store.Row) ([]store.Row, error) {
	var found []store.Row
	rest := q
	for {
		rows, err := list(ctx, from, rest)
		if err != nil {
			return nil, err
		}
		last := q.Limit == 0 || len(rows) < q.Limit
		horizon := ""
		if !last {
			horizon = rows[len(rows)-1].Key.Key
		}
		for _, row := range rows {
			if _, otherwise := changed[row.Key.Key]; !otherwise {
				found = append(found, row)
			}
		}
		for _, key := range slices.Sorted(maps.Keys(changed)) {
			if row := changed[key]; row != nil && rest.Matches(row) && (last || key <= horizon) {
				own, _ := rowOrNone(row) // there is one
				found = append(found, own)
			}
		}
		if last || len(found) >= q.Limit {
			return q.InOrder(found), nil
		}
		rest.After = horizon
	}
}

// encodeChanges writes rows as one text: for each its kind and key, and where it was not dropped
// what it is found by and its value.
func encodeChanges(changed map[store.Key]*store.Row) []byte {
	var text []byte
	put := func(s string) { text = packed.Append(text, s) }
	for key, row := range changed {
		put(string(key.Kind))
		put(key.Key)
		if row == nil {
			text = append(text, 0)
			continue
		}
		text = append(text, 1)
		put(row.Account)
		put(row.Device)
		due := int64(0) // the zero time; no row is due in its very microsecond of 1970
		if !row.Due.IsZero() {
			due = row.Due.UnixMicro()
		}
		text = binary.AppendVarint(text, due)
		put(string(row.Value))
	}
	return text
}

var errBroken = errors.New("the file is damaged: a record in it cannot be read")

func decodeChanges(text []byte) (map[store.Key]*store.Row, error) {
	changed := map[store.Key]*store.Row{}
	from := packed.Reader{Text: text}
	for len(from.Text) > 0 && !from.Broken {
		key := store.Key{Kind: store.Kind(from.Field()), Key: string(from.Field())}
		if from.Byte() == 0 {
			changed[key] = nil
			continue
		}
		row := &store.Row{Key: key, Account: string(from.Field()), Device: string(from.Field())}
		if due := from.Varint(); due != 0 {
			row.Due = time.UnixMicro(due).UTC()
		}
		row.Value = bytes.Clone(from.Field())
		changed[key] = row
	}
	if from.Broken {
		return nil, errBroken
	}
	return changed, nil
}
