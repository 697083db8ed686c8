package decide

import (
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
)

// Brief is a decision without its words, for whoever judges millions of attempts.
type Brief struct {
	// Verdict is the verdict, and WithShadow what it would be were the shadow
	// policies live.
	Verdict, WithShadow Verdict
	// Causes are those of the decision, without their texts; of a grant, none.
	Causes []Cause
	// Account and App are the numbers in the directory of those that the attempt
	// names, -1 where it has none.
	Account, App int
	// Country is where the attempt comes from, as Judge.Whereabouts has it; "" where
	// that is not known, or none.
	Country attempt.CountryCode
	// MustEnrol says that something that is asked for can only be shown once a
	// method is enrolled, of which the account has none.
	MustEnrol bool
}

// Brief judges an attempt into b. It always agrees with Decide. It uses the list
// in b again, and so comes to allocate nothing.
func (j *Judge) Brief(a *attempt.Attempt, b *Brief) {
	s := j.sit(a)
	defer s.rise()
	*b = Brief{Verdict: Block, WithShadow: Block, Causes: b.Causes[:0], Account: s.account, App: s.app}
	if s.countryState() != countryNone {
		b.Country = s.where.country
	}
	if code := s.refusal(); code != "" {
		b.Causes = append(b.Causes, Cause{Code: code})
		return
	}
	s.hear(true)
	s.sortHearings()
	shadows := s.hearsShadows()
	if shadows {
		s.join(true)
		b.WithShadow = s.weigh()
	}
	s.join(false)
	b.Verdict = s.weigh()
	if !shadows {
		b.WithShadow = b.Verdict
	}
	if b.Verdict == Grant {
		return
	}
	for i := range s.needs {
		b.MustEnrol = b.MustEnrol || s.mustEnrol(s.needs[i])
	}
	for _, c := range s.findCauses(b.Verdict) {
		o := &s.outcomes[c.outcome]
		source := s.source(o)
		b.Causes = append(b.Causes, Cause{Code: c.code, Policy: source.Policy, Rule: source.Rule})
	}
}

// hearsShadows tells whether a policy was heard that is not surely in force.
func (s *sitting) hearsShadows() bool {
	return slices.ContainsFunc(s.hearings, func(h hearing) bool { return h.inForce != condition.True })
}

// mustEnrol tells whether a demand is open that takes a method which is to be
// enrolled first; of one of several ways, that each of them is such.
func (s *sitting) mustEnrol(n need) bool {
	switch {
	case n.state == met:
		return false
	case n.demand == anyProof && s.attempt.Action.TakesDeskPass():
		return false // a pass of the help desk will do
	case n.demand != oneOf:
		return n.enrol
	}
	for _, way := range s.ways[n.firstWay:n.lastWay] {
		if !slices.ContainsFunc(s.wayNeeds[way.first:way.last], func(inner need) bool { return s.mustEnrol(inner) || inner.state == impossible }) {
			return false
		}
	}
	return true
}

// foundCause says that an outcome, by its number among those joined, is decisive.
type foundCause struct {
	outcome int
	code    CauseCode
}

// findCauses finds the causes of a verdict, the decisive ones only. The list holds
// until it is called again.
func (s *sitting) findCauses(v Verdict) []foundCause {
	blocks, worst := s.blocks(), met
	for i := range s.outcomes {
		worst = max(worst, s.state(&s.outcomes[i]))
	}
	s.causes = s.causes[:0]
	for i := range s.outcomes {
		if code := s.causeCode(&s.outcomes[i], v, blocks, worst); code != "" {
			s.causes = append(s.causes, foundCause{i, code})
		}
	}
	return s.causes
}

// causeCode tells why what was joined is decisive, "" where it is not. It is told
// the verdict, whether something blocks by itself, and how the strictest demand
// stands.
func (s *sitting) causeCode(o *joined, v Verdict, blocks bool, worst demandState) CauseCode {
	state := s.state(o)
	switch {
	case o.outcome.block && o.policy == none:
		return OtherwiseBlocks
	case o.outcome.block && o.sure:
		return RuleBlocks
	case o.outcome.block:
		return RuleMayBlock
	case blocks || state < worst && worst == impossible:
		return "" // what this one asks for is beside the point
	case state == impossible:
		return s.impossibleCode(s.firstImpossible(o))
	case state == open && v == Block:
		return CannotBeAsked
	case state == open:
		return DemandOpen
	case v != Grant:
		return ""
	case o.first == o.last:
		return PublicApp
	}
	return DemandsMet
}

// firstImpossible returns the first demand that cannot be met.
func (s *sitting) firstImpossible(o *joined) *need {
	for i := o.first; i < o.last; i++ {
		if s.needs[i].state == impossible {
			return &s.needs[i]
		}
	}
	return nil
}

func (s *sitting) impossibleCode(n *need) CauseCode {
	if n.demand == oneOf {
		return NoWay
	}
	if s.judge.demands[n.demand].kind == externalDemand {
		return CheckFailed
	}
	if _, identified := s.device.Identity(); !identified {
		return DeviceUnidentified
	}
	return DeviceUnfit
}
