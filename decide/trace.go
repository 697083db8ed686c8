package decide

import (
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// trace tells for every policy what became of it.
func (s *sitting) trace(d *Decision, shadowSilenced []int32) {
	d.Policies = make([]PolicyTrace, 0, len(s.judge.policies))
	next := 0 // hearings are in the order of policies
	s.text, s.pending = s.text[:0], s.pending[:0]
	for i := range s.judge.policies {
		p := &s.judge.policies[i]
		s.tracing = i
		t := PolicyTrace{Name: p.Name, Stage: p.Stage, Why: []string{}}
		if next < len(s.hearings) && s.hearings[next].policy == int32(i) {
			h := s.hearings[next]
			if p.Stage == Shadow && h.inForce == condition.False {
				h.silencedBy = shadowSilenced[next]
			}
			s.traceHearing(&t, p, h)
			next++
		} else {
			s.traceSilence(p)
		}
		d.Policies = append(d.Policies, t)
	}
	s.handOutReasons(d.Policies)
}

// pendingReason is a reason that has been written into sitting.text.
type pendingReason struct{ policy, end int }

// handOutReasons gives the policies the reasons that were written for them: all
// are parts of one text, for a trace has many.
func (s *sitting) handOutReasons(policies []PolicyTrace) {
	text := string(s.text)
	reasons := make([]string, 0, len(s.pending))
	start := 0
	for i, r := range s.pending {
		reasons = append(reasons, text[start:r.end])
		start = r.end
		first := i
		for first > 0 && s.pending[first-1].policy == r.policy {
			first--
		}
		policies[r.policy].Why = reasons[first : i+1 : i+1]
	}
}

// traceHearing tells of a policy that applies, surely or perhaps.
func (s *sitting) traceHearing(t *PolicyTrace, p *policy, h hearing) {
	t.Applies = h.applies
	s.addWhy("", p.apps)
	s.addWhy("", p.who)
	if p.liveFor != nil {
		t.InForce = &h.inForce
		s.addWhy("live_for: ", p.liveFor)
	}
	rules := s.spoken[h.first:h.last]
	switch len(rules) {
	case 0:
		for i := range p.rules {
			s.addWhy("rule "+p.Rules[i].Name+": ", p.rules[i].when)
		}
	case 1:
		t.Rule = p.Rules[rules[0].rule].Name
		t.Outcome = p.Rules[rules[0].rule].Then.String()
		s.addWhy("rule "+t.Rule+": ", p.rules[rules[0].rule].when)
	default:
		for _, r := range rules {
			t.Rules = append(t.Rules, p.Rules[r.rule].Name)
			s.addWhy("rule "+p.Rules[r.rule].Name+": ", p.rules[r.rule].when)
		}
	}
	if h.silencedBy != none {
		t.SilencedBy = s.judge.policies[h.silencedBy].Name
	}
}

// traceSilence tells why a policy does not apply: the first thing that failed.
func (s *sitting) traceSilence(p *policy) {
	switch {
	case p.Stage == Draft:
		s.addReason("stage: a draft is never evaluated")
	case s.account < 0:
		s.addReason("accounts: the book has none of this name")
	case s.app < 0:
		s.addReason("names: the book has no app of this name")
	default:
		if !s.addWhy("", p.apps) {
			s.traceNotFor(p)
		}
	}
}

// traceNotFor tells why a policy that is aimed at the app is not for the attempt.
func (s *sitting) traceNotFor(p *policy) {
	zone := s.judge.directory.Zone
	switch {
	case s.emergency && !p.names(int32(s.account)):
		s.addReason("kinds: an emergency account is only meant where `who` names it")
	case !p.isFor(s.attempt.Action):
		s.addReason("actions: it is not for " + s.attempt.Action.String())
	case p.From != nil && s.moment.Before(p.from):
		s.addReason("from: wants " + p.From.String() + " or later, saw " + directory.DateOf(s.moment.In(zone)).String())
	case !p.inForceAt(s.moment):
		s.addReason("until: wants " + p.Until.String() + " or earlier, saw " + directory.DateOf(s.moment.In(zone)).String())
	default:
		s.addWhy("", p.who)
	}
}

// addWhy writes the reasons for which a condition does not hold, and tells
// whether there are any.
func (s *sitting) addWhy(lead string, node condition.Node) bool {
	s.reasons = condition.AppendWhy(s.reasons[:0], node, s, s)
	for _, r := range s.reasons {
		s.text = r.Append(append(s.text, lead...))
		s.pending = append(s.pending, pendingReason{s.tracing, len(s.text)})
	}
	return len(s.reasons) > 0
}

// addReason writes a reason that is no condition's.
func (s *sitting) addReason(reason string) {
	s.text = append(s.text, reason...)
	s.pending = append(s.pending, pendingReason{s.tracing, len(s.text)})
}
