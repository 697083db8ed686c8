// Package people reads accounts and groups that another system exported: SCIM
// 2.0 resources (RFC 7643, RFC 7644) or CSV with a header (RFC 4180). What
// cannot be read is left out and listed with its line; nothing else is lost,
// for what the book has no word for becomes an attribute.
package people

import (
	"bytes"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Import is what a file says of accounts and groups.
type Import struct {
	Accounts []Account
	// Groups are those that the file defines, or that its accounts are in.
	Groups []directory.Group
	// Attributes are the columns of a table that no account has a word for, and that
	// became attributes, in the order of the header.
	Attributes []string
	// Taken says in sentences what in a table was taken for what: which column names the
	// accounts, what became attributes, how days were read that ISO 8601 writes otherwise.
	Taken []string
	// Skipped is what was left out, in the order of lines.
	Skipped []Skipped
}

// All yields the accounts of the file, for book.Listing. It yields no error: what
// could not be read is in Skipped; look at that first.
func (i *Import) All() iter.Seq2[directory.Account, error] {
	return func(yield func(directory.Account, error) bool) {
		for k := range i.Accounts {
			if !yield(i.Accounts[k].Account, nil) {
				return
			}
		}
	}
}

// Account is an account with the line on which the file speaks of it.
type Account struct {
	directory.Account
	Line int
	// Proves says that the file reports which methods the account has enrolled.
	Proves bool
}

// Skipped is something that was left out. Line counts from 1.
type Skipped struct {
	Line int    `json:"line" doc:"line of the file, counted from 1"`
	Text string `json:"text" doc:"what was left out, and why"`
}

// Read reads a file. What is written as JSON is taken for SCIM, anything else
// for CSV. The error says why nothing at all could be read.
func Read(text []byte) (*Import, error) {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	switch trimmed := bytes.TrimSpace(text); {
	case !utf8.Valid(text):
		return nil, errors.New("the file is not UTF-8 text; save it as CSV in UTF-8")
	case len(trimmed) == 0:
		return nil, errors.New("the file is empty; expected a SCIM ListResponse, or CSV with a header")
	case trimmed[0] == '{' || trimmed[0] == '[':
		return readSCIM(text)
	}
	return readCSV(text)
}

// collection gathers what a file says.
type collection struct {
	Import
	// index and groups find accounts and groups by name.
	index, groups map[string]int
	// attributes are those of the account that is read, and key what they are shared by.
	attributes []attribute
	key        []byte
	shared     map[string]map[string]attempt.Scalar
	// toldDays says that it is told already how days are read.
	toldDays bool
	// spelled holds texts that many accounts state.
	spelled map[string]string
}

// mostShared is how many different texts, and sets of attributes, accounts share.
const mostShared = 1 << 14

func newCollection() *collection {
	return &collection{index: make(map[string]int), groups: make(map[string]int),
		shared: make(map[string]map[string]attempt.Scalar), spelled: make(map[string]string)}
}

// once returns a text that does not keep the line that it is from, the same for all who
// state it.
func (c *collection) once(text string) string {
	if known, ok := c.spelled[text]; ok {
		return known
	}
	text = strings.Clone(text)
	if len(c.spelled) < mostShared {
		c.spelled[text] = text
	}
	return text
}

func (c *collection) skip(line int, format string, args ...any) {
	c.Skipped = append(c.Skipped, Skipped{line, fmt.Sprintf(format, args...)})
}

// add takes over an account unless its name cannot be used or stands twice.
func (c *collection) add(a Account) bool {
	switch first, twice := c.index[a.Name]; {
	case a.Name == "":
		c.skip(a.Line, "the account has no name")
		return false
	case directory.CheckName(a.Name) != nil:
		c.skip(a.Line, "the account %.40q: %v", a.Name, directory.CheckName(a.Name))
		return false
	case twice:
		c.skip(a.Line, "the account %s stands on line %d already", a.Name, c.Accounts[first].Line)
		return false
	}
	c.index[a.Name] = len(c.Accounts)
	for i, name := range a.Groups {
		a.Groups[i] = c.group(name)
	}
	slices.Sort(a.Groups)
	a.Groups = slices.Compact(a.Groups)
	c.Accounts = append(c.Accounts, a)
	return true
}

// group notes a group and returns the name that it has in a book, where names
// have no spaces.
func (c *collection) group(name string) string {
	if known, ok := c.groups[name]; ok {
		return c.Groups[known].Name
	}
	name = strings.Join(strings.Fields(strings.Clone(name)), "-")
	if known, ok := c.groups[name]; ok {
		return c.Groups[known].Name
	}
	if name != "" {
		c.groups[name] = len(c.Groups)
		c.Groups = append(c.Groups, directory.Group{Name: name})
	}
	return name
}

// done returns what was gathered, in an order that depends on the names alone.
func (c *collection) done() (*Import, error) {
	if len(c.Accounts) == 0 && len(c.Groups) == 0 {
		why := ""
		if len(c.Skipped) > 0 {
			why = fmt.Sprintf("; line %d: %s", c.Skipped[0].Line, c.Skipped[0].Text)
		}
		return nil, fmt.Errorf("the file has no account that could be read%s", why)
	}
	slices.SortFunc(c.Groups, func(a, b directory.Group) int { return strings.Compare(a.Name, b.Name) })
	slices.SortStableFunc(c.Skipped, func(a, b Skipped) int { return a.Line - b.Line })
	return &c.Import, nil
}

// attribute adds an attribute; what is empty is not known.
func (a *Account) attribute(name string, value attempt.Scalar) {
	name = strings.Join(strings.Fields(name), "_")
	if name == "" || value.Kind() == attempt.Text && value.String() == "" {
		return
	}
	if a.Attributes == nil {
		a.Attributes = make(map[string]attempt.Scalar)
	}
	a.Attributes[name] = value
}

// enrol adds a method. The built-in ones and those of the book are known; the
// book's are checked when it is read.
func (a *Account) enrol(name string) {
	a.Proves = true
	if !slices.Contains(a.Methods, name) {
		a.Methods = append(a.Methods, name)
	}
}

// columns are the words for what an account is known by, with the form of each.
var columns = []string{"name", "account", "userName", "email", "kind", "groups", "methods", "joined", "disabled", "active",
	"account_risk", "account_risk_because", "account_risk_since", "asked_at", "password_changed_at"}

// naming are the columns that can name an account, those that are meant for it first.
var naming = []string{"name", "account", "userName", "email", "e-mail", "mail", "login", "user", "userPrincipalName"}

// disabling are columns of other programs that may say that an account is disabled.
// What they say is not understood, so it is told.
var disabling = []string{"enabled", "status", "state", "locked", "suspended", "blocked", "inactive", "terminated", "leaver"}

// suggestColumns ends an error about a header without an account's name.
func suggestColumns(header []string) string {
	for _, wrong := range header {
		if hint := nearest.Names(wrong, naming[:4], 1); len(hint) > 0 {
			return fmt.Sprintf("; did you mean %q by %q?", hint[0], wrong)
		}
	}
	return ""
}
