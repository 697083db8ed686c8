package book

import (
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// resolve reports each reference to what the book does not define.
func (r *reader) resolve() {
	for _, m := range directory.BuiltInMethods() {
		if _, redefined := r.definitions[definition{"method", m.Name}]; !redefined {
			r.definitions[definition{"method", m.Name}] = condition.Position{}
		}
	}
	known := map[string][]string{}
	for _, ref := range r.references {
		if _, ok := r.definitions[ref.definition]; ok || ref.what == "account" && r.sections.Settings.Directory == Outside {
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
			err := new(directory.Country).UnmarshalText([]byte(ref.name))
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

// check reports what is wrong with definitions that are well formed each: what the
// core's own validator finds, at the places where they stand, and what is the
// book's own.
func (r *reader) check() {
	rules := r.sections.rulebook()
	rules.Check(func(p directory.Problem) {
		if p.AboutName || r.broken[definition{p.What, p.Name}] && !p.Certain {
			return // it was reported where it was read, or follows from what was
		}
		at := p.At
		if !at.IsValid() {
			at = r.definitions[definition{p.What, p.Name}]
		}
		r.add(at, "%s", p.Text)
	})
	r.checkConsent()
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
