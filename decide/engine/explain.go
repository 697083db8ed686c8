package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/words"
)

// depth is how much of a decision is told.
type depth uint8

const (
	// enforced has what is needed to enforce it: no shadows, no trace, and no notice of what counts for nothing.
	enforced depth = iota
	// outlined leaves out the trace of policies, and until when a session is granted.
	outlined
	// traced has both.
	traced
	// explained has also why the rules above the one that speaks do not match.
	explained
)

// Decide judges an attempt and explains the decision. It returns a block
// with a cause of its own where the attempt cannot be judged, or nobody can find
// out about its account. The decision is the caller's. The cost grows with the
// number of policies, since each is traced. The context is handed on as by Verdict.
func (j *Judge) Decide(ctx context.Context, a *attempt.Attempt) *decide.Decision {
	return j.decide(ctx, a, traced)
}

// Explain is Decide with the reasons of the rules that were passed by: in each policy that
// has a say, why the rules above the one that speaks do not match. It is for a person who
// asks why, and costs more.
func (j *Judge) Explain(ctx context.Context, a *attempt.Attempt) *decide.Decision {
	return j.decide(ctx, a, explained)
}

// Outline is Decide without the trace of policies and without the moment at which
// a granted session ends, which costs a fraction where there are many policies.
func (j *Judge) Outline(ctx context.Context, a *attempt.Attempt) *decide.Decision {
	return j.decide(ctx, a, outlined)
}

// Enforced is Decide with no more than what is needed to enforce a decision: it leaves out the trace of policies, what shadows would have
// done, and notices of what counts for nothing. That costs the least of all that say until when a session is granted.
func (j *Judge) Enforced(ctx context.Context, a *attempt.Attempt) *decide.Decision {
	return j.decide(ctx, a, enforced)
}

func (j *Judge) decide(ctx context.Context, a *attempt.Attempt, told depth) *decide.Decision {
	e := j.begin(ctx, a)
	full := told >= traced
	e.explains = told == explained
	d := e.draft.start()
	d.JudgedBy = decide.JudgedBy{Book: j.digest, Rules: j.fingerprint}
	considered := withShadows
	if told == enforced {
		considered = inForce
	}
	e.findApplicable(considered)
	e.sortApplicable()
	if told != enforced {
		e.noteIgnored(d)
	}
	if code := e.refusal(); code != "" {
		d.Causes = append(d.Causes, decide.Cause{Code: code, Text: e.refusalText(code)})
		e.tellPerson(d)
		if full {
			e.trace(d, nil)
		}
		e.draft.handOut(d)
		j.end(e)
		return d
	}
	var replacedInShadow []int32
	shadows := told != enforced && e.meetsShadows()
	if shadows {
		d.WithShadow.Verdict = e.evaluate(true)
		e.draft.replaced = e.draft.replaced[:0]
		for i := range e.applicable {
			e.draft.replaced = append(e.draft.replaced, e.applicable[i].replacedBy)
		}
		replacedInShadow = e.draft.replaced
	}
	d.Verdict = e.evaluate(false)
	if !shadows {
		d.WithShadow.Verdict = d.Verdict
	}
	e.listDemands(d)
	e.listCauses(d)
	e.noteEasing(d)
	e.describeSession(d)
	e.tellPerson(d)
	e.noteLost(d)
	if full {
		e.trace(d, replacedInShadow)
	}
	e.draft.handOut(d)
	if told != outlined && d.Verdict == decide.Grant {
		d.Limits.Until = e.grantedUntil() // last, for it judges again
	}
	j.end(e)
	return d
}

// sortApplicable puts the applicable policies in the order of their names, so that
// a decision reads the same whichever way they were found.
func (e *evaluation) sortApplicable() {
	slices.SortFunc(e.applicable, func(a, b applicable) int { return cmp.Compare(a.policy, b.policy) })
	for i := range e.applicable {
		e.slots[e.applicable[i].policy] = int32(i)
	}
}

// noteIgnored reports what the attempt states and what counts for nothing, or
// for less than its sender may think.
func (e *evaluation) noteIgnored(d *decide.Decision) {
	if e.wrong != nil {
		return
	}
	note := func(code decide.NoticeCode, parts ...string) {
		n := decide.Notice{Code: code, Text: strings.Join(parts, "")}
		if !slices.Contains(d.Notices, n) {
			d.Notices = append(d.Notices, n)
		}
	}
	later := func(dated time.Time, what, name string) {
		if attempt.IsLater(dated, e.Attempt.At) {
			note(decide.DatedLater, what, name, " is dated ", dated.In(e.judge.directory.Zone).Format(time.RFC3339),
				", after the attempt, so it did not happen.")
		}
	}
	a := e.Attempt
	proof := func(p *attempt.Proof, ofAttempt bool) {
		later(p.At, "The proof of ", p.Method)
		why := e.ignores(p, ofAttempt)
		if why == "" && !ofAttempt && !e.isInSession(p) {
			why = "it was made before the session began"
		}
		m, isMethod := e.judge.directory.FindMethod(p.Method)
		if p.App != "" {
			if _, isApp := e.judge.directory.FindApp(p.App); !isApp {
				note(decide.NameUnknown, "The proof of ", p.Method, " was made for ", strconv.Quote(p.App), ", and the book has no such app.")
			}
		}
		switch {
		case !isMethod:
			note(decide.NameUnknown, "The proof of ", strconv.Quote(p.Method), " counts for nothing: the book has no such method",
				e.nearMethod(p.Method))
		case attempt.IsLater(p.At, a.At):
		case why != "":
			note(decide.ProofIgnored, "The proof of ", p.Method, " counts for nothing: ", why, ".")
		case e.Profile != nil && m != e.judge.deskPass && e.Profile.lacks.Has(m):
			note(decide.ProofNotEnrolled, "The proof of ", p.Method, " counts, though ", a.Account, " has not enrolled it.")
		}
	}
	if !e.allProofsCount() {
		for i := range a.Proofs {
			proof(&a.Proofs[i], true)
		}
		for i := range a.Session.Proofs {
			proof(&a.Session.Proofs[i], false)
		}
	}
	for _, f := range a.Failed {
		if _, ok := e.judge.directory.FindMethod(f.Method); !ok {
			note(decide.NameUnknown, "The failed proof of ", strconv.Quote(f.Method), " counts for nothing: the book has no such method",
				e.nearMethod(f.Method))
		}
	}
	for _, name := range a.Signals {
		i := slices.IndexFunc(e.judge.model.Signals, func(s risk.Signal) bool { return s.Name == name })
		switch {
		case i < 0:
			note(decide.NameUnknown, "The signal ", strconv.Quote(name), " counts for nothing: the book has none of that name",
				nearest.End(name, e.judge.model.Signals, func(s risk.Signal) string { return s.Name }))
		case !e.judge.model.Signals[i].IsReported():
			note(decide.NameUnknown, "The signal ", name, " counts for nothing here: the book detects it itself.")
		}
	}
	unasked := func(what string, kind decide.DemandKind, name string) {
		if !slices.ContainsFunc(e.judge.demands, func(d demand) bool { return d.kind == kind && d.name == name }) {
			asked := slices.DeleteFunc(slices.Clone(e.judge.demands), func(d demand) bool { return d.kind != kind })
			note(decide.NameUnknown, what, strconv.Quote(name), " counts for nothing: the book asks for none of that name",
				nearest.End(name, asked, func(d demand) string { return d.name }))
		}
	}
	for _, name := range sortedKeys(a.External) {
		unasked("The outside check ", decide.DemandExternal, name)
	}
	if code, known := a.Country.Get(); known && !code.IsAssigned() {
		note(decide.CountryUnassigned, strconv.Quote(string(code)),
			" is no assigned ISO 3166-1 code, so the country that it comes from is not known by it.")
	}
	if p := a.Previous.Ref(); p != nil {
		if code, known := p.Country.Get(); known && !code.IsAssigned() {
			note(decide.CountryUnassigned, strconv.Quote(string(code)),
				" is no assigned ISO 3166-1 code, so the country of the sign-in before is not known.")
		}
		if p.At.After(a.At) {
			note(decide.DatedLater, "The sign-in before is dated after the attempt, so nobody knows how fast the person travelled.")
		}
	}
	later(a.Session.Started, "The session's start", "")
	for _, x := range a.Accepted {
		if later(x.At, "The acceptance of ", x.Document); !attempt.IsLater(x.At, a.At) {
			unasked("The acceptance of ", decide.DemandAccept, x.Document)
		}
	}
	for _, r := range e.findDevice().remembered() {
		later(r.At, "That the device remembers ", r.Account)
	}
	if e.findDevice().hasLaterReport() {
		note(decide.DatedLater, "The device's report is dated after the attempt, so it did not happen.")
	}
	if e.Profile == nil {
		return
	}
	account := e.Profile.Account()
	if account.Joined != nil && !account.Joined.Before(directory.DateOf(a.At)) { // which costs less to see
		later(account.Joined.Start(e.judge.directory.Zone), "The day of joining", "")
	}
	if account.AskedAt != nil {
		later(*account.AskedAt, "The time at which the person was first asked", "")
	}
	if account.PasswordChangedAt != nil {
		later(*account.PasswordChangedAt, "The change of the password", "")
	}
}

// nearMethod ends a sentence about a method that the book does not have.
func (e *evaluation) nearMethod(name string) string {
	return nearest.End(name, e.judge.directory.Methods(), func(m directory.Method) string { return m.Name })
}

// allProofsCount reports whether each proof counts and is of a method that the account
// has enrolled, so that there is nothing to note about any.
func (e *evaluation) allProofsCount() bool {
	if e.Profile == nil || len(e.gatherProofs()) < len(e.Attempt.Proofs)+len(e.Attempt.Session.Proofs) || e.strangeApp {
		return false
	}
	for i := range e.proofs {
		if p := &e.proofs[i]; !p.inSession || e.Profile.lacks.Has(p.method) {
			return false
		}
	}
	return true
}

// sortedKeys returns the names in a map in order. Most attempts have none.
func sortedKeys[T any](m map[string]T) []string {
	if len(m) == 0 {
		return nil
	}
	return slices.Sorted(maps.Keys(m))
}

// noteLost reports what nobody could find out while the decision was made.
func (e *evaluation) noteLost(d *decide.Decision) {
	e.findDevice()
	e.findPlace()
	if e.deviceLost != nil {
		d.Notices = append(
			d.Notices,
			decide.Notice{Code: decide.FactUnavailable, Text: fmt.Sprintf("Nobody could find out about the device: %v.", e.deviceLost)},
		)
	}
	if e.where.lost != nil {
		d.Notices = append(
			d.Notices,
			decide.Notice{Code: decide.FactUnavailable, Text: fmt.Sprintf("Nobody could find out where the address is: %v.", e.where.lost)},
		)
	}
}

func (e *evaluation) refusalText(code decide.CauseCode) string {
	switch code {
	case decide.AttemptInvalid:
		return fmt.Sprintf("It cannot be judged: %v.", e.wrong)
	case decide.AccountUnavailable:
		return fmt.Sprintf("Nobody could find out about the account %q: %v.", e.Attempt.Account, e.unavailable)
	case decide.AccountUnknown:
		if e.judge.accounts != nil {
			return fmt.Sprintf("There is no account %q.", e.Attempt.Account)
		}
		return fmt.Sprintf("The book has no account %q.", e.Attempt.Account)
	case decide.AccountDisabled:
		return fmt.Sprintf("The account %s is disabled.", e.Attempt.Account)
	case decide.AppUnknown:
		return fmt.Sprintf("The book has no app %q.", e.Attempt.App)
	}
	app := &e.judge.directory.Apps[e.App]
	return fmt.Sprintf("%s is open to %s, and %s is surely in none of them.", app.Name, strings.Join(app.OpenTo, ", "), e.Attempt.Account)
}

// describeSession reports what a token and a session need to know.
func (e *evaluation) describeSession(d *decide.Decision) {
	d.Limits = decide.Limits{Lasts: directory.Span(e.limits.lasts), Idle: directory.Span(e.limits.idle), Shared: !e.limits.unshared}
	score := e.score()
	levels := e.judge.model.Levels
	d.Risk.Score, d.Risk.AtMost, d.Risk.Level, d.Risk.LevelAtMost = score.Low, score.High, levels.Of(score.Low), levels.Of(score.High)
	for i, holds := range e.signals {
		if holds != condition.False {
			signal := &e.judge.model.Signals[i]
			d.Risk.Signals = append(d.Risk.Signals, decide.SignalTrace{Name: signal.Name, Points: signal.Points, Holds: holds})
		}
	}
	first := len(e.draft.names)
	for _, p := range e.gatherProofs() {
		if e.counts(&p) {
			e.draft.names = append(e.draft.names, e.judge.directory.Methods()[p.method].AMR...)
		}
	}
	d.AMR = eachOnce(e.draft.namesFrom(first))
	first = len(e.draft.names)
	for _, i := range e.judge.classed {
		a := &e.judge.assurances[i]
		shown := condition.True
		for _, number := range a.demands {
			shown = min(shown, e.shown(&e.judge.demands[number]))
		}
		if shown == condition.True {
			e.draft.names = append(e.draft.names, a.acr)
		}
	}
	d.ACR = eachOnce(e.draft.namesFrom(first))
}

// eachOnce sorts names and takes out those that stand twice. Mostly there is one.
func eachOnce(names []string) []string {
	if len(names) < 2 {
		return names
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// noteEasing reports rollouts and exemptions that took a demand away.
func (e *evaluation) noteEasing(d *decide.Decision) {
	for _, due := range e.eased {
		r := &e.judge.rollouts[due.rollout]
		if !r.opens.IsZero() && e.Moment.Before(r.opens) {
			continue // nobody is told before it opens
		}
		days := int((due.deadline.Sub(e.Moment) + 24*time.Hour - 1) / (24 * time.Hour))
		n := decide.Notice{Code: decide.EnrolmentDue, Name: r.Name, Until: due.deadline, DaysLeft: days,
			Text: fmt.Sprintf("%s: enrol %s within %s, before %s.", r.Name, strings.Join(r.Methods, " or "), words.Count(days, "day"),
				due.deadline.In(e.judge.directory.Zone).Format("2006-01-02 15:04"))}
		if !slices.Contains(d.Notices, n) {
			d.Notices = append(d.Notices, n)
		}
	}
	if len(e.judge.exemptions) == 0 {
		return
	}
	asked := e.askedFor()
	for i := range e.judge.exemptions {
		x := &e.judge.exemptions[i]
		asks := slices.ContainsFunc(x.from, func(a int32) bool { return slices.Contains(asked, a) })
		if asks && e.exempts(int32(i)) == condition.True {
			until := ""
			if x.Until != nil {
				until = ", until " + x.Until.String()
			}
			d.Notices = append(d.Notices, decide.Notice{Code: decide.Exempted, Name: x.Name, Text: fmt.Sprintf("%s is excused from %s by %s%s: %s",
				e.Attempt.Account, strings.Join(x.From, ", "), x.Name, until, x.Because)})
		}
	}
}

// askedFor lists the assurances that the joined outcomes ask for, by number.
func (e *evaluation) askedFor() []int32 {
	asked := e.draft.assurances[:0]
	for i := range e.outcomes {
		for _, r := range e.outcomes[i].outcome.requires {
			for _, a := range r.ways {
				if !slices.Contains(asked, a) {
					asked = append(asked, a)
				}
			}
		}
	}
	e.draft.assurances = asked
	return asked
}

// listCauses says why the verdict is as it is, the decisive reasons only. Their texts
// stand in the draft until they are handed out.
func (e *evaluation) listCauses(d *decide.Decision) {
	found := e.findCauses(d.Verdict)
	d.Causes = slices.Grow(d.Causes, len(found))
	for _, c := range found {
		o := &e.outcomes[c.outcome]
		source := e.source(o.policy, o.rule)
		e.writeCause(d, c.code, o)
		e.draft.causes = append(e.draft.causes, len(e.draft.text))
		d.Causes = append(d.Causes, decide.Cause{Code: c.code, Policy: source.Policy, Rule: source.Rule})
	}
}

// writeCause words a cause.
func (e *evaluation) writeCause(d *decide.Decision, code decide.CauseCode, o *joined) {
	w := &e.draft
	if code == decide.OtherwiseBlocks {
		w.write("No live policy surely speaks for this attempt, and the book then blocks (settings.otherwise).")
		return
	}
	if code == decide.PublicApp {
		w.write(e.judge.directory.Apps[e.App].Name, " is public, and ")
	}
	if o.policy == none {
		w.write("The book's `otherwise`")
	} else {
		w.write(e.judge.policies[o.policy].rules[o.rule].title)
	}
	switch code {
	case decide.RuleBlocks:
		w.write(" blocks")
		w.text = e.judge.policies[o.policy].rules[o.rule].asks.WriteBecause(w.text, "; ", e)
		w.write(".")
	case decide.RuleMayBlock:
		w.write(" may block, and a missing fact decides")
		e.hangsOn(o)
		w.writeReasons(e.reasons)
		w.write(".")
	case decide.DemandOpen:
		w.write(" asks for ")
		e.writeOpenDemands(d, o)
		w.write(".")
	case decide.CannotBeAsked:
		w.write(" asks for ")
		e.writeOpenDemands(d, o)
		w.write(", and nobody can be asked through ", e.attemptThrough(), ".")
	case decide.PublicApp:
		w.write(" asks for nothing more.")
	case decide.DemandsMet:
		w.write(" is met: ")
		if !e.writeLessened(o) {
			w.write("all that it asks for was shown.")
		}
	default:
		w.write(" asks for ")
		var demand decide.Demand
		e.wire(&demand, *e.firstImpossible(o), nil)
		e.writeImpossible(code, &demand)
	}
}

// writeLessened says what took away some of what an outcome asks for, an exemption or time
// that a rollout leaves, and reports whether anything did.
func (e *evaluation) writeLessened(o *joined) bool {
	var parts []string
	add := func(part string) {
		if !slices.Contains(parts, part) {
			parts = append(parts, part)
		}
	}
	for _, r := range o.outcome.requires {
		for _, way := range r.ways {
			a := &e.judge.assurances[way]
			for _, number := range a.exemptions {
				if x := &e.judge.exemptions[number]; e.exempts(number) == condition.True {
					until := ""
					if x.Until != nil {
						until = " until " + x.Until.String()
					}
					add("the exemption " + x.Name + " excuses from " + a.name + until)
				}
			}
			for _, due := range e.eased {
				if slices.Contains(a.rollouts, due.rollout) {
					add("the rollout " + e.judge.rollouts[due.rollout].Name + " leaves time for " + a.name + " until " +
						due.deadline.In(e.judge.directory.Zone).Format("2006-01-02 15:04"))
				}
			}
		}
	}
	if len(parts) > 0 {
		e.draft.write(words.List(parts, "and"), "; what is left was shown.")
	}
	return len(parts) > 0
}

// writeImpossible words a demand that cannot be met, and why.
func (e *evaluation) writeImpossible(code decide.CauseCode, demand *decide.Demand) {
	w := &e.draft
	w.text = demand.Append(w.text)
	switch code {
	case decide.NoWay:
		w.write(", and none of these can be met here.")
	case decide.CheckFailed:
		w.write(", and it failed.")
	case decide.DeviceUnidentified:
		w.write(", and nothing identifies the device.")
	default:
		w.write("; ")
		for i, f := range demand.Failing {
			if i > 0 {
				w.write("; ")
			}
			w.write(f.Fact, ": wants ", f.Wants, ", saw ", f.Saw)
		}
		w.write(".")
	}
}

func (e *evaluation) attemptThrough() string {
	through, _ := e.Attempt.Through.Get()
	return through.String()
}

// hangsOn lists the unknown tests that decide whether a rule speaks: those of
// its policy, of the rules before it, and its own.
func (e *evaluation) hangsOn(o *joined) {
	p := &e.judge.policies[o.policy]
	e.reasons = condition.AppendWhy(e.reasons[:0], p.apps, e)
	e.reasons = condition.AppendWhy(e.reasons, p.who, e)
	h := e.applicableOf(o.policy)
	if p.liveFor != nil && h.inForce == condition.Unknown {
		e.reasons = condition.AppendWhy(e.reasons, p.liveFor, e)
	}
	for _, r := range e.spoken[h.first:h.last] {
		if r.rule <= o.rule {
			e.reasons = condition.AppendWhy(e.reasons, p.rules[r.rule].when, e)
		}
	}
}

// writeOpenDemands words the open demands of one rule; where those are left out as
// implied by others, it words all that are open. Rules of the same outcome share the
// words.
func (e *evaluation) writeOpenDemands(d *decide.Decision, o *joined) {
	w := &e.draft
	words := &w.ofOutcome[o.outcome.number]
	if words.end == 0 {
		words.start = len(w.words)
		weighed := e.weighing(o)
		w.listed = w.listed[:0]
		for k := weighed.first; k < weighed.last; k++ {
			w.list(w.entries[w.of[k]].words)
		}
		if len(w.listed) == 0 {
			for i := range d.Demands {
				if !d.Demands[i].Met {
					w.list(w.word(d.Demands[i].Append))
				}
			}
			words.start = len(w.words)
		}
		for i, own := range w.listed {
			if i > 0 {
				w.words = append(w.words, ", and for "...)
			}
			w.words = append(w.words, w.words[own.start:own.end]...)
		}
		words.end = len(w.words)
	}
	w.text = append(w.text, w.words[words.start:words.end]...)
}
