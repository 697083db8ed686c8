package book

import (
	"cmp"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/estate"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// resolve reports each reference to what the book does not define.
func (r *reader) resolve() {
	for _, m := range estate.BuiltInMethods() {
		r.definitions[definition{what: "method", name: m.Name}] = r.top()
	}
	known := map[string][]string{}
	for _, ref := range r.references {
		if _, ok := r.definitions[ref.definition]; ok {
			continue
		}
		if known[ref.what] == nil {
			known[ref.what] = r.names(ref.what)
		}
		hint := ""
		if r.suggested++; r.suggested <= mostSuggestions {
			hint = nearest.DidYouMean(ref.name, known[ref.what])
		}
		if ref.what == "region" {
			err := new(estate.Country).UnmarshalText([]byte(ref.name))
			r.add(ref.at, "no region is named %q%s; and as a country: %v", ref.name, hint, err)
			continue
		}
		r.add(ref.at, "%s %q is not defined%s", ref.what, ref.name, hint)
	}
}

// names returns the defined names of a kind, sorted.
func (r *reader) names(what string) []string {
	var names []string
	for d := range r.definitions {
		if d.what == what {
			names = append(names, d.name)
		}
	}
	slices.Sort(names)
	return names
}

// check reports what is wrong with definitions that are well formed each.
func (r *reader) check() {
	for _, n := range r.sections.Networks {
		if _, err := estate.ParseRange(n.Name); err == nil {
			r.add(r.definitions[definition{"network", n.Name}], "the network %q is named like an address; give it a name of its own", n.Name)
		}
	}
	for _, region := range r.sections.Regions {
		if new(attempt.CountryCode).UnmarshalText([]byte(region.Name)) == nil {
			r.add(r.definitions[definition{"region", region.Name}], "the region %q is named like a country; give it a name of its own", region.Name)
		}
	}
	for _, w := range r.sections.Windows {
		if w.From != nil && w.From.String() == "24:00" {
			r.add(r.definitions[definition{"window", w.Name}], "window %s starts at 24:00, the end of the day; write 00:00 for its beginning", w.Name)
		}
	}
	for _, a := range r.sections.Assurances {
		for i, p := range a.Prove {
			if (len(p.AnyOf) == 0) == (len(p.Traits) == 0) {
				r.add(r.definitions[definition{"assurance", a.Name}], "assurance %s, item %d of prove: give any_of or traits, and one of them only", a.Name, i+1)
			} else if !slices.ContainsFunc(estate.BuiltInMethods(), func(m estate.Method) bool { return m.HasAll(p.Traits) }) {
				r.add(r.definitions[definition{"assurance", a.Name}], "assurance %s, item %d of prove: no method has all of these traits", a.Name, i+1)
			}
		}
		if len(a.Prove) == 0 {
			r.add(r.definitions[definition{"assurance", a.Name}], "assurance %s demands nothing; list what is to be proven", a.Name)
		}
	}
	for _, p := range r.sections.Policies {
		if len(p.Rules) == 0 {
			r.add(p.At, "policy %s has no rules, so it never speaks; give it at least one", p.Name)
		}
	}
	r.checkCircles("policy", "replaces itself", edges(r.sections.Policies, func(p decide.Policy) (string, []string) { return p.Name, p.Replaces }))
	r.checkCircles("group", "includes itself", edges(r.sections.Groups, func(g estate.Group) (string, []string) { return g.Name, g.Includes }))
}

func edges[T any](items []T, of func(T) (string, []string)) map[string][]string {
	all := make(map[string][]string)
	for _, item := range items {
		if name, to := of(item); len(to) > 0 {
			all[name] = to
		}
	}
	return all
}

// checkCircles reports each circle of references once, at the first of its
// names in the alphabet, with the way round.
func (r *reader) checkCircles(what, does string, edges map[string][]string) {
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
			r.add(r.definitions[definition{what, circle[0]}], "%s %s %s: %s", what, circle[0], does, strings.Join(append(circle, circle[0]), " > "))
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
	names := make([]string, 0, len(edges))
	for name := range edges {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		visit(name)
	}
}
