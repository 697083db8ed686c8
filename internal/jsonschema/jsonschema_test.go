package jsonschema_test

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/internal/jsonschema"
)

type inner struct {
	Value float64 `json:"value"`
}

type base struct {
	Shared bool `json:"shared,omitzero"`
}

type sample struct {
	base
	Base
	Name   string               `json:"name" doc:"a name"`
	Kind   attempt.Action       `json:"kind"`
	At     time.Time            `json:"at,omitzero"`
	Tags   []string             `json:"tags"`
	By     map[string]inner     `json:"by,omitempty"`
	Ref    *sample              `json:"ref,omitempty"`
	Fact   attempt.Fact[string] `json:"fact"`
	Count  int                  `json:"count"`
	Hidden string               `json:"-"`
}

// Base is embedded and exported, so that its fields are the sample's own.
type Base struct {
	Inner inner `json:"inner"`
}

// TestOf follows encoding/json: what it omits is not required, what it embeds
// stands among the others, and a type that refers to itself is defined once.
func TestOf(t *testing.T) {
	s := jsonschema.Of(
		reflect.TypeFor[sample](),
		"A sample",
		jsonschema.Types{reflect.TypeFor[attempt.Action](): jsonschema.Words("one", "two")},
	)
	var got map[string]any
	require.NoError(t, json.Unmarshal(s.Encode(), &got))
	properties := got["properties"].(map[string]any)
	require.Equal(t, map[string]any{"type": "string", "description": "a name"}, properties["name"])
	require.Equal(t, map[string]any{"type": "string", "enum": []any{"one", "two"}}, properties["kind"])
	require.Equal(t, map[string]any{"type": "string", "format": "date-time"}, properties["at"])
	require.Equal(t, map[string]any{"$ref": "#/$defs/sample"}, properties["ref"])
	require.Equal(t, map[string]any{"anyOf": []any{map[string]any{"type": "string"}, map[string]any{"type": "null"}}}, properties["fact"])
	require.Equal(t, map[string]any{"type": "object", "additionalProperties": map[string]any{"$ref": "#/$defs/inner"}}, properties["by"])
	require.Equal(t, map[string]any{"$ref": "#/$defs/inner"}, properties["inner"])
	require.Equal(t, map[string]any{"type": "boolean"}, properties["shared"])
	require.NotContains(t, properties, "Hidden")
	require.Equal(t, false, got["additionalProperties"])
	require.Equal(t, []any{"inner", "name", "kind", "tags", "fact", "count"}, got["required"])
	require.Panics(t, func() { jsonschema.Of(reflect.TypeFor[struct{ F func() }](), "", nil) }, "a function has no JSON")
}
