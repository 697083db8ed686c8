package compare

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

func (d *differ) compareMethods() {
	for _, p := range pairs(d.old.book.Methods, d.new.book.Methods, func(m *directory.Method) string { return m.Name }) {
		d.about("method", p.name, func() {
			switch {
			case d.old.method(p.name) == nil:
				d.note(Either, "it is new: %s.", methodWords(p.new))
			case d.new.method(p.name) == nil:
				d.note(Either, "it is gone; it was %s.", methodWords(p.old))
			default:
				was, is := d.old.method(p.name), d.new.method(p.name)
				if before, after := fingerprint(was.BarredFor), fingerprint(is.BarredFor); (was.BarredFor == nil) != (is.BarredFor == nil) ||
					before != after {
					d.note(d.barring(was.BarredFor, is.BarredFor, p.name), "it was barred for %s and is for %s.", inForceFor(was.BarredFor),
						inForceFor(is.BarredFor))
				}
				if was.Kind != is.Kind {
					d.note(Either, "its kind was %s and is %s.", was.Kind, is.Kind)
				}
				for _, list := range []struct {
					what    string
					was, is []string
				}{{"traits", wordsOf(was.Traits), wordsOf(is.Traits)}, {"amr values", was.AMR, is.AMR}} {
					if !sameSet(list.was, list.is) {
						d.note(Either, "its %s were %s and are %s.", list.what, words.List(list.was, "and"), words.List(list.is, "and"))
					}
				}
			}
		})
	}
}

// method returns a method as it counts: what a book does not say of one is as it is built in.
func (v *view) method(name string) *directory.Method {
	methods := directory.Catalogue(v.book.Methods)
	i := slices.IndexFunc(methods, func(m directory.Method) bool { return m.Name == name })
	if i < 0 {
		return nil
	}
	return &methods[i]
}

func methodWords(m *directory.Method) string {
	text := m.Kind.String()
	if len(m.Traits) > 0 {
		text += ", " + words.List(wordsOf(m.Traits), "and")
	}
	if m.BarredFor != nil {
		text += ", barred for " + describe.People(m.BarredFor)
	}
	return text
}

// compareAccounts reports accounts together, since there may be many: one sentence for all
// with whom the same happened.
func (d *differ) compareAccounts() {
	d.about("accounts", "", func() {
		l := &groupedChanges{}
		for _, p := range pairs(d.old.directory.Accounts, d.new.directory.Accounts, func(a *directory.Account) string { return a.Name }) {
			switch {
			case p.old == nil && !p.new.Disabled:
				l.add(Loosens, "{who} {is} new, and can sign on", p.name)
			case p.old == nil:
				l.add(Neither, "{who} {is} new, and disabled", p.name)
			case p.new == nil:
				l.add(Tightens, "{who} {is} gone, and cannot sign on", p.name)
			default:
				d.compareAccount(l, p.old, p.new)
			}
		}
		d.noteAll(l, "account")
	})
}

// noteAll tells what happened to accounts or devices.
func (d *differ) noteAll(l *groupedChanges, noun string) {
	for _, c := range l.list {
		slices.Sort(c.names)
		verb := map[bool]string{true: "is", false: "are"}[len(c.names) == 1]
		text := strings.NewReplacer("{who}", words.Count(len(c.names), noun), "{is}", verb).Replace(c.text)
		d.note(c.effect, "%s: %s.", text, words.UpTo(mostNames, c.names))
	}
}

// groupedChanges are what happened to accounts, or to devices, each with those to which it did.
type groupedChanges struct{ list []groupedChange }

type groupedChange struct {
	effect Effect
	text   string
	names  []string
}

// add notes that something happened to an account. The text has {who} for how many accounts
// it happened to, and {is} for the verb.
func (l *groupedChanges) add(e Effect, text, name string) {
	i := slices.IndexFunc(l.list, func(c groupedChange) bool { return c.text == text && c.effect == e })
	if i < 0 {
		i = len(l.list)
		l.list = append(l.list, groupedChange{effect: e, text: text})
	}
	l.list[i].names = append(l.list[i].names, name)
}

func (d *differ) compareAccount(l *groupedChanges, was, is *directory.Account) {
	name := is.Name
	move := func(e Effect, what, before, after string) {
		if before != after {
			l.add(e, what+" of {who} was "+cmp.Or(before, "not stated")+" and is "+cmp.Or(after, "not stated"), name)
		}
	}
	switch {
	case is.Disabled && !was.Disabled:
		l.add(Tightens, "{who} {is} disabled", name)
	case was.Disabled && !is.Disabled:
		l.add(Loosens, "{who} {is} not disabled any more", name)
	}
	o, _ := d.old.directory.FindAccount(name)
	n, _ := d.new.directory.FindAccount(name)
	moreFewer := func(what string, before, after []string) {
		if more := except(after, before); len(more) > 0 {
			l.add(d.methodsChanged(o, n), "{who} {is} "+what+" "+words.List(more, "and")+" besides", name)
		}
		if fewer := except(before, after); len(fewer) > 0 {
			l.add(d.methodsChanged(o, n), "{who} {is} not "+what+" "+words.List(fewer, "and")+" any more", name)
		}
	}
	moreFewer("enrolled with", was.Methods, is.Methods)
	barred := func(v *view, account int) []string {
		return v.judge.MethodNames(v.directory.Profile(account).Barred())
	}
	moreFewer("barred from", barred(d.old, o), barred(d.new, n))
	perhaps := func(v *view, account int) []string {
		return v.judge.MethodNames(v.directory.Profile(account).PerhapsBarred())
	}
	moreFewer("perhaps barred from", perhaps(d.old, o), perhaps(d.new, n))
	if !sameSet(was.Groups, is.Groups) {
		l.add(Neither, "{who} {is} in other groups, which is told with the policies and apps that it touches", name)
	}
	move(Either, "the kind", was.Kind.String(), is.Kind.String())
	move(Either, "the day of joining", dateWords(was.Joined), dateWords(is.Joined))
	move(Either, "the standing risk", riskWords(was.AccountRisk), riskWords(is.AccountRisk))
	move(Either, "the last change of the password", timeWords(was.PasswordChangedAt), timeWords(is.PasswordChangedAt))
	move(Either, "the first time that a rollout asked", timeWords(was.AskedAt), timeWords(is.AskedAt))
	eachFact(was.Attributes, is.Attributes, func(name, before, after string) { move(Neither, "the attribute "+name, before, after) })
}

// eachFact visits what two mappings from names to values have, in order; "" is not stated.
func eachFact(was, is map[string]attempt.Scalar, visit func(name, before, after string)) {
	stated := func(facts map[string]attempt.Scalar, name string) string {
		if value, has := facts[name]; has {
			return value.String()
		}
		return ""
	}
	names := slices.Sorted(maps.Keys(was))
	for _, name := range slices.Sorted(maps.Keys(is)) {
		if _, had := was[name]; !had {
			names = append(names, name)
		}
	}
	for _, name := range names {
		visit(name, stated(was, name), stated(is, name))
	}
}

func riskWords(r *directory.AccountRisk) string {
	if r == nil {
		return ""
	}
	text := r.Level.String()
	if r.Because != "" {
		text += " because of " + r.Because
	}
	if r.Since != nil {
		text += " since " + timeWords(r.Since)
	}
	return text
}

func timeWords(at *time.Time) string {
	if at == nil {
		return ""
	}
	return at.Format(time.RFC3339)
}

// barring tells what it does that a method is barred for others: what it does to each of them.
func (d *differ) barring(was, is condition.Node, method string) (e Effect) {
	if joins(was) || joins(is) {
		return Either // for whom it is changes with time
	}
	// A method is barred, or may be where a fact is missing.
	stands := func(v *view, account int) [2]bool {
		p := v.directory.Profile(account)
		has := func(set engine.MethodSet) bool { return slices.Contains(v.judge.MethodNames(set), method) }
		return [2]bool{has(p.Barred()), has(p.PerhapsBarred())}
	}
	for _, n := range d.accounts {
		if stands(d.old, n[0]) != stands(d.new, n[1]) {
			e |= d.methodsChanged(n[0], n[1])
		}
	}
	return e
}

func wordsOf[T fmt.Stringer](list []T) (words []string) {
	for _, x := range list {
		words = append(words, x.String())
	}
	return words
}

func sameSet(a, b []string) bool { return compareSets(a, b) == same }

func (d *differ) compareGroups() {
	for _, p := range pairs(d.old.directory.Groups, d.new.directory.Groups, func(g *directory.Group) string { return g.Name }) {
		d.about("group", p.name, func() {
			members := func(v *view) engine.Audience {
				i := slices.IndexFunc(v.directory.Groups, func(g directory.Group) bool { return g.Name == p.name })
				if i < 0 {
					return v.crowd.Nobody()
				}
				return v.crowd.InGroup(i)
			}
			before, after := members(d.old), members(d.new)
			switch {
			case p.old == nil:
				d.note(Neither, "it is new, with %s.", d.otherAccounts(before, after))
			case p.new == nil:
				d.note(Neither, "it is gone, with %s.", d.otherAccounts(before, after))
			default:
				if !sameSet(p.old.Owners, p.new.Owners) {
					d.note(
						Either,
						"its owners were %s and are %s, and rules on consent may ask who owns it.",
						ownerWords(p.old),
						ownerWords(p.new),
					)
				}
				switch where := groupWhere(p.old) != groupWhere(p.new); {
				case d.relateAccounts(before, after) != same:
					d.note(Neither, "it has %s, which is told with the policies and apps that it touches.", d.otherAccounts(before, after))
				case where:
					d.note(Neither, "its condition was %s and is %s; its members are the same today.", groupWhere(p.old), groupWhere(p.new))
				case !sameSet(p.old.Members, p.new.Members) || !sameSet(p.old.Includes, p.new.Includes):
					d.note(Neither, "its members are written otherwise, and are the same.")
				}
			}
		})
	}
}

// groupWhere words the condition that makes accounts members of a group.
func groupWhere(g *directory.Group) string {
	if g.Where == nil {
		return "none"
	}
	return describe.People(g.Where)
}

func ownerWords(g *directory.Group) string {
	if len(g.Owners) == 0 {
		return "nobody"
	}
	return words.List(g.Owners, "and")
}

func (d *differ) compareApps() {
	numbers := map[string][2]int{}
	for _, n := range d.apps {
		numbers[d.new.directory.Apps[n[1]].Name] = n
	}
	for _, p := range pairs(d.old.directory.Apps, d.new.directory.Apps, func(a *directory.App) string { return a.Name }) {
		d.about("app", p.name, func() {
			routes := d.routes(p.old, p.new)
			switch {
			case p.old == nil && len(routes) == 0:
				d.note(Loosens, "it is new.")
			case p.old == nil:
				d.note(Either, "it is new, and takes over what was another's: %s.", words.List(routes, "and"))
			case p.new == nil && len(routes) == 0:
				d.note(Tightens, "it is gone; nobody can open it any more.")
			case p.new == nil:
				d.note(Either, "it is gone, and others take over what was its: %s.", words.List(routes, "and"))
			default:
				d.compareApp(numbers[p.name], p.old, p.new)
			}
		})
	}
}

// identifiers returns all by which an app is found, in either book.
func identifiers(was, is *directory.App) []string {
	var all []string
	for _, app := range []*directory.App{was, is} {
		if app != nil {
			all = append(append(append(all, app.Name), app.KnownAs...), app.Hosts...)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// addressOf is an identifier, or an address that fits a pattern.
func addressOf(identifier string) string {
	if rest, ok := strings.CutPrefix(identifier, "*."); ok {
		identifier = "compared." + rest
	}
	if rest, ok := strings.CutSuffix(identifier, "/*"); ok {
		identifier = rest + "/compared"
	}
	return identifier
}

// foundBy returns the app that an identifier, or an address that a pattern fits, is of in
// the older and in the newer book; "" for none.
func (d *differ) foundBy(identifier string) (was, is string) {
	address := addressOf(identifier)
	name := func(e *engine.Directory) string {
		if n, ok := e.FindApp(address); ok {
			return e.Apps[n].Name
		}
		return ""
	}
	return name(d.old.directory), name(d.new.directory)
}

// routes says which identifiers of an app are of another app in the other book: what comes
// in by them is judged as that one's, which may be milder.
func (d *differ) routes(was, is *directory.App) []string {
	var routes []string
	for _, identifier := range identifiers(was, is) {
		if before, after := d.foundBy(identifier); before != after && before != "" && after != "" {
			routes = append(routes, fmt.Sprintf("%s was of %s and is of %s", identifier, before, after))
		}
	}
	return routes
}

// compareRoutes notes by which identifiers an app that stays is found, and is not any more.
func (d *differ) compareRoutes(was, is *directory.App) {
	for _, identifier := range identifiers(was, is) {
		switch before, after := d.foundBy(identifier); {
		case before == after:
		case before == "":
			d.note(Loosens, "what comes in by %s was of no app, and is of %s.", identifier, after)
		case after == "":
			d.note(Tightens, "what comes in by %s was of %s, and is of no app.", identifier, before)
		default:
			d.note(Either, "what comes in by %s was of %s, and is of %s.", identifier, before, after)
		}
	}
	if len(d.current.Changes) == 0 && (!sameSet(was.KnownAs, is.KnownAs) || !sameSet(was.Hosts, is.Hosts)) {
		d.note(Neither, "its identifiers and hosts are written otherwise, and find the same.")
	}
}

func (d *differ) compareApp(numbers [2]int, was, is *directory.App) {
	var gained, lost []string
	var dir direction
	accounts := d.accounts
	if was.OpenTo == nil && is.OpenTo == nil {
		accounts = nil // it is open to all
	}
	for _, n := range accounts {
		before, after := d.old.directory.IsOpenTo(
			numbers[0],
			d.old.directory.Profile(n[0]),
		), d.new.directory.IsOpenTo(
			numbers[1],
			d.new.directory.Profile(n[1]),
		)
		switch {
		case after && !before:
			gained = append(gained, d.new.directory.Accounts[n[1]].Name)
			dir |= widens
		case before && !after:
			lost = append(lost, d.new.directory.Accounts[n[1]].Name)
			dir |= narrows
		}
	}
	if len(gained) > 0 {
		d.note(Loosens, "it is open to %s more: %s.", words.Count(len(gained), "account"), words.UpTo(mostNames, gained))
	}
	if len(lost) > 0 {
		d.note(Tightens, "it is not open any more to %s: %s.", words.Count(len(lost), "account"), words.UpTo(mostNames, lost))
	}
	if !sameSet(was.OpenTo, is.OpenTo) && dir == same {
		d.note(
			Neither,
			"it was open to %s and is to %s, which are the same accounts.",
			words.List(was.OpenTo, "and"),
			words.List(is.OpenTo, "and"),
		)
	}
	if was.Public != is.Public {
		d.note(
			map[bool]Effect{true: Loosens, false: Tightens}[is.Public],
			"%s.",
			map[bool]string{
				true:  "it is public now: where no policy asks for anything, it opens without any proof",
				false: "it is not public any more",
			}[is.Public],
		)
	}
	if !sameSet(was.Tags, is.Tags) {
		d.note(
			Neither,
			"its tags were %s and are %s; what that does is told with the policies.",
			words.List(was.Tags, "and"),
			words.List(is.Tags, "and"),
		)
	}
	d.compareRoutes(was, is)
	if !reflect.DeepEqual(was.Limits, is.Limits) {
		d.note(
			relateLimits(was.Limits, is.Limits),
			"the limits of its sessions were %s and are %s.",
			limitWords(was.Limits),
			limitWords(is.Limits),
		)
	}
}
