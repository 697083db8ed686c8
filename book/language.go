package book

import (
	"embed"
	"fmt"
	"io/fs"
	"reflect"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// Word is a word of the language of books: a section, a key of a definition, a key of
// conditions, or a word of an outcome.
type Word struct {
	Name string `json:"name" doc:"the word"`
	// In is where it stands: "" for a section, else such as "policies / rules", or
	// "conditions" or "outcomes", which stand in many places.
	In string `json:"in,omitzero" doc:"where it stands; absent for a section"`
	// Means says what it is for, and Values what may stand there.
	Means  string `json:"means" doc:"what it means"`
	Values string `json:"values" doc:"what may stand there"`
	// Default is what holds where it is left out; "" where it is Required.
	Default  string `json:"default,omitzero" doc:"what holds where it is left out"`
	Required bool   `json:"required,omitzero" doc:"true where it may not be left out"`
	// Example is a piece of a book that is right.
	Example string `json:"example" doc:"a piece of a book that is right"`
}

// NoDefault is the default of a word that says nothing where it is left out.
const NoDefault = "nothing"

// The places of words that stand in many places.
const (
	inConditions = "conditions"
	inOutcomes   = "outcomes"
)

// Language returns the words of the language of books in the order of the sections, each
// with what it means, by the same definitions that the reader and the schema go by.
func Language() []Word {
	l := &language{examples: exampleLines()}
	l.object(reflect.TypeFor[Sections](), "")
	for _, word := range []struct{ name, means, values string }{
		{"grant", "lets in with any one proof, where nothing else asks for more", "the word alone"},
		{"block", "lets nobody in, whatever is proven", "the word alone"},
		{"require", "asks for assurances, all of them", "one or a list of: the name of an assurance, or {one_of: [assurances]}"},
		{"one_of", "asks for one of several assurances, met whole", "a list of names of assurances"},
	} {
		l.add(Word{Name: word.name, In: inOutcomes, Means: word.means, Values: word.values, Default: NoDefault})
	}
	for _, word := range []struct{ name, means, values string }{
		{"all", "each of the conditions must hold", "a list of conditions"},
		{"any", "one of the conditions must hold", "a list of conditions"},
		{"not", "the condition must not hold", "a condition"},
		{"except", "takes away from what stands beside it", "a condition"},
	} {
		l.add(Word{Name: word.name, In: inConditions, Means: word.means, Values: word.values, Default: NoDefault})
	}
	for _, k := range condition.Keys() {
		l.add(Word{Name: k.String(), In: inConditions, Means: k.Doc(), Values: keyValues(k), Default: NoDefault})
	}
	return l.words
}

// ExampleBook returns the book that the examples of Language are from, as files. It names a
// database of addresses, places.mmdb, that is not among them.
func ExampleBook() fs.FS {
	files, err := fs.Sub(exampleFiles, "examples")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return files
}

//go:embed examples
var exampleFiles embed.FS

type language struct {
	words    []Word
	examples map[string]string
}

func (l *language) add(w Word) {
	w.Example = l.examples[w.In+"/"+w.Name]
	l.words = append(l.words, w)
}

// object adds the keys of a struct, and then those of what stands in it.
func (l *language) object(t reflect.Type, in string) {
	for _, f := range formOf(t).fields {
		field := t.Field(f.index)
		w := Word{Name: f.key, In: in, Means: field.Tag.Get("doc"), Values: valuesOf(field.Type, &f), Required: f.required,
			Default: field.Tag.Get("default")}
		switch {
		case w.Required:
		case w.Default != "":
		case field.Type.Kind() == reflect.Bool:
			w.Default = "false"
		default:
			w.Default = NoDefault
		}
		l.add(w)
		if inner := structIn(field.Type); inner != nil {
			l.object(inner, strings.TrimPrefix(in+" / "+f.key, " / "))
		}
	}
}

// structIn returns the struct that a field holds, alone or in a list, whose keys are words;
// nil where there is none.
func structIn(t reflect.Type) reflect.Type {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || texts[t] != nil || t == outcomeType || t == attemptType || t == requestType || formOf(t).whole >= 0 {
		return nil
	}
	return t
}

// valueWords say what may stand for the values that are read from a text.
var valueWords = map[reflect.Type]string{
	zoneType:                               "an IANA time zone, such as Europe/Oslo",
	momentType:                             "a time, such as 2026-11-23T18:00:00Z",
	reflect.TypeFor[directory.Span]():      "a length of time, such as 15m, 12h or 30d",
	reflect.TypeFor[decide.Within]():       "now, session, or a length of time, such as 12h",
	reflect.TypeFor[directory.Date]():      "a day, such as 2026-11-23",
	reflect.TypeFor[directory.DateRange](): "a day, or days such as 2026-12-24..2026-12-26",
	reflect.TypeFor[directory.Clock]():     "a time of day from 00:00 to 24:00, in quotes",
	reflect.TypeFor[directory.Range]():     "an address, a CIDR block, or a range a-b",
	reflect.TypeFor[directory.Country]():   "a country code of ISO 3166-1, such as NO",
	reflect.TypeFor[attempt.Scalar]():      "a text, a number, true, false or null",
	minimumType:                            "a version or number, or one for each platform",
}

// valuesOf says what may stand in a field.
func valuesOf(t reflect.Type, f *field) string {
	words, isText := valueWords[t]
	switch {
	case isText:
		return words
	case texts[t] != nil && len(texts[t].Enum) > 0:
		return "one of " + strings.Join(texts[t].Enum, ", ")
	case t == conditionType:
		return "a condition"
	case t == outcomeType:
		return "an outcome: grant, block, or {require: [assurances]}"
	case t == attemptType:
		return "an attempt, as briskwarden schema attempt has it"
	case t == requestType:
		return "what an outside program asks for: at, account, client, scopes, and more"
	case t.Kind() == reflect.Pointer:
		return valuesOf(t.Elem(), f)
	case t.Kind() == reflect.String && f.ref != "":
		return "the name of " + article(f.ref)
	case t.Kind() == reflect.String && f.key == "name":
		return "a name: no spaces"
	case t.Kind() == reflect.String:
		return "a text"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() == reflect.Int:
		return "a whole number"
	case t.Kind() == reflect.Float64:
		return "a number"
	case t.Kind() == reflect.Map:
		return "a mapping from names to: " + valuesOf(t.Elem(), f)
	case t.Kind() == reflect.Slice && f.of != "":
		return sectionValues(t.Elem())
	case t.Kind() == reflect.Slice && structIn(t) != nil:
		return "a list of mappings with the keys " + strings.Join(formOf(t.Elem()).keys, ", ")
	case t.Kind() == reflect.Slice:
		return "one or a list of: " + valuesOf(t.Elem(), f)
	case t.Kind() == reflect.Struct:
		return "a mapping with the keys " + strings.Join(formOf(t).keys, ", ")
	}
	panic(fmt.Sprintf("book: no words for %s", t))
}

func sectionValues(t reflect.Type) string {
	form := formOf(t)
	switch {
	case form.whole >= 0:
		whole := t.Field(form.whole)
		return "a mapping from names to: " + valuesOf(whole.Type, &field{})
	case form.named:
		return "a list of mappings with the keys " + strings.Join(form.keys, ", ")
	}
	return "a mapping from names to mappings with the keys " + strings.Join(form.keys, ", ")
}

func keyValues(k condition.Key) string {
	switch k.Shape() {
	case condition.Flag:
		return "true or false"
	case condition.Marker:
		return "true, or the word alone"
	case condition.Named:
		return "a mapping from names to: one or a list of texts, numbers, true, false or null"
	case condition.Length:
		return valueWords[reflect.TypeFor[directory.Span]()]
	case condition.Level:
		return "one of " + strings.Join(directory.Levels()[1:], ", ")
	case condition.Number:
		return "a whole number from 1 to 100"
	}
	d := k.Definition()
	switch {
	case len(d.Words) > 0:
		return "one or a list of: " + strings.Join(d.Words, ", ")
	case d.Names != "" && d.Literal != nil:
		return "one or a list of: the name of " + article(d.Names) + ", or a value that stands for itself"
	case d.Names != "":
		return "one or a list of: the name of " + article(d.Names)
	}
	return "one or a list of texts"
}

// exampleLines finds for each word, by where it stands and its name, the lines of the example
// book that show it first.
func exampleLines() map[string]string {
	text, err := fs.ReadFile(ExampleBook(), "book.yaml")
	var document yaml.Node
	if err == nil {
		err = yaml.Unmarshal(text, &document)
	}
	if err != nil {
		panic(err) // the file is part of the program, and a test loads it
	}
	w := &exampleWalk{lines: strings.Split(string(text), "\n"), found: map[string]string{}}
	w.object(document.Content[0], reflect.TypeFor[Sections](), "", 0)
	return w.found
}

// exampleWalk walks through the example book as the reader does.
type exampleWalk struct {
	lines []string
	found map[string]string
}

// mostLines is how many lines of a value an example shows.
const mostLines = 5

// note keeps the lines of a key, with the first line of the definition that it stands in.
func (w *exampleWalk) note(in, name string, key, value *yaml.Node, head int) {
	at := in + "/" + name
	if w.found[at] != "" {
		return
	}
	var shown []string
	if head > 0 && head < key.Line {
		shown = append(shown, w.lines[head-1])
	}
	last := lastLine(value)
	for i := key.Line; i <= last; i++ {
		if i == key.Line+mostLines && last > i {
			shown = append(shown, w.lines[i-1][:len(w.lines[i-1])-len(strings.TrimLeft(w.lines[i-1], " "))]+"…")
			break
		}
		shown = append(shown, w.lines[i-1])
	}
	w.found[at] = dedent(shown)
}

func lastLine(n *yaml.Node) int {
	last := n.Line
	for _, kid := range n.Content {
		last = max(last, lastLine(kid))
	}
	return last
}

// dedent takes the spaces that all lines begin with from them, and empty lines at the end.
func dedent(lines []string) string {
	least := -1
	for _, line := range lines {
		if n := len(line) - len(strings.TrimLeft(line, " ")); strings.TrimSpace(line) != "" && (least < 0 || n < least) {
			least = n
		}
	}
	var b strings.Builder
	for _, line := range lines {
		b.WriteString(line[min(max(least, 0), len(line)):] + "\n")
	}
	return strings.TrimRight(b.String(), "\n") + "\n"
}

// object walks through the keys of a struct. Head is the first line of the definition.
func (w *exampleWalk) object(n *yaml.Node, t reflect.Type, in string, head int) {
	form := formOf(t)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		number, ok := form.byKey[key.Value]
		if !ok {
			continue // the mark of the file
		}
		f := form.fields[number]
		w.note(in, key.Value, key, value, head)
		under := head
		if in == "" {
			under = key.Line
		}
		w.value(value, t.Field(f.index).Type, &f, strings.TrimPrefix(in+" / "+f.key, " / "), under)
	}
}

// value walks through a value.
func (w *exampleWalk) value(n *yaml.Node, t reflect.Type, f *field, in string, head int) {
	switch {
	case t == conditionType:
		w.condition(n, head)
	case t == outcomeType:
		w.outcome(n, head)
	case f.of != "" && n.Kind == yaml.MappingNode && t.Kind() == reflect.Slice: // names and definitions
		for i := 0; i+1 < len(n.Content); i += 2 {
			if inner := structIn(t); inner != nil {
				w.object(n.Content[i+1], inner, in, n.Content[i].Line)
			}
		}
	case structIn(t) == nil:
	case n.Kind == yaml.SequenceNode:
		for _, item := range n.Content {
			w.object(item, structIn(t), in, item.Line)
		}
	default:
		w.object(n, structIn(t), in, head)
	}
}

func (w *exampleWalk) condition(n *yaml.Node, head int) {
	for i := 0; i+1 < len(n.Content) && n.Kind == yaml.MappingNode; i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		w.note(inConditions, key.Value, key, value, head)
		if slices.Contains([]string{"all", "any", "not", "except"}, key.Value) {
			w.condition(value, head)
		}
	}
	for _, kid := range n.Content {
		if n.Kind == yaml.SequenceNode {
			w.condition(kid, head)
		}
	}
	if n.Kind == yaml.ScalarNode {
		w.note(inConditions, n.Value, n, n, head)
	}
}

func (w *exampleWalk) outcome(n *yaml.Node, head int) {
	for i := 0; i+1 < len(n.Content) && n.Kind == yaml.MappingNode; i += 2 {
		w.note(inOutcomes, n.Content[i].Value, n.Content[i], n.Content[i+1], head)
		w.outcome(n.Content[i+1], head)
	}
	for _, kid := range n.Content {
		if n.Kind == yaml.SequenceNode {
			w.outcome(kid, head)
		}
	}
	if n.Kind == yaml.ScalarNode {
		w.note(inOutcomes, n.Value, n, n, head)
	}
}
