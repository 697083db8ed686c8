package engine

import (
	"slices"

	"github.com/briskwarden/briskwarden/decide"
)

// The views show what a judge decides by to anyone who describes or checks it. The
// conditions in them are the bound ones, so that what is read is what is judged.

// Rulebook returns what was compiled. A caller that compiles a changed one copies the
// lists that it changes.
func (j *Judge) Rulebook() decide.Rulebook { return j.book }

// Policies returns all policies in order of name.
func (j *Judge) Policies() []decide.Policy {
	views := make([]decide.Policy, len(j.policies))
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
func (j *Judge) Exemptions() []decide.Exemption {
	views := make([]decide.Exemption, len(j.exemptions))
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
func (j *Judge) Rollouts() []decide.Rollout {
	views := make([]decide.Rollout, len(j.rollouts))
	for i, r := range j.rollouts {
		views[i] = r.Rollout
		views[i].Who = r.who
	}
	return views
}

// Assurances returns all assurances in the order in which the book has them. The
// caller must not change them.
func (j *Judge) Assurances() []decide.Assurance { return j.book.Assurances }

// FindAssurance returns the assurance of that name, nil where there is none.
func (j *Judge) FindAssurance(name string) *decide.Assurance {
	if i, ok := j.assuranceNumber[name]; ok {
		return &j.book.Assurances[i]
	}
	return nil
}

// Otherwise returns what is joined in where no policy surely speaks.
func (j *Judge) Otherwise() decide.Outcome { return j.book.Otherwise }
