package book

import (
	"reflect"

	"go.yaml.in/yaml/v4"

	"github.com/briskwarden/briskwarden/internal/jsonschema"
	"github.com/briskwarden/briskwarden/internal/pieces"
)

// ReadOther reads a YAML file that is no book by the same rules and the same tags, into a
// struct: the configuration of a program. What names the file for an error, such as "a
// configuration of the door", and version is the key that it begins with, with the value 1.
// All that is wrong is returned as [Errors].
func ReadOther(label string, text []byte, what, version string, into any) error {
	r := newReader()
	r.begin(label)
	for root, err := range pieces.Of(text, len(text)) {
		if err != nil {
			r.unparsed(err)
			break
		}
		r.mapping(root, reflect.ValueOf(into).Elem(), what, func(key, value *yaml.Node) bool {
			if key.Value != version {
				return false
			}
			r.version = true
			if value.Value != "1" {
				r.add(r.at(value), "this program reads %s of version 1, not %s", what, describe(value))
			}
			return true
		})
	}
	if !r.version && len(r.found) == 0 {
		r.add(r.top(), "the file lacks `%s: 1`, which says that it is %s", version, what)
	}
	return r.err()
}

// OtherSchema returns the JSON Schema (draft 2020-12) of what ReadOther reads into a struct of
// that type. Words are those of types that are one of a closed list.
func OtherSchema(t reflect.Type, title, version string, words map[reflect.Type][]string) []byte {
	w := &schemaWriter{defs: map[string]*jsonschema.Schema{}, words: words}
	s := w.object(t)
	s.Properties[version] = &jsonschema.Schema{Const: 1, Description: "says what the file is, and the version of its form"}
	s.Required = append(s.Required, version)
	s.Dialect, s.Title, s.Defs = jsonschema.Draft, title, w.defs
	return s.Encode()
}
