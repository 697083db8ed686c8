// Package words puts numbers and lists into English.
package words

import (
	"fmt"
	"strings"
)

// Count is a number with its noun, which takes an s where there are several: "1
// day", "3 days", "2 policies" of "policy".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if stem, ok := strings.CutSuffix(noun, "cy"); ok {
		return fmt.Sprintf("%d %scies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// List joins words with commas and a word before the last: "a, b and c"; nothing
// is "nothing".
func List(words []string, and string) string {
	switch last := len(words) - 1; last {
	case -1:
		return "nothing"
	case 0:
		return words[0]
	default:
		return strings.Join(words[:last], ", ") + " " + and + " " + words[last]
	}
}

// UpTo is List with "and"; a long list gives only the first words and
// says how many more there are.
func UpTo(most int, words []string) string {
	if len(words) <= most {
		return List(words, "and")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(words[:most], ", "), len(words)-most)
}

// escapes are what Markdown (CommonMark 0.31 §2.4) would take for its own.
var escapes = strings.NewReplacer(`\`, `\\`, "*", `\*`, "_", `\_`, "`", "\\`", "<", `\<`, "[", `\[`, "]", `\]`, "#", `\#`, "|", `\|`)

// Markdown returns a text so that Markdown takes nothing in it for its own.
func Markdown(text string) string { return escapes.Replace(text) }
