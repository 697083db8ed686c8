// Package journal is the record of what the door decided and did: entries that only grow in
// number, the leaves of a Merkle tree (RFC 6962 §2.1), with signed checkpoints.
//
// A store keeps the entries ([github.com/briskwarden/briskwarden/store]). This package says
// what an entry is, how the tree grows, and whether a record is as it was.
package journal

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/internal/merkle"
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
)

var kinds = []string{"decision", "reload", "report", "event", "people", "session_end", "consent", "pruned", "inspection"}

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
	// Number is its place in the record, from 0 on. Append sets it.
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
}

// Content reads the leaf. The error says that it was pruned, or is no entry.
func (e *Entry) Content() (*Content, error) {
	if e.Leaf == nil {
		return nil, fmt.Errorf("entry %d was pruned: its hash is kept, and nothing else", e.Number)
	}
	c := new(Content)
	if err := json.Unmarshal(e.Leaf, c); err != nil {
		return nil, fmt.Errorf("entry %d cannot be read: %w", e.Number, err)
	}
	return c, nil
}

// Pruning is what an entry of the kind Pruned says: which entries say nothing any more. Such an entry is never pruned
// itself.
type Pruning struct {
	Before time.Time `json:"before" doc:"entries before this say nothing any more"`
	By     string    `json:"by,omitzero" doc:"who took it out"`
	// Entries is how many there were.
	Entries int64 `json:"entries" doc:"how many entries there were"`
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

// Head is the end of a record: how many entries there are, and the roots of the perfect
// trees that they make up, from left to right. The zero Head is that of an empty record.
type Head struct {
	Size int64
	Edge []tlog.Hash
}

// Append numbers entries that Make made, which come behind those of the head. The head moves behind
// them.
func (h *Head) Append(entries []Entry) {
	h.Edge = slices.Clone(h.Edge) // which the caller of an older head may have
	for i := range entries {
		entries[i].Number = h.Size
		h.add(entries[i].Hash)
	}
}

// add adds a leaf: two perfect trees of one size become one of twice the size.
func (h *Head) add(leaf tlog.Hash) {
	for bits := h.Size; bits&1 == 1; bits >>= 1 {
		last := len(h.Edge) - 1
		leaf = tlog.NodeHash(h.Edge[last], leaf)
		h.Edge = h.Edge[:last]
	}
	h.Edge = append(h.Edge, leaf)
	h.Size++
}

// Root returns the root of the tree (RFC 6962 §2.1).
func (h *Head) Root() tlog.Hash {
	if len(h.Edge) == 0 {
		root, _ := tlog.TreeHash(0, merkle.Hashes(nil)) // the hash of nothing, which nothing is read for
		return root
	}
	root := h.Edge[len(h.Edge)-1]
	for i := len(h.Edge) - 2; i >= 0; i-- {
		root = tlog.NodeHash(h.Edge[i], root)
	}
	return root
}

// MarshalText writes a head as one line: the size and the edge.
func (h Head) MarshalText() ([]byte, error) {
	text := fmt.Appendf(nil, "%d", h.Size)
	for _, hash := range h.Edge {
		text = append(append(text, ' '), hash.String()...)
	}
	return text, nil
}

// UnmarshalText reads a head, and refuses one whose edge cannot be that of its size.
func (h *Head) UnmarshalText(text []byte) error {
	fields := strings.Fields(string(text))
	broken := errors.New("that is no head of a journal")
	if len(fields) == 0 {
		return broken
	}
	var read Head
	if _, err := fmt.Sscanf(fields[0], "%d", &read.Size); err != nil || read.Size < 0 {
		return broken
	}
	for _, field := range fields[1:] {
		hash, err := tlog.ParseHash(field)
		if err != nil {
			return broken
		}
		read.Edge = append(read.Edge, hash)
	}
	ones := 0
	for bits := read.Size; bits > 0; bits &= bits - 1 {
		ones++
	}
	if ones != len(read.Edge) {
		return broken
	}
	*h = read
	return nil
}

// Filter narrows entries. What is zero does not.
type Filter struct {
	// From is included, To is not.
	From, To time.Time
	Kind     Kind
	Account  string
	// Numbers from After on, at most Limit of them; zero sets no limit. Latest begins with the
	// last.
	After  int64
	Limit  int
	Latest bool
	// Match leaves the entries for which it returns true; nil leaves all. It sees them without their
	// leaves, and must not keep them.
	Match func(*Entry) bool
	// Bare returns entries without their leaves, which are most of a journal. A store may leave out
	// their IDs too, and an account that is kept may hold the memory of many: clone it. It is for who
	// counts millions.
	Bare bool
}

// Matches reports whether an entry is one that the filter leaves, as far as it does not count.
func (f *Filter) Matches(e *Entry) bool {
	return e.Number >= f.After && (f.Kind == 0 || e.Kind == f.Kind) && (f.Account == "" || e.Account == f.Account) &&
		(f.From.IsZero() || !e.At.Before(f.From)) && (f.To.IsZero() || e.At.Before(f.To)) && (f.Match == nil || f.Match(e))
}

// Verified is what Verify found of a record that is sound.
type Verified struct {
	Size int64  `json:"size" doc:"how many entries there are"`
	Root string `json:"root" doc:"the root of their tree, in base64"`
	// Pruned is how many of them have their hash alone, and Prunings are what emptied them.
	Pruned   int64     `json:"pruned" doc:"how many entries have their hash alone"`
	Prunings []Pruning `json:"prunings,omitempty" doc:"what emptied them: until when, by whom, how many"`
	// Covered is how many the checkpoint covers, where one was given.
	Covered *int64 `json:"covered,omitempty" doc:"how many entries the checkpoint covers: they are as they were then"`
	Origin  string `json:"origin,omitzero" doc:"the name of the record, as the checkpoint has it"`
}

// Record is a journal as a store keeps it.
type Record interface {
	Entries(ctx context.Context, f Filter) iter.Seq2[Entry, error]
	Head(ctx context.Context) (Head, error)
}

// Unsound says what is not as it was recorded.
type Unsound struct{ text string }

// Error implements error.
func (u *Unsound) Error() string { return u.text }

func unsound(format string, args ...any) error { return &Unsound{fmt.Sprintf(format, args...)} }

// Verify reads a whole record and holds it against its head: each entry is as it was recorded, none is missing, and each
// that says nothing any more is named by an entry of the kind Pruned. With a checkpoint that was kept elsewhere, and the
// public key of its signer, no entry before it can have been edited, dropped or added unseen. The error is an Unsound where
// the record is not as it was, else that of reading it. It may be called while the record grows.
func Verify(ctx context.Context, r Record, checkpoint []byte, public string) (*Verified, error) {
	v := &verification{found: &Verified{}}
	if checkpoint != nil {
		var err error
		if v.covered, err = merkle.Open(checkpoint, public); err != nil {
			return nil, unsound("the checkpoint cannot be trusted: %v", err)
		}
		v.found.Covered, v.found.Origin = &v.covered.Size, v.covered.Origin
	}
	if err := v.atCheckpoint(); err != nil {
		return nil, err
	}
	for {
		before := v.grown.Size
		for e, err := range r.Entries(ctx, Filter{After: before}) {
			if err == nil {
				err = v.add(&e)
			}
			if err != nil {
				return nil, err
			}
		}
		// The head comes after the entries, so that it has all of them.
		head, err := r.Head(ctx)
		switch {
		case err != nil:
			return nil, err
		case head.Size == v.grown.Size:
			return v.found, v.finish(head)
		case head.Size < v.grown.Size || v.grown.Size == before:
			return nil, unsound("the journal has %d entries and says that it has %d: it is not as it was recorded", v.grown.Size, head.Size)
		}
	}
}

// verification is a Verify that goes on.
type verification struct {
	found   *Verified
	covered merkle.Checkpoint
	grown   Head
	// emptied are the entries that say nothing any more, named those that entries of the kind Pruned name, and unnamed how
	// many those emptied that name none, of entries before a moment.
	emptied, named []Stretch
	unnamed        int64
	unnamedBefore  time.Time
	// latest has the time of emptied entries, the latest of each stretch.
	latest []time.Time
}

// add holds one entry against what came before.
func (v *verification) add(e *Entry) error {
	switch {
	case e.Number != v.grown.Size:
		return unsound("entry %d is missing", v.grown.Size)
	case e.Leaf == nil:
		if e.Account != "" || e.Brief != nil {
			return unsound("entry %d says nothing any more, and is found all the same as one of %q", e.Number, e.Account)
		}
		v.empty(e)
	case tlog.RecordHash(e.Leaf) != e.Hash:
		return unsound("entry %d (%s) is not as it was recorded", e.Number, e.ID)
	default:
		if err := e.agrees(); err != nil {
			return &Unsound{err.Error()}
		}
		if err := v.prunes(e); err != nil {
			return err
		}
	}
	v.grown.add(e.Hash)
	return v.atCheckpoint()
}

// empty notes an entry that says nothing any more.
func (v *verification) empty(e *Entry) {
	v.found.Pruned++
	if last := len(v.emptied) - 1; last >= 0 && v.emptied[last][1]+1 == e.Number {
		v.emptied[last][1] = e.Number
		if e.At.After(v.latest[last]) {
			v.latest[last] = e.At
		}
		return
	}
	v.emptied, v.latest = append(v.emptied, Stretch{e.Number, e.Number}), append(v.latest, e.At)
}

// prunes notes which entries an entry says were emptied: such as came before it alone.
func (v *verification) prunes(e *Entry) error {
	if e.Kind != Pruned {
		return nil
	}
	c, err := e.Content()
	var p Pruning
	if err == nil {
		err = json.Unmarshal(c.Pruned, &p)
	}
	if err != nil {
		return unsound("entry %d cannot be read: %v", e.Number, err)
	}
	for _, s := range p.Emptied {
		if s[1] >= e.Number {
			return unsound("entry %d says that entry %d was emptied, which came after it", e.Number, s[1])
		}
	}
	if len(p.Emptied) == 0 {
		v.unnamed += p.Entries
		if p.Before.After(v.unnamedBefore) {
			v.unnamedBefore = p.Before
		}
	}
	v.named = append(v.named, p.Emptied...)
	p.Emptied = nil
	if last := len(v.found.Prunings) - 1; last >= 0 && v.found.Prunings[last].Before.Equal(p.Before) && v.found.Prunings[last].By == p.By {
		v.found.Prunings[last].Entries += p.Entries // one pruning, a part at a time
		return nil
	}
	v.found.Prunings = append(v.found.Prunings, p)
	return nil
}

// atCheckpoint holds the tree against the checkpoint, where it has grown as far.
func (v *verification) atCheckpoint() error {
	if v.found.Covered != nil && v.grown.Size == v.covered.Size && v.grown.Root() != v.covered.Root {
		return unsound("the first %d entries are not those that the checkpoint covers: one was edited, dropped or added", v.covered.Size)
	}
	return nil
}

// finish holds the whole against the head.
func (v *verification) finish(head Head) error {
	root := v.grown.Root()
	switch {
	case v.covered.Size > head.Size:
		return unsound("the checkpoint covers %d entries, and the journal has %d: %d are gone", v.covered.Size, head.Size,
			v.covered.Size-head.Size)
	case root != head.Root():
		return unsound("the entries of the journal are not those that its head is of: it is not as it was recorded")
	}
	slices.SortFunc(v.named, func(a, b Stretch) int { return cmp.Compare(a[0], b[0]) })
	next := 0
	for i, s := range v.emptied {
		for number := s[0]; number <= s[1]; {
			for next < len(v.named) && v.named[next][1] < number {
				next++
			}
			if next < len(v.named) && v.named[next][0] <= number {
				number = v.named[next][1] + 1
				continue
			}
			// One that an entry without numbers may have emptied.
			if v.unnamed == 0 || !v.latest[i].Before(v.unnamedBefore) {
				return unsound("entry %d was emptied, and no entry of the journal says so", number)
			}
			v.unnamed--
			number++
		}
	}
	v.found.Size, v.found.Root = v.grown.Size, root.String()
	return nil
}

// agrees reports where what is kept beside a leaf to find it by is other than what the leaf
// says.
func (e *Entry) agrees() error {
	c, err := e.Content()
	switch {
	case err != nil:
		return err
	case c.ID != e.ID || c.Kind != e.Kind || c.Account != e.Account || !c.At.Equal(e.At):
		return fmt.Errorf("entry %d is found as %s of %s and says that it is %s of %s", e.Number, e.ID, e.Account, c.ID, c.Account)
	case e.Brief == nil:
		return nil
	}
	brief, err := e.briefOfLeaf()
	if err != nil {
		return fmt.Errorf("entry %d has a brief and cannot be read: %w", e.Number, err)
	}
	if again, _ := brief.AppendBinary(nil); !bytes.Equal(again, e.Brief) {
		return fmt.Errorf("the brief of entry %d (%s) is not what the entry says", e.Number, e.ID)
	}
	return nil
}

// NewKey makes a pair of keys for the checkpoints of a journal of that name, each one line of
// text.
func NewKey(origin string) (private, public string, err error) { return merkle.NewKey(origin) }

// Checkpoint signs the size and the root of a head with a private key of NewKey.
func Checkpoint(head Head, private string) ([]byte, error) {
	return merkle.Sign(head.Size, head.Root(), private)
}
