package people

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/tables"
	"github.com/briskwarden/briskwarden/internal/words"
)

// readCSV reads a table with a header. The columns that a book has a word for
// are taken by that word, whatever the case; every other one is an attribute.
func readCSV(text []byte) (*Import, error) {
	r, err := tables.Open(bytes.NewReader(text), len(text))
	if err != nil {
		return nil, err
	}
	if r.Separator == ',' && len(r.Header) == 1 && !isName(r.Header[0]) {
		return nil, fmt.Errorf("the file is neither a SCIM ListResponse nor CSV with a header: its first line is %.60q", r.Header[0])
	}
	if !slices.ContainsFunc(r.Header, isName) {
		return nil, fmt.Errorf("the header %q names no account: expected a column %s%s", strings.Join(r.Header, ", "),
			strings.Join(naming[:4], " or "), suggestColumns(r.Header))
	}
	c := newCollection()
	c.Accounts = make([]Account, 0, bytes.Count(text, []byte("\n")))
	t := newTable(r.Header)
	if len(t.candidates) > 1 {
		t.chooseNaming(text)
	}
	c.tellColumns(r, t)
	for {
		record, err := r.Next()
		switch {
		case errors.Is(err, io.EOF):
			return c.done()
		case err != nil:
			return nil, err
		case record.Err != nil:
			c.skip(record.Line, "%v", record.Err)
		default:
			c.record(t, record.Cells, record.Line)
		}
	}
}

// table is what the header of a table says of its columns.
type table struct {
	// header has the columns as they are written, and words the same in lower case.
	header, words []string
	// naming is the column that names the account, and candidates are those that could. The
	// others are attributes.
	naming     int
	candidates []int
}

func newTable(header []string) *table {
	t := &table{header: header}
	for _, column := range header {
		t.words = append(t.words, strings.ToLower(column))
	}
	for _, name := range naming {
		if i := slices.Index(t.words, strings.ToLower(name)); i >= 0 {
			t.candidates = append(t.candidates, i)
		}
	}
	t.naming = t.candidates[0]
	return t
}

// chooseNaming takes the first of the columns that could name accounts in which each cell is
// a name that an account can have, and none stands twice: others hold the names of people.
func (t *table) chooseNaming(text []byte) {
	r, err := tables.Open(bytes.NewReader(text), len(text))
	if err != nil {
		return
	}
	seen := make([]map[string]bool, len(t.candidates))
	for i := range seen {
		seen[i] = map[string]bool{}
	}
	for {
		record, err := r.Next()
		if err != nil {
			break
		}
		for i, column := range t.candidates {
			if record.Err != nil || seen[i] == nil {
				continue
			}
			name := strings.TrimSpace(record.Cells[column])
			if seen[i][name] || directory.CheckName(name) != nil {
				seen[i] = nil
			} else {
				seen[i][name] = true
			}
		}
	}
	if i := slices.IndexFunc(seen, func(names map[string]bool) bool { return names != nil }); i >= 0 {
		t.naming = t.candidates[i]
	}
}

// tellColumns notes what was taken for what, and reports columns that may be meant to disable
// accounts.
func (c *collection) tellColumns(r *tables.Reader, t *table) {
	if separated := map[rune]string{';': "semicolons", '\t': "tabs", '|': "bars"}[r.Separator]; separated != "" {
		c.Taken = append(c.Taken, "Cells are separated by "+separated+".")
	}
	c.Taken = append(c.Taken, "The column "+t.header[t.naming]+" names the accounts.")
	for i, column := range t.header {
		is := func(known string) bool { return strings.EqualFold(known, column) }
		if column == "" || i == t.naming || slices.ContainsFunc(columns, is) && !isName(column) {
			continue
		}
		c.Attributes = append(c.Attributes, column)
		if slices.ContainsFunc(disabling, is) {
			c.skip(1, "the column %s disables nobody: it became an attribute; name it active or disabled, with true or false", column)
		}
	}
	if len(c.Attributes) > 0 {
		c.Taken = append(c.Taken, "Became attributes: "+words.List(c.Attributes, "and")+".")
	}
}

// isName reports whether a column holds the name of the account.
func isName(column string) bool {
	return slices.ContainsFunc(naming, func(c string) bool { return strings.EqualFold(c, column) })
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
		day, isDayFirst := tables.DayFirst(text)
		if !isDayFirst {
			return a.Joined.UnmarshalText([]byte(text))
		}
		*a.Joined = directory.DateOf(day)
		if !c.toldDays {
			c.toldDays = true
			c.Taken = append(c.Taken, fmt.Sprintf("The %s %s is taken for %s, the day first, and the like.", t.header[i], text, a.Joined))
		}
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
