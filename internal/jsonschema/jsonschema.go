// Package jsonschema writes JSON Schemas (draft 2020-12): the form itself, and
// that of a Go value as encoding/json writes it.
package jsonschema

import (
	"encoding/json"
	"fmt"
	"path"
	"reflect"
	"strings"
	"time"
)

// Draft is the dialect of the schemas.
const Draft = "https://json-schema.org/draft/2020-12/schema"

// Schema is a JSON Schema, as far as the project's documents need one.
type Schema struct {
	Dialect string `json:"$schema,omitzero"`
	// ID makes a schema inside another document one of its own, in which references are resolved.
	ID          string   `json:"$id,omitzero"`
	Title       string   `json:"title,omitzero"`
	Description string   `json:"description,omitzero"`
	Ref         string   `json:"$ref,omitzero"`
	Type        any      `json:"type,omitempty"`
	Const       any      `json:"const,omitempty"`
	Enum        []string `json:"enum,omitempty"`
	Pattern     string   `json:"pattern,omitzero"`
	Format      string   `json:"format,omitzero"`
	Minimum     *float64 `json:"minimum,omitempty"`
	Maximum     *float64 `json:"maximum,omitempty"`
	MinLength   int      `json:"minLength,omitzero"`
	// Properties are those of an object. Where More is nil any other property may
	// stand too.
	Properties    map[string]*Schema `json:"properties,omitempty"`
	Required      []string           `json:"required,omitempty"`
	More          any                `json:"additionalProperties,omitempty"`
	MinProperties int                `json:"minProperties,omitzero"`
	Items         *Schema            `json:"items,omitempty"`
	MinItems      int                `json:"minItems,omitzero"`
	AnyOf         []*Schema          `json:"anyOf,omitempty"`
	AllOf         []*Schema          `json:"allOf,omitempty"`
	Defs          map[string]*Schema `json:"$defs,omitempty"`
}

// None forbids properties that are not listed.
type None struct{}

// MarshalJSON writes false.
func (None) MarshalJSON() ([]byte, error) { return []byte("false"), nil }

// Text is any text; Words one of a closed list; Matching a text of a form.
func Text() *Schema { return &Schema{Type: "string"} }

// Words is one of a closed list of texts.
func Words(words ...string) *Schema { return &Schema{Type: "string", Enum: words} }

// Matching is a text of a form, given as a regular expression.
func Matching(pattern string) *Schema { return &Schema{Type: "string", Pattern: pattern} }

// List is a list of items.
func List(items *Schema) *Schema { return &Schema{Type: "array", Items: items} }

// Either is what one of the schemas allows.
func Either(schemas ...*Schema) *Schema { return &Schema{AnyOf: schemas} }

// Refer is the definition of that name.
func Refer(name string) *Schema { return &Schema{Ref: "#/$defs/" + name} }

// Describe adds a description. What it describes may be a reference, beside
// which a description stands.
func (s *Schema) Describe(text string) *Schema {
	described := *s
	described.Description = text
	return &described
}

// Encode returns a schema as indented JSON with a newline at its end.
func (s *Schema) Encode() []byte {
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		panic(err) // a schema is made of texts and numbers
	}
	return append(text, '\n')
}

// Types gives schemas for types that encoding/json writes in a form of their
// own, such as words of a closed list.
type Types map[reflect.Type]*Schema

// Of returns the schema of the values of a type as encoding/json writes them. The
// `doc` tags of fields become descriptions.
func Of(t reflect.Type, title string, own Types) *Schema {
	w := &writer{own: own, defs: map[string]*Schema{}, names: map[reflect.Type]string{}}
	root := w.of(t)
	if root.Ref == "" { // which is no struct
		top := *root
		top.Dialect, top.Title, top.Defs = Draft, title, w.defs
		return &top
	}
	top := *w.defs[strings.TrimPrefix(root.Ref, "#/$defs/")]
	top.Dialect, top.Title, top.Defs = Draft, title, w.defs
	return &top
}

type writer struct {
	own  Types
	defs map[string]*Schema
	// names are those under which structs are defined.
	names map[reflect.Type]string
}

// Nullable is a type that encoding/json writes as null where there is nothing.
type Nullable interface{ Inner() reflect.Type }

var nullable = reflect.TypeFor[Nullable]()

func (w *writer) of(t reflect.Type) *Schema {
	if s, ok := w.own[t]; ok {
		return s
	}
	switch {
	case t == reflect.TypeFor[time.Time]():
		return &Schema{Type: "string", Format: "date-time"}
	case t.Implements(nullable):
		return Either(w.of(reflect.Zero(t).Interface().(Nullable).Inner()), &Schema{Type: "null"})
	}
	switch t.Kind() {
	case reflect.Pointer:
		return w.of(t.Elem())
	case reflect.String:
		return Text()
	case reflect.Bool:
		return &Schema{Type: "boolean"}
	case reflect.Int, reflect.Int64:
		return &Schema{Type: "integer"}
	case reflect.Float64:
		return &Schema{Type: "number"}
	case reflect.Slice, reflect.Array:
		return List(w.of(t.Elem()))
	case reflect.Map:
		return &Schema{Type: "object", More: w.of(t.Elem())}
	case reflect.Struct:
		return w.object(t)
	}
	panic(fmt.Sprintf("jsonschema: no schema for %s", t))
}

// object defines a struct under its name and refers to it.
func (w *writer) object(t reflect.Type) *Schema {
	if name, defined := w.names[t]; defined {
		return Refer(name)
	}
	name := t.Name()
	if _, taken := w.defs[name]; taken { // by a type of another package
		name = path.Base(t.PkgPath()) + name
	}
	w.names[t] = name
	s := &Schema{Type: "object", Properties: map[string]*Schema{}, More: None{}}
	w.defs[name] = s
	w.fields(t, s)
	return Refer(name)
}

func (w *writer) fields(t reflect.Type, s *Schema) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "": // its fields are the struct's own
			inner := f.Type
			if inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			w.fields(inner, s)
			continue
		case name == "-" || !f.IsExported():
			continue
		}
		property := w.of(f.Type)
		if doc := f.Tag.Get("doc"); doc != "" {
			property = property.Describe(doc)
		}
		s.Properties[name] = property
		if !strings.Contains(options, "omit") {
			s.Required = append(s.Required, name)
		}
	}
}
