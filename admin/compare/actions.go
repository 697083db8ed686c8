package compare

import (
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// The actions enrol and recover waive what the action itself would satisfy, so that
// asking for more can let somebody in with less there: who has none of the methods that
// are left has the demand waived when she enrols, and a password that is asked for
// together with another method is not waived when she forgot it.

// waiving are the requirements that are asked for where an action waives demands.
type waiving struct {
	// atEnrol and atRecover are the assurances that are asked for there.
	atEnrol, atRecover map[string]bool
	// choices are the requirements with several ways that are asked for at enrol.
	choices []decide.Requirement
}

// findWaiving notes what either book asks for at the actions that waive.
func (d *differ) findWaiving() {
	d.waives = waiving{map[string]bool{}, map[string]bool{}, nil}
	for _, v := range []*view{d.old, d.new} {
		for i := range v.policies {
			if p := &v.policies[i]; d.inForce(p) {
				for _, r := range p.Rules {
					d.waives.add(r.Then, isFor(attempt.Enrol, p), isFor(attempt.Recover, p))
				}
			}
		}
		d.waives.add(v.judge.Otherwise(), true, true)
		for _, x := range v.judge.Exemptions() {
			d.waives.add(decide.Require(x.Instead...), true, true)
		}
	}
}

func (w *waiving) add(o decide.Outcome, enrol, recover bool) {
	for _, r := range o.Require {
		for _, name := range r.OneOf {
			w.atEnrol[name] = w.atEnrol[name] || enrol
			w.atRecover[name] = w.atRecover[name] || recover
		}
		if enrol && len(r.OneOf) > 1 {
			w.choices = append(w.choices, r)
		}
	}
}

// isFor reports whether one of several versions of a policy is for an action.
func isFor(action attempt.Action, versions ...*decide.Policy) bool {
	return slices.ContainsFunc(versions, func(p *decide.Policy) bool { return p.Actions == nil || slices.Contains(p.Actions, action) })
}

// methodsAsked returns the methods that each demand of an assurance takes, fallbacks
// included.
func (v *view) methodsAsked(a *decide.Assurance) []engine.MethodSet {
	var sets []engine.MethodSet
	for i := range a.Prove {
		preferred, fallback := v.judge.Methods(a.Prove[i].AnyOf, a.Prove[i].Traits, a.Prove[i].Fallback)
		sets = append(sets, preferred|fallback)
	}
	if len(a.Enrol) > 0 {
		set, _ := v.judge.Methods(a.Enrol, nil, nil)
		sets = append(sets, set)
	}
	return sets
}

// lacks reports whether an account surely has none of the methods of a set, so that a
// demand for them is waived where it enrols.
func (v *view) lacks(account int, set engine.MethodSet) bool {
	p := v.directory.Profile(account)
	return set&(p.Enrolled()|p.PerhapsEnrolled()) == 0
}

// waivedOtherwise tells what happens at the actions that waive where a demand takes other
// methods than before: it tightens for those who had none of them and have one now, and
// loosens for those who have none any more.
func (d *differ) waivedOtherwise(name string, was, is engine.MethodSet) direction {
	var dir direction
	if d.waives.atEnrol[name] {
		for _, n := range d.accounts {
			switch lacked, lacks := d.old.lacks(n[0], was), d.new.lacks(n[1], is); {
			case lacked && !lacks:
				dir |= narrows
			case lacks && !lacked:
				dir |= widens
			}
		}
	}
	return dir
}

// recoverOtherwise tells what happens at recover where a demand takes other methods: it is
// waived where it is for the password alone.
func (d *differ) recoverOtherwise(name string, was, is engine.MethodSet) direction {
	alone := func(v *view, set engine.MethodSet) bool {
		password, _ := v.judge.Methods([]string{"password"}, nil, nil)
		return set == password
	}
	switch before, after := alone(d.old, was), alone(d.new, is); {
	case !d.waives.atRecover[name] || before == after:
		return same
	case before:
		return narrows
	}
	return widens
}

// chosenOtherwise tells what happens at enrol where one requirement stands in the place of
// another and one of them leaves a choice: the demands of each way are waived where none
// can be met.
func (d *differ) chosenOtherwise(was, is decide.Requirement) Effect {
	var e Effect
	for _, n := range d.accounts {
		// What stands in the place of a way may be waived or not, unless another way is there.
		if d.old.isExcused(n[0], was.OneOf) && !d.old.hasOtherWay(n[0], was) ||
			d.new.isExcused(n[1], is.OneOf) && !d.new.hasOtherWay(n[1], is) {
			return Either
		}
	}
	for _, n := range d.accounts {
		before, after := d.old.choiceOf(n[0], was), d.new.choiceOf(n[1], is)
		if before.waived && after.met {
			e |= Tightens
		}
		if after.waived && before.met {
			e |= Loosens
		}
	}
	return e
}

// hasOtherWay reports whether a requirement has a way that an account is not excused from and
// can meet for certain.
func (v *view) hasOtherWay(account int, r decide.Requirement) bool {
	return slices.ContainsFunc(r.OneOf, func(name string) bool {
		c := v.choiceOf(account, decide.Requirement{OneOf: []string{name}})
		return c.met && !c.waived && !v.isExcused(account, []string{name})
	})
}

// isExcused reports whether an exemption may excuse an account from one of the assurances.
func (v *view) isExcused(account int, assurances []string) bool {
	for i, x := range v.judge.Exemptions() {
		if v.exempt[i].Holds(account) != condition.False &&
			slices.ContainsFunc(x.From, func(name string) bool { return slices.Contains(assurances, name) }) {
			return true
		}
	}
	return false
}

// choice is how a requirement stands for an account that enrols.
type choice struct {
	// waived says that it may be that no way can be met, and that something is waived then;
	// met that it may be that some can.
	waived, met bool
}

func (v *view) choiceOf(account int, r decide.Requirement) choice {
	c := choice{waived: true}
	some := false
	for _, name := range r.OneOf {
		a := v.judge.FindAssurance(name)
		if a == nil {
			continue
		}
		lacks := slices.ContainsFunc(v.methodsAsked(a), func(set engine.MethodSet) bool { return v.lacks(account, set) })
		some = some || lacks
		c.met = c.met || !lacks
		// A device may be unfit, and a check may have failed.
		c.waived = c.waived && (lacks || a.Posture != "" || a.External != "")
	}
	c.waived = c.waived && some
	return c
}

// amongWays tells what a change of an assurance does to the choices at enrol that have it as
// a way.
func (d *differ) amongWays(name string) (e Effect) {
	for _, r := range d.waives.choices {
		if slices.Contains(r.OneOf, name) {
			e |= d.chosenOtherwise(r, r)
		}
	}
	return e
}

// insteadOtherwise tells what it does at enrol that an exemption asks for other assurances
// instead: where one of them is waived, so is the choice that has the excused one as a way.
func (d *differ) insteadOtherwise(from, was, is []string) (e Effect) {
	chosen := slices.ContainsFunc(d.waives.choices, func(r decide.Requirement) bool {
		return slices.ContainsFunc(r.OneOf, func(name string) bool { return slices.Contains(from, name) })
	})
	if !chosen {
		return Neither
	}
	waived := func(v *view, names []string, account func([2]int) int) bool {
		return slices.ContainsFunc(names, func(name string) bool {
			return slices.ContainsFunc(d.accounts, func(n [2]int) bool {
				return v.choiceOf(account(n), decide.Requirement{OneOf: []string{name}}).waived
			})
		})
	}
	if waived(d.new, except(is, was), func(n [2]int) int { return n[1] }) {
		e |= Loosens
	}
	if waived(d.old, except(was, is), func(n [2]int) int { return n[0] }) {
		e |= Tightens
	}
	return e
}

// relateChoices tells what happens at enrol where one outcome stands in the place of
// another.
func (d *differ) relateChoices(a, b []decide.Requirement) (e Effect) {
	lacking := func(from, in []decide.Requirement) []decide.Requirement {
		return slices.DeleteFunc(slices.Clone(from), func(r decide.Requirement) bool {
			return slices.ContainsFunc(in, func(x decide.Requirement) bool { return compareSets(x.OneOf, r.OneOf) == same })
		})
	}
	for _, was := range lacking(a, b) {
		for _, is := range lacking(b, a) {
			if len(was.OneOf) > 1 || len(is.OneOf) > 1 {
				e |= d.chosenOtherwise(was, is)
			}
		}
	}
	return e
}

// methodsChanged tells what it does that an account has enrolled other methods, or that
// others count for it. More are more ways to prove, unless an assurance looks at having
// none: then a fallback counted, a rollout eased, or enrolling waived it.
func (d *differ) methodsChanged(was, is int) Effect {
	before, after := d.old.directory.Profile(was), d.new.directory.Profile(is)
	names := func(v *view, set engine.MethodSet) []string { return v.judge.MethodNames(set) }
	// A proof counts of what is not enrolled too, such as a pass from a desk, but not where it
	// is barred.
	e := Effect(compareSets(names(d.old, before.Enrolled()), names(d.new, after.Enrolled())) |
		compareSets(names(d.old, before.Barred()), names(d.new, after.Barred())).flip())
	if before.PerhapsBarred()|after.PerhapsBarred() != 0 {
		return Either
	}
	for _, a := range d.new.judge.Assurances() {
		for i := range a.Prove {
			preferred, fallback := d.new.judge.Methods(a.Prove[i].AnyOf, a.Prove[i].Traits, a.Prove[i].Fallback)
			had, has := before.Enrolled(), after.Enrolled()
			for _, set := range []engine.MethodSet{preferred, preferred | fallback} {
				if (had&set == 0) != (has&set == 0) && (fallback != 0 || d.waives.atEnrol[a.Name] || d.eased(a.Name)) {
					e = Either
				}
			}
		}
		if len(a.Enrol) > 0 && (d.waives.atEnrol[a.Name] || d.eased(a.Name)) {
			e = Either
		}
	}
	return e
}
