package decide

import (
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// trace tells for every policy what became of it.
func (e *evaluation) trace(d *Decision, shadowSilenced []int32) {
	d.Policies = make([]PolicyTrace, len(e.judge.policies))
	next := 0 // hearings are in the order of policies
	for i := range e.judge.policies {
		p, t := &e.judge.policies[i], &d.Policies[i]
		e.tracing = i
		t.Name, t.Stage, t.Why = p.Name, p.stage, []string{}
		if next < len(e.hearings) && e.hearings[next].policy == int32(i) {
			h := &e.hearings[next]
			silencedBy := h.silencedBy
			if p.stage == Shadow && h.inForce == condition.False && shadowSilenced != nil {
				silencedBy = shadowSilenced[next]
			}
			e.traceHearing(t, p, h)
			if silencedBy != none {
				t.SilencedBy = e.judge.policies[silencedBy].Name
			}
			next++
		} else {
			e.traceSilence(t, p)
		}
	}
}

// traceHearing reports a policy that applies, surely or perhaps.
func (e *evaluation) traceHearing(t *PolicyTrace, p *policy, h *hearing) {
	t.Applies = h.applies
	if h.applies != condition.True {
		e.addWhy("", &p.asks)
	}
	if p.liveFor != nil {
		inForce := h.inForce
		t.InForce = &inForce
		e.addWhy("live_for: ", &p.asksLive)
	}
	rules := e.spoken[h.first:h.last]
	switch len(rules) {
	case 0:
		for i := range p.rules {
			e.addWhy(p.rules[i].lead, &p.rules[i].asks)
		}
	case 1:
		t.Rule = p.Rules[rules[0].rule].Name
		t.Outcome = p.Rules[rules[0].rule].Then.String()
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

// traceSilence tells why a policy does not apply: the first thing that failed.
func (e *evaluation) traceSilence(t *PolicyTrace, p *policy) {
	switch {
	case p.stage == Draft:
		e.addReason("stage: a draft is never evaluated")
	case e.wrong != nil:
		e.addReason("the attempt cannot be judged")
	case e.Profile == nil:
		e.addReason("accounts: none is known of this name")
	case e.App < 0:
		e.addReason("names: the book has no app of this name")
	default:
		if !e.judge.index.isAimed(e.App, int32(e.tracing)) {
			e.addNotAimed(t, p)
		} else {
			e.traceNotFor(p)
		}
	}
}

// traceNotFor tells why a policy that is aimed at the app is not for the attempt.
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
	w.text, w.ends = asks.WriteWhy(w.text, w.ends[:0], what, &e.Facts)
	for _, end := range w.ends {
		w.pending = append(w.pending, pendingReason{e.tracing, end})
	}
}

// addNotAimed notes why a policy is not aimed at the app.
func (e *evaluation) addNotAimed(t *PolicyTrace, p *policy) {
	kept := e.judge.index.notAimed
	if kept == nil {
		e.addWhy("", &p.asksApps)
		return
	}
	t.Why = e.draft.addNames(kept[e.App][e.tracing])
}

// addReason writes a reason that is no condition's.
func (e *evaluation) addReason(parts ...string) {
	e.draft.write(parts...)
	e.draft.pending = append(e.draft.pending, pendingReason{e.tracing, len(e.draft.text)})
}
