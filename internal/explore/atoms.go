package explore

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// The dimensions.
const (
	place = iota
	device
	through
	dimensions
	// concrete tests are on what an attempt of the explorer has: its account, app, action and moment. Free
	// ones are answered either way, on the risk and on what was proven, and whether that can come about is
	// found out where it matters. Unknown ones are answered either way, and what rests on one is not settled.
	concrete
	free
	unknown
)

// dimensionOf returns what a test looks at.
func dimensionOf(k condition.Key) int {
	switch k.Definition().Explored {
	case condition.ExploredAsGiven, condition.NoCircumstance:
		return concrete
	case condition.ExploredByPlace:
		return place
	case condition.ExploredByDevice:
		return device
	case condition.ExploredByChannel:
		return through
	case condition.ExploredByHistory:
		return free
	}
	return unknown
}

// setting is one way in which something of an attempt may be.
type setting struct {
	name  string
	apply func(a *attempt.Attempt)
}

// plain is an attempt with only the facts that every attempt has.
func (s *Space) plain() *attempt.Attempt {
	return &attempt.Attempt{At: s.from, Account: plainAccount, App: "any"}
}

// plainAccount stands for any account in what is looked at apart from accounts.
const plainAccount = "anybody"

// cut returns a dimension, with all that tests tell apart in it, and where the risk counts what detectors tell apart.
func (s *Space) cut(of int, tests []test, risky bool) *dimension {
	switch of {
	case place:
		return s.distinctAtoms(place, tests, s.places(tests), risky && s.noticesPlaces())
	case device:
		return s.distinctAtoms(device, tests, s.devices(tests), risky)
	}
	throughs := []setting{{"", func(*attempt.Attempt) {}}}
	for _, word := range attempt.Throughs() {
		var t attempt.Through
		if t.UnmarshalText([]byte(word)) == nil {
			throughs = append(throughs, setting{word, func(a *attempt.Attempt) { a.Through = attempt.Known(t) }})
		}
	}
	return s.distinctAtoms(through, tests, throughs, risky && s.noticesPlaces())
}

// distinctSettings leaves one of devices that no test tells apart, and that are told nothing else of.
func (s *Space) distinctSettings(tests []test, settings []setting) []setting {
	asked := onDimension(tests, device)
	seen := map[string]bool{}
	return slices.DeleteFunc(settings, func(x setting) bool {
		a := s.plain()
		x.apply(a)
		d, has := a.Device.Get()
		key := fmt.Sprint(has, d.ID, d.Platform, d.Known, d.Managed, d.Shared, d.Owner)
		for _, t := range asked {
			key += t.holds(a).String()
		}
		was := seen[key]
		seen[key] = true
		return was
	})
}

// onDimension returns the tests that look at a dimension.
func onDimension(tests []test, of int) []test {
	return slices.DeleteFunc(slices.Clone(tests), func(t test) bool { return dimensionOf(t.Key) != of })
}

// detects reports whether a signal of some side has a detector.
func (s *Space) detects(detector risk.Detector) bool {
	return slices.ContainsFunc(s.signals(), func(x risk.Signal) bool { return x.Detect == detector })
}

// noticesPlaces reports whether a signal has a detector that looks at where an attempt comes from.
func (s *Space) noticesPlaces() bool {
	return s.detects(risk.AnonymousNetwork) || s.detects(risk.Travel) || s.detects(risk.CountryChange)
}

// signals returns the signals of all sides.
func (s *Space) signals() (all []risk.Signal) {
	for _, one := range s.sides {
		all = append(all, one.asking.Risk().Signals...)
	}
	return all
}

// distinctAtoms makes a dimension of settings: of those that no test tells apart, and no detector where that counts, the first.
func (s *Space) distinctAtoms(of int, tests []test, settings []setting, noticed bool) *dimension {
	d := &dimension{known: [2]map[string]*vectors{{}, {}}}
	asked := onDimension(tests, of)
	seen := map[string]bool{}
	for _, setting := range settings {
		a := s.plain()
		setting.apply(a)
		key := make([]byte, 0, len(asked)+8)
		for _, t := range asked {
			key = append(key, byte('0'+t.holds(a)))
		}
		kind := ""
		if noticed {
			kind = s.kindOf(of, a)
			key = append(key, kind...)
		}
		if !seen[string(key)] {
			seen[string(key)] = true
			if !noticed {
				kind = s.kindOf(of, a)
			}
			d.atoms, d.kinds = append(d.atoms, setting), append(d.kinds, kind)
		}
	}
	d.all = newBits(len(d.atoms), true)
	return d
}

// kindOf is what detectors see of what an attempt has in a dimension: whether a device was seen before, whether a country is
// known and an address hides people, and whether two sides see the same country.
func (s *Space) kindOf(of int, a *attempt.Attempt) (kind string) {
	switch of {
	case device:
		if d := a.Device.Ref(); d != nil {
			known, told := d.Known.Get()
			kind = fmt.Sprint("a device ", known, told)
		}
	case place:
		var countries []attempt.CountryCode
		kind = s.anonymity(a)
		for _, one := range s.sides {
			country := one.judge.Whereabouts(context.Background(), a).Country
			countries = append(countries, country)
			kind = fmt.Sprint(kind, country == "")
		}
		kind = fmt.Sprint(kind, len(slices.Compact(countries)))
	}
	for _, t := range s.signalTests[of] {
		kind += t.holds(a).String()
	}
	return kind
}

// anonymity says whether an attempt comes from an address that hides where people are, by each side.
func (s *Space) anonymity(a *attempt.Attempt) (kind string) {
	ip, ok := a.IP.Get()
	for _, one := range s.sides {
		p := one.directory.Place(ip)
		switch {
		case !ok:
			kind += "?"
		case p != nil && p.Anonymous:
			kind += "a"
		default:
			kind += "n"
		}
	}
	return kind
}

// borders returns addresses at the borders of all ranges of the books, and in them of each kind that the look-up of
// addresses knows: of those in the same networks, whose country and fame are the same, one. The error is that of the look-up.
func (s *Space) borders() ([]netip.Addr, error) {
	var addresses []netip.Addr
	add := func(a netip.Addr) {
		if a.IsValid() {
			addresses = append(addresses, a)
		}
	}
	// What lies in no range comes first: an address of each family for documentation (RFC 5737, RFC 3849).
	for _, text := range []string{"192.0.2.1", "198.51.100.1", "203.0.113.1", "100.64.0.1", "2001:db8:ffff::1"} {
		add(netip.MustParseAddr(text))
	}
	var ranges []directory.Range
	for _, one := range s.sides {
		ranges = append(ranges, one.directory.Literals...)
		for i := range one.directory.Networks {
			ranges = append(ranges, one.directory.Networks[i].Ranges...)
		}
	}
	for _, r := range ranges {
		add(r.From)
		add(r.To)
		add(r.From.Prev())
		add(r.To.Next())
	}
	seen := map[string]bool{}
	addresses = slices.DeleteFunc(addresses, func(a netip.Addr) bool { return s.isLikeOne(seen, a) })
	survey := func(r directory.Range, visit func(a netip.Addr) (more bool)) error {
		for _, one := range s.sides {
			surveyor, can := one.judge.Rulebook().Locator.(directory.Surveyor)
			if !can {
				continue
			}
			if err := surveyor.Survey(r, func(a netip.Addr, _ directory.Whereabouts) bool { return visit(a) }); err != nil {
				return fmt.Errorf("the look-up of addresses: %w", err)
			}
		}
		return nil
	}
	for _, r := range ranges {
		if err := survey(r, func(a netip.Addr) bool {
			if !s.isLikeOne(seen, a) {
				add(a)
			}
			return true
		}); err != nil {
			return nil, err
		}
	}
	// Outside of networks an attempt may state any country; that none is known takes an address whose country nobody knows.
	for _, r := range []directory.Range{everything4, everything6} {
		lost := slices.ContainsFunc(addresses, s.isLost)
		if err := survey(r, func(a netip.Addr) bool {
			if !lost && s.isLost(a) {
				lost = true
				add(a)
			}
			return !lost
		}); err != nil {
			return nil, err
		}
	}
	return addresses, nil
}

// everything4 and everything6 are all addresses of a family.
var (
	everything4 = directory.Range{From: netip.IPv4Unspecified(), To: netip.AddrFrom4([4]byte{255, 255, 255, 255})}
	everything6 = directory.Range{From: netip.IPv6Unspecified(), To: netip.AddrFrom16([16]byte(slices.Repeat([]byte{255}, 16)))}
)

// isLost reports whether an address lies in no network, and no side knows its country.
func (s *Space) isLost(a netip.Addr) bool {
	return !slices.ContainsFunc(s.sides, func(one *side) bool {
		return len(one.directory.Place(a).Networks) > 0 || one.judge.Whereabouts(context.Background(), located(a)).Country != ""
	})
}

// isLikeOne reports whether an address is in the same networks, and its country and fame are the same, as those of one seen
// before.
func (s *Space) isLikeOne(seen map[string]bool, a netip.Addr) bool {
	key := fmt.Sprint(directory.Plain(a).Is4())
	for _, one := range s.sides {
		p := one.directory.Place(a)
		key += fmt.Sprint(p.Networks, p.Country, p.Torn, p.Ours, p.Anonymous, one.judge.Whereabouts(context.Background(), located(a)).Country)
	}
	was := seen[key]
	seen[key] = true
	return was
}

// places returns addresses of each kind that tests tell apart, each with a country of each kind stated, with none, and no
// address at all.
func (s *Space) places(tests []test) []setting {
	asked := onDimension(tests, place)
	// What is stated of an address counts where nothing else tells its country.
	seen := map[string]bool{}
	addresses := slices.DeleteFunc(slices.Clone(s.border), func(ip netip.Addr) bool {
		a := s.plain()
		a.IP = attempt.Known(ip)
		key := s.anonymity(a)
		for _, one := range s.sides {
			key += fmt.Sprint(one.directory.Place(ip).Country, one.directory.Place(ip).Torn, one.judge.Whereabouts(context.Background(),
				a).Country, " ")
		}
		for _, t := range asked {
			key += t.holds(a).String()
		}
		was := seen[key]
		seen[key] = true
		return was
	})
	countries := s.countries(tests)
	settings := []setting{{"", func(*attempt.Attempt) {}}}
	for _, c := range countries {
		settings = append(settings, setting{string(c), func(a *attempt.Attempt) { a.Country = attempt.Known(c) }})
	}
	for _, ip := range addresses {
		at := func(a *attempt.Attempt) { a.IP = attempt.Known(ip) }
		settings = append(settings, setting{ip.String(), at})
		for _, c := range countries {
			settings = append(settings, setting{ip.String() + " " + string(c), func(a *attempt.Attempt) {
				at(a)
				a.Country = attempt.Known(c)
			}})
		}
	}
	return settings
}

func located(ip netip.Addr) *attempt.Attempt { return &attempt.Attempt{IP: attempt.Known(ip)} }

// countries returns a country of each kind that tests tell apart.
func (s *Space) countries(tests []test) (list []attempt.CountryCode) {
	asked := slices.DeleteFunc(slices.Clone(tests), func(t test) bool { return t.Key != engine.KeyCountries })
	seen := map[string]bool{}
	for n := range 26 * 26 {
		code := attempt.CountryCode([]byte{byte('A' + n/26), byte('A' + n%26)})
		if !code.IsAssigned() {
			continue
		}
		key := ""
		for _, t := range asked {
			key += engine.CountryHolds(code, t.Test).String()
		}
		if !seen[key] {
			seen[key] = true
			list = append(list, code)
		}
	}
	return list
}

// combined returns settings as they are and each with one of several ways beside it. The one without a name is
// of nothing, and stays alone.
func combined(settings, ways []setting) (all []setting) {
	for _, base := range settings {
		all = append(all, base)
		if base.name == "" {
			continue
		}
		for _, way := range ways {
			all = append(all, setting{base.name + ", " + way.name, func(a *attempt.Attempt) { base.apply(a); way.apply(a) }})
		}
	}
	return all
}

// mostFactSets bounds how the postures of a book are combined.
const mostFactSets = 2000

// devices returns devices with each of what tests ask for, as an attempt may state it: what a registered
// device is, an attempt may say of any.
func (s *Space) devices(tests []test) []setting {
	var platforms, tags []string
	traits := map[string]bool{}
	var postures []*directory.Posture
	for _, t := range tests {
		switch t.Key {
		case engine.KeyPlatforms:
			platforms = append(platforms, t.Values...)
		case engine.KeyDeviceTags:
			tags = append(tags, t.Values...)
		case engine.KeyDevice:
			for _, value := range t.Values {
				traits[value] = true
			}
		case engine.KeyPosture:
			for _, n := range t.Numbers() {
				p := &t.side.directory.Postures[n]
				if !slices.ContainsFunc(postures, func(o *directory.Posture) bool { return o == p || engine.SamePosture(o, p) }) {
					postures = append(postures, p)
				}
			}
		}
	}
	slices.SortStableFunc(postures, func(a, b *directory.Posture) int { return strings.Compare(a.Name, b.Name) })
	if s.detects(risk.NewDevice) {
		traits["known"] = true
	}
	settings := []setting{{"", func(*attempt.Attempt) {}}, {"a device", on(func(d *attempt.Device) { d.ID = attempt.Known("a-device") })},
		{"a device without an identity", on(func(*attempt.Device) {})}}
	combine := func(ways []setting) { settings = combined(settings, ways) }
	for _, x := range []struct {
		trait string
		set   func(d *attempt.Device, is bool)
	}{
		{"managed", func(d *attempt.Device, is bool) { d.Managed = attempt.Known(is) }},
		{"shared", func(d *attempt.Device, is bool) { d.Shared = attempt.Known(is) }},
		{"known", func(d *attempt.Device, is bool) { d.Known = attempt.Known(is) }},
	} {
		if traits[x.trait] {
			combine(
				[]setting{
					{x.trait, on(func(d *attempt.Device) { x.set(d, true) })},
					{"not " + x.trait, on(func(d *attempt.Device) { x.set(d, false) })},
				},
			)
		}
	}
	if traits["own"] {
		combine([]setting{
			{"own", func(a *attempt.Attempt) { on(func(d *attempt.Device) { d.Owner = attempt.Known(a.Account) })(a) }},
			{"somebody else's", on(func(d *attempt.Device) { d.Owner = attempt.Known("somebody-else") })},
		})
	}
	if len(tags) > 0 {
		ways := []setting{{"no tag", on(func(d *attempt.Device) { d.Tags = []string{} })}}
		for _, set := range subsets(sortedSet(tags)) {
			ways = append(ways, setting{"tagged " + strings.Join(set, " "), on(func(d *attempt.Device) { d.Tags = set })})
		}
		combine(ways)
	}
	for _, p := range postures {
		for _, c := range p.Checks {
			if c.AtLeast != nil {
				for platform := range c.AtLeast.ByPlatform {
					platforms = append(platforms, platform)
				}
			}
		}
	}
	settings = s.distinctSettings(tests, settings) // there are few until postures come
	if len(platforms) > 0 {
		var ways []setting
		for _, name := range append(sortedSet(platforms), "another") {
			ways = append(ways, setting{name, on(func(d *attempt.Device) { d.Platform = attempt.Known(name) })})
		}
		combine(ways)
	}
	for _, p := range postures {
		ways := []setting{{"fit for " + p.Name, func(a *attempt.Attempt) { report(a, p, -1) }}}
		for i := range p.Checks {
			ways = append(ways, setting{"unfit for " + p.Name, func(a *attempt.Attempt) { report(a, p, i) }})
		}
		if len(settings)*(len(ways)+1) < mostFactSets*20 {
			combine(ways)
		}
	}
	return settings
}

// mostTags is how many tags are combined; of more, each is looked at alone, and all of them together.
const mostTags = 5

// subsets returns the sets that can be made of words, without the empty one.
func subsets(words []string) (sets [][]string) {
	if len(words) > mostTags {
		for _, w := range words {
			sets = append(sets, []string{w})
		}
		return append(sets, words)
	}
	for n := 1; n < 1<<len(words); n++ {
		var set []string
		for i, w := range words {
			if n&(1<<i) != 0 {
				set = append(set, w)
			}
		}
		sets = append(sets, set)
	}
	return sets
}

// on says something of the device of an attempt, which has one.
func on(say func(d *attempt.Device)) func(a *attempt.Attempt) {
	return func(a *attempt.Attempt) {
		d, _ := a.Device.Get()
		say(&d)
		a.Device = attempt.Known(d)
	}
}

// report has the device report what passes a posture, but for one check, by its number.
func report(a *attempt.Attempt, p *directory.Posture, fails int) {
	on(func(d *attempt.Device) {
		reported := map[string]attempt.Scalar{}
		for name, value := range d.Facts {
			reported[name] = value
		}
		platform, _ := d.Platform.Get()
		for i := range p.Checks {
			reported[p.Checks[i].Fact] = passing(&p.Checks[i], platform, i != fails)
		}
		d.Facts, d.ReportedAt = reported, attempt.Known(a.At)
	})(a)
}

// passing returns a value that passes a check, or that does not.
func passing(c *directory.Check, platform string, passes bool) attempt.Scalar {
	if !passes {
		switch {
		case c.Is != nil && c.Is.Kind() == attempt.Bool:
			return attempt.BoolScalar(!c.Is.Reads("true"))
		case c.AtMost != nil:
			return attempt.NumberScalar(*c.AtMost + 1)
		case c.AtLeast != nil:
			return attempt.NumberScalar(0)
		}
		return attempt.TextScalar("something else")
	}
	switch {
	case c.Is != nil:
		return *c.Is
	case c.AtMost != nil:
		return attempt.NumberScalar(*c.AtMost)
	case len(c.In) > 0:
		return c.In[0]
	case c.AtLeast != nil && c.AtLeast.All != "":
		return attempt.TextScalar(c.AtLeast.All)
	case c.AtLeast != nil:
		return attempt.TextScalar(c.AtLeast.ByPlatform[platform])
	}
	return attempt.Scalar{}
}

// riskSettings are ways to bring about a score: signals that are told, what went before, and what failed.
func (s *Space) riskSettings() []setting {
	var told []string
	var dormant, within []time.Duration
	var failures []int
	var speeds []float64
	detected := map[risk.Detector]bool{}
	signals := s.signals()
	for i := range signals {
		x := &signals[i]
		detected[x.Detect] = true
		switch {
		case x.When != nil:
		case x.Detect == risk.NoDetector:
			told = append(told, x.Name)
		case x.Detect == risk.Dormant:
			dormant = append(dormant, time.Duration(x.After))
		case x.Detect == risk.FailedBurst:
			failures, within = append(failures, x.Failures), append(within, time.Duration(x.Within))
		case x.Detect == risk.Travel:
			speeds = append(speeds, x.FasterThan)
		}
	}
	told, dormant, failures, within, speeds = sortedSet(told), sortedSet(dormant), sortedSet(failures), sortedSet(within), sortedSet(speeds)
	settings := []setting{{"nothing odd", func(a *attempt.Attempt) {
		a.Previous, a.Failures = attempt.None[attempt.Previous](), attempt.Known([]time.Time{})
	}}}
	combine := func(ways []setting) { settings = combined(settings, ways) }
	if len(told) > 0 {
		var ways []setting
		for _, set := range subsets(told) {
			ways = append(ways, setting{strings.Join(set, " "), func(a *attempt.Attempt) { a.Signals = set }})
		}
		combine(ways)
	}
	if detected[risk.FailedBurst] {
		ways := []setting{{"failures unknown", func(a *attempt.Attempt) { a.Failures = attempt.Fact[[]time.Time]{} }}}
		for _, n := range failures {
			for _, ago := range within {
				ways = append(ways, setting{fmt.Sprint(n, " failures ", ago), func(a *attempt.Attempt) {
					a.Failures = attempt.Known(slices.Repeat([]time.Time{a.At.Add(-ago)}, n))
				}})
			}
		}
		combine(ways)
	}
	if detected[risk.NewDevice] {
		combine([]setting{{"a device seen before", on(func(d *attempt.Device) { d.Known = attempt.Known(true) })},
			{"a device not seen before", on(func(d *attempt.Device) { d.Known = attempt.Known(false) })}})
	}
	if detected[risk.ProofRefused] {
		combine([]setting{{"a proof refused", func(a *attempt.Attempt) {
			a.Failed = []attempt.Failure{{Method: s.sides[0].directory.Methods()[0].Name, Reason: attempt.Refused}}
		}}})
	}
	if detected[risk.Travel] || detected[risk.CountryChange] || detected[risk.Dormant] {
		combine(s.previous(dormant, speeds))
	}
	return settings
}

// sortedSet returns what is in a list, each once.
func sortedSet[T cmp.Ordered](list []T) []T {
	slices.Sort(list)
	return slices.Compact(list)
}

// previous are sign-ins before: just now or as long ago as an account is dormant after, from the same country and
// place, from others, or from nobody knows where.
func (s *Space) previous(dormant []time.Duration, speeds []float64) (ways []setting) {
	ways = append(ways, setting{"nothing known of before", func(a *attempt.Attempt) { a.Previous = attempt.Fact[attempt.Previous]{} }})
	here, far := attempt.Location{}, attempt.Location{Lat: 0, Lon: 180}
	const halfway = 20_015 // km, half around the earth
	times := []time.Duration{0, time.Minute, 30 * 24 * time.Hour}
	for i := 1; i < len(speeds); i++ { // faster than one version of a signal allows, and not than the other
		times = append(times, time.Duration(halfway/((speeds[i-1]+speeds[i])/2)*float64(time.Hour)))
	}
	for _, ago := range sortedSet(append(times, dormant...)) {
		for _, country := range []string{"same", "other", ""} {
			for _, where := range []string{"same", "far", ""} {
				if ago == 0 && where != "" {
					continue // how fast is not known of no time
				}
				ways = append(ways, setting{fmt.Sprint("before ", ago, country, where), func(a *attempt.Attempt) {
					p := attempt.Previous{}
					if ago > 0 {
						p.At = a.At.Add(-ago)
					}
					now := s.sides[0].judge.Whereabouts(context.Background(), a).Country
					switch country {
					case "same":
						if now != "" {
							p.Country = attempt.Known(now)
						}
					case "other":
						p.Country = attempt.Known(anotherThan(now))
					}
					if where != "" {
						a.Location = attempt.Known(here)
						p.Location = attempt.Known(here)
					}
					if where == "far" {
						p.Location = attempt.Known(far)
					}
					a.Previous = attempt.Known(p)
				}})
			}
		}
	}
	return ways
}

func anotherThan(c attempt.CountryCode) attempt.CountryCode {
	if c == "NO" {
		return "SE"
	}
	return "NO"
}

// proofSettings are what may have been proven before: nothing, and what meets each set of the assurances that
// tests ask about, while others surely are not met.
func (s *Space) proofSettings(tests []test) []setting {
	var names []string
	for _, t := range tests {
		if t.Key == engine.KeyProved {
			names = append(names, t.Values...)
		}
	}
	names = sortedSet(names)
	settings := []setting{{"nothing proven", func(*attempt.Attempt) {}}}
	for _, set := range append([][]string{nil}, subsets(names)...) {
		for _, one := range s.sides {
			var refusable []string
			for _, name := range names {
				if !slices.Contains(set, name) && one.canRefuse(name) {
					refusable = append(refusable, name)
				}
			}
			for _, refused := range append([][]string{nil}, subsets(refusable)...) {
				for choice := range 3 {
					name := fmt.Sprint("proven ", strings.Join(set, " "), ", not ", strings.Join(refused, " "))
					settings = append(settings, setting{name, func(a *attempt.Attempt) {
						one.prove(a, set, choice)
						one.refuse(a, refused)
					}})
				}
			}
		}
	}
	return settings
}

// canRefuse reports whether an attempt can show that an assurance is not met, where what it leaves out leaves that open.
func (b *side) canRefuse(assurance string) bool {
	x := b.judge.FindAssurance(assurance)
	return x != nil && (x.Posture != "" || x.Consent)
}

// refuse has an attempt show that assurances are not met.
func (b *side) refuse(a *attempt.Attempt, assurances []string) {
	for _, name := range assurances {
		x := b.judge.FindAssurance(name)
		if n, ok := b.directory.FindPosture(x.Posture); ok {
			b.reportOn(a, n, 0)
		}
		if x.Consent {
			a.Client = attempt.Known(attempt.ClientAsk{ID: "a-program", Scopes: []string{"anything"}})
		}
	}
}

// reportOn has the device of an attempt, which has an identity then, report what passes a posture, but for one check.
func (b *side) reportOn(a *attempt.Attempt, posture, fails int) {
	on(func(d *attempt.Device) {
		if id, known := d.ID.Get(); !known || id == "" {
			d.ID = attempt.Known("a-device")
		}
	})(a)
	report(a, &b.directory.Postures[posture], fails)
}

// prove has an attempt show all that assurances ask for, as far as an attempt can: methods by the one of that
// number of those that would do.
func (b *side) prove(a *attempt.Attempt, assurances []string, choice int) {
	for _, name := range assurances {
		assurance := b.judge.FindAssurance(name)
		if assurance == nil {
			continue
		}
		for _, p := range assurance.Prove {
			preferred, fallback := b.asking.Methods(p.AnyOf, p.Traits, p.Fallback)
			methods := b.asking.MethodNames(preferred)
			if len(methods) == 0 {
				methods = b.asking.MethodNames(fallback)
			}
			if len(methods) > 0 {
				a.Proofs = append(a.Proofs, attempt.Proof{Method: methods[choice%len(methods)]})
			}
		}
		if n, ok := b.directory.FindPosture(assurance.Posture); ok {
			b.reportOn(a, n, -1)
		}
		if doc := assurance.Accept; doc != nil {
			a.Accepted = append(a.Accepted, attempt.Acceptance{Document: doc.Document, Version: doc.Version, At: a.At})
		}
		if assurance.External != "" {
			if a.External == nil {
				a.External = map[string]attempt.CheckResult{}
			}
			a.External[assurance.External] = attempt.CheckPassed
		}
		if assurance.Consent {
			a.Client = attempt.None[attempt.ClientAsk]()
		}
		if assurance.ChangePassword {
			// The password was changed in this session, where it was changed at all.
			if p, ok := b.directory.Find(a.Account); ok && p.Account().PasswordChangedAt != nil {
				a.Session.Started = p.Account().PasswordChangedAt.Add(-time.Minute)
			}
		}
	}
}
