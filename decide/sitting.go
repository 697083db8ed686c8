package decide

import (
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/estate"
)

// sitting is the judging of one attempt: its facts looked up, the policies that
// apply, and what they say. Sittings are used again, so that a verdict
// allocates nothing.
type sitting struct {
	judge   *Judge
	attempt *attempt.Attempt
	// account and app are numbers in the estate, -1 where it has none.
	account, app int
	// place is nil while the address is unknown.
	place *estate.Place
	// country is where the attempt comes from, as far as is known.
	country      attempt.CountryCode
	countryState countryState
	proofs       []proof

	hearings []hearing
	// spoken holds the rules that may speak, each hearing's in one run.
	spoken []spokenRule
	// slots finds the hearing of a policy: slots[p] is its index where
	// hearings[slots[p]] is of p. Stale values do no harm, so that nothing has to
	// be cleared.
	slots []int32
	// outcomes are what was joined last.
	outcomes []joined
}

type countryState uint8

const (
	countryUnknown countryState = iota
	// countryStated is what the attempt says while its address is unknown: a
	// network may yet say otherwise.
	countryStated
	countryKnown
	countryNone
)

// proof is a proof of a method of the catalogue.
type proof struct {
	method int
	// age is how old the proof is; ageless where it is not known.
	age time.Duration
	now bool
}

// ageless is older than any span.
const ageless = time.Duration(1<<63 - 1)

// hearing is one policy that applies, surely or perhaps.
type hearing struct {
	policy  int32
	applies condition.Truth
	// surely says that it surely speaks.
	surely bool
	// first and last bound its rules in sitting.spoken.
	first, last int32
	silencedBy  int32
}

// none is the policy that silences a hearing nobody silences.
const none int32 = -1

type spokenRule struct {
	rule  int32
	match condition.Truth
}

// joined is an outcome that takes part in the decision.
type joined struct {
	// policy and rule are none where it is the book's `otherwise`.
	policy, rule int32
	// sure says that the rule speaks in every world.
	sure    bool
	outcome *outcome
}

// sit takes a sitting from the pool and looks up what the attempt names.
func (j *Judge) sit(a *attempt.Attempt) *sitting {
	s := j.sittings.Get().(*sitting)
	s.attempt = a
	s.account, s.app = -1, -1
	if i, ok := j.estate.FindAccount(a.Account); ok {
		s.account = i
	}
	if i, ok := j.estate.FindApp(a.App); ok {
		s.app = i
	}
	s.findPlace()
	s.gatherProofs()
	s.hearings, s.spoken, s.outcomes = s.hearings[:0], s.spoken[:0], s.outcomes[:0]
	return s
}

func (s *sitting) rise() {
	s.attempt, s.place = nil, nil
	s.judge.sittings.Put(s)
}

// findPlace works out the address's networks and the country: a network's own
// wins over the attempt's.
func (s *sitting) findPlace() {
	s.place, s.country, s.countryState = nil, "", countryUnknown
	if !s.attempt.IP.IsUnknown() {
		ip, _ := s.attempt.IP.Get() // no address lies nowhere
		s.place = s.judge.estate.Place(ip)
	}
	stated, isStated := s.attempt.Country.Get()
	switch {
	case s.place != nil && s.place.Country != "":
		s.country, s.countryState = s.place.Country, countryKnown
	case isStated && s.place == nil:
		s.country, s.countryState = stated, countryStated
	case isStated:
		s.country, s.countryState = stated, countryKnown
	case !s.attempt.Country.IsUnknown() && s.place != nil:
		s.countryState = countryNone
	}
}

func (s *sitting) gatherProofs() {
	s.proofs = s.proofs[:0]
	add := func(p *attempt.Proof, now bool) {
		m, ok := s.judge.estate.FindMethod(p.Method)
		if !ok {
			return // it proves nothing; Decide says so in a notice
		}
		age := ageless
		switch {
		case !p.At.IsZero():
			age = s.attempt.At.Sub(p.At)
		case now:
			age = 0
		}
		s.proofs = append(s.proofs, proof{m, age, now})
	}
	for i := range s.attempt.Proofs {
		add(&s.attempt.Proofs[i], true)
	}
	for i := range s.attempt.Session.Proofs {
		add(&s.attempt.Session.Proofs[i], false)
	}
}

// Holds implements condition.Facts.
func (s *sitting) Holds(t *condition.Test) condition.Truth {
	switch t.Key.About() {
	case condition.AboutAccount:
		if s.account < 0 {
			return condition.False
		}
		return s.judge.estate.AccountHolds(s.account, t)
	case condition.AboutApp:
		if s.app < 0 {
			return condition.False
		}
		return s.judge.estate.AppHolds(s.app, t)
	}
	switch t.Key {
	case condition.Networks, condition.OurNetwork:
		if s.place == nil {
			return condition.Unknown
		}
		return s.judge.estate.PlaceHolds(s.place, t)
	case condition.Countries:
		return s.countryHolds(t)
	case condition.During:
		for _, w := range t.Numbers() {
			if s.judge.estate.InWindow(int(w), s.attempt.At) {
				return condition.True
			}
		}
		return condition.False
	case condition.Through:
		if through, ok := s.attempt.Through.Get(); ok {
			return estate.ThroughHolds(through, t)
		}
		if s.attempt.Through.IsUnknown() {
			return condition.Unknown
		}
		return condition.False
	}
	return condition.Unknown
}

func (s *sitting) countryHolds(t *condition.Test) condition.Truth {
	switch s.countryState {
	case countryKnown:
		return estate.CountryHolds(s.country, t)
	case countryNone:
		return condition.False
	case countryStated:
		return s.judge.estate.CountryMayHold(s.country, t)
	}
	return condition.Unknown
}

// hear listens to the policies aimed at the app: to the live ones, and with
// shadows to those too.
func (s *sitting) hear(shadows bool) {
	if s.app < 0 {
		return
	}
	for _, number := range s.judge.heard[s.app] {
		p := &s.judge.policies[number]
		if p.Stage != Live && !shadows {
			continue
		}
		applies := s.appliesTo(p)
		if applies == condition.False {
			continue
		}
		h := hearing{policy: number, applies: applies, first: int32(len(s.spoken)), silencedBy: none}
		for i := range p.rules {
			match := condition.Eval(p.rules[i].when, s)
			if match == condition.False {
				continue
			}
			s.spoken = append(s.spoken, spokenRule{int32(i), match})
			if match == condition.True {
				h.surely = applies == condition.True
				break
			}
		}
		h.last = int32(len(s.spoken))
		if h.first < h.last {
			s.slots[number] = int32(len(s.hearings))
		}
		s.hearings = append(s.hearings, h)
	}
}

// appliesTo tells whether the policy is for the account at all.
func (s *sitting) appliesTo(p *policy) condition.Truth {
	if s.account >= 0 && s.judge.estate.Accounts[s.account].Kind == estate.Emergency && !p.names(int32(s.account)) {
		return condition.False
	}
	return min(condition.Eval(p.apps, s), condition.Eval(p.who, s))
}

// names tells whether `who` names the emergency account, by kind or by name.
func (p *policy) names(account int32) bool {
	if p.namesEmergencies {
		return true
	}
	for _, n := range p.named {
		if n == account {
			return true
		}
	}
	return false
}

// hearingOf returns the hearing of a policy, nil where it says nothing.
func (s *sitting) hearingOf(policy int32) *hearing {
	if slot := int(s.slots[policy]); slot < len(s.hearings) && s.hearings[slot].policy == policy {
		if h := &s.hearings[slot]; h.first < h.last {
			return h
		}
	}
	return nil
}

// join silences what is replaced and collects the outcomes of the rest.
func (s *sitting) join(shadows bool) {
	s.outcomes = s.outcomes[:0]
	inForce := func(h *hearing) bool { return shadows || s.judge.policies[h.policy].Stage == Live }
	for i := range s.hearings {
		s.hearings[i].silencedBy = none
	}
	sure := false
	for i := range s.hearings {
		h := &s.hearings[i]
		if !h.surely || !inForce(h) {
			continue
		}
		sure = true
		for _, target := range s.judge.policies[h.policy].replaces {
			if t := s.hearingOf(target); t != nil && t.silencedBy == none {
				t.silencedBy = h.policy
			}
		}
	}
	for i := range s.hearings {
		h := &s.hearings[i]
		if h.silencedBy != none || !inForce(h) {
			continue
		}
		rules := s.spoken[h.first:h.last]
		for k := range rules {
			s.outcomes = append(s.outcomes, joined{h.policy, rules[k].rule, h.surely && len(rules) == 1,
				&s.judge.policies[h.policy].rules[rules[k].rule].then})
		}
	}
	if !sure {
		s.outcomes = append(s.outcomes, joined{none, none, len(s.outcomes) == 0, &s.judge.otherwise})
	}
}

// met tells whether a demand is met by a proof.
func (s *sitting) met(d *methodDemand) bool {
	for i := range s.proofs {
		p := &s.proofs[i]
		if !d.methods.Has(p.method) {
			continue
		}
		switch {
		case d.within == Session, d.within == Now && p.now:
			return true
		case d.within > 0 && p.age <= time.Duration(d.within):
			return true
		}
	}
	return false
}

// needsAnyProof tells whether the outcome asks for no method, so that a proof by
// any method stands in: a grant never means an unproven account.
func (s *sitting) needsAnyProof(o *outcome) bool {
	return len(o.demands) == 0 && !s.judge.estate.Apps[s.app].Public
}

// canBeAsked tells whether a person can be asked for what is missing.
func (s *sitting) canBeAsked() bool {
	through, ok := s.attempt.Through.Get()
	return !ok || through.CanBeAsked()
}

// refusal returns the cause that stops an attempt before any policy is asked,
// and "" where there is none.
func (s *sitting) refusal() CauseCode {
	e := s.judge.estate
	switch {
	case s.account < 0:
		return AccountUnknown
	case e.Accounts[s.account].Disabled:
		return AccountDisabled
	case s.app < 0:
		return AppUnknown
	case e.Accounts[s.account].Kind != estate.Emergency && !e.IsOpenTo(s.app, s.account):
		return AppNotOpen
	}
	return ""
}

// verdict is the strictest of what was joined.
func (s *sitting) verdict() Verdict {
	verdict := Grant
	for i := range s.outcomes {
		o := s.outcomes[i].outcome
		if o.block {
			return Block
		}
		if verdict == Grant && s.isOpen(o) {
			verdict = StepUp
		}
	}
	if verdict == StepUp && !s.canBeAsked() {
		return Block
	}
	return verdict
}

// isOpen tells whether something is still to be shown for the outcome.
func (s *sitting) isOpen(o *outcome) bool {
	if s.needsAnyProof(o) && len(s.proofs) == 0 {
		return true
	}
	for _, d := range o.demands {
		if !s.met(&s.judge.demands[d.demand]) {
			return true
		}
	}
	return false
}

// Verdict judges an attempt and returns the verdict alone. It allocates nothing
// and always agrees with Decide.
func (j *Judge) Verdict(a *attempt.Attempt) Verdict {
	s := j.sit(a)
	defer s.rise()
	if s.refusal() != "" {
		return Block
	}
	s.hear(false)
	s.join(false)
	return s.verdict()
}
