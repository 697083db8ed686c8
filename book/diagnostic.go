package book

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
)

// Diagnostic is one thing that is wrong with a book.
type Diagnostic struct {
	At   condition.Position
	Text string
}

// String returns file:line:column and the text.
func (d Diagnostic) String() string { return d.At.String() + ": " + d.Text }

// Errors are all the things that are wrong with a book, in the order of their
// places. It is never empty where it is an error.
type Errors []Diagnostic

// Error returns one line for each diagnostic.
func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, d := range e {
		lines[i] = d.String()
	}
	return strings.Join(lines, "\n")
}

// diagnostics collects what is wrong while a book is read.
// unlessUnread ends what is said of a name that may stand in a file which could not be read.
const unlessUnread = ", which could not be read"

type diagnostics struct {
	found Errors
	// suggested counts the suggestions looked for: each costs a pass over all
	// names, so a book that is wrong all over gets them for the first ones only.
	suggested int
}

const mostSuggestions = 100

func (d *diagnostics) add(at condition.Position, format string, args ...any) {
	d.found = append(d.found, Diagnostic{at, fmt.Sprintf(format, args...)})
}

// err returns what was found, sorted, or nil.
func (d *diagnostics) err() error {
	if len(d.found) == 0 {
		return nil
	}
	// What may be right once a broken file is read comes last: the file is to be mended first.
	later := func(x Diagnostic) int {
		if strings.HasSuffix(x.Text, unlessUnread) {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(d.found, func(a, b Diagnostic) int { return cmp.Or(later(a)-later(b), a.At.Compare(b.At)) })
	d.found = slices.Compact(d.found)
	return d.found
}
