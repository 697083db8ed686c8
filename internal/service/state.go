package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// A door keeps the end of its log in a file of its own (state), so that it finds out where its store was put back to an older
// copy, or another is in its place: what it recorded since would be gone unseen, and what was ended or disabled would hold
// again.

// stateOf is the file in which a door keeps the end of its log, "" where it keeps none.
func stateOf(c *door.Config) string {
	if c.State == "" || c.Store.File == "" && c.Store.Postgres == "" || c.Journal.Mode == door.JournalOff {
		return ""
	}
	return filepath.Join(c.State, c.Journal.Door+".log")
}

// mostState is how large the file of a state may be, in bytes.
const mostState = 64 << 10

// readState reads the end of a door's log as it last was, nil where it kept none.
func readState(c *door.Config) (*journal.Head, error) {
	path := stateOf(c)
	if path == "" || !exists(path) {
		return nil, nil
	}
	text, err := wholefile.ReadPath(path, mostState)
	head := &journal.Head{Log: c.Journal.Door}
	if err == nil {
		err = head.UnmarshalBinary(text)
	}
	if err != nil {
		return nil, fmt.Errorf("state: %s cannot be read (%w): a door that lost it is started with it removed", path, err)
	}
	return head, nil
}

// writeState keeps the end of a door's log.
func writeState(c *door.Config, head *journal.Head) error {
	path := stateOf(c)
	if path == "" {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("state: %w", err)
	}
	text, err := head.MarshalBinary()
	if err != nil {
		return err
	}
	return replace(path, text)
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

// notGoingOn says that a store's record does not go on from a door's state.
type notGoingOn struct {
	was, is journal.Head
}

// Error implements error.
func (e *notGoingOn) Error() string {
	return fmt.Sprintf("the store is not the one that this door wrote to last: its log %s had %d entries, and has %d that do not go on from "+
		"them. It was put back to an older copy, or another is in its place. What was ended, disabled or barred since is not in it. Where that "+
		"is meant: briskwarden serve restored --as NAME --because TEXT", e.was.Log, e.was.Size, e.is.Size)
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
		return &notGoingOn{*was, is}
	}
	return nil
}

// checkState reports where the store is not the one that the door wrote to last.
func checkState(ctx context.Context, c *door.Config, s store.Store) error {
	was, err := readState(c)
	if err != nil || was == nil {
		return err
	}
	return goesOn(ctx, s, was)
}

// keepState keeps the end of the door's log, at most a second behind, and once more at the end.
func (s *Service) keepState(ctx context.Context, kept store.Store) {
	if stateOf(s.Config) == "" {
		return
	}
	last, failing := int64(-1), false
	write := func(ctx context.Context) {
		head, err := headOf(ctx, kept, s.Config.Journal.Door)
		if err == nil && head.Size != last {
			if err = writeState(s.Config, &head); err == nil {
				last = head.Size
			}
		}
		if err != nil && !failing && ctx.Err() == nil {
			s.Log.Error("the state of the door is not kept", "error", err)
		}
		failing = err != nil
	}
	every := time.NewTicker(time.Second)
	defer every.Stop()
	for {
		write(ctx)
		select {
		case <-ctx.Done():
			write(context.WithoutCancel(ctx))
			return
		case <-every.C:
		}
	}
}

// Restored is what is entered where a store was put back.
type Restored struct {
	Log     string `json:"log" doc:"the log that does not go on"`
	From    int64  `json:"from" doc:"how many entries it had"`
	To      int64  `json:"to" doc:"how many entries of the store are there now"`
	By      string `json:"by" doc:"who says that this is meant"`
	Because string `json:"because" doc:"why"`
}

// Restore enters that a store was put back, and has the door go on from what there is. It is an error where the store is the
// one that the door wrote to last.
func Restore(ctx context.Context, c *door.Config, by, because string, at time.Time) (done *Restored, err error) {
	if strings.TrimSpace(by) == "" || strings.TrimSpace(because) == "" {
		return nil, errors.New("say who does it and why: --as NAME --because TEXT")
	}
	s, err := JoinStore(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	var parted *notGoingOn
	switch err := checkState(ctx, c, s); {
	case err == nil:
		return nil, errors.New("the store is the one that this door wrote to last, or the door kept no state: there is nothing to say")
	case !errors.As(err, &parted):
		return nil, err
	}
	done = &Restored{Log: parted.was.Log, From: parted.was.Size, To: parted.is.Size, By: by, Because: because}
	text, err := json.Marshal(done)
	if err != nil {
		return nil, err
	}
	e := journal.Make(journal.Restored, journal.NewID(), at, by, "", "restored", text)
	if err := s.Update(ctx, func(tx store.Tx) error { return tx.Append(store.TerminalLog, []journal.Entry{e}) }); err != nil {
		return nil, err
	}
	return done, writeState(c, &parted.is)
}
