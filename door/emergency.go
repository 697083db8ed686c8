package door

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// An account that the book itself lists as one for emergencies gets in when all else fails: no source counts of it but the book and an
// administrator's act, none that fails blocks it, and a grant stands where it cannot be recorded. What the door last read of it, and what
// it owes the journal, it keeps of its own.

// emergencies are what a door keeps of emergency accounts.
type emergencies struct {
	keeper Keeper
	log    *slog.Logger

	mu    sync.Mutex
	known map[string]standing
	// owed are entries that could not be recorded yet, in the order in which they were made.
	owed []journal.Entry
}

// standing is what an administrator's act holds against an emergency account.
type standing struct {
	Disabled bool      `json:"disabled,omitzero"`
	Revoked  time.Time `json:"revoked,omitzero"`
}

// The names under which they are kept.
const (
	emergencyAccounts = "emergency"
	owedEntries       = "owed"
)

// mostOwed is how many entries are kept that could not be recorded; the log has them all.
const mostOwed = 10_000

// newEmergencies reads what was kept. What cannot be read lets nobody in.
func newEmergencies(keeper Keeper, log *slog.Logger) *emergencies {
	e := &emergencies{keeper: keeper, log: log, known: map[string]standing{}}
	if keeper == nil {
		return e
	}
	for name, into := range map[string]any{emergencyAccounts: &e.known, owedEntries: &e.owed} {
		text, _, err := keeper.Kept(name)
		if err == nil {
			err = json.Unmarshal(text, into)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			log.Error("what was kept of emergency accounts cannot be read", "name", name, "error", err)
		}
	}
	return e
}

// keep keeps something under a name; e.mu is held.
func (e *emergencies) keep(name string, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		panic(err) // it is texts and times
	}
	return e.keeper.Keep(name, text)
}

// note keeps how an emergency account stands, as it was just read.
func (e *emergencies) note(name string, is standing) {
	if e.keeper == nil {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if was, known := e.known[name]; known && was == is {
		return
	}
	e.known[name] = is
	if err := e.keep(emergencyAccounts, e.known); err != nil {
		e.log.Error("what is known of an emergency account was not kept, so it is not let in where the store is away after a restart",
			"account", name, "error", err)
	}
}

// standingOf returns how an emergency account stood when it was last read, and whether it ever was.
func (e *emergencies) standingOf(name string) (standing, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	is, known := e.known[name]
	return is, known && e.keeper != nil
}

// owe keeps an entry that could not be recorded, until it can be. It reports whether the door keeps such at all.
func (e *emergencies) owe(entry journal.Entry) bool {
	if e.keeper == nil {
		return false
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.owed) < mostOwed {
		e.owed = append(e.owed, entry)
	}
	if err := e.keep(owedEntries, e.owed); err != nil {
		e.log.Error("an emergency sign-in that is to be entered in the journal is kept in the log and in memory alone", "decision", entry.ID,
			"error", err)
	}
	return true
}

// pay hands what is owed to record, which enters it.
func (e *emergencies) pay(record func([]journal.Entry) error) error {
	e.mu.Lock()
	owed := e.owed
	e.mu.Unlock()
	if len(owed) == 0 {
		return nil
	}
	if err := record(owed); err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.owed = append([]journal.Entry{}, e.owed[len(owed):]...)
	e.log.Info("emergency sign-ins that could not be recorded were entered in the journal", "entries", len(owed))
	return e.keep(owedEntries, e.owed)
}

// emergencyAccount returns the book's own entry of an account for emergencies, nil of any other account.
func (b *inForce) emergencyAccount(account string) *directory.Account {
	contents := b.Judge().Directory()
	n, ok := contents.FindAccount(account)
	if !ok || n >= len(contents.Accounts) || contents.Accounts[n].Kind != directory.Emergency {
		return nil
	}
	return &contents.Accounts[n]
}

// standIn has the book, and what the door kept, stand in for facts of an emergency account that cannot be read; of what was read it keeps
// how the account stands.
func (f *facts) standIn(listed *directory.Account, g *gathering) {
	g.protected = true
	if g.accountLost == nil {
		is := standing{Disabled: listed.Disabled, Revoked: g.account.value.RevokedHere}
		if g.joined != nil {
			is.Disabled = g.joined.Disabled
		}
		f.emergencies.note(listed.Name, is)
		return
	}
	was, known := f.emergencies.standingOf(listed.Name)
	if !known {
		return
	}
	joined := *listed
	joined.Disabled, joined.IsWhole = listed.Disabled || was.Disabled, true
	g.joined, g.account.value = &joined, &store.Account{Name: listed.Name, RevokedHere: was.Revoked}
	g.accountLost, g.stoodIn = nil, true
}

// readEmergencies reads how each emergency account of a book stands, so that the door knows it while its store is away, and enters what
// it owes the journal.
func (d *Door) readEmergencies(ctx context.Context, b *inForce) {
	contents := b.Judge().Directory()
	for i := range contents.Accounts {
		if listed := b.emergencyAccount(contents.Accounts[i].Name); listed != nil {
			g := new(gathering)
			d.facts.gatherAccount(ctx, b, listed.Name, d.now(), g)
		}
	}
	if err := d.facts.emergencies.pay(func(owed []journal.Entry) error { return d.recorder.do(&job{entries: owed}) }); err != nil {
		d.log.Warn("emergency sign-ins are still to be entered in the journal", "error", err)
	}
}
