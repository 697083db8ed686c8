package decide

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/internal/facts"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// The views show what a judge decides by to anyone who describes or checks it. The
// conditions in them are the bound ones, so that what is read is what is judged.

// Rulebook returns what was compiled. A caller that compiles a changed one copies the
// lists that it changes.
func (j *Judge) Rulebook() Rulebook { return j.book }

// Policies returns all policies in order of name.
func (j *Judge) Policies() []Policy {
	views := make([]Policy, len(j.policies))
	for i := range j.policies {
		p := &j.policies[i]
		views[i] = *p.Policy
		views[i].Who, views[i].Apps, views[i].LiveFor = p.who, p.apps, p.liveFor
		views[i].Rules = slices.Clone(p.Rules)
		for k := range p.rules {
			if p.Rules[k].When != nil {
				views[i].Rules[k].When = p.rules[k].when
			}
		}
	}
	return views
}

// Exemptions returns all exemptions in order of name.
func (j *Judge) Exemptions() []Exemption {
	views := make([]Exemption, len(j.exemptions))
	for i, x := range j.exemptions {
		views[i] = x.Exemption
		views[i].Who = x.who
		if x.When != nil {
			views[i].When = x.when
		}
	}
	return views
}

// Rollouts returns all rollouts in order of name.
func (j *Judge) Rollouts() []Rollout {
	views := make([]Rollout, len(j.rollouts))
	for i, r := range j.rollouts {
		views[i] = r.Rollout
		views[i].Who = r.who
	}
	return views
}

// Deadline returns when the time of a rollout, by its number among Rollouts, is
// up for an account, as seen at a moment.
func (j *Judge) Deadline(rollout int, account *facts.Profile, at time.Time) time.Time {
	return j.rollouts[rollout].deadline(account, at)
}

// Assurances returns all assurances in the order in which the book has them. The
// caller must not change them.
func (j *Judge) Assurances() []Assurance { return j.book.Assurances }

// FindAssurance returns the assurance of that name, nil where there is none.
func (j *Judge) FindAssurance(name string) *Assurance {
	if i, ok := j.assuranceNumber[name]; ok {
		return &j.book.Assurances[i]
	}
	return nil
}

// Otherwise returns what is joined in where no policy surely speaks.
func (j *Judge) Otherwise() Outcome { return j.book.Otherwise }

// Methods returns the methods that meet what an assurance asks to be proven, and
// its fallbacks.
func (j *Judge) Methods(p Prove) (preferred, fallback facts.MethodSet) {
	d, err := j.compileProve(p)
	if err != nil {
		return 0, 0 // it is none of the judge's
	}
	return d.methods, d.fallback
}

// MethodNames returns the names of a set of methods, sorted.
func (j *Judge) MethodNames(set facts.MethodSet) []string {
	return j.appendMethodNames(make([]string, 0, set.Len()), set)
}

func (j *Judge) appendMethodNames(names []string, set facts.MethodSet) []string {
	for _, i := range j.methodOrder {
		if set.Has(i) {
			names = append(names, j.directory.Methods()[i].Name)
		}
	}
	return names
}

// Audience returns the accounts that a policy, by its number among Policies, is
// for. An emergency account is among them only where the policy names it.
func (j *Judge) Audience(policy int, g *facts.Gathering) facts.Audience {
	p := &j.policies[policy]
	audience := g.Of(p.who)
	for _, account := range g.Emergencies() {
		if !p.names(j.directory.Profile(account)) {
			audience = audience.And(g.Only(account).Not(len(j.directory.Accounts)))
		}
	}
	return audience
}

// Apps returns the numbers of the apps that a policy, by its number among
// Policies, is aimed at.
func (j *Judge) Apps(policy int) []int {
	var apps []int
	for app := range j.directory.Apps {
		if condition.Eval(j.policies[policy].apps, j.directory.FactsOfApp(app)) != condition.False {
			apps = append(apps, app)
		}
	}
	return apps
}

// InForceAt reports whether a moment lies between the dates of a policy, by its
// number among Policies.
func (j *Judge) InForceAt(policy int, at time.Time) bool { return j.policies[policy].inForceAt(at) }

// Covered tells of each app, by number, whether a live policy within its dates is
// for sign-ins there, of other accounts than those for emergencies.
func (j *Judge) Covered(g *facts.Gathering, at time.Time) []bool {
	daily := g.Everyone()
	for _, account := range g.Emergencies() {
		daily = daily.And(g.Only(account).Not(len(j.directory.Accounts)))
	}
	covered := make([]bool, len(j.directory.Apps))
	for i := range j.policies {
		p := &j.policies[i]
		if p.stage != Live || !p.isFor(attempt.SignIn) || !p.inForceAt(at) || !j.Audience(i, g).Meets(daily) {
			continue
		}
		for _, app := range j.Apps(i) {
			covered[app] = true
		}
	}
	return covered
}
