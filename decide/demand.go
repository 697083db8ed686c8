package decide

import (
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// demandCode is a DemandKind as a number, which a verdict tells apart faster.
type demandCode uint8

const (
	methodDemand demandCode = iota
	postureDemand
	passwordDemand
	acceptDemand
	externalDemand
	consentDemand
	enrolDemand
)

// kind returns the word for the wire.
func (c demandCode) kind() DemandKind { return DemandKinds()[c] }

// demand is one thing to be shown, made ready. Two that ask the same are equal.
type demand struct {
	kind demandCode
	// methods are those that would do, of a method demand and of one to enrol.
	methods, fallback directory.MethodSet
	// fallbackNames keeps the order in which fallbacks are offered.
	fallbackNames string
	within        Within
	remember      time.Duration
	// name is the posture, the document or the outside check.
	name    string
	posture int32
	version int
	every   time.Duration
}

func (j *Judge) methodSet(names []string) (directory.MethodSet, error) {
	var set directory.MethodSet
	for _, name := range names {
		m, ok := j.directory.FindMethod(name)
		switch {
		case !ok:
			return 0, fmt.Errorf("method %q is not defined", name)
		case m == j.deskPass:
			return 0, fmt.Errorf("a %s cannot be asked for: it stands for other methods", directory.DeskPass)
		}
		set = set.Add(m)
	}
	return set, nil
}

// compileDemands makes the demands of an assurance ready and returns their
// numbers.
func (j *Judge) compileDemands(a Assurance) ([]int32, error) {
	var demands []demand
	for _, prove := range a.Prove {
		d, err := j.compileProve(prove)
		if err != nil {
			return nil, err
		}
		demands = append(demands, d)
	}
	if a.Posture != "" {
		n, ok := j.directory.FindPosture(a.Posture)
		if !ok {
			return nil, fmt.Errorf("posture %q is not defined", a.Posture)
		}
		demands = append(demands, demand{kind: postureDemand, name: a.Posture, posture: int32(n)})
	}
	if a.ChangePassword {
		demands = append(demands, demand{kind: passwordDemand})
	}
	if a.Accept != nil {
		demands = append(demands, demand{kind: acceptDemand, name: a.Accept.Document, version: a.Accept.Version, every: time.Duration(a.Accept.Every)})
	}
	if a.External != "" {
		demands = append(demands, demand{kind: externalDemand, name: a.External})
	}
	if a.Consent {
		demands = append(demands, demand{kind: consentDemand})
	}
	if len(a.Enrol) > 0 {
		set, err := j.methodSet(a.Enrol)
		if err != nil {
			return nil, err
		}
		demands = append(demands, demand{kind: enrolDemand, methods: set})
	}
	if len(demands) == 0 {
		return nil, fmt.Errorf("it demands nothing")
	}
	var numbers []int32
	for _, d := range demands {
		numbers = append(numbers, j.number(d))
	}
	return numbers, nil
}

func (j *Judge) compileProve(p Prove) (demand, error) {
	d := demand{kind: methodDemand, within: p.Within, remember: time.Duration(p.Remember), fallbackNames: strings.Join(p.Fallback, ",")}
	var err error
	if d.methods, err = j.methodSet(p.AnyOf); err != nil {
		return d, err
	}
	if d.fallback, err = j.methodSet(p.Fallback); err != nil {
		return d, err
	}
	if len(p.Traits) > 0 {
		for i, m := range j.directory.Methods() {
			if m.HasAll(p.Traits) && i != j.deskPass {
				d.methods = d.methods.Add(i)
			}
		}
	}
	if d.methods == 0 {
		return d, fmt.Errorf("no method would do")
	}
	return d, nil
}

// number returns the number of a demand, the same for those that ask the same.
func (j *Judge) number(d demand) int32 {
	for i := range j.demands {
		if j.demands[i] == d {
			return int32(i)
		}
	}
	j.demands = append(j.demands, d)
	return int32(len(j.demands) - 1)
}

// demandState is how a demand stands. The order is from mild to strict.
type demandState uint8

const (
	met demandState = iota
	open
	// impossible cannot be met in this attempt, whatever is shown.
	impossible
)

// need is a demand of an outcome as it stands in a sitting.
type need struct {
	// demand is a number, or anyProof or oneOf.
	demand    int32
	assurance int32
	state     demandState
	// enrol says that the account has none of the methods, so that one is to be
	// enrolled in their place.
	enrol bool
	// perhaps says that it is not demanded in every world, since an exemption may
	// hold; or that it is impossible in this one only, since nothing identifies
	// the device and something yet may.
	perhaps bool
	// firstWay and lastWay bound the ways of a oneOf in sitting.ways.
	firstWay, lastWay int32
}

const (
	// anyProof is the demand for a proof by any enrolled method.
	anyProof int32 = -1
	// oneOf is the demand for one of several ways, each a list of demands.
	oneOf int32 = -2
)

// way bounds the demands of one way in sitting.wayNeeds. It proves where it asks
// for a method in every world.
type way struct {
	first, last int32
	proves      bool
}

// collect works out what an outcome demands: exemptions, easing and what the
// action waives are taken into account, and any proof is asked for where no
// method is.
func (s *sitting) collect(o *outcome) {
	proves := false
	for i := range o.requires {
		if ways := o.requires[i].ways; len(ways) == 1 {
			var asks bool
			s.needs, asks = s.ask(ways[0], s.needs, false)
			proves = proves || asks
		} else if s.choose(ways) {
			proves = true
		}
	}
	if !proves && !s.judge.index.apps[s.app].public {
		s.needs = append(s.needs, s.needAnyProof())
	}
}

// needAnyProof is the demand that no grant goes without.
func (s *sitting) needAnyProof() need {
	n := need{demand: anyProof, assurance: none, state: open}
	if s.hasAnyProof() {
		n.state = met
	}
	n.enrol = s.judge.directory.Enrolled(s.account) == 0
	return n
}

// hasAnyProof tells whether some method has been proven that counts.
func (s *sitting) hasAnyProof() bool {
	for i := range s.proofs {
		if s.counts(&s.proofs[i]) {
			return true
		}
	}
	return false
}

// ask adds the demands of an assurance, or of what an exemption puts in its
// place; where an exemption only may hold, both. It tells whether a method is
// among them in every world.
func (s *sitting) ask(assurance int32, needs []need, inChoice bool) (_ []need, proves bool) {
	first := len(needs)
	excused, excusedProves := false, false
	perhaps, perhapsProves := false, true
	for _, x := range s.judge.assurances[assurance].exemptions {
		holds := s.exempts(x)
		if holds == condition.False {
			continue
		}
		asksInstead := false
		for _, instead := range s.judge.exemptions[x].instead {
			var asks bool
			needs, asks = s.askAll(instead, needs, inChoice)
			asksInstead = asksInstead || asks
		}
		if holds == condition.True {
			excused, excusedProves = true, excusedProves || asksInstead
		} else {
			perhaps, perhapsProves = true, perhapsProves && asksInstead
		}
	}
	if excused {
		proves = excusedProves
	} else {
		needs, proves = s.askAll(assurance, needs, inChoice)
		proves = proves && perhapsProves
	}
	if perhaps {
		for i := first; i < len(needs); i++ {
			needs[i].perhaps = true
		}
	}
	return needs, proves
}

// askAll adds the demands of an assurance that are neither eased nor waived.
func (s *sitting) askAll(assurance int32, needs []need, inChoice bool) (_ []need, proves bool) {
	for _, number := range s.judge.assurances[assurance].demands {
		n, asked := s.need(number, assurance, inChoice)
		if asked {
			needs = append(needs, n)
			proves = proves || s.judge.demands[number].kind == methodDemand
		}
	}
	return needs, proves
}

// choose adds a demand for one of several assurances. It tells whether each way
// asks for a method.
func (s *sitting) choose(assurances []int32) (proves bool) {
	n := need{demand: oneOf, assurance: none, firstWay: int32(len(s.ways))}
	proves = true
	for _, a := range assurances {
		w := way{first: int32(len(s.wayNeeds))}
		s.wayNeeds, w.proves = s.ask(a, s.wayNeeds, true)
		w.last = int32(len(s.wayNeeds))
		s.ways = append(s.ways, w)
	}
	n.lastWay = int32(len(s.ways))
	ways := s.ways[n.firstWay:n.lastWay]
	if s.attempt.Action == attempt.Enrol && !s.canMeetWithoutEnrolling(ways) {
		s.waiveEnrolment(ways)
	}
	n.state = impossible
	for _, w := range ways {
		state, asks := met, false
		for i := range s.wayNeeds[w.first:w.last] {
			m := &s.wayNeeds[int(w.first)+i]
			state = max(state, m.state)
			asks = asks || s.judge.demands[m.demand].kind == methodDemand
		}
		n.state = min(n.state, state) // a way of which nothing is left is met
		proves = proves && w.proves && asks
	}
	s.needs = append(s.needs, n)
	return proves
}

// canMeetWithoutEnrolling tells whether some way neither asks for a method that
// the account lacks nor is impossible, or may come to do neither.
func (s *sitting) canMeetWithoutEnrolling(ways []way) bool {
	for _, w := range ways {
		can := true
		for i := range s.wayNeeds[w.first:w.last] {
			m := &s.wayNeeds[int(w.first)+i]
			can = can && (m.perhaps || !m.enrol && m.state != impossible)
		}
		if can {
			return true
		}
	}
	return false
}

// waiveEnrolment takes the demands for methods that the account lacks out of
// each way.
func (s *sitting) waiveEnrolment(ways []way) {
	for i := range ways {
		kept := ways[i].first
		for k := ways[i].first; k < ways[i].last; k++ {
			if !s.wayNeeds[k].enrol {
				s.wayNeeds[kept] = s.wayNeeds[k]
				kept++
			}
		}
		ways[i].last = kept
	}
}

// need works out how a demand stands, and whether it is asked at all.
func (s *sitting) need(number, assurance int32, inChoice bool) (need, bool) {
	d := &s.judge.demands[number]
	n := need{demand: number, assurance: assurance, state: open}
	switch d.kind {
	case methodDemand:
		return s.needMethod(n, d, inChoice)
	case enrolDemand:
		if d.methods&s.judge.directory.Enrolled(s.account) != 0 {
			n.state = met
			return n, true
		}
		n.enrol = true
		return n, !s.eases(assurance, d) && (inChoice || s.attempt.Action != attempt.Enrol)
	case postureDemand:
		switch s.device.Assess(&s.judge.directory.Postures[d.posture], s.attempt.At) {
		case directory.Fit:
			n.state = met
		case directory.Unfit:
			n.state = impossible
		case directory.Unidentified:
			n.state = impossible
			n.perhaps = s.device.PassesPosture(&s.judge.directory.Postures[d.posture], s.attempt.At) == condition.Unknown
		}
	case passwordDemand:
		if s.passwordChanged() {
			n.state = met
		}
		return n, s.attempt.Action != attempt.ChangePassword
	case acceptDemand:
		if s.accepted(d) {
			n.state = met
		}
	case externalDemand:
		if result, given := s.attempt.External[d.name]; given && result == attempt.CheckPassed {
			n.state = met
		} else if given && result == attempt.CheckFailed {
			n.state = impossible
		}
	case consentDemand:
		if s.consented() {
			n.state = met
		}
		return n, s.attempt.Action != attempt.Consent
	}
	return n, true
}

// consented tells whether the client that the attempt is made for was let in.
// Where it is not known whether there is one, that is open.
func (s *sitting) consented() bool {
	if client := s.attempt.Client.Ref(); client != nil {
		return client.IsConsented()
	}
	return s.attempt.Client.IsNone()
}

func (s *sitting) needMethod(n need, d *demand, inChoice bool) (need, bool) {
	lacking := (d.methods|d.fallback)&s.judge.directory.Enrolled(s.account) == 0
	if lacking && s.eases(n.assurance, d) {
		return n, false
	}
	switch {
	case s.isMet(d):
		n.state = met
	case lacking:
		n.enrol = true
		return n, inChoice || s.attempt.Action != attempt.Enrol
	case s.attempt.Action == attempt.Recover && d.methods == s.judge.password() && s.provesAnotherNow(d.methods):
		return n, false
	}
	return n, true
}

// password is the set of the method of that name alone.
func (j *Judge) password() directory.MethodSet {
	m, ok := j.directory.FindMethod("password")
	if !ok {
		return 0
	}
	return directory.MethodSet(0).Add(m)
}

// provesAnotherNow tells whether an enrolled method outside a set is proven in
// this very attempt.
func (s *sitting) provesAnotherNow(but directory.MethodSet) bool {
	others := s.judge.directory.Enrolled(s.account) &^ but
	for i := range s.proofs {
		if s.proofs[i].now && (others.Has(s.proofs[i].method) || s.proofs[i].method == s.judge.deskPass) {
			return true
		}
	}
	return false
}

// passwordChanged tells whether the password was changed since the account's
// risk arose or, without a risk, in this session.
func (s *sitting) passwordChanged() bool {
	a := &s.judge.directory.Accounts[s.account]
	if a.AccountRisk != nil {
		return a.ChangedSinceRisk()
	}
	started := s.attempt.Session.Started
	return a.PasswordChangedAt != nil && !started.IsZero() && !a.PasswordChangedAt.Before(started)
}

func (s *sitting) accepted(d *demand) bool {
	for i := range s.attempt.Accepted {
		a := &s.attempt.Accepted[i]
		if a.Document == d.name && a.Version >= d.version &&
			(d.every == 0 || !a.At.IsZero() && s.attempt.At.Sub(a.At) <= d.every) {
			return true
		}
	}
	return false
}

// counts tells whether a proof counts in this decision at all: where sessions
// are not shared, only one made for this app does.
func (s *sitting) counts(p *proof) bool { return p.ownApp || !s.limits.unshared }

// isMet tells whether a method demand is met by a proof, or by a device that is
// remembered.
func (s *sitting) isMet(d *demand) bool {
	takesFallback := d.fallback != 0 && s.takesFallback(d)
	for i := range s.proofs {
		p := &s.proofs[i]
		would := d.methods.Has(p.method) || p.method == s.judge.deskPass ||
			d.fallback.Has(p.method) && (takesFallback || p.fallback)
		if would && s.counts(p) && p.within(d.within) {
			return true
		}
	}
	return d.remember > 0 && s.isRemembered(d, takesFallback)
}

// within tells whether a proof is recent enough.
func (p *proof) within(w Within) bool {
	switch w {
	case Session:
		return true
	case Now:
		return p.now
	}
	return p.age <= time.Duration(w)
}

// takesFallback tells whether fallbacks count: where a preferred method could
// not be reached in this attempt and was not refused, or the account has none.
func (s *sitting) takesFallback(d *demand) bool {
	if d.methods&s.judge.directory.Enrolled(s.account) == 0 {
		return true
	}
	var unreached, refused directory.MethodSet
	for _, f := range s.attempt.Failed {
		m, ok := s.judge.directory.FindMethod(f.Method)
		switch {
		case !ok:
		case f.Reason == attempt.Refused:
			refused = refused.Add(m)
		default:
			unreached = unreached.Add(m)
		}
	}
	return d.methods&unreached&^refused != 0
}

// isRemembered tells whether the device stands for the method.
func (s *sitting) isRemembered(d *demand, takesFallback bool) bool {
	if _, identified := s.device.Identity(); !identified {
		return false
	}
	would := d.methods
	if takesFallback {
		would |= d.fallback
	}
	would &^= s.judge.directory.Barred(s.account)
	a := &s.judge.directory.Accounts[s.account]
	for _, r := range s.device.Remembered() {
		m, ok := s.judge.directory.FindMethod(r.Method)
		if !ok || !would.Has(m) || r.Account != a.Name || s.attempt.At.Sub(r.At) > d.remember {
			continue
		}
		if a.PasswordChangedAt != nil && a.PasswordChangedAt.After(r.At) {
			continue
		}
		if a.AccountRisk != nil && (a.AccountRisk.Since == nil || a.AccountRisk.Since.After(r.At)) {
			continue
		}
		return true
	}
	return false
}

// exempts tells whether an exemption holds now.
func (s *sitting) exempts(number int32) condition.Truth {
	x := &s.judge.exemptions[number]
	if !x.until.IsZero() && !s.moment.Before(x.until) {
		return condition.False
	}
	return min(condition.Eval(x.who, s), condition.Eval(x.when, s))
}

// eased is a demand that waits, and until when.
type eased struct {
	rollout  int32
	deadline time.Time
}

// eases tells whether a rollout still gives the account time for a demand that
// one of its methods would meet, and notes it.
func (s *sitting) eases(assurance int32, d *demand) bool {
	found := false
	for _, number := range s.judge.assurances[assurance].rollouts {
		r := &s.judge.rollouts[number]
		if r.methods&(d.methods|d.fallback) == 0 || condition.Eval(r.who, s) != condition.True || !s.riskBelowMedium() {
			continue
		}
		deadline := s.judge.deadline(r, s.account, s.attempt.At)
		if s.moment.Before(deadline) {
			s.eased = append(s.eased, eased{number, deadline})
			found = true
		}
	}
	return found
}

// deadline is when a rollout's time is up for an account: the day on which it is
// enforced, or what newcomers or those asked late have beyond it. Whoever was not
// asked yet is asked at that moment, and the grace begins.
func (j *Judge) deadline(r *rollout, account int, at time.Time) time.Time {
	deadline := r.enforced
	later := func(t time.Time) {
		if t.After(deadline) {
			deadline = t
		}
	}
	if end, known := j.directory.JoinedUntil(account, r.Newcomers); known && r.Newcomers > 0 {
		later(end)
	}
	if r.Grace > 0 {
		asked := at
		if a := j.directory.Accounts[account].AskedAt; a != nil {
			asked = *a
		}
		later(asked.Add(time.Duration(r.Grace)))
	}
	return deadline
}

// riskBelowMedium tells whether both the attempt's risk and the account's surely
// are below medium.
func (s *sitting) riskBelowMedium() bool {
	return s.score().High < s.judge.model.Levels.Medium && s.judge.directory.Accounts[s.account].Risk() < directory.MediumRisk
}
