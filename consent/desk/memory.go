package desk

import (
	"cmp"
	"context"
	"iter"
	"maps"
	"slices"
	"sync"

	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/internal/merkle"
)

// Memory is a Store that keeps a record in memory, for tests and for a program that keeps
// none. The zero Memory is empty.
type Memory struct {
	mu   sync.RWMutex
	rows *rows
}

func (m *Memory) view(_ context.Context, look func(ledger) error) error {
	m.mu.RLock()
	defer m.mu.RUnlock()
	if m.rows == nil {
		return look(newRows())
	}
	return look(m.rows)
}

func (m *Memory) update(_ context.Context, change func(ledger) error) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.rows == nil {
		m.rows = newRows()
	}
	m.rows.undo = []func(){}
	// What panics in the middle is taken back too.
	defer func() {
		for _, undo := range slices.Backward(m.rows.undo) {
			undo()
		}
		m.rows.undo = nil
	}()
	if err := change(m.rows); err != nil {
		return err
	}
	m.rows.undo = nil
	return nil
}

// Close implements Store.
func (m *Memory) Close() error { return nil }

// rows is a ledger in memory.
type rows struct {
	end       head
	texts     []string
	hashes    merkle.Hashes
	standings map[string]clientRow
	asked     map[int64]requestRow
	// open are the numbers of the requests that are not answered, by client.
	open     map[string]map[int64]bool
	approved map[int64]approvalRow
	// held are the grants, by client.
	held map[string]map[grantKey]grantRow
	// undo takes back what an update did, the last first. Outside an update it is nil, and
	// nothing is noted.
	undo []func()
}

func newRows() *rows {
	return &rows{standings: map[string]clientRow{}, asked: map[int64]requestRow{}, open: map[string]map[int64]bool{},
		approved: map[int64]approvalRow{}, held: map[string]map[grantKey]grantRow{}, end: head{root: emptyRoot}}
}

// set sets a value of a map, and notes how to take that back.
func set[K comparable, V any](r *rows, m map[K]V, key K, value V) {
	noteUndo(r, m, key)
	m[key] = value
}

// remove removes a value of a map, and notes how to take that back.
func remove[K comparable, V any](r *rows, m map[K]V, key K) {
	noteUndo(r, m, key)
	delete(m, key)
}

func noteUndo[K comparable, V any](r *rows, m map[K]V, key K) {
	if r.undo == nil {
		return
	}
	old, was := m[key]
	r.undo = append(r.undo, func() {
		if was {
			m[key] = old
		} else {
			delete(m, key)
		}
	})
}

// within returns the map of a client, which it makes where there is none.
func within[K comparable, V any](r *rows, m map[string]map[K]V, client string) map[K]V {
	if m[client] == nil {
		set(r, m, client, map[K]V{})
	}
	return m[client]
}

// ReadHashes implements tlog.HashReader.
func (r *rows) ReadHashes(positions []int64) ([]tlog.Hash, error) {
	return r.hashes.ReadHashes(positions)
}

func (r *rows) head() (head, error) { return r.end, nil }

func (r *rows) act(number int64) (string, error) {
	if number < 1 || number > int64(len(r.texts)) {
		return "", nil
	}
	return r.texts[number-1], nil
}

func (r *rows) acts() iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for _, text := range r.texts {
			if !yield(text, nil) {
				return
			}
		}
	}
}

func (r *rows) client(name string) (clientRow, bool, error) {
	c, is := r.standings[name]
	return c, is, nil
}

func (r *rows) clients() ([]clientRow, error) {
	return sortedRows(maps.Values(r.standings), func(a, b clientRow) int { return cmp.Compare(a.name, b.name) }), nil
}

func (r *rows) request(number int64) (requestRow, bool, error) {
	request, is := r.asked[number]
	return request, is, nil
}

func (r *rows) requests(f requestFilter) ([]requestRow, error) {
	return sortedRows(r.matching(f), func(a, b requestRow) int { return cmp.Compare(a.number, b.number) }), nil
}

func (r *rows) matching(f requestFilter) iter.Seq[requestRow] {
	if f.answered {
		return maps.Values(r.asked)
	}
	return func(yield func(requestRow) bool) {
		for client, open := range r.open {
			if f.client != "" && client != f.client {
				continue
			}
			for number := range open {
				if request := r.asked[number]; f.matches(&request) && !yield(request) {
					return
				}
			}
		}
	}
}

func (r *rows) count(f requestFilter, beyond int64) (int, error) {
	n := 0
	for request := range r.matching(f) {
		if request.until > beyond {
			n++
		}
	}
	return n, nil
}

func (r *rows) approvals(f approvalFilter) ([]approvalRow, error) {
	matching := func(yield func(approvalRow) bool) {
		for _, a := range r.approved {
			if f.matches(&a) && !yield(a) {
				return
			}
		}
	}
	return sortedRows(matching, func(a, b approvalRow) int { return cmp.Compare(a.act, b.act) }), nil
}

func (r *rows) grant(key grantKey) (grantRow, bool, error) {
	g, is := r.held[key.client][key]
	return g, is, nil
}

func (r *rows) grants(client string) ([]grantRow, error) {
	matching := func(yield func(grantRow) bool) {
		for of, held := range r.held {
			if client != "" && of != client {
				continue
			}
			for _, g := range held {
				if !yield(g) {
					return
				}
			}
		}
	}
	return sortedRows(matching, func(a, b grantRow) int {
		return cmp.Or(cmp.Compare(a.client, b.client), cmp.Compare(a.account, b.account), cmp.Compare(a.resource, b.resource))
	}), nil
}

// sortedRows returns rows in an order; where there is none, an empty list.
func sortedRows[R any](all iter.Seq[R], order func(a, b R) int) []R {
	return slices.SortedFunc(all, order)
}

func (r *rows) append(_ int64, text string, hashes []tlog.Hash) error {
	if r.undo != nil {
		texts, stored := r.texts, r.hashes
		r.undo = append(r.undo, func() { r.texts, r.hashes = texts, stored })
	}
	r.texts, r.hashes = append(r.texts, text), append(r.hashes, hashes...)
	return nil
}

func (r *rows) setHead(h head) error {
	if r.undo != nil {
		old := r.end
		r.undo = append(r.undo, func() { r.end = old })
	}
	r.end = h
	return nil
}

func (r *rows) setClient(c clientRow) error {
	set(r, r.standings, c.name, c)
	return nil
}

func (r *rows) setRequest(request requestRow) error {
	set(r, r.asked, request.number, request)
	if open := within(r, r.open, request.client); request.answer == 0 {
		set(r, open, request.number, true)
	} else {
		remove(r, open, request.number)
	}
	return nil
}

func (r *rows) setApproval(a approvalRow) error {
	set(r, r.approved, a.act, a)
	return nil
}

func (r *rows) dropApproval(act int64) error {
	remove(r, r.approved, act)
	return nil
}

func (r *rows) setGrant(g grantRow) error {
	set(r, within(r, r.held, g.client), g.grantKey, g)
	return nil
}

func (r *rows) dropGrant(key grantKey) error {
	remove(r, within(r, r.held, key.client), key)
	return nil
}
