// Package packed reads and writes records of numbers and texts, one behind the other, as stores and the
// journal keep them by the million.
package packed

import "encoding/binary"

// Append appends a text with its length.
func Append[T string | []byte](to []byte, text T) []byte {
	return append(binary.AppendUvarint(to, uint64(len(text))), text...)
}

// Reader reads what was packed. After a fault it is Broken, and all that it reads is zero. What it
// returns shares its text.
type Reader struct {
	// Text is what is left to be read.
	Text   []byte
	Broken bool
}

// Bytes reads so many bytes.
func (r *Reader) Bytes(n uint64) []byte {
	if n > uint64(len(r.Text)) {
		r.Text, r.Broken = nil, true
		return nil
	}
	field := r.Text[:n]
	r.Text = r.Text[n:]
	return field
}

// Byte reads one byte.
func (r *Reader) Byte() byte {
	if b := r.Bytes(1); b != nil {
		return b[0]
	}
	return 0
}

// Field reads a text that Append wrote.
func (r *Reader) Field() []byte { return r.Bytes(r.Uvarint()) }

// Uvarint reads a number that binary.AppendUvarint wrote.
func (r *Reader) Uvarint() uint64 {
	v, n := binary.Uvarint(r.Text)
	return v & r.took(n)
}

// Varint reads a number that binary.AppendVarint wrote.
func (r *Reader) Varint() int64 {
	v, n := binary.Varint(r.Text)
	return v & int64(r.took(n))
}

// took notes that a number took n bytes. It returns all ones, and 0 where there was no number.
func (r *Reader) took(n int) uint64 {
	if n <= 0 {
		r.Text, r.Broken = nil, true
		return 0
	}
	r.Text = r.Text[n:]
	return ^uint64(0)
}
