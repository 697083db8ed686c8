package book

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
)

// Drill is an attempt, or a request for consent, with the decision expected of
// it. One of Attempt and Request is given.
type Drill struct {
	At      condition.Position `book:"-"`
	Name    string             `book:"name,required" doc:"name of the drill"`
	About   string             `book:"about" doc:"what it is to make sure of"`
	Attempt *attempt.Attempt   `book:"attempt" doc:"an attempt, as it is written in JSON; what it leaves out is unknown"`
	Request *consent.Request   `book:"request" doc:"what an outside program asks for"`
	// Expect is a verdict of an attempt, or an outcome of a request.
	Expect string `book:"expect,required" doc:"grant, step_up or block of an attempt; allow, review or refuse of a request"`
	// WithShadow is the verdict expected were the shadow policies live.
	WithShadow string `book:"with_shadow" doc:"the verdict expected were the shadow policies live" default:"it is not looked at"`
	// By is the rule that is expected among the causes.
	// Unlisted says that the names in it are meant that the book does not have. Without it
	// a misspelt name would let a drill pass that expects a block.
	Unlisted bool   `book:"unlisted" doc:"true where it is meant to name what the book does not have, such as an account"`
	By       string `book:"by" doc:"the rule behind it, as policy/rule; of a request, the rule alone" default:"it is not looked at"`
}

// Check reports what is wrong with a drill.
func (d *Drill) Check() error {
	words := decide.Verdicts()
	switch {
	case (d.Attempt == nil) == (d.Request == nil):
		return fmt.Errorf("give attempt or request, and one of them only")
	case d.Request != nil && d.WithShadow != "":
		return fmt.Errorf("with_shadow is for an attempt")
	case d.Request != nil:
		words = consent.Outcomes()
	}
	for _, word := range []string{d.Expect, d.WithShadow} {
		if word != "" && !slices.Contains(words, word) {
			return fmt.Errorf("%q is none of %s", word, strings.Join(words, ", "))
		}
	}
	if d.By != "" && d.Attempt != nil && strings.Count(d.By, "/") != 1 {
		return fmt.Errorf("`by` names a rule as policy/rule, not %q", d.By)
	}
	if d.Request != nil {
		return d.Request.Check()
	}
	return nil
}
