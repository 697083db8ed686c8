package door

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/inside"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/watch/lookout"
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
	teller *teller
	poster *poster
	// bookName and commands name the book and the journal to an administrator at a terminal.
	bookName string
	commands []string
	// looking lets one at a time look whether there is something to tell, every watchEvery.
	looking    sync.Mutex
	watchEvery time.Duration
	// reviews are reasons to look at open sessions again; reviewAll says that there were too many.
	reviews   chan review
	reviewAll atomic.Bool
	metrics   *metrics
	handler   http.Handler
	// reloading lets one book at a time be taken into force, and last is what came of the last.
	reloading sync.Mutex
	last      atomic.Pointer[Reloaded]
	cancel    context.CancelFunc
	running   sync.WaitGroup
	// background ends when the door closes.
	background context.Context
	// inspecting are inspections of books that go on, and endInspection ends the last: a newer book is inspected in its place.
	inspecting    sync.WaitGroup
	endInspection context.CancelFunc
	closing       atomic.Bool
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
	// Book is the folder of the book, and Journal the flags of journal list that find the journal, as an
	// administrator at a terminal would write them. Pages and letters name them in commands.
	Book    string
	Journal []string
	// Keeper keeps what the door has of its own: the keys of issuers, and what it knows of emergency accounts. Without one no emergency
	// account is let in while the store is away.
	Keeper Keeper
	// Away says that the store cannot be reached: the door lets in the emergency accounts of its book alone, by what it kept of them.
	Away bool
	// InForce opens the book that was in force when the door last ran, which goes on without being judged again; nil where there is none.
	InForce Loader
	// Taken is told of a book that comes into force; nil needs not to know.
	Taken func(*briskwarden.Book)
	// WatchEvery is how often it is looked whether there is something to tell; 0 is every second.
	WatchEvery time.Duration
}

// inForce is a book with what the door looks up in it.
type inForce struct {
	*briskwarden.Book
	// asked are those of its accounts that say when they were asked to enrol.
	asked   map[string]bool
	devices map[string]*directory.Device
	// asksOutside says that an assurance asks for an outside check.
	asksOutside bool
	// unshared says that somewhere only proofs count that were made for the very app.
	unshared bool
	// documents are those that it asks people to accept.
	documents map[string]bool
	// supplier supplies accounts and devices to its decisions.
	supplier *supplier
	// lookout says who hears of decisions. It is used by one goroutine.
	lookout *lookout.Lookout
	// desk answers outside programs by the same book, nil where none are answered.
	desk  *acts.Desk
	since time.Time
}

// lists reports whether the book has an account.
func (b *inForce) lists(account string) bool {
	_, ok := inside.Of(b.Judge()).Directory().FindAccount(account)
	return ok
}

// hasUnshared reports whether some session of a book counts only what was proven for the very app.
func hasUnshared(source *book.Book) bool {
	limits := func(l directory.Limits) bool { return l.Shared != nil && !*l.Shared }
	return slices.ContainsFunc(source.Apps, func(a directory.App) bool { return limits(a.Limits) }) ||
		slices.ContainsFunc(source.Policies, func(p decide.Policy) bool {
			return slices.ContainsFunc(p.Rules, func(r decide.Rule) bool { return limits(r.Limits) })
		})
}

// entryOf returns the fingerprint of the book's own entry of an account, "" where it has none.
func (b *inForce) entryOf(account string) string {
	contents := inside.Of(b.Judge()).Directory()
	if n, ok := contents.FindAccount(account); ok && n < len(contents.Accounts) {
		return inside.Fingerprint(contents.Accounts[n])
	}
	return ""
}

// listsMembers reports whether the book lists the members of a group itself, so that no feed may manage it, and whether it
// has the group at all with some account in it.
func (b *inForce) listsMembers(group string) (lists, hasSome bool) {
	contents := inside.Of(b.Judge()).Directory()
	for i := range contents.Groups {
		if g := &contents.Groups[i]; g.Name == group && g.Members != nil {
			return true, true
		}
	}
	return false, slices.ContainsFunc(contents.Accounts, func(a directory.Account) bool { return slices.Contains(a.Groups, group) })
}

// app returns the app that a text stands for, nil where the book has none.
func (b *inForce) app(text string) *directory.App {
	contents := inside.Of(b.Judge()).Directory()
	if n, ok := contents.FindApp(text); ok {
		return &contents.Apps[n]
	}
	return nil
}

// appNamed returns the name of the app that a text stands for, "" where the book has none.
func (b *inForce) appNamed(text string) string {
	if app := b.app(text); app != nil {
		return app.Name
	}
	return ""
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
	d := &Door{config: c, now: o.Now, log: o.Log, load: load, facts: newFacts(s, c),
		bookName: cmp.Or(o.Book, "BOOK"), commands: o.Journal, keeper: o.Keeper,
		watchEvery: cmp.Or(o.WatchEvery, time.Second)}
	d.facts.emergencies = newEmergencies(o.Keeper, o.Log)
	all, err := d.believe(c, nil)
	if err != nil {
		return nil, err
	}
	d.believed.Store(all)
	d.facts.sources.Store(&all.sources)
	d.metrics, d.guard = newMetrics(d), newGuard()
	if d.teller, err = newTeller(c, s, o.Now, o.Log); err != nil {
		return nil, err
	}
	if d.poster, err = newPoster(d, s); err != nil {
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
	d.recorder = newRecorder(d.facts, c.Journal.Door, time.Duration(c.Limits.Answer), d.metrics.recorded)
	d.taken = o.Taken
	d.takeForce(b)
	d.noteReload(&Reloaded{At: b.since, Taken: true, Book: b.Digest(), Rules: b.Judge().Rules()})
	d.readEmergencies(ctx, b)
	if d.handler, err = d.routes(); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	d.running.Go(func() { d.reviewSessions(background) })
	if len(c.Tell.Receivers) > 0 {
		d.running.Go(func() { d.teller.outbox.run(background) })
	}
	if c.Journal.Mode != JournalOff {
		d.running.Go(func() { d.watchDecisions(background) })
		d.running.Go(func() { d.poster.outbox.run(background) })
	}
	if c.Journal.Keep > 0 && c.Journal.Mode != JournalOff {
		d.running.Go(func() { d.pruneJournal(background) })
	}
	return d, nil
}

// mostReviews is how many reasons to look at sessions wait before all are looked at, and
// keysRefresh how often the keys of those who send events are read again.
const mostReviews, keysRefresh = 256, 10 * time.Minute

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
	d.inspecting.Wait()
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

// Reloaded is what came of a book that was to be taken into force.
type Reloaded struct {
	At time.Time `json:"at" doc:"when"`
	// Taken reports whether it is in force. Where it is not, the one before goes on.
	Taken bool `json:"taken" doc:"true where it is in force"`
	// Unchanged says that it is the same as the one in force.
	Unchanged bool `json:"unchanged,omitzero" doc:"true where it is the same as the one in force"`
	// Book and Rules are its digests, as decisions by it bear them.
	Book  string `json:"book,omitzero" doc:"its digest"`
	Rules string `json:"rules,omitzero" doc:"the digest of its rules"`
	// Why says what keeps it from being taken.
	Why []string `json:"why,omitempty" doc:"what keeps it from being taken"`
}

// begin opens the book that a door starts with: the one that was in force goes on, unjudged; without one the loader's is judged.
func (d *Door) begin(inForce Loader) (*inForce, error) {
	if inForce != nil {
		b, why := d.read(inForce)
		if b != nil {
			return b, nil
		}
		d.log.Error("the book that was in force cannot be opened, so that of the folder is taken", "why", why)
	}
	b, why, err := d.open(aheadAtStart)
	switch {
	case err != nil:
		return nil, err
	case len(why) > 0:
		return nil, fmt.Errorf("the book cannot be taken into force:\n%w", joined(why))
	}
	return b, nil
}

// open opens a book and reports what keeps it from being taken into force: what is wrong with
// its files, drills that fail, and guarantees that do not hold for so long from now on.
func (d *Door) open(ahead time.Duration) (b *inForce, why []string, err error) {
	if b, why = d.read(d.load); b == nil {
		return nil, why, nil
	}
	if why, err := Drills(b.Book); err != nil || len(why) > 0 {
		return nil, why, err
	}
	if why, err := Guarantees(b.Book, d.now(), ahead); err != nil || len(why) > 0 {
		return nil, why, err
	}
	return b, nil, nil
}

// read opens a book, and says what is wrong with its files where it returns none.
func (d *Door) read(load Loader) (b *inForce, why []string) {
	supplier := &supplier{facts: d.facts}
	opened, err := load(briskwarden.WithAccounts(supplier), briskwarden.WithDevices(supplier))
	if err != nil {
		return nil, []string{err.Error()}
	}
	if rules := opened.Judge().Rulebook(); rules.Accounts != directory.Accounts(supplier) || rules.Devices != directory.Devices(supplier) {
		return nil, []string{"the loader opened the book without the options that the door handed it, so no decision would know " +
			"what the store knows"}
	}
	b = &inForce{Book: opened, supplier: supplier, since: d.now(), devices: map[string]*directory.Device{}, asked: map[string]bool{}}
	source := opened.Source()
	b.asksOutside = slices.ContainsFunc(source.Assurances, func(a decide.Assurance) bool { return a.External != "" })
	b.unshared, b.documents = hasUnshared(source), map[string]bool{}
	for i := range source.Assurances {
		if accept := source.Assurances[i].Accept; accept != nil {
			b.documents[accept.Document] = true
		}
	}
	if b.lookout, err = lookout.New(opened.Judge(), &source.Watch); err != nil {
		return nil, []string{err.Error()}
	}
	supplier.book = b
	if d.config.Consent.Answers() {
		judge, err := source.CompileConsent(opened.Judge())
		if err != nil {
			return nil, []string{err.Error()}
		}
		b.desk = acts.New(judge, d.facts.store, d.config.Journal.Door)
	}
	for i := range source.Devices {
		b.devices[source.Devices[i].Name] = &source.Devices[i]
	}
	for i := range source.Accounts {
		if source.Accounts[i].AskedAt != nil {
			b.asked[source.Accounts[i].Name] = true
		}
	}
	return b, nil
}

// Drills runs the drills of a book, on the book alone, and says of each that fails what was
// expected and what came.
func Drills(b *briskwarden.Book) (failed []string, err error) {
	if len(b.Source().Drills) == 0 {
		return nil, nil
	}
	judge, consents, err := b.Source().CompileBoth()
	if err != nil {
		return nil, err
	}
	for _, r := range drill.Run(judge, consents, b.Source().Drills).Results {
		if !r.Passed {
			failed = append(failed, fmt.Sprintf("%s: the drill %s fails: wanted %s, got %s", r.At, r.Name, r.Wanted, r.Got))
		}
	}
	return failed, nil
}

// A door that starts looks at what holds today, so that it starts again whatever ends in a year; a newer book
// is held against all that is to come (0 is the horizon of prove).
const aheadAtStart, aheadAtReload = 24 * time.Hour, 0

// longestProof is how long the guarantees of a book may take to be proven before it is taken into force.
const longestProof = time.Minute

// Guarantees reports whether the guarantees of a book hold from a moment on for so long, on the book alone, and
// says of each that is not proven why. One that is about no circumstances keeps no book from being taken, since
// its time may be over, and none that holds for the accounts that are known: `prove` tells of both.
func Guarantees(b *briskwarden.Book, from time.Time, ahead time.Duration) (failed []string, err error) {
	if len(b.Source().Guarantees) == 0 {
		return nil, nil
	}
	judge, err := b.Source().Compile()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), longestProof)
	defer cancel()
	r, err := prove.Prove(ctx, b.Source(), judge, prove.Options{From: from, For: ahead})
	if err != nil {
		return nil, err
	}
	for i := range r.Results {
		x := &r.Results[i]
		if x.State == prove.Proven || x.Empty || x.Unlisted {
			continue
		}
		text := fmt.Sprintf("%s: the guarantee %s is not proven: %s %s.", x.At, x.Name, x.State, x.Claim)
		if x.Attempt != nil {
			text = fmt.Sprintf("%s: the guarantee %s fails for %s. %s", x.At, x.Name, x.Shown(r.Zone), x.Why)
		} else if x.Why != "" {
			text += " " + x.Why
		}
		failed = append(failed, text)
	}
	return failed, nil
}

// Reload opens the book again and takes it into force, in one step for decisions and consent,
// if it has no errors and its drills pass. Else the one before goes on, and Reloaded says why.
// Either way the journal says what came of it.
func (d *Door) Reload() *Reloaded {
	d.reloading.Lock()
	defer d.reloading.Unlock()
	now := d.now()
	b, why, err := d.open(aheadAtReload)
	if err != nil {
		why = []string{err.Error()}
	}
	was := d.book.Load()
	r := &Reloaded{At: now, Why: why}
	switch {
	case len(why) > 0:
	case !was.Differs(b.Book):
		r.Taken, r.Unchanged, r.Book, r.Rules = true, true, was.Digest(), was.Judge().Rules()
	default:
		r.Taken, r.Book, r.Rules = true, b.Digest(), b.Judge().Rules()
		d.takeForce(b)
		d.lookAgain(review{because: "a newer book is in force"})
	}
	d.noteReload(r)
	return r
}

// takeForce takes a book into force, and tells the store what the leaves of its decisions will be like.
func (d *Door) takeForce(b *inForce) {
	d.facts.store.Resembling(d.sample(b))
	d.book.Store(b)
	if d.taken != nil {
		d.taken(b.Book)
	}
}

// longestSample is how much of what decisions are like is told to the store, in bytes.
const longestSample = 60 << 10

// sample writes decisions by a book about nobody: at each app, for one whom it is open to, as they are on the way in: with nothing shown,
// and with all that can be. It is packed by, and is kept when an entry is pruned, so nothing in it is of a person.
func (d *Door) sample(b *inForce) (text []byte) {
	at := d.now().UTC().Truncate(24 * time.Hour).Add(12 * time.Hour)
	asks := attempt.Attempt{Account: "nobody", At: at, IP: attempt.Known(netip.MustParseAddr("192.0.2.1")),
		Through: attempt.Known(attempt.Browser), Client: attempt.None[attempt.ClientAsk](), Session: attempt.Session{ID: "session", Started: at},
		Device: attempt.Known(attempt.Device{ID: attempt.Known("device"), Known: attempt.Known(true)}),
		Previous: attempt.Known(attempt.Previous{At: at, Country: attempt.Known(attempt.CountryCode("NO")),
			Location: attempt.Known(attempt.Location{})}),
		Failures: attempt.None[[]time.Time]()}
	var methods []string
	for _, m := range directory.Catalogue(b.Source().Methods) {
		methods = append(methods, m.Name)
	}
	from := origins{{"account", fromBook}, {"previous", fromStore}, {"failures", fromStore}, {"session", fromStore}, {"device", fromNobody},
		{"device.known", fromStore}}
	for i := range b.Source().Apps {
		app := &b.Source().Apps[i]
		g := &gathering{joined: &directory.Account{Name: asks.Account, Kind: directory.Person, Groups: app.OpenTo, Methods: methods}}
		g.account.value = g.account.value.OrNone(asks.Account)
		ctx := context.WithValue(d.background, gatheringKey{}, g)
		var offered []string
		for range 2 {
			a := asks
			a.App = app.Name
			for _, method := range offered {
				a.Proofs = append(a.Proofs, attempt.Proof{Method: method})
				a.Session.Proofs = append(a.Session.Proofs, attempt.Proof{Method: method, At: at, App: app.Name})
			}
			answer := &Answer{ID: uuid.Nil.String(), Attempt: &a, App: a.App}
			answer.Decision = b.Decide(ctx, &a)
			answer.write(g, from)
			leaf := journal.Make(journal.Decision, answer.ID, at, "caller", a.Account, "answer", *answer.text).Leaf
			if len(text)+len(leaf) > longestSample {
				return text
			}
			text, offered = append(text, leaf...), answer.ToPerson.Offer
		}
	}
	return text
}

// noteReload records what came of a book.
func (d *Door) noteReload(r *Reloaded) {
	d.last.Store(r)
	d.metrics.reloaded(r)
	switch {
	case r.Unchanged:
		d.log.Info("the book is the same as before", "book", r.Book)
		return
	case r.Taken:
		d.log.Info("a book is in force", "book", r.Book)
		for _, why := range d.config.Unreached(&d.book.Load().Source().Watch) {
			d.log.Warn(why)
		}
	default:
		d.log.Error("a book was refused; the one before goes on", "why", words.UpTo(5, r.Why))
	}
	if d.config.Journal.Mode == JournalOff {
		return
	}
	e := journal.Make(journal.Reload, journal.NewID(), r.At, "", "", "reload", r.appendJSON(nil))
	if err := d.recorder.do(&job{entries: []journal.Entry{e}}); err != nil {
		d.log.Error("a reload was not recorded", "error", err)
	}
	if b := d.book.Load(); r.Taken {
		if d.endInspection != nil {
			d.endInspection()
		}
		ctx, end := context.WithCancel(d.background)
		d.endInspection = end
		d.inspecting.Go(func() { d.inspect(ctx, b) }) // which takes its time
	}
}

// inspect records what inspect says of a book that was taken into force, so that a report shows how that moves. Of a book
// that another replaces meanwhile, and where the door closes, it records nothing.
func (d *Door) inspect(ctx context.Context, b *inForce) {
	found, err := inspect.Inspect(ctx, b.Source(), d.now())
	switch {
	case ctx.Err() != nil:
		return
	case err != nil:
		d.log.Error("the book could not be inspected", "book", b.Digest(), "error", err)
		return
	}
	said := journal.Inspected{Book: b.Digest(), Reached: found.Score.Reached, Possible: found.Score.Possible, Open: []string{}}
	for i := range found.Score.Open {
		said.Open = append(said.Open, found.Score.Open[i].Check)
	}
	text, err := json.Marshal(said)
	if err != nil {
		panic(err) // it is numbers and texts
	}
	e := journal.Make(journal.Inspection, journal.NewID(), d.now(), "", "", "inspection", text)
	if err := d.recorder.do(&job{entries: []journal.Entry{e}}); err != nil && !errors.Is(err, errStopped) {
		d.log.Error("what inspect says of the book was not recorded", "error", err)
	}
}

func (r *Reloaded) appendJSON(text []byte) []byte {
	text = jsontext.Time(jsontext.Key(append(text, '{'), "at"), r.At)
	text = append(jsontext.Key(text, "taken"), fmt.Sprint(r.Taken)...)
	text = jsontext.Text(jsontext.Text(text, "book", r.Book), "rules", r.Rules)
	if len(r.Why) > 0 {
		text = jsontext.Strings(jsontext.Key(text, "why"), r.Why)
	}
	return append(text, '}')
}

// Forget drops what is remembered of the store, so that it is read again. A door does so by itself
// where others may have changed it; it is for a program that changes the store's rows itself.
func (d *Door) Forget() { d.facts.forgetAll() }
