package decide

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// sitting is the judging of one attempt: its facts looked up, the policies that
// apply, what they say, and what is demanded. Sittings are used again, so that a
// verdict allocates nothing.
type sitting struct {
	judge   *Judge
	attempt *attempt.Attempt
	// moment is the time for windows and dates. It is the attempt's own, but
	// where a sitting looks ahead.
	moment time.Time
	// account and app are numbers in the directory, -1 where it has none.
	account, app int
	// emergency says that it is an emergency account.
	emergency bool
	// quick asks for the verdict alone; settled says that it is a block already.
	quick, settled bool
	where          whereabouts
	device         directory.DeviceView
	proofs         []proof
	weighed        bool
	weight         risk.Score
	// signals tells of each signal whether it holds, once weighed.
	signals []condition.Truth

	hearings []hearing
	// spoken holds the rules that may speak, each hearing's in one run.
	spoken []spokenRule
	// slots finds the hearing of a policy: slots[p] is its index where
	// hearings[slots[p]] is of p. Stale values do no harm, so that nothing has to
	// be cleared.
	slots []int32
	// outcomes are what was joined last, and limits what bounds the session.
	outcomes []joined
	limits   limits
	// needs holds the demands, each outcome's in one run; ways and wayNeeds those
	// of which one way is enough.
	needs    []need
	ways     []way
	wayNeeds []need
	eased    []eased
	// answers are what assurances came to in this round of judging.
	answers []answer
	// said are the outcomes noted in this round, each once, which noted tells by
	// their numbers; sure says that some policy surely speaks.
	said  []*outcome
	noted []uint32
	sure  bool
	// causes are those of the last verdict that was explained.
	causes []foundCause
	// reasons is room for those of one condition at a time. Those of the policy
	// that is being traced are written into text, each noted as pending.
	reasons []condition.Reason
	tracing int
	text    []byte
	pending []pendingReason
	round   uint32
}

// proof is a proof that counts for something.
type proof struct {
	method int
	// age is how old the proof is; ageless where it is not known.
	age time.Duration
	// now says that it was made in this very attempt, ownApp that it was made for
	// the attempt's app, and fallback that it stood in for a preferred method.
	now, ownApp, fallback bool
}

// ageless is older than any span.
const ageless = time.Duration(1<<63 - 1)

// hearing is one policy that applies, surely or perhaps.
type hearing struct {
	policy int32
	// applies tells whether it applies, were it live; inForce whether it is.
	applies, inForce condition.Truth
	// speaks says that one of its rules speaks in every world in which it
	// applies.
	speaks bool
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
	// first and last bound its demands in sitting.needs.
	first, last int32
}

// limits bound a session; zero sets no limit.
type limits struct {
	lasts, idle time.Duration
	unshared    bool
}

func limitsOf(l directory.Limits) limits {
	return limits{time.Duration(l.Lasts), time.Duration(l.Idle), l.Shared != nil && !*l.Shared}
}

// join takes the stricter of each limit.
func (l *limits) join(m limits) {
	if m.lasts > 0 && (l.lasts == 0 || m.lasts < l.lasts) {
		l.lasts = m.lasts
	}
	if m.idle > 0 && (l.idle == 0 || m.idle < l.idle) {
		l.idle = m.idle
	}
	l.unshared = l.unshared || m.unshared
}

// sit takes a sitting from the pool and looks up what the attempt names.
func (j *Judge) sit(a *attempt.Attempt) *sitting {
	s := j.sittings.Get().(*sitting)
	s.attempt, s.moment = a, a.At
	s.account, s.app, s.emergency = -1, -1, false
	if i, ok := j.directory.FindAccount(a.Account); ok {
		s.account = i
		s.emergency = j.directory.Kind(i) == directory.Emergency
	}
	if i, ok := j.directory.FindApp(a.App); ok {
		s.app = i
	}
	s.device = j.directory.View(a)
	s.where.find(j, a)
	s.gatherProofs()
	s.clear()
	return s
}

// clear forgets what was heard, before the attempt is judged (again).
func (s *sitting) clear() {
	s.hearings, s.spoken, s.weighed, s.settled = s.hearings[:0], s.spoken[:0], false, false
	if s.round++; s.round == 0 { // after four thousand million rounds
		clear(s.answers)
		clear(s.noted)
		s.round = 1
	}
}

func (s *sitting) rise() {
	s.attempt = nil
	s.judge.sittings.Put(s)
}

// gatherProofs notes the proofs that count: of methods that the book knows and
// that are not barred for the account. A desk pass counts once, where an account
// is being put right.
func (s *sitting) gatherProofs() {
	s.proofs = s.proofs[:0]
	for i := range s.attempt.Proofs {
		s.addProof(&s.attempt.Proofs[i], true)
	}
	for i := range s.attempt.Session.Proofs {
		s.addProof(&s.attempt.Session.Proofs[i], false)
	}
}

func (s *sitting) addProof(p *attempt.Proof, now bool) {
	m, ok := s.judge.directory.FindMethod(p.Method)
	switch {
	case !ok:
		return // it proves nothing; Decide says so in a notice
	case m == s.judge.deskPass && !(now && s.attempt.Action.TakesDeskPass()):
		return
	case s.account >= 0 && s.judge.directory.Barred(s.account).Has(m):
		return
	}
	made := proof{method: m, age: ageless, now: now, ownApp: now, fallback: p.Fallback}
	switch {
	case !p.At.IsZero():
		made.age = s.attempt.At.Sub(p.At)
	case now:
		made.age = 0
	}
	if !now && p.App != "" {
		app, ok := s.judge.directory.FindApp(p.App)
		made.ownApp = ok && app == s.app
	}
	s.proofs = append(s.proofs, made)
}

// hear listens to the policies that may be for the account and the app: to those
// in force, and with shadows to those too.
func (s *sitting) hear(shadows bool) {
	if s.app < 0 || s.account < 0 {
		return
	}
	x, e := &s.judge.index, s.judge.directory
	s.hearAimed(x.everyone[s.app], shadows)
	if others := x.others[s.app]; len(others) <= fewOthers {
		s.hearAimed(others, shadows)
		return
	}
	s.hearEach(x.byAccount[int32(s.account)], shadows)
	s.hearEach(x.byKind[e.Kind(s.account)], shadows)
	sure, perhaps, domain := e.Memberships(s.account)
	s.hearEach(x.byDomain[domain], shadows)
	for _, g := range sure {
		s.hearEach(x.byGroup[g], shadows)
	}
	for _, g := range perhaps {
		s.hearEach(x.byGroup[g], shadows)
	}
}

// fewOthers is how many policies of an app are asked one by one.
const fewOthers = 2

// hearAimed listens to policies that are aimed at the app.
func (s *sitting) hearAimed(policies []int32, shadows bool) {
	for _, number := range policies {
		if s.settled {
			return
		}
		s.hearOne(number, shadows)
	}
}

// hearEach listens to those of the policies that are aimed at the app, and that
// have not been heard under something else that the account has.
func (s *sitting) hearEach(policies []int32, shadows bool) {
	for _, number := range policies {
		if s.settled {
			return
		}
		if s.judge.index.isAimed(s.app, number) && s.heard(number) == nil {
			s.hearOne(number, shadows)
		}
	}
}

func (s *sitting) hearOne(number int32, shadows bool) {
	p := &s.judge.policies[number]
	h := hearing{policy: number, inForce: condition.True, first: int32(len(s.spoken)), silencedBy: none}
	if p.stage == Shadow {
		h.inForce = condition.False
		if p.liveFor != nil {
			h.inForce = condition.Eval(p.liveFor, s)
		}
		if h.inForce == condition.False && !shadows {
			return
		}
	}
	if h.applies = s.appliesTo(p); h.applies == condition.False {
		return
	}
	at := s.quick && !p.replaceable // what it says stands, so it is noted at once
	for i := range p.rules {
		match := condition.True
		if !p.rules[i].always {
			match = condition.Eval(p.rules[i].when, s)
		}
		if match == condition.False {
			continue
		}
		if at {
			if s.note(&p.rules[i]); s.settled {
				return
			}
		} else {
			s.spoken = append(s.spoken, spokenRule{int32(i), match})
		}
		if match == condition.True {
			h.speaks = true
			break
		}
	}
	if at {
		s.sure = s.sure || h.speaks && min(h.applies, h.inForce) == condition.True
		if len(p.replaces) == 0 {
			return // nor does it silence any
		}
	}
	h.last = int32(len(s.spoken))
	s.slots[number] = int32(len(s.hearings))
	s.hearings = append(s.hearings, h)
}

// appliesTo tells whether a policy that is aimed at the app is for the attempt at
// all.
func (s *sitting) appliesTo(p *policy) condition.Truth {
	if s.emergency && !p.names(int32(s.account)) {
		return condition.False
	}
	if p.bounded && (!p.isFor(s.attempt.Action) || !p.inForceAt(s.moment)) {
		return condition.False
	}
	// That it is aimed at the app is sure: nothing about an app is ever unknown.
	if p.forAnyone {
		return condition.True
	}
	return condition.Eval(p.who, s)
}

// inForceAt tells whether a moment lies between the policy's dates.
func (p *policy) inForceAt(t time.Time) bool {
	return (p.from.IsZero() || !t.Before(p.from)) && (p.until.IsZero() || t.Before(p.until))
}

// names tells whether `who` names the emergency account, by kind or by name.
func (p *policy) names(account int32) bool {
	return p.namesEmergencies || slices.Contains(p.named, account)
}

// heard returns the hearing of a policy, nil where it does not apply.
func (s *sitting) heard(policy int32) *hearing {
	if slot := int(s.slots[policy]); slot < len(s.hearings) && s.hearings[slot].policy == policy {
		return &s.hearings[slot]
	}
	return nil
}

// force tells whether a hearing counts: as things are, or were the shadows live.
func (h *hearing) force(shadows bool) condition.Truth {
	if shadows {
		return condition.True
	}
	return h.inForce
}

// join silences what is replaced and collects the outcomes of the rest.
func (s *sitting) join(shadows bool) {
	s.outcomes, s.needs, s.ways, s.wayNeeds, s.eased = s.outcomes[:0], s.needs[:0], s.ways[:0], s.wayNeeds[:0], s.eased[:0]
	for i := range s.hearings {
		s.hearings[i].silencedBy = none
	}
	sure := s.silence(shadows)
	s.limits = s.judge.index.apps[s.app].limits
	for i := range s.hearings {
		h := &s.hearings[i]
		force := h.force(shadows)
		if h.silencedBy != none || force == condition.False {
			continue
		}
		surely := h.speaks && h.applies == condition.True && force == condition.True
		for _, r := range s.spoken[h.first:h.last] {
			rule := &s.judge.policies[h.policy].rules[r.rule]
			s.outcomes = append(s.outcomes, joined{policy: h.policy, rule: r.rule, sure: surely && h.last-h.first == 1, outcome: rule.then})
			if rule.limits != nil {
				s.limits.join(*rule.limits)
			}
		}
	}
	if !sure {
		s.outcomes = append(s.outcomes, joined{policy: none, rule: none, sure: len(s.outcomes) == 0, outcome: s.judge.otherwise})
	}
}

// weigh works out what the joined outcomes demand, which hangs on the limits of
// all of them, and returns the verdict.
func (s *sitting) weigh() Verdict {
	for i := range s.outcomes {
		o := &s.outcomes[i]
		o.first = int32(len(s.needs))
		if !o.outcome.block {
			s.collect(o.outcome)
		}
		o.last = int32(len(s.needs))
	}
	return s.verdict()
}

// silence marks what policies that surely speak replace. It tells whether any
// policy surely speaks.
func (s *sitting) silence(shadows bool) (sure bool) {
	for i := range s.hearings {
		h := &s.hearings[i]
		if !h.speaks || min(h.applies, h.force(shadows)) != condition.True {
			continue
		}
		sure = true
		for _, target := range s.judge.policies[h.policy].replaces {
			if t := s.heard(target); t != nil && t.first < t.last && (t.silencedBy == none || t.silencedBy > h.policy) {
				t.silencedBy = h.policy
			}
		}
	}
	return sure
}

// canBeAsked tells whether a person can be asked for what is missing.
func (s *sitting) canBeAsked() bool {
	through, ok := s.attempt.Through.Get()
	return !ok || through.CanBeAsked()
}

// refusal returns the cause that stops an attempt before any policy is asked,
// and "" where there is none.
func (s *sitting) refusal() CauseCode {
	e := s.judge.directory
	switch {
	case s.account < 0:
		return AccountUnknown
	case e.Disabled(s.account):
		return AccountDisabled
	case s.app < 0:
		return AppUnknown
	case e.Kind(s.account) != directory.Emergency && !e.IsOpenTo(s.app, s.account):
		return AppNotOpen
	}
	return ""
}

// state is the strictest state of the demands of an outcome.
func (s *sitting) state(o *joined) demandState {
	state := met
	for i := o.first; i < o.last; i++ {
		state = max(state, s.needs[i].state)
	}
	return state
}

// blocks tells whether an outcome that was joined blocks by itself.
func (s *sitting) blocks() bool {
	for i := range s.outcomes {
		if s.outcomes[i].outcome.block {
			return true
		}
	}
	return false
}

// verdict is the strictest of what was joined.
func (s *sitting) verdict() Verdict {
	if s.blocks() {
		return Block
	}
	state := met
	for i := range s.outcomes {
		state = max(state, s.state(&s.outcomes[i]))
	}
	return s.verdictOf(state)
}

// verdictOf is the verdict where the strictest demand stands so.
func (s *sitting) verdictOf(state demandState) Verdict {
	switch {
	case state == met:
		return Grant
	case state == open && s.canBeAsked():
		return StepUp
	}
	return Block
}
