package book

import (
	"fmt"
	"maps"
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/watch"
)

// resolve reports each reference to what the book does not define, and says so where it
// may stand in a file that could not be read.
func (r *reader) resolve() {
	for _, m := range directory.BuiltInMethods() {
		if _, redefined := r.definitions[definition{"method", m.Name}]; !redefined {
			r.definitions[definition{"method", m.Name}] = condition.Position{}
		}
	}
	known := map[string][]string{}
	missing := slices.SortedFunc(maps.Keys(r.references), func(a, b definition) int {
		return r.positionOf(r.references[a][0]).Compare(r.positionOf(r.references[b][0]))
	})
	for _, ref := range missing {
		if _, ok := r.definitions[ref]; ok || ref.what == "account" && r.sections.Settings.Directory == Outside {
			continue
		}
		if known[ref.what] == nil {
			known[ref.what] = r.names(ref.what)
		}
		text := fmt.Sprintf("%s %q is not defined", ref.what, ref.name)
		if ref.what == "region" {
			text = fmt.Sprintf("no region is named %q", ref.name)
		}
		if r.unread != "" { // it is told once, for it may be no error at all
			if at := r.positionOf(r.references[ref][0]); at.File != r.unread {
				r.add(at, "%s, unless in %s%s", text, r.unread, unlessUnread)
			}
			continue
		}
		if r.suggested++; r.suggested <= mostSuggestions {
			text += nearest.DidYouMean(ref.name, known[ref.what])
		}
		if ref.what == "region" {
			text += fmt.Sprintf("; and as a country: %v", new(directory.Country).UnmarshalText([]byte(ref.name)))
		}
		for _, at := range r.references[ref] {
			r.add(r.positionOf(at), "%s", text)
		}
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

// check reports what is wrong with definitions that are well formed each: what the
// core's own validator finds, at the places where they stand, and what is the
// book's own.
func (r *reader) check() {
	rules := r.sections.rulebook()
	engine.Check(&rules, func(p directory.Problem) {
		if p.AboutName || r.broken[definition{p.What, p.Name}] && !p.Certain {
			return // it was reported where it was read, or follows from what was
		}
		at := p.At
		if !at.IsValid() {
			at = r.definitions[definition{p.What, p.Name}]
		}
		r.add(at, "%s", p.Text)
	})
	for i := range r.sections.Guarantees {
		g := &r.sections.Guarantees[i]
		if err := g.Check(); err != nil && !r.broken[definition{"guarantee", g.Name}] {
			r.add(g.At, "guarantee %s: %v", g.Name, err)
		}
	}
	r.checkConsent()
	r.checkWatch()
	for i := range r.sections.Drills {
		d := &r.sections.Drills[i]
		if r.broken[definition{"drill", d.Name}] {
			continue
		}
		if err := d.Check(); err != nil {
			r.add(d.At, "drill %s: %v", d.Name, err)
		}
	}
}

// checkWatch checks what is told of decisions, and that the rules that alerts name are there.
func (r *reader) checkWatch() {
	scheme := &r.sections.Watch
	scheme.Check(func(p watch.Problem) {
		at := r.definitions[definition{p.What, p.Name}]
		if p.What == "watch" {
			at = r.definitions[definition{"setting", "watch.at_most"}]
		}
		if !r.broken[definition{p.What, p.Name}] {
			r.add(at, "%s", p.Text)
		}
	})
	var rules []string
	for i := range r.sections.Policies {
		for k := range r.sections.Policies[i].Rules {
			rules = append(rules, r.sections.Policies[i].Name+"/"+r.sections.Policies[i].Rules[k].Name)
		}
	}
	for i := range scheme.Alerts {
		condition.Walk(scheme.Alerts[i].When, func(n condition.Node) bool {
			t, ok := n.(*condition.Test)
			if !ok || t.Key != watch.KeyRules || r.unread != "" {
				return true
			}
			for _, rule := range t.Values {
				if !slices.Contains(rules, rule) {
					r.add(t.At, "there is no rule %q%s", rule, nearest.DidYouMean(rule, rules))
				}
			}
			return true
		})
	}
}

// checkConsent checks the tiers of scopes.
func (r *reader) checkConsent() {
	for _, t := range r.sections.Scopes {
		if r.broken[definition{"tier", t.Name}] {
			return // what is wrong with the others may follow from it
		}
	}
	// Each tier beside those before it, so that the error is at its own place.
	for i := range r.sections.Scopes {
		if _, err := consent.NewLadder(r.sections.Scopes[:i+1]); err != nil {
			r.add(r.definitions[definition{"tier", r.sections.Scopes[i].Name}], "%v", err)
			return
		}
	}
}
