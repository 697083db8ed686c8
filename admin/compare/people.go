package compare

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
	"github.com/briskwarden/briskwarden/internal/inside"
	"github.com/briskwarden/briskwarden/internal/words"
)

func (d *differ) compareMethods() {
	for _, p := range pairs(d.old.book.Methods, d.new.book.Methods, func(m *directory.Method) string { return m.Name }) {
		d.about("method", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Either, "it is defined again.")
			case p.new == nil:
				d.note(Either, "it is not defined any more, or as it is built in.")
			default:
				was, is := *p.old, *p.new
				if before, after := fingerprint(was.BarredFor), fingerprint(is.BarredFor); (was.BarredFor == nil) != (is.BarredFor == nil) ||
					before != after {
					d.note(Either, "it is barred for other accounts.")
				}
				was.BarredFor, is.BarredFor = nil, nil
				if !reflect.DeepEqual(was, is) {
					d.note(Either, "its kind, traits or amr values changed.")
				}
			}
		})
	}
}

// compareAccounts reports accounts together, since there may be many.
func (d *differ) compareAccounts() {
	d.about("accounts", "", func() {
		list := map[string][]string{}
		add := func(what, name string) { list[what] = append(list[what], name) }
		for _, p := range pairs(d.old.directory.Accounts, d.new.directory.Accounts, func(a *directory.Account) string { return a.Name }) {
			switch {
			case p.old == nil && !p.new.Disabled:
				add("new", p.name)
			case p.old == nil:
			case p.new == nil:
				add("gone", p.name)
			default:
				if p.old.Disabled != p.new.Disabled {
					add(map[bool]string{true: "disabled", false: "enabled"}[p.new.Disabled], p.name)
				}
				if !sameSet(p.old.Methods, p.new.Methods) {
					add("methods", p.name)
				}
				if d.barredOtherwise(p.name) {
					add("barred", p.name)
				}
				if !sameSet(p.old.Groups, p.new.Groups) {
					add("groups", p.name)
				}
				if !sameFacts(p.old, p.new) {
					add("facts", p.name)
				}
			}
		}
		for _, told := range []struct {
			key, text string
			effect    Effect
		}{
			{"new", "%s new, and can sign on: %s.", Loosens}, {"enabled", "%s not disabled any more: %s.", Loosens},
			{"methods", "%s enrolled with other methods: %s.", Either},
			{"barred", "%s barred from other methods: %s.", Either},
			{"facts", "%s known with other facts, such as kind, joining, risk or attributes: %s.", Either},
			{"gone", "%s gone, and cannot sign on: %s.", Tightens}, {"disabled", "%s disabled: %s.", Tightens},
			{"groups", "%s in other groups, which is told with the policies and apps that it touches: %s.", Neither},
		} {
			if names := list[told.key]; len(names) > 0 {
				slices.Sort(names)
				verb := map[bool]string{true: " is", false: " are"}[len(names) == 1]
				d.note(told.effect, told.text, words.Count(len(names), "account")+verb, words.UpTo(mostNames, names))
			}
		}
	})
}

// barredOtherwise reports whether other methods count for nothing with an account.
func (d *differ) barredOtherwise(name string) bool {
	barred := func(v *view) []string {
		n, _ := v.directory.FindAccount(name)
		return inside.Of(v.judge).MethodNames(v.directory.Profile(n).Barred())
	}
	return !slices.Equal(barred(d.old), barred(d.new))
}

func sameSet(a, b []string) bool { return compareSets(a, b) == same }

// sameFacts compares what decisions depend on beside methods and groups.
func sameFacts(a, b *directory.Account) bool {
	x, y := *a, *b
	for _, one := range []*directory.Account{&x, &y} {
		one.Methods, one.Groups, one.Disabled = nil, nil, false
	}
	return reflect.DeepEqual(x, y)
}

func (d *differ) compareGroups() {
	for _, p := range pairs(d.old.directory.Groups, d.new.directory.Groups, func(g *directory.Group) string { return g.Name }) {
		d.about("group", p.name, func() {
			members := func(v *view) facts.Audience {
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
				if d.relateAccounts(before, after) != same {
					d.note(Neither, "it has %s, which is told with the policies and apps that it touches.", d.otherAccounts(before, after))
				}
			}
		})
	}
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

// foundBy returns the app that an identifier, or an address that a pattern fits, is of in
// the older and in the newer book; "" for none.
func (d *differ) foundBy(identifier string) (was, is string) {
	address := identifier
	if rest, ok := strings.CutPrefix(address, "*."); ok {
		address = "compared." + rest
	}
	if rest, ok := strings.CutSuffix(address, "/*"); ok {
		address = rest + "/compared"
	}
	name := func(e *facts.Directory) string {
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
			map[bool]string{true: "it is public now, and opens without any proof", false: "it is not public any more"}[is.Public],
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

func (d *differ) compareDevices() {
	d.about("devices", "", func() {
		var fresh, gone, other []string
		for _, p := range pairs(d.old.book.Devices, d.new.book.Devices, func(v *directory.Device) string { return v.Name }) {
			switch {
			case p.old == nil:
				fresh = append(fresh, p.name)
			case p.new == nil:
				gone = append(gone, p.name)
			case !reflect.DeepEqual(p.old, p.new):
				other = append(other, p.name)
			}
		}
		for _, told := range []struct {
			names []string
			text  string
		}{{fresh, "%s known besides: %s."}, {gone, "%s not known any more: %s."}, {other, "%s known with other facts: %s."}} {
			if len(told.names) > 0 {
				verb := map[bool]string{true: " is", false: " are"}[len(told.names) == 1]
				d.note(Either, told.text, words.Count(len(told.names), "device")+verb, words.UpTo(mostNames, told.names))
			}
		}
	})
}
