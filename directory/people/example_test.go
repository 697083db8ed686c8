package people_test

import (
	"fmt"

	"github.com/briskwarden/briskwarden/directory/people"
)

// A table of people: what a book has no word for becomes an attribute, and what
// cannot be read is told with its line.
func ExampleRead() {
	found, err := people.Read([]byte("account,groups,joined,vessel\n" +
		"liv@kestrelsound.example,engine,2021-02-15,MF Kestrel\n" +
		"jonas@kestrelsound.example,deck,soon,MF Kestrel\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, a := range found.Accounts {
		fmt.Println(a.Name, a.Groups, a.Joined, a.Attributes["vessel"])
	}
	for _, s := range found.Skipped {
		fmt.Printf("line %d: %s\n", s.Line, s.Text)
	}
	// Output:
	// liv@kestrelsound.example [engine] 2021-02-15 MF Kestrel
	// line 3: the account jonas@kestrelsound.example: joined: a day is written like 2026-11-23, not "soon"
}
