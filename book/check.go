package book

import (
	"cmp"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
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

// check reports what is wrong with definitions that are well formed each.
func (r *reader) check() {
	for _, n := range r.sections.Networks {
		if _, err := directory.ParseRange(n.Name); err == nil {
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
	r.checkDirectory()
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
	r.checkAssurances()
	r.checkRisk()
	firm := map[string]bool{}
	for _, p := range r.sections.Policies {
		firm[p.Name] = p.Firm
	}
	for _, p := range r.sections.Policies {
		if len(p.Rules) == 0 {
			r.add(p.At, "policy %s has no rules, so it never speaks; give it at least one", p.Name)
		}
		if r.broken[definition{"policy", p.Name}] {
			continue
		}
		if p.LiveFor != nil && p.Stage != decide.Shadow {
			r.add(p.At, "policy %s is %s; live_for is for a shadow policy", p.Name, p.Stage)
		}
		if p.From != nil && p.Until != nil && p.Until.Before(*p.From) {
			r.add(p.At, "policy %s ends on %s, before it begins on %s", p.Name, p.Until, p.From)
		}
		for _, name := range p.Replaces {
			if firm[name] {
				r.add(p.At, "policy %s cannot replace %s, which is firm", p.Name, name)
			}
		}
	}
	r.checkCircles("policy", "replaces itself", edges(r.sections.Policies, func(p decide.Policy) (string, []string) { return p.Name, p.Replaces }))
	r.checkCircles("group", "includes itself", edges(r.sections.Groups, func(g directory.Group) (string, []string) { return g.Name, g.Includes }))
}

// checkDirectory checks what the facts say of each other.
func (r *reader) checkDirectory() {
	if n := len(directory.Catalogue(r.sections.Methods)); n > directory.MaxMethods {
		r.add(r.definitions[definition{"method", r.sections.Methods[0].Name}], "%d methods, with the built-in ones, are more than the %d there is room for", n, directory.MaxMethods)
	}
	for _, m := range r.sections.Methods {
		if err := directory.CheckBarredFor(m.BarredFor); err != nil {
			r.add(r.definitions[definition{"method", m.Name}], "method %s: %v", m.Name, err)
		}
	}
	for _, g := range r.sections.Groups {
		if err := directory.CheckWhere(g.Where); err != nil {
			r.add(r.definitions[definition{"group", g.Name}], "group %s: %v", g.Name, err)
		}
	}
	for _, p := range r.sections.Postures {
		at := r.definitions[definition{"posture", p.Name}]
		if len(p.Checks) == 0 {
			r.add(at, "posture %s checks nothing; list what the device's report must show", p.Name)
		}
		for i := range p.Checks {
			if err := p.Checks[i].Check(); err != nil {
				r.add(at, "posture %s, check %d: %v", p.Name, i+1, err)
			}
		}
	}
	known := map[string]string{}
	for _, a := range r.sections.Apps {
		known[a.Name] = a.Name
	}
	for _, a := range r.sections.Apps {
		at := r.definitions[definition{"app", a.Name}]
		for _, alias := range a.KnownAs {
			if other, taken := known[alias]; taken && other != a.Name {
				r.add(at, "apps %s and %s are both known as %q", other, a.Name, alias)
			}
			known[alias] = a.Name
		}
	}
	for _, clash := range directory.CheckHosts(r.sections.Apps) {
		r.add(r.definitions[definition{"app", clash.App}], "app %s: %v", clash.App, clash.Wrong)
	}
}

// checkAssurances checks that each assurance demands something that can be shown.
func (r *reader) checkAssurances() {
	catalogue := directory.Catalogue(r.sections.Methods)
	for _, a := range r.sections.Assurances {
		if r.broken[definition{"assurance", a.Name}] {
			continue
		}
		wrong := func(format string, args ...any) {
			r.add(a.At, "assurance %s"+format, append([]any{a.Name}, args...)...)
		}
		for i, p := range a.Prove {
			switch {
			case (len(p.AnyOf) == 0) == (len(p.Traits) == 0):
				wrong(", item %d of prove: give any_of or traits, and one of them only", i+1)
			case !slices.ContainsFunc(catalogue, func(m directory.Method) bool { return m.HasAll(p.Traits) && m.Name != directory.DeskPass }):
				wrong(", item %d of prove: no method has all of these traits", i+1)
			case slices.Contains(slices.Concat(p.AnyOf, p.Fallback), directory.DeskPass):
				wrong(", item %d of prove: a %s cannot be asked for: it stands for other methods", i+1, directory.DeskPass)
			}
		}
		if len(a.Prove) == 0 && a.Posture == "" && !a.ChangePassword && a.Accept == nil && a.External == "" && !a.Consent && len(a.Enrol) == 0 {
			wrong(" demands nothing; give prove, posture, change_password, accept, external, consent or enrol")
		}
		if slices.Contains(a.Enrol, directory.DeskPass) {
			wrong(": a %s cannot be enrolled", directory.DeskPass)
		}
		if a.Accept != nil && a.Accept.Version < 1 {
			wrong(": versions of a document count from 1")
		}
	}
	for _, rollout := range r.sections.Rollouts {
		if slices.Contains(rollout.Methods, directory.DeskPass) {
			r.add(rollout.At, "rollout %s: a %s cannot be enrolled", rollout.Name, directory.DeskPass)
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

// checkRisk checks levels and signals.
func (r *reader) checkRisk() {
	if levels := r.sections.Risk.Levels; levels != (risk.Levels{}) {
		if err := levels.Check(); err != nil {
			r.add(r.definitions[definition{"setting", "risk.levels"}], "%v", err)
		}
	}
	for i := range r.sections.Risk.Signals {
		signal := &r.sections.Risk.Signals[i]
		if err := signal.Check(); err != nil {
			r.add(signal.At, "%v", err)
		}
	}
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
