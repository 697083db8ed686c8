package compare

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"go4.org/netipx"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// direction tells how something of the newer book relates to that of the older:
// whether it holds, or reaches, further in some case, and less far in some. In the
// three values false is less than unknown, and unknown less than true.
type direction uint8

const (
	widens direction = 1 << iota
	narrows
	same direction = 0
	both           = widens | narrows
)

func (d direction) flip() direction { return d>>1 | d<<1&both }

// compareOrdered is widens where b is more than a.
func compareOrdered[T int | int64 | float64 | time.Duration | directory.Span](a, b T) direction {
	switch {
	case a < b:
		return widens
	case a > b:
		return narrows
	}
	return same
}

// compareSets is widens where b has what a has not.
func compareSets[T comparable](a, b []T) direction {
	var d direction
	if slices.ContainsFunc(b, func(x T) bool { return !slices.Contains(a, x) }) {
		d |= widens
	}
	if slices.ContainsFunc(a, func(x T) bool { return !slices.Contains(b, x) }) {
		d |= narrows
	}
	return d
}

// compareNamed is compareSets of names; those in both may have come to
// mean something else.
func compareNamed(a, b []string, means func(name string) direction) direction {
	d := compareSets(a, b)
	for _, name := range b {
		if slices.Contains(a, name) {
			d |= means(name)
		}
	}
	return d
}

// relate tells how a bound condition of the newer book relates to one of the older.
func (d *differ) relate(a, b condition.Node) direction {
	a, b = bare(a), bare(b)
	switch x := a.(type) {
	case *condition.Test:
		if y, ok := b.(*condition.Test); ok {
			return d.relateTests(x, y)
		}
	case *condition.Not:
		if y, ok := b.(*condition.Not); ok {
			return d.relate(x.Of, y.Of).flip()
		}
	}
	if isAll(a) || isAll(b) {
		// What must hold besides narrows, and what need not any more widens.
		return d.relateParts(conjuncts(a), conjuncts(b), widens, narrows)
	}
	return d.relateParts(alternatives(a), alternatives(b), narrows, widens)
}

func isAll(n condition.Node) bool {
	_, is := n.(*condition.All)
	return is
}

// bare takes a condition out of lists of one.
func bare(n condition.Node) condition.Node {
	switch x := n.(type) {
	case nil:
		return &condition.All{}
	case *condition.All:
		if len(x.Of) == 1 {
			return bare(x.Of[0])
		}
	case *condition.Any:
		if len(x.Of) == 1 {
			return bare(x.Of[0])
		}
	}
	return n
}

// conjuncts returns what must hold for a condition; anything but a list of that kind
// is its own one.
func conjuncts(n condition.Node) []condition.Node {
	if all, ok := n.(*condition.All); ok {
		return all.Of
	}
	return []condition.Node{n}
}

// alternatives returns the conditions under a condition; one of them must hold.
func alternatives(n condition.Node) []condition.Node {
	if any, ok := n.(*condition.Any); ok {
		return any.Of
	}
	return []condition.Node{n}
}

// relateParts matches the parts of two lists, alike ones first. It may match them in
// whatever way: that each part relates so is enough for the whole to relate so.
func (d *differ) relateParts(a, b []condition.Node, gone, fresh direction) direction {
	free := slices.Clone(b)
	var rest []condition.Node
	var all direction
	match := func(x condition.Node, like func(x, y condition.Node) bool) bool {
		i := slices.IndexFunc(free, func(y condition.Node) bool { return like(x, y) })
		if i < 0 {
			return false
		}
		all |= d.relate(x, free[i])
		free = slices.Delete(free, i, i+1)
		return true
	}
	for _, x := range a {
		if !match(x, func(x, y condition.Node) bool { return fingerprint(x) == fingerprint(y) }) {
			rest = append(rest, x)
		}
	}
	for _, x := range rest {
		if !match(x, alike) {
			all |= gone
		}
	}
	if len(free) > 0 {
		all |= fresh
	}
	return all
}

// alike reports whether two conditions are of one sort, so that they can be compared.
func alike(a, b condition.Node) bool {
	x, isTest := a.(*condition.Test)
	y, isTestToo := b.(*condition.Test)
	if isTest && isTestToo {
		return x.Key == y.Key && x.Attribute == y.Attribute
	}
	return reflect.TypeOf(a) == reflect.TypeOf(b)
}

// fingerprint is what the book says, whatever the names in it stand for.
func fingerprint(n condition.Node) string {
	switch x := bare(n).(type) {
	case *condition.All:
		return "all" + fingerprints(x.Of)
	case *condition.Any:
		return "any" + fingerprints(x.Of)
	case *condition.Not:
		return "not(" + fingerprint(x.Of) + ")"
	case *condition.Test:
		return fmt.Sprintf("%s %s %q", x.Key, x.Attribute, slices.Sorted(slices.Values(x.Values)))
	}
	return ""
}

func fingerprints(nodes []condition.Node) string {
	var list []string
	for _, n := range nodes {
		list = append(list, fingerprint(n))
	}
	slices.Sort(list)
	return "(" + strings.Join(list, ",") + ")"
}

// relateTests compares two tests by what they stand for.
func (d *differ) relateTests(a, b *condition.Test) direction {
	if a.Key != b.Key || a.Attribute != b.Attribute {
		return both
	}
	if a.Key.Shape() == condition.Flag && a.Values[0] != b.Values[0] {
		return both
	}
	switch a.Key.Definition().Meaning {
	case condition.MeansAccounts:
		moved := d.relateAccounts(d.old.crowd.Of(a), d.new.crowd.Of(b))
		if a.Key.Shape() == condition.Length {
			moved |= compareOrdered(a.Limit(), b.Limit())
		}
		return moved
	case condition.MeansApps:
		return d.relateApps(a, b)
	case condition.MeansAddresses:
		return compareRanges(d.old.ranges(a.Values), d.new.ranges(b.Values))
	case condition.MeansOwnAddresses:
		ours := compareRanges(d.old.rangesThat(isOurs), d.new.rangesThat(isOurs))
		if a.Values[0] == "false" {
			return ours.flip()
		}
		return ours
	case condition.MeansCountries:
		return compareSets(d.old.countries(a.Values), d.new.countries(b.Values)) | d.places
	case condition.MeansDefinitions:
		return compareNamed(a.Values, b.Values, d.definition(a.Key.Definition().Names))
	case condition.MeansLevel:
		bar := func(v *view, t *condition.Test) int { return v.judge.Risk().Levels.From(directory.Level(t.Limit())) }
		return compareOrdered(bar(d.old, a), bar(d.new, b)).flip() | d.score
	case condition.MeansScore:
		return compareOrdered(a.Limit(), b.Limit()).flip() | d.score
	case condition.MeansClientFlag:
		return d.clients()
	case condition.MeansClients:
		return compareSets(a.Values, b.Values) | d.clients()
	case condition.MeansScopes:
		if !sameTiers(d.old.book.Scopes, d.new.book.Scopes) {
			return both
		}
		return compareSets(a.Values, b.Values)
	case condition.MeansWords:
		return compareSets(a.Values, b.Values)
	}
	return both
}

// definition returns how definitions of a kind are compared; those of a kind that is
// not may have moved either way.
func (d *differ) definition(kind string) func(name string) direction {
	switch kind {
	case "window":
		return d.window
	case "posture":
		return d.posture
	case "signal":
		return d.signal
	case "assurance":
		return func(name string) direction { return direction(d.assurance(name)) }
	}
	return func(string) direction { return both }
}

// relateAccounts compares two audiences by the accounts of both books.
func (d *differ) relateAccounts(a, b engine.Audience) direction {
	var all direction
	for _, n := range d.accounts {
		all |= compareOrdered(int(a.Holds(n[0])), int(b.Holds(n[1])))
	}
	return all
}

// relateApps compares two conditions on apps by the apps of both books.
func (d *differ) relateApps(a, b condition.Node) direction {
	var all direction
	for _, n := range d.apps {
		was := condition.Eval(a, d.old.directory.FactsOfApp(n[0]))
		is := condition.Eval(b, d.new.directory.FactsOfApp(n[1]))
		all |= compareOrdered(int(was), int(is))
	}
	return all
}

// ranges returns the addresses that names of networks, and literals, stand for.
func (v *view) ranges(names []string) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, name := range names {
		if r, err := directory.ParseRange(name); err == nil { // no network is named like one
			b.AddRange(netipx.IPRangeFrom(r.From, r.To))
		}
	}
	b.AddSet(v.rangesThat(func(n directory.Network) bool { return slices.Contains(names, n.Name) }))
	return settled(&b)
}

// rangesThat returns the addresses of the networks for which something holds.
func (v *view) rangesThat(holds func(directory.Network) bool) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, n := range v.book.Networks {
		if !holds(n) {
			continue
		}
		for _, r := range n.Ranges {
			b.AddRange(netipx.IPRangeFrom(r.From, r.To))
		}
	}
	return settled(&b)
}

func isOurs(n directory.Network) bool      { return n.Ours }
func isAnonymous(n directory.Network) bool { return n.Anonymous }

// settled is the set that a builder made; ranges that were read make no error.
func settled(b *netipx.IPSetBuilder) *netipx.IPSet {
	set, err := b.IPSet()
	if err != nil {
		return new(netipx.IPSet)
	}
	return set
}

// compareRanges is widens where b has addresses that a has not.
func compareRanges(a, b *netipx.IPSet) direction {
	var d direction
	if len(without(b, a)) > 0 {
		d |= widens
	}
	if len(without(a, b)) > 0 {
		d |= narrows
	}
	return d
}

// without returns what a has and b has not.
func without(a, b *netipx.IPSet) []netipx.IPRange {
	var builder netipx.IPSetBuilder
	builder.AddSet(a)
	builder.RemoveSet(b)
	return settled(&builder).Ranges()
}

// countries returns the codes that codes and names of regions stand for.
func (v *view) countries(names []string) []directory.Country {
	var codes []directory.Country
	for _, name := range names {
		i := slices.IndexFunc(v.book.Regions, func(r directory.Region) bool { return r.Name == name })
		if i < 0 {
			codes = append(codes, directory.Country(name))
		} else {
			codes = append(codes, v.book.Regions[i].Countries...)
		}
	}
	return codes
}

// relatePlaces is both where another country, or location, may be found for an
// attempt than before.
func (d *differ) relatePlaces() direction {
	type stated struct {
		directory.Range
		directory.Country
	}
	stating := func(v *view) (all []stated) {
		for _, n := range v.book.Networks {
			for _, r := range n.Ranges {
				if n.Country != "" {
					all = append(all, stated{r, n.Country})
				}
			}
		}
		return all
	}
	if d.old.book.DatabaseDigest != d.new.book.DatabaseDigest || compareSets(stating(d.old), stating(d.new)) != same {
		return both
	}
	return same
}

// find returns the definition of a name in both books, nil where one has none.
func find[T any](old, new []T, is func(*T) bool) (was, now *T) {
	one := func(list []T) *T {
		for i := range list {
			if is(&list[i]) {
				return &list[i]
			}
		}
		return nil
	}
	return one(old), one(new)
}

// posture compares a posture: a device passes fewer checks where there are more.
// Where a report may grow older or not so old, one that failed may become none.
func (d *differ) posture(name string) direction {
	was, is := find(d.old.book.Postures, d.new.book.Postures, func(p *directory.Posture) bool { return p.Name == name })
	if was == nil || is == nil || was.Fresh != is.Fresh {
		return both
	}
	var all direction
	for _, c := range matchChecks(was.Checks, is.Checks) {
		all |= c.relation()
	}
	return all
}

// signal compares a signal by when it holds.
func (d *differ) signal(name string) direction {
	model := func(v *view) []risk.Signal { return v.judge.Risk().Signals }
	was, is := find(model(d.old), model(d.new), func(s *risk.Signal) bool { return s.Name == name })
	if was == nil || is == nil || was.Detect != is.Detect || (was.When == nil) != (is.When == nil) {
		return both
	}
	all := compareOrdered(was.FasterThan, is.FasterThan).flip() | compareOrdered(was.Failures, is.Failures).flip() |
		compareOrdered(was.Within, is.Within) | compareOrdered(was.After, is.After).flip()
	switch was.Detect {
	case risk.Travel, risk.CountryChange:
		all |= d.places
	case risk.AnonymousNetwork:
		all |= compareRanges(d.old.rangesThat(isAnonymous), d.new.rangesThat(isAnonymous))
	case risk.NewDevice:
		if !sameDevices(d.old.book.Devices, d.new.book.Devices) {
			all |= both
		}
	}
	if was.When != nil {
		all |= d.relate(d.old.signalCondition(name), d.new.signalCondition(name))
	}
	return all
}

// signalCondition returns the bound condition of a signal that has one.
func (v *view) signalCondition(name string) condition.Node {
	signals := v.judge.Risk().Signals
	return signals[slices.IndexFunc(signals, func(s risk.Signal) bool { return s.Name == name })].When
}

// relateScores reports whether the score of the same attempt may be higher or lower.
func (d *differ) relateScores() direction {
	var all direction
	for _, p := range pairs(d.old.judge.Risk().Signals, d.new.judge.Risk().Signals, func(s *risk.Signal) string { return s.Name }) {
		switch {
		case p.old == nil:
			all |= widens
		case p.new == nil:
			all |= narrows
		default:
			all |= compareOrdered(p.old.Points, p.new.Points) | d.signal(p.name)
		}
	}
	return all
}

// clients is both where the outside programs are not the same.
func (d *differ) clients() direction {
	if !reflect.DeepEqual(clientFacts(d.old), clientFacts(d.new)) {
		return both
	}
	return same
}

// eased reports whether a rollout eases an assurance in one of the books. What is
// eased may vanish where an account has nothing to meet it with, so that less can
// be more.
func (d *differ) eased(name string) bool {
	return slices.ContainsFunc(
		slices.Concat(d.old.book.Rollouts, d.new.book.Rollouts),
		func(r decide.Rollout) bool { return slices.Contains(r.Eases, name) },
	)
}

// assurance tells what became of an assurance: tightens where it asks for more.
func (d *differ) assurance(name string) Effect {
	if e, known := d.assurances[name]; known {
		return e
	}
	was, is := d.old.judge.FindAssurance(name), d.new.judge.FindAssurance(name)
	e := Either
	if was != nil && is != nil {
		e = d.relateAssurances(was, is)
		if e != Neither {
			e |= d.amongWays(name)
		}
		if e != Neither && d.eased(name) {
			e = Either
		}
	}
	d.assurances[name] = e
	return e
}

func (d *differ) relateAssurances(a, b *decide.Assurance) Effect {
	var e Effect
	asks := func(a, b bool) {
		if a && !b {
			e |= Loosens
		}
		if b && !a {
			e |= Tightens
		}
	}
	asks(a.ChangePassword, b.ChangePassword)
	asks(a.Consent, b.Consent)
	asksNamed := func(a, b string, means func(string) direction) {
		asks(a != "", b != "")
		switch {
		case a == "" || b == "":
		case a != b:
			e |= Either
		default:
			e |= Effect(means(a))
		}
	}
	asksNamed(a.Posture, b.Posture, d.posture)
	asksNamed(a.External, b.External, func(string) direction { return same })
	asks(a.Accept != nil, b.Accept != nil)
	if a.Accept != nil && b.Accept != nil {
		if a.Accept.Document != b.Accept.Document || (a.Accept.Every == 0) != (b.Accept.Every == 0) {
			e |= Either
		}
		e |= Effect(compareOrdered(a.Accept.Version, b.Accept.Version).flip() | compareOrdered(a.Accept.Every, b.Accept.Every))
	}
	asks(len(a.Enrol) > 0, len(b.Enrol) > 0)
	if len(a.Enrol) > 0 && len(b.Enrol) > 0 {
		e |= Effect(compareSets(a.Enrol, b.Enrol))
	}
	// Each thing to be proven is held against that of the same place in the list.
	for i := range max(len(a.Prove), len(b.Prove)) {
		switch {
		case i >= len(a.Prove):
			e |= Tightens
		case i >= len(b.Prove):
			e |= Loosens
		default:
			e |= d.relateProofs(a.Name, &a.Prove[i], &b.Prove[i])
		}
	}
	return e
}

// relateProofs compares what is to be proven for an assurance: what takes more loosens.
func (d *differ) relateProofs(assurance string, a, b *decide.Prove) Effect {
	names := func(v *view, p *decide.Prove) (preferred, fallback []string, all [2]engine.MethodSet) {
		m, f := v.judge.Methods(p.AnyOf, p.Traits, p.Fallback)
		return v.judge.MethodNames(m), v.judge.MethodNames(f), [2]engine.MethodSet{m, m | f}
	}
	was, wasFallback, wasAll := names(d.old, a)
	is, isFallback, isAll := names(d.new, b)
	methods, fallback := compareSets(was, is), compareSets(wasFallback, isFallback)
	if methods != same && len(wasFallback)+len(isFallback) > 0 {
		methods = both // fallbacks count where an account has none of the methods
	}
	methods |= d.waivedOtherwise(assurance, wasAll[1], isAll[1]) | d.recoverOtherwise(assurance, wasAll[0], isAll[0])
	// In this very attempt is stricter than any span, and a whole session milder.
	age := func(w decide.Within) int64 {
		switch w {
		case decide.Now:
			return 0
		case decide.Session:
			return 1<<63 - 1
		}
		return int64(w)
	}
	return Effect(methods | fallback | compareOrdered(age(a.Within), age(b.Within)) | compareOrdered(a.Remember, b.Remember))
}
