package engine

import (
	"fmt"
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// Check reports every problem with a rulebook to report, in no particular order:
// one made in Go gets the same list as one that was read from files. Compile
// refuses a rulebook with a problem.
func Check(book *decide.Rulebook, report func(directory.Problem)) {
	CheckContents(&book.Directory, report)
	checkRules(book, report)
}

// checkRules checks all but the directory.
func checkRules(book *decide.Rulebook, report func(directory.Problem)) {
	k := checker{reporter: reporter{Report: report}, book: book, assurances: map[string]bool{}, methods: map[string]bool{}}
	for _, m := range directory.Catalogue(book.Directory.Methods) {
		k.methods[m.Name] = true
	}
	k.assurances = k.named("assurance", len(book.Assurances), func(i int) string { return book.Assurances[i].Name },
		func(i int) condition.Position { return book.Assurances[i].At })
	k.checkAssurances()
	k.checkRisk()
	k.checkPolicies()
	k.checkExemptions()
	k.checkRollouts()
	k.outcome("setting", "otherwise", condition.Position{}, "otherwise", book.Otherwise)
}

// checker checks one rulebook.
type checker struct {
	reporter
	book                *decide.Rulebook
	assurances, methods map[string]bool
}

// referEach reports names that nothing defines.
func (k *checker) referEach(what, name string, at condition.Position, kind string, names []string, known map[string]bool) {
	for _, n := range names {
		if !known[n] {
			k.refer(what, name, at, kind, n)
		}
	}
}

func (k *checker) outcome(what, name string, at condition.Position, place string, o decide.Outcome) {
	if o.Grant && len(o.Require) > 0 {
		k.wrong(what, name, at, "%s %s: %s: an outcome grants or requires, not both", what, name, place)
	}
	for _, r := range o.Require {
		if len(r.OneOf) == 0 {
			k.wrong(what, name, at, "%s %s: %s: a requirement names no assurance", what, name, place)
		}
		k.referEach(what, name, at, "assurance", r.OneOf, k.assurances)
	}
}

// checkAssurances checks that each assurance demands something that can be shown.
func (k *checker) checkAssurances() {
	catalogue := directory.Catalogue(k.book.Directory.Methods)
	postures := map[string]bool{}
	for _, p := range k.book.Directory.Postures {
		postures[p.Name] = true
	}
	for i := range k.book.Assurances {
		a := &k.book.Assurances[i]
		wrong := func(format string, args ...any) {
			k.wrong("assurance", a.Name, a.At, "assurance %s"+format, append([]any{a.Name}, args...)...)
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
			k.referEach("assurance", a.Name, a.At, "method", slices.Concat(p.AnyOf, p.Fallback), k.methods)
		}
		if a.Posture != "" && !postures[a.Posture] {
			k.refer("assurance", a.Name, a.At, "posture", a.Posture)
		}
		if len(a.Prove) == 0 && a.Posture == "" && !a.ChangePassword && a.Accept == nil && a.External == "" && !a.Consent &&
			len(a.Enrol) == 0 {
			wrong(" demands nothing; give prove, posture, change_password, accept, external, consent or enrol")
		}
		k.referEach("assurance", a.Name, a.At, "method", a.Enrol, k.methods)
		if slices.Contains(a.Enrol, directory.DeskPass) {
			wrong(": a %s cannot be enrolled", directory.DeskPass)
		}
		if a.Accept != nil && a.Accept.Version < 1 {
			wrong(": versions of a document count from 1")
		}
	}
}

// checkRisk checks levels and signals.
func (k *checker) checkRisk() {
	scheme := &k.book.Risk
	if scheme.Levels != (risk.Levels{}) {
		if err := scheme.Levels.Check(); err != nil {
			k.wrong("setting", "risk.levels", condition.Position{}, "%v", err)
		}
	}
	k.named(
		"signal",
		len(scheme.Signals),
		func(i int) string { return scheme.Signals[i].Name },
		func(i int) condition.Position { return scheme.Signals[i].At },
	)
	for i := range scheme.Signals {
		signal := &scheme.Signals[i]
		k.condition("signal", signal.Name, "when", signal.When, condition.AboutAccount|condition.AboutApp|condition.AboutAttempt)
		if err := signal.Check(); err != nil {
			k.wrong("signal", signal.Name, signal.At, "%v", err)
		}
	}
}

const aboutAttempt = condition.AboutAccount | condition.AboutApp | condition.AboutAttempt | condition.AboutRisk

func (k *checker) checkPolicies() {
	policies := k.book.Policies
	names := k.named(
		"policy",
		len(policies),
		func(i int) string { return policies[i].Name },
		func(i int) condition.Position { return policies[i].At },
	)
	firm, replaces := map[string]bool{}, map[string][]string{}
	for i := range policies {
		firm[policies[i].Name] = policies[i].Firm
		if len(policies[i].Replaces) > 0 {
			replaces[policies[i].Name] = policies[i].Replaces
		}
	}
	for i := range policies {
		p := &policies[i]
		wrong := func(format string, args ...any) {
			k.wrong("policy", p.Name, p.At, "policy %s "+format, append([]any{p.Name}, args...)...)
		}
		if len(p.Rules) == 0 {
			k.Report(directory.Problem{What: "policy", Name: p.Name, At: p.At, Certain: true,
				Text: fmt.Sprintf("policy %s has no rules, so it never speaks; give it at least one", p.Name)})
		}
		if p.Who == nil {
			wrong("does not say whom it is for; write anyone for all accounts")
		}
		if p.Apps == nil {
			wrong("does not say which apps it is for; write every for all")
		}
		if p.Stage > decide.Live {
			wrong("has no stage that there is: %s", p.Stage)
		}
		if p.LiveFor != nil && p.Stage != decide.Shadow {
			wrong("is %s; live_for is for a shadow policy", p.Stage)
		}
		if p.From != nil && p.Until != nil && p.Until.Before(*p.From) {
			wrong("ends on %s, before it begins on %s", p.Until, p.From)
		}
		for _, name := range p.Replaces {
			if firm[name] {
				wrong("cannot replace %s, which is firm", name)
			}
		}
		k.referEach("policy", p.Name, p.At, "policy", p.Replaces, names)
		k.condition("policy", p.Name, "who", p.Who, condition.AboutAccount)
		k.condition("policy", p.Name, "apps", p.Apps, condition.AboutApp)
		k.condition("policy", p.Name, "live_for", p.LiveFor, condition.AboutAccount)
		rules := map[string]bool{}
		for n := range p.Rules {
			r := &p.Rules[n]
			if err := directory.CheckName(r.Name); err != nil {
				k.Report(
					directory.Problem{
						What:      "policy",
						Name:      p.Name,
						At:        r.At,
						Text:      fmt.Sprintf("policy %s, rule %d: %v", p.Name, n+1, err),
						AboutName: true,
					},
				)
			}
			if rules[r.Name] {
				k.Report(
					directory.Problem{
						What:      "policy",
						Name:      p.Name,
						At:        r.At,
						Text:      fmt.Sprintf("policy %s has two rules named %q", p.Name, r.Name),
						AboutName: true,
					},
				)
			}
			rules[r.Name] = true
			k.condition("policy", p.Name, "rule "+r.Name, r.When, aboutAttempt)
			k.outcome("policy", p.Name, r.At, "rule "+r.Name, r.Then)
		}
	}
	k.circles("policy", "replaces itself", replaces)
}

func (k *checker) checkExemptions() {
	exemptions := k.book.Exemptions
	k.named(
		"exemption",
		len(exemptions),
		func(i int) string { return exemptions[i].Name },
		func(i int) condition.Position { return exemptions[i].At },
	)
	for i := range exemptions {
		x := &exemptions[i]
		if x.Who == nil {
			k.wrong("exemption", x.Name, x.At, "exemption %s does not say whom it excuses", x.Name)
		}
		if len(x.From) == 0 {
			k.wrong("exemption", x.Name, x.At, "exemption %s excuses from nothing", x.Name)
		}
		k.referEach("exemption", x.Name, x.At, "assurance", slices.Concat(x.From, x.Instead), k.assurances)
		k.condition("exemption", x.Name, "who", x.Who, condition.AboutAccount)
		k.condition("exemption", x.Name, "when", x.When, condition.AboutApp|condition.AboutAttempt|condition.AboutRisk)
	}
}

func (k *checker) checkRollouts() {
	rollouts := k.book.Rollouts
	k.named(
		"rollout",
		len(rollouts),
		func(i int) string { return rollouts[i].Name },
		func(i int) condition.Position { return rollouts[i].At },
	)
	for i := range rollouts {
		r := &rollouts[i]
		if r.Who == nil {
			k.wrong("rollout", r.Name, r.At, "rollout %s does not say whom it is for", r.Name)
		}
		if slices.Contains(r.Methods, directory.DeskPass) {
			k.wrong("rollout", r.Name, r.At, "rollout %s: a %s cannot be enrolled", r.Name, directory.DeskPass)
		}
		if r.Enforced.IsZero() {
			k.wrong("rollout", r.Name, r.At, "rollout %s does not say from which day it is enforced", r.Name)
		}
		if err := r.Say.Check(); err != nil {
			k.wrong("rollout", r.Name, r.At, "rollout %s: say: %v", r.Name, err)
		}
		k.referEach("rollout", r.Name, r.At, "method", r.Methods, k.methods)
		k.referEach("rollout", r.Name, r.At, "assurance", r.Eases, k.assurances)
		k.condition("rollout", r.Name, "who", r.Who, condition.AboutAccount)
	}
}
