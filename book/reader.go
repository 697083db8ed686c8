package book

import (
	"bytes"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v4"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/pieces"
	"github.com/briskwarden/briskwarden/watch"
)

// mostUnfolded is how many values aliases may stand for, all together. It stops
// a small file from unfolding into one that fills the memory.
const mostUnfolded = 100_000

// pieceSize is how long a part of a file is read at a time, in bytes.
const pieceSize = 1 << 20

// reader decodes YAML into the core's values by the `book` tags of their
// fields. The tags are the one description of the book's form:
//
//	book:"key,required"  the key; "-" is set by other means; ",whole" takes the
//	                     value of the whole definition
//	ref:"group"          the text refers to a definition of that kind
//	of:"group"           the items of the section are definitions of that kind
//	about:"account,app"  the subjects that a condition may be about
type reader struct {
	diagnostics
	sections    Sections
	definitions map[definition]condition.Position
	// references has the places of names that were not defined when they were read.
	references map[definition][]spot
	// spelled holds each name that is referred to once, for many refer to the same.
	spelled map[string]string
	// broken are the definitions in which something could not be read. What is
	// wrong with them beyond that would only follow from it.
	broken map[definition]bool
	// completed are the accounts of the YAML files that an import lists too.
	completed map[string]bool
	imported  []Imported

	// files are the parsed files where they are kept, to be changed before they are
	// read. A large tree is else let go as it is read.
	files []parsedFile
	keeps bool
	// anchored says that the file may have aliases, which lead to what was read before.
	anchored bool
	// labels are those of all files, and file that of the one that is being read.
	labels   []string
	file     string
	unfolded int
	// unfolding holds the anchors that are being followed.
	unfolding map[*yaml.Node]bool
	version   bool
	// unread is a file that could not be read. What the others refer to may stand there.
	unread string
}

// definition names something that a book defines.
type definition struct{ what, name string }

// spot is a position in the file of that number, in little memory: a large book
// refers to many names.
type spot struct{ file, line, column int32 }

func newReader() *reader {
	r := &reader{
		definitions: make(map[definition]condition.Position),
		references:  make(map[definition][]spot),
		spelled:     make(map[string]string),
		unfolding:   make(map[*yaml.Node]bool),
		broken:      make(map[definition]bool),
		completed:   make(map[string]bool),
	}
	r.sections.Settings.Zone = time.UTC
	return r
}

// parsedFile is the YAML of one file.
type parsedFile struct {
	label string
	root  *yaml.Node
}

// begin says which file is parsed or read from now on.
func (r *reader) begin(label string) {
	r.file, r.version = label, false
	if len(r.labels) == 0 || r.labels[len(r.labels)-1] != label {
		r.labels = append(r.labels, label)
	}
}

// parse parses one file, and reads it where it need not be kept.
func (r *reader) parse(label string, text []byte) {
	r.begin(label)
	r.anchored = bytes.IndexByte(text, '&') >= 0
	size := pieceSize
	if r.keeps {
		size = len(text)
	}
	for root, err := range pieces.Of(text, size) {
		switch {
		case err != nil:
			r.unparsed(err)
			return
		case root.Kind != yaml.MappingNode:
			r.add(r.at(root), "expected the sections of a book, which begins with `briskwarden: 1`, found %s", describe(root))
			return
		case r.keeps:
			r.files = append(r.files, parsedFile{label, root})
			return
		}
		r.readSections(root)
	}
	r.checkVersion()
}

// readFiles adds what the files say that were kept.
func (r *reader) readFiles() {
	for _, f := range r.files {
		r.begin(f.label)
		r.readSections(f.root)
		r.checkVersion()
	}
}

// readSections adds what a file says, or a piece of it.
func (r *reader) readSections(root *yaml.Node) {
	r.mapping(root, reflect.ValueOf(&r.sections).Elem(), "a book", func(key, value *yaml.Node) bool {
		if key.Value != "briskwarden" {
			return false
		}
		r.version = true
		if value.Value != "1" {
			r.add(r.at(value), "this program reads books of version 1, not %s", describe(value))
		}
		return true
	})
}

// checkVersion reports a file that does not say that it is part of a book.
func (r *reader) checkVersion() {
	if !r.version {
		r.add(r.top(), "the file lacks `briskwarden: 1`, which says that it is part of a book")
	}
}

func (r *reader) top() condition.Position {
	return condition.Position{File: r.file, Line: 1, Column: 1}
}

func (r *reader) at(n *yaml.Node) condition.Position {
	return condition.Position{File: r.file, Line: max(1, n.Line), Column: max(1, n.Column)}
}

// unparsed reports a file that is no YAML document.
func (r *reader) unparsed(err error) {
	at, syntax := r.top(), (*pieces.SyntaxError)(nil)
	if errors.Is(err, pieces.ErrEmpty) {
		r.add(at, "%v; a book begins with `briskwarden: 1`", err)
		return
	}
	r.unread = r.file
	if errors.As(err, &syntax) && syntax.Line > 0 {
		at.Line, at.Column = syntax.Line, max(1, syntax.Column)
	}
	r.add(at, "%v", err)
}

// describe names what a node is, for an error.
func describe(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		if len(n.Content) == 0 {
			return "an empty list"
		}
		return "a list"
	case yaml.ScalarNode:
		if n.ShortTag() == "!!null" {
			return "nothing"
		}
		if len(n.Value) > 60 {
			return fmt.Sprintf("%q…", n.Value[:60])
		}
		return fmt.Sprintf("%q", n.Value)
	}
	return "an alias"
}

// follow returns the node that an alias stands for, and calls then with it. It
// reports aliases that contain themselves or unfold too far.
func (r *reader) follow(n *yaml.Node, then func(*yaml.Node)) {
	if len(r.unfolding) > 0 {
		if r.unfolded++; r.unfolded >= mostUnfolded {
			if r.unfolded == mostUnfolded {
				r.add(r.at(n), "the aliases of the book unfold to more than %d values; write them out or define them by name", mostUnfolded)
			}
			return
		}
	}
	if n.Kind != yaml.AliasNode {
		if strings.HasPrefix(n.Tag, "!") && !strings.HasPrefix(n.Tag, "!!") {
			r.add(r.at(n), "the tag %s has no meaning in a book; take it out", n.Tag)
			return
		}
		then(n)
		return
	}
	if r.unfolding[n.Alias] {
		r.add(r.at(n), "the alias *%s contains itself", n.Value)
		return
	}
	r.unfolding[n.Alias] = true
	then(n.Alias)
	delete(r.unfolding, n.Alias)
}

// field is one key of a struct as its tags describe it.
type field struct {
	index    int
	key      string
	required bool
	ref      string
	of       string
	about    condition.Subject
}

// form is what the tags of a struct say.
type form struct {
	fields []field
	keys   []string
	byKey  map[string]int
	// whole is the field that takes the whole definition, or -1.
	whole int
	// named says that items have a `name` key of their own; otherwise they stand
	// in a mapping from their names.
	named bool
	at    int
}

var forms sync.Map // of reflect.Type to *form

func formOf(t reflect.Type) *form {
	if f, ok := forms.Load(t); ok {
		return f.(*form)
	}
	f := &form{byKey: make(map[string]int), whole: -1, at: -1}
	for i := range t.NumField() {
		tag := t.Field(i).Tag
		key, option, _ := strings.Cut(tag.Get("book"), ",")
		switch {
		case t.Field(i).Type == reflect.TypeFor[condition.Position]():
			f.at = i
			continue
		case option == "whole":
			f.whole = i
		case key == "" || key == "-":
			continue
		}
		f.byKey[key] = len(f.fields)
		f.keys = append(f.keys, key)
		f.named = f.named || key == "name"
		f.fields = append(f.fields, field{i, key, option == "required", tag.Get("ref"), tag.Get("of"), subjects(tag.Get("about"))})
	}
	forms.Store(t, f)
	return f
}

func subjects(words string) condition.Subject {
	var s condition.Subject
	for word := range strings.SplitSeq(words, ",") {
		s |= map[string]condition.Subject{"account": condition.AboutAccount, "app": condition.AboutApp,
			"attempt": condition.AboutAttempt, "risk": condition.AboutRisk, "consent": condition.AboutConsent,
			"decision": condition.AboutDecision}[word]
	}
	return s
}

// mapping decodes a mapping into a struct. Keys that other takes are left to it.
func (r *reader) mapping(n *yaml.Node, into reflect.Value, what string, other func(key, value *yaml.Node) bool) {
	if n.Kind != yaml.MappingNode {
		r.add(r.at(n), "expected %s with the keys %s, found %s", what, strings.Join(formOf(into.Type()).keys, ", "), describe(n))
		return
	}
	f := formOf(into.Type())
	seen := make([]bool, len(f.fields))
	r.pairs(n, func(key, value *yaml.Node) {
		if other != nil && other(key, value) {
			return
		}
		i, ok := f.byKey[key.Value]
		if !ok {
			r.add(r.at(key), "%s has no key %q%s", what, key.Value, nearest.DidYouMean(key.Value, f.keys))
			return
		}
		seen[i] = true
		r.follow(value, func(value *yaml.Node) { r.value(value, into.Field(f.fields[i].index), &f.fields[i]) })
	})
	for i := range f.fields {
		if f.fields[i].required && !seen[i] {
			r.add(r.at(n), "%s lacks the key %q", what, f.fields[i].key)
		}
	}
	if f.at >= 0 {
		into.Field(f.at).Set(reflect.ValueOf(r.at(n)))
	}
}

// pairs calls visit for each key of a mapping, and reports a key that stands
// twice.
func (r *reader) pairs(n *yaml.Node, visit func(key, value *yaml.Node)) {
	var seen seenKeys
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		if key.Kind != yaml.ScalarNode {
			r.add(r.at(key), "a key is a word, not %s", describe(key))
			continue
		}
		if line, twice := seen.find(n.Content, i); twice {
			r.add(r.at(key), "%q stands twice; the other is on line %d", key.Value, line)
			continue
		}
		visit(key, n.Content[i+1])
	}
}

// seenKeys remembers the keys of a mapping: the few of most by looking again, those
// of a long one in a map.
type seenKeys map[string]int

// find returns the line of a key before number i that is the same, and false where
// there is none.
func (s *seenKeys) find(content []*yaml.Node, i int) (line int, twice bool) {
	const few = 32
	if i < few {
		for k := 0; k < i; k += 2 {
			if content[k].Value == content[i].Value {
				return content[k].Line, true
			}
		}
		return 0, false
	}
	if *s == nil {
		*s = make(seenKeys, len(content)/2)
		for k := 0; k < i; k += 2 {
			(*s)[content[k].Value] = content[k].Line
		}
	}
	line, twice = (*s)[content[i].Value]
	if !twice {
		(*s)[content[i].Value] = content[i].Line
	}
	return line, twice
}

var (
	conditionType = reflect.TypeFor[condition.Node]()
	outcomeType   = reflect.TypeFor[decide.Outcome]()
	zoneType      = reflect.TypeFor[*time.Location]()
	settingsType  = reflect.TypeFor[Settings]()
	attemptType   = reflect.TypeFor[*attempt.Attempt]()
	requestType   = reflect.TypeFor[*consent.Request]()
	consentType   = reflect.TypeFor[consent.Scheme]()
	levelsType    = reflect.TypeFor[risk.Levels]()
	watchType     = reflect.TypeFor[watch.Scheme]()
	momentType    = reflect.TypeFor[time.Time]()
	scalarType    = reflect.TypeFor[attempt.Scalar]()
	minimumType   = reflect.TypeFor[directory.Minimum]()
	textType      = reflect.TypeFor[encoding.TextUnmarshaler]()
)

// value decodes any node into a field.
func (r *reader) value(n *yaml.Node, into reflect.Value, f *field) {
	switch t := into.Type(); {
	case t == conditionType:
		if c := r.condition(n, f.about); c != nil {
			into.Set(reflect.ValueOf(c))
		}
	case t == outcomeType:
		into.Set(reflect.ValueOf(r.outcome(n)))
	case t == zoneType:
		r.scalar(n, "an IANA time zone such as Europe/Oslo", func(text string) error {
			zone, err := time.LoadLocation(text)
			if err != nil || text == "" || text == "Local" {
				return fmt.Errorf("%q is no IANA time zone such as Europe/Oslo", text)
			}
			into.Set(reflect.ValueOf(zone))
			return nil
		})
	case t == momentType:
		r.scalar(n, "a time", func(text string) error {
			moment, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return fmt.Errorf("a time is written like 2026-11-23T18:00:00Z, not %q", text)
			}
			into.Set(reflect.ValueOf(moment))
			return nil
		})
	case t == scalarType:
		into.Set(reflect.ValueOf(r.fact(n)))
	case t == minimumType:
		into.Set(reflect.ValueOf(r.minimum(n)))
	case t == attemptType:
		r.wire(n, func(text []byte) error {
			a := new(attempt.Attempt)
			if err := attempt.Parse(text, a, attempt.Options{}); err != nil {
				return err
			}
			into.Set(reflect.ValueOf(a))
			return nil
		})
	case t == requestType:
		r.wire(n, func(text []byte) error {
			q := new(consent.Request)
			decoder := json.NewDecoder(bytes.NewReader(text))
			decoder.DisallowUnknownFields()
			into.Set(reflect.ValueOf(q))
			return decoder.Decode(q)
		})
	case t.Kind() == reflect.Pointer:
		into.Set(reflect.New(t.Elem()))
		r.value(n, into.Elem(), f)
	case reflect.PointerTo(t).Implements(textType):
		r.scalar(n, "a value", func(text string) error {
			return into.Addr().Interface().(encoding.TextUnmarshaler).UnmarshalText([]byte(text))
		})
	case t.Kind() == reflect.String:
		r.scalar(n, "text", func(text string) error {
			switch {
			case f.ref != "":
				text = r.refer(n, f.ref, text)
			case f.key == "name":
				into.SetString(text)
				return directory.CheckName(text)
			}
			into.SetString(text)
			return nil
		})
	case t.Kind() == reflect.Bool:
		r.scalar(n, "true or false", func(text string) error {
			if text != "true" && text != "false" {
				return fmt.Errorf("expected true or false for %s, found %q", f.key, text)
			}
			into.SetBool(text == "true")
			return nil
		})
	case t.Kind() == reflect.Int || t.Kind() == reflect.Float64:
		r.scalar(n, "a number", func(text string) error {
			number, err := strconv.ParseFloat(text, 64)
			if err != nil || math.IsInf(number, 0) || math.IsNaN(number) || t.Kind() == reflect.Int && number != math.Trunc(number) ||
				math.Abs(number) > 1e9 {
				return fmt.Errorf("expected a number for %s, found %q", f.key, text)
			}
			into.Set(reflect.ValueOf(number).Convert(t))
			return nil
		})
	case t.Kind() == reflect.Map:
		r.facts(n, into, f)
	case t.Kind() == reflect.Slice && f.of != "":
		r.section(n, into, f)
	case t.Kind() == reflect.Slice:
		r.list(n, into, f)
	case t == settingsType:
		// Each setting may stand once, in whichever file.
		r.mapping(n, into, "settings", func(key, _ *yaml.Node) bool {
			r.define("setting", key.Value, r.at(key))
			return false
		})
	case t == consentType:
		r.define("setting", "consent", r.at(n))
		r.mapping(n, into, "consent", nil)
	case t == watchType:
		// Its sections may stand in several files, and what else it says once.
		r.mapping(n, into, "watch", func(key, _ *yaml.Node) bool {
			f := formOf(t)
			if i, known := f.byKey[key.Value]; known && f.fields[i].of == "" {
				r.define("setting", "watch."+key.Value, r.at(key))
			}
			return false
		})
	case t == levelsType:
		r.define("setting", "risk.levels", r.at(n))
		into.Set(reflect.ValueOf(risk.DefaultLevels))
		r.mapping(n, into, "levels of risk", nil)
	case t.Kind() == reflect.Struct:
		r.mapping(n, into, article(t.Name()), nil)
	default:
		panic(fmt.Sprintf("book: no way to read a %s", t))
	}
}

// inJSON is the place in the JSON of a node that a message begins with, and the
// name of the package that wrote it.
var inJSON = regexp.MustCompile(`^(line \d+, column \d+: )?(json: )?`)

// wire decodes a node that is written as JSON is elsewhere.
func (r *reader) wire(n *yaml.Node, read func(text []byte) error) {
	if n.Kind != yaml.MappingNode {
		r.add(r.at(n), "expected a mapping as it is written in JSON, found %s", describe(n))
		return
	}
	text, err := json.Marshal(r.plain(n))
	if err == nil {
		err = read(text)
	}
	if err != nil {
		r.add(r.at(n), "%s", inJSON.ReplaceAllString(err.Error(), ""))
	}
}

// plain makes of a node what encoding/json writes. Times stay texts.
func (r *reader) plain(n *yaml.Node) any {
	var value any
	r.follow(n, func(n *yaml.Node) {
		switch n.Kind {
		case yaml.SequenceNode:
			list := make([]any, 0, len(n.Content))
			for _, item := range n.Content {
				list = append(list, r.plain(item))
			}
			value = list
		case yaml.MappingNode:
			object := make(map[string]any, len(n.Content)/2)
			r.pairs(n, func(key, item *yaml.Node) { object[key.Value] = r.plain(item) })
			value = object
		default:
			if n.ShortTag() == "!!int" || n.ShortTag() == "!!float" || n.ShortTag() == "!!bool" || n.ShortTag() == "!!null" {
				value = r.fact(n)
			} else {
				value = n.Value
			}
		}
	})
	return value
}

// fact decodes a truth, a number, a text or null by its YAML type.
func (r *reader) fact(n *yaml.Node) attempt.Scalar {
	if n.Kind != yaml.ScalarNode {
		r.add(r.at(n), "expected true, false, a number, a text or null, found %s", describe(n))
		return attempt.Scalar{}
	}
	switch n.ShortTag() {
	case "!!null":
		return attempt.Scalar{}
	case "!!bool":
		return attempt.BoolScalar(strings.EqualFold(n.Value, "true"))
	case "!!int", "!!float":
		if number, err := strconv.ParseFloat(n.Value, 64); err == nil && !math.IsInf(number, 0) && !math.IsNaN(number) {
			return attempt.NumberScalar(number)
		}
	}
	return attempt.TextScalar(n.Value)
}

// facts decodes a mapping from names to facts.
func (r *reader) facts(n *yaml.Node, into reflect.Value, f *field) {
	if n.Kind != yaml.MappingNode {
		r.add(r.at(n), "expected a mapping from names to values for %s, found %s", f.key, describe(n))
		return
	}
	facts := make(map[string]attempt.Scalar, len(n.Content)/2)
	r.pairs(n, func(key, value *yaml.Node) {
		if err := directory.CheckName(key.Value); err != nil {
			r.add(r.at(key), "%v", err)
		}
		r.follow(value, func(value *yaml.Node) { facts[key.Value] = r.fact(value) })
	})
	into.Set(reflect.ValueOf(facts))
}

var dottedVersion = regexp.MustCompile(`^\d{1,18}(\.\d{1,18})*$`)

// minimum decodes a dotted version, or one for each platform.
func (r *reader) minimum(n *yaml.Node) directory.Minimum {
	var m directory.Minimum
	version := func(n *yaml.Node, set func(string)) {
		r.scalar(n, "a version", func(text string) error {
			if !dottedVersion.MatchString(text) {
				return fmt.Errorf("a version is written like 10.0.22631, not %q", text)
			}
			set(text)
			return nil
		})
	}
	if n.Kind != yaml.MappingNode {
		version(n, func(text string) { m.All = text })
		return m
	}
	m.ByPlatform = make(map[string]string)
	r.pairs(n, func(key, value *yaml.Node) {
		r.follow(value, func(value *yaml.Node) {
			version(value, func(text string) { m.ByPlatform[key.Value] = text })
		})
	})
	return m
}

// scalar hands the text of a scalar to set and reports its error.
func (r *reader) scalar(n *yaml.Node, what string, set func(text string) error) {
	if n.Kind != yaml.ScalarNode || n.ShortTag() == "!!null" {
		r.add(r.at(n), "expected %s, found %s", what, describe(n))
		return
	}
	if err := set(n.Value); err != nil {
		r.add(r.at(n), "%v", err)
	}
}

// list decodes a list; one value alone may stand for a list of it.
func (r *reader) list(n *yaml.Node, into reflect.Value, f *field) {
	items := n.Content
	switch n.Kind {
	case yaml.SequenceNode:
	case yaml.ScalarNode:
		items = []*yaml.Node{n}
	default:
		r.add(r.at(n), "expected a list for %s, found %s", f.key, describe(n))
		return
	}
	// An empty list is not a list left out, so it must not stay nil.
	list := reflect.MakeSlice(into.Type(), len(items), len(items))
	for i, item := range items {
		r.follow(item, func(item *yaml.Node) { r.value(item, list.Index(i), f) })
	}
	into.Set(list)
	r.ownNames(list)
}

// ownNames reports items of one list that share a name, such as two rules.
func (r *reader) ownNames(list reflect.Value) {
	t := list.Type().Elem()
	if t.Kind() != reflect.Struct || !formOf(t).named || formOf(t).at < 0 {
		return
	}
	lines := map[string]int{}
	for i := range list.Len() {
		name := list.Index(i).FieldByName("Name").String()
		at := list.Index(i).Field(formOf(t).at).Interface().(condition.Position)
		if line, twice := lines[name]; twice && name != "" {
			r.add(at, "%s %q stands twice; the other is on line %d", strings.ToLower(t.Name()), name, line)
		}
		lines[name] = at.Line
	}
}

// section decodes the definitions of a section and adds them to those of other
// files. Items with a name of their own stand in a list, others in a mapping
// from their names.
func (r *reader) section(n *yaml.Node, into reflect.Value, f *field) {
	t := into.Type().Elem()
	add := func(name string, at *yaml.Node, item reflect.Value, wrong int) {
		r.define(f.of, name, r.at(at))
		if len(r.found) > wrong {
			r.broken[definition{f.of, name}] = true
		}
		into.Set(reflect.Append(into, item))
	}
	if formOf(t).named {
		if n.Kind != yaml.SequenceNode {
			r.add(r.at(n), "expected a list of items with a name in %s, found %s", f.key, describe(n))
			return
		}
		into.Grow(len(n.Content))
		for i, node := range n.Content {
			if !r.keeps && !r.anchored {
				n.Content[i] = nil // so that the tree of a long list shrinks as it is read
			}
			r.follow(node, func(node *yaml.Node) {
				item, wrong := reflect.New(t).Elem(), len(r.found)
				r.mapping(node, item, article(t.Name()), nil)
				add(item.FieldByName("Name").String(), node, item, wrong)
			})
		}
		return
	}
	if n.Kind != yaml.MappingNode {
		r.add(r.at(n), "expected a mapping from names to definitions in %s, found %s", f.key, describe(n))
		return
	}
	r.pairs(n, func(key, value *yaml.Node) {
		if err := directory.CheckName(key.Value); err != nil {
			r.add(r.at(key), "%v", err)
		}
		r.follow(value, func(value *yaml.Node) {
			item, wrong := reflect.New(t).Elem(), len(r.found)
			item.FieldByName("Name").SetString(key.Value)
			if w := formOf(t).whole; w >= 0 {
				r.value(value, item.Field(w), &field{key: key.Value})
			} else {
				r.mapping(value, item, article(t.Name()), nil)
			}
			if at := formOf(t).at; at >= 0 {
				item.Field(at).Set(reflect.ValueOf(r.at(key)))
			}
			add(key.Value, key, item, wrong)
		})
	})
}

// inName is where a word of a type's name begins that is not the first.
var inName = regexp.MustCompile(`([a-z])([A-Z])`)

// article puts the name of a type into words: AccountRisk is "an account risk".
func article(name string) string {
	name = strings.ToLower(inName.ReplaceAllString(name, "$1 $2"))
	if strings.ContainsRune("aeiou", rune(name[0])) {
		return "an " + name
	}
	return "a " + name
}

func (r *reader) define(what, name string, at condition.Position) {
	if name == "" {
		return // reported where it was read
	}
	if other, twice := r.definitions[definition{what, name}]; twice {
		r.add(at, "%s %q is defined twice; the other is at %s", what, name, other)
		return
	}
	r.definitions[definition{what, name}] = at
}

// refer notes that a name is referred to, and returns that name.
func (r *reader) refer(n *yaml.Node, what, name string) string {
	if once, ok := r.spelled[name]; ok {
		name = once
	} else {
		r.spelled[name] = name
	}
	d := definition{what, name}
	if _, defined := r.definitions[d]; !defined {
		at := r.at(n)
		r.references[d] = append(r.references[d], spot{int32(len(r.labels) - 1), int32(at.Line), int32(at.Column)})
	}
	return name
}

// positionOf returns a spot as a position.
func (r *reader) positionOf(p spot) condition.Position {
	return condition.Position{File: r.labels[p.file], Line: int(p.line), Column: int(p.column)}
}
