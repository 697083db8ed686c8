package attempt

import (
	stdjson "encoding/json"
	"reflect"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Fact is a value that may be known, known not to be there, or unknown. The
// zero Fact is unknown. On the wire a missing key is unknown, and null says that
// there is none. Only [Attempt.Previous], [Attempt.Failures] and
// [Attempt.Client] take none for an answer; elsewhere it is as good as unknown.
type Fact[T any] struct {
	value T
	state factState
}

type factState uint8

const (
	unknown factState = iota
	none
	known
)

// Known returns a fact with that value.
func Known[T any](value T) Fact[T] { return Fact[T]{value, known} }

// None returns the fact that there is no such thing.
func None[T any]() Fact[T] { return Fact[T]{state: none} }

// Get returns the value, and whether there is one.
func (f Fact[T]) Get() (T, bool) { return f.value, f.state == known }

// Ref returns the value in place, nil where there is none or it is unknown.
func (f *Fact[T]) Ref() *T {
	if f.state != known {
		return nil
	}
	return &f.value
}

// IsNone reports that there is no such thing.
func (f Fact[T]) IsNone() bool { return f.state == none }

// IsUnknown reports that nothing is known.
func (f Fact[T]) IsUnknown() bool { return f.state == unknown }

// IsZero reports the same, for encoding/json's omitzero.
func (f Fact[T]) IsZero() bool { return f.IsUnknown() }

// Inner returns the type of the value, for anyone who describes the wire form.
func (f Fact[T]) Inner() reflect.Type { return reflect.TypeFor[T]() }

// MarshalJSON writes the value, or null where there is none or it is unknown.
func (f Fact[T]) MarshalJSON() ([]byte, error) {
	if f.state != known {
		return []byte("null"), nil
	}
	return stdjson.Marshal(f.value) // which puts the names in a map in order
}

// UnmarshalJSON reads a value, or null for none, for encoding/json.
func (f *Fact[T]) UnmarshalJSON(text []byte) error { return json.Unmarshal(text, f, strict) }

// UnmarshalJSONFrom reads the same from a stream, which is several times as fast.
func (f *Fact[T]) UnmarshalJSONFrom(from *jsontext.Decoder) error {
	if from.PeekKind() == 'n' {
		*f = None[T]()
		return from.SkipValue()
	}
	f.state = known
	return json.UnmarshalDecode(from, &f.value)
}
