// Package evidence reads the journal of a door for an administrator: as a list, and one
// decision whole, with what a book of today would say of it.
package evidence

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent/desk"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Line is an entry in a list.
type Line struct {
	Number  int64        `json:"number" doc:"its place in the journal, from 0 on"`
	ID      string       `json:"id" doc:"its name"`
	At      time.Time    `json:"at" doc:"when it was recorded"`
	Kind    journal.Kind `json:"kind" doc:"what it records"`
	Account string       `json:"account,omitzero" doc:"whom it is about"`
	Caller  string       `json:"caller,omitzero" doc:"who asked for it"`
	// App, IP and Verdict are of decisions.
	App     string `json:"app,omitzero" doc:"of a decision, the app"`
	IP      string `json:"ip,omitzero" doc:"of a decision, the address"`
	Verdict string `json:"verdict,omitzero" doc:"of a decision, the verdict"`
	// Text says what happened, in a sentence.
	Text string `json:"text" doc:"what happened"`
}

// List are entries of a journal.
type List struct {
	Entries []Line `json:"entries" doc:"the entries, the latest first"`
	// More says that there are others that the filter leaves.
	More bool `json:"more" doc:"true where there are more that match"`
}

// answer is what is read of a decision.
type answer struct {
	ID string `json:"id"`
	decide.Decision
	Degraded []string `json:"degraded"`
	Facts    struct {
		Attempt json.RawMessage   `json:"attempt"`
		Account *store.Account    `json:"account"`
		Device  *store.Device     `json:"device"`
		From    map[string]string `json:"from"`
	} `json:"facts"`
}

// ListOf makes a list of at most so many entries.
func ListOf(entries iter.Seq2[journal.Entry, error], most int) (*List, error) {
	list := &List{Entries: []Line{}}
	for e, err := range entries {
		if err != nil {
			return nil, err
		}
		if len(list.Entries) == most {
			list.More = true
			break
		}
		line, err := lineOf(&e)
		if err != nil {
			return nil, err
		}
		list.Entries = append(list.Entries, line)
	}
	return list, nil
}

func lineOf(e *journal.Entry) (Line, error) {
	line := Line{Number: e.Number, ID: e.ID, At: e.At, Kind: e.Kind, Account: e.Account}
	if e.Leaf == nil {
		line.Text = "pruned: its hash is kept"
		return line, nil
	}
	c, err := e.Content()
	if err != nil {
		return line, err
	}
	line.Caller = c.Caller
	switch e.Kind {
	case journal.Decision:
		var o journal.Outline
		if err := json.Unmarshal(c.Answer, &o); err != nil {
			return line, err
		}
		line.App, line.IP, line.Verdict = o.Facts.Attempt.App, o.Facts.Attempt.IP, o.Verdict.String()
		if len(o.Causes) > 0 {
			line.Text = o.Causes[0].Text
		}
	case journal.Reload:
		var r struct {
			Taken bool
			Book  string
			Why   []string
		}
		err = json.Unmarshal(c.Reload, &r)
		line.Text = "the book " + ShortDigest(r.Book) + " is in force"
		if !r.Taken {
			line.Text = "a book was refused"
			if len(r.Why) > 0 {
				line.Text += ": " + r.Why[0]
			}
		}
	case journal.Report:
		var r struct{ Device string }
		err = json.Unmarshal(c.Report, &r)
		line.Text = "the device " + r.Device + " reported"
	case journal.Event:
		var r struct{ Issuer, Type, Result string }
		err = json.Unmarshal(c.Event, &r)
		line.Text = fmt.Sprintf("%s of %s: %s", r.Type, r.Issuer, r.Result)
	case journal.People:
		var r struct{ Resource, Name, Change string }
		err = json.Unmarshal(c.People, &r)
		line.Text = fmt.Sprintf("the %s %s was %s", r.Resource, r.Name, r.Change)
	case journal.SessionEnd:
		var r struct{ ID, App, Because string }
		err = json.Unmarshal(c.Session, &r)
		line.Text = "the session " + r.ID + " ended"
		if r.App != "" {
			line.Text += " at " + r.App
		}
		line.Text += ": " + r.Because
	case journal.Consent:
		var act desk.Act
		err = json.Unmarshal(c.Consent, &act)
		line.Text = act.Sentence()
	}
	return line, err
}

// ShortDigest is as much of a digest as a reader needs to tell two apart.
func ShortDigest(digest string) string {
	const enough = len("sha256:") + 12
	if len(digest) <= enough {
		return digest
	}
	return digest[:enough] + "…"
}

// Decision is a decision of the journal.
type Decision struct {
	ID     string    `json:"id" doc:"its name"`
	At     time.Time `json:"at" doc:"when it was recorded"`
	Caller string    `json:"caller,omitzero" doc:"who asked for it"`
	*decide.Decision
	Degraded []string          `json:"degraded,omitempty" doc:"what it lacked because something failed"`
	Attempt  *attempt.Attempt  `json:"attempt" doc:"the attempt as it was judged"`
	From     map[string]string `json:"from" doc:"where each fact came from"`
	// Today is what a book of today says of the same attempt with the same facts, where one was
	// given.
	Today *Today `json:"today,omitempty" doc:"what today's book says of the same attempt"`

	account *store.Account
	device  *store.Device
}

// Today is what another book says of the same attempt.
type Today struct {
	Book    string         `json:"book" doc:"its digest"`
	Same    bool           `json:"same" doc:"true where it is the book that decided"`
	Verdict decide.Verdict `json:"verdict" doc:"its verdict"`
	Causes  []decide.Cause `json:"causes" doc:"why"`
}

// Read reads a decision. The error says that the entry is another, or was pruned.
func Read(e *journal.Entry) (*Decision, error) {
	if e.Kind != journal.Decision {
		return nil, fmt.Errorf("%s is no decision: it records a %s", e.ID, e.Kind)
	}
	c, err := e.Content()
	if err != nil {
		return nil, err
	}
	read := new(answer)
	if err := json.Unmarshal(c.Answer, read); err != nil {
		return nil, fmt.Errorf("the decision %s cannot be read: %w", e.ID, err)
	}
	d := &Decision{ID: e.ID, At: e.At, Caller: c.Caller, Decision: &read.Decision, Degraded: read.Degraded, Attempt: new(attempt.Attempt),
		From: read.Facts.From, account: read.Facts.Account, device: read.Facts.Device}
	if err := attempt.ParsePart(read.Facts.Attempt, d.Attempt); err != nil {
		return nil, err
	}
	return d, nil
}

// Account implements directory.Accounts: what the store knew when it was decided.
func (d *Decision) Account(_ context.Context, name string) (directory.Account, error) {
	if d.account == nil || d.account.Name != name || !d.account.States() {
		return directory.Account{}, directory.ErrNotFound
	}
	return d.account.Entry(), nil
}

// Compare judges the same attempt with the same facts by a book, and notes what it says. Devices of
// which the store knew more than the book are judged with what it knew.
func (d *Decision) Compare(b *book.Book) error {
	rules := b.Rulebook()
	rules.Accounts = d
	rules.Devices = devices{d, rules.Directory.Devices}
	judge, err := decide.Compile(rules)
	if err != nil {
		return err
	}
	again := judge.Outline(context.Background(), d.Attempt)
	d.Today = &Today{Book: b.Digest, Same: b.Digest == d.JudgedBy.Book, Verdict: again.Verdict, Causes: again.Causes}
	return nil
}

// devices supplies the device as the store knew it.
type devices struct {
	d    *Decision
	book []directory.Device
}

// Device implements directory.Devices.
func (s devices) Device(_ context.Context, id string) (directory.Device, error) {
	kept := s.d.device
	if kept == nil || kept.ID != id {
		return directory.Device{}, directory.ErrNotFound
	}
	for _, of := range s.book {
		if of.Name == id {
			return *kept.Supplied(&of), nil
		}
	}
	return directory.Device{}, directory.ErrNotFound
}

// errNoDecision is the error for an ID that the journal does not have.
var errNoDecision = errors.New("the journal has no entry of that id; `briskwarden journal list` shows those that it has")

// Find returns the entry of an ID.
func Find(ctx context.Context, s store.Store, id string) (*journal.Entry, error) {
	e, err := s.Entry(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, errNoDecision
	}
	return &e, err
}

// VerdictNamed reads a verdict to filter by; nil for "".
func VerdictNamed(text string) (*decide.Verdict, error) {
	if text == "" {
		return nil, nil
	}
	v := new(decide.Verdict)
	return v, v.UnmarshalText([]byte(text))
}

// Of leaves of some entries the decisions with a verdict; all where it is nil.
func Of(entries iter.Seq2[journal.Entry, error], verdict *decide.Verdict) iter.Seq2[journal.Entry, error] {
	if verdict == nil {
		return entries
	}
	return func(yield func(journal.Entry, error) bool) {
		for e, err := range entries {
			if err == nil {
				if e.Kind != journal.Decision || e.Leaf == nil {
					continue
				}
				var o journal.Outline
				c, wrong := e.Content()
				if wrong == nil {
					wrong = json.Unmarshal(c.Answer, &o)
				}
				if wrong == nil && o.Verdict != *verdict {
					continue
				}
				err = wrong
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// Verification is what came of verifying a journal.
type Verification struct {
	*journal.Verified
	// Wrong says what is not as it was, "" where all is.
	Wrong string `json:"wrong,omitzero" doc:"what is not as it was recorded; absent where all is"`
}

// Verify holds a journal against its tree, and against a checkpoint where one is given. An error
// means that it could not be read.
func Verify(ctx context.Context, s store.Store, checkpoint []byte, public string) (*Verification, error) {
	head, err := s.Head(ctx)
	if err != nil {
		return nil, err
	}
	var unread error
	entries := func(yield func(journal.Entry, error) bool) {
		for e, err := range s.Entries(ctx, journal.Filter{}) {
			if e.Number >= head.Size {
				return // what came while it was read
			}
			unread = err
			if !yield(e, err) {
				return
			}
		}
	}
	found, err := journal.Verify(entries, head, checkpoint, public)
	switch {
	case unread != nil:
		return nil, unread
	case err != nil:
		return &Verification{Wrong: err.Error()}, nil
	}
	return &Verification{Verified: found}, nil
}
