package engine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// demand is one thing to be shown, made ready. Two that ask the same are equal.
type demand struct {
	kind decide.DemandKind
	// methods are those that would do, of a method demand and of one to enrol.
	methods, fallback MethodSet
	// fallbackNames keeps the order in which fallbacks are offered.
	fallbackNames string
	within        decide.Within
	remember      time.Duration
	// name is the posture, the document or the outside check.
	name    string
	posture int32
	version int
	every   time.Duration
}

func (j *Judge) methodSet(names []string) (MethodSet, error) {
	var set MethodSet
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
func (j *Judge) compileDemands(a decide.Assurance) ([]int32, error) {
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
		demands = append(demands, demand{kind: decide.DemandPosture, name: a.Posture, posture: int32(n)})
	}
	if a.ChangePassword {
		demands = append(demands, demand{kind: decide.DemandChangePassword})
	}
	if a.Accept != nil {
		demands = append(
			demands,
			demand{kind: decide.DemandAccept, name: a.Accept.Document, version: a.Accept.Version, every: time.Duration(a.Accept.Every)},
		)
	}
	if a.External != "" {
		demands = append(demands, demand{kind: decide.DemandExternal, name: a.External})
	}
	if a.Consent {
		demands = append(demands, demand{kind: decide.DemandConsent})
	}
	if len(a.Enrol) > 0 {
		set, err := j.methodSet(a.Enrol)
		if err != nil {
			return nil, err
		}
		demands = append(demands, demand{kind: decide.DemandEnrol, methods: set})
	}
	var numbers []int32
	for _, d := range demands {
		numbers = append(numbers, j.number(d))
	}
	return numbers, nil
}

func (j *Judge) compileProve(p decide.Prove) (demand, error) {
	d := demand{kind: decide.DemandMethod, within: p.Within, remember: time.Duration(p.Remember), fallbackNames: strings.Join(p.Fallback, ",")}
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

// need is a demand of an outcome as it stands in a evaluation.
type need struct {
	// demand is a number, or anyProof or oneOf.
	demand    int32
	assurance int32
	state     demandState
	// enrol says that the account has none of the methods, so that one is to be
	// enrolled in their place; perhapsEnrolled that it may have one all the same,
	// since it is not known whether that is barred.
	enrol, perhapsEnrolled bool
	// perhaps says that it is not demanded in every world, since an exemption may
	// hold; or that it is impossible in this one only, since nothing identifies
	// the device and something yet may.
	perhaps bool
	// perhapsEased says that a rollout would give the account time for it, were a fact known that is missing.
	perhapsEased bool
	// firstWay and lastWay bound the ways of a oneOf in evaluation.ways.
	firstWay, lastWay int32
}

const (
	// anyProof is the demand for a proof by any enrolled method.
	anyProof int32 = -1
	// oneOf is the demand for one of several ways, each a list of demands.
	oneOf int32 = -2
)

// way bounds the demands of one way in evaluation.wayNeeds. It proves where it asks
// for a method in every world, and is eased where a rollout took a demand of it away.
type way struct {
	first, last   int32
	proves, eased bool
}

// collect works out what an outcome demands: exemptions, easing and what the
// action waives are taken into account, and any proof is asked for where no
// method is.
func (e *evaluation) collect(o *outcome) {
	proves := false
	for i := range o.requires {
		if ways := o.requires[i].ways; len(ways) == 1 {
			var asks bool
			e.needs, asks = e.ask(ways[0], e.needs, false)
			proves = proves || asks
		} else if e.choose(ways) {
			proves = true
		}
	}
	if !proves && !e.judge.index.apps[e.App].public {
		e.needs = append(e.needs, e.needAnyProof())
	}
}

// needAnyProof is the demand that no grant goes without.
func (e *evaluation) needAnyProof() need {
	n := need{demand: anyProof, assurance: none, state: open, enrol: e.Profile.Enrolled() == 0 && e.Profile.statesMethods()}
	if e.hasAnyProof() {
		n.state = met
	}
	return n
}

// hasAnyProof reports whether some method has been proven in this session that
// counts.
func (e *evaluation) hasAnyProof() bool {
	for i := range e.gatherProofs() {
		if e.proofs[i].inSession && e.counts(&e.proofs[i]) {
			return true
		}
	}
	return false
}

// ask adds the demands of an assurance, or of what an exemption puts in its
// place; where an exemption only may hold, both. It reports whether a method is
// among them in every world.
func (e *evaluation) ask(assurance int32, needs []need, inChoice bool) (_ []need, proves bool) {
	first := len(needs)
	excused, excusedProves := false, false
	perhaps, perhapsProves := false, true
	for _, x := range e.judge.assurances[assurance].exemptions {
		holds := e.exempts(x)
		if holds == condition.False {
			continue
		}
		asksInstead := false
		for _, instead := range e.judge.exemptions[x].instead {
			var asks bool
			needs, asks = e.askAll(instead, needs, inChoice)
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
		needs, proves = e.askAll(assurance, needs, inChoice)
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
func (e *evaluation) askAll(assurance int32, needs []need, inChoice bool) (_ []need, proves bool) {
	for _, number := range e.judge.assurances[assurance].demands {
		d := &e.judge.demands[number]
		needs = append(needs, need{demand: number, assurance: assurance, state: open})
		if !e.settle(&needs[len(needs)-1], d, inChoice) {
			needs = needs[:len(needs)-1]
			continue
		}
		proves = proves || d.kind == decide.DemandMethod
	}
	return needs, proves
}

// choose adds a demand for one of several assurances. It reports whether each way
// asks for a method.
func (e *evaluation) choose(assurances []int32) (proves bool) {
	n := need{demand: oneOf, assurance: none, firstWay: int32(len(e.ways))}
	proves = true
	before := len(e.eased)
	for _, a := range assurances {
		w, soFar := way{first: int32(len(e.wayNeeds))}, len(e.eased)
		e.wayNeeds, w.proves = e.ask(a, e.wayNeeds, true)
		w.last, w.eased = int32(len(e.wayNeeds)), len(e.eased) > soFar
		e.ways = append(e.ways, w)
	}
	n.lastWay = int32(len(e.ways))
	ways := e.ways[n.firstWay:n.lastWay]
	if e.Attempt.Action == attempt.Enrol && !e.canMeetWithoutEnrolling(ways) {
		ways = e.waiveEnrolment(ways)
		n.lastWay = n.firstWay + int32(len(ways))
		e.ways = e.ways[:n.lastWay]
	}
	n.state = impossible
	for _, w := range ways {
		state, asks := met, false
		for i := range e.wayNeeds[w.first:w.last] {
			m := &e.wayNeeds[int(w.first)+i]
			state = max(state, m.state)
			asks = asks || e.judge.demands[m.demand].kind == decide.DemandMethod
		}
		n.state = min(n.state, state) // a way with nothing left is met
		if state == met && !w.eased {
			e.eased = e.eased[:before] // nobody needs the time that another way leaves
		}
		proves = proves && w.proves && asks
	}
	e.needs = append(e.needs, n)
	return proves
}

// canMeetWithoutEnrolling reports whether some way neither asks for a method that
// the account lacks nor is impossible, or may come to do neither.
func (e *evaluation) canMeetWithoutEnrolling(ways []way) bool {
	for _, w := range ways {
		can := true
		for i := range e.wayNeeds[w.first:w.last] {
			m := &e.wayNeeds[int(w.first)+i]
			can = can && (m.perhaps || (!m.enrol || m.perhapsEnrolled || m.perhapsEased) && m.state != impossible)
		}
		if can {
			return true
		}
	}
	return false
}

// waiveEnrolment takes the demands for methods that the account lacks out of each way. It returns the ways
// of which something is left, or all where nothing is left of any.
func (e *evaluation) waiveEnrolment(ways []way) []way {
	left := 0
	for i := range ways {
		kept := ways[i].first
		for k := ways[i].first; k < ways[i].last; k++ {
			if !e.wayNeeds[k].enrol || e.wayNeeds[k].perhapsEnrolled {
				e.wayNeeds[kept] = e.wayNeeds[k]
				kept++
			}
		}
		ways[i].last = kept
		if ways[i].first < kept {
			ways[left], ways[i] = ways[i], ways[left]
			left++
		}
	}
	if left == 0 {
		return ways
	}
	return ways[:left]
}

// settle works out how a demand stands, and reports whether it is asked at all.
func (e *evaluation) settle(n *need, d *demand, inChoice bool) (asked bool) {
	switch d.kind {
	case decide.DemandMethod:
		return e.settleMethod(n, d, inChoice)
	case decide.DemandEnrol:
		if d.methods&e.Profile.Enrolled() != 0 {
			n.state = met
			return true
		}
		n.enrol, n.perhapsEnrolled = true, d.methods&e.Profile.PerhapsEnrolled() != 0
		return n.perhapsEnrolled || e.asksToEnrol(n, d, inChoice)
	case decide.DemandPosture:
		if e.asks != nil {
			// How a device stands changes what is asked where another way may be taken in its place.
			if inChoice && e.Attempt.Action == attempt.Enrol && e.judge.postureTests[d.posture].Holds(e) == condition.False {
				n.state = impossible
			}
			return true
		}
		switch e.findDevice().Assess(&e.judge.directory.Postures[d.posture]) {
		case Fit:
			n.state = met
		case Unfit:
			n.state = impossible
		case Unidentified:
			n.state, n.perhaps = impossible, true
		}
	case decide.DemandChangePassword:
		if e.passwordChanged() {
			n.state = met
		}
		return e.Attempt.Action != attempt.ChangePassword
	case decide.DemandAccept:
		if e.accepted(d) {
			n.state = met
		}
	case decide.DemandExternal:
		if result, given := e.Attempt.External[d.name]; given && result == attempt.CheckPassed {
			n.state = met
		} else if given && result == attempt.CheckFailed {
			n.state = impossible
		}
	case decide.DemandConsent:
		if e.consented() {
			n.state = met
		}
		return e.Attempt.Action != attempt.Consent
	}
	return true
}

// consented reports whether the client that the attempt is made for was let in.
// Where it is not known whether there is one, that is open.
func (e *evaluation) consented() bool {
	if client := e.Attempt.Client.Ref(); client != nil {
		return client.IsConsented()
	}
	return e.Attempt.Client.IsNone()
}

func (e *evaluation) settleMethod(n *need, d *demand, inChoice bool) (asked bool) {
	if e.isMet(n.demand, d) {
		n.state = met
	}
	if n.state == met {
		return true
	}
	methods := d.methods | d.fallback
	n.enrol = methods&e.Profile.Enrolled() == 0
	n.perhapsEnrolled = n.enrol && methods&e.Profile.PerhapsEnrolled() != 0
	switch {
	case n.perhapsEnrolled:
		return true // its absence would help, and is not sure
	case n.enrol:
		return e.asksToEnrol(n, d, inChoice)
	}
	waived := e.Attempt.Action == attempt.Recover && d.methods == e.judge.password && d.methods&e.Profile.Enrolled() != 0 &&
		e.provesAnotherNow(d.methods)
	return !waived
}

// asksToEnrol reports whether a demand for methods that the account surely lacks is asked: it is neither
// eased by a rollout nor waived.
func (e *evaluation) asksToEnrol(n *need, d *demand, inChoice bool) bool {
	eased := e.eases(n.assurance, d)
	n.perhapsEased = eased == condition.Unknown
	return eased != condition.True && (inChoice || e.Attempt.Action != attempt.Enrol)
}

// provesAnotherNow reports whether an enrolled method outside a set is proven in
// this very attempt.
func (e *evaluation) provesAnotherNow(but MethodSet) bool {
	others := e.Profile.Enrolled() &^ but
	for i := range e.gatherProofs() {
		if e.proofs[i].now && (others.Has(e.proofs[i].method) || e.proofs[i].method == e.judge.deskPass) {
			return true
		}
	}
	return false
}

// passwordChanged reports whether the password was changed since the account's
// risk arose or, without a risk, in this session or shortly before it, since a session begins when its
// first sign-on ends.
func (e *evaluation) passwordChanged() bool {
	a := e.Profile.Account()
	if a.AccountRisk != nil {
		return a.ChangedSinceRisk(e.Attempt.At)
	}
	return a.PasswordChangedAt != nil && !attempt.IsLater(*a.PasswordChangedAt, e.Attempt.At) &&
		!e.started.IsZero() && !a.PasswordChangedAt.Before(e.started.Add(-longestAttempt))
}

func (e *evaluation) accepted(d *demand) bool {
	for i := range e.Attempt.Accepted {
		a := &e.Attempt.Accepted[i]
		if a.Document == d.name && a.Version >= d.version && !attempt.IsLater(a.At, e.Attempt.At) &&
			(d.every == 0 || !a.At.IsZero() && e.Attempt.At.Sub(a.At) <= d.every) {
			return true
		}
	}
	return false
}

// counts reports whether a proof counts in this decision at all: where sessions
// are not shared, only one made for this app does.
func (e *evaluation) counts(p *proof) bool { return p.ownApp || !e.limits.unshared }

// isMet reports whether a method demand is met, and works that out once in a round.
func (e *evaluation) isMet(number int32, d *demand) bool {
	known := &e.shownIn[number]
	if known.round != e.round {
		*known = shownIn{e.round, e.isShown(d, !e.limits.unshared)}
	}
	return known.met
}

// isShown reports whether a method demand is met by a proof, or by a device that is
// remembered. Where sessions are not shared only proofs made for this app count.
func (e *evaluation) isShown(d *demand, shared bool) bool {
	takesFallback := d.fallback != 0 && e.takesFallback(d)
	for i := range e.gatherProofs() {
		p := &e.proofs[i]
		would := d.methods.Has(p.method) || p.method == e.judge.deskPass ||
			d.fallback.Has(p.method) && (takesFallback || p.fallback)
		if would && (p.ownApp || shared) && p.within(d.within) {
			return true
		}
	}
	return d.remember > 0 && e.isRemembered(d, takesFallback)
}

// within reports whether a proof is recent enough.
func (p *proof) within(w decide.Within) bool {
	switch w {
	case decide.Session:
		return p.inSession
	case decide.Now:
		return p.now
	}
	return p.inSession && p.age <= time.Duration(w)
}

// takesFallback reports whether fallbacks count: where a preferred method could
// not be reached in this attempt and was not refused, or the account has none.
func (e *evaluation) takesFallback(d *demand) bool {
	if d.methods&(e.Profile.Enrolled()|e.Profile.PerhapsEnrolled()) == 0 {
		return true
	}
	var unreached, refused MethodSet
	for _, f := range e.Attempt.Failed {
		m, ok := e.judge.directory.FindMethod(f.Method)
		switch {
		case !ok:
		case f.Reason == attempt.TimedOut, f.Reason == attempt.Unreachable:
			unreached = unreached.Add(m)
		default:
			refused = refused.Add(m)
		}
	}
	return d.methods&unreached&^refused != 0
}

// isRemembered reports whether the device stands for the method.
func (e *evaluation) isRemembered(d *demand, takesFallback bool) bool {
	if _, identified := e.findDevice().identity(); !identified {
		return false
	}
	return e.remembers(d, takesFallback, e.Profile.Barred())
}

// mayBeShown reports whether a method demand that is not met would be, were a fact
// known that is missing: what identifies a device that remembers, or whether a method is
// barred or the account has it. It is for conditions, where that nothing was shown must be sure.
func (e *evaluation) mayBeShown(d *demand) bool {
	if e.Profile.PerhapsBarred() == 0 && e.Profile.statesMethods() {
		if d.remember == 0 {
			return false
		}
		if _, identified := e.findDevice().identity(); identified {
			return false
		}
	}
	takesFallback := d.fallback != 0 && (d.methods&e.Profile.Enrolled() == 0 || e.takesFallback(d))
	would := func(p proof) bool {
		return (d.methods.Has(p.method) || d.fallback.Has(p.method) && (takesFallback || p.fallback)) && p.within(d.within)
	}
	return slices.ContainsFunc(e.gatherProofs(), would) || slices.ContainsFunc(e.doubted, would) ||
		d.remember > 0 && e.remembers(d, takesFallback, e.Profile.Barred()&^e.Profile.PerhapsBarred())
}

// remembers reports whether the device says that it remembers a method that would do, that is not barred,
// and that the account may still have.
func (e *evaluation) remembers(d *demand, takesFallback bool, barred MethodSet) bool {
	would := d.methods
	if takesFallback {
		would |= d.fallback
	}
	would &^= barred | e.Profile.lacks
	a := e.Profile.Account()
	for _, r := range e.findDevice().remembered() {
		m, ok := e.judge.directory.FindMethod(r.Method)
		if !ok || !would.Has(m) || r.Account != a.Name || e.Attempt.At.Sub(r.At) > d.remember || attempt.IsLater(r.At, e.Attempt.At) {
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

// exempts reports whether an exemption holds now.
func (e *evaluation) exempts(number int32) condition.Truth {
	x := &e.judge.exemptions[number]
	if !x.until.IsZero() && !e.Moment.Before(x.until) {
		return condition.False
	}
	return min(condition.Eval(x.who, e), condition.Eval(x.when, e))
}

// eased is a demand that waits, and until when.
type eased struct {
	rollout  int32
	deadline time.Time
}

// eases is whether a rollout still gives the account time for a demand that one of its methods would meet.
// One that surely does is noted.
func (e *evaluation) eases(assurance int32, d *demand) condition.Truth {
	found := condition.False
	for _, number := range e.judge.assurances[assurance].rollouts {
		r := &e.judge.rollouts[number]
		if r.methods&(d.methods|d.fallback) == 0 {
			continue
		}
		holds := condition.Eval(r.who, e)
		if holds != condition.False {
			holds = min(holds, e.riskBelowMedium())
		}
		if holds == condition.False {
			continue
		}
		deadline := r.deadline(e.Profile, e.Attempt.At)
		switch {
		case e.Moment.Before(deadline):
		case r.Newcomers > 0 && e.Profile.Account().Joined == nil:
			holds = condition.Unknown // it would, had the account joined lately
		default:
			continue
		}
		if holds == condition.True {
			e.eased = append(e.eased, eased{number, deadline})
		}
		found = max(found, holds)
	}
	return found
}

// deadline is when a rollout's time is up for an account, as seen at a moment: the
// day on which it is enforced, or what newcomers have beyond it, and those of whom
// it is known when they were asked. What is dated after the moment did not happen.
func (r *rollout) deadline(account *Profile, at time.Time) time.Time {
	deadline := r.enforced
	later := func(t time.Time) {
		if t.After(deadline) {
			deadline = t
		}
	}
	if end, known := account.JoinedUntil(r.Newcomers, at); known && r.Newcomers > 0 {
		later(end)
	}
	if asked := account.Account().AskedAt; asked != nil && r.Grace > 0 && !attempt.IsLater(*asked, at) {
		later(asked.Add(time.Duration(r.Grace)))
	}
	return deadline
}

// riskBelowMedium is whether both the attempt's risk and the account's are below medium.
func (e *evaluation) riskBelowMedium() condition.Truth {
	switch {
	case e.Profile.Account().RiskAt(e.Attempt.At) >= directory.MediumRisk:
		return condition.False
	case e.asks != nil:
		return e.asks.ReachesMedium().Not()
	}
	return e.scoreReaches(e.judge.model.Levels.Medium).Not()
}
