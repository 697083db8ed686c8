package attempt

import (
	"errors"
	"strconv"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Scalar is a fact about a device or an attribute of an account: a truth, a
// number, a text, or nothing. Scalars can be compared with ==.
type Scalar struct {
	kind   ScalarKind
	number float64
	text   string
}

// ScalarKind is what sort of value a Scalar holds.
type ScalarKind uint8

// The kinds of scalar. The zero Scalar is nothing, which JSON writes as null.
const (
	Nothing ScalarKind = iota
	Bool
	Number
	Text
)

// BoolScalar returns a truth as a scalar.
func BoolScalar(b bool) Scalar {
	s := Scalar{kind: Bool}
	if b {
		s.number = 1
	}
	return s
}

// NumberScalar returns a number as a scalar.
func NumberScalar(n float64) Scalar { return Scalar{kind: Number, number: n} }

// TextScalar returns a text as a scalar.
func TextScalar(text string) Scalar { return Scalar{kind: Text, text: text} }

// Kind returns what sort of value it is.
func (s Scalar) Kind() ScalarKind { return s.kind }

// Float returns the number that the scalar is.
func (s Scalar) Float() (float64, bool) { return s.number, s.kind == Number }

// String returns the value as a reader would write it.
func (s Scalar) String() string {
	switch s.kind {
	case Bool:
		return strconv.FormatBool(s.number == 1)
	case Number:
		return strconv.FormatFloat(s.number, 'f', -1, 64)
	case Text:
		return s.text
	}
	return "nothing"
}

// Reads reports whether String is that text. It allocates nothing.
func (s Scalar) Reads(text string) bool {
	if s.kind == Number {
		var room [64]byte
		return string(strconv.AppendFloat(room[:0], s.number, 'f', -1, 64)) == text
	}
	return s.String() == text
}

// MarshalJSON writes a JSON truth, number, text or null.
func (s Scalar) MarshalJSON() ([]byte, error) {
	switch s.kind {
	case Bool:
		return json.Marshal(s.number == 1)
	case Number:
		return json.Marshal(s.number)
	case Text:
		return json.Marshal(s.text)
	}
	return []byte("null"), nil
}

// UnmarshalJSON reads a JSON truth, number, text or null, for encoding/json.
func (s *Scalar) UnmarshalJSON(text []byte) error { return json.Unmarshal(text, s) }

// UnmarshalJSONFrom reads the same from a stream.
func (s *Scalar) UnmarshalJSONFrom(from *jsontext.Decoder) error {
	token, err := from.ReadToken()
	if err != nil {
		return err
	}
	switch token.Kind() {
	case 'n':
		*s = Scalar{}
	case 't', 'f':
		*s = BoolScalar(token.Bool())
	case '0':
		n, err := token.Float()
		if err != nil {
			return err
		}
		*s = NumberScalar(n)
	case '"':
		*s = TextScalar(token.String())
	default:
		return errors.New("a fact is true, false, a number, a text or null")
	}
	return nil
}
