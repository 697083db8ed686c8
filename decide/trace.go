package decide

import (
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/estate"
)

// trace tells for every policy what became of it.
func (s *sitting) trace(d *Decision, shadowSilenced []int32) {
	next := 0 // hearings are in the order of policies
	for i := range s.judge.policies {
		p := &s.judge.policies[i]
		t := PolicyTrace{Name: p.Name, Stage: p.Stage, Why: []string{}}
		if next < len(s.hearings) && s.hearings[next].policy == int32(i) {
			h := s.hearings[next]
			if p.Stage == Shadow && h.inForce == condition.False {
				h.silencedBy = shadowSilenced[next]
			}
			s.traceHearing(&t, p, h)
			next++
		} else {
			s.traceSilence(&t, p)
		}
		d.Policies = append(d.Policies, t)
	}
}

// traceHearing tells of a policy that applies, surely or perhaps.
func (s *sitting) traceHearing(t *PolicyTrace, p *policy, h hearing) {
	t.Applies = h.applies
	s.addWhy(t, "", p.apps)
	s.addWhy(t, "", p.who)
	if p.liveFor != nil {
		t.InForce = &h.inForce
		s.addWhy(t, "live_for: ", p.liveFor)
	}
	rules := s.spoken[h.first:h.last]
	switch len(rules) {
	case 0:
		for i := range p.rules {
			s.addWhy(t, "rule "+p.Rules[i].Name+": ", p.rules[i].when)
		}
	case 1:
		t.Rule = p.Rules[rules[0].rule].Name
		t.Outcome = p.Rules[rules[0].rule].Then.String()
		s.addWhy(t, "rule "+t.Rule+": ", p.rules[rules[0].rule].when)
	default:
		for _, r := range rules {
			t.Rules = append(t.Rules, p.Rules[r.rule].Name)
			s.addWhy(t, "rule "+p.Rules[r.rule].Name+": ", p.rules[r.rule].when)
		}
	}
	if h.silencedBy != none {
		t.SilencedBy = s.judge.policies[h.silencedBy].Name
	}
}

// traceSilence tells why a policy does not apply: the first thing that failed.
func (s *sitting) traceSilence(t *PolicyTrace, p *policy) {
	switch {
	case p.Stage == Draft:
		t.Why = []string{"stage: a draft is never evaluated"}
	case s.account < 0:
		t.Why = []string{"accounts: the book has none of this name"}
	case s.app < 0:
		t.Why = []string{"names: the book has no app of this name"}
	default:
		if s.addWhy(t, "", p.apps); len(t.Why) == 0 {
			s.traceNotFor(t, p)
		}
	}
}

// traceNotFor tells why a policy that is aimed at the app is not for the attempt.
func (s *sitting) traceNotFor(t *PolicyTrace, p *policy) {
	zone := s.judge.estate.Zone
	switch {
	case s.emergency && !p.names(int32(s.account)):
		t.Why = []string{"kinds: an emergency account is only meant where `who` names it"}
	case !p.isFor(s.attempt.Action):
		t.Why = []string{"actions: it is not for " + s.attempt.Action.String()}
	case p.From != nil && s.moment.Before(p.from):
		t.Why = []string{"from: wants " + p.From.String() + " or later, saw " + estate.DateOf(s.moment.In(zone)).String()}
	case !p.inForceAt(s.moment):
		t.Why = []string{"until: wants " + p.Until.String() + " or earlier, saw " + estate.DateOf(s.moment.In(zone)).String()}
	default:
		s.addWhy(t, "", p.who)
	}
}

// addWhy adds the reasons for which a condition does not hold.
func (s *sitting) addWhy(t *PolicyTrace, lead string, node condition.Node) {
	s.reasons = condition.AppendWhy(s.reasons[:0], node, s, s)
	if len(s.reasons) > 0 && cap(t.Why) == 0 {
		t.Why = make([]string, 0, len(s.reasons))
	}
	for _, r := range s.reasons {
		text := r.String()
		if lead != "" {
			text = lead + text
		}
		t.Why = append(t.Why, text)
	}
}
