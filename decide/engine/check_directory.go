package engine

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// reporter collects problems for those who check definitions: each of its methods
// hands one to Report.
type reporter struct {
	Report func(directory.Problem)
}

// wrong reports what is wrong with a definition.
func (c reporter) wrong(what, name string, at condition.Position, format string, args ...any) {
	c.Report(directory.Problem{What: what, Name: name, At: at, Text: fmt.Sprintf(format, args...)})
}

// refer reports a name in a definition that nothing defines.
func (c reporter) refer(what, name string, at condition.Position, kind, missing string) {
	c.Report(
		directory.Problem{
			What:      what,
			Name:      name,
			At:        at,
			Text:      fmt.Sprintf("%s %s: %s %q is not defined", what, name, kind, missing),
			AboutName: true,
		},
	)
}

// named reports definitions without a usable name, and names that stand twice. It
// returns the set of names.
func (c reporter) named(what string, n int, name func(int) string, at func(int) condition.Position) map[string]bool {
	seen := make(map[string]bool, n)
	for i := range n {
		if err := directory.CheckName(name(i)); err != nil {
			c.Report(directory.Problem{What: what, Name: name(i), At: at(i), Text: fmt.Sprintf("%s %q: %v", what, name(i), err), AboutName: true})
		}
		if seen[name(i)] {
			c.Report(
				directory.Problem{What: what, Name: name(i), At: at(i), Text: fmt.Sprintf("%s %q is defined twice", what, name(i)), AboutName: true},
			)
		}
		seen[name(i)] = true
	}
	return seen
}

// circles reports each circle of references once, at the first of its names in the
// alphabet, with the way round.
func (c reporter) circles(what, does string, edges map[string][]string) {
	const (
		onPath = iota + 1
		done
	)
	state := map[string]int{}
	var path []string
	var visit func(name string)
	visit = func(name string) {
		switch state[name] {
		case done:
			return
		case onPath:
			circle := slices.Clone(path[slices.Index(path, name):])
			first := slices.Index(circle, slices.MinFunc(circle, cmp.Compare[string]))
			circle = append(circle[first:], circle[:first]...)
			c.Report(directory.Problem{What: what, Name: circle[0], Certain: true,
				Text: fmt.Sprintf("%s %s %s: %s", what, circle[0], does, strings.Join(append(circle, circle[0]), " > "))})
			return
		}
		state[name] = onPath
		path = append(path, name)
		for _, next := range edges[name] {
			visit(next)
		}
		path = path[:len(path)-1]
		state[name] = done
	}
	for _, name := range slices.Sorted(maps.Keys(edges)) {
		visit(name)
	}
}

// condition reports what is wrong with the form of a condition: a node of no known
// type, a test of a key that there is not, that makes no sense in this place, or
// that names no value.
func (c reporter) condition(what, name, place string, node condition.Node, about condition.Subject) {
	condition.Walk(node, func(n condition.Node) bool {
		switch n := n.(type) {
		case *condition.All, *condition.Any:
		case *condition.Not:
			if n.Of == nil {
				c.wrong(what, name, n.At, "%s %s: %s: a `not` has nothing in it", what, name, place)
			}
		case *condition.Test:
			switch {
			case !n.Key.IsValid():
				var known []string
				for _, k := range condition.Keys() {
					known = append(known, k.String())
				}
				c.wrong(what, name, n.At, "%s %s: %s: there is no such key: %s%s", what, name, place, n.KeyName(),
					nearest.DidYouMean(n.KeyName(), known))
			case n.Key.About()&about == 0:
				c.wrong(what, name, n.At, "%s %s: %s: the key %s makes no sense here", what, name, place, n.Key)
			case len(n.Values) == 0:
				c.wrong(what, name, n.At, "%s %s: %s: the test on %s names no value", what, name, place, n.Key)
			}
		default:
			c.wrong(what, name, condition.Position{}, "%s %s: %s: a condition of type %T is none", what, name, place, n)
		}
		return true
	})
}

// nowhereInFiles is the place of what has none.
func nowhereInFiles(int) condition.Position { return condition.Position{} }

// CheckContents reports every problem with the contents to report, in no particular
// order. New refuses contents with one.
func CheckContents(c *directory.Contents, report func(directory.Problem)) {
	k := reporter{report}
	groups := k.named("group", len(c.Groups), func(i int) string { return c.Groups[i].Name }, nowhereInFiles)
	accounts := k.named("account", len(c.Accounts), func(i int) string { return c.Accounts[i].Name }, nowhereInFiles)
	k.named("app", len(c.Apps), func(i int) string { return c.Apps[i].Name }, nowhereInFiles)
	k.named("device", len(c.Devices), func(i int) string { return c.Devices[i].Name }, nowhereInFiles)
	k.named("network", len(c.Networks), func(i int) string { return c.Networks[i].Name }, nowhereInFiles)
	k.named("region", len(c.Regions), func(i int) string { return c.Regions[i].Name }, nowhereInFiles)
	k.named("window", len(c.Windows), func(i int) string { return c.Windows[i].Name }, nowhereInFiles)
	k.named("posture", len(c.Postures), func(i int) string { return c.Postures[i].Name }, nowhereInFiles)
	k.named("method", len(c.Methods), func(i int) string { return c.Methods[i].Name }, nowhereInFiles)
	methods := map[string]bool{}
	for _, m := range directory.Catalogue(c.Methods) {
		methods[m.Name] = true
	}
	checkAccounts(c, k, groups, methods)
	checkGroups(c, k, groups, accounts)
	checkMethods(c, k, len(methods))
	checkPlaces(c, k)
	checkPostures(c, k)
	checkApps(c, k, groups)
}

func checkAccounts(c *directory.Contents, k reporter, groups, methods map[string]bool) {
	for i := range c.Accounts {
		a := &c.Accounts[i]
		refer := func(kind string, names []string, known map[string]bool) {
			for _, name := range names {
				if !known[name] {
					k.refer("account", a.Name, condition.Position{}, kind, name)
				}
			}
		}
		refer("group", a.Groups, groups)
		refer("method", a.Methods, methods)
		if a.Kind > directory.Emergency {
			k.wrong("account", a.Name, condition.Position{}, "account %s: its kind is none that there is: %s", a.Name, a.Kind)
		}
		if a.AccountRisk != nil && a.AccountRisk.Level > directory.HighRisk {
			k.wrong(
				"account",
				a.Name,
				condition.Position{},
				"account %s: the level of its risk is none that there is: %s",
				a.Name,
				a.AccountRisk.Level,
			)
		}
	}
}

func checkGroups(c *directory.Contents, k reporter, groups, accounts map[string]bool) {
	includes := map[string][]string{}
	for i := range c.Groups {
		g := &c.Groups[i]
		for _, name := range g.Includes {
			if !groups[name] {
				k.refer("group", g.Name, condition.Position{}, "group", name)
			}
		}
		for _, name := range g.Members {
			if !accounts[name] && !c.Outside {
				k.refer("group", g.Name, condition.Position{}, "account", name)
			}
		}
		if len(g.Includes) > 0 {
			includes[g.Name] = g.Includes
		}
		k.condition("group", g.Name, "where", g.Where, condition.AboutAccount)
		if err := checkWhere(g.Where); err != nil {
			k.wrong("group", g.Name, condition.Position{}, "group %s: %v", g.Name, err)
		}
	}
	k.circles("group", "includes itself", includes)
}

func checkMethods(c *directory.Contents, k reporter, n int) {
	if n > MaxMethods {
		k.wrong(
			"method",
			c.Methods[0].Name,
			condition.Position{},
			"%d methods, with the built-in ones, are more than the %d there is room for",
			n,
			MaxMethods,
		)
	}
	for i := range c.Methods {
		m := &c.Methods[i]
		k.condition("method", m.Name, "barred_for", m.BarredFor, condition.AboutAccount)
		if err := checkBarredFor(m.BarredFor); err != nil {
			k.wrong("method", m.Name, condition.Position{}, "method %s: %v", m.Name, err)
		}
		for _, trait := range m.Traits {
			if int(trait) >= len(directory.Traits()) {
				k.wrong("method", m.Name, condition.Position{}, "method %s: trait %d is none that there is", m.Name, trait)
			}
		}
	}
}

func checkPlaces(c *directory.Contents, k reporter) {
	for _, n := range c.Networks {
		if _, err := directory.ParseRange(n.Name); err == nil {
			k.wrong("network", n.Name, condition.Position{}, "the network %q is named like an address; give it a name of its own", n.Name)
		}
		for _, r := range n.Ranges {
			if err := r.Check(); err != nil {
				k.wrong("network", n.Name, condition.Position{}, "network %s: %v", n.Name, err)
			}
		}
		if n.Country != "" && !attempt.CountryCode(n.Country).IsAssigned() {
			k.wrong("network", n.Name, condition.Position{}, "network %s: %q is no assigned ISO 3166-1 code", n.Name, n.Country)
		}
	}
	for _, region := range c.Regions {
		if new(attempt.CountryCode).UnmarshalText([]byte(region.Name)) == nil {
			k.wrong(
				"region",
				region.Name,
				condition.Position{},
				"the region %q is named like a country; give it a name of its own",
				region.Name,
			)
		}
		for _, code := range region.Countries {
			if !attempt.CountryCode(code).IsAssigned() {
				k.wrong("region", region.Name, condition.Position{}, "region %s: %q is no assigned ISO 3166-1 code", region.Name, code)
			}
		}
	}
	for _, w := range c.Windows {
		if w.From != nil && *w.From == directory.EndOfDay {
			k.wrong(
				"window",
				w.Name,
				condition.Position{},
				"window %s starts at 24:00, the end of the day; write 00:00 for its beginning",
				w.Name,
			)
		}
		for _, clock := range []*directory.Clock{w.From, w.To} {
			if clock != nil && (*clock < 0 || *clock > directory.EndOfDay) {
				k.wrong("window", w.Name, condition.Position{}, "window %s: %d minutes after midnight is no time of day", w.Name, *clock)
			}
		}
		for _, day := range w.Days {
			if day < 0 || int(day) >= len(directory.Weekdays()) {
				k.wrong("window", w.Name, condition.Position{}, "window %s: day %d is none of the week", w.Name, day)
			}
		}
		for _, dates := range w.Dates {
			if dates.Last.Before(dates.First) {
				k.wrong("window", w.Name, condition.Position{}, "window %s: %s ends before it begins", w.Name, dates)
			}
		}
	}
}

func checkPostures(c *directory.Contents, k reporter) {
	for _, p := range c.Postures {
		if len(p.Checks) == 0 {
			k.wrong("posture", p.Name, condition.Position{}, "posture %s checks nothing; list what the device's report must show", p.Name)
		}
		for i := range p.Checks {
			if err := p.Checks[i].Check(); err != nil {
				k.wrong("posture", p.Name, condition.Position{}, "posture %s, check %d: %v", p.Name, i+1, err)
			}
		}
	}
}

func checkApps(c *directory.Contents, k reporter, groups map[string]bool) {
	known := map[string]string{}
	for _, a := range c.Apps {
		known[a.Name] = a.Name
	}
	for _, a := range c.Apps {
		for _, name := range a.OpenTo {
			if !groups[name] {
				k.refer("app", a.Name, condition.Position{}, "group", name)
			}
		}
		for _, alias := range a.KnownAs {
			if other, taken := known[alias]; taken && other != a.Name {
				k.wrong("app", a.Name, condition.Position{}, "apps %s and %s are both known as %q", other, a.Name, alias)
			}
			known[alias] = a.Name
		}
	}
	for _, clash := range checkHosts(c.Apps) {
		k.wrong("app", clash.App, condition.Position{}, "app %s: %v", clash.App, clash.Wrong)
	}
}
