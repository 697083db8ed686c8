package acts

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/briskwarden/briskwarden/journal"
)

// Acts returns the acts that the journal has, in order, once the journal has been verified, and where a checkpoint is given,
// what that shows of them. Acts that were pruned are left out. A journal that is not as it was recorded is an error.
func (d *Desk) Acts(ctx context.Context, o journal.Verification) (*Record, error) {
	found, err := journal.Verify(ctx, d.store, o)
	if err != nil {
		return nil, err
	}
	r := &Record{Acts: []Act{}}
	coveredOf := map[string]int64{}
	if found.Covered != nil {
		r.Covered = &Covered{Origin: found.Origin}
		for _, l := range found.Logs {
			coveredOf[l.Log] = l.Covered
		}
	}
	for e, err := range d.store.Entries(ctx, journal.Filter{Kind: journal.Consent}) {
		if err != nil {
			return nil, err
		}
		if e.Leaf == nil {
			continue
		}
		var a Act
		c, err := e.Content()
		if err == nil {
			err = json.Unmarshal(c.Consent, &a)
		}
		if err != nil {
			return nil, fmt.Errorf("the entry %s: %w", e.ID, err)
		}
		r.Acts = append(r.Acts, a)
		switch {
		case r.Covered == nil:
		case e.Number < coveredOf[e.Log]:
			r.Covered.Acts++
		default:
			r.Covered.Since++
		}
	}
	slices.SortStableFunc(r.Acts, func(a, b Act) int { return cmp.Compare(a.Number, b.Number) })
	return r, nil
}

// Covered is what a checkpoint shows of the acts.
type Covered struct {
	// Origin names the journal, as the checkpoint does.
	Origin string `json:"origin" doc:"name of the journal, as the checkpoint has it"`
	// Acts is how many acts were entered at the checkpoint: they are as they were then.
	Acts int64 `json:"acts" doc:"how many acts are covered by the checkpoint, and are as they were then"`
	// Since is how many acts came after it.
	Since int64 `json:"since" doc:"how many acts came after the checkpoint"`
}
