package engine

import (
	"cmp"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// listDemands collects what the joined outcomes ask for. A demand asked for in
// several places is listed once, with all of them; an open one that another
// open one implies is left out. The list stays in the evaluation's draft.
func (e *evaluation) listDemands(d *decide.Decision) {
	e.draft.begin(e)
	for i := range e.needs {
		e.draft.of[i] = e.findEntry(e.needs[i])
	}
	e.findSources()
	entries := e.draft.entries
	worded := d.Verdict == decide.StepUp || !e.canBeAsked() // only then a cause words what is open
	// Those of the ways stand behind those of the list.
	e.draft.demands = make([]decide.Demand, len(entries)+len(e.wayNeeds))
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
	for i := 1; i < len(d.Demands); i++ {
		if compareDemands(&d.Demands[i], &d.Demands[i-1]) < 0 { // which is seldom
			slices.SortStableFunc(d.Demands, func(a, b decide.Demand) int { return compareDemands(&a, &b) })
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
	kind := decide.DemandOneOf
	switch {
	case n.demand == anyProof:
		kind = decide.DemandMethod
	case n.demand != oneOf:
		kind = e.judge.demands[n.demand].kind
	}
	switch {
	case n.state == met:
		return int(kind + decide.DemandOneOf)
	case kind == decide.DemandMethod && n.enrol && !(n.demand == anyProof && e.Attempt.Action.TakesDeskPass()):
		return int(decide.DemandEnrol)
	}
	return int(kind)
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

// compareDemands orders demands: open ones first, then by kind, and then by what they
// ask.
func compareDemands(a, b *decide.Demand) int {
	switch {
	case a.Met != b.Met && b.Met:
		return -1
	case a.Met != b.Met:
		return 1
	case a.Kind != b.Kind:
		return cmp.Compare(a.Kind, b.Kind)
	}
	if c := slices.Compare(a.AnyOf, b.AnyOf); c != 0 {
		return c
	}
	return cmp.Or(
		cmp.Compare(a.Posture, b.Posture),
		cmp.Compare(a.Document, b.Document),
		cmp.Compare(a.External, b.External),
		slices.CompareFunc(a.From, b.From, compareSources),
	)
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
			asks := sourceOf{w.of[k], o.policy, o.rule, e.needs[k].assurance}
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
	w.sources = take(&w.sources, n)
	for i := range w.entries {
		w.entries[i].from = take(&w.sources, w.entries[i].sources)[:0]
	}
	for _, asks := range w.asked {
		entry := &w.entries[asks.entry]
		source := e.source(asks.policy, asks.rule)
		if asks.assurance != none {
			source.Assurance = e.judge.assurances[asks.assurance].name
		}
		entry.from = append(entry.from, source)
	}
}

// appendWords words an open demand. What proves in the same way for everybody is
// worded once, when the judge is compiled.
func (e *evaluation) appendWords(text []byte, n need, demand *decide.Demand) []byte {
	if n.demand >= 0 && demand.Kind == decide.DemandMethod {
		return append(text, e.judge.methodWords[n.demand]...)
	}
	return demand.Append(text)
}

func compareSources(a, b decide.Source) int {
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
	if x.kind != decide.DemandMethod {
		return false
	}
	if b.demand == anyProof {
		return true
	}
	y := &e.judge.demands[b.demand]
	return y.kind == decide.DemandMethod && x.remember == 0 && x.fallback == 0 && x.methods&^y.methods == 0 &&
		(y.within == decide.Session || x.within == decide.Now || x.within > 0 && x.within <= y.within)
}

// source names a rule, nothing where it is the book's own outcome.
func (e *evaluation) source(policy, rule int32) decide.Source {
	if policy == none {
		return decide.Source{}
	}
	p := &e.judge.policies[policy]
	return decide.Source{Policy: p.Name, Rule: p.Rules[rule].Name}
}

// rolledOut is how many of the enrolments of a way are those that a rollout is about: it is for the account, eases the assurance that asks,
// and names one of the methods.
func (e *evaluation) rolledOut(way []decide.Demand) (n int) {
	for i := range way {
		if way[i].Kind != decide.DemandEnrol {
			continue
		}
		for k := range e.judge.rollouts {
			r := &e.judge.rollouts[k]
			if slices.ContainsFunc(way[i].From, func(s decide.Source) bool { return slices.Contains(r.Eases, s.Assurance) }) &&
				slices.ContainsFunc(way[i].AnyOf, func(m string) bool { return slices.Contains(r.Methods, m) }) &&
				condition.Eval(r.who, e) == condition.True {
				n++
				break
			}
		}
	}
	return n
}

// wire puts a demand in its wire form, into w, which is empty.
func (e *evaluation) wire(w *decide.Demand, n need, from []decide.Source) {
	if len(from) > 1 {
		slices.SortFunc(from, compareSources)
	}
	w.Met, w.Impossible, w.From = n.state == met, n.state == impossible, from
	enrolled := e.Profile.Enrolled()
	if !e.Profile.statesMethods() {
		enrolled = e.allMethods() // it may have any
	}
	switch n.demand {
	case oneOf:
		w.Kind = decide.DemandOneOf
		ways := e.ways[n.firstWay:n.lastWay]
		w.Ways = take(&e.draft.ways, len(ways))
		for k, bounds := range ways {
			way := take(&e.draft.demands, int(bounds.last-bounds.first))
			for i, inner := range e.wayNeeds[bounds.first:bounds.last] {
				source := take(&e.draft.sources, len(from))
				for i := range source {
					source[i] = from[i]
					source[i].Assurance = e.judge.assurances[inner.assurance].name
				}
				if len(source) > 1 {
					source = slices.Compact(source)
				}
				e.wire(&way[i], inner, source)
			}
			w.Ways[k] = way
		}
		// Of ways that are as easy the first is told: that by which a rollout has the account enrol, before others.
		slices.SortStableFunc(w.Ways, func(a, b []decide.Demand) int { return cmp.Compare(e.rolledOut(b), e.rolledOut(a)) })
		return
	case anyProof:
		w.Kind, w.AnyOf, w.Within = decide.DemandMethod, e.methodNames(enrolled), e.draft.within(decide.Session)
		if n.state == met {
			return
		}
		switch {
		case n.enrol && e.Attempt.Action.TakesDeskPass():
			w.AnyOf = []string{directory.DeskPass}
		case n.enrol:
			*w = decide.Demand{Kind: decide.DemandEnrol, AnyOf: e.methodNames(e.allMethods()), Within: w.Within, From: from}
			return
		}
		w.Offer = e.offer(enrolled)
		return
	}
	d := &e.judge.demands[n.demand]
	w.Kind = d.kind
	switch d.kind {
	case decide.DemandMethod:
		w.AnyOf = e.draft.addNames(e.judge.methodNames[n.demand])
		w.Within = e.draft.within(d.within)
		if n.enrol && n.state != met && e.Profile.statesMethods() {
			w.Kind = decide.DemandEnrol
			return
		}
		if n.state != met {
			w.Offer = e.offer(d.methods & enrolled)
			if e.takesFallback(d) {
				w.Offer = append(w.Offer, byPlace(d.fallbackNames, e.offer(d.fallback&enrolled))...)
			}
		}
	case decide.DemandEnrol:
		w.AnyOf = e.draft.addNames(e.judge.methodNames[n.demand])
	case decide.DemandPosture:
		w.Posture = d.name
		if n.state != met {
			e.describePosture(w, &e.judge.directory.Postures[d.posture])
		}
	case decide.DemandAccept:
		w.Document, w.Version, w.Every = d.name, d.version, directory.Span(d.every)
	case decide.DemandExternal:
		w.External = d.name
	case decide.DemandConsent:
		if client := e.Attempt.Client.Ref(); client != nil {
			w.Client, w.Scopes = client.ID, client.Wanted()
		}
	}
}

// describePosture lists the checks that an identified device does not pass.
func (e *evaluation) describePosture(w *decide.Demand, p *directory.Posture) {
	if _, identified := e.findDevice().identity(); !identified {
		return
	}
	for _, f := range e.findDevice().Failing(p) {
		w.Failing = append(w.Failing, decide.FailedCheck{Fact: f.Check.Fact, Wants: f.Check.Wants(), Saw: f.Saw, Fix: f.Check.Fix})
	}
}

// allMethods are all that a person could enrol.
func (e *evaluation) allMethods() MethodSet {
	return ^MethodSet(0) &^ MethodSet(0).Add(e.judge.deskPass) &^ e.Profile.Barred()
}

// byPlace sorts names by their places in a comma-separated list.
func byPlace(list string, names []string) []string {
	order := strings.Split(list, ",")
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(slices.Index(order, a), slices.Index(order, b)) })
	return names
}

// offer leaves out of a set the methods that reach out to a phone, until
// another proof has been given. Where a desk pass would do it is offered too.
func (e *evaluation) offer(set MethodSet) []string {
	if len(e.gatherProofs()) == 0 {
		set &^= e.judge.outOfBand
	}
	names := e.methodNames(set)
	if e.Attempt.Action.TakesDeskPass() {
		names = append(names, directory.DeskPass)
	}
	return names
}
