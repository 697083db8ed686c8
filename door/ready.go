package door

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/briskwarden/briskwarden/store"
)

// Readiness says whether a door can do its work.
type Readiness struct {
	Ready bool `json:"ready" doc:"true where decisions are made on all that they rest on"`
	// Not says what is missing.
	Not []string `json:"not,omitempty" doc:"what is missing"`
	// Book is the digest of the one in force, and Refused what keeps a newer one out.
	Book    string   `json:"book" doc:"the digest of the book in force"`
	Refused []string `json:"refused,omitempty" doc:"what keeps a newer book from being taken into force"`
}

// Ready reports whether the door can do its work. A newer book that was refused does not make
// it unready: the one before goes on. What is missing is told without details, since anybody may
// ask; the log has them.
func (d *Door) Ready(ctx context.Context) *Readiness {
	r := &Readiness{Ready: true, Book: d.book.Load().Digest()}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(d.config.Limits.Answer))
	defer cancel()
	missing := func(what string) { r.Ready, r.Not = false, append(r.Not, what) }
	probe := store.Key{Kind: store.Probes, Key: d.config.Journal.Door}
	if _, err := d.facts.store.Get(ctx, probe); err != nil && !errors.Is(err, store.ErrNotFound) {
		missing("the store cannot be asked")
	} else if !d.facts.following.Load() {
		missing("changes by other doors are not followed, so every fact is read from the store")
	}
	if d.config.Journal.Mode == JournalRequired && d.recorder.canKeep(ctx) != nil {
		missing("nothing can be recorded, so nobody is let in")
	}
	switch restored, err := d.facts.restoredAt(ctx); {
	case d.facts.suspended.Load():
		missing(inDoubt)
	case err == nil && len(d.believed.Load().config.Owed(&restored)) > 0:
		missing("the store was put back, and is not yet resynced with every source")
	}
	if d.closing.Load() {
		missing("it is closing")
	}
	if last := d.last.Load(); last != nil && !last.Taken {
		r.Refused = []string{"a newer book was refused; the log and the journal say why"}
	}
	return r
}

const (
	// probeEvery is how often at most it is tried out whether anything can be kept.
	probeEvery = time.Second
	// probeSize is how much is written to find that out, in random bytes, so that it takes room as an entry does.
	probeSize = 6 << 10
)

// canKeep reports what keeps a transaction from being kept now: what came of the last, where that was within a second, or else of one that
// is made to find out.
func (r *recorder) canKeep(ctx context.Context) error {
	r.probing.Lock()
	defer r.probing.Unlock()
	kept, failed := time.Unix(0, r.kept.Load()), time.Unix(0, r.failed.Load())
	if kept.After(failed) && time.Since(kept) < probeEvery {
		return nil
	}
	if r.probed.After(failed) && time.Since(r.probed) < probeEvery {
		return r.probe
	}
	fills := make([]byte, probeSize)
	rand.Read(fills)
	j := &job{urgent: true, change: func(b *Change) error {
		return b.tx.Put(store.Row{Key: store.Key{Kind: store.Probes, Key: r.log},
			Value: []byte(`{"fills":"` + base64.StdEncoding.EncodeToString(fills) + `"}`)})
	}}
	r.add(j)
	select {
	case r.probe = <-j.result:
	case <-ctx.Done():
		r.probe = ctx.Err()
	}
	r.probed = time.Now()
	return r.probe
}

// WriteValue answers with a value as JSON.
func WriteValue(w http.ResponseWriter, status int, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return writeJSON(w, status, append(text, '\n'))
}
