// Package jsontext writes JSON by appending to a text, for the few documents that are
// written so often that reflection would cost more than what they say.
package jsontext

import (
	"bytes"
	"math"
	"strconv"
	"time"

	"github.com/go-json-experiment/json/jsontext"
)

// Key appends the name of a member of an object, with the comma before it where the
// object has others. The name needs no escape.
func Key(text []byte, name string) []byte {
	text = append(Next(text), '"')
	text = append(text, name...)
	return append(text, '"', ':')
}

// Next appends the comma before a value in a list or a member of an object, where another
// stands before it.
func Next(text []byte) []byte {
	if last := text[len(text)-1]; last == '{' || last == '[' {
		return text
	}
	return append(text, ',')
}

// plain has the bytes that stand in a text of JSON as they are.
var plain = func() (table [256]bool) {
	for c := ' '; c < 0x7f; c++ {
		table[c] = c != '"' && c != '\\'
	}
	return table
}()

// String appends a text in quotes.
func String(text []byte, value string) []byte {
	for i := range len(value) {
		if !plain[value[i]] {
			quoted, _ := jsontext.AppendQuote(text, value) // what is not UTF-8 is replaced, which the error says
			return quoted
		}
	}
	text = append(text, '"')
	text = append(text, value...)
	return append(text, '"')
}

// Strings appends a list of texts, null for nil.
func Strings(text []byte, values []string) []byte {
	return List(text, values, func(text []byte, value *string) []byte { return String(text, *value) })
}

// List appends a list, each item by the function; null for nil.
func List[T any](text []byte, values []T, item func([]byte, *T) []byte) []byte {
	if values == nil {
		return append(text, "null"...)
	}
	text = append(text, '[')
	for i := range values {
		text = item(Next(text), &values[i])
	}
	return append(text, ']')
}

// Text is Key and String, and nothing where the text is empty.
func Text(text []byte, name, value string) []byte {
	if value == "" {
		return text
	}
	return String(Key(text, name), value)
}

// True is Key and true, and nothing where the value is false.
func True(text []byte, name string, value bool) []byte {
	if !value {
		return text
	}
	return append(Key(text, name), "true"...)
}

// Int appends a number.
func Int(text []byte, value int) []byte { return strconv.AppendInt(text, int64(value), 10) }

// Float appends a number. What is no number of JSON becomes null.
func Float(text []byte, value float64) []byte {
	if math.IsNaN(value) || math.IsInf(value, 0) {
		return append(text, "null"...)
	}
	return strconv.AppendFloat(text, value, 'g', -1, 64)
}

// Time appends a moment in quotes (RFC 3339).
func Time(text []byte, value time.Time) []byte {
	text = append(text, '"')
	if year := value.Year(); value.Location() != time.UTC || year < 0 || year > 9999 {
		return append(value.AppendFormat(text, time.RFC3339Nano), '"')
	}
	// What a door writes is UTC, and each decision has some ten moments.
	year, month, day := value.Date()
	hour, minute, second := value.Clock()
	text = append(digits(digits(text, year/100), year%100), '-')
	text = append(digits(text, int(month)), '-')
	text = append(digits(text, day), 'T')
	text = append(digits(text, hour), ':')
	text = append(digits(text, minute), ':')
	text = digits(text, second)
	if rest := int64(value.Nanosecond()) * 10; rest != 0 { // ten digits, which are pairs
		text = append(text, '.')
		for part := int64(100_000_000); rest > 0; part /= 100 {
			text = digits(text, int(rest/part))
			rest %= part
		}
		text = bytes.TrimRight(text, "0")
	}
	return append(text, 'Z', '"')
}

// digits appends a number below 100 as two digits.
func digits(text []byte, n int) []byte { return append(text, byte('0'+n/10), byte('0'+n%10)) }
