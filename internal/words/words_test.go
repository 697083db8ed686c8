package words_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/words"
)

func TestCount(t *testing.T) {
	for want, got := range map[string]string{
		"0 days": words.Count(0, "day"), "1 day": words.Count(1, "day"), "2 days": words.Count(2, "day"), "1 policy": words.Count(1, "policy"),
		"12 policies": words.Count(12, "policy"),
	} {
		t.Run(want, func(t *testing.T) {
			require.Equal(t, want, got)
		})
	}
}

func TestLists(t *testing.T) {
	for want, got := range map[string]string{
		"nothing": words.List(nil, "and"), "a": words.List([]string{"a"}, "and"), "a or b": words.List([]string{"a", "b"}, "or"),
		"a, b and c":      words.List([]string{"a", "b", "c"}, "and"),
		"a, b and 2 more": words.UpTo(2, []string{"a", "b", "c", "d"}), "a and b": words.UpTo(2, []string{"a", "b"}),
	} {
		t.Run(want, func(t *testing.T) {
			require.Equal(t, want, got)
		})
	}
}
