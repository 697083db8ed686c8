// Package terminal keeps what others wrote from acting on a terminal or a shell: names,
// reasons and reports come from anybody, and an administrator reads and copies them.
package terminal

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// Gate returns a writer through which all text goes to a terminal. What a terminal would
// not show as it stands is written as an escape that is seen, in the form of JSON (RFC 8259
// §7), so that a JSON document says the same behind the gate as before it: control
// characters (C0, C1), what turns the direction of writing, what has no width, and what is
// no character. The changes of style that the program itself uses pass.
func Gate(w io.Writer) io.Writer { return &gate{to: w} }

type gate struct {
	to io.Writer
	// rest is the beginning of a character that the last write ended in.
	rest []byte
	text []byte
}

// style is a change of style that lipgloss writes: bold, faint, underlined, and the bright
// and plain colours (ECMA-48 §8.3.117). What hides or blinks is none.
var style = regexp.MustCompile(`^\x1b\[(?:(?:0|1|2|4|22|24|39|3[0-7]|9[0-7])(?:;(?:0|1|2|4|22|24|39|3[0-7]|9[0-7])){0,4})?m`)

// Write implements io.Writer.
func (g *gate) Write(p []byte) (int, error) {
	text := p
	if len(g.rest) > 0 {
		text = slices.Concat(g.rest, p)
	}
	g.text, g.rest = g.text[:0], nil
	for len(text) > 0 {
		r, size := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && size == 1 && !utf8.FullRune(text):
			g.rest = slices.Clone(text)
			size = len(text)
		case r == utf8.RuneError && size == 1:
			g.text = fmt.Appendf(g.text, `\u%04x`, text[0])
		case r == 0x1b && style.Match(text):
			size = len(style.Find(text))
			g.text = append(g.text, text[:size]...)
		case isShown(r):
			g.text = append(g.text, text[:size]...)
		default:
			g.text = appendEscape(g.text, r)
		}
		text = text[size:]
	}
	if _, err := g.to.Write(g.text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// isShown reports whether a terminal shows a character as it stands.
func isShown(r rune) bool {
	return r == '\n' || r == '\t' || unicode.IsPrint(r) || unicode.Is(unicode.Zs, r)
}

func appendEscape(text []byte, r rune) []byte {
	if r <= 0xffff {
		return fmt.Appendf(text, `\u%04x`, r)
	}
	r -= 0x10000
	return fmt.Appendf(text, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
}

// plain are words that a shell takes as they stand.
var plain = regexp.MustCompile(`^[A-Za-z0-9_@%+=:,./-]+$`)

// Quote returns a word as a POSIX shell takes it for itself (Shell Command Language §2.2.2).
func Quote(word string) string {
	if plain.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Command returns the words of a command. Those of the format stand as they are; what is
// put in for a verb is quoted.
func Command(format string, args ...any) []string {
	words := strings.Fields(format)
	for i, word := range words {
		if n := strings.Count(word, "%"); n > 0 {
			words[i] = Quote(fmt.Sprintf(word, args[:n]...))
			args = args[n:]
		}
	}
	return words
}

// Wrap breaks a text into lines of at most that width, at spaces only: a name or an option with a hyphen
// in it stays whole, so that it can be copied.
func Wrap(text string, width int) []string {
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && ansi.StringWidth(line)+1+ansi.StringWidth(word) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}
