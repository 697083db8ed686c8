package engine_test

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// naive is a second evaluator. It follows section 4 of the design step by step on
// the rulebook as it was read: no compilation, no numbers, no index, nothing
// remembered from one question to the next.
type naive struct {
	book   *decide.Rulebook
	a      *attempt.Attempt
	moment time.Time // for windows and dates
	owner  string    // of the condition that is asked, for its share
	// supplied is what a program supplies of the account, nil where it supplies nothing.
	supplied *directory.Account
}

// of asks the conditions of an owner.
func (n naive) of(owner string) naive {
	n.owner = owner
	return n
}

const (
	no    = condition.False
	maybe = condition.Unknown
	yes   = condition.True
)

func named[T any](items []T, name func(T) string, wanted string) *T {
	for i := range items {
		if name(items[i]) == wanted {
			return &items[i]
		}
	}
	return nil
}

func (n naive) account() *directory.Account {
	listed := named(n.book.Directory.Accounts, func(a directory.Account) string { return a.Name }, n.a.Account)
	if n.supplied == nil {
		return listed
	}
	joined := *n.supplied
	if listed != nil {
		joined.CompleteFrom(listed)
	}
	return &joined
}

func (n naive) appNamed(text string) *directory.App {
	for i := range n.book.Directory.Apps {
		if app := &n.book.Directory.Apps[i]; app.Name == text || slices.Contains(app.KnownAs, text) {
			return app
		}
	}
	host, path, _ := strings.Cut(strings.ToLower(text), "/")
	host, _, _ = strings.Cut(host, ":")
	host = strings.TrimSuffix(host, ".")
	// The host itself is more specific than what is below one, a longer one than a shorter;
	// then a whole path, a longer stretch of paths and a shorter one.
	var best *directory.App
	bestRank := ""
	for i := range n.book.Directory.Apps {
		for _, pattern := range n.book.Directory.Apps[i].Hosts {
			of, under, hasPath := strings.Cut(pattern, "/")
			below, isBelow := strings.CutPrefix(of, "*.")
			stretch, isStretch := strings.CutSuffix(under, "/*")
			fits := host == of || isBelow && strings.HasSuffix(host, "."+below)
			rank := fmt.Sprint(!isBelow, fmt.Sprintf("%04d", len(below)))
			switch {
			case !hasPath:
				rank += " 0"
			case isStretch:
				fits = fits && (path == stretch || strings.HasPrefix(path, stretch+"/"))
				rank += fmt.Sprintf(" 1 %04d", len(stretch))
			default:
				fits = fits && path == under
				rank += " 2"
			}
			if fits && rank > bestRank {
				best, bestRank = &n.book.Directory.Apps[i], rank
			}
		}
	}
	return best
}

func (n naive) catalogue() []directory.Method { return directory.Catalogue(n.book.Directory.Methods) }

func (n naive) method(name string) *directory.Method {
	return named(n.catalogue(), func(m directory.Method) string { return m.Name }, name)
}

// barred is whether a method counts for nothing with the account: what is not
// known may bar it.
func (n naive) barred(method string) condition.Truth {
	m := n.method(method)
	if m == nil || m.BarredFor == nil {
		return no
	}
	return n.of("method " + method).holds(m.BarredFor)
}

// enrolled is whether the account has a method: listed and not barred.
func (n naive) enrolled(method string) condition.Truth {
	return min(n.lists(method), n.barred(method).Not())
}

// lists is whether the account lists a method: unknown where nobody stated its methods but the book is
// not alone in stating it.
func (n naive) lists(method string) condition.Truth {
	if !n.statesMethods() && n.method(method) != nil && method != directory.DeskPass {
		return maybe
	}
	return condition.Of(slices.Contains(n.account().Methods, method))
}

func (n naive) statesMethods() bool { return n.supplied == nil || n.account().Methods != nil }

// hasOne is whether the account has one of some methods.
func (n naive) hasOne(methods []string) condition.Truth {
	has := no
	for _, m := range methods {
		has = max(has, n.enrolled(m))
	}
	return has
}

// later reports whether something is dated so late that it did not happen.
func (n naive) later(dated time.Time) bool { return dated.After(n.a.At.Add(time.Minute)) }

// joined returns the beginning of the day of joining, where it is known and past.
func (n naive) joined() (time.Time, bool) {
	day := n.account().Joined
	if day == nil || n.later(day.Start(n.book.Directory.Zone)) {
		return time.Time{}, false
	}
	return day.Start(n.book.Directory.Zone), true
}

// member reports whether the account is in a group.
func (n naive) member(group string) condition.Truth {
	g := named(n.book.Directory.Groups, func(g directory.Group) string { return g.Name }, group)
	in := condition.Of(slices.Contains(n.account().Groups, group) || slices.Contains(g.Members, n.a.Account))
	if g.Where != nil {
		in = max(in, n.of("group "+group).holds(g.Where))
	}
	for _, included := range g.Includes {
		in = max(in, n.member(included))
	}
	return in
}

// country returns the codes that the attempt may come from; nil is any.
func (n naive) country() []attempt.CountryCode {
	ip, has := n.a.IP.Get()
	stated, isStated := n.a.Country.Get()
	isStated = isStated && slices.Contains(assignedHere, stated)
	if has {
		code, torn := n.networkCountry(ip.Unmap())
		switch {
		case torn:
			return nil
		case code != "":
			return []attempt.CountryCode{code}
		}
	}
	switch {
	case isStated && !has:
		codes := []attempt.CountryCode{stated}
		for _, network := range n.book.Directory.Networks {
			if network.Country != "" {
				codes = append(codes, attempt.CountryCode(network.Country))
			}
		}
		return codes
	case isStated:
		return []attempt.CountryCode{stated}
	}
	return nil
}

// assignedHere are those of the codes that made-up attempts state which ISO 3166-1
// assigns.
var assignedHere = []attempt.CountryCode{"NO", "SE", "BR", "PL"}

// networkCountry is the country that the narrowest ranges state; torn says that they state several.
func (n naive) networkCountry(ip netip.Addr) (code attempt.CountryCode, torn bool) {
	type statement struct {
		size    int
		country attempt.CountryCode
	}
	var all []statement
	for _, network := range n.book.Directory.Networks {
		for _, r := range network.Ranges {
			if r.Contains(ip) && network.Country != "" {
				// The ranges in use here are told apart by the bits that their ends share.
				size := 0
				for from, to := r.From.AsSlice(), r.To.AsSlice(); size < len(from)*8 && from[size/8]>>(7-size%8)&1 == to[size/8]>>(7-size%8)&1; {
					size++
				}
				all = append(all, statement{-size, attempt.CountryCode(network.Country)})
			}
		}
	}
	slices.SortFunc(all, func(a, b statement) int { return cmp.Or(a.size-b.size, cmp.Compare(a.country, b.country)) })
	switch {
	case len(all) == 0:
		return "", false
	case slices.ContainsFunc(all, func(s statement) bool { return s.size == all[0].size && s.country != all[0].country }):
		return "", true
	}
	return all[0].country, false
}

// among is a test over what a fact may be: sure where all of it answers alike.
func among[T comparable](may []T, known bool, wanted func(T) bool) condition.Truth {
	if !known {
		return maybe
	}
	held, failed := false, len(may) == 0
	for _, m := range may {
		held, failed = held || wanted(m), failed || !wanted(m)
	}
	switch {
	case held && failed:
		return maybe
	case held:
		return yes
	}
	return no
}

func (n naive) inNetworks(wanted func(directory.Network) bool) condition.Truth {
	ip, has := n.a.IP.Get()
	if !has {
		return maybe
	}
	for _, network := range n.book.Directory.Networks {
		for _, r := range network.Ranges {
			if has && r.Contains(ip) && wanted(network) {
				return yes
			}
		}
	}
	return no
}

func (n naive) during(name string) bool {
	w := named(n.book.Directory.Windows, func(w directory.Window) string { return w.Name }, name)
	local := n.moment.In(n.book.Directory.Zone)
	clock := directory.Clock(local.Hour()*60 + local.Minute())
	from, to := directory.Clock(0), directory.Clock(24*60)
	if w.From != nil {
		from = *w.From
	}
	if w.To != nil {
		to = *w.To
	}
	starts := func(day time.Time) bool {
		onDay := len(w.Days) == 0 || slices.Contains(w.Days, directory.Weekday(day.Weekday()))
		onDate := len(w.Dates) == 0
		for _, r := range w.Dates {
			onDate = onDate || r.Contains(directory.DateOf(day))
		}
		return onDay && onDate
	}
	yesterday := time.Date(local.Year(), local.Month(), local.Day()-1, 12, 0, 0, 0, time.UTC)
	if from < to {
		return starts(local) && from <= clock && clock < to
	}
	return starts(local) && from <= clock || starts(yesterday) && clock < to
}

// device returns what is said of the device, and the directory's entry.
func (n naive) device() (said attempt.Device, entry *directory.Device) {
	said, _ = n.a.Device.Get()
	if id, ok := said.ID.Get(); ok {
		entry = named(n.book.Directory.Devices, func(d directory.Device) string { return d.Name }, id)
	}
	return said, entry
}

func (n naive) deviceIs(what string) condition.Truth {
	said, entry := n.device()
	flag := func(fact attempt.Fact[bool], registered func() bool) condition.Truth {
		value, known := fact.Get()
		switch {
		case known:
			return condition.Of(value)
		case entry != nil:
			return condition.Of(registered())
		}
		return maybe
	}
	switch what {
	case "known":
		return flag(said.Known, func() bool { return true })
	case "managed":
		return flag(said.Managed, func() bool { return entry.Managed })
	case "shared":
		return flag(said.Shared, func() bool { return entry.Shared })
	}
	owns := attempt.Fact[bool]{}
	if owner, ok := said.Owner.Get(); ok {
		owns = attempt.Known(owner == n.a.Account)
	}
	return flag(owns, func() bool { return entry.Owner == n.a.Account })
}

func (n naive) platform() (string, bool) {
	said, entry := n.device()
	if name, known := said.Platform.Get(); known {
		return name, true
	}
	if entry != nil && entry.Platform != "" {
		return entry.Platform, true
	}
	return "", false
}

// reported returns what the device reported under a name, and how fresh that is:
// false where there is nothing young enough.
func (n naive) reported(name string, fresh directory.Span) (attempt.Scalar, bool) {
	said, entry := n.device()
	value, given := said.Facts[name]
	given = given && value.Kind() != attempt.Nothing
	at, dated := said.ReportedAt.Get()
	if !given || dated && n.later(at) {
		given = false
		if entry != nil {
			value, given = entry.Facts[name]
			given = given && value.Kind() != attempt.Nothing
			at, dated = time.Time{}, entry.ReportedAt != nil
			if dated {
				at = *entry.ReportedAt
			}
		}
	}
	if !given || dated && n.later(at) || fresh > 0 && (!dated || at.Add(time.Duration(fresh)).Before(n.a.At)) {
		return attempt.Scalar{}, false
	}
	return value, true
}

// posture returns fit, unfit, unreported or unidentified.
func (n naive) posture(name string) string {
	p := named(n.book.Directory.Postures, func(p directory.Posture) string { return p.Name }, name)
	said, _ := n.device()
	if id, ok := said.ID.Get(); !ok || id == "" {
		return "unidentified"
	}
	all := yes
	for _, c := range p.Checks {
		passes := maybe
		if value, given := n.reported(c.Fact, p.Fresh); given {
			passes = n.passes(c, value)
		}
		if platform, known := n.platform(); known && c.AtLeast != nil && c.AtLeast.ByPlatform != nil &&
			c.AtLeast.ByPlatform[platform] == "" {
			passes = no
		}
		all = min(all, passes)
	}
	return map[condition.Truth]string{no: "unfit", maybe: "unreported", yes: "fit"}[all]
}

func (n naive) passes(c directory.Check, value attempt.Scalar) condition.Truth {
	switch {
	case c.Is != nil:
		return condition.Of(value == *c.Is)
	case c.In != nil:
		return condition.Of(slices.Contains(c.In, value))
	case c.AtMost != nil:
		number, ok := value.Float()
		return condition.Of(ok && number <= *c.AtMost)
	}
	least := c.AtLeast.All
	if c.AtLeast.ByPlatform != nil {
		platform, known := n.platform()
		if !known {
			return maybe
		}
		if least = c.AtLeast.ByPlatform[platform]; least == "" {
			return no
		}
	}
	parts := func(text string) (numbers [4]int, ok bool) {
		for i, part := range strings.Split(text, ".") {
			if _, err := fmt.Sscanf(part, "%d", &numbers[i]); err != nil {
				return numbers, false
			}
		}
		return numbers, true
	}
	have, ok := parts(value.String())
	want, _ := parts(least)
	return condition.Of(ok && slices.Compare(have[:], want[:]) >= 0)
}

// holds evaluates a condition on the names that it was read with.
func (n naive) holds(node condition.Node) condition.Truth {
	switch c := node.(type) {
	case *condition.All:
		all := yes
		for _, kid := range c.Of {
			all = min(all, n.holds(kid))
		}
		return all
	case *condition.Any:
		any := no
		for _, kid := range c.Of {
			any = max(any, n.holds(kid))
		}
		return any
	case *condition.Not:
		return yes - n.holds(c.Of)
	case *condition.Test:
		any := no
		for _, value := range c.Values {
			any = max(any, n.tested(c, value))
		}
		return any
	}
	return yes
}

func (n naive) tested(t *condition.Test, value string) condition.Truth {
	account, app := n.account(), n.appNamed(n.a.App)
	switch t.Key {
	case engine.KeyAnyone:
		return yes
	case engine.KeyAccounts:
		return condition.Of(account.Name == value)
	case engine.KeyGroups:
		return n.member(value)
	case engine.KeyDomains:
		return condition.Of(strings.HasSuffix(strings.ToLower(account.Name), "@"+strings.ToLower(value)))
	case engine.KeyKinds:
		return condition.Of(account.Kind.String() == value)
	case engine.KeyAttributes:
		has, given := account.Attributes[t.Attribute]
		if !given {
			return maybe
		}
		return condition.Of(has.Kind() != attempt.Nothing && has.String() == value)
	case engine.KeyEnrolled:
		if strings.HasPrefix(n.owner, "group ") { // membership looks at what is listed alone
			return n.lists(value)
		}
		return n.enrolled(value)
	case engine.KeyJoinedWithin:
		joined, known := n.joined()
		if !known {
			return maybe
		}
		return condition.Of(n.moment.Before(joined.Add(span(value))))
	case engine.KeyAccountRiskAtLeast:
		return condition.Of(n.accountRisk() >= level(value))
	case engine.KeyShare:
		var percent uint64
		_, _ = fmt.Sscan(value, &percent)
		return condition.Of(share(account.Name, n.owner, n.book.Directory.ShareKey) < percent*100)
	case engine.KeyEvery:
		return yes
	case engine.KeyNames:
		return condition.Of(app.Name == value)
	case engine.KeyTags:
		return condition.Of(slices.Contains(app.Tags, value))
	case engine.KeyNetworks:
		if r, err := directory.ParseRange(value); err == nil {
			ip, has := n.a.IP.Get()
			return among([]netip.Addr{ip}, has, func(ip netip.Addr) bool { return has && r.Contains(ip) })
		}
		return n.inNetworks(func(network directory.Network) bool { return network.Name == value })
	case engine.KeyOurNetwork:
		ours := n.inNetworks(func(network directory.Network) bool { return network.Ours })
		if value == "false" {
			ours = ours.Not()
		}
		return ours
	case engine.KeyAddressKinds:
		ip, has := n.a.IP.Get()
		return among([]netip.Addr{ip.Unmap()}, has, func(ip netip.Addr) bool { return ip.Is4() == (value == "ipv4") })
	case engine.KeyCountries:
		return n.fromOneOf(t)
	case engine.KeyDuring:
		return condition.Of(n.during(value))
	case engine.KeyThrough:
		through, has := n.a.Through.Get()
		return among([]attempt.Through{through}, has, func(through attempt.Through) bool { return through.String() == value })
	case engine.KeyActions:
		return condition.Of(n.a.Action.String() == value)
	case engine.KeyPlatforms:
		name, known := n.platform()
		if !known {
			return maybe
		}
		return condition.Of(name == value)
	case engine.KeyDevice:
		return n.deviceIs(value)
	case engine.KeyDeviceTags:
		said, entry := n.device()
		switch {
		case said.Tags != nil:
			return condition.Of(slices.Contains(said.Tags, value))
		case entry != nil:
			return condition.Of(slices.Contains(entry.Tags, value))
		}
		return maybe
	case engine.KeyPosture:
		switch n.posture(value) {
		case "fit":
			return yes
		case "unfit":
			return no
		}
		return maybe
	case engine.KeySignals:
		return n.signal(*named(n.book.Risk.Signals, func(s risk.Signal) string { return s.Name }, value))
	case engine.KeyRiskAtLeast:
		return n.scored(n.levels().From(level(value)))
	case engine.KeyScoreAtLeast:
		var bar int
		_, _ = fmt.Sscan(value, &bar)
		return n.scored(bar)
	case engine.KeyProved:
		return n.proved(value)
	}
	panic("naive: no such key: " + t.Key.String())
}

func (n naive) accountRisk() directory.Level {
	a := n.account()
	switch {
	case a.AccountRisk == nil:
		return directory.NoRisk
	case a.AccountRisk.Because == "leaked-password" && a.AccountRisk.Since != nil && a.PasswordChangedAt != nil && a.PasswordChangedAt.After(
		*a.AccountRisk.Since) && !n.later(*a.PasswordChangedAt):
		return directory.NoRisk
	case a.AccountRisk.Level == directory.NoRisk: // which nobody stated
		return directory.HighRisk
	}
	return a.AccountRisk.Level
}

// fromOneOf tests the countries of one key together, for they are alternatives of
// one fact.
func (n naive) fromOneOf(t *condition.Test) condition.Truth {
	may := n.country()
	return among(may, may != nil, func(code attempt.CountryCode) bool {
		for _, value := range t.Values {
			region := named(n.book.Directory.Regions, func(r directory.Region) string { return r.Name }, value)
			if value == string(code) || region != nil && slices.Contains(region.Countries, directory.Country(code)) {
				return true
			}
		}
		return false
	})
}

func span(text string) time.Duration {
	var s directory.Span
	if err := s.UnmarshalText([]byte(text)); err != nil {
		panic(err)
	}
	return time.Duration(s)
}

func level(text string) directory.Level {
	return directory.Level(slices.Index([]string{"none", "low", "medium", "high"}, text))
}

func (n naive) levels() risk.Levels {
	if n.book.Risk.Levels == (risk.Levels{}) {
		return risk.DefaultLevels
	}
	return n.book.Risk.Levels
}

func (n naive) score() (low, high int) {
	for _, s := range n.book.Risk.Signals {
		switch n.signal(s) {
		case yes:
			low, high = low+s.Points, high+s.Points
		case maybe:
			high += s.Points
		}
	}
	return min(low, 100), min(high, 100)
}

func (n naive) scored(bar int) condition.Truth {
	low, high := n.score()
	switch {
	case low >= bar:
		return yes
	case high < bar:
		return no
	}
	return maybe
}

func (n naive) signal(s risk.Signal) condition.Truth {
	if s.When != nil {
		return n.of("risk").holds(s.When)
	}
	previous, hasPrevious := n.a.Previous.Get()
	ofPrevious := func(answer func() condition.Truth) condition.Truth {
		switch {
		case hasPrevious:
			return answer()
		case n.a.Previous.IsUnknown():
			return maybe
		}
		return no
	}
	switch s.Detect {
	case risk.Travel:
		return ofPrevious(func() condition.Truth {
			from, hasFrom := previous.Location.Get()
			to, hasTo := n.a.Location.Get()
			if !hasFrom || !hasTo || previous.At.IsZero() || previous.At.After(n.a.At) {
				return maybe
			}
			km, hours := engine.Distance(from, to), n.a.At.Sub(previous.At).Hours()
			return condition.Of(km > 0 && (hours <= 0 || km/hours > s.FasterThan))
		})
	case risk.CountryChange:
		return ofPrevious(func() condition.Truth {
			was, known := previous.Country.Get()
			if !known || !slices.Contains(assignedHere, was) {
				return maybe
			}
			may := n.country()
			return among(may, may != nil, func(code attempt.CountryCode) bool { return code != was })
		})
	case risk.NewDevice:
		return n.deviceIs("known").Not()
	case risk.AnonymousNetwork:
		return n.inNetworks(func(network directory.Network) bool { return network.Anonymous })
	case risk.FailedBurst:
		times, known := n.a.Failures.Get()
		if !known {
			return unknownIf(n.a.Failures.IsUnknown())
		}
		count := 0
		for _, t := range times {
			if !t.After(n.a.At) && !t.Add(time.Duration(s.Within)).Before(n.a.At) {
				count++
			}
		}
		return condition.Of(count >= s.Failures)
	case risk.Dormant:
		return ofPrevious(func() condition.Truth {
			if previous.At.IsZero() {
				return maybe
			}
			return condition.Of(!previous.At.Add(time.Duration(s.After)).After(n.a.At))
		})
	case risk.ProofRefused:
		return condition.Of(slices.ContainsFunc(n.a.Failed, func(f attempt.Failure) bool { return f.Reason == attempt.Refused }))
	}
	return condition.Of(slices.Contains(n.a.Signals, s.Name))
}

func unknownIf(unknown bool) condition.Truth {
	if unknown {
		return maybe
	}
	return no
}

// share places an account in one of 10,000 parts, as the documentation of the
// key has it.
func share(account, owner, key string) uint64 {
	sum := func(text string) uint64 {
		hashed := sha256.Sum256([]byte(key))
		all := sha256.Sum256(append(hashed[:], text...))
		return binary.BigEndian.Uint64(all[:8])
	}
	z := sum(account) ^ sum(owner)*0x9e3779b97f4a7c15
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return (z ^ z>>31) % 10_000
}
