// Package evidence reads the journal of a door for an administrator: as a list, and one
// decision whole, with what a book of today would say of it.
package evidence

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// answer is what is read of a decision.
type answer struct {
	ID string `json:"id"`
	decide.Decision
	Degraded []string `json:"degraded"`
	Facts    struct {
		replay.Recorded
		From map[string]string `json:"from"`
	} `json:"facts"`
}

// ShortDigest is as much of a digest as a reader needs to tell two apart.
func ShortDigest(digest string) string {
	const enough = len("sha256:") + 12
	if len(digest) <= enough {
		return digest
	}
	return digest[:enough] + "…"
}

// Decision is a decision of the journal.
type Decision struct {
	ID     string    `json:"id" doc:"its name"`
	At     time.Time `json:"at" doc:"when it was recorded"`
	Caller string    `json:"caller,omitzero" doc:"who asked for it"`
	*decide.Decision
	Degraded []string          `json:"degraded,omitempty" doc:"what it lacked because something failed"`
	Attempt  *attempt.Attempt  `json:"attempt" doc:"the attempt as it was judged"`
	From     map[string]string `json:"from" doc:"where each fact came from"`
	// Today is what a book of today says of the same attempt with the same facts, where one was
	// given.
	Today *Today `json:"today,omitempty" doc:"what today's book says of the same attempt"`

	recorded replay.Recorded
}

// ToDo lists what would help the person: what is to be repaired, and what is to be proven.
func (d *Decision) ToDo() []string {
	todo := slices.Clone(d.ToPerson.Repairs)
	if offer := d.ToPerson.Offer; len(offer) > 0 {
		todo = append(todo, "Prove "+words.List(offer, "or")+".")
	}
	return todo
}

// Today is what another book says of the same attempt.
type Today struct {
	Book    string         `json:"book" doc:"its digest"`
	Same    bool           `json:"same" doc:"true where it is the book that decided"`
	Verdict decide.Verdict `json:"verdict" doc:"its verdict"`
	Causes  []decide.Cause `json:"causes" doc:"why"`
}

// Read reads a decision. The error says that the entry is another, or was pruned.
func Read(e *journal.Entry) (*Decision, error) {
	if e.Kind != journal.Decision {
		return nil, fmt.Errorf("%s is no decision: it records a %s", e.ID, e.Kind)
	}
	c, err := e.Content()
	if err != nil {
		return nil, err
	}
	read := new(answer)
	if err := json.Unmarshal(c.Answer, read); err != nil {
		return nil, fmt.Errorf("the decision %s cannot be read: %w", e.ID, err)
	}
	d := &Decision{ID: e.ID, At: e.At, Caller: c.Caller, Decision: &read.Decision, Degraded: read.Degraded, Attempt: new(attempt.Attempt),
		From: read.Facts.From, recorded: read.Facts.Recorded}
	if err := attempt.Parse(read.Facts.Attempt, d.Attempt, attempt.Options{Part: true}); err != nil {
		return nil, err
	}
	return d, nil
}

// Compare judges the same attempt with the same facts by a book, and notes what it says.
func (d *Decision) Compare(b *book.Book) error {
	rules := b.Rulebook()
	replay.Supply(&rules)
	judge, err := engine.Compile(rules)
	if err != nil {
		return err
	}
	again := judge.Outline(d.recorded.With(context.Background()), d.Attempt)
	d.Today = &Today{Book: b.Digest, Same: b.Digest == d.JudgedBy.Book, Verdict: again.Verdict, Causes: again.Causes}
	return nil
}

// errNoDecision is the error for an ID that the journal does not have.
var errNoDecision = errors.New("the journal has no entry of that id; `briskwarden journal list` shows those that it has")

// Find returns the entry of an ID.
func Find(ctx context.Context, s store.Store, id string) (*journal.Entry, error) {
	e, err := s.Entry(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, errNoDecision
	}
	return &e, err
}

// Verification is what came of verifying a journal.
type Verification struct {
	*journal.Verified
	// Wrong says what is not as it was, "" where all is.
	Wrong string `json:"wrong,omitzero" doc:"what is not as it was recorded; absent where all is"`
}

// Verify holds the logs of a journal against their trees, and against a checkpoint where one is given. An error
// means that it could not be read.
func Verify(ctx context.Context, s store.Store, o journal.Verification) (*Verification, error) {
	found, err := journal.Verify(ctx, s, o)
	if wrong := new(journal.Unsound); errors.As(err, &wrong) {
		return &Verification{Wrong: wrong.Error()}, nil
	}
	if err != nil {
		return nil, err
	}
	return &Verification{Verified: found}, nil
}
