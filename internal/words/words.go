// Package words puts numbers and lists into English.
package words

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Count is a number with its noun, which takes an s where there are several: "1
// day", "3 days", "2 policies" of "policy".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	for _, ending := range []string{"cy", "try"} {
		if stem, ok := strings.CutSuffix(noun, ending); ok {
			return fmt.Sprintf("%d %s%sies", n, stem, strings.TrimSuffix(ending, "y"))
		}
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

// escapes are what Markdown (CommonMark 0.31 §2.4, §2.5) would take for its own.
var escapes = strings.NewReplacer(
	`\`, `\\`, "*", `\*`, "_", `\_`, "`", "\\`", "<", `\<`, "[", `\[`, "]", `\]`, "#", `\#`, "|", `\|`, "~", `\~`, "&", `\&`,
)

// block is what would begin a block of its own at the beginning of a line (CommonMark 0.31
// §4, §5): a list, a quotation, a heading's underline.
var block = regexp.MustCompile(`^([0-9]*)([-+>=.)])`)

// Markdown returns a text on one line so that Markdown takes nothing in it for its own.
func Markdown(text string) string {
	return block.ReplaceAllString(escapes.Replace(strings.Join(strings.Fields(text), " ")), `$1\$2`)
}

// Cell returns a text for a table that a spreadsheet opens: one that would be a formula
// stands behind an apostrophe.
func Cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

// Capital is a text that begins a sentence.
func Capital(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if size == 0 {
		return text
	}
	return string(unicode.ToUpper(first)) + text[size:]
}
