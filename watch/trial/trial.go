// Package trial tells what a watch would have told, had it watched over a history: which alerts would have
// rung how often, and what their letters would have said. It keeps nothing and sends nothing.
package trial

import (
	"context"
	"time"

	"github.com/briskwarden/briskwarden/watch/lookout"
)

// Trial is a lookout that goes through decisions that were made before. The zero Trial is not ready; New
// makes one.
type Trial struct {
	lookout *lookout.Lookout
	state   lookout.State
	// Posts are the letters about alerts that would have been sent, the last about each alert.
	Posts map[string]Post
	told  time.Time
}

// Post is a letter, with the time at which it would have been sent.
type Post struct {
	lookout.Post
	At time.Time
}

// New makes a trial.
func New(w *lookout.Lookout) *Trial { return &Trial{lookout: w, Posts: map[string]Post{}} }

// between is how often it is looked whether there is something to tell, in the time of the decisions.
const between = time.Minute

// Take takes decisions, in the order of their times.
func (t *Trial) Take(ctx context.Context, decisions ...lookout.Decision) {
	for i := range decisions {
		at := decisions[i].At
		for ; !t.told.IsZero() && t.told.Add(between).Before(at) && t.state.Waits(); t.told = t.told.Add(between) {
			t.tell(t.told.Add(between))
		}
		t.lookout.Take(ctx, &t.state, decisions[i:i+1])
		t.tell(at)
		t.told = at
	}
}

func (t *Trial) tell(now time.Time) {
	for _, p := range t.lookout.Tell(&t.state, now) {
		if p.Digest != "" {
			continue
		}
		for i := range p.Rings {
			t.Posts[p.Rings[i].Alert] = Post{p, now}
		}
	}
}

// Rings returns how often an alert rang.
func (t *Trial) Rings(alert string) int64 { return t.state.Rings[alert] }
