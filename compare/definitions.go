package compare

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"go4.org/netipx"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/describe"
	"github.com/briskwarden/briskwarden/drill"
	"github.com/briskwarden/briskwarden/estate"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/risk"
)

// definition names something that conditions and outcomes name.
type definition struct{ what, name string }

// use is who hangs on a definition, and what its change does there.
type use struct {
	effect Effect
	by     []string
}

// used notes that what a condition names has an effect on somebody who has it.
func (d *differ) used(by string, e Effect, conditions ...condition.Node) {
	if e == Neither {
		return
	}
	for _, n := range conditions {
		condition.Walk(n, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok {
				for _, def := range d.named(t) {
					d.usedBy(def, e, by)
				}
			}
			return true
		})
	}
}

func (d *differ) usedBy(def definition, e Effect, by string) {
	u := d.uses[def]
	u.effect |= e
	if !slices.Contains(u.by, by) {
		u.by = append(u.by, by)
	}
	d.uses[def] = u
}

// named lists the definitions that a test hangs on.
func (d *differ) named(t *condition.Test) []definition {
	var list []definition
	add := func(what string, names ...string) {
		for _, name := range names {
			list = append(list, definition{what, name})
		}
	}
	networks := func(that func(estate.Network) bool) {
		for _, n := range slices.Concat(d.old.book.Networks, d.new.book.Networks) {
			if that(n) {
				add("network", n.Name)
			}
		}
	}
	switch t.Key {
	case condition.Networks:
		add("network", t.Values...)
	case condition.OurNetwork:
		networks(func(n estate.Network) bool { return n.Ours })
	case condition.Countries:
		add("region", t.Values...)
		networks(func(n estate.Network) bool { return n.Country != "" })
	case condition.During:
		add("window", t.Values...)
	case condition.Posture:
		add("posture", t.Values...)
	case condition.Proved:
		add("assurance", t.Values...)
	case condition.RiskAtLeast, condition.ScoreAtLeast, condition.Signals:
		add("risk", "")
		networks(func(n estate.Network) bool { return n.Anonymous || n.Country != "" })
	}
	return list
}

// noteUse tells a change of something that others hang on, with what it does there.
func (d *differ) noteUse(def definition, format string, args ...any) {
	u := d.uses[def]
	text := fmt.Sprintf(format, args...)
	if len(u.by) > 0 {
		slices.Sort(u.by)
		text += " What hangs on it: " + words.UpTo(mostNames, u.by) + "."
	} else {
		text += " Nothing in force hangs on it."
	}
	d.note(u.effect, "%s", text)
}

// compareNamedThings tells of definitions of one kind that others name, by what is
// other about those that are in both books.
func compareNamedThings[T any](d *differ, what string, old, new []T, name func(*T) string, other func(was, is *T) []string) {
	for _, p := range pairs(old, new, name) {
		d.about(what, p.name, func() {
			def := definition{what, p.name}
			switch {
			case p.old == nil:
				d.noteUse(def, "it is new.")
			case p.new == nil:
				d.noteUse(def, "it is gone.")
			default:
				if changes := other(p.old, p.new); len(changes) > 0 {
					d.noteUse(def, "%s", strings.Join(changes, " "))
				}
			}
		})
	}
}

func (d *differ) compareAssurances() {
	compareNamedThings(d, "assurance", d.old.judge.Assurances(), d.new.judge.Assurances(), func(a *decide.Assurance) string { return a.Name }, func(was, is *decide.Assurance) []string {
		var changes []string
		for i := range max(len(was.Prove), len(is.Prove)) {
			switch {
			case i >= len(was.Prove):
				changes = append(changes, "it asks besides for "+d.new.proofWords(&is.Prove[i])+".")
			case i >= len(is.Prove):
				changes = append(changes, "it does not ask any more for "+d.old.proofWords(&was.Prove[i])+".")
			default:
				changes = append(changes, d.proofChanges(&was.Prove[i], &is.Prove[i])...)
			}
		}
		x, y := *was, *is
		x.Prove, y.Prove = nil, nil
		if before, after := describe.Assurance(d.old.judge, &x), describe.Assurance(d.new.judge, &y); before != after {
			changes = append(changes, fmt.Sprintf("besides proofs it asked for %s; now for %s.", cmp.Or(before, "nothing"), cmp.Or(after, "nothing")))
		}
		if was.ACR != is.ACR {
			changes = append(changes, fmt.Sprintf("tokens stated %q for it and state %q.", was.ACR, is.ACR))
		}
		return changes
	})
}

// proofWords says what is to be proven.
func (v *view) proofWords(p *decide.Prove) string {
	return describe.Assurance(v.judge, &decide.Assurance{Prove: []decide.Prove{*p}})
}

// proofChanges says what is other about a proof that is asked for.
func (d *differ) proofChanges(was, is *decide.Prove) []string {
	names := func(v *view, p *decide.Prove) (preferred, fallback []string) {
		m, f := v.judge.Methods(*p)
		return v.judge.MethodNames(m), v.judge.MethodNames(f)
	}
	before, beforeFallback := names(d.old, was)
	after, afterFallback := names(d.new, is)
	var changes []string
	say := func(before, after []string, more, fewer string) {
		if fresh := except(after, before); len(fresh) > 0 {
			changes = append(changes, fmt.Sprintf(more, words.List(fresh, "and")))
		}
		if gone := except(before, after); len(gone) > 0 {
			changes = append(changes, fmt.Sprintf(fewer, words.List(gone, "and")))
		}
	}
	say(before, after, "now it takes %s besides", "it does not take %s any more")
	say(beforeFallback, afterFallback, "now %s can stand in", "%s cannot stand in any more")
	if was.Within != is.Within {
		changes = append(changes, fmt.Sprintf("the proof was to be within %s and is to be within %s", was.Within, is.Within))
	}
	if was.Remember != is.Remember {
		changes = append(changes, fmt.Sprintf("a device was remembered for %s and is for %s", rememberWords(was.Remember), rememberWords(is.Remember)))
	}
	if len(changes) == 0 {
		return nil
	}
	return []string{fmt.Sprintf("where it took %s: %s.", words.List(before, "or"), strings.Join(changes, "; "))}
}

func rememberWords(s estate.Span) string {
	if s == 0 {
		return "no time"
	}
	return s.Words()
}

// except returns the names that are in the first list only.
func except(a, b []string) []string {
	return slices.DeleteFunc(slices.Clone(a), func(x string) bool { return slices.Contains(b, x) })
}

// askAll notes for each assurance that is asked for who asks it, so that its changes
// are told with their effect.
func (d *differ) askAll() {
	ask := func(by string, names []string) {
		for _, name := range names {
			if e := d.assurance(name); e != Neither {
				d.usedBy(definition{"assurance", name}, e, by)
				for _, v := range []*view{d.old, d.new} {
					if a := v.judge.FindAssurance(name); a != nil && a.Posture != "" && d.posture(a.Posture) != same {
						d.usedBy(definition{"posture", a.Posture}, e, by)
					}
				}
			}
		}
	}
	for _, v := range []*view{d.old, d.new} {
		for i := range v.policies {
			p := &v.policies[i]
			if !d.inForce(p) {
				continue
			}
			for _, r := range p.Rules {
				for _, q := range r.Then.Require {
					ask(p.Name+" / "+r.Name, q.OneOf)
				}
			}
		}
		for _, q := range v.judge.Otherwise().Require {
			ask("settings.otherwise", q.OneOf)
		}
		for _, x := range v.judge.Exemptions() {
			ask("exemption "+x.Name, x.Instead)
		}
	}
}

func (d *differ) compareExemptions() {
	for _, p := range pairs(d.old.judge.Exemptions(), d.new.judge.Exemptions(), func(x *decide.Exemption) string { return x.Name }) {
		d.about("exemption", p.name, func() {
			more := func(x *decide.Exemption) Effect {
				if len(x.Instead) > 0 {
					return Either
				}
				return Loosens
			}
			switch {
			case p.old == nil:
				d.note(more(p.new), "it is new: %s need not meet %s.", describe.People(p.new.Who), words.List(p.new.From, "or"))
			case p.new == nil:
				d.note(more(p.old).flip(), "it is gone: %s must meet %s again.", describe.People(p.old.Who), words.List(p.old.From, "and"))
			default:
				d.compareExemption(p.old, p.new, func(dir direction) Effect {
					e := Effect(dir)
					if e != Neither && len(p.old.Instead)+len(p.new.Instead) > 0 {
						return Either
					}
					return e
				})
			}
		})
	}
}

func (d *differ) compareExemption(was, is *decide.Exemption, effect func(direction) Effect) {
	d.compareWho(was.Who, is.Who, effect)
	when := d.relate(was.When, is.When)
	d.used("exemption "+is.Name, effect(when), was.When, is.When)
	switch {
	case fingerprint(was.When) != fingerprint(is.When):
		d.note(effect(when), "it held where %s, and holds where %s.", describe.When(bare(was.When)), describe.When(bare(is.When)))
	case when != same:
		d.note(effect(when), "it holds in other cases, since what it names has changed.")
	}
	if !slices.Equal(was.From, is.From) {
		d.note(effect(compareSets(was.From, is.From)), "it excused from %s and excuses from %s.", words.List(was.From, "and"), words.List(is.From, "and"))
	}
	if !slices.Equal(was.Instead, is.Instead) {
		d.note(Effect(compareSets(was.Instead, is.Instead).flip()), "it asked for %s instead, and asks for %s.", words.List(was.Instead, "and"), words.List(is.Instead, "and"))
	}
	if !reflect.DeepEqual(was.Until, is.Until) {
		d.note(effect(compareSpans(nil, was.Until, nil, is.Until)), "it held %s and holds %s.", spanWords(nil, was.Until), spanWords(nil, is.Until))
	}
	d.noteMove(Neither, "the reason", was.Because, is.Because)
	d.noteMove(Neither, "who approved it", was.ApprovedBy, is.ApprovedBy)
}

// compareWho compares for whom something is.
func (d *differ) compareWho(was, is condition.Node, effect func(direction) Effect) {
	before, after := d.old.crowd.Of(was), d.new.crowd.Of(is)
	dir := d.relateAccounts(before, after)
	if joins(was) || joins(is) {
		dir |= d.relate(was, is)
	}
	switch {
	case fingerprint(was) != fingerprint(is):
		d.note(effect(dir), "it was for %s and is for %s: %s.", describe.People(was), describe.People(is), d.otherAccounts(before, after))
	case dir != same:
		d.note(effect(dir), "it is for %s.", d.otherAccounts(before, after))
	}
}

func (d *differ) compareRollouts() {
	effect := func(dir direction) Effect { return Effect(dir) }
	for _, p := range pairs(d.old.judge.Rollouts(), d.new.judge.Rollouts(), func(r *decide.Rollout) string { return r.Name }) {
		d.about("rollout", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Loosens, "it is new: until %s begins, %s are let in without %s where they have nothing to meet it with.", p.new.Enforced, describe.People(p.new.Who), words.List(p.new.Eases, "and"))
			case p.new == nil:
				d.note(Tightens, "it is gone: %s are held to %s at once.", describe.People(p.old.Who), words.List(p.old.Eases, "and"))
			default:
				was, is := p.old, p.new
				d.compareWho(was.Who, is.Who, effect)
				if was.Enforced != is.Enforced {
					d.note(Effect(compareSpans(nil, &was.Enforced, nil, &is.Enforced)), "it was enforced from %s and is from %s.", was.Enforced, is.Enforced)
				}
				for _, list := range []struct {
					what    string
					was, is []string
				}{{"its methods were %s and are %s.", was.Methods, is.Methods}, {"it eased %s and eases %s.", was.Eases, is.Eases}} {
					if dir := compareSets(list.was, list.is); dir != same {
						d.note(Effect(dir), list.what, words.List(list.was, "and"), words.List(list.is, "and"))
					}
				}
				for _, span := range []struct {
					what    string
					was, is estate.Span
				}{{"the time of newcomers", was.Newcomers, is.Newcomers}, {"the grace", was.Grace, is.Grace}} {
					if span.was != span.is {
						d.noteMove(Effect(compareOrdered(span.was, span.is)), span.what, span.was.Words(), span.is.Words())
					}
				}
				d.noteMove(Neither, "the day on which it opens", dateWords(was.Opens), dateWords(is.Opens))
				d.noteMove(Neither, "the day by which all are asked", dateWords(was.AskBy), dateWords(is.AskBy))
			}
		})
	}
}

func (d *differ) compareSettings() {
	d.about("settings", "", func() {
		was, is := d.old.book.Settings, d.new.book.Settings
		if !reflect.DeepEqual(was.Otherwise, is.Otherwise) {
			d.note(relateOutcomes(was.Otherwise, is.Otherwise), "where no live policy surely speaks, it was that %s; now %s.", describe.Outcome(was.Otherwise), describe.Outcome(is.Otherwise))
		}
		d.noteMove(Either, "the zone", was.Zone.String(), is.Zone.String())
		if d.old.book.DatabaseDigest != d.new.book.DatabaseDigest {
			d.note(Either, "the file that knows addresses is another.")
		}
		if fingerprint(was.Administrators) != fingerprint(is.Administrators) {
			d.note(Neither, "the administrators are others.")
		}
	})
}

func (d *differ) comparePlaces() {
	compareNamedThings(d, "network", d.old.book.Networks, d.new.book.Networks, func(n *estate.Network) string { return n.Name }, func(was, is *estate.Network) []string {
		var changes []string
		set := func(n *estate.Network) *netipx.IPSet {
			var b netipx.IPSetBuilder
			for _, r := range n.Ranges {
				b.AddRange(netipx.IPRangeFrom(r.From, r.To))
			}
			return settled(&b)
		}
		before, after := set(was), set(is)
		if more := without(after, before); len(more) > 0 {
			changes = append(changes, "it reaches "+rangeWords(more)+" besides.")
		}
		if fewer := without(before, after); len(fewer) > 0 {
			changes = append(changes, "it does not reach "+rangeWords(fewer)+" any more.")
		}
		if was.Ours != is.Ours {
			changes = append(changes, map[bool]string{true: "it counts as one's own now.", false: "it does not count as one's own any more."}[is.Ours])
		}
		if was.Anonymous != is.Anonymous {
			changes = append(changes, map[bool]string{true: "it is said to hide where people come from now.", false: "it is not said any more to hide where people come from."}[is.Anonymous])
		}
		if was.Country != is.Country {
			changes = append(changes, fmt.Sprintf("its country was %q and is %q.", was.Country, is.Country))
		}
		return changes
	})
	compareNamedThings(d, "region", d.old.book.Regions, d.new.book.Regions, func(r *estate.Region) string { return r.Name }, func(was, is *estate.Region) []string {
		if compareSets(was.Countries, is.Countries) == same {
			return nil
		}
		return []string{fmt.Sprintf("it was %v and is %v.", was.Countries, is.Countries)}
	})
}

// rangeWords names ranges of addresses.
func rangeWords(ranges []netipx.IPRange) string {
	var names []string
	for _, r := range ranges {
		switch p, ok := r.Prefix(); {
		case r.From() == r.To():
			names = append(names, r.From().String())
		case ok:
			names = append(names, netip.Prefix.String(p))
		default:
			names = append(names, r.String())
		}
	}
	return words.UpTo(mostNames, names)
}

func (d *differ) compareTimes() {
	compareNamedThings(d, "window", d.old.book.Windows, d.new.book.Windows, func(w *estate.Window) string { return w.Name }, func(was, is *estate.Window) []string {
		if before, after := was.String(), is.String(); before != after {
			return []string{fmt.Sprintf("it was %s and is %s.", before, after)}
		}
		return nil
	})
}

func (d *differ) comparePostures() {
	compareNamedThings(d, "posture", d.old.book.Postures, d.new.book.Postures, func(p *estate.Posture) string { return p.Name }, func(was, is *estate.Posture) []string {
		var changes []string
		if was.Fresh != is.Fresh {
			changes = append(changes, fmt.Sprintf("a report could be %s old and can be %s.", spanOr(was.Fresh), spanOr(is.Fresh)))
		}
		for _, p := range pairs(was.Checks, is.Checks, func(c *estate.Check) string { return c.Fact }) {
			switch {
			case p.old == nil:
				changes = append(changes, fmt.Sprintf("it checks %s, which is to be %s.", p.name, p.new.Wants()))
			case p.new == nil:
				changes = append(changes, fmt.Sprintf("it does not check %s any more.", p.name))
			case !sameCheck(p.old, p.new):
				changes = append(changes, fmt.Sprintf("%s was to be %s and is to be %s.", p.name, p.old.Wants(), p.new.Wants()))
			}
		}
		return changes
	})
}

func spanOr(s estate.Span) string {
	if s == 0 {
		return "however"
	}
	return s.Words()
}

func (d *differ) compareRisk() {
	d.about("risk", "", func() {
		was, is := d.old.judge.Risk(), d.new.judge.Risk()
		def := definition{"risk", ""}
		if was.Levels != is.Levels {
			d.noteUse(def, "the levels were low %d, medium %d, high %d and are low %d, medium %d, high %d.", was.Levels.Low, was.Levels.Medium, was.Levels.High, is.Levels.Low, is.Levels.Medium, is.Levels.High)
		}
		for _, p := range pairs(was.Signals, is.Signals, func(s *risk.Signal) string { return s.Name }) {
			switch {
			case p.old == nil:
				d.noteUse(def, "the signal %s is new, with %s.", p.name, words.Count(p.new.Points, "point"))
			case p.new == nil:
				d.noteUse(def, "the signal %s is gone; it had %s.", p.name, words.Count(p.old.Points, "point"))
			case p.old.Points != p.new.Points:
				d.noteUse(def, "the signal %s had %s and has %d.", p.name, words.Count(p.old.Points, "point"), p.new.Points)
			case d.signal(p.name) != same:
				d.noteUse(def, "the signal %s holds in other cases.", p.name)
			}
		}
		if d.score != same && len(d.old.book.Rollouts)+len(d.new.book.Rollouts) > 0 && len(d.current.Changes) > 0 {
			d.note(Either, "rollouts ease nothing where the risk may be medium, so other accounts may be eased.")
		}
	})
}

func (d *differ) compareMethods() {
	for _, p := range pairs(d.old.book.Methods, d.new.book.Methods, func(m *estate.Method) string { return m.Name }) {
		d.about("method", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Either, "it is defined anew.")
			case p.new == nil:
				d.note(Either, "it is not defined any more, or as it is built in.")
			default:
				was, is := *p.old, *p.new
				if before, after := fingerprint(was.BarredFor), fingerprint(is.BarredFor); (was.BarredFor == nil) != (is.BarredFor == nil) || before != after {
					d.note(Either, "it is barred for other accounts.")
				}
				was.BarredFor, is.BarredFor = nil, nil
				if !reflect.DeepEqual(was, is) {
					d.note(Either, "its kind, traits or amr values changed.")
				}
			}
		})
	}
}

// compareAccounts tells of accounts together, since there may be many.
func (d *differ) compareAccounts() {
	d.about("accounts", "", func() {
		list := map[string][]string{}
		add := func(what, name string) { list[what] = append(list[what], name) }
		for _, p := range pairs(d.old.estate.Accounts, d.new.estate.Accounts, func(a *estate.Account) string { return a.Name }) {
			switch {
			case p.old == nil && !p.new.Disabled:
				add("new", p.name)
			case p.old == nil:
			case p.new == nil:
				add("gone", p.name)
			default:
				if p.old.Disabled != p.new.Disabled {
					add(map[bool]string{true: "disabled", false: "enabled"}[p.new.Disabled], p.name)
				}
				if !sameSet(p.old.Methods, p.new.Methods) {
					add("methods", p.name)
				}
				if d.barredOtherwise(p.name) {
					add("barred", p.name)
				}
				if !sameSet(p.old.Groups, p.new.Groups) {
					add("groups", p.name)
				}
				if !sameFacts(p.old, p.new) {
					add("facts", p.name)
				}
			}
		}
		for _, told := range []struct {
			key, text string
			effect    Effect
		}{
			{"new", "%s new, and can sign on: %s.", Loosens}, {"enabled", "%s not disabled any more: %s.", Loosens},
			{"methods", "%s enrolled with other methods: %s.", Either},
			{"barred", "%s barred from other methods: %s.", Either},
			{"facts", "%s known with other facts, such as kind, joining, risk or attributes: %s.", Either},
			{"gone", "%s gone, and cannot sign on: %s.", Tightens}, {"disabled", "%s disabled: %s.", Tightens},
			{"groups", "%s in other groups, which is told with the policies and apps that it touches: %s.", Neither},
		} {
			if names := list[told.key]; len(names) > 0 {
				slices.Sort(names)
				verb := map[bool]string{true: " is", false: " are"}[len(names) == 1]
				d.note(told.effect, told.text, words.Count(len(names), "account")+verb, words.UpTo(mostNames, names))
			}
		}
	})
}

// barredOtherwise tells whether other methods count for nothing with an account.
func (d *differ) barredOtherwise(name string) bool {
	barred := func(v *view) []string {
		n, _ := v.estate.FindAccount(name)
		return v.judge.MethodNames(v.estate.Barred(n))
	}
	return !slices.Equal(barred(d.old), barred(d.new))
}

func sameSet(a, b []string) bool { return compareSets(a, b) == same }

// sameFacts compares what decisions hang on beside methods and groups.
func sameFacts(a, b *estate.Account) bool {
	x, y := *a, *b
	for _, one := range []*estate.Account{&x, &y} {
		one.Methods, one.Groups, one.Disabled = nil, nil, false
	}
	return reflect.DeepEqual(x, y)
}

func (d *differ) compareGroups() {
	for _, p := range pairs(d.old.estate.Groups, d.new.estate.Groups, func(g *estate.Group) string { return g.Name }) {
		d.about("group", p.name, func() {
			members := func(v *view) estate.Audience {
				i := slices.IndexFunc(v.estate.Groups, func(g estate.Group) bool { return g.Name == p.name })
				if i < 0 {
					return v.crowd.Nobody()
				}
				return v.crowd.InGroup(i)
			}
			before, after := members(d.old), members(d.new)
			switch {
			case p.old == nil:
				d.note(Neither, "it is new, with %s.", d.otherAccounts(before, after))
			case p.new == nil:
				d.note(Neither, "it is gone, with %s.", d.otherAccounts(before, after))
			case d.relateAccounts(before, after) != same:
				d.note(Neither, "it has %s, which is told with the policies and apps that it touches.", d.otherAccounts(before, after))
			}
		})
	}
}

func (d *differ) compareApps() {
	numbers := map[string][2]int{}
	for _, n := range d.apps {
		numbers[d.new.estate.Apps[n[1]].Name] = n
	}
	for _, p := range pairs(d.old.estate.Apps, d.new.estate.Apps, func(a *estate.App) string { return a.Name }) {
		d.about("app", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Loosens, "it is new.")
			case p.new == nil:
				d.note(Tightens, "it is gone; nobody can open it any more.")
			default:
				d.compareApp(numbers[p.name], p.old, p.new)
			}
		})
	}
}

func (d *differ) compareApp(numbers [2]int, was, is *estate.App) {
	var gained, lost []string
	var dir direction
	for _, n := range d.accounts {
		before, after := d.old.estate.IsOpenTo(numbers[0], n[0]), d.new.estate.IsOpenTo(numbers[1], n[1])
		switch {
		case after && !before:
			gained = append(gained, d.new.estate.Accounts[n[1]].Name)
			dir |= widens
		case before && !after:
			lost = append(lost, d.new.estate.Accounts[n[1]].Name)
			dir |= narrows
		}
	}
	if len(gained) > 0 {
		d.note(Loosens, "it is open to %s more: %s.", words.Count(len(gained), "account"), words.UpTo(mostNames, gained))
	}
	if len(lost) > 0 {
		d.note(Tightens, "it is not open any more to %s: %s.", words.Count(len(lost), "account"), words.UpTo(mostNames, lost))
	}
	if !sameSet(was.OpenTo, is.OpenTo) && dir == same {
		d.note(Neither, "it was open to %s and is to %s, which are the same accounts.", words.List(was.OpenTo, "and"), words.List(is.OpenTo, "and"))
	}
	if was.Public != is.Public {
		d.note(map[bool]Effect{true: Loosens, false: Tightens}[is.Public], "%s.", map[bool]string{true: "it is public now, and opens without any proof", false: "it is not public any more"}[is.Public])
	}
	if !sameSet(was.Tags, is.Tags) {
		d.note(Neither, "its tags were %s and are %s; what that does is told with the policies.", words.List(was.Tags, "and"), words.List(is.Tags, "and"))
	}
	if !sameSet(was.KnownAs, is.KnownAs) || !sameSet(was.Hosts, is.Hosts) {
		d.note(Either, "it is known by other identifiers or hosts.")
	}
	if !reflect.DeepEqual(was.Limits, is.Limits) {
		d.note(relateLimits(was.Limits, is.Limits), "the limits of its sessions were %s and are %s.", limitWords(was.Limits), limitWords(is.Limits))
	}
}

func (d *differ) compareDevices() {
	d.about("devices", "", func() {
		var fresh, gone, other []string
		for _, p := range pairs(d.old.book.Devices, d.new.book.Devices, func(v *estate.Device) string { return v.Name }) {
			switch {
			case p.old == nil:
				fresh = append(fresh, p.name)
			case p.new == nil:
				gone = append(gone, p.name)
			case !reflect.DeepEqual(p.old, p.new):
				other = append(other, p.name)
			}
		}
		for _, told := range []struct {
			names []string
			text  string
		}{{fresh, "%s known besides: %s."}, {gone, "%s not known any more: %s."}, {other, "%s known with other facts: %s."}} {
			if len(told.names) > 0 {
				verb := map[bool]string{true: " is", false: " are"}[len(told.names) == 1]
				d.note(Either, told.text, words.Count(len(told.names), "device")+verb, words.UpTo(mostNames, told.names))
			}
		}
	})
}

// clientFacts are the clients without their places.
func clientFacts(v *view) []consent.Client {
	list := slices.Clone(v.book.Clients)
	for i := range list {
		list[i].At = condition.Position{}
	}
	return list
}

func (d *differ) compareConsent() {
	d.about("consent", "", func() {
		was, is := d.old.consent.Scheme(), d.new.consent.Scheme()
		name := func(r *consent.Rule) string { return r.Name }
		for _, p := range pairs(was.Rules, is.Rules, name) {
			switch {
			case p.old == nil:
				d.note(Either, "rule %s is new: where %s, %s.", p.name, describe.When(bare(p.new.When)), p.new.Then)
			case p.new == nil:
				d.note(Either, "rule %s is gone: where %s, %s.", p.name, describe.When(bare(p.old.When)), p.old.Then)
			default:
				if p.old.Then != p.new.Then {
					d.note(Effect(compareOrdered(int(p.old.Then), int(p.new.Then)).flip()), "rule %s said %s and says %s.", p.name, p.old.Then, p.new.Then)
				}
				if dir := d.relate(p.old.When, p.new.When); fingerprint(p.old.When) != fingerprint(p.new.When) || dir != same {
					d.note(Either, "rule %s: it spoke where %s, and speaks where %s.", p.name, describe.When(bare(p.old.When)), describe.When(bare(p.new.When)))
				}
			}
		}
		if order := sameOrder(was.Rules, is.Rules, name); !order {
			d.note(Either, "the order of the rules is another.")
		}
		for _, c := range []struct {
			what    string
			changed bool
		}{
			{"the reviewers are others.", fingerprint(was.Reviewers) != fingerprint(is.Reviewers)},
			{"whether a reviewer answers her own requests is another.", was.OwnRequests != is.OwnRequests},
			{"how long an approval holds is another.", was.Lasts != is.Lasts},
			{"how long a request waits is another.", was.RequestsLast != is.RequestsLast},
			{"the tiers of scopes are others.", !reflect.DeepEqual(d.old.book.Scopes, d.new.book.Scopes)},
		} {
			if c.changed {
				d.note(Either, "%s", c.what)
			}
		}
	})
	for _, p := range pairs(clientFacts(d.old), clientFacts(d.new), func(c *consent.Client) string { return c.Name }) {
		d.about("client", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Either, "it is new; it is %s.", p.new.Standing)
			case p.new == nil:
				d.note(Either, "it is gone; it was %s.", p.old.Standing)
			case p.old.Standing != p.new.Standing:
				d.note(Either, "it was %s and is %s.", p.old.Standing, p.new.Standing)
			case !reflect.DeepEqual(p.old, p.new):
				d.note(Either, "what is known of it changed.")
			}
		})
	}
}

// sameOrder tells whether the names that two lists share stand in the same order.
func sameOrder[T any](a, b []T, name func(*T) string) bool {
	names := func(list, other []T) []string {
		var all []string
		for i := range list {
			if n := name(&list[i]); slices.ContainsFunc(other, func(x T) bool { return name(&x) == n }) {
				all = append(all, n)
			}
		}
		return all
	}
	return slices.Equal(names(a, b), names(b, a))
}

// compareRest tells of what no decision hangs on.
func (d *differ) compareRest() {
	d.about("drills", "", func() {
		noteList(d, "drill", d.old.book.Drills, d.new.book.Drills, func(x *drill.Drill) string { return x.Name })
	})
	d.about("accepted", "", func() {
		noteList(d, "accepted finding", d.old.book.Accepted, d.new.book.Accepted, func(x *book.Acceptance) string { return x.Name })
	})
	d.about("imports", "", func() {
		noteList(d, "import", d.old.book.Imports, d.new.book.Imports, func(x *book.Import) string { return x.Name })
	})
}

// noteList tells what is new, gone or other in a list without an effect.
func noteList[T any](d *differ, what string, old, new []T, name func(*T) string) {
	var fresh, gone, other []string
	for _, p := range pairs(old, new, name) {
		switch {
		case p.old == nil:
			fresh = append(fresh, p.name)
		case p.new == nil:
			gone = append(gone, p.name)
		case wire(p.old) != wire(p.new):
			other = append(other, p.name)
		}
	}
	for _, told := range []struct {
		names []string
		text  string
	}{{fresh, "%s new: %s."}, {gone, "%s gone: %s."}, {other, "%s changed: %s."}} {
		if len(told.names) > 0 {
			verb := map[bool]string{true: " is", false: " are"}[len(told.names) == 1]
			d.note(Neither, told.text, words.Count(len(told.names), what)+verb, words.UpTo(mostNames, told.names))
		}
	}
}

// wire is a definition without its place, for comparing.
func wire(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprintf("%+v", v)
	}
	var fields map[string]any
	if json.Unmarshal(text, &fields) == nil {
		delete(fields, "At")
	}
	return fmt.Sprint(fields)
}
