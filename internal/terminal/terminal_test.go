package terminal_test

import (
	"encoding/json"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/terminal"
)

// gated returns what comes through the gate where a text is written in pieces of so many
// bytes.
func gated(t testing.TB, text string, size int) string {
	var out strings.Builder
	gate := terminal.Gate(&out)
	for at := 0; at < len(text); at += size {
		n, err := gate.Write([]byte(text[at:min(at+size, len(text))]))
		require.NoError(t, err)
		require.Equal(t, min(size, len(text)-at), n)
	}
	return out.String()
}

func TestGate(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"plain text":              {"Bodø: 23 °C, naïve 船\n\tnext", "Bodø: 23 °C, naïve 船\n\tnext"},
		"a style of our own":      {"\x1b[1mBLOCK\x1b[0m \x1b[1;91mno\x1b[m", "\x1b[1mBLOCK\x1b[0m \x1b[1;91mno\x1b[m"},
		"the screen is cleared":   {"a\x1b[2Jb", `a\u001b[2Jb`},
		"the cursor moves":        {"a\x1b[1;1Hb\rc\bd", `a\u001b[1;1Hb\u000dc\u0008d`},
		"text is hidden":          {"\x1b[8mx\x1b[0;8my", `\u001b[8mx\u001b[0;8my`},
		"the title is set":        {"\x1b]0;owned\x07", `\u001b]0;owned\u0007`},
		"a control of eight bits": {"\u009b2J", `\u009b2J`},
		"a byte that is no text":  {"a\x9bb\xff", `a\u009bb\u00ff`},
		"writing turns round":     {"abc\u202etxt.exe\u2066", `abc\u202etxt.exe\u2066`},
		"what has no width":       {"ad\u200bmin\ufeff\u00ad", `ad\u200bmin\ufeff\u00ad`},
		"other breaks of lines":   {"a\u2028b\u0085c", `a\u2028b\u0085c`},
		"a tag":                   {"a\U000e0061b", `a\udb40\udc61b`},
		"a space that holds":      {"10\u00a0km", "10\u00a0km"},
	} {
		t.Run(name, func(t *testing.T) { require.Equal(t, c.want, gated(t, c.text, len(c.text))) })
	}
}

var styles = regexp.MustCompile(`\x1b\[[0-9;]*m`)

func FuzzGate(f *testing.F) {
	f.Add("a\x1b[2J\u202e\xff", 1)
	f.Add("\x1b[1;91mno\x1b[0m \U000e0061", 3)
	f.Fuzz(func(t *testing.T, text string, size int) {
		if size < 4 || size > len(text) { // no style is written in two pieces
			size = max(1, len(text))
		}
		out := gated(t, text, size)
		for _, r := range styles.ReplaceAllString(out, "") {
			require.True(t, r == '\n' || r == '\t' || unicode.IsPrint(r) || unicode.Is(unicode.Zs, r), "%q", out)
		}
		if utf8.ValidString(text) {
			document, err := json.Marshal(text)
			require.NoError(t, err)
			var again string
			require.NoError(t, json.Unmarshal([]byte(gated(t, string(document), 1)), &again))
			require.Equal(t, text, again, "a document says the same behind the gate")
		}
	})
}

func TestQuote(t *testing.T) {
	for _, word := range []string{"", "kestrel", "a b", "x$(touch${IFS}pwned)", "`id`", "it's", `a"b\c`, "~", "*", "--as", "#", "a\nb",
		"!x", ">"} {
		out, err := exec.Command("sh", "-c", "printf %s "+terminal.Quote(word)).Output()
		require.NoError(t, err)
		require.Equal(t, word, string(out))
	}
	require.Equal(t, []string{"briskwarden", "x", "--book", "'my book'", "--file", "'my book/a.csv'", ">", "out"},
		terminal.Command("briskwarden x --book %s --file %s/a.csv > out", "my book", "my book"))
}

// FuzzQuote: what a shell makes of a quoted word is the word. Within single quotes each
// character stands for itself, and outside of them only what needs no quoting is left.
func FuzzQuote(f *testing.F) {
	f.Add("x$(touch${IFS}pwned)")
	f.Add("it's 'so'")
	f.Fuzz(func(t *testing.T, word string) {
		var read strings.Builder
		quoted, rest := false, terminal.Quote(word)
		for rest != "" {
			switch {
			case rest[0] == '\'':
				quoted, rest = !quoted, rest[1:]
			case !quoted && strings.HasPrefix(rest, `\'`):
				read.WriteByte('\'')
				rest = rest[2:]
			default:
				require.True(t, quoted || !strings.ContainsAny(rest[:1], " \t\n|&;<>()$`\\\"*?[#~!{}"), "%q", terminal.Quote(word))
				read.WriteByte(rest[0])
				rest = rest[1:]
			}
		}
		require.False(t, quoted)
		require.Equal(t, word, read.String())
	})
}
