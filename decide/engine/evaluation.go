package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// evaluation is the judging of one attempt: its facts looked up, the policies that
// apply, what they say, and what is demanded. Every reading of a decision (the
// verdict, the brief, the outline, the full decision) is made from one. The memory
// of an evaluation that ended is used again, so that a verdict allocates nothing;
// begin sets all that the next one looks at.
type evaluation struct {
	// Facts are what conditions look at. The Profile is nil where there is no such
	// account, and the App -1 where the book has none. The Moment is the attempt's
	// own, but where an evaluation looks ahead.
	Facts
	judge   *Judge
	context context.Context
	// asks answers tests in their place, nil for an attempt that is judged.
	asks Asker
	// wrong is what keeps the attempt from being judged at all.
	wrong error
	// unavailable is why nobody could find out about the account.
	unavailable error
	// emergency says that it is an emergency account.
	emergency bool
	where     whereabouts
	// view is what is known of the device.
	view DeviceView
	// deviceLost is why nobody could find out about the device.
	deviceLost error
	// started is when the session began, zero where that is not known; sessionAge is
	// how long before the attempt that was.
	started    time.Time
	sessionAge time.Duration
	// proofs are those that count, once they are gathered.
	proofs   []proof
	gathered bool
	// doubted are proofs of methods that may be barred, which count for nothing.
	doubted []proof
	// strangeApp says that a proof was made for an app that the book does not have.
	strangeApp bool
	weighed    bool
	weight     Score
	// signals has the truth of each signal, once weighed.
	signals []condition.Truth

	applicable []applicable
	// spoken holds the rules that may speak, each applicable policy's in one run.
	spoken []spokenRule
	// slots finds an applicable policy: slots[p] is its index where
	// applicable[slots[p]] is of p. Stale values do no harm, so that nothing has to
	// be cleared.
	slots []int32
	// outcomes are what was joined last, and limits what bounds the session.
	outcomes []joined
	limits   limits
	// needs holds the demands, each distinct outcome's in one run; ways and wayNeeds
	// those where one way is enough.
	needs    []need
	ways     []way
	wayNeeds []need
	eased    []eased
	// weighings has what each outcome came to in this round, and shown which method
	// demands are met.
	weighings []weighing
	shownIn   []shownIn
	round     uint32
	// causes are those of the last verdict that was explained.
	causes []foundCause
	// reasons is room for those of one condition at a time, and tracing the policy
	// that is traced.
	reasons []condition.Reason
	tracing int
	// explains says that the rules passed by are told too.
	explains bool
	draft    draft

	// room is for a supplied account, suppliedDevice for a device.
	room           Room
	suppliedDevice directory.Device
}

// proof is a proof that counts for something.
type proof struct {
	method int
	// age is how old the proof is; ageless where it is not known.
	age time.Duration
	// now says that it was made in this very attempt, inSession that it was made in
	// this session, ownApp that it was made for the attempt's app, and fallback
	// that it stood in for a preferred method.
	now, inSession, ownApp, fallback bool
}

// Holds implements condition.Facts. Where somebody answers in place of the attempt, it is asked first.
func (e *evaluation) Holds(t *condition.Test) condition.Truth {
	if e.asks != nil {
		return e.asks.Answer(t, func() condition.Truth { return e.Facts.Holds(t) })
	}
	return keys.Holds(&e.Facts, t)
}

// ageless is older than any span.
const ageless = time.Duration(1<<63 - 1)

// longestAttempt is how old a proof of this very attempt may be to count as made now, and how long before
// a session its first sign-on may have begun.
const longestAttempt = 10 * time.Minute

// applicable is one policy that applies, surely or perhaps.
type applicable struct {
	policy int32
	// applies is whether it applies, were it live; inForce whether it is.
	applies, inForce condition.Truth
	// speaks says that one of its rules speaks in every world in which it
	// applies.
	speaks bool
	// first and last bound its rules in evaluation.spoken.
	first, last int32
	replacedBy  int32
}

// none is the policy that replaces an applicable one which nobody replaces.
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

// weighing is what an outcome came to: its demands, by their bounds in
// evaluation.needs, and the strictest of their states.
type weighing struct {
	round       uint32
	first, last int32
	state       demandState
}

// shownIn remembers for a round whether a method demand is met.
type shownIn struct {
	round uint32
	met   bool
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

// begin takes memory from the pool and looks up what the attempt names. Anyone who
// calls it calls end when the evaluation is over, and not where a panic ends it:
// what was left half done is never used again.
func (j *Judge) begin(ctx context.Context, a *attempt.Attempt) *evaluation {
	e, made := j.pool.Get().(*evaluation)
	if !made {
		panic("engine: this Judge was not made by Compile")
	}
	if a == nil {
		a = new(attempt.Attempt) // which Check refuses
	}
	e.context, e.Attempt, e.Moment, e.At = ctx, a, a.At, a.At
	e.Profile, e.unavailable, e.App, e.emergency = nil, nil, -1, false
	e.applicable, e.spoken, e.outcomes, e.causes = e.applicable[:0], e.spoken[:0], e.outcomes[:0], e.causes[:0]
	e.weighed, e.limits = false, limits{}
	e.clearNeeds()
	if j.asking {
		e.asks, _ = ctx.(Asker)
	}
	e.wrong = a.Check()
	if e.wrong != nil {
		e.placeFound, e.deviceFound, e.gathered = true, true, true
		e.where, e.Place, e.proofs, e.doubted = whereabouts{}, nil, e.proofs[:0], e.doubted[:0]
		e.view, e.deviceLost = j.directory.View(a), nil
		return e
	}
	e.Profile, e.unavailable = j.directory.Lookup(ctx, j.accounts, a.Account, a.At, &e.room)
	e.emergency = e.Profile != nil && e.Profile.Kind() == directory.Emergency
	if i, ok := j.directory.FindApp(a.App); ok {
		e.App = i
	}
	e.placeFound, e.deviceFound, e.gathered = false, false, false
	e.started, e.sessionAge = a.Session.Started, 0
	if !e.started.IsZero() {
		if e.sessionAge = a.At.Sub(e.started); e.sessionAge < -attempt.Skew {
			e.started = time.Time{}
		}
	}
	return e
}

// end gives the memory of an evaluation back.
func (j *Judge) end(e *evaluation) {
	e.context, e.Attempt, e.Profile, e.Place = nil, nil, nil, nil
	e.room.Clear()
	if j.devices != nil {
		e.suppliedDevice = directory.Device{}
	}
	j.pool.Put(e)
}

// lookUpDevice looks the device up where devices
// are supplied, and in the book.
func (e *evaluation) lookUpDevice() {
	e.view, e.deviceLost = e.judge.directory.View(e.Attempt), nil
	id, identified := e.view.identity()
	if e.judge.devices == nil || !identified {
		return
	}
	supplied, err := e.judge.devices.Device(e.context, id)
	switch {
	case err == nil && supplied.Name == "":
		e.deviceLost = errors.New("it answered without a name")
	case err == nil && supplied.Name != id:
		e.deviceLost = fmt.Errorf("it answered for %q", supplied.Name)
	case err == nil:
		e.suppliedDevice = supplied
		e.view = e.view.With(&e.suppliedDevice)
	case !errors.Is(err, directory.ErrNotFound):
		e.deviceLost = err
	}
	if e.deviceLost != nil {
		e.view = e.view.With(nil)
	}
}

// gatherProofs notes the proofs that count: of methods that the book knows, that
// are not barred for the account, and that were made in this attempt or session.
// A desk pass counts once, where an account is being put right.
func (e *evaluation) gatherProofs() []proof {
	if e.gathered {
		return e.proofs
	}
	e.gathered, e.strangeApp = true, false
	e.proofs, e.doubted = e.proofs[:0], e.doubted[:0]
	for i := range e.Attempt.Proofs {
		e.addProof(&e.Attempt.Proofs[i], true)
	}
	for i := range e.Attempt.Session.Proofs {
		e.addProof(&e.Attempt.Session.Proofs[i], false)
	}
	return e.proofs
}

func (e *evaluation) addProof(p *attempt.Proof, ofAttempt bool) {
	m, ok := e.judge.directory.FindMethod(p.Method)
	doubted := e.Profile != nil && e.Profile.PerhapsBarred().Has(m)
	if !ok || e.Profile != nil && e.Profile.Barred().Has(m) && !doubted ||
		m == e.judge.deskPass && !(ofAttempt && e.Attempt.Action.TakesDeskPass()) {
		return // it proves nothing; Decide says so in a notice
	}
	made := proof{method: m, age: ageless, ownApp: ofAttempt}
	switch {
	case !p.At.IsZero():
		made.age = e.Attempt.At.Sub(p.At)
		if made.age < -attempt.Skew {
			return
		}
	case ofAttempt:
		made.age = 0
	}
	made.now = ofAttempt && made.age <= longestAttempt
	made.inSession = made.now || p.At.IsZero() || e.isInSession(p) // a session begins when its first sign-on ends
	if !ofAttempt {
		made.fallback, made.now = p.Fallback, made.inSession && e.isAsOfNow(p)
		if p.App == e.Attempt.App {
			made.ownApp = e.App >= 0
		} else if p.App != "" {
			app, ok := e.judge.directory.FindApp(p.App)
			made.ownApp = ok && app == e.App
			e.strangeApp = e.strangeApp || !ok
		}
	}
	switch {
	case !made.inSession:
	case doubted:
		e.doubted = append(e.doubted, made)
	default:
		e.proofs = append(e.proofs, made)
	}
}

// isAsOfNow reports whether a proof of the session counts as made now, by the moment that the session states for that.
func (e *evaluation) isAsOfNow(p *attempt.Proof) bool {
	asOf := e.Attempt.Session.AsOf
	return !asOf.IsZero() && !attempt.IsLater(asOf, e.Attempt.At) && !p.At.IsZero() && asOf.Sub(p.At) <= longestAttempt
}

// isInSession reports whether a proof is not dated before the session began.
func (e *evaluation) isInSession(p *attempt.Proof) bool {
	return p.At.IsZero() || e.started.IsZero() || e.started.Sub(p.At) <= attempt.Skew
}

// ignores says why a proof counts for nothing, "" where it counts for something.
func (e *evaluation) ignores(p *attempt.Proof, ofAttempt bool) string {
	m, ok := e.judge.directory.FindMethod(p.Method)
	switch {
	case !ok:
		return "" // which is told in other words
	case attempt.IsLater(p.At, e.Attempt.At):
		return "it is dated after the attempt"
	case m == e.judge.deskPass && !(ofAttempt && e.Attempt.Action.TakesDeskPass()):
		return "it serves once, to enrol, to recover or to change a password"
	case e.Profile != nil && e.Profile.Barred().Has(m):
		return "it is barred for " + e.Attempt.Account
	}
	return ""
}

// evaluate judges the attempt, as things are or as if the shadows were live. With
// shadows the policies that are not in force count too. The reading of it is
// in outcomes, needs and limits.
func (e *evaluation) evaluate(shadows bool) decide.Verdict {
	if e.refusal() != "" {
		return decide.Block
	}
	e.join(shadows)
	return e.weigh()
}

// scope says which policies are considered.
type scope uint8

const (
	// toVerdict considers policies in force until one blocks whatever the others say.
	toVerdict scope = iota
	// inForce considers all that are in force, withShadows those too that are not.
	inForce
	withShadows
)

// findApplicable considers the policies that may be for the account and the app. It reports
// whether it stopped at one that blocks. Those for a few accounts are considered first,
// for they are the ones that block.
func (e *evaluation) findApplicable(s scope) (blocked bool) {
	e.applicable, e.spoken, e.weighed = e.applicable[:0], e.spoken[:0], false
	if e.App < 0 || e.Profile == nil {
		return false
	}
	x := &e.judge.index
	if others := x.others[e.App]; len(others) <= fewOthers {
		return e.considerAimed(others, s) || e.considerAimed(x.everyone[e.App], s)
	}
	if e.considerEach(x.byAccount[e.Profile.Number()], s) || e.considerEach(x.byKind[e.Profile.Kind()], s) ||
		len(x.byDomain) > 0 && e.considerEach(x.byDomain[e.Profile.Domain()], s) {
		return true
	}
	sure, perhaps := e.Profile.Memberships()
	for _, g := range sure {
		if e.considerEach(x.byGroup[g], s) {
			return true
		}
	}
	for _, g := range perhaps {
		if e.considerEach(x.byGroup[g], s) {
			return true
		}
	}
	return e.considerAimed(x.everyone[e.App], s)
}

// fewOthers is how many policies of an app are asked one by one.
const fewOthers = 4

// considerAimed considers policies that are aimed at the app.
func (e *evaluation) considerAimed(policies []int32, s scope) (blocked bool) {
	for _, number := range policies {
		if e.consider(number, s) {
			return true
		}
	}
	return false
}

// considerEach considers those of the policies that are aimed at the app, and that
// have not been considered under something else that the account has.
func (e *evaluation) considerEach(policies []int32, s scope) (blocked bool) {
	for _, number := range policies {
		if e.judge.index.isAimed(e.App, number) && e.applicableOf(number) == nil && e.consider(number, s) {
			return true
		}
	}
	return false
}

// consider looks at one policy. It reports whether that settles a verdict: it blocks,
// perhaps or surely, and nothing can replace it.
func (e *evaluation) consider(number int32, s scope) (blocked bool) {
	p := &e.judge.policies[number]
	h := applicable{policy: number, inForce: condition.True, first: int32(len(e.spoken)), replacedBy: none}
	if p.stage == decide.Shadow {
		h.inForce = condition.False
		if p.liveFor != nil {
			h.inForce = p.asksLive.Eval(e)
		}
		if h.inForce == condition.False && s != withShadows {
			return false
		}
	}
	if h.applies = e.appliesTo(p); h.applies == condition.False {
		return false
	}
	for i := range p.rules {
		match := p.rules[i].asks.Eval(e)
		if match == condition.False {
			continue
		}
		if s == toVerdict && p.rules[i].blocks && !p.replaced {
			return true
		}
		e.spoken = append(e.spoken, spokenRule{int32(i), match})
		if match == condition.True {
			h.speaks = true
			break
		}
	}
	h.last = int32(len(e.spoken))
	e.slots[number] = int32(len(e.applicable))
	e.applicable = append(e.applicable, h)
	return false
}

// appliesTo reports whether a policy that is aimed at the app is for the attempt
// at all.
func (e *evaluation) appliesTo(p *policy) condition.Truth {
	if e.emergency && !p.names(e.Profile) {
		return condition.False
	}
	if p.bounded && (!p.isFor(e.Attempt.Action) || !p.inForceAt(e.Moment)) {
		return condition.False
	}
	// That it is aimed at the app is sure: nothing about an app is ever unknown.
	if p.forAnyone {
		return condition.True
	}
	return p.asks.Eval(e)
}

// inForceAt reports whether a moment lies between the policy's dates.
func (p *policy) inForceAt(t time.Time) bool {
	return (p.from.IsZero() || !t.Before(p.from)) && (p.until.IsZero() || t.Before(p.until))
}

// names reports whether `who` names the emergency account, by kind or by name.
func (p *policy) names(account *Profile) bool {
	return p.namesEmergencies || account.isNamed(p.named)
}

// applicableOf returns what is known of a policy that applies, nil where it does not.
func (e *evaluation) applicableOf(policy int32) *applicable {
	if slot := int(e.slots[policy]); slot < len(e.applicable) && e.applicable[slot].policy == policy {
		return &e.applicable[slot]
	}
	return nil
}

// force is whether an applicable policy counts: as things are, or were the shadows live.
func (h *applicable) force(shadows bool) condition.Truth {
	if shadows {
		return condition.True
	}
	return h.inForce
}

// join marks what is replaced and collects the outcomes of the rest.
func (e *evaluation) join(shadows bool) {
	e.outcomes = e.outcomes[:0]
	sure := e.markReplaced(shadows)
	e.limits = e.judge.index.apps[e.App].limits
	for i := range e.applicable {
		h := &e.applicable[i]
		force := h.force(shadows)
		if h.replacedBy != none || force == condition.False {
			continue
		}
		surely := h.speaks && h.last-h.first == 1 && h.applies == condition.True && force == condition.True
		rules := e.judge.policies[h.policy].rules
		for _, r := range e.spoken[h.first:h.last] {
			rule := &rules[r.rule]
			e.outcomes = append(e.outcomes, joined{policy: h.policy, rule: r.rule, sure: surely, outcome: rule.then})
			if rule.limits != nil {
				e.limits.join(*rule.limits)
			}
		}
	}
	if !sure {
		e.outcomes = append(e.outcomes, joined{policy: none, rule: none, sure: len(e.outcomes) == 0, outcome: e.judge.otherwise})
	}
}

// markReplaced marks what policies that surely speak replace, and reports whether any
// policy surely speaks.
func (e *evaluation) markReplaced(shadows bool) (sure bool) {
	replaces := e.judge.replaces
	if replaces {
		for i := range e.applicable {
			e.applicable[i].replacedBy = none
		}
	}
	for i := range e.applicable {
		h := &e.applicable[i]
		if !h.speaks || min(h.applies, h.force(shadows)) != condition.True {
			continue
		}
		sure = true
		if !replaces {
			continue
		}
		for _, target := range e.judge.policies[h.policy].replaces {
			if t := e.applicableOf(target); t != nil && t.first < t.last && (t.replacedBy == none || t.replacedBy > h.policy) {
				t.replacedBy = h.policy
			}
		}
	}
	return sure
}

// clearNeeds forgets what outcomes came to, before others are weighed.
func (e *evaluation) clearNeeds() {
	e.needs, e.ways, e.wayNeeds, e.eased = e.needs[:0], e.ways[:0], e.wayNeeds[:0], e.eased[:0]
	if e.round++; e.round == 0 { // after four thousand million rounds
		clear(e.weighings)
		clear(e.shownIn)
		e.round = 1
	}
}

// weigh works out what the joined outcomes demand, which depends on the limits of
// all of them, and returns the verdict. Each outcome is weighed once, however many
// rules have it. Where nothing was joined the verdict is Block.
func (e *evaluation) weigh() decide.Verdict {
	e.clearNeeds()
	if len(e.outcomes) == 0 {
		return decide.Block
	}
	state, blocks := met, false
	for i := range e.outcomes {
		o := e.outcomes[i].outcome
		if o.block {
			blocks = true
			continue
		}
		w := &e.weighings[o.number]
		if w.round != e.round {
			*w = weighing{round: e.round, first: int32(len(e.needs))}
			e.collect(o)
			w.last = int32(len(e.needs))
			for k := w.first; k < w.last; k++ {
				w.state = max(w.state, e.needs[k].state)
			}
		}
		state = max(state, w.state)
	}
	if blocks {
		return decide.Block
	}
	return e.verdictOf(state)
}

// weighing returns what an outcome came to in this round; nothing, of a block.
func (e *evaluation) weighing(o *joined) weighing {
	if w := e.weighings[o.outcome.number]; w.round == e.round {
		return w
	}
	return weighing{}
}

// canBeAsked reports whether a person can be asked for what is missing.
func (e *evaluation) canBeAsked() bool {
	through, ok := e.Attempt.Through.Get()
	return !ok || through.CanBeAsked()
}

// refusal returns the cause that stops an attempt before any policy is asked,
// and "" where there is none.
func (e *evaluation) refusal() decide.CauseCode {
	switch {
	case e.wrong != nil:
		return decide.AttemptInvalid
	case e.unavailable != nil:
		return decide.AccountUnavailable
	case e.Profile == nil:
		return decide.AccountUnknown
	case e.Profile.Disabled():
		return decide.AccountDisabled
	case e.App < 0:
		return decide.AppUnknown
	case !e.emergency && !e.judge.directory.IsOpenTo(e.App, e.Profile):
		return decide.AppNotOpen
	}
	return ""
}

// blocks reports whether an outcome that was joined blocks by itself.
func (e *evaluation) blocks() bool {
	return slices.ContainsFunc(e.outcomes, func(o joined) bool { return o.outcome.block })
}

// verdictOf is the verdict where the strictest demand stands so.
func (e *evaluation) verdictOf(state demandState) decide.Verdict {
	switch {
	case state == met:
		return decide.Grant
	case state == open && e.canBeAsked():
		return decide.StepUp
	}
	return decide.Block
}

// Verdict judges an attempt and returns the verdict alone, as Decide has it. It
// allocates nothing where the book has the account. The context is handed to what
// supplies accounts, devices, places and signals. A panic of one of those is the
// caller's.
func (j *Judge) Verdict(ctx context.Context, a *attempt.Attempt) decide.Verdict {
	if a == nil {
		return decide.Block
	}
	return j.VerdictAt(ctx, a, a.At)
}

// VerdictAt is the verdict on the attempt as if it were repeated at a later moment, as
// limits.until looks ahead: windows and dates are those of the moment, while the ages of proofs and
// reports stand still. It is for a session that was granted before.
func (j *Judge) VerdictAt(ctx context.Context, a *attempt.Attempt, moment time.Time) decide.Verdict {
	e := j.begin(ctx, a)
	e.Moment = moment
	v := decide.Block
	if e.refusal() == "" {
		if !e.findApplicable(toVerdict) {
			e.join(false)
			v = e.weigh()
		}
	}
	j.end(e)
	return v
}
