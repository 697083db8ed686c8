package people

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// readCSV reads a table with a header. The columns that a book has a word for
// are taken by that word, whatever the case; every other one is an attribute.
func readCSV(text []byte) (*Import, error) {
	r := csv.NewReader(bytes.NewReader(text))
	r.Comma = separator(text)
	r.FieldsPerRecord = -1
	r.TrimLeadingSpace = true
	header, err := r.Read()
	if err != nil {
		return nil, csvError(err)
	}
	if r.Comma == ',' && len(header) == 1 && !isName(header[0]) {
		return nil, fmt.Errorf("the file is neither a SCIM ListResponse nor CSV with a header: its first line is %.60q", header[0])
	}
	if !slices.ContainsFunc(header, isName) {
		return nil, fmt.Errorf("the header %q names no account: expected a column %s%s", strings.Join(header, ", "),
			strings.Join(columns[:4], " or "), suggestColumns(header))
	}
	c := newCollection()
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return c.done()
		}
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			c.skip(wrong.StartLine, "%v", wrong.Err)
			continue
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		if len(record) != len(header) {
			c.skip(line, "the line has %d fields, the header %d", len(record), len(header))
			continue
		}
		c.record(header, record, line)
	}
}

func csvError(err error) error {
	var wrong *csv.ParseError
	if errors.As(err, &wrong) {
		return fmt.Errorf("line %d, column %d: not CSV: %w", wrong.Line, wrong.Column, wrong.Err)
	}
	return err
}

// separator tells a table that spreadsheets in half of Europe write, with
// semicolons, and one with tabs from one with commas.
func separator(text []byte) rune {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	best, most := ',', bytes.Count(first, []byte(","))
	for _, r := range ";\t" {
		if n := bytes.Count(first, []byte(string(r))); n > most {
			best, most = r, n
		}
	}
	return best
}

// isName tells whether a column holds the name of the account.
func isName(column string) bool {
	return slices.ContainsFunc(columns[:4], func(c string) bool { return strings.EqualFold(c, strings.TrimSpace(column)) })
}

// record reads one line. Of several columns that could name the account the
// first in the order of columns does; the others are attributes.
func (c *collection) record(header, record []string, line int) {
	naming := -1
	for _, word := range columns[:4] {
		naming = slices.IndexFunc(header, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), word) })
		if naming >= 0 {
			break
		}
	}
	a := Account{Line: line}
	a.Name = strings.TrimSpace(record[naming])
	for i, text := range record {
		column, text := strings.TrimSpace(header[i]), strings.TrimSpace(text)
		if i == naming || text == "" {
			continue
		}
		if err := a.column(column, text); err != nil {
			c.skip(line, "the account %s: %s: %v", a.Name, column, err)
			return
		}
	}
	c.add(a)
}

// column takes over one cell.
func (a *Account) column(column, text string) error {
	switch strings.ToLower(column) {
	case "kind":
		return a.Kind.UnmarshalText([]byte(text))
	case "groups":
		a.Groups = append(a.Groups, alternatives(text)...)
	case "methods":
		for _, m := range alternatives(text) {
			a.enrol(m)
		}
	case "joined":
		a.Joined = new(directory.Date)
		return a.Joined.UnmarshalText([]byte(text))
	case "disabled", "active":
		yes, err := truth(text)
		a.Disabled = yes == strings.EqualFold(column, "disabled")
		return err
	default:
		a.attribute(column, attempt.TextScalar(text))
	}
	return nil
}

// alternatives splits a cell that holds several values: at semicolons, commas or
// bars.
func alternatives(text string) []string {
	var values []string
	for _, v := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(";,|", r) }) {
		if v = strings.TrimSpace(v); v != "" {
			values = append(values, v)
		}
	}
	return values
}

func truth(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "true", "yes", "1":
		return true, nil
	case "false", "no", "0":
		return false, nil
	}
	return false, fmt.Errorf("expected true or false, found %q", text)
}
