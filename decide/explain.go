package decide

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Decide judges an attempt and explains the decision in full.
func (j *Judge) Decide(a *attempt.Attempt) *Decision { return j.decide(a, true) }

// Outline is Decide without the trace of policies and without the moment at which
// a granted session ends, which costs a fraction where there are many policies.
func (j *Judge) Outline(a *attempt.Attempt) *Decision { return j.decide(a, false) }

func (j *Judge) decide(a *attempt.Attempt, full bool) *Decision {
	s := j.sit(a)
	defer s.rise()
	d := &Decision{Causes: []Cause{}, Demands: []Demand{}, Notices: []Notice{}, ACR: []string{}, AMR: []string{},
		Policies: []PolicyTrace{}, Limits: Limits{Shared: true}, Risk: Risk{Signals: []SignalTrace{}}, JudgedBy: JudgedBy{j.digest}}
	s.hear(true)
	s.sortHearings()
	s.noteIgnoredProofs(d)
	if code := s.refusal(); code != "" {
		d.Verdict, d.WithShadow.Verdict = Block, Block
		d.Causes = append(d.Causes, Cause{Code: code, Text: s.refusalText(code)})
		s.outcomes = s.outcomes[:0]
		s.tellPerson(d)
		if full {
			s.trace(d, slices.Repeat([]int32{none}, len(s.hearings)))
		}
		return d
	}
	shadowSilenced, shadows := []int32(nil), s.hearsShadows()
	if shadows {
		s.join(true)
		d.WithShadow.Verdict = s.weigh()
		for i := range s.hearings {
			shadowSilenced = append(shadowSilenced, s.hearings[i].silencedBy)
		}
	}
	s.join(false)
	d.Verdict = s.weigh()
	if !shadows {
		d.WithShadow.Verdict = d.Verdict
	}
	s.listDemands(d)
	s.listCauses(d)
	s.noteEasing(d)
	s.describeSession(d)
	s.tellPerson(d)
	if !full {
		return d
	}
	s.trace(d, shadowSilenced)
	if d.Verdict == Grant {
		d.Limits.Until = s.grantedUntil() // last, for it judges again
	}
	return d
}

// sortHearings puts the hearings in the order of their policies' names, so that
// a decision reads the same whichever way they were found.
func (s *sitting) sortHearings() {
	slices.SortFunc(s.hearings, func(a, b hearing) int { return cmp.Compare(a.policy, b.policy) })
	for i := range s.hearings {
		s.slots[s.hearings[i].policy] = int32(i)
	}
}

func (s *sitting) noteIgnoredProofs(d *Decision) {
	note := func(format string, args ...any) {
		n := Notice{Code: ProofIgnored, Text: fmt.Sprintf(format, args...)}
		if !slices.Contains(d.Notices, n) {
			d.Notices = append(d.Notices, n)
		}
	}
	each := func(p attempt.Proof, now bool) {
		switch m, ok := s.judge.directory.FindMethod(p.Method); {
		case !ok:
			note("The proof of %q counts for nothing: the book has no such method.", p.Method)
		case s.account >= 0 && s.judge.directory.Barred(s.account).Has(m):
			note("The proof of %s counts for nothing: it is barred for %s.", p.Method, s.attempt.Account)
		case m == s.judge.deskPass && !(now && s.attempt.Action.TakesDeskPass()):
			note("The %s counts for nothing here: it serves once, to enrol, to recover or to change a password.", p.Method)
		}
	}
	for _, p := range s.attempt.Proofs {
		each(p, true)
	}
	for _, p := range s.attempt.Session.Proofs {
		each(p, false)
	}
}

func (s *sitting) refusalText(code CauseCode) string {
	switch code {
	case AccountUnknown:
		return fmt.Sprintf("The book has no account %q.", s.attempt.Account)
	case AccountDisabled:
		return fmt.Sprintf("The account %s is disabled.", s.attempt.Account)
	case AppUnknown:
		return fmt.Sprintf("The book has no app %q.", s.attempt.App)
	}
	app := &s.judge.directory.Apps[s.app]
	return fmt.Sprintf("%s is open to %s, and %s is surely in none of them.", app.Name, strings.Join(app.OpenTo, ", "), s.attempt.Account)
}

// describeSession tells what a token and a session need to know.
func (s *sitting) describeSession(d *Decision) {
	d.Limits = Limits{Lasts: directory.Span(s.limits.lasts), Idle: directory.Span(s.limits.idle), Shared: !s.limits.unshared}
	score := s.score()
	levels := s.judge.model.Levels
	d.Risk.Score, d.Risk.AtMost, d.Risk.Level, d.Risk.LevelAtMost = score.Low, score.High, levels.Of(score.Low), levels.Of(score.High)
	for i, holds := range s.signals {
		if holds != condition.False {
			signal := &s.judge.model.Signals[i]
			d.Risk.Signals = append(d.Risk.Signals, SignalTrace{signal.Name, signal.Points, holds})
		}
	}
	for _, p := range s.proofs {
		if s.counts(&p) {
			d.AMR = append(d.AMR, s.judge.directory.Methods()[p.method].AMR...)
		}
	}
	for i := range s.judge.assurances {
		a := &s.judge.assurances[i]
		if a.acr == "" {
			continue
		}
		shown := condition.True
		for _, number := range a.demands {
			shown = min(shown, s.shown(&s.judge.demands[number]))
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
func (s *sitting) noteEasing(d *Decision) {
	for _, e := range s.eased {
		r := &s.judge.rollouts[e.rollout]
		if !r.opens.IsZero() && s.moment.Before(r.opens) {
			continue // nobody is told before it opens
		}
		days := int((e.deadline.Sub(s.moment) + 24*time.Hour - 1) / (24 * time.Hour))
		n := Notice{EnrolmentDue, fmt.Sprintf("%s: enrol %s within %s, before %s.", r.Name, strings.Join(r.Methods, " or "),
			words.Count(days, "day"), e.deadline.In(s.judge.directory.Zone).Format("2006-01-02 15:04")), e.deadline, days}
		if !slices.Contains(d.Notices, n) {
			d.Notices = append(d.Notices, n)
		}
	}
	for i := range s.judge.exemptions {
		x := &s.judge.exemptions[i]
		if s.asksFromAny(x) && s.exempts(int32(i)) == condition.True {
			until := ""
			if x.Until != nil {
				until = ", until " + x.Until.String()
			}
			d.Notices = append(d.Notices, Notice{Code: Exempted, Text: fmt.Sprintf("%s is excused from %s by %s%s: %s",
				s.attempt.Account, strings.Join(x.From, ", "), x.Name, until, x.Because)})
		}
	}
}

// asksFromAny tells whether an outcome asks for an assurance that an exemption
// takes away.
func (s *sitting) asksFromAny(x *exemption) bool {
	for i := range s.outcomes {
		for _, r := range s.outcomes[i].outcome.requires {
			for _, a := range r.ways {
				if slices.Contains(x.From, s.judge.assurances[a].name) {
					return true
				}
			}
		}
	}
	return false
}

// kindOrder is the order in which demands are listed and met: proofs come first.
var kindOrder = DemandKinds()

// listDemands collects what the joined outcomes ask for. A demand asked for in
// several places is listed once, with all of them; an open one that another
// open one implies is left out.
func (s *sitting) listDemands(d *Decision) {
	type entry struct {
		need need
		from []Source
	}
	entries := make([]entry, 0, len(s.needs))
	d.Demands = make([]Demand, 0, len(s.needs))
	for i := range s.outcomes {
		o := &s.outcomes[i]
		for _, n := range s.needs[o.first:o.last] {
			source := s.source(o)
			if n.assurance != none {
				source.Assurance = s.judge.assurances[n.assurance].name
			}
			at := slices.IndexFunc(entries, func(e entry) bool { return s.same(e.need, n) })
			if at < 0 {
				entries = append(entries, entry{need: n})
				at = len(entries) - 1
			}
			if !slices.Contains(entries[at].from, source) {
				entries[at].from = append(entries[at].from, source)
			}
		}
	}
	for i := range entries {
		implied := slices.ContainsFunc(entries, func(other entry) bool {
			return !s.same(other.need, entries[i].need) && s.implies(other.need, entries[i].need)
		})
		if !implied {
			d.Demands = append(d.Demands, s.wire(entries[i].need, entries[i].from))
		}
	}
	slices.SortStableFunc(d.Demands, func(a, b Demand) int {
		return cmp.Or(boolCompare(a.Met, b.Met), cmp.Compare(slices.Index(kindOrder, a.Kind), slices.Index(kindOrder, b.Kind)), slices.Compare(a.AnyOf, b.AnyOf),
			cmp.Compare(a.Posture+a.Document+a.External, b.Posture+b.Document+b.External), slices.CompareFunc(a.From, b.From, compareSources))
	})
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

// same tells whether two needs are one demand.
func (s *sitting) same(a, b need) bool {
	if a.demand != oneOf || b.demand != oneOf {
		return a.demand == b.demand // the same demand stands the same everywhere
	}
	if a.lastWay-a.firstWay != b.lastWay-b.firstWay {
		return false
	}
	for i := range a.lastWay - a.firstWay {
		v, w := s.ways[a.firstWay+i], s.ways[b.firstWay+i]
		if !slices.Equal(s.wayNeeds[v.first:v.last], s.wayNeeds[w.first:w.last]) {
			return false
		}
	}
	return true
}

// implies tells whether whatever meets the open demand a also meets the open
// demand b. To enrol a method is something else than to prove one.
func (s *sitting) implies(a, b need) bool {
	if a.state != open || b.state != open || a.demand < 0 || a.enrol || b.enrol || b.demand == oneOf {
		return false
	}
	x := &s.judge.demands[a.demand]
	if x.kind != methodDemand {
		return false
	}
	if b.demand == anyProof {
		return true
	}
	y := &s.judge.demands[b.demand]
	return y.kind == methodDemand && x.remember == 0 && x.fallback == 0 && x.methods&^y.methods == 0 &&
		(y.within == Session || x.within == Now || x.within > 0 && x.within <= y.within)
}

func (s *sitting) source(o *joined) Source {
	if o.policy == none {
		return Source{}
	}
	p := &s.judge.policies[o.policy]
	return Source{Policy: p.Name, Rule: p.Rules[o.rule].Name}
}

// wire puts a demand in its wire form.
func (s *sitting) wire(n need, from []Source) Demand {
	slices.SortFunc(from, compareSources)
	w := Demand{Met: n.state == met, Impossible: n.state == impossible, From: from}
	enrolled := s.judge.directory.Enrolled(s.account)
	switch n.demand {
	case oneOf:
		w.Kind = DemandOneOf
		for _, bounds := range s.ways[n.firstWay:n.lastWay] {
			way := []Demand{}
			for _, inner := range s.wayNeeds[bounds.first:bounds.last] {
				source := slices.Clone(from)
				for i := range source {
					source[i].Assurance = s.judge.assurances[inner.assurance].name
				}
				way = append(way, s.wire(inner, slices.Compact(source)))
			}
			w.Ways = append(w.Ways, way)
		}
		return w
	case anyProof:
		session := Session
		w.Kind, w.AnyOf, w.Within = DemandMethod, s.judge.MethodNames(enrolled), &session
		if n.state == met {
			return w
		}
		switch {
		case n.enrol && s.attempt.Action.TakesDeskPass():
			w.AnyOf = []string{directory.DeskPass}
		case n.enrol:
			return Demand{Kind: DemandEnrol, AnyOf: s.judge.MethodNames(s.allMethods()), From: from}
		}
		w.Offer = s.offer(enrolled)
		return w
	}
	d := &s.judge.demands[n.demand]
	w.Kind = d.kind.kind()
	switch d.kind {
	case methodDemand:
		w.AnyOf = s.judge.MethodNames(d.methods)
		if n.enrol && n.state != met {
			w.Kind = DemandEnrol
			return w
		}
		w.Within = &d.within
		if n.state != met {
			w.Offer = s.offer(d.methods & enrolled)
			if s.takesFallback(d) {
				w.Offer = append(w.Offer, s.inOrder(d.fallbackNames, s.offer(d.fallback&enrolled))...)
			}
		}
	case enrolDemand:
		w.AnyOf = s.judge.MethodNames(d.methods)
	case postureDemand:
		w.Posture = d.name
		if n.state != met {
			s.describePosture(&w, &s.judge.directory.Postures[d.posture])
		}
	case acceptDemand:
		w.Document, w.Version, w.Every = d.name, d.version, directory.Span(d.every)
	case externalDemand:
		w.External = d.name
	case consentDemand:
		if client := s.attempt.Client.Ref(); client != nil {
			w.Client, w.Scopes = client.ID, client.Wanted()
		}
	}
	return w
}

// describePosture lists the checks that a device with a report does not pass.
func (s *sitting) describePosture(w *Demand, p *directory.Posture) {
	if _, identified := s.device.Identity(); !identified || !s.device.HasReport(p, s.attempt.At) {
		return
	}
	for _, f := range s.device.Failing(p) {
		w.Failing = append(w.Failing, FailedCheck{f.Check.Fact, f.Check.Wants(), f.Saw, f.Check.Fix})
	}
}

// allMethods are all that a person could enrol.
func (s *sitting) allMethods() directory.MethodSet {
	return ^directory.MethodSet(0) &^ directory.MethodSet(0).Add(s.judge.deskPass) &^ s.judge.directory.Barred(s.account)
}

// inOrder sorts names by their places in a comma-separated list.
func (s *sitting) inOrder(list string, names []string) []string {
	order := strings.Split(list, ",")
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(slices.Index(order, a), slices.Index(order, b)) })
	return names
}

// offer leaves out of a set the methods that reach out to a phone, until
// another proof has been given. Where a desk pass would do it is offered too.
func (s *sitting) offer(set directory.MethodSet) []string {
	if len(s.proofs) == 0 {
		for i, m := range s.judge.directory.Methods() {
			if slices.Contains(m.Traits, directory.OutOfBand) {
				set &^= 1 << i
			}
		}
	}
	names := s.judge.MethodNames(set)
	if s.attempt.Action.TakesDeskPass() {
		names = append(names, directory.DeskPass)
	}
	return names
}

// listCauses says why the verdict is as it is, the decisive reasons only.
func (s *sitting) listCauses(d *Decision) {
	d.Causes = make([]Cause, 0, len(s.outcomes))
	for _, c := range s.findCauses(d.Verdict) {
		o := &s.outcomes[c.outcome]
		source := s.source(o)
		d.Causes = append(d.Causes, Cause{c.code, source.Policy, source.Rule, s.causeText(d, c.code, o)})
	}
}

// causeText words a cause.
func (s *sitting) causeText(d *Decision, code CauseCode, o *joined) string {
	switch code {
	case OtherwiseBlocks:
		return "No live policy surely speaks for this attempt, and the book then blocks (settings.otherwise)."
	case RuleBlocks:
		return s.ruleName(o) + " blocks" + reasonsAfter("; ", condition.Because(s.judge.policies[o.policy].rules[o.rule].when, s, s)) + "."
	case RuleMayBlock:
		return s.ruleName(o) + " may block, and a missing fact decides" + reasonsAfter("; ", s.hangsOn(o)) + "."
	case DemandOpen:
		return s.ruleName(o) + " asks for " + s.openDemands(d, s.source(o)) + "."
	case CannotBeAsked:
		return s.ruleName(o) + " asks for " + s.openDemands(d, s.source(o)) + ", and nobody can be asked through " + s.attemptThrough() + "."
	case PublicApp:
		return s.judge.directory.Apps[s.app].Name + " is public, and " + s.ruleName(o) + " asks for nothing more."
	case DemandsMet:
		return s.ruleName(o) + " has all it asks for."
	}
	demand := s.wire(*s.firstImpossible(o), nil)
	text := s.ruleName(o) + " asks for " + demand.String()
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

func (s *sitting) attemptThrough() string {
	through, _ := s.attempt.Through.Get()
	return through.String()
}

// hangsOn lists the unknown tests that decide whether a rule speaks: those of
// its policy, of the rules before it, and its own.
func (s *sitting) hangsOn(o *joined) []condition.Reason {
	p := &s.judge.policies[o.policy]
	reasons := s.whyNot(p)
	h := s.heard(o.policy)
	if p.liveFor != nil && h.inForce == condition.Unknown {
		reasons = append(reasons, condition.Why(p.liveFor, s, s)...)
	}
	for _, r := range s.spoken[h.first:h.last] {
		if r.rule <= o.rule {
			reasons = append(reasons, condition.Why(p.rules[r.rule].when, s, s)...)
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
func (s *sitting) whyNot(p *policy) []condition.Reason {
	return append(condition.Why(p.apps, s, s), condition.Why(p.who, s, s)...)
}

func (s *sitting) ruleName(o *joined) string {
	if o.policy == none {
		return "The book's `otherwise`"
	}
	p := &s.judge.policies[o.policy]
	return p.Name + " / " + p.Rules[o.rule].Name
}

// openDemands words the open demands of one rule; where those are left out as
// implied by others, it words all that are open.
func (s *sitting) openDemands(d *Decision, source Source) string {
	var own, all []string
	for _, demand := range d.Demands {
		if demand.Met {
			continue
		}
		all = append(all, demand.String())
		if slices.ContainsFunc(demand.From, func(f Source) bool { return f.Policy == source.Policy && f.Rule == source.Rule }) {
			own = append(own, demand.String())
		}
	}
	if len(own) == 0 {
		own = all
	}
	return strings.Join(own, ", and for ")
}
