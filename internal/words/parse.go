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
