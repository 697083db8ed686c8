package describe

import (
	"time"

	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/explore"
	"github.com/briskwarden/briskwarden/internal/words"
)

// AddExtremes adds to the description of an account what it may be asked for when it signs in, at the least and at the most,
// of all circumstances in which that can be from a moment on for 400 days. It looks through all of them, which takes
// some tenths of a second, and adds nothing where they are too many. The error is that of compiling the book again.
func (doc *Document) AddExtremes(judge *engine.Judge, account string, at time.Time) error {
	s := Section{Heading: "What it comes to, at the least and at the most"}
	space, err := explore.New(judge, at, at.Add(explore.Horizon))
	if err != nil {
		return err
	}
	all, ok := space.Extremes(account)
	if !ok {
		return nil
	}
	for _, x := range all {
		text := "At " + words.List(x.Apps, "and") + ": "
		least, most := either(x.Mildest), either(x.Strictest)
		switch {
		case len(x.Mildest) == 0:
			text += "a block, whatever is so"
		case least == most:
			text += least
		default:
			text += "at the least " + least + ", at the most " + most
		}
		if x.Blocks && len(x.Mildest) > 0 {
			text += "; a block in some circumstances"
		}
		s.Lines = append(s.Lines, text+".")
	}
	doc.add(s, nil)
	return nil
}

// either lists terms, where it is one of them. Several are each in brackets, for they say "or" themselves.
func either(terms []string) string {
	if len(terms) == 1 {
		return terms[0]
	}
	var bracketed []string
	for _, t := range terms {
		bracketed = append(bracketed, "("+t+")")
	}
	return words.List(bracketed, "or")
}
