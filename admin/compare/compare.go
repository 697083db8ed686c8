// Package compare tells what changed between two books, in sentences, and what
// that loosens and tightens; and what it would have changed for a recorded history.
package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Effect is what a change may do to decisions. Nothing that is not told here can
// happen, but for one thing: that a rule which asks for nothing still asks for any
// one proof is taken for the mildest that there is.
type Effect uint8

// The effects. Of a change that is Either some decisions may become milder and
// some stricter.
const (
	Loosens Effect = 1 << iota
	Tightens
	Neither Effect = 0
	Either         = Loosens | Tightens
)

var effects = map[Effect]string{Neither: "neither", Loosens: "loosens", Tightens: "tightens", Either: "either"}

// Effects returns the words for the effects.
func Effects() []string { return []string{"loosens", "either", "tightens", "neither"} }

// String returns loosens, either, tightens or neither.
func (e Effect) String() string { return effects[e] }

// MarshalText writes String.
func (e Effect) MarshalText() ([]byte, error) { return []byte(e.String()), nil }

// weight orders effects: what loosens first, and what does nothing last.
func (e Effect) weight() int { return [...]int{Loosens: 0, Either: 1, Tightens: 2, Neither: 3}[e] }

// Report is what changed between two books.
type Report struct {
	// Old and New are the digests of the books.
	Old string `json:"old" doc:"the digest of the older book"`
	New string `json:"new" doc:"the digest of the newer book"`
	// Changed are the definitions that changed, what loosens first.
	Changed []Changed `json:"changed" doc:"the definitions that changed, what loosens first"`
	// Gates are those that HoldTo names.
	Gates []Gate `json:"gates,omitempty" doc:"the gates that the comparison is held to"`
	// History is nil where none was judged, and Shadow where the newer book has no
	// shadow policy either.
	History *History `json:"history,omitempty" doc:"what a history would have come to by the newer book instead of the older"`
	Shadow  *History `json:"shadow,omitempty" doc:"the same were the shadow policies of the newer book live"`

	// Exact is nil where it was not asked for.
	Exact *Exact `json:"exact,omitempty" doc:"all circumstances in which the books ask for something else"`

	// older and newer are the judges of the books, aligned is the older under the names of the newer, and shadowed
	// is the newer book with its shadow policies live, where it has any.
	older, newer, aligned *engine.Judge
	shadowed              *decide.Rulebook
	// samePlaces says that both books look addresses up in the same data, and sameDirectory that both list all accounts,
	// or neither does.
	samePlaces, sameDirectory bool
}

// Changed is a definition that is not the same in both books.
type Changed struct {
	// What is the kind of definition in the singular, such as policy.
	What string `json:"what" doc:"the kind of definition, such as policy"`
	Name string `json:"name" doc:"its name"`
	// Was is its name in the older book, "" where that is the same.
	Was     string             `json:"was,omitzero" doc:"its name in the older book; absent where it is the same"`
	Effect  Effect             `json:"effect" doc:"loosens, tightens, either, or neither"`
	At      condition.Position `json:"at" doc:"where it stands in the newer book, or stood in the older"`
	Changes []Change           `json:"changes" doc:"what changed, in sentences"`
}

// Title names the definition: "policy card-till".
func (c *Changed) Title() string { return strings.TrimSpace(c.What + " " + c.Name) }

// Change is one thing that changed.
type Change struct {
	Effect Effect `json:"effect" doc:"loosens, tightens, either, or neither"`
	Text   string `json:"text" doc:"the change in a sentence"`
}

// With counts the definitions with a change of that effect.
func (r *Report) With(e Effect) int {
	n := 0
	for _, c := range r.Changed {
		if c.Effect == e {
			n++
		}
	}
	return n
}

// Loosened reports whether some change loosens, or may. Where the exact comparison was made, it is that which
// says so of sign-ins.
func (r *Report) Loosened() bool {
	if r.Exact != nil {
		return r.Exact.Loosens() || len(r.loosenedBeside()) > 0
	}
	return r.With(Loosens)+r.With(Either) > 0
}

// The gates that a comparison can be held to.
const (
	// LoosenedGate is shut where some change loosens, or may.
	LoosenedGate = "loosened"
	// LockedOutGate is shut where by a history somebody is locked out.
	LockedOutGate = "locked-out"
)

// Gates returns the words for the gates.
func Gates() []string { return []string{LoosenedGate, LockedOutGate} }

// Gate is a gate that a comparison is held to.
type Gate struct {
	Name string `json:"name" doc:"loosened or locked-out"`
	// Shut is true too where the gate could not be judged.
	Shut bool `json:"shut" doc:"true where the comparison shuts it, and where it could not be judged"`
	// Unjudged says why the gate could not be judged, "" where it was.
	Unjudged string `json:"unjudged,omitzero" doc:"why the gate could not be judged; absent where it was"`
}

// HoldTo holds the report to gates, notes in it what became of each, and reports
// whether it shuts one. A gate that could not be judged, or that there is none of, is
// shut.
func (r *Report) HoldTo(gates []string) (shut bool) {
	r.Gates = nil
	for _, name := range gates {
		gate := r.hold(name)
		r.Gates = append(r.Gates, gate)
		shut = shut || gate.Shut
	}
	return shut
}

func (r *Report) hold(name string) Gate {
	gate := Gate{Name: name}
	switch {
	case name == LoosenedGate && r.Exact != nil && r.Exact.Open != "" && !r.Loosened():
		gate.Unjudged = "not all circumstances were settled: " + r.Exact.Open
	case name == LoosenedGate:
		gate.Shut = r.Loosened()
	case name != LockedOutGate:
		gate.Unjudged = "there is no gate of this name"
	case r.History == nil:
		gate.Unjudged = "it is judged by a history, and there is none"
	case r.History.Unjudged != "":
		gate.Unjudged = "nothing can be concluded from the history: " + r.History.Unjudged
	default:
		gate.Shut = r.History.LocksOut()
	}
	gate.Shut = gate.Shut || gate.Unjudged != ""
	return gate
}

// Unjudged reports whether a gate that the report is held to could not be judged.
func (r *Report) Unjudged() bool {
	return slices.ContainsFunc(r.Gates, func(g Gate) bool { return g.Unjudged != "" })
}

// Summary says in a sentence how many definitions changed, and with what effect.
func (r *Report) Summary() string {
	if r.Old == r.New {
		return "The books are the same."
	}
	parts := countEffects(r.With)
	if len(parts) == 0 {
		return "The books differ in comments, order or descriptions only."
	}
	return fmt.Sprintf("The books differ in %s: %s.", words.Count(len(r.Changed), "definition"), words.List(parts, "and"))
}

// countEffects says of each effect that there is how many have it.
func countEffects(with func(Effect) int) (parts []string) {
	for _, e := range []struct {
		effect Effect
		text   string
	}{{Loosens, "%d loosening"}, {Either, "%d that may do either"}, {Tightens, "%d tightening"}, {Neither, "%d without effect"}} {
		if n := with(e.effect); n > 0 {
			parts = append(parts, fmt.Sprintf(e.text, n))
		}
	}
	return parts
}

// view is one of the two books.
type view struct {
	book      *book.Book
	judge     *engine.Judge
	consent   *consent.Judge
	directory *engine.Directory
	crowd     *engine.Gathering
	policies  []decide.Policy
	// numbers find policies by name; apps and audiences are those of each.
	numbers   map[string]int
	apps      [][]int
	audiences []engine.Audience
	// exempt are those whom each exemption excuses.
	exempt []engine.Audience
	// covering are for each app the policies that surely speak there, in both books.
	covering [][]int
}

func newView(b *book.Book, at time.Time) (*view, error) {
	judge, consents, err := b.CompileBoth()
	if err != nil {
		return nil, err
	}
	v := &view{
		book:      b,
		judge:     judge,
		consent:   consents,
		directory: judge.Directory(),
		crowd:     judge.Directory().Gather(at),
		policies:  judge.Policies(),
		numbers:   map[string]int{},
	}
	for _, x := range judge.Exemptions() {
		v.exempt = append(v.exempt, v.crowd.Of(x.Who))
	}
	for i, p := range v.policies {
		v.numbers[p.Name] = i
		v.apps = append(v.apps, judge.Apps(i))
		v.audiences = append(v.audiences, judge.Audience(i, v.crowd))
	}
	return v, nil
}

// differ compares two books.
type differ struct {
	old, new *view
	// accounts and apps are those of both books, by their numbers in each.
	accounts, apps [][2]int
	// score reports whether that of an attempt may be higher or lower, and places
	// whether another country may be found for it.
	score, places direction
	assurances    map[string]Effect
	waives        waiving
	// uses tell what depends on what is named.
	uses map[definition]use
	// renamed are the older names of what is called otherwise in the newer book.
	renamed map[definition]string
	// suspected are told where nothing else accounts for them.
	suspected []suspicion
	out       []Changed
	current   *Changed
}

// Books tells what changed between two books. The moment matters to the accounts
// that a condition on the time since joining holds for. The error is that of
// compiling a book.
func Books(older, newer *book.Book, at time.Time) (*Report, error) {
	d := &differ{assurances: map[string]Effect{}, uses: map[definition]use{}, renamed: map[definition]string{}}
	var err error
	if d.old, err = newView(older, at); err != nil {
		return nil, err
	}
	if d.new, err = newView(newer, at); err != nil {
		return nil, err
	}
	olderJudge := d.old.judge
	if names := renamings(older, newer); len(names) > 0 {
		if d.old, err = newView(older.Renamed(names...), at); err != nil {
			return nil, err
		}
		for _, r := range names {
			d.renamed[definition{r.What, r.To}] = r.From
		}
	}
	for n := range d.new.directory.Accounts {
		if o, ok := d.old.directory.FindAccount(d.new.directory.Accounts[n].Name); ok {
			d.accounts = append(d.accounts, [2]int{o, n})
		}
	}
	for n, app := range d.new.directory.Apps {
		if o := slices.IndexFunc(d.old.directory.Apps, func(a directory.App) bool { return a.Name == app.Name }); o >= 0 {
			d.apps = append(d.apps, [2]int{o, n})
		}
	}
	if older.Digest != newer.Digest {
		d.old.findCovering(d.new)
		d.new.findCovering(d.old)
		d.findWaiving()
		d.places = d.relatePlaces()
		d.score = d.relateScores()
		d.compareAll()
	}
	r := &Report{
		Old:      older.Digest,
		New:      newer.Digest,
		Changed:  d.out,
		older:    olderJudge,
		newer:    d.new.judge,
		aligned:  d.old.judge,
		shadowed: withShadowsLive(newer.Rulebook()),

		samePlaces:    older.DatabaseDigest == newer.DatabaseDigest,
		sameDirectory: older.Settings.Directory == newer.Settings.Directory,
	}
	if r.Changed == nil {
		r.Changed = []Changed{}
	}
	slices.SortStableFunc(r.Changed, func(a, b Changed) int { return cmp.Compare(a.Effect.weight(), b.Effect.weight()) })
	return r, nil
}

func (d *differ) compareAll() {
	d.comparePolicies()
	d.compareExemptions()
	d.askAll()
	d.compareAssurances()
	d.compareRollouts()
	d.compareSettings()
	d.comparePlaces()
	d.compareTimes()
	d.comparePostures()
	d.compareRisk()
	d.compareMethods()
	d.compareAccounts()
	d.compareGroups()
	d.compareApps()
	d.compareDevices()
	d.compareConsent()
	d.compareRest()
	d.tellSuspected()
}

// about begins to report a definition, or goes on with one that was reported, and calls tell
// to do it. Where that finds no change, the definition is left out.
func (d *differ) about(what, name string, tell func()) {
	i := slices.IndexFunc(d.out, func(c Changed) bool { return c.What == what && c.Name == name })
	if i >= 0 {
		d.current = &d.out[i]
	} else {
		d.current = &Changed{What: what, Name: name, At: d.new.book.Where(what, name), Changes: []Change{}}
		if !d.current.At.IsValid() {
			d.current.At = d.old.book.Where(what, name)
		}
		if was := d.renamed[definition{what, name}]; was != "" {
			d.current.Was = was
			d.note(Neither, "it was called %s.", was)
		}
	}
	tell()
	slices.SortStableFunc(d.current.Changes, func(a, b Change) int { return cmp.Compare(a.Effect.weight(), b.Effect.weight()) })
	if i < 0 && len(d.current.Changes) > 0 {
		d.out = append(d.out, *d.current)
	}
}

// note adds a change of the definition that is reported.
func (d *differ) note(e Effect, format string, args ...any) {
	d.current.Effect |= e
	d.current.Changes = append(d.current.Changes, Change{e, capital(fmt.Sprintf(format, args...))})
}

// capital begins a sentence.
func capital(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// noteMove reports that something was one way and is another, unless it is the same.
func (d *differ) noteMove(e Effect, what, was, is string) {
	if was != is {
		d.note(e, "%s was %s and is %s.", what, cmp.Or(was, "not stated"), cmp.Or(is, "not stated"))
	}
}

// pair is a definition as both books have it; one of them may not.
type pair[T any] struct {
	name     string
	old, new *T
}

// pairs matches definitions by name, in the order of the newer book, those that
// are gone last.
func pairs[T any](old, new []T, name func(*T) string) []pair[T] {
	was := map[string]*T{}
	for i := range old {
		was[name(&old[i])] = &old[i]
	}
	var list []pair[T]
	for i := range new {
		n := name(&new[i])
		list = append(list, pair[T]{n, was[n], &new[i]})
		delete(was, n)
	}
	for i := range old {
		if n := name(&old[i]); was[n] != nil {
			list = append(list, pair[T]{n, was[n], nil})
		}
	}
	return list
}
