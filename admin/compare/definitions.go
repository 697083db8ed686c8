package compare

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// definition names something that conditions and outcomes name.
type definition struct{ what, name string }

// use is who depends on a definition, and what its change does there.
type use struct {
	effect Effect
	by     []string
}

// used notes who names something in a condition that is in force, and what its change does
// there.
func (d *differ) used(by string, e Effect, conditions ...condition.Node) {
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

// named lists the definitions that a test depends on.
func (d *differ) named(t *condition.Test) []definition {
	var list []definition
	add := func(what string, names ...string) {
		for _, name := range names {
			list = append(list, definition{what, name})
		}
	}
	networks := func(that func(directory.Network) bool) {
		for _, n := range slices.Concat(d.old.book.Networks, d.new.book.Networks) {
			if that(n) {
				add("network", n.Name)
			}
		}
	}
	switch key := t.Key.Definition(); key.Meaning {
	case condition.MeansAddresses:
		add(key.Names, t.Values...)
	case condition.MeansOwnAddresses:
		networks(func(n directory.Network) bool { return n.Ours })
	case condition.MeansCountries:
		add(key.Names, t.Values...)
		networks(func(n directory.Network) bool { return n.Country != "" })
	case condition.MeansDefinitions:
		if key.About&condition.AboutRisk == 0 {
			add(key.Names, t.Values...)
		}
	}
	if t.Key.About()&condition.AboutRisk != 0 {
		add("risk", "")
		networks(func(n directory.Network) bool { return n.Anonymous || n.Country != "" })
		list = append(list, d.namedBySignals()...)
	}
	return list
}

// namedBySignals lists the definitions that the conditions of signals depend on, which
// cannot be on signals themselves.
func (d *differ) namedBySignals() []definition {
	var list []definition
	for _, v := range []*view{d.old, d.new} {
		for _, s := range v.judge.Risk().Signals {
			condition.Walk(s.When, func(n condition.Node) bool {
				if t, ok := n.(*condition.Test); ok {
					list = append(list, d.named(t)...)
				}
				return true
			})
		}
	}
	return list
}

// when is the effect where something holds, and none where it does not.
func (e Effect) when(holds bool) Effect {
	if holds {
		return e
	}
	return Neither
}

// noteUse tells a change of something that others depend on, with what it does there.
func (d *differ) noteUse(def definition, format string, args ...any) {
	u := d.uses[def]
	text := fmt.Sprintf(format, args...)
	if len(u.by) > 0 {
		slices.Sort(u.by)
		text += " What depends on it: " + words.UpTo(mostNames, u.by) + "."
	} else {
		text += " Nothing in force depends on it."
	}
	d.note(u.effect, "%s", text)
}

// compareNamedThings reports definitions of one kind that others name, by what is
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
					for i := range changes {
						changes[i] = capital(changes[i])
					}
					d.noteUse(def, "%s", strings.Join(changes, " "))
				}
			}
		})
	}
}

func (d *differ) compareAssurances() {
	compareNamedThings(
		d,
		"assurance",
		d.old.judge.Assurances(),
		d.new.judge.Assurances(),
		func(a *decide.Assurance) string { return a.Name },
		func(was, is *decide.Assurance) []string {
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
				changes = append(
					changes,
					fmt.Sprintf("besides proofs it asked for %s; now for %s.", cmp.Or(before, "nothing"), cmp.Or(after, "nothing")),
				)
			}
			if was.ACR != is.ACR {
				changes = append(
					changes,
					fmt.Sprintf("tokens stated %s for it and state %s.", cmp.Or(was.ACR, "nothing"), cmp.Or(is.ACR, "nothing")),
				)
			}
			return changes
		},
	)
}

// proofWords says what is to be proven.
func (v *view) proofWords(p *decide.Prove) string {
	return describe.Assurance(v.judge, &decide.Assurance{Prove: []decide.Prove{*p}})
}

// proofChanges says what is other about a proof that is asked for.
func (d *differ) proofChanges(was, is *decide.Prove) []string {
	names := func(v *view, p *decide.Prove) (preferred, fallback []string) {
		m, f := v.judge.Methods(p.AnyOf, p.Traits, p.Fallback)
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
		changes = append(
			changes,
			fmt.Sprintf(
				"a device was remembered for %s and is for %s",
				cmp.Or(statedSpan(was.Remember), "no time"),
				cmp.Or(statedSpan(is.Remember), "no time"),
			),
		)
	}
	if len(changes) == 0 {
		return nil
	}
	return []string{fmt.Sprintf("where it took %s: %s.", words.List(before, "or"), strings.Join(changes, "; "))}
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
			e := Neither
			if d.old.judge.FindAssurance(name) != nil && d.new.judge.FindAssurance(name) != nil {
				e = d.assurance(name) // what is new or gone is told with who asks for it
			}
			d.usedBy(definition{"assurance", name}, e, by)
			for _, v := range []*view{d.old, d.new} {
				if a := v.judge.FindAssurance(name); a != nil && a.Posture != "" {
					d.usedBy(definition{"posture", a.Posture}, e.when(d.posture(a.Posture) != same), by)
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
				d.used("exemption "+p.name, Neither, p.new.When)
				d.note(more(p.new), "it is new: %s need not meet %s %s%s.", describe.People(p.new.Who), words.List(p.new.From, "or"),
					spanWords(nil, p.new.Until), holdsWords(p.new))
			case p.new == nil:
				d.used("exemption "+p.name, Neither, p.old.When)
				d.note(more(p.old).flip(), "it is gone: %s must meet %s again. It held %s%s.", describe.People(p.old.Who),
					words.List(p.old.From, "and"), spanWords(nil, p.old.Until), holdsWords(p.old))
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

// holdsWords says where an exemption holds and what is asked instead, after a sentence about
// it.
func holdsWords(x *decide.Exemption) string {
	text := ""
	if !always(x.When) {
		text = ", where " + describe.When(bare(x.When))
	}
	if len(x.Instead) > 0 {
		text += "; " + words.List(x.Instead, "and") + " in place of that"
	}
	return text
}

// caseWords says in which cases something holds.
func caseWords(n condition.Node) string {
	if always(n) {
		return "in every case"
	}
	return "where " + describe.When(bare(n))
}

func (d *differ) compareExemption(was, is *decide.Exemption, effect func(direction) Effect) {
	d.compareWho(was.Who, is.Who, effect)
	when := d.relate(was.When, is.When)
	d.used("exemption "+is.Name, effect(when), was.When, is.When)
	switch {
	case fingerprint(was.When) != fingerprint(is.When):
		d.note(effect(when), "it held %s, and holds %s.", caseWords(was.When), caseWords(is.When))
	case when != same:
		d.suspect(effect(when), is.When, "it holds in other cases")
	}
	if !slices.Equal(was.From, is.From) {
		d.note(
			effect(compareSets(was.From, is.From)),
			"it excused from %s and excuses from %s.",
			words.List(was.From, "and"),
			words.List(is.From, "and"),
		)
	}
	if !slices.Equal(was.Instead, is.Instead) {
		d.note(
			Effect(compareSets(was.Instead, is.Instead).flip())|
				d.insteadOtherwise(slices.Concat(was.From, is.From), was.Instead, is.Instead),
			"it asked for %s instead, and asks for %s.",
			words.List(was.Instead, "and"),
			words.List(is.Instead, "and"),
		)
	}
	if !reflect.DeepEqual(was.Until, is.Until) {
		d.note(
			effect(compareSpans(nil, was.Until, nil, is.Until)),
			"it held %s and holds %s.",
			spanWords(nil, was.Until),
			spanWords(nil, is.Until),
		)
	}
	d.noteMove(Neither, "the reason", strconv.Quote(was.Because), strconv.Quote(is.Because))
	d.noteMove(Neither, "who approved it", was.ApprovedBy, is.ApprovedBy)
}

// compareWho compares for whom something is.
func (d *differ) compareWho(was, is condition.Node, effect func(direction) Effect) {
	d.compareAudiences(was, is, d.old.crowd.Of(was), d.new.crowd.Of(is), effect)
}

// compareAudiences compares those for whom something is, before and after.
func (d *differ) compareAudiences(was, is condition.Node, before, after engine.Audience, effect func(direction) Effect) {
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
				d.note(
					Loosens,
					"it is new: until %s begins, %s are let in without %s where they have nothing to meet it with.",
					p.new.Enforced,
					describe.People(p.new.Who),
					words.List(p.new.Eases, "and"),
				)
			case p.new == nil:
				d.note(Tightens, "it is gone: %s are held to %s at once.", describe.People(p.old.Who), words.List(p.old.Eases, "and"))
			default:
				was, is := p.old, p.new
				d.compareWho(was.Who, is.Who, effect)
				if was.Enforced != is.Enforced {
					d.note(
						Effect(compareSpans(nil, &was.Enforced, nil, &is.Enforced)),
						"it was enforced from %s and is from %s.",
						was.Enforced,
						is.Enforced,
					)
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
					was, is directory.Span
				}{{"the time of newcomers", was.Newcomers, is.Newcomers}, {"the grace", was.Grace, is.Grace}} {
					if span.was != span.is {
						d.noteMove(Effect(compareOrdered(span.was, span.is)), span.what, statedSpan(span.was), statedSpan(span.is))
					}
				}
				if was.Say != is.Say {
					d.note(Neither, "what people are written is worded again.")
				}
				d.noteMove(Neither, "the day on which it opens", dateWords(was.Opens), dateWords(is.Opens))
				d.noteMove(Neither, "the day by which all are asked", dateWords(was.AskBy), dateWords(is.AskBy))
			}
		})
	}
}

// statedSpan words a length of time, "" where none is stated.
func statedSpan(s directory.Span) string {
	if s == 0 {
		return ""
	}
	return s.Words()
}

// drawsShares reports whether a condition on accounts of either book asks for a share of them.
func (d *differ) drawsShares() bool {
	for _, v := range []*view{d.old, d.new} {
		for i := range v.policies {
			p := &v.policies[i]
			if draws(p.Who) || draws(p.LiveFor) || slices.ContainsFunc(p.Rules, func(r decide.Rule) bool { return draws(r.When) }) {
				return true
			}
		}
		others := slices.ContainsFunc(v.book.Groups, func(g directory.Group) bool { return draws(g.Where) }) ||
			slices.ContainsFunc(v.book.Methods, func(m directory.Method) bool { return draws(m.BarredFor) }) ||
			slices.ContainsFunc(v.book.Exemptions, func(x decide.Exemption) bool { return draws(x.Who) }) ||
			slices.ContainsFunc(v.book.Rollouts, func(r decide.Rollout) bool { return draws(r.Who) }) ||
			slices.ContainsFunc(v.book.Risk.Signals, func(s risk.Signal) bool { return draws(s.When) }) ||
			slices.ContainsFunc(v.book.Consent.Rules, func(r consent.Rule) bool { return draws(r.When) })
		if others || draws(v.book.Consent.Reviewers) {
			return true
		}
	}
	return false
}

func (d *differ) compareSettings() {
	d.about("settings", "", func() {
		was, is := d.old.book.Settings, d.new.book.Settings
		if !reflect.DeepEqual(was.Otherwise, is.Otherwise) {
			d.note(
				d.relateOutcomes(was.Otherwise, is.Otherwise, true),
				"where no live policy surely speaks, it was that %s; now %s.",
				describe.Outcome(was.Otherwise),
				describe.Outcome(is.Otherwise),
			)
		}
		d.noteMove(Either, "the zone", was.Zone.String(), is.Zone.String())
		if was.Directory != is.Directory {
			d.note(
				map[bool]Effect{true: Loosens, false: Tightens}[is.Directory == book.Outside],
				"%s.",
				map[bool]string{
					true:  "accounts that the book does not list can be supplied now",
					false: "accounts that the book does not list cannot be supplied any more",
				}[is.Directory == book.Outside],
			)
		}
		if was.ShareKey != is.ShareKey {
			d.note(Either.when(d.drawsShares()), "the key of shares is another: other accounts fall into each share.")
		}
		if d.old.book.DatabaseDigest != d.new.book.DatabaseDigest {
			d.note(Either, "the file that knows addresses is another.")
		}
		if fingerprint(was.Administrators) != fingerprint(is.Administrators) {
			d.note(Neither, "its administrators were %s and are %s.", inForceFor(was.Administrators), inForceFor(is.Administrators))
		}
	})
}
