package book

import (
	"errors"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Guarantee is what must hold of the book in all circumstances. One of Always, NeverWithout, Enough and
// AtMost is given. It has no effect on decisions: prove reports whether it holds, and a door takes no book with
// one that does not.
type Guarantee struct {
	At    condition.Position `book:"-"`
	Name  string             `book:"name,required" doc:"its name"`
	About string             `book:"about" doc:"what it is to make sure of"`
	// Where says of which circumstances it is. For Always and NeverWithout those count too of which it is not
	// known.
	Where  condition.Node `book:"where,required" about:"account,app,attempt,risk" doc:"the circumstances that it is about"`
	Always Always         `book:"always" doc:"block: nobody gets in" default:"nothing"`
	// NeverWithout are assurances that everyone who gets in has met, all of them.
	NeverWithout []string `book:"never_without" ref:"assurance" doc:"assurances that all who get in have met"`
	Enough       []string `book:"enough" ref:"assurance" doc:"assurances that let in who meets all of them"`
	AtMost       []string `book:"at_most" ref:"assurance" doc:"assurances beyond which nothing is asked for; a block asks for nothing"`
}

// Always is what always becomes of attempts. The zero Always says nothing.
type Always uint8

// What always becomes of attempts.
const (
	_ Always = iota
	// AlwaysBlock says that nobody gets in.
	AlwaysBlock
)

var alwaysWords = []string{"block"}

// UnmarshalText reads block.
func (a *Always) UnmarshalText(text []byte) error {
	return words.Parse(a, "what always becomes of attempts", string(text), alwaysWords, AlwaysBlock)
}

// Check reports what is wrong with a guarantee.
func (g *Guarantee) Check() error {
	given := 0
	for _, is := range []bool{g.Always != 0, len(g.NeverWithout) > 0, len(g.Enough) > 0, len(g.AtMost) > 0} {
		if is {
			given++
		}
	}
	if given != 1 {
		return errors.New("give one of always, never_without, enough and at_most, and one of them only")
	}
	return nil
}
