package directory

import (
	"strings"

	"github.com/briskwarden/briskwarden/condition"
)

// Problem is one thing that is wrong with what a directory or a rulebook is made
// from.
type Problem struct {
	// What and Name say which definition it is about: "policy", "fleet-baseline".
	// For what holds for the whole, Name is "".
	What, Name string
	// At is where it stands in a file, where it was read from one and that is known.
	At condition.Position
	// Text says what is wrong and what would be right.
	Text string
	// AboutName says that the problem is a name: one that nothing defines, that stands
	// twice, or that is no name. A reader of files knows better where such a name
	// stands, and may report it itself.
	AboutName bool
	// Certain says that the problem is one whatever else is wrong with the definition;
	// others may follow from what could not be read of it.
	Certain bool
}

// String returns the place, where it is known, and the text.
func (p Problem) String() string {
	if p.At.IsValid() {
		return p.At.String() + ": " + p.Text
	}
	return p.Text
}

// Problems are all things that are wrong, as an error. It is never empty where it
// is one.
type Problems []Problem

// Error returns a line for each problem.
func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i := range p {
		lines[i] = p[i].String()
	}
	return strings.Join(lines, "\n")
}
