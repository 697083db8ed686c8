package people

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

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
	if twice := repeated(header); twice != "" {
		return nil, fmt.Errorf("the header has the column %q twice; only one of them can count", twice)
	}
	c := newCollection()
	c.Accounts = make([]Account, 0, bytes.Count(text, []byte("\n")))
	c.tellColumns(header)
	t := newTable(header)
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
		c.record(t, record, line)
	}
}

// table is what the header of a table says of its columns.
type table struct {
	// header has the columns as they are written, and words the same in lower case.
	header, words []string
	// naming is the column that names the account. Of several that could, the first in
	// the order of columns does; the others are attributes.
	naming int
}

func newTable(header []string) *table {
	t := &table{naming: -1}
	for _, column := range header {
		t.header = append(t.header, strings.TrimSpace(column))
		t.words = append(t.words, strings.ToLower(strings.TrimSpace(column)))
	}
	for _, name := range columns[:4] {
		if t.naming = slices.Index(t.words, strings.ToLower(name)); t.naming >= 0 {
			break
		}
	}
	return t
}

// repeated returns a column that stands twice in a header, "" where none does.
func repeated(header []string) string {
	seen := map[string]bool{}
	for _, column := range header {
		word := strings.ToLower(strings.TrimSpace(column))
		if seen[word] && word != "" {
			return strings.TrimSpace(column)
		}
		seen[word] = true
	}
	return ""
}

// tellColumns notes which columns become attributes, and reports those that may be
// meant to disable accounts.
func (c *collection) tellColumns(header []string) {
	for _, column := range header {
		word := strings.TrimSpace(column)
		is := func(known string) bool { return strings.EqualFold(known, word) }
		if word == "" || slices.ContainsFunc(columns, is) {
			continue
		}
		c.Attributes = append(c.Attributes, word)
		if slices.ContainsFunc(disabling, is) {
			c.skip(1, "the column %s disables nobody: it became an attribute; name it active or disabled, with true or false", word)
		}
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

// isName reports whether a column holds the name of the account.
func isName(column string) bool {
	return slices.ContainsFunc(columns[:4], func(c string) bool { return strings.EqualFold(c, strings.TrimSpace(column)) })
}

// record reads one line.
func (c *collection) record(t *table, record []string, line int) {
	a := Account{Line: line}
	a.Name = strings.Clone(strings.TrimSpace(record[t.naming])) // so that it does not keep the whole line
	c.attributes = c.attributes[:0]
	for i, text := range record {
		text := strings.TrimSpace(text)
		if i == t.naming || text == "" {
			continue
		}
		if err := c.column(&a, t, i, text); err != nil {
			c.skip(line, "the account %s: %s: %v", a.Name, t.header[i], err)
			return
		}
	}
	a.Attributes = c.sharedAttributes()
	c.add(a)
}

// column takes over one cell of an account.
func (c *collection) column(a *Account, t *table, i int, text string) error {
	switch t.words[i] {
	case "kind":
		return a.Kind.UnmarshalText([]byte(text))
	case "groups":
		for v := range alternatives(text) {
			a.Groups = append(a.Groups, v)
		}
	case "methods":
		for m := range alternatives(text) {
			a.enrol(c.once(m))
		}
	case "joined":
		a.Joined = new(directory.Date)
		return a.Joined.UnmarshalText([]byte(text))
	case "disabled", "active":
		yes, err := truth(text)
		// Any column that disables does.
		a.Disabled = a.Disabled || err == nil && yes == (t.words[i] == "disabled")
		return err
	case "account_risk":
		return a.risk().Level.UnmarshalText([]byte(text))
	case "account_risk_because":
		a.risk().Because = c.once(text)
	case "account_risk_since":
		return moment(&a.risk().Since, text)
	case "asked_at":
		return moment(&a.AskedAt, text)
	case "password_changed_at":
		return moment(&a.PasswordChangedAt, text)
	default:
		c.attributes = append(c.attributes, attribute{t.header[i], text})
	}
	return nil
}

// risk returns the account's standing risk to be filled in. One without a level, as
// a reason alone would leave it, is taken for high.
func (a *Account) risk() *directory.AccountRisk {
	if a.AccountRisk == nil {
		a.AccountRisk = &directory.AccountRisk{Level: directory.HighRisk}
	}
	return a.AccountRisk
}

// moment reads a time into a cell's place.
func moment(into **time.Time, text string) error {
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return fmt.Errorf("a time is written like 2026-11-23T18:00:00Z, not %q", text)
	}
	*into = &t
	return nil
}

// alternatives splits a cell that holds several values: at semicolons, commas or
// bars.
func alternatives(text string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for v := range strings.FieldsFuncSeq(text, func(r rune) bool { return r == ';' || r == ',' || r == '|' }) {
			if v = strings.TrimSpace(v); v != "" && !yield(v) {
				return
			}
		}
	}
}

// attribute is a cell that became one.
type attribute struct{ column, text string }

// sharedAttributes returns the attributes of one account. Accounts that have the same
// share them, for a map takes more memory than the rest of an account.
func (c *collection) sharedAttributes() map[string]attempt.Scalar {
	if len(c.attributes) == 0 {
		return nil
	}
	c.key = c.key[:0]
	for _, a := range c.attributes {
		c.key = append(append(append(append(c.key, a.column...), 0), a.text...), 0)
	}
	if shared, ok := c.shared[string(c.key)]; ok {
		return shared
	}
	var a Account
	for _, cell := range c.attributes {
		a.attribute(cell.column, attempt.TextScalar(c.once(cell.text)))
	}
	if len(c.shared) < mostShared {
		c.shared[string(c.key)] = a.Attributes
	}
	return a.Attributes
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
