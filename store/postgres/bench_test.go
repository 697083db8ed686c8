package postgres_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
)

// BenchmarkHeard measures from the beginning of a change at one store to the moment at which another
// on the same database has heard of it.
func BenchmarkHeard(b *testing.B) {
	address := storetest.Postgres(b)
	one, err := postgres.Open(b.Context(), address)
	require.NoError(b, err)
	defer one.Close()
	other, err := postgres.Open(b.Context(), address)
	require.NoError(b, err)
	defer other.Close()
	heard, found := make(chan []store.Key, 8), make(chan bool, 8)
	go other.Watch(
		b.Context(),
		store.Watcher{Changed: func(keys []store.Key) { heard <- keys }, Lost: func() {}, Found: func() { found <- true }},
	)
	<-found
	for i := 0; b.Loop(); i++ {
		account := &store.Account{Name: fmt.Sprint("account-", i)}
		require.NoError(b, one.Update(b.Context(), func(tx store.Tx) error { return store.Save(tx, account) }))
		require.Equal(b, account.Name, (<-heard)[0].Key)
	}
}
