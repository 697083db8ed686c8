package decide

import (
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// trace tells for every policy what became of it.
func (e *evaluation) trace(d *Decision, shadowSilenced []int32) {
	d.Policies = make([]PolicyTrace, 0, len(e.judge.policies))
	next := 0 // hearings are in the order of policies
	e.text, e.pending = e.text[:0], e.pending[:0]
	for i := range e.judge.policies {
		p := &e.judge.policies[i]
		e.tracing = i
		t := PolicyTrace{Name: p.Name, Stage: p.Stage, Why: []string{}}
		if next < len(e.hearings) && e.hearings[next].policy == int32(i) {
			h := e.hearings[next]
			if p.Stage == Shadow && h.inForce == condition.False && shadowSilenced != nil {
				h.silencedBy = shadowSilenced[next]
			}
			e.traceHearing(&t, p, h)
			next++
		} else {
			e.traceSilence(p)
		}
		d.Policies = append(d.Policies, t)
	}
	e.handOutReasons(d.Policies)
}

// pendingReason is a reason that has been written into evaluation.text.
type pendingReason struct{ policy, end int }

// handOutReasons gives the policies the reasons that were written for them: all
// are parts of one text, for a trace has many.
func (e *evaluation) handOutReasons(policies []PolicyTrace) {
	text := string(e.text)
	reasons := make([]string, 0, len(e.pending))
	start := 0
	for i, r := range e.pending {
		reasons = append(reasons, text[start:r.end])
		start = r.end
		first := i
		for first > 0 && e.pending[first-1].policy == r.policy {
			first--
		}
		policies[r.policy].Why = reasons[first : i+1 : i+1]
	}
}

// traceHearing tells of a policy that applies, surely or perhaps.
func (e *evaluation) traceHearing(t *PolicyTrace, p *policy, h hearing) {
	t.Applies = h.applies
	e.addWhy("", p.apps)
	e.addWhy("", p.who)
	if p.liveFor != nil {
		t.InForce = &h.inForce
		e.addWhy("live_for: ", p.liveFor)
	}
	rules := e.spoken[h.first:h.last]
	switch len(rules) {
	case 0:
		for i := range p.rules {
			e.addWhy("rule "+p.Rules[i].Name+": ", p.rules[i].when)
		}
	case 1:
		t.Rule = p.Rules[rules[0].rule].Name
		t.Outcome = p.Rules[rules[0].rule].Then.String()
		e.addWhy("rule "+t.Rule+": ", p.rules[rules[0].rule].when)
	default:
		for _, r := range rules {
			t.Rules = append(t.Rules, p.Rules[r.rule].Name)
			e.addWhy("rule "+p.Rules[r.rule].Name+": ", p.rules[r.rule].when)
		}
	}
	if h.silencedBy != none {
		t.SilencedBy = e.judge.policies[h.silencedBy].Name
	}
}

// traceSilence tells why a policy does not apply: the first thing that failed.
func (e *evaluation) traceSilence(p *policy) {
	switch {
	case p.Stage == Draft:
		e.addReason("stage: a draft is never evaluated")
	case e.wrong != nil:
		e.addReason("the attempt cannot be judged")
	case e.Profile == nil:
		e.addReason("accounts: none is known of this name")
	case e.App < 0:
		e.addReason("names: the book has no app of this name")
	default:
		if !e.addWhy("", p.apps) {
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
		e.addReason("actions: it is not for " + e.Attempt.Action.String())
	case p.From != nil && e.Moment.Before(p.from):
		e.addReason("from: wants " + p.From.String() + " or later, saw " + directory.DateOf(e.Moment.In(zone)).String())
	case !p.inForceAt(e.Moment):
		e.addReason("until: wants " + p.Until.String() + " or earlier, saw " + directory.DateOf(e.Moment.In(zone)).String())
	default:
		e.addWhy("", p.who)
	}
}

// addWhy writes the reasons for which a condition does not hold, and tells
// whether there are any.
func (e *evaluation) addWhy(lead string, node condition.Node) bool {
	e.reasons = condition.AppendWhy(e.reasons[:0], node, &e.Facts)
	for _, r := range e.reasons {
		e.text = r.Append(append(e.text, lead...))
		e.pending = append(e.pending, pendingReason{e.tracing, len(e.text)})
	}
	return len(e.reasons) > 0
}

// addReason writes a reason that is no condition's.
func (e *evaluation) addReason(reason string) {
	e.text = append(e.text, reason...)
	e.pending = append(e.pending, pendingReason{e.tracing, len(e.text)})
}
