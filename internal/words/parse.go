package words

import (
	"fmt"
	"slices"

	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Parse finds text among the words of a closed list and stores its number, counted
// from first. The error suggests the nearest word.
func Parse[T ~uint8 | ~int](into *T, what, text string, words []string, first T) error {
	i := slices.Index(words, text)
	if i < 0 {
		return fmt.Errorf("%q is not %s%s", text, what, nearest.DidYouMean(text, words))
	}
	*into = T(i) + first
	return nil
}

// Of is the word for a value of a closed list, counted from first, and "invalid (N)" for one that is not of the list.
func Of[T ~uint8 | ~int](value T, words []string, first T) string {
	if value < first || int(value-first) >= len(words) {
		return fmt.Sprintf("invalid (%d)", value)
	}
	return words[value-first]
}
