package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// A door keeps the end of its log in a file of its own (state), so that it finds out where its store was put back to an older
// copy, or another is in its place: what it recorded since would be gone unseen, and what was ended or disabled would hold
// again. Such a store is in doubt, and the door lets emergency accounts alone in, until an administrator says that it is meant.

// state is what a door keeps of its own.
type state struct {
	// Head is the end of its log, and Restored when the store was last put back, as far as the door knows.
	Head     journal.Head
	Restored time.Time
}

// stateFile is a state as it is written.
type stateFile struct {
	Head     []byte    `json:"head"`
	Restored time.Time `json:"restored,omitzero"`
}

// mostState is how large the file of a state may be, in bytes.
const mostState = 64 << 10

// stateOf is the file in which a door keeps its state, "" where it keeps none.
func stateOf(c *door.Config) string {
	if c.State == "" || c.Store.File == "" && c.Store.Postgres == "" || c.Journal.Mode == door.JournalOff {
		return ""
	}
	return filepath.Join(c.State, c.Journal.Door+".json")
}

// readState reads a door's state, nil where it kept none.
func readState(c *door.Config) (*state, error) {
	path := stateOf(c)
	if path == "" || !exists(path) {
		return nil, nil
	}
	text, err := wholefile.ReadPath(path, mostState)
	was, file := &state{Head: journal.Head{Log: c.Journal.Door}}, stateFile{}
	if err == nil {
		err = json.Unmarshal(text, &file)
	}
	if was.Restored = file.Restored; err == nil {
		err = was.Head.UnmarshalBinary(file.Head)
	}
	if err != nil {
		return nil, fmt.Errorf("state: %s cannot be read (%w): remove it where it is lost, and start the door as one without it", path, err)
	}
	return was, nil
}

// writeState keeps a door's state.
func writeState(c *door.Config, is *state) error {
	path := stateOf(c)
	if path == "" {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("state: %w", err)
	}
	head, err := is.Head.MarshalBinary()
	if err != nil {
		return err
	}
	text, err := json.Marshal(stateFile{head, is.Restored})
	if err != nil {
		return err
	}
	return replace(path, append(text, '\n'))
}

// headOf returns the end of a log in a store; of one that there is not it has no entry.
func headOf(ctx context.Context, s store.Store, log string) (journal.Head, error) {
	heads, err := s.Heads(ctx)
	for i := range heads {
		if heads[i].Log == log {
			return heads[i], err
		}
	}
	return journal.Head{Log: log}, err
}

// inDoubt says why nobody can tell whether a store is as its doors left it.
type inDoubt struct {
	why string
	// was is how long the door's log was, 0 where it kept no state, and is the end of it now.
	was int64
	is  journal.Head
	// meant is what an administrator said of it, nil where none did: it is for the door to enter what it lost, and to go on.
	meant *store.Restored
}

// Error implements error.
func (e *inDoubt) Error() string {
	return e.why + ". The door lets emergency accounts alone in. Where the store is meant as it is: briskwarden serve restored --as NAME " +
		"--because TEXT"
}

// goesOn reports whether a log in a store goes on from what it was: the entries behind that make its tree.
func goesOn(ctx context.Context, s store.Store, was *journal.Head) error {
	is, err := headOf(ctx, s, was.Log)
	if err != nil {
		return err
	}
	grown := *was
	if is.Size >= was.Size {
		for e, err := range s.Entries(ctx, journal.Filter{Log: was.Log, After: was.Size}) {
			if err != nil {
				return err
			}
			if e.Number != grown.Size || e.Number >= is.Size {
				break
			}
			grown.Append([]journal.Entry{e})
		}
	}
	if grown.Size != is.Size || grown.Root() != is.Root() {
		return &inDoubt{fmt.Sprintf("the store is not the one that this door wrote to last: its log %s had %d entries, and has %d that do not "+
			"go on from them. It was put back to an older copy, or another is in its place", was.Log, was.Size, is.Size), was.Size, is, nil}
	}
	return nil
}

// inStep is the name that a door holds while its store goes on from its state, beside that of its log.
func inStep(log string) string { return log + " in step" }

// lookAt returns an inDoubt where a store is in doubt to a door. A checkpoint that was kept elsewhere vouches for one to a door
// without a state; nil is none.
func lookAt(ctx context.Context, c *door.Config, s store.Store, checkpoint []byte) error {
	was, err := readState(c)
	switch {
	case err != nil || stateOf(c) == "":
		return err
	case was == nil:
		return joins(ctx, c, s, checkpoint)
	}
	err = goesOn(ctx, s, &was.Head)
	if doubt := new(inDoubt); errors.As(err, &doubt) {
		restored, unread := store.RestoredOf(ctx, s)
		if unread != nil {
			return unread
		}
		if restored.At.After(was.Restored) {
			doubt.meant = &restored
		}
	}
	return err
}

// takeUp is lookAt for a door that runs: it keeps a state from then on. Where the store was put back and that is meant, its log
// says what it lost, and it goes on.
func takeUp(ctx context.Context, c *door.Config, s store.Store, checkpoint []byte) error {
	err := lookAt(ctx, c, s, checkpoint)
	if doubt := new(inDoubt); errors.As(err, &doubt) && doubt.meant != nil {
		return enterLoss(ctx, c, s, doubt)
	}
	if err != nil || stateOf(c) == "" || exists(stateOf(c)) {
		return err
	}
	restored, err := store.RestoredOf(ctx, s)
	if err != nil {
		return err
	}
	return keepHead(ctx, c, s, restored.At)
}

// enterLoss enters in a door's log what it lost.
func enterLoss(ctx context.Context, c *door.Config, s store.Store, doubt *inDoubt) error {
	p := &journal.PutBack{Log: doubt.is.Log, From: doubt.was, To: doubt.is.Size, By: doubt.meant.By, Because: doubt.meant.Because}
	e, err := putBack(p, doubt.meant.At)
	if err == nil {
		err = s.Update(ctx, func(tx store.Tx) error { return tx.Append(p.Log, []journal.Entry{e}) })
	}
	if err != nil {
		return err
	}
	return keepHead(ctx, c, s, doubt.meant.At)
}

// keepHead keeps the state of a door as its store is.
func keepHead(ctx context.Context, c *door.Config, s store.Store, restored time.Time) error {
	head, err := headOf(ctx, s, c.Journal.Door)
	if err != nil {
		return err
	}
	return writeState(c, &state{head, restored})
}

// putBack makes an entry of a store that was put back.
func putBack(p *journal.PutBack, at time.Time) (journal.Entry, error) {
	text, err := json.Marshal(p)
	return journal.Make(journal.Restored, journal.NewID(), at, p.By, "", "restored", text), err
}

// joins reports where a store that has logs of doors is in doubt to a door that kept no state: nobody vouches for it.
func joins(ctx context.Context, c *door.Config, s store.Store, checkpoint []byte) error {
	heads, err := s.Heads(ctx)
	if err != nil {
		return err
	}
	is, fresh := journal.Head{Log: c.Journal.Door}, true
	for i := range heads {
		switch log := heads[i].Log; {
		case !store.IsOfDoor(log) || heads[i].Size == 0:
			continue
		case log == is.Log:
			is = heads[i]
		}
		fresh = false
		if runs, err := s.Held(ctx, inStep(heads[i].Log)); runs || err != nil {
			return err
		}
	}
	switch {
	case fresh:
		return nil
	case checkpoint != nil:
		return vouches(ctx, c, s, checkpoint)
	}
	return &inDoubt{"the store has entries of doors, and this door kept nothing of it (state), so it cannot tell whether it was put back " +
		"to an older copy. Start it while a door that can tell runs on the store, or with a checkpoint that was kept elsewhere (serve " +
		"--checkpoint FILE)", 0, is, nil}
}

// vouches reports where a checkpoint does not show that a store goes on from it.
func vouches(ctx context.Context, c *door.Config, s store.Store, checkpoint []byte) error {
	if c.Journal.Key == "" {
		return errors.New("--checkpoint: the configuration has no journal.key, so nobody can tell whose checkpoint it is")
	}
	private, err := wholefile.ReadPath(c.Journal.Key, mostConfig)
	if err != nil {
		return fmt.Errorf("journal.key: %w", err)
	}
	public, err := journal.PublicKey(string(private))
	if err != nil {
		return fmt.Errorf("journal.key: %w", err)
	}
	found, err := journal.Verify(ctx, s, journal.Verification{Checkpoint: checkpoint, PublicKey: public})
	switch {
	case err != nil:
		return fmt.Errorf("--checkpoint: %w", err)
	case *found.Covered == 0:
		return errors.New("--checkpoint: it covers no entry, so it shows nothing")
	}
	return nil
}

// storeWatch watches a store for a door: it keeps the door's state, suspends the door where the store does not go on from it, and
// lets it go on where that is meant or over.
type storeWatch struct {
	*Service
	door *door.Door
	kept store.Store
	// last is the state as it was written, and lastEntry the ID of the last entry of the log then.
	last      *state
	lastEntry string
	// doubted says that the store is in doubt, so that no checkpoint is signed of it either, and failing that it could not be
	// looked at.
	doubted atomic.Bool
	failing bool
}

// run keeps the state, at most a second behind and once more at the end.
func (w *storeWatch) run(ctx context.Context) {
	every := time.NewTicker(time.Second)
	defer every.Stop()
	for {
		w.settle(ctx, w.follow(ctx))
		select {
		case <-ctx.Done():
			ctx = context.WithoutCancel(ctx)
			w.settle(ctx, w.follow(ctx))
			return
		case <-every.C:
		}
	}
}

// settle takes in what a look at the store said.
func (w *storeWatch) settle(ctx context.Context, err error) {
	var doubt *inDoubt
	failing := false
	switch {
	case errors.As(err, &doubt):
		if w.doubted.Swap(true) {
			break
		}
		w.Log.Error("the store is in doubt", "why", err.Error())
		w.door.Suspend()
		if err := w.kept.Release(inStep(w.Config.Journal.Door)); err != nil {
			w.Log.Error("a name could not be given back to the store", "error", err)
		}
	case err != nil:
		if failing = true; !w.failing && ctx.Err() == nil {
			w.Log.Error("the state of the door is not kept", "error", err)
		}
	case w.doubted.Swap(false):
		w.Log.Info("the store is in doubt no more")
		w.door.Resume()
	}
	w.failing = failing
}

// follow reports where the store no longer goes on from the state, and keeps the state as it is now.
func (w *storeWatch) follow(ctx context.Context) error {
	log := w.Config.Journal.Door
	if w.doubted.Load() || w.last == nil {
		if err := takeUp(ctx, w.Config, w.kept, w.Checkpoint); err != nil {
			return err
		}
		was, err := readState(w.Config)
		if err != nil {
			return err
		}
		if w.last = was; was == nil {
			w.last = &state{Head: journal.Head{Log: log}}
		}
		if w.lastEntry, err = w.entryAt(ctx, w.last.Head.Size-1); err != nil {
			w.last = nil
			return err
		}
	}
	for _, name := range []string{log, inStep(log)} { // which a store that was away has lost
		if err := w.kept.Hold(ctx, name); err != nil {
			return err
		}
	}
	restored, err := store.RestoredOf(ctx, w.kept)
	if err != nil {
		return err
	}
	is, err := headOf(ctx, w.kept, log)
	if err != nil {
		return err
	}
	id, err := w.entryAt(ctx, w.last.Head.Size-1)
	if err != nil {
		return err
	}
	if is.Size < w.last.Head.Size || id != w.lastEntry {
		w.last = nil
		return takeUp(ctx, w.Config, w.kept, nil)
	}
	if restored.At.After(w.last.Restored) {
		w.door.Resume() // which has sessions judged again
	}
	if is.Size == w.last.Head.Size && restored.At.Equal(w.last.Restored) && exists(stateOf(w.Config)) {
		return nil
	}
	if id, err = w.entryAt(ctx, is.Size-1); err != nil {
		return err
	}
	last := &state{is, restored.At}
	if err := writeState(w.Config, last); err != nil {
		return err
	}
	w.last, w.lastEntry = last, id
	return nil
}

// entryAt returns the ID of an entry of the door's log, "" where there is none of that number.
func (w *storeWatch) entryAt(ctx context.Context, number int64) (id string, err error) {
	if number < 0 {
		return "", nil
	}
	for e, err := range w.kept.Entries(ctx, journal.Filter{Log: w.Config.Journal.Door, After: number, Limit: 1}) {
		if err != nil || e.Number != number {
			return "", err
		}
		id = e.ID
	}
	return id, nil
}
