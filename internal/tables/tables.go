// Package tables reads tables of text as programs and spreadsheets write them: CSV (RFC 4180)
// with a header, and with commas, semicolons, tabs or bars between the cells. It is the one
// reader for histories, people, and grants.
package tables

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/words"
)

// Reader reads a table record by record. It is for one goroutine.
type Reader struct {
	// Header are the names of the columns, and Separator stands between cells.
	Header    []string
	Separator rune

	table      *csv.Reader
	kept       *keeper
	headerText []byte
	text       []byte
}

// Record is a line of a table, or several where a cell in quotes goes over lines. Line counts
// from 1, the header's included. Err says why there are no cells, or not those of the header.
type Record struct {
	Line  int
	Cells []string
	Err   error
}

// Open reads the header of a table. A record may have so many bytes at most, so that a quote
// that nobody closes does not take the rest of the table into memory. The error is io.EOF for
// an empty table, else says what is wrong with the header.
func Open(in io.Reader, mostBytes int) (*Reader, error) {
	buffered := bufio.NewReaderSize(in, 1<<16)
	if mark, _ := buffered.Peek(3); string(mark) == "\ufeff" {
		_, _ = buffered.Discard(len(mark)) // it was just peeked at
	}
	begin, err := buffered.Peek(buffered.Size())
	if len(begin) == 0 {
		if err == nil || errors.Is(err, io.EOF) {
			return nil, io.EOF
		}
		return nil, err
	}
	r := &Reader{Separator: separator(begin), kept: &keeper{from: buffered, most: mostBytes}}
	r.table = csv.NewReader(r.kept)
	r.table.Comma, r.table.FieldsPerRecord, r.table.TrimLeadingSpace = r.Separator, -1, true
	header, err := r.table.Read()
	var wrong *csv.ParseError
	switch {
	case errors.As(err, &wrong):
		return nil, fmt.Errorf("line %d, column %d: %w", wrong.Line, wrong.Column, notCSV(wrong))
	case err != nil:
		return nil, err
	}
	r.headerText = bytes.Clone(r.kept.take(r.table.InputOffset()))
	for _, name := range header {
		r.Header = append(r.Header, strings.TrimSpace(name))
	}
	if twice := repeated(r.Header); twice != "" {
		return nil, fmt.Errorf("the header has the column %q twice; only one of them can count", twice)
	}
	return r, nil
}

// Next reads the next record; io.EOF after the last. Any other error is that of the reader
// below, or of a record that is too long: then nothing more can be read.
func (r *Reader) Next() (Record, error) {
	cells, err := r.table.Read()
	var wrong *csv.ParseError
	if err != nil && !errors.As(err, &wrong) {
		return Record{}, err
	}
	r.text = r.kept.take(r.table.InputOffset())
	if wrong != nil {
		return Record{Line: wrong.StartLine, Err: notCSV(wrong)}, nil
	}
	line, _ := r.table.FieldPos(0)
	one := Record{Line: line, Cells: cells}
	if len(cells) != len(r.Header) {
		one.Err = fmt.Errorf("the line has %s, the header %d", words.Count(len(cells), "field"), len(r.Header))
	}
	return one, nil
}

// notCSV says what is wrong with a quote (RFC 4180 §2).
func notCSV(wrong *csv.ParseError) error {
	if errors.Is(wrong.Err, csv.ErrBareQuote) {
		return errors.New("not CSV: a quote stands in a cell that does not begin with one; quote the cell, and double the quote")
	}
	return errors.New("not CSV: a quote is not closed, or text follows it; a quote within a cell is doubled")
}

// Text returns the very bytes of the last record, without the end of the line. They are valid
// until Next is called again.
func (r *Reader) Text() []byte { return r.text }

// HeaderText returns the very bytes of the header. They belong to the reader.
func (r *Reader) HeaderText() []byte { return r.headerText }

// separator finds what stands between cells: what there is most of in the first line, outside
// quotes.
func separator(text []byte) rune {
	counts := map[rune]int{}
	quoted := false
	for _, c := range string(text) {
		if c == '"' {
			quoted = !quoted
		}
		if !quoted && (c == '\n' || c == '\r') {
			break
		}
		if !quoted {
			counts[c]++
		}
	}
	best := ','
	for _, c := range ";\t|" {
		if counts[c] > counts[best] {
			best = c
		}
	}
	return best
}

// repeated returns a name that stands twice, whatever the case; "" where none does.
func repeated(header []string) string {
	seen := map[string]bool{}
	for _, name := range header {
		word := strings.ToLower(name)
		if seen[word] && word != "" {
			return name
		}
		seen[word] = true
	}
	return ""
}

// keeper keeps what was read of the record that is being read.
type keeper struct {
	from io.Reader
	most int
	kept []byte
	// base is how many bytes of the table stand before those kept, and last where the record
	// ended that was taken last.
	base, last int64
}

// Read implements io.Reader.
func (k *keeper) Read(p []byte) (int, error) {
	if k.base+int64(len(k.kept))-k.last > int64(k.most) {
		return 0, fmt.Errorf("a record is longer than %d bytes; perhaps a quote is not closed", k.most)
	}
	n, err := k.from.Read(p)
	k.kept = append(k.kept, p[:n]...)
	return n, err
}

// take returns the bytes up to an offset of the table, and lets go of those before.
func (k *keeper) take(offset int64) []byte {
	from, to := k.last-k.base, offset-k.base
	if from > 1<<16 {
		k.kept = k.kept[:copy(k.kept, k.kept[from:])]
		k.base, from, to = k.last, 0, to-from
	}
	k.last = offset
	return bytes.Trim(k.kept[from:to], "\r\n")
}

// DayFirst reads a day that is written day first with dots, which can be read one way only.
func DayFirst(cell string) (day time.Time, ok bool) {
	day, err := time.Parse("2.1.2006", cell)
	return day, err == nil
}

// Time reads a moment by RFC 3339, or a day and a time of day in a zone.
func Time(cell string, zone *time.Location) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, cell); err == nil {
		return t, nil
	}
	for _, layout := range []string{
		time.DateTime, "2006-01-02T15:04:05", "2006-01-02 15:04", "2.1.2006 15:04:05", "2.1.2006 15:04",
	} {
		if t, err := time.ParseInLocation(layout, cell, zone); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time; write one such as 2026-11-23T21:14:00Z or 2026-11-23 21:14:00", cell)
}
