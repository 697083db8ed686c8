// Package pieces reads a long YAML file as several short trees. The YAML module makes
// one tree of a whole document, which takes many times the memory of its text; a book of
// many accounts is one long list, and each stretch of it can be read by itself.
package pieces

import (
	"bytes"
	"errors"
	"io"
	"iter"
	"strings"

	"go.yaml.in/yaml/v4"
)

// SyntaxError is what makes a file no YAML document, with its place. The first line and
// the first column are 1; both are 0 where the place is not known.
type SyntaxError struct {
	Line, Column int
	Text         string
}

// Error returns the text.
func (e *SyntaxError) Error() string { return e.Text }

// ErrEmpty is the error for a file that says nothing.
var ErrEmpty = errors.New("the file says nothing")

// Of parses the text of a file, which is UTF-8. Where that is longer than size in bytes,
// and a mapping whose values are lists, it yields several mappings, one after the other,
// which together say what the file says: a list may go on under the same key in the next
// one. All nodes have their places in the file. Else it yields the file's one tree. An
// error ends the sequence. While the caller looks at one tree the next is made.
func Of(text []byte, size int) iter.Seq2[*yaml.Node, error] {
	return func(yield func(*yaml.Node, error) bool) {
		cuts := cut(text, size)
		if len(cuts) == 1 {
			yield(cuts[0].parse(text))
			return
		}
		ahead := cuts[0].begin(text)
		for i := range cuts {
			p, got := &cuts[i], <-ahead
			if i+1 < len(cuts) {
				ahead = cuts[i+1].begin(text)
			}
			if got.err != nil || !p.holds(got.root) {
				// It was cut where it should not be, within a quotation or in brackets, or it is
				// no YAML. From here on it is read in one.
				yield(p.parse(text[p.start:]))
				return
			}
			if !yield(got.root, nil) {
				return
			}
		}
	}
}

// parsed is what became of a piece.
type parsed struct {
	root *yaml.Node
	err  error
}

// begin parses a piece while the caller reads the one before it. Nobody has to wait for
// the answer.
func (p *piece) begin(text []byte) <-chan parsed {
	answer := make(chan parsed, 1)
	go func() {
		root, err := p.parse(text[p.start:p.end])
		answer <- parsed{root, err}
	}()
	return answer
}

// piece is a part of a file that is read by itself.
type piece struct {
	start, end int
	// line is that on which it starts.
	line int
	// section is the key that its first items belong to, and sectionLine the line of
	// that; empty where it begins with a key of its own.
	section     string
	sectionLine int
	// keys are those that it must turn out to have.
	keys []string
}

// cut divides a text into pieces of about so many bytes. Where it is not sure how, there
// is one piece. That lines look like keys and items does not make them so: see holds.
func cut(text []byte, size int) []piece {
	one := []piece{{end: len(text), line: 1}}
	if len(text) <= size || !hasPlainLines(text) {
		return one
	}
	var pieces []piece
	current := piece{line: 1}
	// section is the key that was read last, with its line; indent is that of the items
	// of its list, unknown before the first and noList where it has none.
	const unknown, noList = -1, -2
	var section string
	var sectionLine int
	indent := noList
	seen := map[string]bool{}
	begin := func(at, line int, section string, sectionLine int) {
		if at-current.start < size || len(current.keys) == 0 {
			return
		}
		current.end = at
		pieces = append(pieces, current)
		current = piece{start: at, line: line, section: section, sectionLine: sectionLine}
		if section != "" {
			current.keys = []string{section}
		}
	}
	at, line := 0, 0
	for full := range bytes.Lines(text) {
		start := at
		at, line = at+len(full), line+1
		content := bytes.TrimRight(full, " \t\r\n")
		spaces := len(content) - len(bytes.TrimLeft(content, " "))
		content = content[spaces:]
		isItem := len(content) > 0 && content[0] == '-' && (len(content) == 1 || content[1] == ' ')
		switch {
		case len(content) == 0, content[0] == '#', len(seen) == 0 && spaces == 0 && string(content) == "---":
		case isItem && len(seen) > 0 && (spaces > 0 || indent == unknown || indent == 0):
			if indent == unknown {
				indent = spaces
			} else if indent == spaces {
				begin(start, line, section, sectionLine)
			}
		case spaces > 0 && len(seen) > 0:
			if indent == unknown {
				indent = noList
			}
		default:
			key, value, ok := strings.Cut(string(content), ":")
			if !ok || spaces > 0 || !isPlainKey(key) || seen[key] || value != "" && value[0] != ' ' {
				return one
			}
			begin(start, line, "", 0)
			section, sectionLine, seen[key], indent = key, line, true, noList
			if value = strings.TrimLeft(value, " "); value == "" || value[0] == '#' {
				indent = unknown
			}
			current.keys = append(current.keys, key)
		}
	}
	current.end = len(text)
	return append(pieces, current)
}

// hasPlainLines reports whether a text has no line breaks but the usual ones, no mark of
// byte order, and no anchors, which lead from one part of it to another.
func hasPlainLines(text []byte) bool {
	for _, other := range []string{"\u0085", "\u2028", "\u2029", "\ufeff"} {
		if bytes.Contains(text, []byte(other)) {
			return false
		}
	}
	for i := bytes.IndexByte(text, '&'); i >= 0; {
		if i == 0 || bytes.IndexByte([]byte(" \t\n[{,:-"), text[i-1]) >= 0 { // else it is part of a word
			return false
		}
		next := bytes.IndexByte(text[i+1:], '&')
		if next < 0 {
			break
		}
		i += 1 + next
	}
	return bytes.Count(text, []byte("\r")) == bytes.Count(text, []byte("\r\n"))
}

// isPlainKey reports whether a key is of letters and underscores, as those of sections
// are.
func isPlainKey(key string) bool {
	return key != "" && strings.Trim(key, "abcdefghijklmnopqrstuvwxyz_") == ""
}

// parse parses the text of a piece.
func (p *piece) parse(text []byte) (*yaml.Node, error) {
	var from io.Reader = bytes.NewReader(text)
	before := p.line - 1 // lines of the file that stand before it
	if p.section != "" {
		from = io.MultiReader(strings.NewReader(p.section+":\n"), from)
		before--
	}
	decoder := yaml.NewDecoder(from)
	var document, second yaml.Node
	switch err := decoder.Decode(&document); {
	case errors.Is(err, io.EOF):
		return nil, ErrEmpty
	case err != nil:
		return nil, syntaxError(err, before)
	}
	switch err := decoder.Decode(&second); {
	case err == nil:
		return nil, &SyntaxError{second.Line + before, second.Column, "a file is one document; take the `---` out or begin another file"}
	case !errors.Is(err, io.EOF):
		return nil, syntaxError(err, before)
	}
	root := document.Content[0]
	if before != 0 {
		move(root, before)
	}
	if p.section != "" {
		root.Line, root.Content[0].Line = p.sectionLine, p.sectionLine
	}
	return root, nil
}

// holds reports whether a tree has the keys that the piece was cut for. A line that
// looks like a key may stand within a quotation.
func (p *piece) holds(root *yaml.Node) bool {
	if root.Kind != yaml.MappingNode || len(root.Content) != 2*len(p.keys) {
		return false
	}
	for i, key := range p.keys {
		if n := root.Content[2*i]; n.Kind != yaml.ScalarNode || n.Value != key {
			return false
		}
	}
	return true
}

// move adds lines to the places of a tree without aliases.
func move(n *yaml.Node, lines int) {
	n.Line += lines
	for _, inner := range n.Content {
		move(inner, lines)
	}
}

// advice puts what the YAML module says into words that say what would be right. The first
// that is part of its message counts.
var advice = []struct{ said, means string }{
	{"tab character", "a tab stands where the indentation has to be spaces"},
	{"mapping values are not allowed", "a colon stands within a text without quotes, or a key is not in line with the others; " +
		"put the text in quotes, or line the key up"},
	{"cannot start any token", "a text cannot begin with this character; put the text in quotes"},
	{"expected ',' or ']'", "before this place a bracket `[` is not closed, or a comma is missing"},
	{"expected ',' or '}'", "before this place a brace `{` is not closed, or a comma is missing"},
	{"expected node content", "something is missing here: a value, or the end of a bracket"},
	{"while scanning a quoted scalar, found unexpected end of stream", "a quotation is not closed"},
	{"found unknown escape character", "there is no such escape in double quotes; write the backslash twice, or use single quotes"},
	{"could not find expected ':'", "before this place a key lacks the colon and the space behind it"},
	{"did not find expected key", "a line is not in line with those beside it, or has no key"},
	{"did not find expected '-' indicator", "an item of a list begins with `- `, in line with the others"},
	{"unknown anchor", "an alias begins with `*` and has no anchor; a text that begins so is put in quotes"},
	{"expected comment or line break", "behind `|` or `>` the line ends; the text begins on the next"},
	{"expected alphabetic or numeric character", "a name is missing behind `&` or `*`; a text that begins so is put in quotes"},
	{"block sequence entries are not allowed", "a list begins on a line of its own, below its key"},
	{"exceeded max depth", "brackets stand within brackets too deeply"},
}

func syntaxError(err error, before int) error {
	found, text := SyntaxError{}, err.Error()
	var load *yaml.LoadError
	if errors.As(err, &load) {
		text = load.Message
		if load.Mark.Line > 0 {
			found.Line, found.Column = load.Mark.Line+before, max(1, load.Mark.Column)
		}
		if load.ContextMsg != "" {
			text = load.ContextMsg + ", " + text
		}
	}
	for _, a := range advice {
		if strings.Contains(text, a.said) {
			text = a.means
			break
		}
	}
	found.Text = "not YAML: " + text
	return &found
}
