// Package store keeps the facts that change between two versions of a book: what is known of
// accounts and devices, open sessions, and what is still to be sent; and the journal beside
// them, in the same transaction.
//
// Store is the interface. [Memory] implements it for tests and for a program that keeps
// nothing; packages store/sqlite and store/postgres keep it for good, each with a driver that
// only a program which imports it links. Another implementation keeps rows and understands
// none of them; package internal/storetest has the tests that it must pass.
package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"github.com/briskwarden/briskwarden/journal"
)

// ErrNotFound is returned for a row or an entry that there surely is not. Any other error
// means that nobody could find out.
var ErrNotFound = errors.New("not found")

// Kind is what a row is about.
type Kind string

// The kinds of row, each with the type that is kept as its value.
const (
	Accounts Kind = "account"  // Account
	Devices  Kind = "device"   // Device
	Groups   Kind = "group"    // Group
	Members  Kind = "member"   // Member
	Sessions Kind = "session"  // Session
	Outbox   Kind = "outgoing" // Outgoing
	// Challenges are those that a guard gave, each a Challenge.
	Challenges Kind = "challenge"
	Seen       Kind = "seen"   // a security event token that was taken, by issuer and jti
	Letters    Kind = "letter" // Outgoing
	Watch      Kind = "watch"  // Watched
	Forms      Kind = "form"   // Form

	Restorations Kind = "restored" // Restored
	Probes       Kind = "probe"    // what a door writes to find out whether it can

	// Those of package consent/acts, which has their types.
	Clients   Kind = "client"
	Requests  Kind = "request"
	Pending   Kind = "pending"
	Approvals Kind = "approval"
	Grants    Kind = "grant"
	Counts    Kind = "count"
)

// Key names a row.
type Key struct {
	Kind Kind
	Key  string
}

// Compare orders keys by kind and then by key, byte by byte. It is for slices.SortFunc.
func (k Key) Compare(other Key) int {
	return cmp.Or(cmp.Compare(k.Kind, other.Kind), cmp.Compare(k.Key, other.Key))
}

// Row is what a store keeps of something.
type Row struct {
	Key
	// Account is whom it belongs to, Device what it was made on, and Due when something is to
	// happen to it; they are there to be found by, and may be "" and zero.
	Account, Device string
	Due             time.Time
	// Value is JSON, which the store keeps as it is.
	Value []byte
	// Stamp is other after each change of a row of a store that others may change. A store sets it where it returns rows,
	// and passes it by where rows are put; Tx.Rests says which one a change rests on.
	Stamp int64
}

// Query narrows rows of one kind. What is zero does not.
type Query struct {
	Kind            Kind
	Account, Device string
	// DueBy leaves those that are due by then.
	DueBy time.Time
	// Prefix leaves those whose keys begin with it.
	Prefix string
	// After leaves those whose keys come after it, and Limit so many of them.
	After string
	Limit int
}

// Reader reads rows. Values that it returns are the caller's.
type Reader interface {
	// Get returns a row, and ErrNotFound where there is none.
	Get(ctx context.Context, key Key) (Row, error)
	// List returns the rows that match, in the order of their keys.
	List(ctx context.Context, q Query) ([]Row, error)
}

// Tx changes rows. It is used by one goroutine, and only until Update returns.
type Tx interface {
	Reader
	// Put keeps a row in place of the one of that key.
	Put(Row) error
	// Delete drops a row; dropping one that there is not is no error.
	Delete(Key) error
	// Rests says that what is changed rests on a row as it was remembered, by its stamp, 0 where there was none: as if the
	// transaction had read it. It returns false where the row is known to be another by now, so that it is to be read.
	Rests(key Key, stamp int64) bool
	// Stamp is the stamp that rows have which the transaction changes, once it is kept.
	Stamp() int64
	// TellLater says that others may hear of what is changed a moment after the transaction, and not at all where this
	// program ends in that moment. It is for what a decision notes, so that doors do not wait for each other.
	TellLater()
	// Append keeps entries at the end of a log, which comes to be with its first entry, and numbers them.
	Append(log string, entries []journal.Entry) error
	// Prune takes out what entries of a log before a moment say, of some `most` at a time: their leaves, their
	// briefs and whom they are about. Their hashes stay, so that the journal can be verified, and so do
	// entries of the kind Pruned. It returns the numbers of those that it took, in order; none where none are left.
	Prune(log string, before time.Time, most int) (numbers []int64, err error)
}

// Store keeps rows and a journal. Its methods are safe for concurrent use. All errors but
// ErrNotFound mean that the store cannot be relied on now; it may be asked again.
type Store interface {
	Reader
	// Update calls change in a transaction: every row that it read, or found missing, and every log that it appends to is
	// at its end as it was then, whatever other processes on the same store do; where another was first, change is called
	// again. What it does is kept whole, and survives a crash once Update returned nil; with any error nothing of it is,
	// unless the error is one of losing the store at the very end, after which nobody can say.
	Update(ctx context.Context, change func(Tx) error) error
	// Entries returns the entries that a filter leaves, in its order.
	Entries(ctx context.Context, f journal.Filter) iter.Seq2[journal.Entry, error]
	// Entry returns the entry of that ID, and ErrNotFound where there is none.
	Entry(ctx context.Context, id string) (journal.Entry, error)
	// Heads returns the ends of all logs, in the order of their names. One that has entries and no head is told with the
	// size 0, so that journal.Verify finds it.
	Heads(ctx context.Context) ([]journal.Head, error)
	// Resembling says what leaves to come will be like, about nobody, so that they can be packed by it. What was packed by
	// another before stays readable.
	Resembling(leaf []byte)
	// Hold takes a name for this program until Release or Close: that of its log, so that no two doors have one name. It is
	// an error where another program that runs has it.
	Hold(ctx context.Context, name string) error
	// Release gives a name back. Of one that it does not hold it does nothing.
	Release(name string) error
	// Held reports whether a program that runs holds a name.
	Held(ctx context.Context, name string) (bool, error)
	// Watch calls changed with the keys of rows that others changed, soon after they did: other
	// processes that share the store. It calls lost when it may have missed some, so that what
	// was remembered of any row is void, and found when it follows again. It returns when the
	// context ends, or at once where nobody else can change the store.
	Watch(ctx context.Context, w Watcher) error
	// IsShared reports whether others may change the store, so that Watch is to be heard.
	IsShared() bool
	// OthersAtWork returns how many other programs changed rows in the last second, as far as Watch heard of it.
	OthersAtWork() int
	// Close frees what the store holds.
	Close() error
}

// Watcher hears of what others change.
type Watcher struct {
	Changed     func([]Key)
	Lost, Found func()
}

// Value is what a row holds: a pointer to one of the types of this package.
type Value interface {
	// row returns where it is kept, without its Value.
	row() Row
	// appendJSON appends it as encoding/json writes it, which costs several times as much.
	appendJSON(text []byte) []byte
}

// Load reads what is kept under the key that the value bears, into the value.
func Load(ctx context.Context, from Reader, v Value) error {
	row, err := from.Get(ctx, v.row().Key)
	if err != nil {
		return err
	}
	return Read(row, v)
}

// Read reads the value of a row, into a Value or what another package keeps as one.
func Read(row Row, v any) error {
	if err := json.Unmarshal(row.Value, v); err != nil {
		return fmt.Errorf("the %s %q in the store cannot be read: %w", row.Kind, row.Key.Key, err)
	}
	return nil
}

// RowOf returns the row that keeps a value.
func RowOf(v Value) Row {
	row := v.row()
	row.Value = v.appendJSON(make([]byte, 0, 512))
	return row
}

// Save keeps a value.
func Save(tx Tx, v Value) error { return tx.Put(RowOf(v)) }

// Drop drops what is kept under the key that the value bears.
func Drop(tx Tx, v Value) error { return tx.Delete(v.row().Key) }

// DropDue drops the rows of a kind that are due by a moment, some at a time.
func DropDue(ctx context.Context, s Store, kind Kind, by time.Time) error {
	for {
		rows, err := s.List(ctx, Query{Kind: kind, DueBy: by, Limit: 1000})
		if err != nil || len(rows) == 0 {
			return err
		}
		if err := s.Update(ctx, func(tx Tx) error {
			for _, row := range rows {
				if err := tx.Delete(row.Key); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
}

// All returns all rows of a query, a page at a time; Limit is the size of a page.
func All(ctx context.Context, from Reader, q Query) iter.Seq2[Row, error] {
	const page = 1000
	if q.Limit == 0 {
		q.Limit = page
	}
	return func(yield func(Row, error) bool) {
		for {
			rows, err := from.List(ctx, q)
			if err != nil {
				yield(Row{}, err)
				return
			}
			for _, row := range rows {
				if !yield(row, nil) {
					return
				}
			}
			if len(rows) < q.Limit {
				return
			}
			q.After = rows[len(rows)-1].Key.Key
		}
	}
}
