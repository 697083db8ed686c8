package door

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Room is a part of a door beside decisions, the guard and sessions. Packages door/people, door/events, door/pages, door/alerts and
// door/metrics each make one, so that a program links what it uses. It is called once, while the door is made and before it has a book; it
// keeps the door for what it does later. An error keeps the door from being made.
type Room func(*Door) (*Opened, error)

// Opened is what a room adds to a door. Whatever is nil it adds nothing to.
type Opened struct {
	// Routes are what it answers over HTTP.
	Routes []Route
	// Run works beside the door until the context ends.
	Run func(context.Context)
	// Refuse returns what keeps a book from being taken into force. Taken is told of one that was.
	Refuse func(*briskwarden.Book) error
	Taken  func(*briskwarden.Book)
	// Ended is told of a session that ends, or of what it was granted at an app, "" for the whole, within the change that ends it. With an
	// error nothing is changed.
	Ended func(c *Change, s *store.Session, app, because string) error
	// Meter counts what the door does.
	Meter Meter
	// Keys are those at the top of a configuration that the room is for: a door that is told by them what no room does is not made.
	Keys []string
}

// Route is one thing that a door answers over HTTP.
type Route struct {
	// Pattern is that of http.ServeMux, such as "GET /v1/sessions"; without a method all below the path is served.
	Pattern string
	// Right is what a caller needs; 0 is for everybody.
	Right Right
	// Serve answers a request. An error that is a [Problem] is answered with, and any other is logged.
	Serve func(w http.ResponseWriter, r *Request) error
	// About says what it is, for /openapi.json, which leaves out what has none. Takes and Gives are values of the types of what it takes and
	// gives as JSON, nil where that is nothing or no JSON; Status is that of success.
	About        string
	Takes, Gives any
	Status       int
	// IsPage says that people look at it with a browser, which shows who they are by a password (RFC 7617).
	IsPage bool
}

// Counter is something that a door counts, each time with a label. The zero Counter is invalid.
type Counter uint8

// What is counted.
const (
	// RequestsRefused are requests that were refused before anything was done, by the reason.
	RequestsRefused Counter = iota + 1
	// PassedAgain are requests that the guard let through as a moment before, which are not recorded again; without a label.
	PassedAgain
	// Reloads are books that were to be taken into force, by what became of them.
	Reloads
	// EventsTaken are security events that were handed in, by what became of them.
	EventsTaken
	// LettersTried are letters of the watch that were tried, by what became of the try.
	LettersTried
	// StatementsLeftOut are requests with a part left out, by the caller, who may not state it.
	StatementsLeftOut
)

// Meter counts what a door does. Its methods are called while decisions wait, by many at once.
type Meter interface {
	// Decided is told of each decision, with the time that it took, its record included.
	Decided(a *Answer, took time.Duration)
	// Wrote is told of each transaction: the time that it took, how much was written together, and what kept it from being kept.
	Wrote(took time.Duration, together int, err error)
	// Count is told of each occurrence of something.
	Count(what Counter, label string)
}

// Workload is what a door has to do at a moment, and with what.
type Workload struct {
	// Since is when the book in force came into force.
	Since time.Time
	// Remembered is how many rows of the store are remembered, and Waiting how much waits to be written.
	Remembered, Waiting int
}

// Workload returns what the door has to do now.
func (d *Door) Workload() Workload {
	return Workload{Since: d.book.Load().since, Waiting: d.recorder.length(),
		Remembered: d.facts.accounts.rows.Len() + d.facts.devices.rows.Len() + d.facts.sessions.rows.Len()}
}

// enter opens the rooms.
func (d *Door) enter(rooms []Room) error {
	var done []string
	for _, room := range rooms {
		o, err := room(d)
		if err != nil {
			return err
		}
		d.rooms, done = append(d.rooms, o), append(done, o.Keys...)
		if o.Ended != nil {
			d.ended = append(d.ended, o.Ended)
		}
		if o.Meter != nil {
			d.meters = append(d.meters, o.Meter)
		}
	}
	for key, is := range map[string]bool{"events": len(d.config.Events) > 0, "tell": len(d.config.Tell.Receivers) > 0,
		"watch": !reflect.ValueOf(d.config.Watch).IsZero()} {
		if is && !slices.Contains(done, key) {
			return fmt.Errorf("the configuration has `%s`, and none of the door's rooms does what it says; add that to Options.Rooms", key)
		}
	}
	return nil
}

// Count counts something that happened, for whatever room counts.
func (d *Door) Count(what Counter, label string) {
	for _, m := range d.meters {
		m.Count(what, label)
	}
}

// Config returns the configuration as it was last read. Nobody changes it.
func (d *Door) Config() *Config { return d.believed.Load().config }

// Store returns the store. Facts are changed by Change, so that the door knows of it.
func (d *Door) Store() store.Store { return d.facts.store }

// Now returns the time, by the clock of the door.
func (d *Door) Now() time.Time { return d.now() }

// Log returns the log of the door.
func (d *Door) Log() *slog.Logger { return d.log }

// Lists reports whether the book in force lists an account.
func (d *Door) Lists(account string) bool { return d.book.Load().lists(account) }

// IsForEmergencies reports whether the book in force itself lists an account as one for emergencies. Only the book and administrators
// may state facts of such an account.
func (d *Door) IsForEmergencies(account string) bool {
	return d.book.Load().emergencyAccount(account) != nil
}

// ListsMembers reports whether the book in force lists the members of a group itself, so that no feed may manage it, and whether it has the
// group at all with some account in it.
func (d *Door) ListsMembers(group string) (lists, hasSome bool) {
	return d.book.Load().listsMembers(group)
}

// Change changes facts, or nothing where change returns an error, which it returns then. Change may be called again where
// others changed the same meanwhile. It waits until all is kept, at most for two transactions of limits.answer.
func (d *Door) Change(change func(*Change) error) error {
	return d.recorder.do(&job{urgent: true, change: change})
}

// ChangeMuch is Change for what may take long: it is thought through first, while decisions go on, and what it comes to is one short
// transaction. One is at a time.
func (d *Door) ChangeMuch(ctx context.Context, change func(*Change) error) error {
	return d.recorder.doPlanned(ctx, change)
}

// Record enters entries in the journal, unless its mode is off, and waits until they are kept.
func (d *Door) Record(entries ...journal.Entry) error {
	if d.config.Journal.Mode == JournalOff {
		return nil
	}
	return d.recorder.do(&job{entries: entries})
}

// LookAgain has open sessions of an account, or with a device, judged again soon, since something of it changed; "" for both is for all.
func (d *Door) LookAgain(account, device, because string) {
	d.lookAgain(review{account: account, device: device, because: because})
}

// Tx returns the transaction, for rows of other kinds than accounts, devices and sessions.
func (b *Change) Tx() store.Tx { return b.tx }

// Aside returns what is read without the change resting on it: others may have changed it by the time that the change is kept.
func (b *Change) Aside() store.Reader { return b.aside }

// Context returns the context of the transaction, which bounds how long it may take.
func (b *Change) Context() context.Context { return b.ctx }

// Record enters an entry in the journal with the change, unless its mode is off.
func (b *Change) Record(e journal.Entry) {
	if b.door.config.Journal.Mode != JournalOff {
		b.entries = append(b.entries, e)
	}
}

// Afterwards has something done once the change was kept.
func (b *Change) Afterwards(do func()) { b.after = append(b.after, do) }

// GroupsChanged says that which feed manages which group has changed.
func (b *Change) GroupsChanged() { b.groupsChanged = true }

// EndSession ends a session as of a moment. Of one that has ended the end becomes later, which is not told again; one that began after that
// moment goes on, and what was authenticated in it before does not count.
func (b *Change) EndSession(s *store.Session, at time.Time, because string) error {
	return b.door.endWhole(b, s, at, because)
}

// EndSessionsOf ends the sessions of an account that began until a moment.
func (b *Change) EndSessionsOf(account string, until time.Time, because string) error {
	return b.door.endSessionsOf(b, account, until, because)
}

// Revoke takes back all that an account authenticated until a moment, in sessions that the door never saw too.
func (b *Change) Revoke(a *store.Account, until time.Time, by store.Source, because string) error {
	return b.door.revoke(b, a, until, by, because)
}

// Spare has what was authenticated in a session until a moment go on, where the credential that proved it was changed in it then.
func (b *Change) Spare(s *store.Session, at time.Time) {
	s.Spared = latest(s.Spared, at)
	b.door.setDue(s)
	b.SetSession(s.ID, s)
}

// NoteEnd records that a session has ended that the door does not keep, and has it told.
func (b *Change) NoteEnd(s *store.Session, because string) error {
	return b.door.noteEnd(b, s, "", "", because)
}

// MakeAnew makes an account another person's: the sessions of the one before end.
func (b *Change) MakeAnew(a *store.Account, at time.Time, by store.Source) error {
	if err := a.MakeAnew(b.ctx, b.tx, at, by, b.door.book.Load().entryOf(a.Name)); err != nil {
		return err
	}
	return b.EndSessionsOf(a.Name, at, "the account was made anew")
}
