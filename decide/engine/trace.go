package engine

import (
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// reasonDraft is why a draft does not apply.
const reasonDraft = "stage: a draft is never evaluated"

// trace reports for every policy what became of it.
func (e *evaluation) trace(d *decide.Decision, replacedInShadow []int32) {
	var kept *appTrace // of what is the same for every attempt at the app
	if e.App >= 0 && e.Profile != nil && e.judge.index.traces != nil {
		kept = &e.judge.index.traces[e.App]
	}
	d.Policies = append(d.Policies, e.judge.blank...)
	next := 0 // applicable are in the order of policies
	reasons, last := e.draft.keptReasons(kept), 0
	for i := range d.Policies {
		t, first := &d.Policies[i], last
		e.tracing = i
		if kept != nil {
			last = int(kept.ends[i])
		}
		switch {
		case next < len(e.applicable) && e.applicable[next].policy == int32(i):
			e.traceApplicable(t, next, replacedInShadow)
			next++
		case last > first:
			t.Why = reasons[first:last:last]
		default:
			e.traceNotApplicable(&e.judge.policies[i])
		}
	}
}

// traceApplicable reports a policy that applies, surely or perhaps.
func (e *evaluation) traceApplicable(t *decide.PolicyTrace, number int, replacedInShadow []int32) {
	h := &e.applicable[number]
	p, replacedBy := &e.judge.policies[h.policy], h.replacedBy
	if p.stage == decide.Shadow && h.inForce == condition.False && replacedInShadow != nil {
		replacedBy = replacedInShadow[number]
	}
	if replacedBy != none {
		t.SilencedBy = e.judge.policies[replacedBy].Name
	}
	t.Applies = h.applies
	if h.applies != condition.True {
		e.addWhy("", &p.asks)
	}
	if p.liveFor != nil {
		t.InForce = attempt.Known(h.inForce)
		e.addWhy("live_for: ", &p.asksLive)
	}
	rules := e.spoken[h.first:h.last]
	if e.explains && len(rules) > 0 {
		e.addPassedBy(p, rules)
	}
	switch len(rules) {
	case 0:
		for i := range p.rules {
			e.addWhy(p.rules[i].lead, &p.rules[i].asks)
		}
	case 1:
		rule := &p.Rules[rules[0].rule]
		t.Rule, t.Outcome = rule.Name, rule.Then.Kind()
		if rules[0].match != condition.True {
			e.addWhy(p.rules[rules[0].rule].lead, &p.rules[rules[0].rule].asks)
		}
	default:
		for _, r := range rules {
			t.Rules = append(t.Rules, p.Rules[r.rule].Name)
			e.addWhy(p.rules[r.rule].lead, &p.rules[r.rule].asks)
		}
	}
}

// addPassedBy notes why the rules do not match that stand above the last that may speak.
func (e *evaluation) addPassedBy(p *policy, spoken []spokenRule) {
	for i := range spoken[len(spoken)-1].rule {
		if !slices.ContainsFunc(spoken, func(r spokenRule) bool { return r.rule == i }) {
			e.addWhy(p.rules[i].lead, &p.rules[i].asks)
		}
	}
}

// traceNotApplicable reports why a policy does not apply: the first thing that failed.
func (e *evaluation) traceNotApplicable(p *policy) {
	switch {
	case p.stage == decide.Draft:
		e.addReason(reasonDraft)
	case e.wrong != nil:
		e.addReason("the attempt cannot be judged")
	case e.Profile == nil:
		e.addReason("accounts: none is known of this name")
	case e.App < 0:
		e.addReason("names: the book has no app of this name")
	case !e.judge.index.isAimed(e.App, int32(e.tracing)):
		e.addWhy("", &p.asksApps)
	default:
		e.traceNotFor(p)
	}
}

// traceNotFor reports why a policy that is aimed at the app is not for the attempt.
func (e *evaluation) traceNotFor(p *policy) {
	zone := e.judge.directory.Zone
	switch {
	case e.emergency && !p.names(e.Profile):
		e.addReason("kinds: an emergency account is only meant where `who` names it")
	case !p.isFor(e.Attempt.Action):
		e.addReason("actions: it is not for ", e.Attempt.Action.String())
	case p.From != nil && e.Moment.Before(p.from):
		e.addReason("from: wants " + p.From.String() + " or later, saw " + directory.DateOf(e.Moment.In(zone)).String())
	case !p.inForceAt(e.Moment):
		e.addReason("until: wants " + p.Until.String() + " or earlier, saw " + directory.DateOf(e.Moment.In(zone)).String())
	default:
		e.addWhy("", &p.asks)
	}
}

// addWhy writes the reasons for which a condition does not hold, each behind what it
// is the condition of.
func (e *evaluation) addWhy(what string, asks *condition.Conjunction) {
	w := &e.draft
	w.text, w.ends = asks.WriteWhy(w.text, w.ends[:0], what, e)
	for _, end := range w.ends {
		w.pending = append(w.pending, pendingReason{e.tracing, end})
	}
}

// addReason writes a reason that is no condition's.
func (e *evaluation) addReason(parts ...string) {
	e.draft.write(parts...)
	e.draft.pending = append(e.draft.pending, pendingReason{e.tracing, len(e.draft.text)})
}
