package compare

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

func (d *differ) comparePolicies() {
	for _, p := range pairs(d.old.policies, d.new.policies, func(p *decide.Policy) string { return p.Name }) {
		d.about("policy", p.name, func() {
			switch {
			case p.old == nil:
				d.note(
					d.inForce(p.new).of(d.speakingMore(p.name, p.new)),
					"it is new, %s. It is for %s, at %s%s.",
					stands(p.new),
					describe.People(p.new.Who),
					describe.Apps(p.new.Apps),
					replacing(p.new),
				)
				d.listRules(p.new)
				d.usedByRules(p.new)
			case p.new == nil:
				d.usedByRules(p.old)
				d.note(
					d.inForce(p.old).of(d.speakingMore(p.name, p.old)).flip(),
					"it is gone; it was %s, for %s, at %s.",
					stands(p.old),
					describe.People(p.old.Who),
					describe.Apps(p.old.Apps),
				)
			default:
				d.comparePolicy(p.old, p.new)
			}
		})
	}
}

// mayCount says whether a policy is in force for anybody.
type mayCount bool

func (m mayCount) of(e Effect) Effect {
	return e.when(bool(m))
}

// inForce reports whether some of the policies, which are versions of one, may be in
// force for somebody.
func (d *differ) inForce(versions ...*decide.Policy) mayCount {
	for _, p := range versions {
		if p.Stage == decide.Live || p.Stage == decide.Shadow && p.LiveFor != nil {
			return true
		}
	}
	return false
}

func (e Effect) flip() Effect { return Effect(direction(e).flip()) }

// along is what happens where something reaches further, or less far, of which the
// effect is what happens where it reaches further.
func (e Effect) along(dir direction) Effect {
	var all Effect
	if dir&widens != 0 {
		all |= e
	}
	if dir&narrows != 0 {
		all |= e.flip()
	}
	return all
}

// speakingMore is what happens where a policy speaks more often than before: more
// is asked. Where it replaces others these are silenced, and where no other policy
// surely speaks the book's `otherwise` is not asked any more.
func (d *differ) speakingMore(name string, versions ...*decide.Policy) Effect {
	e := Tightens
	for _, p := range versions {
		if len(p.Replaces) > 0 {
			e |= Loosens
		}
	}
	if !d.covered(d.old, name) || !d.covered(d.new, name) {
		e |= Loosens
	}
	return e
}

// covered reports whether wherever a policy may apply another one, which is in both
// books, surely speaks. A book that does not have the policy has nothing to cover.
func (d *differ) covered(v *view, name string) bool {
	number, ok := v.numbers[name]
	if o := v.judge.Otherwise(); !ok || o.Grant {
		return true
	}
	audience := v.audiences[number].Possibly()
	if joins(v.policies[number].Who) {
		audience = v.crowd.Everyone() // for whom it is changes with time
	}
	for _, app := range v.apps[number] {
		sure := v.crowd.Nobody()
		for _, i := range v.covering[app] {
			if i != number && !sure.Covers(audience) {
				sure = sure.Or(v.audiences[i].Surely())
			}
		}
		if !sure.Covers(audience) {
			return false
		}
	}
	return true
}

// findCovering finds for each app the policies that surely speak there for whom they
// are for, in this book and in the other.
func (v *view) findCovering(other *view) {
	v.covering = make([][]int, len(v.directory.Apps))
	for i := range v.policies {
		o, ok := other.numbers[v.policies[i].Name]
		if !ok || !alwaysSpeaks(&v.policies[i]) || !alwaysSpeaks(&other.policies[o]) {
			continue
		}
		for _, app := range v.apps[i] {
			v.covering[app] = append(v.covering[app], i)
		}
	}
}

// alwaysSpeaks reports whether a policy surely speaks where it is for the account and
// the app, today and later.
func alwaysSpeaks(p *decide.Policy) bool {
	return p.Stage == decide.Live && p.Actions == nil && p.From == nil && p.Until == nil && !silent(p) && !joins(p.Who)
}

// silent reports whether there may be a case for which a policy has no rule.
func silent(p *decide.Policy) bool {
	return !slices.ContainsFunc(p.Rules, func(r decide.Rule) bool { return always(r.When) })
}

func always(n condition.Node) bool {
	all, ok := bare(n).(*condition.All)
	return ok && len(all.Of) == 0
}

func stands(p *decide.Policy) string {
	text := map[decide.Stage]string{decide.Draft: "a draft", decide.Shadow: "a shadow", decide.Live: "live"}[p.Stage]
	if p.Stage == decide.Shadow && p.LiveFor != nil {
		text += " (in force for " + describe.People(p.LiveFor) + ")"
	}
	return text
}

func replacing(p *decide.Policy) string {
	if len(p.Replaces) == 0 {
		return ""
	}
	return ", and silences " + words.List(p.Replaces, "and")
}

// usedByRules notes what the rules of a policy that is new or gone name, where it counts.
func (d *differ) usedByRules(p *decide.Policy) {
	if !d.inForce(p) {
		return
	}
	for i := range p.Rules {
		d.used(p.Name+" / "+p.Rules[i].Name, Neither, p.Rules[i].When)
	}
}

// listRules tells what the rules of a new policy say.
func (d *differ) listRules(p *decide.Policy) {
	for _, r := range p.Rules {
		d.note(Neither, "rule %s: %s.", r.Name, ruleWords(&r))
	}
}

func ruleWords(r *decide.Rule) string {
	text := ""
	if !always(r.When) {
		text = "where " + describe.When(r.When) + ", "
	}
	return text + describe.Outcome(r.Then)
}

func (d *differ) comparePolicy(was, is *decide.Policy) {
	counts := d.inForce(was, is)
	more := counts.of(d.speakingMore(is.Name, was, is))
	reach := func(dir direction) Effect { return more.along(dir) }
	if was.Stage != is.Stage {
		force := func(p *decide.Policy) int {
			return map[decide.Stage]int{decide.Draft: 0, decide.Shadow: 1, decide.Live: 2}[p.Stage]
		}
		dir := compareOrdered(force(was), force(is))
		if !d.inForce(was) && !d.inForce(is) {
			dir = same
		}
		d.note(reach(dir), "it was %s and is %s.", stands(was), stands(is))
	} else if was.Stage == decide.Shadow && (was.LiveFor != nil || is.LiveFor != nil) {
		d.compareLiveFor(was, is, reach)
	}
	d.compareReach(was, is, reach)
	if !slices.Equal(was.Actions, is.Actions) {
		d.note(
			reach(compareSets(actionsOf(was), actionsOf(is))),
			"it was for the actions %s and is for %s.",
			actionWords(was),
			actionWords(is),
		)
	}
	if !reflect.DeepEqual(was.From, is.From) || !reflect.DeepEqual(was.Until, is.Until) {
		d.note(
			reach(compareSpans(was.From, was.Until, is.From, is.Until)),
			"it was in force %s and is %s.",
			spanWords(was.From, was.Until),
			spanWords(is.From, is.Until),
		)
	}
	if dir := compareSets(was.Replaces, is.Replaces); dir != same {
		d.note(counts.of(Effect(dir)), "it silenced %s and silences %s.", words.List(was.Replaces, "and"), words.List(is.Replaces, "and"))
	}
	d.compareRules(was, is, more, counts)
	if was.Firm != is.Firm {
		d.note(
			Neither,
			"%s.",
			map[bool]string{true: "no other policy can silence it any more", false: "other policies can silence it now"}[is.Firm],
		)
	}
	d.noteMove(Neither, "its owner", was.Owner, is.Owner)
	if was.About != is.About {
		d.note(Neither, "what it is about is worded again.")
	}
	d.noteMove(Neither, "the day to look at it again", dateWords(was.ReviewBy), dateWords(is.ReviewBy))
	d.noteMove(Neither, "the day on which it came to its stage", dateWords(was.Since), dateWords(is.Since))
}

func dateWords(day *directory.Date) string {
	if day == nil {
		return ""
	}
	return day.String()
}

// compareLiveFor compares for whom a shadow is in force.
func (d *differ) compareLiveFor(was, is *decide.Policy, reach func(direction) Effect) {
	audience := func(v *view, p *decide.Policy) engine.Audience {
		if p.LiveFor == nil {
			return v.crowd.Nobody()
		}
		return v.crowd.Of(p.LiveFor).And(v.audiences[v.numbers[p.Name]])
	}
	before, after := audience(d.old, was), audience(d.new, is)
	dir := d.relateAccounts(before, after)
	later := joins(was.LiveFor) || joins(is.LiveFor)
	if later {
		dir |= d.relate(orNobody(was.LiveFor), orNobody(is.LiveFor))
	}
	if dir == same && was.LiveFor != nil && is.LiveFor != nil && fingerprint(was.LiveFor) == fingerprint(is.LiveFor) {
		return
	}
	if later {
		d.note(reach(dir), "it was in force for %s and is for %s: %s today, and others as time passes.", inForceFor(was.LiveFor),
			inForceFor(is.LiveFor), d.otherAccounts(before, after))
		return
	}
	if dir == same {
		d.note(
			Neither,
			"it was in force for %s and is for %s, which are the same accounts.",
			inForceFor(was.LiveFor),
			inForceFor(is.LiveFor),
		)
		return
	}
	d.note(reach(dir), "it is in force for %s.", d.otherAccounts(before, after))
}

// orNobody returns a condition that holds for nobody in the place of none.
func orNobody(n condition.Node) condition.Node {
	if n == nil {
		return &condition.Any{}
	}
	return n
}

func inForceFor(n condition.Node) string {
	if n == nil {
		return "nobody"
	}
	return describe.People(n)
}

// compareReach compares whom and what a policy is for.
func (d *differ) compareReach(was, is *decide.Policy, reach func(direction) Effect) {
	d.compareAudiences(was.Who, is.Who, d.old.audiences[d.old.numbers[was.Name]], d.new.audiences[d.new.numbers[is.Name]], reach)
	dir := d.relateApps(was.Apps, is.Apps)
	switch {
	case fingerprint(was.Apps) != fingerprint(is.Apps):
		d.note(reach(dir), "it was at %s and is at %s.", describe.Apps(was.Apps), describe.Apps(is.Apps))
	case dir != same:
		d.note(reach(dir), "it is at other apps, since their tags changed.")
	}
}

// joins reports whether a condition depends on the time since joining.
func joins(n condition.Node) bool { return condition.Asks(n, engine.KeyJoinedWithin) }

// mostNames is how many names a sentence lists.
const mostNames = 5

// otherAccounts names the accounts that are in one of two audiences only, the first
// few in the order of the book.
func (d *differ) otherAccounts(before, after engine.Audience) string {
	var more, fewer someAccounts
	for _, n := range d.accounts {
		switch was, is := before.Holds(n[0]), after.Holds(n[1]); {
		case is > was:
			more.add(d.new.directory.Accounts[n[1]].Name)
		case is < was:
			fewer.add(d.new.directory.Accounts[n[1]].Name)
		}
	}
	var parts []string
	if more.all > 0 {
		parts = append(parts, more.told("more"))
	}
	if fewer.all > 0 {
		parts = append(parts, fewer.told("fewer"))
	}
	if len(parts) == 0 {
		return "the same accounts"
	}
	return strings.Join(parts, " and ")
}

// someAccounts counts accounts, and keeps the names of the first few.
type someAccounts struct {
	all   int
	names []string
}

func (t *someAccounts) add(name string) {
	t.all++
	if len(t.names) < mostNames {
		t.names = append(t.names, name)
	}
}

// told is "7 accounts more (ann, bo and 5 more)".
func (t *someAccounts) told(word string) string {
	names := words.List(t.names, "and")
	if rest := t.all - len(t.names); rest > 0 {
		names = fmt.Sprintf("%s and %d more", strings.Join(t.names, ", "), rest)
	}
	return fmt.Sprintf("%s %s (%s)", words.Count(t.all, "account"), word, names)
}

func actionsOf(p *decide.Policy) []string {
	if p.Actions == nil {
		return attempt.Actions()
	}
	return strings.Split(actionWords(p), " or ")
}

func actionWords(p *decide.Policy) string {
	if p.Actions == nil {
		return "of every kind"
	}
	var names []string
	for _, a := range p.Actions {
		names = append(names, a.String())
	}
	return strings.Join(names, " or ")
}

// compareSpans compares stretches of days; nil is no bound.
func compareSpans(oldFrom, oldUntil, newFrom, newUntil *directory.Date) direction {
	bound := func(day *directory.Date, open int64) int64 {
		if day == nil {
			return open
		}
		return int64(day.Year*10000 + int(day.Month)*100 + day.Day)
	}
	return compareOrdered(bound(oldFrom, 0), bound(newFrom, 0)).flip() | compareOrdered(bound(oldUntil, 1<<40), bound(newUntil, 1<<40))
}

func spanWords(from, until *directory.Date) string {
	switch {
	case from == nil && until == nil:
		return "without an end"
	case from == nil:
		return "until " + until.String()
	case until == nil:
		return "from " + from.String() + " on"
	}
	return "from " + from.String() + " until " + until.String()
}

// compareRules compares the rules of a policy, which is in force where it counts.
// More is what happens where the policy speaks more often.
func (d *differ) compareRules(was, is *decide.Policy, more Effect, counts mayCount) {
	before, oldNames := underNewNames(was.Rules, is.Rules)
	list := pairs(before, is.Rules, func(r *decide.Rule) string { return r.Name })
	l := &ruleLists{differ: d, policy: is.Name, was: before, is: is.Rules, silent: silent(was) || silent(is), more: more,
		enrols: isFor(attempt.Enrol, was, is)}
	for _, p := range list {
		if old := oldNames[p.name]; old != "" {
			d.note(Neither, "rule %s was called %s.", p.name, old)
		}
		switch {
		case p.old == nil:
			d.note(counts.of(l.speaks(p.name, p.new, widens)), "rule %s is new: %s.", p.name, ruleWords(p.new))
			if counts {
				d.used(l.policy+" / "+p.name, Neither, p.new.When)
			}
		case p.new == nil:
			d.note(counts.of(l.speaks(p.name, p.old, narrows)), "rule %s is gone: %s.", p.name, ruleWords(p.old))
			if counts {
				d.used(l.policy+" / "+p.name, Neither, p.old.When)
			}
		default:
			d.compareRule(l, p.old, p.new, counts)
		}
	}
	for i, p := range list {
		for _, q := range list[i+1:] {
			if p.old != nil && p.new != nil && q.old != nil && q.new != nil &&
				l.before(l.was, p.name, q.name) != l.before(l.is, p.name, q.name) {
				first, second := p, q
				if l.before(l.is, q.name, p.name) {
					first, second = q, p
				}
				d.note(
					counts.of(d.relateRuleOutcomes(second.new, first.new, l.enrols)),
					"rule %s comes before %s now, and speaks where both match.",
					first.name,
					second.name,
				)
			}
		}
	}
}

func (d *differ) compareRule(l *ruleLists, was, is *decide.Rule, counts mayCount) {
	dir := d.relate(was.When, is.When)
	speaks := counts.of(l.speaks(is.Name, is, dir))
	if counts {
		d.used(l.policy+" / "+is.Name, speaks, was.When, is.When)
	}
	switch e := speaks; {
	case fingerprint(was.When) != fingerprint(is.When):
		d.note(e, "rule %s: it spoke %s, and speaks %s.", is.Name, caseWords(was.When), caseWords(is.When))
	case dir != same:
		cases := map[direction]string{widens: "more", narrows: "fewer", both: "other"}[dir]
		d.suspect(e, is.When, "rule "+is.Name+" speaks in "+cases+" cases")
	}
	e := counts.of(d.relateRuleOutcomes(was, is, l.enrols))
	if !reflect.DeepEqual(was.Then, is.Then) {
		d.note(e, "rule %s: where it speaks, it was that %s; now %s.", is.Name, describe.Outcome(was.Then), describe.Outcome(is.Then))
	}
	if !reflect.DeepEqual(was.Limits, is.Limits) {
		d.note(
			counts.of(relateLimits(was.Limits, is.Limits)),
			"rule %s: the limits of its session were %s and are %s.",
			is.Name,
			limitWords(was.Limits),
			limitWords(is.Limits),
		)
	}
	if was.Say != is.Say {
		d.note(Neither, "rule %s: what the person is told was %s and is %s.", is.Name, saidWords(was.Say), saidWords(is.Say))
	}
}

func saidWords(say string) string {
	if say == "" {
		return "nothing"
	}
	return strconv.Quote(say)
}

// ruleLists are the rules of a policy in both books.
type ruleLists struct {
	*differ
	policy  string
	was, is []decide.Rule
	// silent says that in one of the books there are cases without a rule.
	silent bool
	// enrols says that the policy is for the action enrol in one of the books.
	enrols bool
	more   Effect
}

// speaks is what happens where a rule speaks in more cases, or in fewer: those were
// spoken for by a rule after it, or by none.
func (l *ruleLists) speaks(name string, r *decide.Rule, dir direction) Effect {
	if dir == same {
		return Neither
	}
	var e Effect
	for _, list := range [][]decide.Rule{l.was, l.is} {
		for i := range list {
			other := &list[i]
			if other.Name != name && (l.position(list, name) < 0 || i > l.position(list, name)) {
				e |= l.relateRuleOutcomes(l.newest(other), r, l.enrols)
			}
		}
	}
	if l.silent {
		e |= l.more
	}
	return e.along(dir)
}

// newest is the rule of that name in the newer book, where it is there yet.
func (l *ruleLists) newest(r *decide.Rule) *decide.Rule {
	if i := l.position(l.is, r.Name); i >= 0 {
		return &l.is[i]
	}
	return r
}

func (l *ruleLists) position(list []decide.Rule, name string) int {
	return slices.IndexFunc(list, func(r decide.Rule) bool { return r.Name == name })
}

func (l *ruleLists) before(list []decide.Rule, a, b string) bool {
	return l.position(list, a) < l.position(list, b)
}

// relateRuleOutcomes is what happens where one rule speaks in place of another.
func (d *differ) relateRuleOutcomes(a, b *decide.Rule, enrols bool) Effect {
	e := d.relateOutcomes(a.Then, b.Then, enrols)
	if a.Then.Blocks() || b.Then.Blocks() {
		return e
	}
	return e | relateLimits(a.Limits, b.Limits)
}

// relateOutcomes compares what is asked, also where somebody enrols: tightens where b asks
// for all that a asks for, and more.
func (d *differ) relateOutcomes(a, b decide.Outcome, enrols bool) Effect {
	switch {
	case a.Blocks() && b.Blocks():
		return Neither
	case b.Blocks():
		return Tightens
	case a.Blocks():
		return Loosens
	}
	e := relateRequirements(a.Require, b.Require)
	if enrols {
		e |= d.relateChoices(a.Require, b.Require)
	}
	return e
}

func relateRequirements(a, b []decide.Requirement) Effect {
	// A requirement is met where one of its assurances is, so that fewer ask for more.
	meets := func(all []decide.Requirement, asked decide.Requirement) bool {
		return slices.ContainsFunc(all, func(r decide.Requirement) bool { return compareSets(asked.OneOf, r.OneOf)&widens == 0 })
	}
	var e Effect
	if slices.ContainsFunc(a, func(r decide.Requirement) bool { return !meets(b, r) }) {
		e |= Loosens
	}
	if slices.ContainsFunc(b, func(r decide.Requirement) bool { return !meets(a, r) }) {
		e |= Tightens
	}
	return e
}

// relateLimits compares the limits of sessions; zero does not limit.
func relateLimits(a, b directory.Limits) Effect {
	span := func(s directory.Span) int64 {
		if s == 0 {
			return 1<<63 - 1
		}
		return int64(s)
	}
	shared := func(l directory.Limits) int {
		if l.Shared != nil && !*l.Shared {
			return 0
		}
		return 1
	}
	return Effect(
		compareOrdered(span(a.Lasts), span(b.Lasts)) | compareOrdered(span(a.Idle), span(b.Idle)) | compareOrdered(shared(a), shared(b)),
	)
}

func limitWords(l directory.Limits) string {
	var parts []string
	if l.Lasts > 0 {
		parts = append(parts, "at most "+l.Lasts.Words())
	}
	if l.Idle > 0 {
		parts = append(parts, "at rest for "+l.Idle.Words())
	}
	if l.Shared != nil && !*l.Shared {
		parts = append(parts, "with proofs made for the app alone")
	}
	return words.List(parts, "and")
}
