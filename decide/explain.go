package decide

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Decide judges an attempt and explains the decision in full. It returns a block
// with a cause of its own where the attempt cannot be judged, or nobody can find
// out about its account. The decision is the caller's. The cost grows with the
// number of policies, since each is traced. The context is handed on as by Verdict.
func (j *Judge) Decide(ctx context.Context, a *attempt.Attempt) *Decision {
	return j.decide(ctx, a, true)
}

// Outline is Decide without the trace of policies and without the moment at which
// a granted session ends, which costs a fraction where there are many policies.
func (j *Judge) Outline(ctx context.Context, a *attempt.Attempt) *Decision {
	return j.decide(ctx, a, false)
}

func (j *Judge) decide(ctx context.Context, a *attempt.Attempt, full bool) *Decision {
	e := j.begin(ctx, a)
	d := emptyDecision()
	d.JudgedBy = JudgedBy{j.digest, j.fingerprint}
	e.hear(withShadows)
	e.sortHearings()
	e.noteIgnored(d)
	if code := e.refusal(); code != "" {
		d.Causes = append(d.Causes, Cause{Code: code, Text: e.refusalText(code)})
		e.tellPerson(d)
		if full {
			e.trace(d, nil)
		}
		j.end(e)
		return d
	}
	var shadowSilenced []int32
	shadows := e.hearsShadows()
	if shadows {
		d.WithShadow.Verdict = e.evaluate(true)
		for i := range e.hearings {
			shadowSilenced = append(shadowSilenced, e.hearings[i].silencedBy)
		}
	}
	d.Verdict = e.evaluate(false)
	if !shadows {
		d.WithShadow.Verdict = d.Verdict
	}
	listed := e.listDemands(d)
	e.listCauses(d, listed)
	e.noteEasing(d)
	e.describeSession(d)
	e.tellPerson(d)
	e.noteLost(d)
	if full {
		e.trace(d, shadowSilenced)
		if d.Verdict == Grant {
			d.Limits.Until = e.grantedUntil() // last, for it judges again
		}
	}
	j.end(e)
	return d
}

// sortHearings puts the hearings in the order of their policies' names, so that
// a decision reads the same whichever way they were found.
func (e *evaluation) sortHearings() {
	slices.SortFunc(e.hearings, func(a, b hearing) int { return cmp.Compare(a.policy, b.policy) })
	for i := range e.hearings {
		e.slots[e.hearings[i].policy] = int32(i)
	}
}

// noteIgnored tells of what the attempt states and what counts for nothing, or
// for less than its sender may think.
func (e *evaluation) noteIgnored(d *Decision) {
	if e.wrong != nil {
		return
	}
	note := func(code NoticeCode, format string, args ...any) {
		n := Notice{Code: code, Text: fmt.Sprintf(format, args...)}
		if !slices.Contains(d.Notices, n) {
			d.Notices = append(d.Notices, n)
		}
	}
	later := func(dated time.Time, what, name string) {
		if attempt.IsLater(dated, e.Attempt.At) {
			note(
				DatedLater,
				"%s is dated %s, after the attempt, so it did not happen.",
				what+name,
				dated.In(e.judge.directory.Zone).Format(time.RFC3339),
			)
		}
	}
	a := e.Attempt
	proof := func(p *attempt.Proof, ofAttempt bool) {
		later(p.At, "The proof of ", p.Method)
		why := e.ignores(p, ofAttempt)
		if why == "" && !e.isInSession(p) && !ofAttempt {
			why = "it was made before the session began"
		}
		m, _ := e.judge.directory.FindMethod(p.Method)
		switch {
		case attempt.IsLater(p.At, a.At):
		case why != "":
			note(ProofIgnored, "The proof of %s counts for nothing: %s.", p.Method, why)
		case e.Profile != nil && m != e.judge.deskPass && !e.Profile.Enrolled().Has(m):
			note(ProofNotEnrolled, "The proof of %s counts, though %s has not enrolled it.", p.Method, a.Account)
		}
	}
	for i := range a.Proofs {
		proof(&a.Proofs[i], true)
	}
	for i := range a.Session.Proofs {
		proof(&a.Session.Proofs[i], false)
	}
	for _, f := range a.Failed {
		if _, ok := e.judge.directory.FindMethod(f.Method); !ok {
			note(NameUnknown, "The failed proof of %q counts for nothing: the book has no such method.", f.Method)
		}
	}
	for _, name := range a.Signals {
		i := slices.IndexFunc(e.judge.model.Signals, func(s risk.Signal) bool { return s.Name == name })
		switch {
		case i < 0:
			note(NameUnknown, "The signal %q counts for nothing: the book has none of that name.", name)
		case !e.judge.model.Signals[i].IsReported():
			note(NameUnknown, "The signal %s counts for nothing here: the book detects it itself.", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(a.External)) {
		if !slices.ContainsFunc(e.judge.demands, func(d demand) bool { return d.kind == externalDemand && d.name == name }) {
			note(NameUnknown, "The outside check %q counts for nothing: the book asks for none of that name.", name)
		}
	}
	if code, known := a.Country.Get(); known && !code.IsAssigned() {
		note(CountryUnassigned, "%q is no assigned ISO 3166-1 code, so the country that it comes from is not known by it.", string(code))
	}
	if p := a.Previous.Ref(); p != nil {
		if code, known := p.Country.Get(); known && !code.IsAssigned() {
			note(CountryUnassigned, "%q is no assigned ISO 3166-1 code, so the country of the sign-in before is not known.", string(code))
		}
		if p.At.After(a.At) {
			note(DatedLater, "The sign-in before is dated after the attempt, so nobody knows how fast the person travelled.")
		}
	}
	later(a.Session.Started, "The session's start", "")
	for _, x := range a.Accepted {
		later(x.At, "The acceptance of ", x.Document)
	}
	for _, r := range e.FindDevice().Remembered() {
		later(r.At, "That the device remembers ", r.Account)
	}
	if e.FindDevice().HasLaterReport() {
		note(DatedLater, "The device's report is dated after the attempt, so it did not happen.")
	}
	if e.Profile == nil {
		return
	}
	account := e.Profile.Account()
	if account.Joined != nil {
		later(account.Joined.Start(e.judge.directory.Zone), "The day of joining", "")
	}
	if account.AskedAt != nil {
		later(*account.AskedAt, "The time at which the person was first asked", "")
	}
	if account.PasswordChangedAt != nil {
		later(*account.PasswordChangedAt, "The change of the password", "")
	}
}

// noteLost tells of what nobody could find out while the decision was made.
func (e *evaluation) noteLost(d *Decision) {
	e.FindDevice()
	e.FindPlace()
	if e.deviceLost != nil {
		d.Notices = append(
			d.Notices,
			Notice{Code: FactUnavailable, Text: fmt.Sprintf("Nobody could find out about the device: %v.", e.deviceLost)},
		)
	}
	if e.where.lost != nil {
		d.Notices = append(
			d.Notices,
			Notice{Code: FactUnavailable, Text: fmt.Sprintf("Nobody could find out where the address is: %v.", e.where.lost)},
		)
	}
}

func (e *evaluation) refusalText(code CauseCode) string {
	switch code {
	case AttemptInvalid:
		return fmt.Sprintf("It cannot be judged: %v.", e.wrong)
	case AccountUnavailable:
		return fmt.Sprintf("Nobody could find out about the account %q: %v.", e.Attempt.Account, e.unavailable)
	case AccountUnknown:
		if e.judge.accounts != nil {
			return fmt.Sprintf("There is no account %q.", e.Attempt.Account)
		}
		return fmt.Sprintf("The book has no account %q.", e.Attempt.Account)
	case AccountDisabled:
		return fmt.Sprintf("The account %s is disabled.", e.Attempt.Account)
	case AppUnknown:
		return fmt.Sprintf("The book has no app %q.", e.Attempt.App)
	}
	app := &e.judge.directory.Apps[e.App]
	return fmt.Sprintf("%s is open to %s, and %s is surely in none of them.", app.Name, strings.Join(app.OpenTo, ", "), e.Attempt.Account)
}

// describeSession reports what a token and a session need to know.
func (e *evaluation) describeSession(d *Decision) {
	d.Limits = Limits{Lasts: directory.Span(e.limits.lasts), Idle: directory.Span(e.limits.idle), Shared: !e.limits.unshared}
	score := e.score()
	levels := e.judge.model.Levels
	d.Risk.Score, d.Risk.AtMost, d.Risk.Level, d.Risk.LevelAtMost = score.Low, score.High, levels.Of(score.Low), levels.Of(score.High)
	for i, holds := range e.signals {
		if holds != condition.False {
			signal := &e.judge.model.Signals[i]
			d.Risk.Signals = append(d.Risk.Signals, SignalTrace{signal.Name, signal.Points, holds})
		}
	}
	for _, p := range e.gatherProofs() {
		if e.counts(&p) {
			d.AMR = append(d.AMR, e.judge.directory.Methods()[p.method].AMR...)
		}
	}
	for i := range e.judge.assurances {
		a := &e.judge.assurances[i]
		if a.acr == "" {
			continue
		}
		shown := condition.True
		for _, number := range a.demands {
			shown = min(shown, e.shown(&e.judge.demands[number]))
		}
		if shown == condition.True {
			d.ACR = append(d.ACR, a.acr)
		}
	}
	slices.Sort(d.AMR)
	d.AMR = slices.Compact(d.AMR)
	slices.Sort(d.ACR)
	d.ACR = slices.Compact(d.ACR)
}

// noteEasing tells of rollouts and exemptions that took a demand away.
func (e *evaluation) noteEasing(d *Decision) {
	for _, due := range e.eased {
		r := &e.judge.rollouts[due.rollout]
		if !r.opens.IsZero() && e.Moment.Before(r.opens) {
			continue // nobody is told before it opens
		}
		days := int((due.deadline.Sub(e.Moment) + 24*time.Hour - 1) / (24 * time.Hour))
		n := Notice{EnrolmentDue, fmt.Sprintf("%s: enrol %s within %s, before %s.", r.Name, strings.Join(r.Methods, " or "),
			words.Count(days, "day"), due.deadline.In(e.judge.directory.Zone).Format("2006-01-02 15:04")), due.deadline, days}
		if !slices.Contains(d.Notices, n) {
			d.Notices = append(d.Notices, n)
		}
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
			d.Notices = append(d.Notices, Notice{Code: Exempted, Text: fmt.Sprintf("%s is excused from %s by %s%s: %s",
				e.Attempt.Account, strings.Join(x.From, ", "), x.Name, until, x.Because)})
		}
	}
}

// askedFor lists the assurances that the joined outcomes ask for, by number.
func (e *evaluation) askedFor() []int32 {
	var asked []int32
	seen := make([]bool, len(e.judge.outcomes))
	for i := range e.outcomes {
		o := e.outcomes[i].outcome
		if seen[o.number] {
			continue
		}
		seen[o.number] = true
		for _, r := range o.requires {
			for _, a := range r.ways {
				if !slices.Contains(asked, a) {
					asked = append(asked, a)
				}
			}
		}
	}
	return asked
}

// kindOrder is the order in which demands are listed and met: proofs come first.
var kindOrder = DemandKinds()

// listedDemand is a demand as the decision lists it: once, with all that ask for
// it.
type listedDemand struct {
	need need
	from []Source
	// words are those of an open demand, "" where it is met or left out.
	words string
}

// listDemands collects what the joined outcomes ask for. A demand asked for in
// several places is listed once, with all of them; an open one that another
// open one implies is left out. It returns the list, and for each of the needs its
// number there.
func (e *evaluation) listDemands(d *Decision) demandList {
	list := demandList{entries: make([]listedDemand, 0, len(e.needs)), of: make([]int32, len(e.needs))}
	byDemand := make([]int32, len(e.judge.demands)+1) // the last is for any proof
	find := func(n need) int32 {
		if n.demand != oneOf {
			at := &byDemand[(int(n.demand)+len(byDemand))%len(byDemand)]
			if *at == 0 {
				list.entries = append(list.entries, listedDemand{need: n})
				*at = int32(len(list.entries))
			}
			return *at - 1
		}
		for i := range list.entries {
			if e.same(list.entries[i].need, n) {
				return int32(i)
			}
		}
		list.entries = append(list.entries, listedDemand{need: n})
		return int32(len(list.entries) - 1)
	}
	for i := range e.needs {
		list.of[i] = find(e.needs[i])
	}
	for i := range e.outcomes {
		o := &e.outcomes[i]
		w := e.weighing(o)
		for k := w.first; k < w.last; k++ {
			source := e.source(o)
			if a := e.needs[k].assurance; a != none {
				source.Assurance = e.judge.assurances[a].name
			}
			// The same source comes in a row, where an outcome asks twice.
			if from := &list.entries[list.of[k]].from; !slices.Contains((*from)[max(0, len(*from)-int(w.last-w.first)):], source) {
				*from = append(*from, source)
			}
		}
	}
	d.Demands = make([]Demand, 0, len(list.entries))
	for i := range list.entries {
		entry := &list.entries[i]
		implied := slices.ContainsFunc(list.entries, func(other listedDemand) bool {
			return !e.same(other.need, entry.need) && e.implies(other.need, entry.need)
		})
		if implied {
			continue
		}
		demand := e.wire(entry.need, entry.from)
		if !demand.Met {
			entry.words = e.demandWords(entry.need, &demand)
		}
		d.Demands = append(d.Demands, demand)
	}
	slices.SortStableFunc(d.Demands, func(a, b Demand) int {
		return cmp.Or(
			boolCompare(a.Met, b.Met),
			cmp.Compare(slices.Index(kindOrder, a.Kind), slices.Index(kindOrder, b.Kind)),
			slices.Compare(a.AnyOf, b.AnyOf),
			cmp.Compare(
				a.Posture+a.Document+a.External,
				b.Posture+b.Document+b.External,
			),
			slices.CompareFunc(a.From, b.From, compareSources),
		)
	})
	return list
}

// demandWords words an open demand. What proves in the same way for everybody is
// worded once, when the judge is compiled.
func (e *evaluation) demandWords(n need, demand *Demand) string {
	if n.demand >= 0 && demand.Kind == DemandMethod {
		return e.judge.methodWords[n.demand]
	}
	return demand.String()
}

// demandList is what listDemands returns.
type demandList struct {
	entries []listedDemand
	of      []int32
}

func compareSources(a, b Source) int {
	return cmp.Or(cmp.Compare(a.Policy, b.Policy), cmp.Compare(a.Rule, b.Rule), cmp.Compare(a.Assurance, b.Assurance))
}

func boolCompare(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

// same reports whether two needs are one demand.
func (e *evaluation) same(a, b need) bool {
	if a.demand != oneOf || b.demand != oneOf {
		return a.demand == b.demand // the same demand stands the same everywhere
	}
	if a.lastWay-a.firstWay != b.lastWay-b.firstWay {
		return false
	}
	for i := range a.lastWay - a.firstWay {
		v, w := e.ways[a.firstWay+i], e.ways[b.firstWay+i]
		if !slices.Equal(e.wayNeeds[v.first:v.last], e.wayNeeds[w.first:w.last]) {
			return false
		}
	}
	return true
}

// implies reports whether whatever meets the open demand a also meets the open
// demand b. To enrol a method is something else than to prove one.
func (e *evaluation) implies(a, b need) bool {
	if a.state != open || b.state != open || a.demand < 0 || a.enrol || b.enrol || b.demand == oneOf {
		return false
	}
	x := &e.judge.demands[a.demand]
	if x.kind != methodDemand {
		return false
	}
	if b.demand == anyProof {
		return true
	}
	y := &e.judge.demands[b.demand]
	return y.kind == methodDemand && x.remember == 0 && x.fallback == 0 && x.methods&^y.methods == 0 &&
		(y.within == Session || x.within == Now || x.within > 0 && x.within <= y.within)
}

func (e *evaluation) source(o *joined) Source {
	if o.policy == none {
		return Source{}
	}
	p := &e.judge.policies[o.policy]
	return Source{Policy: p.Name, Rule: p.Rules[o.rule].Name}
}

// wire puts a demand in its wire form.
func (e *evaluation) wire(n need, from []Source) Demand {
	slices.SortFunc(from, compareSources)
	w := Demand{Met: n.state == met, Impossible: n.state == impossible, From: from}
	enrolled := e.Profile.Enrolled()
	switch n.demand {
	case oneOf:
		w.Kind = DemandOneOf
		for _, bounds := range e.ways[n.firstWay:n.lastWay] {
			way := []Demand{}
			for _, inner := range e.wayNeeds[bounds.first:bounds.last] {
				source := slices.Clone(from)
				for i := range source {
					source[i].Assurance = e.judge.assurances[inner.assurance].name
				}
				way = append(way, e.wire(inner, slices.Compact(source)))
			}
			w.Ways = append(w.Ways, way)
		}
		return w
	case anyProof:
		session := Session
		w.Kind, w.AnyOf, w.Within = DemandMethod, e.judge.MethodNames(enrolled), &session
		if n.state == met {
			return w
		}
		switch {
		case n.enrol && e.Attempt.Action.TakesDeskPass():
			w.AnyOf = []string{directory.DeskPass}
		case n.enrol:
			return Demand{Kind: DemandEnrol, AnyOf: e.judge.MethodNames(e.allMethods()), From: from}
		}
		w.Offer = e.offer(enrolled)
		return w
	}
	d := &e.judge.demands[n.demand]
	w.Kind = d.kind.kind()
	switch d.kind {
	case methodDemand:
		w.AnyOf = e.judge.MethodNames(d.methods)
		if n.enrol && n.state != met {
			w.Kind = DemandEnrol
			return w
		}
		w.Within = &d.within
		if n.state != met {
			w.Offer = e.offer(d.methods & enrolled)
			if e.takesFallback(d) {
				w.Offer = append(w.Offer, e.inOrder(d.fallbackNames, e.offer(d.fallback&enrolled))...)
			}
		}
	case enrolDemand:
		w.AnyOf = e.judge.MethodNames(d.methods)
	case postureDemand:
		w.Posture = d.name
		if n.state != met {
			e.describePosture(&w, &e.judge.directory.Postures[d.posture])
		}
	case acceptDemand:
		w.Document, w.Version, w.Every = d.name, d.version, directory.Span(d.every)
	case externalDemand:
		w.External = d.name
	case consentDemand:
		if client := e.Attempt.Client.Ref(); client != nil {
			w.Client, w.Scopes = client.ID, client.Wanted()
		}
	}
	return w
}

// describePosture lists the checks that an identified device does not pass.
func (e *evaluation) describePosture(w *Demand, p *directory.Posture) {
	if _, identified := e.FindDevice().Identity(); !identified {
		return
	}
	for _, f := range e.FindDevice().Failing(p) {
		w.Failing = append(w.Failing, FailedCheck{f.Check.Fact, f.Check.Wants(), f.Saw, f.Check.Fix})
	}
}

// allMethods are all that a person could enrol.
func (e *evaluation) allMethods() directory.MethodSet {
	return ^directory.MethodSet(0) &^ directory.MethodSet(0).Add(e.judge.deskPass) &^ e.Profile.Barred()
}

// inOrder sorts names by their places in a comma-separated list.
func (e *evaluation) inOrder(list string, names []string) []string {
	order := strings.Split(list, ",")
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(slices.Index(order, a), slices.Index(order, b)) })
	return names
}

// offer leaves out of a set the methods that reach out to a phone, until
// another proof has been given. Where a desk pass would do it is offered too.
func (e *evaluation) offer(set directory.MethodSet) []string {
	if len(e.gatherProofs()) == 0 {
		for i, m := range e.judge.directory.Methods() {
			if slices.Contains(m.Traits, directory.OutOfBand) {
				set &^= 1 << i
			}
		}
	}
	names := e.judge.MethodNames(set)
	if e.Attempt.Action.TakesDeskPass() {
		names = append(names, directory.DeskPass)
	}
	return names
}

// listCauses says why the verdict is as it is, the decisive reasons only.
func (e *evaluation) listCauses(d *Decision, listed demandList) {
	found := e.findCauses(d.Verdict)
	d.Causes = make([]Cause, 0, len(found))
	words := openWords{of: make([]string, len(e.judge.outcomes)), demands: d.Demands, listed: listed}
	for _, c := range found {
		o := &e.outcomes[c.outcome]
		source := e.source(o)
		d.Causes = append(d.Causes, Cause{c.code, source.Policy, source.Rule, e.causeText(&words, c.code, o)})
	}
}

// causeText words a cause.
func (e *evaluation) causeText(words *openWords, code CauseCode, o *joined) string {
	switch code {
	case OtherwiseBlocks:
		return "No live policy surely speaks for this attempt, and the book then blocks (settings.otherwise)."
	case RuleBlocks:
		return e.ruleName(o) + " blocks" + reasonsAfter("; ", condition.Because(e.judge.policies[o.policy].rules[o.rule].when, &e.Facts)) + "."
	case RuleMayBlock:
		return e.ruleName(o) + " may block, and a missing fact decides" + reasonsAfter("; ", e.hangsOn(o)) + "."
	case DemandOpen:
		return e.ruleName(o) + " asks for " + e.openDemands(words, o) + "."
	case CannotBeAsked:
		return e.ruleName(o) + " asks for " + e.openDemands(words, o) + ", and nobody can be asked through " + e.attemptThrough() + "."
	case PublicApp:
		return e.judge.directory.Apps[e.App].Name + " is public, and " + e.ruleName(o) + " asks for nothing more."
	case DemandsMet:
		return e.ruleName(o) + " is met: all that it asks for was shown."
	}
	demand := e.wire(*e.firstImpossible(o), nil)
	text := e.ruleName(o) + " asks for " + demand.String()
	switch code {
	case NoWay:
		return text + ", and none of these can be met here."
	case CheckFailed:
		return text + ", and it failed."
	case DeviceUnidentified:
		return text + ", and nothing identifies the device."
	}
	var failing []string
	for _, f := range demand.Failing {
		failing = append(failing, fmt.Sprintf("%s: wants %s, saw %s", f.Fact, f.Wants, f.Saw))
	}
	return text + "; " + strings.Join(failing, "; ") + "."
}

func (e *evaluation) attemptThrough() string {
	through, _ := e.Attempt.Through.Get()
	return through.String()
}

// hangsOn lists the unknown tests that decide whether a rule speaks: those of
// its policy, of the rules before it, and its own.
func (e *evaluation) hangsOn(o *joined) []condition.Reason {
	p := &e.judge.policies[o.policy]
	reasons := e.whyNot(p)
	h := e.heard(o.policy)
	if p.liveFor != nil && h.inForce == condition.Unknown {
		reasons = append(reasons, condition.Why(p.liveFor, &e.Facts)...)
	}
	for _, r := range e.spoken[h.first:h.last] {
		if r.rule <= o.rule {
			reasons = append(reasons, condition.Why(p.rules[r.rule].when, &e.Facts)...)
		}
	}
	return reasons
}

func reasonsAfter(lead string, reasons []condition.Reason) string {
	if len(reasons) == 0 {
		return ""
	}
	var words []string
	for _, r := range reasons {
		if word := r.String(); !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	return lead + strings.Join(words, "; ")
}

// whyNot lists what keeps a policy from surely applying.
func (e *evaluation) whyNot(p *policy) []condition.Reason {
	return append(condition.Why(p.apps, &e.Facts), condition.Why(p.who, &e.Facts)...)
}

func (e *evaluation) ruleName(o *joined) string {
	if o.policy == none {
		return "The book's `otherwise`"
	}
	p := &e.judge.policies[o.policy]
	return p.Name + " / " + p.Rules[o.rule].Name
}

// openWords keeps the words of the open demands of each outcome, so that rules of
// the same outcome share them.
type openWords struct {
	of      []string
	demands []Demand
	listed  demandList
}

// openDemands words the open demands of one rule; where those are left out as
// implied by others, it words all that are open.
func (e *evaluation) openDemands(words *openWords, o *joined) string {
	text := &words.of[o.outcome.number]
	if *text != "" {
		return *text
	}
	var own []string
	w := e.weighing(o)
	for k := w.first; k < w.last; k++ {
		if entry := &words.listed.entries[words.listed.of[k]]; entry.words != "" && !slices.Contains(own, entry.words) {
			own = append(own, entry.words)
		}
	}
	if len(own) == 0 {
		for _, demand := range words.demands {
			if !demand.Met {
				own = append(own, demand.String())
			}
		}
	}
	*text = strings.Join(own, ", and for ")
	return *text
}
