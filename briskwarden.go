// Package briskwarden is the face of Brisk Warden for a Go program: it opens a
// book, decides by it who may sign on to what, explains each decision, and swaps
// the book for a newer one while decisions are made.
//
//	b, err := briskwarden.Open("kestrel")
//	warden := briskwarden.New(b)
//	...
//	decision := warden.Decide(ctx, &attempt.Attempt{At: time.Now(), Account: name, App: "mail",
//		Proofs: []attempt.Proof{{Method: "password"}}})
//	switch decision.Verdict {
//	case decide.Grant: // let the account in, for as long as decision.Limits says
//	case decide.StepUp: // ask for one of decision.ToPerson.Offer, and decide again
//	case decide.Block: // show decision.ToPerson, and log decision.Causes
//	}
//
// A book is a folder of YAML files, or any fs.FS such as an embed.FS. People and
// devices need not be in it: [WithAccounts] and [WithDevices] supply them while a
// decision is made, so that a person who enrols a method is judged by it the next time.
//
// An attempt says what was proven and what is known; what it leaves out is unknown,
// and an unknown fact never helps. Read docs/trust.md for what an attempt is
// believed on, and what a program has to verify before it states it.
//
// The packages behind the face are of use by themselves: attempt has the question,
// decide the answer and decide/engine what judges, directory what is supplied, book the files, consent what
// outside programs may have, and those under admin what an administrator does.
package briskwarden

import (
	"context"
	"errors"
	"io/fs"
	"sync/atomic"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Book is a book that was opened and compiled. It does not change and is safe for
// concurrent use. The zero Book blocks every attempt.
type Book struct {
	source   *book.Book
	judge    *engine.Judge
	consents *consent.Judge
}

// Option changes how a book is opened.
type Option func(*options)

type options struct {
	open     []book.Option
	accounts directory.Accounts
	devices  directory.Devices
	locator  directory.Locator
	reports  decide.Reports
}

// WithAccounts supplies accounts while decisions are made. What is supplied wins,
// key by key, over what the book says of an account. Several are asked as one: what the
// last states wins, key by key, but an account is disabled where any says so, and the
// highest risk stands. A door's own are put on top of a program's, whichever comes last.
func WithAccounts(accounts directory.Accounts) Option {
	return func(o *options) { o.accounts = bothAccounts(o.accounts, accounts) }
}

// WithDevices supplies devices while decisions are made. Of several the last that has a
// device is taken.
func WithDevices(devices directory.Devices) Option {
	return func(o *options) { o.devices = bothDevices(o.devices, devices) }
}

// WithLocator looks addresses up where neither an attempt nor a network says where
// they are. It takes the place of a file that the book names.
func WithLocator(locator directory.Locator) Option {
	return func(o *options) { o.locator = locator }
}

// WithDatabase says how a file that knows addresses is read, such as mmdb.Locator of
// package directory/mmdb. A book with settings.ip_database needs it.
func WithDatabase(read func(file []byte) (directory.Locator, error)) Option {
	return func(o *options) { o.open = append(o.open, book.WithDatabase(read)) }
}

// WithName names the folder in messages and positions otherwise than it is called: a copy is told of as the folder that it is of.
func WithName(dir string) Option {
	return func(o *options) { o.open = append(o.open, book.WithName(dir)) }
}

// WithReports lets a risk engine of one's own tell whether signals hold.
func WithReports(reports decide.Reports) Option {
	return func(o *options) { o.reports = reports }
}

// WithChange opens the book with another value, as YAML, for something that it says:
// risk.levels.medium, or policies.card-till.stage. It is for trying a change out.
func WithChange(path, value string) Option {
	return func(o *options) { o.open = append(o.open, book.WithChanges(book.Change{Path: path, Value: value})) }
}

// Open opens the book in a folder. What is wrong with its files is returned as
// book.Errors, all at once and each with its place. It reads all files and compiles
// them, which takes some 20 microseconds for each account that the book lists.
func Open(dir string, options ...Option) (*Book, error) {
	o := chosen(options)
	source, err := book.Open(dir, o.open...)
	if err != nil {
		return nil, err
	}
	return compile(source, o)
}

// OpenFS opens the book at the root of a file system.
func OpenFS(files fs.FS, options ...Option) (*Book, error) {
	if files == nil {
		return nil, errors.New("there are no files to open a book in: the file system is nil")
	}
	o := chosen(options)
	source, err := book.OpenFS(files, o.open...)
	if err != nil {
		return nil, err
	}
	return compile(source, o)
}

func chosen(list []Option) options {
	var o options
	for _, option := range list {
		if option != nil {
			option(&o)
		}
	}
	return o
}

func compile(source *book.Book, o options) (*Book, error) {
	rules := source.Rulebook()
	rules.Accounts, rules.Devices, rules.Reports = o.accounts, o.devices, o.reports
	if o.locator != nil {
		rules.Locator = o.locator
	}
	judge, err := engine.Compile(rules)
	if err != nil {
		return nil, err
	}
	consents, err := source.CompileConsent(judge)
	if err != nil {
		return nil, err
	}
	return &Book{source, judge, consents}, nil
}

// Decide judges an attempt and explains the decision in full. It never returns nil,
// and never an error: what cannot be judged is a block that says why.
func (b *Book) Decide(ctx context.Context, a *attempt.Attempt) *decide.Decision {
	if b == nil || b.judge == nil {
		return decide.WithoutBook()
	}
	return b.judge.Decide(ctx, a)
}

// Verdict is the verdict of Decide alone, in a fraction of the time.
func (b *Book) Verdict(ctx context.Context, a *attempt.Attempt) decide.Verdict {
	if b == nil || b.judge == nil {
		return decide.Block
	}
	return b.judge.Verdict(ctx, a)
}

// Opening returns what anyone is told whose attempt has proven nothing yet. It looks
// nobody up; see [engine.Judge.Opening].
func (b *Book) Opening(a *attempt.Attempt) decide.ToPerson {
	if b == nil || b.judge == nil {
		return decide.WithoutBook().ToPerson
	}
	return b.judge.Opening(a)
}

// DecideConsent decides whether an outside program may be let into somebody's data.
// Known is what reviewers decided before. The error says what the request lacks.
func (b *Book) DecideConsent(ctx context.Context, r *consent.Request, known consent.Known) (*consent.Decision, error) {
	if b == nil || b.consents == nil {
		return nil, errors.New("there is no book to decide by")
	}
	return b.consents.Decide(ctx, r, known)
}

// Digest is "sha256:" and a hash of the book's files.
func (b *Book) Digest() string {
	if b == nil || b.source == nil {
		return ""
	}
	return b.source.Digest
}

// Differs reports whether another book says something else, so that it is worth
// swapping in. A book that nothing is known about differs.
func (b *Book) Differs(other *Book) bool {
	return b == nil || other == nil || b.source == nil || other.source == nil || b.source.Digest != other.source.Digest ||
		b.judge.Rules() != other.judge.Rules()
}

// Judge returns the judge that decides by the book, for the packages under admin.
func (b *Book) Judge() *engine.Judge { return b.judge }

// Source returns what the files say.
func (b *Book) Source() *book.Book { return b.source }

// Warden decides by a book that can be swapped while it decides. It is safe for
// concurrent use. The zero Warden has no book and blocks every attempt.
type Warden struct {
	current atomic.Pointer[Book]
}

// New returns a Warden that decides by a book.
func New(b *Book) *Warden {
	w := new(Warden)
	w.current.Store(b)
	return w
}

// Book returns the book that is in force, nil where there is none. A program that
// makes several decisions which must agree asks this one for all of them.
func (w *Warden) Book() *Book { return w.current.Load() }

// Swap puts a newer book into force, for attempts and for consent in one step, and
// returns the older one. A decision that has begun ends by the book with which it
// began. With nil every attempt is blocked from then on.
func (w *Warden) Swap(newer *Book) (older *Book) { return w.current.Swap(newer) }

// Decide judges an attempt by the book in force, as [Book.Decide] does.
func (w *Warden) Decide(ctx context.Context, a *attempt.Attempt) *decide.Decision {
	if b := w.Book(); b != nil {
		return b.Decide(ctx, a)
	}
	return decide.WithoutBook()
}

// Verdict is the verdict of Decide alone.
func (w *Warden) Verdict(ctx context.Context, a *attempt.Attempt) decide.Verdict {
	if b := w.Book(); b != nil {
		return b.Verdict(ctx, a)
	}
	return decide.Block
}

// DecideConsent decides a request by the book in force, as [Book.DecideConsent]
// does. Where there is none it is refused.
func (w *Warden) DecideConsent(ctx context.Context, r *consent.Request, known consent.Known) (*consent.Decision, error) {
	if b := w.Book(); b != nil {
		return b.DecideConsent(ctx, r, known)
	}
	return consent.WithoutBook(), nil
}
