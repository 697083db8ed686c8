package door

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/google/uuid"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
)

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
	// desk answers outside programs by the same book, nil where none are answered.
	desk  *acts.Desk
	since time.Time
}

// lists reports whether the book has an account.
func (b *inForce) lists(account string) bool {
	_, ok := b.Judge().Directory().FindAccount(account)
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
	contents := b.Judge().Directory()
	if n, ok := contents.FindAccount(account); ok && n < len(contents.Accounts) {
		return engine.Fingerprint(contents.Accounts[n])
	}
	return ""
}

// listsMembers reports whether the book lists the members of a group itself, so that no feed may manage it, and whether it
// has the group at all with some account in it.
func (b *inForce) listsMembers(group string) (lists, hasSome bool) {
	contents := b.Judge().Directory()
	for i := range contents.Groups {
		if g := &contents.Groups[i]; g.Name == group && g.Members != nil {
			return true, true
		}
	}
	return false, slices.ContainsFunc(contents.Accounts, func(a directory.Account) bool { return slices.Contains(a.Groups, group) })
}

// app returns the app that a text stands for, nil where the book has none.
func (b *inForce) app(text string) *directory.App {
	contents := b.Judge().Directory()
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
	for _, room := range d.rooms {
		if room.Refuse != nil {
			if err := room.Refuse(opened); err != nil {
				return nil, []string{err.Error()}
			}
		}
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
	d.Count(Reloads, r.result())
	switch {
	case r.Unchanged:
		d.log.Info("the book is the same as before", "book", r.Book)
		return
	case r.Taken:
		d.log.Info("a book is in force", "book", r.Book)
	default:
		d.log.Error("a book was refused; the one before goes on", "why", words.UpTo(5, r.Why))
	}
	if err := d.Record(journal.Make(journal.Reload, journal.NewID(), r.At, "", "", "reload", r.appendJSON(nil))); err != nil {
		d.log.Error("a reload was not recorded", "error", err)
	}
	for _, room := range d.rooms {
		if r.Taken && room.Taken != nil {
			room.Taken(d.Book())
		}
	}
}

// result is the word for what became of the book.
func (r *Reloaded) result() string {
	switch {
	case r.Unchanged:
		return "unchanged"
	case r.Taken:
		return "taken"
	}
	return "refused"
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
