package desk

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"iter"
	"reflect"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/internal/merkle"
)

// Store keeps a record: Memory, or File for one that lasts. Its methods are safe for
// concurrent use, by several processes too where the store is shared. It cannot be
// implemented elsewhere.
type Store interface {
	// view calls look with the record as it stands at one moment.
	view(ctx context.Context, look func(ledger) error) error
	// update calls change with the record, which nobody else changes meanwhile. What change
	// does is kept whole; where it or anything fails, none of it is.
	update(ctx context.Context, change func(ledger) error) error
	// Close frees what the store holds. The record stays.
	Close() error
}

// ledger is a record as it stands within one transaction of its store: the acts, the hashes
// of their tree (tlog.HashReader), and what the acts add up to. It keeps rows and knows
// nothing of what they mean.
type ledger interface {
	tlog.HashReader
	// head returns how many acts there are and the root of their tree, as they were kept.
	head() (head, error)
	// act returns an act as it is kept, "" where there is none of that number.
	act(number int64) (string, error)
	// acts returns all acts as they are kept, in order.
	acts() iter.Seq2[string, error]

	// client returns what became of a client, and false where no act names it.
	client(name string) (clientRow, bool, error)
	clients() ([]clientRow, error)
	// request returns a request, and false where the act of that number is none.
	request(number int64) (requestRow, bool, error)
	// requests returns those that match, in order.
	requests(f requestFilter) ([]requestRow, error)
	// count returns how many of them wait beyond a moment.
	count(f requestFilter, beyond int64) (int, error)
	approvals(f approvalFilter) ([]approvalRow, error)
	grant(key grantKey) (grantRow, bool, error)
	// grants returns those of a client, or all where it is "".
	grants(client string) ([]grantRow, error)

	// append keeps an act behind the others, with the hashes that the tree gains by it.
	append(number int64, text string, hashes []tlog.Hash) error
	setHead(head) error
	setClient(clientRow) error
	setRequest(requestRow) error
	setApproval(approvalRow) error
	dropApproval(act int64) error
	setGrant(grantRow) error
	dropGrant(grantKey) error
}

// head is the end of a record.
type head struct {
	size int64
	root tlog.Hash
}

// The rows hold keys and numbers of acts. What stands in an act is read from it. Moments
// are microseconds since 1970, never where there is none.
type (
	// clientRow is what became of a client that an act names: the acts that barred and
	// imported it, 0 for none, and whether anybody let it in at some time.
	clientRow struct {
		name          string
		bar, imported int64
		ever          bool
	}
	// requestRow is a request. What asks is what all that ask for the same share, and answer
	// is the act that answered it, 0 for none.
	requestRow struct {
		number        int64
		client, asked string
		account       string
		until, answer int64
	}
	// approvalRow is an approval that stands: the act, for whom it is, and which request it
	// answered. An approval for a group or for everyone has no account.
	approvalRow struct {
		act             int64
		client, account string
		request         int64
	}
	grantKey struct {
		client, account, resource string
	}
	// grantRow is what an account let a client have. Scopes are sorted by name, requests are
	// those that it came of.
	grantRow struct {
		grantKey
		scopes          []string
		redirect        string
		since, lastUsed int64
		requests        []int64
	}
)

// requestFilter narrows requests. What is "" does not. Those that are answered are left out,
// unless it says so.
type requestFilter struct {
	client, account, asked string
	answered               bool
}

func (f requestFilter) matches(r *requestRow) bool {
	return (f.answered || r.answer == 0) && (f.client == "" || r.client == f.client) && (f.account == "" || r.account == f.account) &&
		(f.asked == "" || r.asked == f.asked)
}

// approvalFilter narrows approvals. What is zero does not; with covers, only those remain
// that are for this account, for a group or for everyone.
type approvalFilter struct {
	client, covers string
	request        int64
}

func (f approvalFilter) matches(r *approvalRow) bool {
	return (f.client == "" || r.client == f.client) && (f.request == 0 || r.request == f.request) &&
		(f.covers == "" || r.account == "" || r.account == f.covers)
}

// never stands for the moment that there is not.
const never = int64(-1 << 63)

func micros(t time.Time) int64 {
	if t.IsZero() {
		return never
	}
	return t.UnixMicro()
}

func moment(micros int64) time.Time {
	if micros == never {
		return time.Time{}
	}
	return time.UnixMicro(micros).UTC()
}

// emptyRoot is the root of the tree of no entry (RFC 6962 §2.1).
var emptyRoot = tlog.Hash(sha256.Sum256(nil))

// errBroken is wrapped by each error that reports that a record is not whole.
var errBroken = errors.New("the record is not whole")

// check reports whether the end of a record is as it was kept: the tree, and the last
// act. It costs the same however long the record is.
func check(l ledger) (head, error) {
	h, err := l.head()
	if err != nil {
		return h, err
	}
	root, err := tlog.TreeHash(h.size, l)
	if err != nil || root != h.root {
		return h, fmt.Errorf("%w: the hashes of its %d acts do not come to the root of their tree", errBroken, h.size)
	}
	if h.size > 0 {
		if _, err := verified(l, h, h.size); err != nil {
			return h, err
		}
	}
	switch next, err := l.act(h.size + 1); {
	case err != nil:
		return h, err
	case next != "":
		return h, fmt.Errorf("%w: act %d was added beside the tree", errBroken, h.size+1)
	}
	return h, nil
}

// verified reads an act and holds it against the tree (RFC 6962 §2.1.1).
func verified(l ledger, h head, number int64) (Act, error) {
	text, err := l.act(number)
	switch {
	case err != nil:
		return Act{}, err
	case text == "":
		return Act{}, fmt.Errorf("%w: act %d is missing", errBroken, number)
	}
	proof, err := tlog.ProveRecord(h.size, number-1, l)
	if err != nil {
		return Act{}, fmt.Errorf("%w: act %d: %w", errBroken, number, err)
	}
	if tlog.CheckRecord(proof, h.size, h.root, number-1, tlog.RecordHash([]byte(text))) != nil {
		return Act{}, fmt.Errorf("%w: act %d was changed after it was recorded", errBroken, number)
	}
	return parseAct(text, number)
}

// parseAct reads the act of a number.
func parseAct(text string, number int64) (Act, error) {
	a, err := readAct(text)
	switch {
	case err != nil:
		return a, fmt.Errorf("act %d cannot be read: %w", number, err)
	case a.Number != number:
		return a, fmt.Errorf("%w: act %d stands in the place of act %d", errBroken, a.Number, number)
	}
	return a, nil
}

// appendAct numbers an act, keeps it behind the others and folds it into what they add up
// to. It refuses an act that is dated before the last one, and one that would not be
// read back as it is.
func appendAct(l ledger, h *head, last time.Time, a Act) (Act, error) {
	if a.At.Before(last) {
		return a, fmt.Errorf("the last act on record was done at %s, so none can be at %s", last.Format(time.RFC3339), a.At.Format(time.RFC3339))
	}
	a.Number, a.Previous = h.size+1, ""
	if err := a.write(); err != nil {
		return a, fmt.Errorf("act %d: %w", a.Number, err)
	}
	return a, keep(l, h, &a)
}

// keep keeps an act that is numbered and written.
func keep(l ledger, h *head, a *Act) error {
	hashes, err := tlog.StoredHashes(h.size, []byte(a.text), l)
	if err != nil {
		return err
	}
	if err := l.append(h.size+1, a.text, hashes); err != nil {
		return err
	}
	h.size++
	return fold(l, a)
}

// seal keeps the new end of a record.
func seal(l ledger, h *head) (err error) {
	if h.root, err = tlog.TreeHash(h.size, l); err != nil {
		return err
	}
	return l.setHead(*h)
}

// verify holds a whole record against its tree, and what is kept beside the acts against
// the acts. It calls each with every act in order, and returns the end of the record and
// the hashes of its tree.
func verify(l ledger, each func(Act)) (head, merkle.Hashes, error) {
	fresh := newRows()
	var end head
	h, err := again(l, fresh, func() error {
		for a, err := range parsed(l.acts()) {
			if err != nil {
				return err
			}
			if err := keep(fresh, &end, &a); err != nil {
				return err
			}
			each(a)
		}
		return nil
	})
	if err != nil {
		return h, nil, err
	}
	return h, fresh.hashes, sameRows(l, fresh)
}

// verifyActs holds the acts of a record against its tree. It costs half of verify, which
// also looks at what is kept beside them.
func verifyActs(l ledger) error {
	fresh := newRows()
	_, err := again(l, fresh, func() error {
		size := int64(0)
		for text, err := range l.acts() {
			if err != nil {
				return err
			}
			hashes, err := tlog.StoredHashes(size, []byte(text), fresh)
			if err != nil {
				return err
			}
			size++
			if err := fresh.append(size, "", hashes); err != nil {
				return err
			}
		}
		return nil
	})
	return err
}

// again calls fill, which is to keep the acts of a record a second time, and reports whether
// they come to the tree that the record has.
func again(l ledger, fresh *rows, fill func() error) (head, error) {
	kept, err := check(l)
	if err != nil {
		return kept, err
	}
	if err := fill(); err != nil {
		return kept, err
	}
	read := head{size: int64(len(fresh.texts))}
	if read.root, err = tlog.TreeHash(read.size, fresh); err != nil || read == kept {
		return kept, err
	}
	return kept, fmt.Errorf("%w: %s", errBroken, firstChanged(l, fresh, kept, read))
}

// parsed reads acts from their texts, in order. Reading takes most of the time that it takes
// to verify a record, so the next texts are read while the caller looks at the last.
func parsed(texts iter.Seq2[string, error]) iter.Seq2[Act, error] {
	type batch struct {
		texts []string
		first int64
		acts  []Act
		err   error
		ready chan struct{}
	}
	const size, ahead = 256, 8
	return func(yield func(Act, error) bool) {
		batches, stop := make(chan *batch, ahead), make(chan struct{})
		send := func(b *batch) bool {
			b.ready = make(chan struct{})
			go func() {
				defer close(b.ready)
				for i, text := range b.texts {
					a, err := parseAct(text, b.first+int64(i))
					if err != nil {
						b.err = err
						return
					}
					b.acts = append(b.acts, a)
				}
			}()
			select {
			case batches <- b:
				return true
			case <-stop:
				return false
			}
		}
		var failed error
		go func() {
			defer close(batches)
			b := &batch{first: 1}
			for text, err := range texts {
				if err != nil {
					failed = err
					break
				}
				if b.texts = append(b.texts, text); len(b.texts) < size {
					continue
				}
				if !send(b) {
					return
				}
				b = &batch{first: b.first + size}
			}
			send(b)
		}()
		defer func() {
			close(stop)
			for range batches { // until the reader has let go of the ledger
			}
		}()
		for b := range batches {
			<-b.ready
			for i := range b.acts {
				if !yield(b.acts[i], nil) {
					return
				}
			}
			if b.err != nil {
				yield(Act{}, b.err)
				return
			}
		}
		if failed != nil {
			yield(Act{}, failed)
		}
	}
}

// firstChanged says where the acts of a record part from its tree.
func firstChanged(l ledger, fresh *rows, kept, read head) string {
	if read.size != kept.size {
		return fmt.Sprintf("it has %d acts, and its tree is of %d", read.size, kept.size)
	}
	for number := range read.size {
		position := tlog.StoredHashIndex(0, number)
		stored, err := l.ReadHashes([]int64{position})
		if err != nil || stored[0] != fresh.hashes[position] {
			return fmt.Sprintf("act %d was changed after it was recorded", number+1)
		}
	}
	return "its acts do not come to the root of their tree"
}

// sameRows reports whether what is kept beside the acts is what the acts add up to.
func sameRows(kept, fresh ledger) error {
	for _, table := range []struct {
		name string
		of   func(ledger) (any, error)
	}{
		{"clients", func(l ledger) (any, error) { return l.clients() }},
		{"requests", func(l ledger) (any, error) { return l.requests(requestFilter{answered: true}) }},
		{"approvals", func(l ledger) (any, error) { return l.approvals(approvalFilter{}) }},
		{"grants", func(l ledger) (any, error) { return l.grants("") }},
	} {
		a, err := table.of(kept)
		if err != nil {
			return err
		}
		b, err := table.of(fresh)
		if err != nil {
			return err
		}
		if !reflect.DeepEqual(a, b) {
			return fmt.Errorf("%w: the %s that are kept beside the acts are not those that the acts add up to", errBroken, table.name)
		}
	}
	return nil
}

// carry keeps the acts of a record of the first form, in which each carries the SHA-256 of
// the one before, in a ledger that is empty. Their text stays as it is.
func carry(l ledger, texts []string) error {
	var h head
	previous := ""
	for i, text := range texts {
		a, err := parseAct(text, int64(i+1))
		if err != nil {
			return err
		}
		if a.Previous != previous {
			return fmt.Errorf("%w: act %d was changed after it was recorded, or act %d was put in another's place", errBroken, i, i+1)
		}
		if err := keep(l, &h, &a); err != nil {
			return err
		}
		sum := sha256.Sum256([]byte(text))
		previous = hex.EncodeToString(sum[:])
	}
	return seal(l, &h)
}

// askedOf returns what all requests share that ask for the same.
func askedOf(scopes []string, resource consent.Resource, redirect string) string {
	return strings.Join(sortedByName(scopes), " ") + "\n" + resource.String() + "\n" + redirect
}

// sortedByName returns scopes by name, each once. The order by gravity is the book's, and
// what is kept lasts longer than a book.
func sortedByName(scopes []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(scopes)))
}

// scopes returns what a request asks for, by name.
func (r *requestRow) scopes() []string {
	list, _, _ := strings.Cut(r.asked, "\n")
	return strings.Fields(list)
}
