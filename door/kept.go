package door

import (
	"context"
	"errors"
	"hash/maphash"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"github.com/briskwarden/briskwarden/store"
)

// kept remembers rows of one kind, those that were asked for last. What it returns is shared:
// nobody changes it.
type kept[V any] struct {
	rows *lru.Cache[string, remembered[V]]
	// kind is that of the rows, and read makes a value of one.
	kind store.Kind
	// timeout bounds how long the store is asked.
	timeout time.Duration
	read    func(store.Row) (*V, error)
	// following says that whatever others change is heard of. While it is not, nothing is
	// remembered.
	following *atomic.Bool
	// shards count the changes of the rows that fall into each, so that what was read before a
	// change is not remembered after it.
	shards [256]shard
	seed   maphash.Seed
}

type shard struct {
	mu      sync.Mutex
	changes uint64
}

// remembered is what is known of a row; its value is nil where there surely is none. The text is
// the value's JSON, as decisions show it; of rows that none shows as they are it is not kept.
type remembered[V any] struct {
	value *V
	text  []byte
	// stamp is that of the row, 0 where there is none.
	stamp int64
}

func newKept[V any, P interface {
	*V
	store.Value
}](kind store.Kind, c *Config, following *atomic.Bool) *kept[V] {
	rows, err := lru.New[string, remembered[V]](c.Store.Cached)
	if err != nil {
		panic(err) // a size below 1, which Config.Check refuses
	}
	return &kept[V]{
		rows:      rows,
		kind:      kind,
		timeout:   time.Duration(c.Limits.Answer),
		following: following,
		seed:      maphash.MakeSeed(),
		read: func(row store.Row) (*V, error) {
			v := new(V)
			return v, store.Read(row, P(v))
		},
	}
}

func (k *kept[V]) shard(name string) *shard {
	return &k.shards[maphash.String(k.seed, name)%uint64(len(k.shards))]
}

// get returns what is known of a name. The error means that nobody could find out.
func (k *kept[V]) get(ctx context.Context, from store.Reader, name string) (remembered[V], error) {
	if r, ok := k.rows.Get(name); ok && k.following.Load() {
		return r, nil
	}
	s := k.shard(name)
	s.mu.Lock()
	before := s.changes
	s.mu.Unlock()
	asking, cancel := context.WithTimeout(ctx, k.timeout)
	defer cancel()
	r, err := k.look(asking, from, name)
	if err != nil {
		return r, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.changes == before && k.following.Load() {
		k.rows.Add(name, r)
	}
	return r, nil
}

// look reads a row and remembers nothing.
func (k *kept[V]) look(ctx context.Context, from store.Reader, name string) (r remembered[V], err error) {
	row, err := from.Get(ctx, store.Key{Kind: k.kind, Key: name})
	switch {
	case errors.Is(err, store.ErrNotFound):
		return r, nil
	case err != nil:
		return r, err
	}
	if r.stamp = row.Stamp; k.kind == store.Devices {
		r.text = row.Value
	}
	r.value, err = k.read(row)
	return r, err
}

// set remembers what was just written.
func (k *kept[V]) set(name string, r remembered[V]) {
	s := k.shard(name)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes++
	if k.following.Load() {
		k.rows.Add(name, r)
	}
}

// forget drops what is remembered of a name.
func (k *kept[V]) forget(name string) {
	s := k.shard(name)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes++
	k.rows.Remove(name)
}

// forgetAll drops everything.
func (k *kept[V]) forgetAll() {
	for i := range k.shards {
		k.shards[i].mu.Lock()
		k.shards[i].changes++
		k.shards[i].mu.Unlock()
	}
	k.rows.Purge()
}

// whole remembers what is read of the store as a whole, until it changes.
type whole[V any] struct {
	value   atomic.Pointer[V]
	changes atomic.Uint64
}

// get returns what is remembered, else what read returns. It is remembered while whatever others change is heard of.
func (w *whole[V]) get(following *atomic.Bool, read func() (V, error)) (V, error) {
	if value := w.value.Load(); value != nil && following.Load() {
		return *value, nil
	}
	changes := w.changes.Load()
	value, err := read()
	if err != nil {
		return value, err
	}
	// What was read before a change is not remembered after it, whenever the change comes.
	if following.Load() {
		w.value.Store(&value)
		if w.changes.Load() != changes {
			w.value.Store(nil)
		}
	}
	return value, nil
}

// forget drops what is remembered.
func (w *whole[V]) forget() {
	w.changes.Add(1)
	w.value.Store(nil)
}
