package prove_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/demo"
)

// BenchmarkDemo proves the twelve guarantees of the demo.
func BenchmarkDemo(b *testing.B) {
	book, err := demo.Open()
	require.NoError(b, err)
	judge, err := book.Compile()
	require.NoError(b, err)
	for b.Loop() {
		_, err := prove.Prove(b.Context(), book, judge, prove.Options{From: time.Date(2026, 11, 23, 13, 0, 0, 0, time.UTC)})
		require.NoError(b, err)
	}
}
