package condition

import (
	"slices"
	"strings"
)

// Copy returns a copy of a condition that shares nothing with it. A bound condition
// stays bound. A nil condition has a nil copy.
func Copy(node Node) Node {
	switch n := node.(type) {
	case *All:
		return &All{n.At, copyEach(n.Of)}
	case *Any:
		return &Any{n.At, copyEach(n.Of)}
	case *Not:
		return &Not{n.At, Copy(n.Of), n.Except}
	case *Test:
		t := *n
		t.Values, t.bound.Numbers, t.bound.Texts = slices.Clone(n.Values), slices.Clone(n.bound.Numbers), slices.Clone(n.bound.Texts)
		return &t
	}
	return nil
}

func copyEach(nodes []Node) []Node {
	copied := slices.Clone(nodes)
	for i := range copied {
		copied[i] = Copy(copied[i])
	}
	return copied
}

// Text writes a condition as a book would, in the flow style of YAML: {groups:
// [deck], not: {countries: [NO, SE]}}. A book that holds the text reads the same
// condition back. A nil condition, which limits nothing, is "".
func Text(node Node) string {
	var b strings.Builder
	write(&b, node)
	return b.String()
}

// String returns [Text] of the condition.
func (n *All) String() string { return Text(n) }

// String returns [Text] of the condition.
func (n *Any) String() string { return Text(n) }

// String returns [Text] of the condition.
func (n *Not) String() string { return Text(n) }

// String returns [Text] of the condition.
func (n *Test) String() string { return Text(n) }

func write(b *strings.Builder, node Node) {
	switch n := node.(type) {
	case *All:
		writeEach(b, "all", n.Of)
	case *Any:
		writeEach(b, "any", n.Of)
	case *Not:
		b.WriteString("{not: ")
		write(b, n.Of)
		b.WriteString("}")
	case *Test:
		b.WriteString("{" + n.KeyName() + ": ")
		if n.Attribute != "" {
			b.WriteString("{" + quote(n.Attribute) + ": ")
		}
		switch n.Key.Shape() {
		case List, Named:
			b.WriteString("[")
			for i, value := range n.Values {
				if i > 0 {
					b.WriteString(", ")
				}
				b.WriteString(quote(value))
			}
			b.WriteString("]")
		default:
			b.WriteString(strings.Join(n.Values, " "))
		}
		if n.Attribute != "" {
			b.WriteString("}")
		}
		b.WriteString("}")
	}
}

func writeEach(b *strings.Builder, key string, of []Node) {
	b.WriteString("{" + key + ": [")
	for i, kid := range of {
		if i > 0 {
			b.WriteString(", ")
		}
		write(b, kid)
	}
	b.WriteString("]}")
}

// quote writes a text so that YAML reads a text: as it is where it is a plain word,
// else in single quotes (YAML 1.2 §7.3.2).
func quote(text string) string {
	plain := func(c rune) bool {
		return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || c == '-' || c == '_' || c == '@' || c == '.'
	}
	letter := func(c byte) bool { return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' }
	switch strings.ToLower(text) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n", "":
	default:
		if letter(text[0]) && strings.IndexFunc(text, func(c rune) bool { return !plain(c) }) < 0 {
			return text
		}
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}
