package pieces_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"github.com/briskwarden/briskwarden/internal/pieces"
)

// read lists all that a text says, each value with its place, and how many trees it took.
func read(text string, size int) (said []string, trees int, err error) {
	var list func(n *yaml.Node, depth int)
	list = func(n *yaml.Node, depth int) {
		said = append(said, fmt.Sprintf("%d:%d %d %d %s %q", n.Line, n.Column, depth, n.Kind, n.Tag, n.Value))
		for _, inner := range n.Content {
			list(inner, depth+1)
		}
	}
	last := ""
	for root, err := range pieces.Of([]byte(text), size) {
		if err != nil {
			return said, trees, err
		}
		trees++
		if root.Kind != yaml.MappingNode {
			list(root, 0)
			continue
		}
		for i := 0; i+1 < len(root.Content); i += 2 {
			key, value := root.Content[i], root.Content[i+1]
			if place := fmt.Sprintf("%d:%d %q", key.Line, key.Column, key.Value); place != last {
				said, last = append(said, place, fmt.Sprint(value.Kind)), place
			}
			if value.Kind != yaml.SequenceNode {
				list(value, 1)
			}
			for _, item := range value.Content {
				list(item, 2)
			}
		}
	}
	return said, trees, nil
}

const book = "briskwarden: 1\nsettings: {zone: Europe/Oslo}\ngroups:\n- name: crew\n  members: [a, b]\n# more of them\n\n- name: deck\n" +
	"accounts:   # who signs on\n  - {name: a,\n     methods: [push]}\n  - name: b\n    attributes:\n      note: |\n        accounts:\n        - c\n  - " +
	"name: d\nwindows:\n  night: {from: \"22:00\"}\n"

func TestPiecesSayWhatTheWholeSays(t *testing.T) {
	for name, c := range map[string]struct {
		text  string
		trees int // at most so many bytes each
	}{
		"sections and items are cut":               {book, 8},
		"a file may begin with three dashes":       {"---\n" + book, 8},
		"lines may end as on Windows":              {strings.ReplaceAll(book, "\n", "\r\n"), 8},
		"no line break stands at the end":          {strings.TrimSuffix(book, "\n"), 8},
		"a word with an ampersand is no anchor":    {book + "apps:\n- name: R&D\n- name: mail\n", 10},
		"items at the margin after indented ones":  {"a:\n  - x: 1\nb:\n- x: 1\n- x: 2\nc:\n- d\n", 4},
		"what looks like a key within a quotation": {"groups:\n- name: \"x\n\npolicies:\n- y\"\n- name: z\napps:\n- q\n", 1},
		"what looks like an item within one":       {"groups:\n- name: 'x\n- y'\n- name: z\n- name: q\n", 1},
		"an anchor leads to what stands elsewhere": {"groups:\n- &a {name: x}\n- *a\n", 1},
		"a line break of another kind":             {"groups:\n- name: \"x\u2028y\"\n- name: z\n", 1},
		"a key that stands twice":                  {"a:\n- x\nb:\n- y\na:\n- z\n", 1},
		"keys that are quoted":                     {"\"a\":\n- x\nb:\n- y\n", 1},
		"a flow mapping":                           {"{a: [x],\nb: [y]}\n", 1},
		"a list alone":                             {"- x\n- y\n", 1},
		"a value of several lines":                 {"a: b\n  - c\nd:\n- e\n", 2},
		"a mapping with an indented list":          {"a:\n  b:\n  - x\n  - y\nc:\n- z\n", 2},
	} {
		t.Run(name, func(t *testing.T) {
			want, trees, err := read(c.text, len(c.text))
			require.NoError(t, err)
			require.Equal(t, 1, trees)
			got, trees, err := read(c.text, 1)
			require.NoError(t, err)
			require.Equal(t, want, got)
			require.Equal(t, c.trees, trees)
		})
	}
}

func TestWhatIsNoYAMLIsToldWithItsPlace(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"nothing":                   {"# nothing\n\n", "0:0 the file says nothing"},
		"a quotation left open":     {"a:\n- x\nb:\n- \"y\n- z\n", "6:1 "},
		"brackets left open":        {"a:\n- x\nb:\n- [y\n- z\nc:\n- q\n", "6:2 "},
		"a line that is out of row": {"a:\n- x: 1\n   y: 2\n- z\n", "3:"},
		"a second document":         {"a:\n- x\n---\nb: 1\n", "3:1 a file is one document"},
		"an item after a value":     {"a: 1\n- x\n", "2:"},
		"a colon within a text":     {"say: Come back: now\n", "1:15 not YAML: a colon stands within a text without quotes"},
		"a tab":                     {"a: b\n\tc: d\n", "2:1 not YAML: a tab stands where the indentation has to be spaces"},
		"a character of its own":    {"a: @x\n", "1:4 not YAML: a text cannot begin with this character; put the text in quotes"},
		"a brace left open":         {"a: {b: c\n", "2:1 not YAML: before this place a brace `{` is not closed"},
		"a key without a colon":     {"x: 1\na\nb: c\n", "3:1 not YAML: before this place a key lacks the colon"},
		"a star":                    {"a: *.example\n", "1:4 not YAML: a"},
		"an escape":                 {`a: "\q"` + "\n", "1:5 not YAML: there is no such escape in double quotes"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, size := range []int{1, 1000} {
				_, _, err := read(c.text, size)
				require.Error(t, err)
				line, column := 0, 0
				if syntax, ok := err.(*pieces.SyntaxError); ok {
					line, column = syntax.Line, syntax.Column
				}
				require.Truef(t, strings.HasPrefix(fmt.Sprintf("%d:%d %v", line, column, err), c.want), "%d:%d %v", line, column, err)
			}
		})
	}
}

// FuzzOf compares what is read in pieces with what is read in one.
func FuzzOf(f *testing.F) {
	f.Add(book, 1)
	f.Add("a:\n- \"x\nb:\n- y\"\n- 'z\n\n- q'\n", 3)
	f.Fuzz(func(t *testing.T, text string, size int) {
		want, _, wrong := read(text, len(text))
		got, _, err := read(text, max(1, size))
		if wrong != nil {
			require.Error(t, err)
			return
		}
		require.NoError(t, err)
		require.True(t, slices.Equal(want, got), "%q\n%q", want, got)
	})
}
