package explore

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// Pair makes the space of an older and a newer version of a book between two moments. A walk through it leaves
// out what surely has the same terms in both: so it takes as long as what differs, not as the book. Addresses are
// URLs and identifiers of apps that are looked at beside the names, where the two find different apps by them.
// SamePlaces says that both look addresses up in the same data.
func Pair(older, newer *engine.Judge, from, to time.Time, addresses []string, samePlaces bool) (*Space, error) {
	s := &Space{from: from, to: to}
	for i, judge := range []*engine.Judge{older, newer} {
		one, err := newSide(i, judge, nil)
		if err != nil {
			return nil, err
		}
		s.sides = append(s.sides, one)
	}
	s.apps = s.unite((*side).appNames)
	for _, address := range addresses {
		x := subject{address, [2]int{absent, absent}}
		var found [2]string
		for _, one := range s.sides {
			if n, has := one.directory.FindApp(address); has {
				x.numbers[one.number], found[one.number] = n, one.directory.Apps[n].Name
			}
		}
		if found[0] != found[1] {
			s.apps = append(s.apps, x)
		}
	}
	s.accounts = s.unite((*side).accountNames)
	if err := s.make(nil); err != nil {
		return nil, err
	}
	s.alike = s.compare(samePlaces)
	return s, nil
}

func (b *side) appNames() (names []string) {
	for i := range b.directory.Apps {
		names = append(names, b.directory.Apps[i].Name)
	}
	return names
}

// likeness is what an older and a newer version of a book have in common. Where it cannot be told they are taken
// to differ, which costs time and nothing else. A nil likeness is that of one book.
type likeness struct {
	// risk, proofs and rest say that the signals, what was proven before, and all that is not aimed at apps
	// are the same. Where places is not nil the signals are so at the places in it alone, where both sides see the
	// same country and the same of who hides there.
	risk, proofs, rest bool
	places             bits
	assurances         map[string]bool
	// policies are those that are the same but for the accounts and apps that they are for, by name.
	policies map[string]bool
}

func (l *likeness) sharesProofs() bool { return l == nil || l.proofs }

// compare finds out what both sides have in common.
func (s *Space) compare(places bool) *likeness {
	was, is := s.sides[0], s.sides[1]
	l := &likeness{assurances: map[string]bool{}, policies: map[string]bool{}, proofs: true}
	rules := [2]decide.Rulebook{was.judge.Rulebook(), is.judge.Rulebook()}
	same := func(part func(*decide.Rulebook) any) bool {
		return engine.Fingerprint(part(&rules[0])) == engine.Fingerprint(part(&rules[1]))
	}
	methods := same(func(r *decide.Rulebook) any { return r.Directory.Methods })
	for _, a := range was.asking.Assurances() {
		b := is.asking.FindAssurance(a.Name)
		l.assurances[a.Name] = b != nil && (methods || len(a.Prove)+len(a.Enrol) == 0) && engine.Fingerprint(a) == engine.Fingerprint(*b) &&
			(a.Posture == "" || s.samePostures(a.Posture))
	}
	zone := was.directory.Zone.String() == is.directory.Zone.String()
	l.places = s.samePlaces()
	l.risk = places && same(func(r *decide.Rulebook) any { return r.Risk }) &&
		(!s.detects(risk.NewDevice) || same(func(r *decide.Rulebook) any { return r.Directory.Devices })) && s.sameSignals(l)
	l.proofs = !slices.ContainsFunc(append(was.allOwnTests(), is.allOwnTests()...), func(t test) bool {
		return t.Key == engine.KeyProved && !l.haveAll(t.Values)
	})
	l.rest = methods && zone && places && l.risk && same(func(r *decide.Rulebook) any { return r.Otherwise }) &&
		same(func(r *decide.Rulebook) any { return r.Exemptions }) && same(func(r *decide.Rulebook) any { return r.Rollouts }) &&
		s.sameTests(l, was.commonTests(nil), is.commonTests(nil)) && l.requires(was.judge.Otherwise())
	for i := range was.exemptions {
		l.rest = l.rest && l.haveAll(was.exemptions[i].Instead)
	}
	numbers := map[string]int{}
	for i := range is.policies {
		numbers[is.policies[i].Name] = i
	}
	for i := range was.policies {
		p := &was.policies[i]
		n, has := numbers[p.Name]
		l.policies[p.Name] = has && zone && engine.Fingerprint(ruling(*p)) == engine.Fingerprint(ruling(is.policies[n])) &&
			s.sameTests(l, was.policyTests(nil, i), is.policyTests(nil, n)) &&
			!slices.ContainsFunc(p.Rules, func(r decide.Rule) bool { return !l.requires(r.Then) })
	}
	return l
}

// ruling is a policy without what has no effect on decisions.
func ruling(p decide.Policy) decide.Policy {
	p.About, p.Owner, p.ReviewBy, p.Since = "", "", nil, nil
	p.Rules = slices.Clone(p.Rules)
	for i := range p.Rules {
		p.Rules[i].Name, p.Rules[i].Say = "", ""
	}
	return p
}

// allOwnTests returns the tests of policies and of what is not aimed at an app.
func (b *side) allOwnTests() (tests []test) {
	for i := range b.policies {
		tests = b.policyTests(tests, i)
	}
	return b.commonTests(tests)
}

func (l *likeness) haveAll(assurances []string) bool {
	return !slices.ContainsFunc(assurances, func(name string) bool { return !l.assurances[name] })
}

func (l *likeness) requires(o decide.Outcome) bool {
	return !slices.ContainsFunc(o.Require, func(r decide.Requirement) bool { return !l.haveAll(r.OneOf) })
}

func (s *Space) samePostures(name string) bool {
	a, b := s.sides[0].directory, s.sides[1].directory
	n, has := a.FindPosture(name)
	m, hasToo := b.FindPosture(name)
	return has && hasToo && engine.SamePosture(&a.Postures[n], &b.Postures[m])
}

// samePlaces returns the places about which detectors see the same on both sides: the country, and whether an address
// hides people; nil where that is so of all.
func (s *Space) samePlaces() bits {
	d := s.dimensions[place]
	same, all := newBits(len(d.atoms), false), true
	for i, x := range d.atoms {
		a := s.plain()
		x.apply(a)
		var seen [2]string
		for k, one := range s.sides {
			ip, known := a.IP.Get()
			p := one.directory.Place(ip)
			seen[k] = fmt.Sprint(one.judge.Whereabouts(context.Background(), a).Country, known && p != nil && p.Anonymous)
		}
		if seen[0] == seen[1] {
			same.add(i)
		} else {
			all = false
		}
	}
	if all || !s.noticesPlaces() {
		return nil
	}
	return same
}

// sameSignals reports whether the conditions of signals mean the same for each account.
func (s *Space) sameSignals(l *likeness) bool {
	var tests [2][]test
	for i, one := range s.sides {
		for _, signal := range one.asking.Risk().Signals {
			tests[i] = one.testsOf(tests[i], "risk", signal.When)
		}
	}
	if !s.sameTests(l, tests[0], tests[1]) {
		return false
	}
	for i, t := range tests[0] {
		u := tests[1][i]
		switch {
		case t.isOn(condition.AboutAccount):
			for _, x := range s.accounts {
				if x.numbers[0] == absent || x.numbers[1] == absent || s.onAccount(t, x) != s.onAccount(u, x) {
					return false
				}
			}
		case t.isOn(condition.AboutApp):
			for _, x := range s.apps {
				if x.numbers[0] == absent || x.numbers[1] == absent ||
					t.on(t.side.directory.FactsOfApp(x.numbers[0])) != u.on(u.side.directory.FactsOfApp(x.numbers[1])) {
					return false
				}
			}
		}
	}
	return true
}

// onAccount answers a test on an account of its side.
func (s *Space) onAccount(t test, x subject) condition.Truth {
	p := t.side.directory.Profile(x.numbers[t.side.number])
	return t.on(&engine.Facts{Directory: t.side.directory, HasProfile: true, Profile: p, Moment: s.from, At: s.from})
}

// sameTests reports whether tests of both sides, one by one, mean the same. Those on accounts and apps are left out:
// they are asked about each.
func (s *Space) sameTests(l *likeness, was, is []test) bool {
	return slices.EqualFunc(was, is, func(t, u test) bool {
		if t.id != u.id {
			return false
		}
		switch of := dimensionOf(t.Key); {
		case of < dimensions:
			a, b := s.dimensions[of].of(s, t.side, t.Test), s.dimensions[of].of(s, u.side, u.Test)
			return !slices.ContainsFunc([]int{0, 1, 2}, func(i int) bool { return !slices.Equal(a[i], b[i]) })
		case t.Key == engine.KeyProved:
			return l.haveAll(t.Values)
		case of == free:
			return l.risk
		case t.Key == engine.KeyDuring:
			return slices.EqualFunc(t.Numbers(), u.Numbers(), func(n, m int32) bool {
				return sameWindow(&t.side.directory.Windows[n], &u.side.directory.Windows[m])
			})
		}
		return true
	})
}

func sameWindow(a, b *directory.Window) bool { return engine.Fingerprint(*a) == engine.Fingerprint(*b) }

// difference is how an app differs between the versions.
type difference struct {
	// shared are the tests on accounts that mean the same in both, by ID, where the accounts are alike.
	shared map[string]bool
	// other are the policies of each side that are not the same on the other, by number.
	other [2][]int
	// said says of each of their rules what it comes to.
	said map[saying]string
}

// saying is a rule of a policy of a side.
type saying struct{ side, policy, rule int }

// at says how an app differs, nil where everybody may be asked for something else there.
func (l *likeness) at(s *Space, x subject) *difference {
	if l == nil || !l.rest || x.numbers[0] == absent || x.numbers[1] == absent {
		return nil
	}
	was, is := &s.sides[0].directory.Apps[x.numbers[0]], &s.sides[1].directory.Apps[x.numbers[1]]
	if was.Name != is.Name || was.Public != is.Public || engine.Fingerprint(was.Limits) != engine.Fingerprint(is.Limits) {
		return nil
	}
	sameTags := engine.Fingerprint(was.Tags) == engine.Fingerprint(is.Tags)
	asksTags := func(tests []test) bool {
		return slices.ContainsFunc(tests, func(t test) bool { return t.Key == engine.KeyTags })
	}
	d := &difference{shared: map[string]bool{}, said: map[saying]string{}}
	for i, one := range s.sides {
		other := s.sides[1-i]
		shared := one.commonTests(nil)
		if !sameTags && asksTags(shared) {
			return nil
		}
		for _, n := range one.aimed[x.numbers[i]] {
			name, tests := one.policies[n].Name, one.policyTests(nil, n)
			aimedToo := slices.ContainsFunc(other.aimed[x.numbers[1-i]], func(m int) bool { return other.policies[m].Name == name })
			if l.policies[name] && aimedToo && (sameTags || !asksTags(tests)) {
				shared = append(shared, tests...)
			} else {
				d.other[i] = append(d.other[i], n)
				l.say(d, one, n)
			}
		}
		for _, t := range shared {
			d.shared[t.id] = true
		}
	}
	return d
}

// concerns reports whether an account whose own facts are the same on both sides may be asked for something else.
func (d *difference) concerns(s *Space, profiles [2]*engine.Profile) bool {
	return slices.ContainsFunc(s.sides, func(one *side) bool {
		f := engine.Facts{Directory: one.directory, HasProfile: true, Profile: profiles[one.number], Moment: s.from, At: s.from}
		return slices.ContainsFunc(d.other[one.number], func(policy int) bool {
			who := one.policies[policy].Who
			return condition.Eval(who, &f) != condition.False || condition.Asks(who, engine.KeyJoinedWithin)
		})
	})
}

// say fills in what the rules of a policy come to: the same text where that is the same on both sides.
func (l *likeness) say(d *difference, one *side, policy int) {
	p := &one.policies[policy]
	for i, r := range p.Rules {
		text := p.Name + engine.Fingerprint(p.Replaces) + engine.Fingerprint(r.Then) + engine.Fingerprint(r.Limits)
		if !l.requires(r.Then) {
			text += fmt.Sprint(" of side ", one.number)
		}
		d.said[saying{one.number, policy, i}] = text
	}
}

// isSame reports whether the policies that are not the same in both versions say the same on a path all the same. Then
// the terms are the same, whatever the others say.
func (d *difference) isSame(p *path, a *attempt.Attempt) bool {
	var heard [2][]string
	for i, one := range p.space.sides {
		p.side = one
		for _, h := range one.asking.Speaking(p, a, d.other[i]) {
			text := fmt.Sprint(h.Applies, h.InForce, h.Speaks)
			for _, r := range h.Rules {
				text += fmt.Sprint(" ", r.Matches, d.said[saying{i, h.Policy, r.Rule}])
			}
			heard[i] = append(heard[i], text)
		}
		slices.Sort(heard[i])
	}
	return slices.Equal(heard[0], heard[1])
}

// sameSince reports whether the password of an account changed, and its risk arose, at the same time in both
// versions: what a changed password is rests on it.
func sameSince(profiles [2]*engine.Profile) bool {
	if profiles[0] == nil || profiles[1] == nil {
		return true
	}
	since := func(p *engine.Profile) string {
		a := p.Account()
		if a.PasswordChangedAt == nil && a.AccountRisk == nil {
			return ""
		}
		return engine.Fingerprint(a.PasswordChangedAt) + engine.Fingerprint(a.AccountRisk)
	}
	return since(profiles[0]) == since(profiles[1])
}
