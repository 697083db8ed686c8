package decide

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
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
	d := e.draft.start()
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
		e.draft.handOut(d)
		j.end(e)
		return d
	}
	var shadowSilenced []int32
	shadows := e.hearsShadows()
	if shadows {
		d.WithShadow.Verdict = e.evaluate(true)
		e.draft.silenced = e.draft.silenced[:0]
		for i := range e.hearings {
			e.draft.silenced = append(e.draft.silenced, e.hearings[i].silencedBy)
		}
		shadowSilenced = e.draft.silenced
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
		e.trace(d, shadowSilenced)
	}
	e.draft.handOut(d)
	if full && d.Verdict == Grant {
		d.Limits.Until = e.grantedUntil() // last, for it judges again
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

// noteIgnored reports what the attempt states and what counts for nothing, or
// for less than its sender may think.
func (e *evaluation) noteIgnored(d *Decision) {
	if e.wrong != nil {
		return
	}
	note := func(code NoticeCode, parts ...string) {
		n := Notice{Code: code, Text: strings.Join(parts, "")}
		if !slices.Contains(d.Notices, n) {
			d.Notices = append(d.Notices, n)
		}
	}
	later := func(dated time.Time, what, name string) {
		if attempt.IsLater(dated, e.Attempt.At) {
			note(DatedLater, what, name, " is dated ", dated.In(e.judge.directory.Zone).Format(time.RFC3339),
				", after the attempt, so it did not happen.")
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
			note(ProofIgnored, "The proof of ", p.Method, " counts for nothing: ", why, ".")
		case e.Profile != nil && m != e.judge.deskPass && !e.Profile.Enrolled().Has(m):
			note(ProofNotEnrolled, "The proof of ", p.Method, " counts, though ", a.Account, " has not enrolled it.")
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
			note(NameUnknown, "The failed proof of ", strconv.Quote(f.Method), " counts for nothing: the book has no such method.")
		}
	}
	for _, name := range a.Signals {
		i := slices.IndexFunc(e.judge.model.Signals, func(s risk.Signal) bool { return s.Name == name })
		switch {
		case i < 0:
			note(NameUnknown, "The signal ", strconv.Quote(name), " counts for nothing: the book has none of that name.")
		case !e.judge.model.Signals[i].IsReported():
			note(NameUnknown, "The signal ", name, " counts for nothing here: the book detects it itself.")
		}
	}
	for _, name := range sortedKeys(a.External) {
		if !slices.ContainsFunc(e.judge.demands, func(d demand) bool { return d.kind == externalDemand && d.name == name }) {
			note(NameUnknown, "The outside check ", strconv.Quote(name), " counts for nothing: the book asks for none of that name.")
		}
	}
	if code, known := a.Country.Get(); known && !code.IsAssigned() {
		note(CountryUnassigned, strconv.Quote(string(code)),
			" is no assigned ISO 3166-1 code, so the country that it comes from is not known by it.")
	}
	if p := a.Previous.Ref(); p != nil {
		if code, known := p.Country.Get(); known && !code.IsAssigned() {
			note(CountryUnassigned, strconv.Quote(string(code)),
				" is no assigned ISO 3166-1 code, so the country of the sign-in before is not known.")
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

// allProofsCount reports whether each proof counts and is of a method that the account
// has enrolled, so that there is nothing to note about any.
func (e *evaluation) allProofsCount() bool {
	if e.Profile == nil || len(e.gatherProofs()) < len(e.Attempt.Proofs)+len(e.Attempt.Session.Proofs) {
		return false
	}
	for i := range e.proofs {
		if p := &e.proofs[i]; !p.inSession || !e.Profile.Enrolled().Has(p.method) {
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
	first := len(e.draft.names)
	for _, p := range e.gatherProofs() {
		if e.counts(&p) {
			e.draft.names = append(e.draft.names, e.judge.directory.Methods()[p.method].AMR...)
		}
	}
	d.AMR = e.draft.namesFrom(first)
	slices.Sort(d.AMR)
	d.AMR = slices.Compact(d.AMR)
	first = len(e.draft.names)
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
			e.draft.names = append(e.draft.names, a.acr)
		}
	}
	d.ACR = e.draft.namesFrom(first)
	slices.Sort(d.ACR)
	d.ACR = slices.Compact(d.ACR)
}

// noteEasing reports rollouts and exemptions that took a demand away.
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
			d.Notices = append(d.Notices, Notice{Code: Exempted, Text: fmt.Sprintf("%s is excused from %s by %s%s: %s",
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

// kindOrder is the order in which demands are listed and met: proofs come first.
var kindOrder = DemandKinds()

// listDemands collects what the joined outcomes ask for. A demand asked for in
// several places is listed once, with all of them; an open one that another
// open one implies is left out. The list stays in the evaluation's draft.
func (e *evaluation) listDemands(d *Decision) {
	e.draft.begin(e)
	for i := range e.needs {
		e.draft.of[i] = e.findEntry(e.needs[i])
	}
	e.findSources()
	entries := e.draft.entries
	worded := d.Verdict == StepUp || !e.canBeAsked() // only then a cause words what is open
	// Those of the ways stand behind those of the list.
	e.draft.demands = make([]Demand, len(entries)+len(e.wayNeeds))
	d.Demands, e.draft.demands = e.draft.demands[:0:len(entries)], e.draft.demands[len(entries):]
	for _, i := range e.ordered(entries) {
		entry := &entries[i]
		if e.isImplied(entries, entry) {
			continue
		}
		d.Demands = d.Demands[:len(d.Demands)+1]
		demand := &d.Demands[len(d.Demands)-1]
		e.wire(demand, entry.need, entry.from)
		if worded && !demand.Met {
			entry.words = e.draft.word(func(text []byte) []byte { return e.appendWords(text, entry.need, demand) })
		}
	}
	list := inOrder(d.Demands)
	for i := 1; i < len(list); i++ {
		if list.Less(i, i-1) { // few lists are not in order
			sort.Stable(list)
			return
		}
	}
}

// ordered returns the numbers of the entries by what comes first of them: open ones, and
// then their kind.
func (e *evaluation) ordered(entries []listedDemand) []int32 {
	order := e.draft.order[:0]
	for i := range entries {
		entry := &entries[i]
		entry.rank = e.rank(&entry.need)
		k := len(order)
		order = append(order, int32(i))
		for ; k > 0 && entries[order[k-1]].rank > entry.rank; k-- {
			order[k] = order[k-1]
		}
		order[k] = int32(i)
	}
	e.draft.order = order
	return order
}

// rank is the place of a demand's kind in the order, behind all open ones where it is
// met.
func (e *evaluation) rank(n *need) int {
	rank := len(kindOrder) - 1 // that of a choice
	switch {
	case n.demand == anyProof:
		rank = int(methodDemand)
	case n.demand != oneOf:
		rank = int(e.judge.demands[n.demand].kind)
	}
	switch {
	case n.state == met:
		return rank + len(kindOrder)
	case rank == int(methodDemand) && n.enrol && !(n.demand == anyProof && e.Attempt.Action.TakesDeskPass()):
		return int(enrolDemand)
	}
	return rank
}

// isImplied reports whether another open demand of a list implies one.
func (e *evaluation) isImplied(entries []listedDemand, entry *listedDemand) bool {
	if entry.need.state != open {
		return false
	}
	for i := range entries {
		if other := &entries[i].need; e.implies(other, &entry.need) && !e.same(*other, entry.need) {
			return true
		}
	}
	return false
}

// inOrder sorts demands: open ones first, then by kind, and then by what they ask.
type inOrder []Demand

func (l inOrder) Len() int      { return len(l) }
func (l inOrder) Swap(i, k int) { l[i], l[k] = l[k], l[i] }
func (l inOrder) Less(i, k int) bool {
	a, b := &l[i], &l[k]
	switch {
	case a.Met != b.Met:
		return b.Met
	case a.Kind != b.Kind:
		return slices.Index(kindOrder, a.Kind) < slices.Index(kindOrder, b.Kind)
	}
	if c := slices.Compare(a.AnyOf, b.AnyOf); c != 0 {
		return c < 0
	}
	return cmp.Or(
		cmp.Compare(a.Posture, b.Posture),
		cmp.Compare(a.Document, b.Document),
		cmp.Compare(a.External, b.External),
		slices.CompareFunc(a.From, b.From, compareSources),
	) < 0
}

// findEntry returns the number of a demand in the list, and adds it where it is not
// there yet.
func (e *evaluation) findEntry(n need) int32 {
	w := &e.draft
	if n.demand != oneOf {
		at := &w.byDemand[(int(n.demand)+len(w.byDemand))%len(w.byDemand)]
		if *at == 0 {
			w.entries = append(w.entries, listedDemand{need: n})
			*at = int32(len(w.entries))
		}
		return *at - 1
	}
	for i := range w.entries {
		if e.same(w.entries[i].need, n) {
			return int32(i)
		}
	}
	w.entries = append(w.entries, listedDemand{need: n})
	return int32(len(w.entries) - 1)
}

// findSources notes for each demand of the list all that ask for it.
func (e *evaluation) findSources() {
	w := &e.draft
	for i := range e.outcomes {
		o := &e.outcomes[i]
		weighed := e.weighing(o)
		first := len(w.asked)
		for k := weighed.first; k < weighed.last; k++ {
			asks := sourceOf{w.of[k], e.source(o)}
			if a := e.needs[k].assurance; a != none {
				asks.source.Assurance = e.judge.assurances[a].name
			}
			if !slices.Contains(w.asked[first:], asks) { // an outcome may ask twice
				w.asked = append(w.asked, asks)
				w.entries[asks.entry].sources++
			}
		}
	}
	n := len(w.asked)
	for i := range w.entries { // those of the demands inside ways come on top
		if asked := &w.entries[i].need; asked.demand == oneOf {
			for _, way := range e.ways[asked.firstWay:asked.lastWay] {
				n += int(way.last-way.first) * w.entries[i].sources
			}
		}
	}
	w.sources = make([]Source, n)
	for i := range w.entries {
		w.entries[i].from = w.takeSources(w.entries[i].sources)[:0]
	}
	for _, asks := range w.asked {
		entry := &w.entries[asks.entry]
		entry.from = append(entry.from, asks.source)
	}
}

// appendWords words an open demand. What proves in the same way for everybody is
// worded once, when the judge is compiled.
func (e *evaluation) appendWords(text []byte, n need, demand *Demand) []byte {
	if n.demand >= 0 && demand.Kind == DemandMethod {
		return append(text, e.judge.methodWords[n.demand]...)
	}
	return demand.append(text)
}

func compareSources(a, b Source) int {
	return cmp.Or(cmp.Compare(a.Policy, b.Policy), cmp.Compare(a.Rule, b.Rule), cmp.Compare(a.Assurance, b.Assurance))
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
func (e *evaluation) implies(a, b *need) bool {
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

// wire puts a demand in its wire form, into w, which is empty.
func (e *evaluation) wire(w *Demand, n need, from []Source) {
	slices.SortFunc(from, compareSources)
	w.Met, w.Impossible, w.From = n.state == met, n.state == impossible, from
	enrolled := e.Profile.Enrolled()
	switch n.demand {
	case oneOf:
		w.Kind = DemandOneOf
		ways := e.ways[n.firstWay:n.lastWay]
		w.Ways = e.draft.takeWays(len(ways))
		for k, bounds := range ways {
			way := e.draft.takeDemands(int(bounds.last - bounds.first))
			for i, inner := range e.wayNeeds[bounds.first:bounds.last] {
				source := e.draft.takeSources(len(from))
				for i := range source {
					source[i] = from[i]
					source[i].Assurance = e.judge.assurances[inner.assurance].name
				}
				e.wire(&way[i], inner, slices.Compact(source))
			}
			w.Ways[k] = way
		}
		return
	case anyProof:
		w.Kind, w.AnyOf, w.Within = DemandMethod, e.methodNames(enrolled), e.draft.within(Session)
		if n.state == met {
			return
		}
		switch {
		case n.enrol && e.Attempt.Action.TakesDeskPass():
			w.AnyOf = []string{directory.DeskPass}
		case n.enrol:
			*w = Demand{Kind: DemandEnrol, AnyOf: e.methodNames(e.allMethods()), From: from}
			return
		}
		w.Offer = e.offer(enrolled)
		return
	}
	d := &e.judge.demands[n.demand]
	w.Kind = d.kind.kind()
	switch d.kind {
	case methodDemand:
		w.AnyOf = e.draft.addNames(e.judge.methodNames[n.demand])
		if n.enrol && n.state != met {
			w.Kind = DemandEnrol
			return
		}
		w.Within = e.draft.within(d.within)
		if n.state != met {
			w.Offer = e.offer(d.methods & enrolled)
			if e.takesFallback(d) {
				w.Offer = append(w.Offer, byPlace(d.fallbackNames, e.offer(d.fallback&enrolled))...)
			}
		}
	case enrolDemand:
		w.AnyOf = e.draft.addNames(e.judge.methodNames[n.demand])
	case postureDemand:
		w.Posture = d.name
		if n.state != met {
			e.describePosture(w, &e.judge.directory.Postures[d.posture])
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
func (e *evaluation) allMethods() facts.MethodSet {
	return ^facts.MethodSet(0) &^ facts.MethodSet(0).Add(e.judge.deskPass) &^ e.Profile.Barred()
}

// byPlace sorts names by their places in a comma-separated list.
func byPlace(list string, names []string) []string {
	order := strings.Split(list, ",")
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(slices.Index(order, a), slices.Index(order, b)) })
	return names
}

// offer leaves out of a set the methods that reach out to a phone, until
// another proof has been given. Where a desk pass would do it is offered too.
func (e *evaluation) offer(set facts.MethodSet) []string {
	if len(e.gatherProofs()) == 0 {
		for i, m := range e.judge.directory.Methods() {
			if slices.Contains(m.Traits, directory.OutOfBand) {
				set &^= 1 << i
			}
		}
	}
	names := e.methodNames(set)
	if e.Attempt.Action.TakesDeskPass() {
		names = append(names, directory.DeskPass)
	}
	return names
}

// listCauses says why the verdict is as it is, the decisive reasons only. Their texts
// stand in the draft until they are handed out.
func (e *evaluation) listCauses(d *Decision) {
	found := e.findCauses(d.Verdict)
	d.Causes = slices.Grow(d.Causes, len(found))
	for _, c := range found {
		o := &e.outcomes[c.outcome]
		source := e.source(o)
		e.writeCause(d, c.code, o)
		e.draft.causes = append(e.draft.causes, len(e.draft.text))
		d.Causes = append(d.Causes, Cause{c.code, source.Policy, source.Rule, ""})
	}
}

// writeCause words a cause.
func (e *evaluation) writeCause(d *Decision, code CauseCode, o *joined) {
	w := &e.draft
	if code == OtherwiseBlocks {
		w.write("No live policy surely speaks for this attempt, and the book then blocks (settings.otherwise).")
		return
	}
	if code == PublicApp {
		w.write(e.judge.directory.Apps[e.App].Name, " is public, and ")
	}
	if o.policy == none {
		w.write("The book's `otherwise`")
	} else {
		w.write(e.judge.policies[o.policy].rules[o.rule].title)
	}
	switch code {
	case RuleBlocks:
		w.write(" blocks")
		e.reasons = condition.AppendBecause(e.reasons[:0], e.judge.policies[o.policy].rules[o.rule].when, &e.Facts)
		w.writeReasons(e.reasons)
		w.write(".")
	case RuleMayBlock:
		w.write(" may block, and a missing fact decides")
		e.hangsOn(o)
		w.writeReasons(e.reasons)
		w.write(".")
	case DemandOpen:
		w.write(" asks for ")
		e.writeOpenDemands(d, o)
		w.write(".")
	case CannotBeAsked:
		w.write(" asks for ")
		e.writeOpenDemands(d, o)
		w.write(", and nobody can be asked through ", e.attemptThrough(), ".")
	case PublicApp:
		w.write(" asks for nothing more.")
	case DemandsMet:
		w.write(" is met: all that it asks for was shown.")
	default:
		w.write(" asks for ")
		var demand Demand
		e.wire(&demand, *e.firstImpossible(o), nil)
		e.writeImpossible(code, &demand)
	}
}

// writeImpossible words a demand that cannot be met, and why.
func (e *evaluation) writeImpossible(code CauseCode, demand *Demand) {
	w := &e.draft
	w.text = demand.append(w.text)
	switch code {
	case NoWay:
		w.write(", and none of these can be met here.")
	case CheckFailed:
		w.write(", and it failed.")
	case DeviceUnidentified:
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
	e.reasons = condition.AppendWhy(e.reasons[:0], p.apps, &e.Facts)
	e.reasons = condition.AppendWhy(e.reasons, p.who, &e.Facts)
	h := e.heard(o.policy)
	if p.liveFor != nil && h.inForce == condition.Unknown {
		e.reasons = condition.AppendWhy(e.reasons, p.liveFor, &e.Facts)
	}
	for _, r := range e.spoken[h.first:h.last] {
		if r.rule <= o.rule {
			e.reasons = condition.AppendWhy(e.reasons, p.rules[r.rule].when, &e.Facts)
		}
	}
}

// writeOpenDemands words the open demands of one rule; where those are left out as
// implied by others, it words all that are open. Rules of the same outcome share the
// words.
func (e *evaluation) writeOpenDemands(d *Decision, o *joined) {
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
					w.list(w.word(d.Demands[i].append))
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
