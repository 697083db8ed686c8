package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/internal/jsontext"
)

// Administrators is the source of what all administrators did, where a store was put back.
const Administrators Source = "administrators"

// Restored is kept of a store that was put back to an older copy, once an administrator said that this is meant. There is
// one row of it; the next one replaces it. The zero Restored is that of a store that never was.
type Restored struct {
	// At is when it was said: what was authenticated before counts no more.
	At      time.Time `json:"at" doc:"when it was said"`
	By      string    `json:"by" doc:"who said it"`
	Because string    `json:"because" doc:"why"`
	// Resynced are the sources that have stated all their facts once more since. What the others said is out of date, so
	// nobody is granted anything whom they speak for.
	Resynced []Source `json:"resynced,omitempty" doc:"the sources that have stated all their facts once more since"`
}

// Voids reports whether what was authenticated at a moment counts no more.
func (r *Restored) Voids(at time.Time) bool { return !r.At.IsZero() && !at.After(r.At) }

// Owes reports whether a source has still to state all its facts once more.
func (r *Restored) Owes(by Source) bool { return !r.At.IsZero() && !slices.Contains(r.Resynced, by) }

// RestoredOf reads what is kept of a store that was put back, the zero Restored where it never was.
func RestoredOf(ctx context.Context, from Reader) (r Restored, err error) {
	if err = Load(ctx, from, &r); errors.Is(err, ErrNotFound) {
		err = nil
	}
	return r, err
}

func (r *Restored) row() Row { return Row{Key: Key{Restorations, "restored"}} }

func (r *Restored) appendJSON(text []byte) []byte {
	text = jsontext.Time(jsontext.Key(append(text, '{'), "at"), r.At)
	text = jsontext.String(jsontext.Key(text, "by"), r.By)
	text = jsontext.String(jsontext.Key(text, "because"), r.Because)
	said := func(text []byte, by *Source) []byte { return jsontext.String(text, string(*by)) }
	return append(appendList(text, "resynced", r.Resynced, said), '}')
}
