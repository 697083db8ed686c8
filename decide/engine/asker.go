package engine

import (
	"context"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
)

// Asker answers the tests of a judge that CompileAsking made, in place of an attempt. The judge finds it as
// the context that it is given.
type Asker interface {
	context.Context
	// Answer answers a bound test. Held is what it comes to on the attempt that the judge was given.
	Answer(t *condition.Test, held func() condition.Truth) condition.Truth
	// ReachesMedium answers whether the risk of the attempt is medium or higher.
	ReachesMedium() condition.Truth
}

// CompileAsking is Compile for a judge whose tests are answered by an Asker where one is its context.
func CompileAsking(book decide.Rulebook) (*Judge, error) { return compile(book, true) }
