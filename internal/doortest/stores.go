package doortest

import (
	"context"
	"errors"
	"sync"

	"github.com/briskwarden/briskwarden/store"
)

// Broken is a store that fails as told.
type Broken struct {
	store.Memory
	mu            sync.Mutex
	reads, writes bool
}

// ErrBroken is the error of all that fails.
var ErrBroken = errors.New("the disk is full")

// Fail has reads and writes fail from now on.
func (b *Broken) Fail(reads, writes bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.reads, b.writes = reads, writes
}

// Get implements store.Store.
func (b *Broken) Get(ctx context.Context, key store.Key) (store.Row, error) {
	b.mu.Lock()
	fails := b.reads
	b.mu.Unlock()
	if fails {
		return store.Row{}, ErrBroken
	}
	return b.Memory.Get(ctx, key)
}

// Update implements store.Store.
func (b *Broken) Update(ctx context.Context, change func(store.Tx) error) error {
	b.mu.Lock()
	fails := b.writes
	b.mu.Unlock()
	if fails {
		return ErrBroken
	}
	return b.Memory.Update(ctx, change)
}
