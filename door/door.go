package door

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Door decides by a book in force, on facts that live in a store. It is safe for concurrent use.
type Door struct {
	config   *Config
	now      func() time.Time
	log      *slog.Logger
	load     Loader
	taken    func(*briskwarden.Book)
	book     atomic.Pointer[inForce]
	facts    *facts
	recorder *recorder
	guard    *guard
	// believed is who may call and who is believed.
	believed atomic.Pointer[believed]
	// keeper keeps what the door has of its own, nil where nothing does.
	keeper Keeper
	// rooms are what was added; of them ended are told of sessions that end, and meters count.
	rooms  []*Opened
	ended  []func(c *Change, s *store.Session, app, because string) error
	meters []Meter
	// reviews are reasons to look at open sessions again; reviewAll says that there were too many.
	reviews   chan review
	reviewAll atomic.Bool
	handler   http.Handler
	// reloading lets one book at a time be taken into force, and last is what came of the last.
	reloading sync.Mutex
	last      atomic.Pointer[Reloaded]
	cancel    context.CancelFunc
	running   sync.WaitGroup
	// background ends when the door closes.
	background context.Context
	closing    atomic.Bool
	// description is /openapi.json.
	description sync.Once
	described   []byte
}

// Keeper keeps what a door has of its own, apart from its store, so that it is there while the store, or an issuer, is not. Its methods are
// safe for concurrent use.
type Keeper interface {
	// Keep keeps a text under a name, in place of the one before.
	Keep(name string, text []byte) error
	// Kept returns what is kept under a name, and when it was; fs.ErrNotExist where nothing is.
	Kept(name string) (text []byte, at time.Time, err error)
}

// Loader opens the book that is to be in force, with the options of the door: it supplies
// accounts and devices. It is called when the door is made and for each reload.
//
//	func(o ...briskwarden.Option) (*briskwarden.Book, error) { return briskwarden.Open("kestrel", o...) }
type Loader func(options ...briskwarden.Option) (*briskwarden.Book, error)

// Options are what else a door is made with. The zero Options do.
type Options struct {
	// Now is the clock; nil is time.Now.
	Now func() time.Time
	// Log is told of what happens; nil is slog.Default().
	Log *slog.Logger
	// Rooms are what else the door does beside decisions, the guard and sessions, such as people.Room.
	Rooms []Room
	// Keeper keeps what the door has of its own: the keys of issuers, and what it knows of emergency accounts. Without one no emergency
	// account is let in while the store is away.
	Keeper Keeper
	// Away says that the store cannot be reached: the door lets in the emergency accounts of its book alone, by what it kept of them.
	Away bool
	// InForce opens the book that was in force when the door last ran, which goes on without being judged again; nil where there is none.
	InForce Loader
	// Taken is told of a book that comes into force; nil needs not to know.
	Taken func(*briskwarden.Book)
}

// New makes a door. The book that load opens must be one that Reload would take. The store is
// the caller's, who closes it after Close.
func New(ctx context.Context, load Loader, s store.Store, c *Config, o Options) (*Door, error) {
	switch {
	case load == nil:
		return nil, errors.New("a door needs a loader that opens its book")
	case s == nil:
		return nil, errors.New("a door needs a store; new(store.Memory) keeps nothing for good")
	case c == nil:
		return nil, errors.New("a door needs a configuration; new(door.Config) answers nobody")
	}
	if err := c.Check(); err != nil {
		return nil, err
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if !o.Away {
		if _, err := store.CarryOver(ctx, s, o.Now()); err != nil {
			return nil, fmt.Errorf("what the store holds cannot be carried over: %w", err)
		}
		if err := c.Unbounded(ctx, s); err != nil {
			return nil, err
		}
		if err := s.Hold(ctx, c.Journal.Door); err != nil {
			return nil, err
		}
	}
	d := &Door{config: c, now: o.Now, log: o.Log, load: load, facts: newFacts(s, c), keeper: o.Keeper, guard: newGuard()}
	d.facts.emergencies = newEmergencies(o.Keeper, o.Log)
	all, err := d.believe(c, nil)
	if err != nil {
		return nil, err
	}
	d.believed.Store(all)
	d.facts.sources.Store(&all.sources)
	if err := d.enter(o.Rooms); err != nil {
		return nil, err
	}
	d.reviews = make(chan review, mostReviews)
	b, err := d.begin(o.InForce)
	if err != nil {
		return nil, err
	}
	if err := d.witness(ctx, true); err != nil && !o.Away {
		return nil, fmt.Errorf("the journal cannot be written to: %w", err)
	}
	background, cancel := context.WithCancel(context.WithoutCancel(ctx))
	d.background, d.cancel = background, cancel
	d.running.Go(func() {
		if err := s.Watch(background, store.Watcher{Changed: d.facts.forget, Lost: d.facts.lost, Found: d.facts.found}); err != nil &&
			background.Err() == nil {
			d.log.Error("changes by others are not followed", "error", err)
		}
	})
	d.recorder = newRecorder(d)
	d.taken = o.Taken
	d.takeForce(b)
	d.noteReload(&Reloaded{At: b.since, Taken: true, Book: b.Digest(), Rules: b.Judge().Rules()})
	d.readEmergencies(ctx, b)
	d.handler = d.accessLogged(d.routes())
	d.running.Go(func() { d.reviewSessions(background) })
	for _, room := range d.rooms {
		if room.Run != nil {
			d.running.Go(func() { room.Run(background) })
		}
	}
	if c.Journal.Keep > 0 && c.Journal.Mode != JournalOff {
		d.running.Go(func() { d.pruneJournal(background) })
	}
	return d, nil
}

// mostReviews is how many reasons to look at sessions wait before all are looked at.
const mostReviews = 256

// joined makes one error of lines.
func joined(lines []string) error {
	var errs []error
	for _, line := range lines {
		errs = append(errs, errors.New(line))
	}
	return errors.Join(errs...)
}

// Handler answers requests. It may be served by several servers at once.
func (d *Door) Handler() http.Handler { return d.handler }

// Book returns the book in force. Decisions of it by itself rest on the accounts of the store,
// and on no other of its facts; those of the door are made by Decide.
func (d *Door) Book() *briskwarden.Book { return d.book.Load().Book }

// Close stops what runs, once all that was accepted has been recorded. Servers of the handler
// are to be shut down first.
func (d *Door) Close() error {
	if d.closing.Swap(true) {
		return nil
	}
	d.cancel()
	d.recorder.close()
	d.running.Wait()
	ctx, end := context.WithTimeout(context.Background(), time.Duration(d.config.Limits.Answer))
	defer end()
	return d.witness(ctx, false)
}

// witness enters in the log of another door, where there is one, how the log of this one stands: that it begins, where it has no
// entry yet, and how it ended.
func (d *Door) witness(ctx context.Context, begins bool) error {
	if d.config.Journal.Mode == JournalOff {
		return nil
	}
	heads, err := d.facts.store.Heads(ctx)
	if err != nil {
		return err
	}
	own, other := journal.Head{Log: d.config.Journal.Door}, ""
	for i := range heads {
		switch log := heads[i].Log; {
		case log == own.Log:
			own = heads[i]
		case other == "" && store.IsOfDoor(log):
			other = log
		}
	}
	if other == "" || begins && own.Size > 0 {
		return nil
	}
	e := journal.MakeWitness(&own, d.now())
	return d.facts.store.Update(ctx, func(tx store.Tx) error { return tx.Append(other, []journal.Entry{e}) })
}

// Forget drops what is remembered of the store, so that it is read again. A door does so by itself
// where others may have changed it; it is for a program that changes the store's rows itself.
func (d *Door) Forget() { d.facts.forgetAll() }
