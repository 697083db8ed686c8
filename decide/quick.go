package decide

import "github.com/briskwarden/briskwarden/attempt"

// This file is the way to the verdict alone. It hears the same policies as a
// decision does and asks the same demands, but keeps no lists of them.

// judgeAgain judges as things are, from what has been looked up, for the verdict
// alone. It goes the way of join and weigh, but lists neither what policies say
// that none can silence, nor the demands; and each outcome and each assurance is
// weighed once, however many rules have it.
func (s *sitting) judgeAgain() Verdict {
	s.clear()
	s.limits, s.said, s.sure, s.quick = s.judge.index.apps[s.app].limits, s.said[:0], false, true
	s.hear(false)
	s.quick = false
	s.sure = s.silence(false) || s.sure
	for i := range s.hearings {
		h := &s.hearings[i]
		if h.silencedBy != none {
			continue
		}
		rules := s.judge.policies[h.policy].rules
		for _, r := range s.spoken[h.first:h.last] {
			s.note(&rules[r.rule])
		}
	}
	if !s.sure {
		s.note(&rule{then: s.judge.otherwise})
	}
	if s.settled {
		return Block // whatever the rest demands
	}
	s.needs, s.ways, s.wayNeeds, s.eased = s.needs[:0], s.ways[:0], s.wayNeeds[:0], s.eased[:0]
	state := met
	for _, o := range s.said {
		state = max(state, s.weighOutcome(o))
	}
	return s.verdictOf(state)
}

// note notes what a rule comes to that may speak and is not silenced.
func (s *sitting) note(r *rule) {
	if r.then.block {
		s.settled = true
		return
	}
	if r.limits != nil {
		s.limits.join(*r.limits)
	}
	if s.noted[r.then.number] != s.round {
		s.noted[r.then.number] = s.round
		s.said = append(s.said, r.then)
	}
}

// answer is what an assurance comes to: its strictest demand, and whether it
// asks for a method in every world.
type answer struct {
	round  uint32
	state  demandState
	proves bool
}

// weighOutcome is the strictest state of what an outcome demands.
func (s *sitting) weighOutcome(o *outcome) demandState {
	state, proves := met, false
	for i := range o.requires {
		ways := o.requires[i].ways
		if len(ways) > 1 {
			proves = s.choose(ways) || proves
			state = max(state, s.needs[len(s.needs)-1].state)
			continue
		}
		a := &s.answers[ways[0]]
		if a.round != s.round {
			*a = s.ponder(ways[0])
		}
		state, proves = max(state, a.state), proves || a.proves
	}
	if !proves && state == met && !s.judge.index.apps[s.app].public && !s.hasAnyProof() {
		state = open
	}
	return state
}

// ponder asks what an assurance demands.
func (s *sitting) ponder(assurance int32) answer {
	a := answer{round: s.round}
	asked := &s.judge.assurances[assurance]
	if len(asked.exemptions) == 0 { // the common case needs no list
		for _, number := range asked.demands {
			if n, counts := s.need(number, assurance, false); counts {
				a.state = max(a.state, n.state)
				a.proves = a.proves || s.judge.demands[number].kind == methodDemand
			}
		}
		return a
	}
	s.needs, a.proves = s.ask(assurance, s.needs[:0], false)
	for i := range s.needs {
		a.state = max(a.state, s.needs[i].state)
	}
	return a
}

// Verdict judges an attempt and returns the verdict alone. It allocates nothing
// and always agrees with Decide.
func (j *Judge) Verdict(a *attempt.Attempt) Verdict {
	s := j.sit(a)
	defer s.rise()
	if s.refusal() != "" {
		return Block
	}
	return s.judgeAgain()
}
