package replay

import (
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// Basis is what a result rests on: how much of a history was judged, and how much was
// not.
type Basis struct {
	// Unjudged says why nothing can be concluded from the history. Where it is not empty
	// the numbers are those of a part of it, and nothing that they do not show is to be
	// taken for what does not happen.
	Unjudged string    `json:"unjudged,omitzero" doc:"why nothing can be concluded from the history; absent where something can"`
	Attempts int64     `json:"attempts" doc:"how many attempts were judged"`
	First    time.Time `json:"first,omitzero" doc:"the time of the earliest"`
	Last     time.Time `json:"last,omitzero" doc:"the time of the latest"`
	// Strangers are the attempts of an account, or at an app, that no book has which
	// judged them.
	Strangers int64 `json:"strangers" doc:"how many of them are of an account, or at an app, that the book does not have"`
	// Cut says that it was interrupted.
	Cut bool `json:"cut,omitzero" doc:"true where judging was interrupted"`
	// Broken are the files that could not be read to their end.
	Broken []string  `json:"broken,omitempty" doc:"the files that could not be read to their end, each with the reason"`
	Bad    []BadLine `json:"bad" doc:"the first lines that could not be read"`
	BadAll int64     `json:"bad_all" doc:"how many lines could not be read"`
	// Skipped are records such as that of a log-off.
	Skipped int64 `json:"skipped" doc:"how many records are in order and no attempts, such as a log-off"`
}

// Basis returns what a result rests on that came of a reading, with so many attempts, and
// strangers among them, in a period.
func (r *Reading) Basis(attempts, strangers int64, p Period, o Options) Basis {
	b := Basis{Attempts: attempts, Strangers: strangers, First: p.First, Last: p.Last,
		Cut: r.Cut, Broken: r.Broken, Bad: r.Bad, BadAll: r.BadAll, Skipped: r.Skipped}
	lines := attempts + r.BadAll
	switch {
	case b.Cut:
		b.Unjudged = "it was interrupted before the end"
	case len(b.Broken) > 0:
		b.Unjudged = "it could not be read to the end: " + strings.Join(b.Broken, "; ")
	case lines == 0:
		b.Unjudged = "it holds no attempt"
	case attempts == 0:
		b.Unjudged = fmt.Sprintf("none of its lines (%d) could be read as an attempt", lines)
	case float64(r.BadAll) > o.MostBad/100*float64(lines):
		b.Unjudged = fmt.Sprintf("%d of its %d lines could not be read, and at most %g in a hundred may be left out", r.BadAll, lines, o.MostBad)
	case strangers == attempts:
		b.Unjudged = fmt.Sprintf("none of its attempts (%d) is of an account and an app that the book has", attempts)
	}
	return b
}

// IsStranger reports whether an attempt is of an account, or at an app, that the book
// does not have, or cannot be judged at all.
func IsStranger(b *engine.Brief) bool {
	for _, c := range b.Causes {
		if c.Code == decide.AccountUnknown || c.Code == decide.AppUnknown || c.Code == decide.AttemptInvalid {
			return true
		}
	}
	return false
}
