// Package condition holds the three-valued conditions that policies, groups,
// signals and consent rules are written in: the tree, its binding to the
// numbers that facts come in, its evaluation, and its words.
//
// A condition is a tree of a closed set of nodes: [All], [Any], [Not] and
// [Test]. The tree that is evaluated is the tree that is read, so whatever
// explains or checks a condition walks what is judged. The package knows
// nothing of accounts or networks: a [Vocabulary] turns names into numbers when
// a tree is bound, and the facts that it is evaluated on are what the definitions of
// the keys look at.
package condition

import (
	"fmt"
	"slices"
)

// Position is a place in a file. Lines and columns count from 1; the zero
// Position is no place.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// IsValid reports whether the position is a place.
func (p Position) IsValid() bool { return p.Line > 0 }

// String returns file:line:column, or "-" for no place.
func (p Position) String() string {
	if !p.IsValid() {
		return "-"
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Compare orders positions by file, line and column.
func (p Position) Compare(q Position) int {
	switch {
	case p.File < q.File:
		return -1
	case p.File > q.File:
		return 1
	case p.Line != q.Line:
		return p.Line - q.Line
	}
	return p.Column - q.Column
}

// A Node is a condition. Its types are *All, *Any, *Not and *Test, and no others.
type Node interface {
	// Pos is where the condition stands in the book, if it was read from one.
	Pos() Position
	node()
}

// All holds where each of its conditions holds; an empty one always does.
type All struct {
	At Position
	Of []Node
}

// Any holds where one of its conditions holds; an empty one never does.
type Any struct {
	At Position
	Of []Node
}

// Not holds where its condition does not.
type Not struct {
	At Position
	Of Node
	// Except records that the book wrote `except` rather than `not`. The
	// meaning is the same, the words differ.
	Except bool
}

// Test asks one thing of one fact.
type Test struct {
	// few is room for the numbers of most tests, beside all that an evaluation looks at.
	few   [4]int32
	bound Binding
	// isBound says that the vocabulary of facts has been asked what the values stand for.
	isBound bool
	about   Subject
	Key     Key
	At      Position
	// Attribute is the name of the attribute that the key Attributes asks about.
	Attribute string
	// Values are the alternatives as the book writes them. A flag has "true" or
	// "false", and a key that asks for so much has one value.
	Values []string

	// misspelt is the name that Is was given, where there is no such key.
	misspelt string
	wants    string
}

// Is returns a test of the key that a book writes so: Is("groups", "crew", "deck"),
// Is("our_network", "true"). A key that is true only, such as anyone, needs no value.
// Where there is no such key the test has the zero Key, and whatever checks it says
// which it was. The keys are defined by the packages that know what they ask, which
// package decide imports.
func Is(key string, values ...string) *Test {
	k, ok := ParseKey(key)
	if !ok {
		return &Test{misspelt: key, Values: values}
	}
	if k.Shape() == Marker && len(values) == 0 {
		values = []string{"true"}
	}
	return &Test{Key: k, Values: values}
}

// Attribute returns a test of an attribute of the account.
func Attribute(name string, values ...string) *Test {
	t := Is("attributes", values...)
	t.Attribute = name
	return t
}

// KeyName returns the key as a book writes it, also of a test by a name that no key has.
func (n *Test) KeyName() string {
	if n.misspelt != "" {
		return n.misspelt
	}
	return n.Key.String()
}

// Binding is what a value of a test stands for.
type Binding struct {
	// Numbers are the numbers of what is named.
	Numbers []int32
	// Texts are names that are compared as text, in the form in which they are
	// compared.
	Texts []string
	// Limit is how much is asked for: a level, a score, a percentage, or a length
	// of time in nanoseconds.
	Limit int64
	// Salt makes the share of one policy another than that of the next.
	Salt uint64
	// Words describe the value to a reader.
	Words string
}

// Pos returns where the condition stands in the book.
func (n *All) Pos() Position { return n.At }

// Pos returns where the condition stands in the book.
func (n *Any) Pos() Position { return n.At }

// Pos returns where the condition stands in the book.
func (n *Not) Pos() Position { return n.At }

// Pos returns where the test's key stands in the book.
func (n *Test) Pos() Position { return n.At }

func (*All) node()  {}
func (*Any) node()  {}
func (*Not) node()  {}
func (*Test) node() {}

// Numbers are the alternatives of a bound test, ascending and without
// duplicates; what they count is the Vocabulary's affair. The caller must not
// change them.
func (n *Test) Numbers() []int32 { return n.bound.Numbers }

// Texts are the alternatives of a bound test that are compared as text. The caller
// must not change them.
func (n *Test) Texts() []string { return n.bound.Texts }

// About returns the subject of a bound test.
func (n *Test) About() Subject { return n.about }

// Limit is how much a bound test asks for, as Binding has it.
func (n *Test) Limit() int64 { return n.bound.Limit }

// Salt is the salt of a bound test on a share.
func (n *Test) Salt() uint64 { return n.bound.Salt }

// Wants says what a bound test asks for, as a reader would: "home-waters (DK,
// NO, SE)".
func (n *Test) Wants() string { return n.wants }

// Walk calls visit for node and what is below it, parents first, and goes below
// a node only where visit returns true.
func Walk(node Node, visit func(Node) bool) {
	if node == nil || !visit(node) {
		return
	}
	switch n := node.(type) {
	case *All:
		for _, kid := range n.Of {
			Walk(kid, visit)
		}
	case *Any:
		for _, kid := range n.Of {
			Walk(kid, visit)
		}
	case *Not:
		Walk(n.Of, visit)
	}
}

// Asks reports whether some test of a condition, wherever it stands, is of one of the keys.
func Asks(node Node, keys ...Key) bool {
	found := false
	Walk(node, func(n Node) bool {
		if t, ok := n.(*Test); ok && slices.Contains(keys, t.Key) {
			found = true
		}
		return !found
	})
	return found
}

// Vocabulary knows the names that conditions use.
type Vocabulary interface {
	// Bind returns what one of the test's values stands for; an error where it is
	// not known.
	Bind(t *Test, value string) (Binding, error)
}

// Bind returns a copy of the tree whose tests carry the vocabulary's numbers.
// A nil node binds to a condition that always holds. The error names the test
// that could not be bound, with its position.
func Bind(node Node, names Vocabulary) (Node, error) {
	switch n := node.(type) {
	case nil:
		return &All{}, nil
	case *All:
		kids, err := bindEach(n.Of, names)
		return &All{n.At, kids}, err
	case *Any:
		kids, err := bindEach(n.Of, names)
		return &Any{n.At, kids}, err
	case *Not:
		kid, err := Bind(n.Of, names)
		return &Not{n.At, kid, n.Except}, err
	case *Test:
		if !n.Key.IsValid() || len(n.Values) == 0 {
			return nil, fmt.Errorf("%s: %s: a test names a key that there is, and at least one value", n.At, n.KeyName())
		}
		t := &Test{At: n.At, Key: n.Key, Attribute: n.Attribute, Values: n.Values, isBound: true, about: n.Key.About()}
		for i, value := range n.Values {
			b, err := names.Bind(n, value)
			if err != nil {
				return nil, fmt.Errorf("%s: %s: %w", n.At, n.Key, err)
			}
			b.Numbers = append(t.bound.Numbers, b.Numbers...)
			b.Texts = append(t.bound.Texts, b.Texts...)
			t.bound = b
			if i > 0 {
				t.wants += " or "
			}
			t.wants += b.Words
		}
		slices.Sort(t.bound.Numbers)
		t.bound.Numbers = slices.Compact(t.bound.Numbers)
		if n := len(t.bound.Numbers); n <= len(t.few) {
			copy(t.few[:], t.bound.Numbers)
			t.bound.Numbers = t.few[:n:n]
		}
		return t, nil
	}
	return nil, fmt.Errorf("a condition of type %T is none", node)
}

func bindEach(nodes []Node, names Vocabulary) ([]Node, error) {
	bound := make([]Node, len(nodes))
	for i, n := range nodes {
		var err error
		if bound[i], err = Bind(n, names); err != nil {
			return nil, err
		}
	}
	return bound, nil
}
