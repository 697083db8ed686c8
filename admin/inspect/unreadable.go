package inspect

import (
	"slices"

	"github.com/briskwarden/briskwarden/book"
)

// errorInBook is what the findings of a book that cannot be read are called.
var errorInBook = Check{Name: "error-in-book", Topic: "the book itself", Severity: Error, Title: "the book cannot be read as it stands",
	Why: "A book with an error in it judges nobody: anyone who loads it keeps to the one before. All errors are told at once; other " +
		"checks are made when they are gone.",
	WayOut: "Correct the place; the message says what would be right."}

// FindCheck returns the check of that name, and false where there is none. Those that need more than a
// book are found too, to be explained.
func FindCheck(name string) (Check, bool) {
	for _, c := range slices.Concat(Checks(), []Check{errorInBook, PushedGroups(nil)}, new(Use).allChecks()) {
		if c.Name == name {
			return c, true
		}
	}
	return Check{}, false
}

// ErrorInBook returns the check that the errors of a book which cannot be read are
// findings of.
func ErrorInBook() Check { return errorInBook }

// Unreadable reports what is wrong with a book that cannot be read, as findings.
func Unreadable(errors book.Errors) *Report {
	r := &Report{Findings: []Finding{}, Accepted: []Finding{}, Imports: []Import{},
		NotRead: []book.NotRead{}, Score: Score{Open: []OpenItem{}}}
	for _, d := range errors {
		r.Findings = append(r.Findings, Finding{Name: errorInBook.Name + ":" + d.At.String(), Check: errorInBook.Name, Severity: Error,
			At: d.At, Text: d.Text, WayOut: errorInBook.WayOut})
	}
	return r
}
