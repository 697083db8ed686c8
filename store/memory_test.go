package store_test

import (
	"testing"

	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/store"
)

func TestMemory(t *testing.T) {
	storetest.Run(t, func(*testing.T) store.Store { return new(store.Memory) }, nil)
}
