// Package journal is the record of what doors decided and did. Each door appends to a log of its own: entries that only
// grow in number, the leaves of a Merkle tree (RFC 6962 §2.1). All logs of a store together are the journal, which is read
// by time. A checkpoint is a signed note of the size and root of every log.
//
// A store keeps the entries ([github.com/briskwarden/briskwarden/store]). This package says
// what an entry is, how a tree grows, and whether a journal is as it was.
package journal

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"time"

	jsonv2 "github.com/go-json-experiment/json"
	jsonv2text "github.com/go-json-experiment/json/jsontext"
	"github.com/google/uuid"
	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Kind is what an entry records. The zero Kind is invalid.
type Kind uint8

// The kinds of entry.
const (
	// Decision: an attempt was judged.
	Decision Kind = iota + 1
	// Reload: a book was taken into force, or refused.
	Reload
	// Report: a device reported its state.
	Report
	// Event: another system told of something that it noticed.
	Event
	// People: an account or a group was changed from outside.
	People
	// SessionEnd: a session was ended before its time.
	SessionEnd
	// Consent: somebody did something about what an outside program may have.
	Consent
	// Pruned: what older entries said was taken out.
	Pruned
	// Inspection: a book that was taken into force was inspected.
	Inspection
	// Restored: a store was put back to an older copy, and an administrator says that this is meant; or it is
	// resynced with a source since.
	Restored
	// Witness: the log of another door began, or its door stopped.
	Witness
)

// Compare orders entries as a journal is read: by time, then by log and number. It is for slices.SortFunc.
func Compare(a, b *Entry) int {
	return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Log, b.Log), cmp.Compare(a.Number, b.Number))
}

var kinds = []string{"decision", "reload", "report", "event", "people", "session_end", "consent", "pruned", "inspection", "restored",
	"witness"}

// Kinds returns the words for the kinds of entry.
func Kinds() []string { return slices.Clone(kinds) }

// String returns the word for the kind.
func (k Kind) String() string {
	if k == 0 || int(k) > len(kinds) {
		return fmt.Sprintf("invalid (%d)", uint8(k))
	}
	return kinds[k-1]
}

// MarshalText writes String.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the word for a kind.
func (k *Kind) UnmarshalText(text []byte) error {
	return words.Parse(k, "a kind of entry", string(text), kinds, Decision)
}

// Entry is one entry of a journal.
type Entry struct {
	// Log is the log that it is in, and Number its place there, from 0 on. Head.Append sets both.
	Log    string
	Number int64
	// ID names it, At is when it was recorded. IDs are UUIDs of version 7 (RFC 9562 §5.7).
	ID   string
	At   time.Time
	Kind Kind
	// Account is whom it is about, "" where it is about nobody.
	Account string
	// Leaf is the entry as JSON (Leaf), which is what the tree covers. It is nil where it was
	// pruned. Hash is the hash of it as a leaf (RFC 6962 §2.1), which stays.
	Leaf []byte
	Hash tlog.Hash
	// Brief is that of a decision, as Brief.AppendBinary writes it; nil of other entries, and of what
	// was recorded before there were briefs. ReadBrief reads it.
	Brief []byte
}

// Prune takes out what the entry says, and whom it is about. Its hash stays.
func (e *Entry) Prune() { e.Leaf, e.Brief, e.Account = nil, nil, "" }

// NewID returns a new name for an entry. Names made later sort behind earlier ones. They are no
// secrets: their randomness keeps several doors from making the same.
func NewID() string {
	id, err := uuid.NewV7FromReader(random{})
	if err != nil {
		panic(err) // random returns none
	}
	return id.String()
}

// random reads from the generator of math/rand/v2, which the system seeds and which costs a tenth of
// asking the system each time.
type random struct{}

// Read implements io.Reader.
func (random) Read(into []byte) (int, error) {
	for i := 0; i < len(into); i += 8 {
		var word [8]byte
		binary.LittleEndian.PutUint64(word[:], rand.Uint64())
		copy(into[i:], word[:])
	}
	return len(into), nil
}

// Make makes an entry. Detail is what is particular to its kind: the name of a member of
// the leaf and its value as JSON. Of caller, who asked for it, nothing is said where it is "".
func Make(kind Kind, id string, at time.Time, caller, account, name string, detail []byte) Entry {
	at = at.UTC().Truncate(time.Microsecond) // as finely as every store keeps it
	leaf := make([]byte, 0, len(detail)+len(id)+len(caller)+len(account)+120)
	leaf = jsontext.String(jsontext.Key(append(leaf, '{'), "kind"), kind.String())
	leaf = jsontext.String(jsontext.Key(leaf, "id"), id)
	leaf = jsontext.Time(jsontext.Key(leaf, "at"), at)
	leaf = jsontext.Text(leaf, "caller", caller)
	leaf = jsontext.Text(leaf, "account", account)
	leaf = append(append(jsontext.Key(leaf, name), detail...), '}')
	return Entry{ID: id, At: at, Kind: kind, Account: account, Leaf: leaf, Hash: tlog.RecordHash(leaf)}
}

// Content is what the leaf of an entry says.
type Content struct {
	Kind    Kind      `json:"kind" doc:"what it records"`
	ID      string    `json:"id" doc:"its name"`
	At      time.Time `json:"at" doc:"when it was recorded"`
	Caller  string    `json:"caller,omitzero" doc:"who asked for it"`
	Account string    `json:"account,omitzero" doc:"whom it is about"`
	// Answer is a decision with its facts. The others are of the kind of their name.
	Answer  json.RawMessage `json:"answer,omitempty" doc:"a decision with the facts that it rests on"`
	Reload  json.RawMessage `json:"reload,omitempty" doc:"a book that was taken into force or refused"`
	Report  json.RawMessage `json:"report,omitempty" doc:"what a device reported"`
	Event   json.RawMessage `json:"event,omitempty" doc:"what another system noticed"`
	People  json.RawMessage `json:"people,omitempty" doc:"an account or a group that was changed"`
	Session json.RawMessage `json:"session,omitempty" doc:"a session that was ended"`
	Consent json.RawMessage `json:"consent,omitempty" doc:"an act on what an outside program may have"`
	Pruned  json.RawMessage `json:"pruned,omitempty" doc:"what was taken out of older entries"`
	// Inspection is what inspect said of a book.
	Inspection json.RawMessage `json:"inspection,omitempty" doc:"what inspect said of a book that was taken into force"`
	Restored   json.RawMessage `json:"restored,omitempty" doc:"that a store was put back to an older copy"`
	Witness    json.RawMessage `json:"witness,omitempty" doc:"that the log of another door began, or its door stopped"`
}

// Content reads the leaf. The error says that it was pruned, or is no entry.
func (e *Entry) Content() (*Content, error) {
	if e.Leaf == nil {
		return nil, fmt.Errorf("the entry %s was pruned: its hash is kept, and nothing else", e.ID)
	}
	c := new(Content)
	if err := readJSON(e.Leaf, c); err != nil {
		return nil, fmt.Errorf("the entry %s cannot be read: %w", e.ID, err)
	}
	return c, nil
}

// readJSON reads JSON as encoding/json does, a member that stands twice too, in less time: a journal is verified by reading all
// of it.
func readJSON(text []byte, into any) error {
	return jsonv2.Unmarshal(text, into, jsonv2text.AllowDuplicateNames(true))
}

// Pruning is what an entry of the kind Pruned says: which entries say nothing any more. Such an entry is never pruned
// itself.
type Pruning struct {
	Before time.Time `json:"before" doc:"entries before this say nothing any more"`
	By     string    `json:"by,omitzero" doc:"who took it out"`
	// Entries is how many there were.
	Entries int64 `json:"entries" doc:"how many entries there were"`
	// Log is the log that they are in, "" for the one that this entry is in.
	Log string `json:"log,omitzero" doc:"the log that they are in; left out, the one that this entry is in"`
	// Emptied are stretches of their numbers, the first and the last of each. What was recorded before there were such
	// names none.
	Emptied []Stretch `json:"emptied,omitempty" doc:"stretches of their numbers, the first and the last of each"`
}

// Stretch is a stretch of entries by number, both ends included.
type Stretch [2]int64

// Stretches returns numbers, in order, as stretches.
func Stretches(numbers []int64) (list []Stretch) {
	for _, n := range numbers {
		if last := len(list) - 1; last >= 0 && list[last][1]+1 == n {
			list[last][1] = n
		} else {
			list = append(list, Stretch{n, n})
		}
	}
	return list
}

// PutBack is what an entry of the kind Restored says: that a store was put back to an older copy, and what of a log is lost; or
// that it is resynced with a source since.
type PutBack struct {
	Log  string `json:"log,omitzero" doc:"the log that does not go on from what its door wrote last"`
	From int64  `json:"from,omitzero" doc:"how many entries it had"`
	To   int64  `json:"to,omitzero" doc:"how many it had when this was entered"`
	// Resynced is the source with which the store is resynced, in place of the log.
	Resynced string `json:"resynced,omitzero" doc:"the source with which it is resynced"`
	By       string `json:"by" doc:"who says so"`
	Because  string `json:"because" doc:"why"`
}

// Witnessed is what an entry of the kind Witness says: how the log of another door stood. So a log that is cut, or gone as a
// whole, is found without a checkpoint.
type Witnessed struct {
	Log string `json:"log" doc:"the log"`
	// Size is how many entries it had, 0 where it began, and Root the root of their tree in base64.
	Size int64  `json:"size" doc:"how many entries it had: 0 where it began"`
	Root string `json:"root" doc:"the root of their tree, in base64"`
}

// MakeWitness makes an entry that says how a log stands, which is for the log of another door.
func MakeWitness(head *Head, at time.Time) Entry {
	text := jsontext.String(jsontext.Key([]byte{'{'}, "log"), head.Log)
	text = strconv.AppendInt(jsontext.Key(text, "size"), head.Size, 10)
	text = append(jsontext.String(jsontext.Key(text, "root"), head.Root().String()), '}')
	return Make(Witness, NewID(), at, "", "", "witness", text)
}

// Inspected is what an entry of the kind Inspection says.
type Inspected struct {
	Book     string `json:"book" doc:"the digest of the book"`
	Reached  int    `json:"reached" doc:"points of inspect that it reaches"`
	Possible int    `json:"possible" doc:"points that there are"`
	// Open are the checks that cost points, those that bring most first.
	Open []string `json:"open" doc:"the checks that cost points, those that bring most first"`
}

// Outline is what a list of entries shows of a decision.
type Outline struct {
	Verdict decide.Verdict `json:"verdict"`
	Causes  []decide.Cause `json:"causes"`
	Facts   struct {
		Attempt struct {
			App string `json:"app"`
			IP  string `json:"ip"`
		} `json:"attempt"`
	} `json:"facts"`
}

// Filter narrows entries. What is zero does not.
type Filter struct {
	// From is included, To is not.
	From, To time.Time
	Kind     Kind
	Account  string
	// Log leaves the entries of one log, from the number After on, in the order of their numbers. With "" all logs are read
	// as one journal, in the order of time, and After is 0.
	Log   string
	After int64
	// Limit is how many are read at most; zero sets no limit. Latest begins with the last.
	Limit  int
	Latest bool
	// Match leaves the entries for which it returns true; nil leaves all. It sees them without their
	// leaves, and must not keep them.
	Match func(*Entry) bool
	// Bare returns of entries what millions of them are counted by: when they were made, their kind, account and brief, and
	// where a log is named their number. A store may leave out the rest, and an account may hold the memory of many: clone it.
	Bare bool
}

// Matches reports whether an entry is one that the filter leaves, as far as it does not count.
func (f *Filter) Matches(e *Entry) bool {
	return (f.Log == "" || e.Log == f.Log) && e.Number >= f.After && (f.Kind == 0 || e.Kind == f.Kind) &&
		(f.Account == "" || e.Account == f.Account) &&
		(f.From.IsZero() || !e.At.Before(f.From)) && (f.To.IsZero() || e.At.Before(f.To)) && (f.Match == nil || f.Match(e))
}
