package book

import (
	"fmt"
	"path"
	"reflect"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/jsonschema"
	"github.com/briskwarden/briskwarden/watch"
)

// Schema returns the JSON Schema (draft 2020-12) of one file of a book, as JSON.
// It is made from the same tags and the same table of condition keys that the
// reader goes by. References to what is defined elsewhere are not part of it.
func Schema() []byte {
	w := &schemaWriter{defs: map[string]*jsonschema.Schema{}}
	s := w.object(reflect.TypeFor[Sections]())
	s.Properties["briskwarden"] = &jsonschema.Schema{
		Const:       1,
		Description: "says that the file is part of a book, and the version of its form",
	}
	s.Required = append(s.Required, "briskwarden")
	s.Dialect, s.Title, s.Defs = jsonschema.Draft, "A file of a Brisk Warden book", w.defs
	return s.Encode()
}

// texts are the forms of what the reader reads from a text.
var texts = map[reflect.Type]*jsonschema.Schema{
	zoneType:                                jsonschema.Text().Describe("IANA time zone"),
	momentType:                              {Type: "string", Format: "date-time"},
	reflect.TypeFor[directory.Span]():       jsonschema.Matching(spanPattern),
	reflect.TypeFor[decide.Within]():        jsonschema.Matching(`^now$|^session$|` + spanPattern),
	reflect.TypeFor[directory.Date]():       jsonschema.Matching(`^\d{4}-\d{2}-\d{2}$`),
	reflect.TypeFor[directory.DateRange]():  jsonschema.Matching(`^\d{4}-\d{2}-\d{2}(\.\.\d{4}-\d{2}-\d{2})?$`),
	reflect.TypeFor[directory.Clock]():      jsonschema.Matching(`^([01]\d|2[0-4]):[0-5]\d$`),
	reflect.TypeFor[directory.Range]():      jsonschema.Matching(`^[0-9A-Fa-f.:/ -]+$`),
	reflect.TypeFor[directory.Country]():    jsonschema.Matching(`^[A-Z]{2}$`),
	reflect.TypeFor[directory.Weekday]():    jsonschema.Words(directory.Weekdays()...),
	reflect.TypeFor[DirectoryPlace]():       jsonschema.Words(directoryPlaces...),
	reflect.TypeFor[directory.Kind]():       jsonschema.Words(directory.Kinds()...),
	reflect.TypeFor[directory.Level]():      jsonschema.Words(directory.Levels()...),
	reflect.TypeFor[directory.FactorKind](): jsonschema.Words(directory.FactorKinds()...),
	reflect.TypeFor[directory.Trait]():      jsonschema.Words(directory.Traits()...),
	reflect.TypeFor[directory.IPVersion]():  jsonschema.Words(directory.IPVersions()...),
	reflect.TypeFor[decide.Stage]():         jsonschema.Words(decide.Stages()...),
	reflect.TypeFor[risk.Detector]():        jsonschema.Words(risk.Detectors()...),
	reflect.TypeFor[consent.Standing]():     jsonschema.Words(consent.Standings()...),
	reflect.TypeFor[consent.Outcome]():      jsonschema.Words(consent.Outcomes()...),
	reflect.TypeFor[Always]():               jsonschema.Words(alwaysWords...),
	reflect.TypeFor[watch.By]():             jsonschema.Words(watch.Bys()...),
	reflect.TypeFor[watch.Every]():          jsonschema.Words(watch.Everies()...),
	reflect.TypeFor[attempt.Action]():       jsonschema.Words(attempt.Actions()...),
	reflect.TypeFor[attempt.CountryCode]():  jsonschema.Matching(`^[A-Z]{2}$`),
	scalarType:                              {Type: []string{"boolean", "number", "string", "null"}},
	minimumType:                             jsonschema.Either(version, &jsonschema.Schema{Type: "object", More: version}),
}

// spanPattern is the form of a length of time, such as 1h30m.
const spanPattern = `^(\d{1,5}d)?(\d{1,6}h)?(\d{1,7}m)?(\d{1,8}s)?$`

// version is a dotted version; YAML takes one with a single dot for a number.
var version = &jsonschema.Schema{Type: []string{"string", "number"}, Pattern: dottedVersion.String()}

type schemaWriter struct {
	defs map[string]*jsonschema.Schema
	// words are those of types beside the book's own that are one of a closed list.
	words map[reflect.Type][]string
}

// object is the form of a struct, by its `book` tags.
func (w *schemaWriter) object(t reflect.Type) *jsonschema.Schema {
	s := &jsonschema.Schema{Type: "object", Properties: map[string]*jsonschema.Schema{}, More: jsonschema.None{}}
	for _, f := range formOf(t).fields {
		field := t.Field(f.index)
		about := field.Tag.Get("doc")
		if left := field.Tag.Get("default"); left != "" {
			about += "; left out: " + left
		}
		s.Properties[f.key] = w.value(field.Type, &f).Describe(about)
		if f.required {
			s.Required = append(s.Required, f.key)
		}
	}
	return s
}

// define writes a definition once and refers to it.
func (w *schemaWriter) define(name string, make func() *jsonschema.Schema) *jsonschema.Schema {
	if _, defined := w.defs[name]; !defined {
		w.defs[name] = nil // anyone who asks meanwhile refers to it too
		w.defs[name] = make()
	}
	return jsonschema.Refer(name)
}

// value is the form of a field; it follows what reader.value reads.
func (w *schemaWriter) value(t reflect.Type, f *field) *jsonschema.Schema {
	if s, ok := texts[t]; ok {
		return s
	}
	if list := w.words[t]; list != nil {
		return jsonschema.Words(list...)
	}
	switch {
	case t == conditionType:
		return w.condition(f.about)
	case t == attemptType:
		return &jsonschema.Schema{
			Type:        "object",
			Required:    []string{"at", "account", "app"},
			Description: "an attempt; the schema `attempt` has the whole of it",
		}
	case t == requestType:
		return &jsonschema.Schema{Type: "object", Required: []string{"at", "account", "client", "scopes"}}
	case t == outcomeType:
		return w.define("outcome", outcomeSchema)
	case t.Kind() == reflect.Pointer:
		return w.value(t.Elem(), f)
	case t.Kind() == reflect.String:
		if f.key == "name" {
			return &jsonschema.Schema{Type: "string", MinLength: 1, Pattern: `^\S+$`}
		}
		return jsonschema.Text()
	case t.Kind() == reflect.Bool:
		return &jsonschema.Schema{Type: "boolean"}
	case t.Kind() == reflect.Int:
		return &jsonschema.Schema{Type: "integer"}
	case t.Kind() == reflect.Float64:
		return &jsonschema.Schema{Type: "number"}
	case t.Kind() == reflect.Map:
		return &jsonschema.Schema{Type: "object", More: w.value(t.Elem(), f)}
	case t.Kind() == reflect.Slice && f.of != "":
		return w.section(t.Elem(), f)
	case t.Kind() == reflect.Slice:
		item := w.value(t.Elem(), f)
		if t.Elem().Kind() == reflect.Struct && texts[t.Elem()] == nil {
			return jsonschema.List(item)
		}
		return oneOrMore(item, 0)
	case t.Kind() == reflect.Struct:
		name := strings.ToLower(t.Name())
		if pkg := path.Base(t.PkgPath()); pkg == "consent" || pkg == "watch" {
			name = pkg + "_" + name // a rule of consent is another than one of a policy, and a scheme than one of risk
		}
		return w.define(name, func() *jsonschema.Schema { return w.object(t) })
	}
	panic(fmt.Sprintf("book: no schema for %s", t))
}

// oneOrMore is a list; one value alone may stand for a list of it.
func oneOrMore(item *jsonschema.Schema, least int) *jsonschema.Schema {
	list := jsonschema.List(item)
	list.MinItems = least
	return jsonschema.Either(item, list)
}

// section is a list of items with names, or a mapping from names to definitions.
func (w *schemaWriter) section(t reflect.Type, f *field) *jsonschema.Schema {
	item := w.define(strings.ReplaceAll(f.of, " ", "_"), func() *jsonschema.Schema {
		if whole := formOf(t).whole; whole >= 0 {
			return w.value(t.Field(whole).Type, &field{})
		}
		return w.object(t)
	})
	if formOf(t).named {
		return jsonschema.List(item)
	}
	return &jsonschema.Schema{Type: "object", More: item}
}

// condition is the form of a condition on the given subjects.
func (w *schemaWriter) condition(about condition.Subject) *jsonschema.Schema {
	name := "condition"
	for _, s := range []struct {
		subject condition.Subject
		word    string
	}{{condition.AboutAccount, "_account"}, {condition.AboutApp, "_app"}, {condition.AboutAttempt, "_attempt"}, {condition.AboutRisk, "_risk"},
		{condition.AboutConsent, "_consent"}, {condition.AboutDecision, "_decision"}} {
		if about&s.subject != 0 {
			name += s.word
		}
	}
	return w.define(name, func() *jsonschema.Schema {
		self := jsonschema.Refer(name)
		some := jsonschema.List(self)
		some.MinItems = 1
		object := &jsonschema.Schema{Type: "object", MinProperties: 1, More: jsonschema.None{}, Properties: map[string]*jsonschema.Schema{
			"all":    some.Describe("conditions that must all hold"),
			"any":    some.Describe("conditions; one of them must hold"),
			"not":    self.Describe("a condition that must not hold"),
			"except": self.Describe("a condition that takes away from what stands beside it"),
		}}
		var markers []string
		for _, k := range condition.Keys() {
			if k.About()&about == 0 {
				continue
			}
			object.Properties[k.String()] = keySchema(k).Describe(k.Doc())
			if k.Shape() == condition.Marker {
				markers = append(markers, k.String())
			}
		}
		if markers == nil {
			return object
		}
		return jsonschema.Either(jsonschema.Words(markers...), object)
	})
}

func keySchema(k condition.Key) *jsonschema.Schema {
	switch k.Shape() {
	case condition.Flag:
		return &jsonschema.Schema{Type: "boolean"}
	case condition.Marker:
		return &jsonschema.Schema{Const: true}
	case condition.Named:
		return &jsonschema.Schema{Type: "object", MinProperties: 1, More: oneOrMore(texts[scalarType], 1)}
	case condition.Length:
		return jsonschema.Matching(spanPattern)
	case condition.Level:
		return jsonschema.Words(directory.Levels()[1:]...)
	case condition.Number:
		least, most := 1.0, 100.0
		return &jsonschema.Schema{Type: "integer", Minimum: &least, Maximum: &most}
	}
	if list := k.Definition().Words; len(list) > 0 {
		return oneOrMore(jsonschema.Words(list...), 1)
	}
	return oneOrMore(jsonschema.Text(), 1)
}

// outcomeSchema is the form of an outcome, as reader.outcome reads it.
func outcomeSchema() *jsonschema.Schema {
	choice := &jsonschema.Schema{
		Type:     "object",
		More:     jsonschema.None{},
		Required: []string{"one_of"},
		Properties: map[string]*jsonschema.Schema{
			"one_of": oneOrMore(jsonschema.Text(), 1).Describe("assurances; one of them is to be met whole"),
		},
	}
	require := &jsonschema.Schema{
		Type:     "object",
		More:     jsonschema.None{},
		Required: []string{"require"},
		Properties: map[string]*jsonschema.Schema{
			"require": oneOrMore(jsonschema.Either(jsonschema.Text(), choice), 1).Describe("assurances that are all to be met"),
		},
	}
	return jsonschema.Either(jsonschema.Words("grant", "block"), require)
}
