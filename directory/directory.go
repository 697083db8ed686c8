// Package directory holds the facts about an organisation as values: accounts,
// groups, apps, methods, networks, regions and windows; and finds them fast.
package directory

import (
	"fmt"
	"hash/fnv"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// LongestName is how many bytes the name of anything may have.
const LongestName = 200

// Kind is what an account is for.
type Kind uint8

// The kinds. An emergency account is the one that must get in when all else
// fails.
const (
	Person Kind = iota
	Service
	Emergency
)

var kinds = []string{"person", "service", "emergency"}

// Kinds returns the words for the kinds.
func Kinds() []string { return slices.Clone(kinds) }

// String returns the kind as a book writes it.
func (k Kind) String() string { return kinds[k] }

// UnmarshalText reads a kind.
func (k *Kind) UnmarshalText(text []byte) error {
	return parseWord(k, "a kind of account", string(text), kinds)
}

// ParseWord finds text among the words of a closed list and stores its number,
// counted from first. The error suggests the nearest word.
func ParseWord[T ~uint8 | ~int](into *T, what, text string, words []string, first T) error {
	i := slices.Index(words, text)
	if i < 0 {
		return fmt.Errorf("%q is not %s%s", text, what, nearest.DidYouMean(text, words))
	}
	*into = T(i) + first
	return nil
}

func parseWord[T ~uint8 | ~int](into *T, what, text string, words []string) error {
	return ParseWord(into, what, text, words, 0)
}

// Level is how much risk there is.
type Level uint8

// The levels.
const (
	NoRisk Level = iota
	LowRisk
	MediumRisk
	HighRisk
)

var levels = []string{"none", "low", "medium", "high"}

// Levels returns the words for the levels, from none on.
func Levels() []string { return slices.Clone(levels) }

// String returns none, low, medium or high.
func (l Level) String() string { return levels[l] }

// MarshalText writes String.
func (l Level) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads none, low, medium or high.
func (l *Level) UnmarshalText(text []byte) error {
	return parseWord(l, "a level of risk", string(text), levels)
}

// ParseLevel reads a level that a condition can ask for: low, medium or high.
func ParseLevel(text string) (level Level, err error) {
	err = ParseWord(&level, "a level of risk to ask for", text, levels[1:], LowRisk)
	return level, err
}

// Account is one who signs on.
type Account struct {
	Name       string                    `book:"name,required" doc:"how the account is named in attempts, often a mail address"`
	Kind       Kind                      `book:"kind" doc:"person (the default), service or emergency"`
	Disabled   bool                      `book:"disabled" doc:"true where the account may not sign on at all"`
	Groups     []string                  `book:"groups" ref:"group" doc:"groups that it is a member of"`
	Methods    []string                  `book:"methods" ref:"method" doc:"methods that it has enrolled"`
	Attributes map[string]attempt.Scalar `book:"attributes" doc:"what else is known of it, by name; what is missing is unknown, null says that there is none"`
	Joined     *Date                     `book:"joined" doc:"day on which the person joined"`
	// AskedAt is when a rollout first asked the person to enrol.
	AskedAt     *time.Time   `book:"asked_at" doc:"when a rollout first asked the person to enrol"`
	AccountRisk *AccountRisk `book:"account_risk" doc:"the standing risk of the account, until it is put right"`
	// PasswordChangedAt is when the password was last changed, as far as known.
	PasswordChangedAt *time.Time `book:"password_changed_at" doc:"when the password was last changed"`
}

// LeakedPassword is the reason of an account risk that a changed password puts
// right; any other stays until a reviewer takes it out.
const LeakedPassword = "leaked-password"

// AccountRisk is a standing risk of an account.
type AccountRisk struct {
	Level   Level      `book:"level,required" doc:"low, medium or high"`
	Because string     `book:"because" doc:"the reason; leaked-password is put right by a changed password"`
	Since   *time.Time `book:"since" doc:"when it arose"`
}

// Risk returns the level of the account's standing risk, none where a changed
// password has put it right.
func (a *Account) Risk() Level {
	if a.AccountRisk == nil || a.AccountRisk.Because == LeakedPassword && a.ChangedSinceRisk() {
		return NoRisk
	}
	return a.AccountRisk.Level
}

// ChangedSinceRisk tells whether the password was changed after the account's
// risk arose.
func (a *Account) ChangedSinceRisk() bool {
	return a.AccountRisk != nil && a.AccountRisk.Since != nil && a.PasswordChangedAt != nil &&
		a.PasswordChangedAt.After(*a.AccountRisk.Since)
}

// Group is a named set of accounts.
type Group struct {
	Name     string   `book:"name,required" doc:"name of the group"`
	About    string   `book:"about" doc:"what the group is for"`
	Members  []string `book:"members" ref:"account" doc:"accounts in the group, besides those that name it themselves"`
	Owners   []string `book:"owners" ref:"account" doc:"accounts that may speak for the group"`
	Includes []string `book:"includes" ref:"group" doc:"groups whose members are members of this one too"`
	// Where adds the accounts that it holds for. It cannot ask for groups, and
	// methods that are barred for an account count as enrolled there, since
	// barring may hang on groups.
	Where condition.Node `book:"where" about:"account" doc:"a condition on accounts that are members too; not on groups or on the time"`
}

// App is what people sign on to.
type App struct {
	Name    string   `book:"name,required" doc:"how the app is named in attempts"`
	About   string   `book:"about" doc:"what the app is for"`
	Tags    []string `book:"tags" doc:"tags that policies can aim at"`
	OpenTo  []string `book:"open_to" ref:"group" doc:"groups that the app is given to at all; left out, to all"`
	Public  bool     `book:"public" doc:"true for an app that needs no proof"`
	KnownAs []string `book:"known_as" doc:"other identifiers: SAML entity ID, OAuth client ID, the name at a gateway"`
	Hosts   []string `book:"hosts" doc:"hosts and paths that it is reached by: host, *.host, host/path, host/path/*; the most specific wins"`
	Limits  Limits   `book:"limits" doc:"limits on each session on the app"`
	// Over has no effect on decisions; inspect looks for networks that forget one.
	Over []IPVersion `book:"over" doc:"the versions of IP that it is reached over: ipv4, ipv6; left out, both"`
}

// IPVersion is a version of the Internet Protocol.
type IPVersion uint8

// The versions.
const (
	IPv4 IPVersion = iota
	IPv6
)

var ipVersions = []string{"ipv4", "ipv6"}

// IPVersions returns the words for the versions.
func IPVersions() []string { return slices.Clone(ipVersions) }

// UnmarshalText reads ipv4 or ipv6.
func (v *IPVersion) UnmarshalText(text []byte) error {
	return parseWord(v, "a version of IP", string(text), ipVersions)
}

// Limits bound a session. Of several the strictest stands.
type Limits struct {
	// Lasts is how long a session may last, Idle how long it may rest; zero sets
	// no limit.
	Lasts Span `book:"lasts" doc:"how long a session may last, such as 4h"`
	Idle  Span `book:"idle" doc:"how long a session may rest, such as 15m"`
	// Shared false asks for proofs made for this very app.
	Shared *bool `book:"shared" doc:"false where only proofs made for this very app count"`
}

// Contents are the facts that an Directory is made from.
type Contents struct {
	// Zone is where windows and dates without a zone of their own are read;
	// nil is UTC.
	Zone     *time.Location
	Networks []Network
	Regions  []Region
	Windows  []Window
	Accounts []Account
	Groups   []Group
	Apps     []App
	Devices  []Device
	Postures []Posture
	// Methods are added to the built-in ones, or redefine them.
	Methods []Method
	// Literals are ranges that conditions name without defining a network.
	Literals []Range
}

// Directory answers questions about the facts. It does not change and is safe for
// concurrent use.
type Directory struct {
	Contents
	methods []Method

	accountNumber, groupNumber, appNumber, networkNumber, windowNumber map[string]int32
	regionNumber, methodNumber, deviceNumber, postureNumber            map[string]int32
	// Names that need no definition are numbered as they are met.
	domainNumber, tagNumber, attributeNumber map[string]int32

	accounts []accountFacts
	apps     []appFacts
	hosts    []hostPattern
	places   *placeTable
	windows  []compiledWindow
	// stated are the networks that state a country, for CountryMayHold.
	stated []attempt.CountryCode
}

// accountFacts are what conditions ask of an account, as numbers.
type accountFacts struct {
	// groups are those it surely is in, perhaps those whose `where` is unknown.
	groups, perhaps []int32
	// attributes are the numbers of its attributes and of each with its value.
	attributes []int32
	domain     int32
	// kind and disabled stand here too, next to what else a verdict looks at.
	kind     Kind
	disabled bool
	// methods are those enrolled and not barred; barred are those that count for
	// nothing.
	methods, barred MethodSet
	// hash spreads accounts over shares.
	hash uint64
}

type appFacts struct {
	tags   []int32
	openTo []int32
}

// New makes an Directory. The error names a reference to what is not defined, a
// name that is defined twice, or a circle of groups.
func New(c Contents) (*Directory, error) {
	if c.Zone == nil {
		c.Zone = time.UTC
	}
	e := &Directory{Contents: c, methods: Catalogue(c.Methods)}
	if len(e.methods) > MaxMethods {
		return nil, fmt.Errorf("%d methods are more than the %d there is room for", len(e.methods), MaxMethods)
	}
	var err error
	number := func(what string, n int, name func(int) string) map[string]int32 {
		numbers := make(map[string]int32, n)
		for i := range n {
			if _, twice := numbers[name(i)]; twice && err == nil {
				err = fmt.Errorf("%s %q is defined twice", what, name(i))
			}
			numbers[name(i)] = int32(i)
		}
		return numbers
	}
	e.accountNumber = number("account", len(c.Accounts), func(i int) string { return c.Accounts[i].Name })
	e.groupNumber = number("group", len(c.Groups), func(i int) string { return c.Groups[i].Name })
	e.appNumber = number("app", len(c.Apps), func(i int) string { return c.Apps[i].Name })
	e.networkNumber = number("network", len(c.Networks), func(i int) string { return c.Networks[i].Name })
	e.windowNumber = number("window", len(c.Windows), func(i int) string { return c.Windows[i].Name })
	e.regionNumber = number("region", len(c.Regions), func(i int) string { return c.Regions[i].Name })
	e.deviceNumber = number("device", len(c.Devices), func(i int) string { return c.Devices[i].Name })
	e.postureNumber = number("posture", len(c.Postures), func(i int) string { return c.Postures[i].Name })
	e.methodNumber = number("method", len(e.methods), func(i int) string { return e.methods[i].Name })
	if err != nil {
		return nil, err
	}
	if err := e.fillAccounts(); err != nil {
		return nil, err
	}
	if err := e.fillApps(); err != nil {
		return nil, err
	}
	// Literals are networks without a name; their numbers follow the named ones.
	all := slices.Clone(c.Networks)
	for _, r := range c.Literals {
		all = append(all, Network{Name: r.String(), Ranges: []Range{r}})
	}
	e.places = newPlaceTable(all)
	for i := range c.Networks {
		if code := attempt.CountryCode(c.Networks[i].Country); code != "" && !slices.Contains(e.stated, code) {
			e.stated = append(e.stated, code)
		}
	}
	for i := range c.Windows {
		e.windows = append(e.windows, c.Windows[i].compile(c.Zone))
	}
	return e, nil
}

// undefined is the error for a reference to what is not there.
func undefined(where, what, name string) error {
	return fmt.Errorf("%s: %s %q is not defined", where, what, name)
}

func (e *Directory) fillAccounts() error {
	above, err := e.groupsAbove()
	if err != nil {
		return err
	}
	e.accounts = make([]accountFacts, len(e.Accounts))
	e.domainNumber, e.attributeNumber = make(map[string]int32), make(map[string]int32)
	for i := range e.Accounts {
		a, facts := &e.Accounts[i], &e.accounts[i]
		facts.domain = intern(e.domainNumber, domainOf(a.Name))
		facts.hash, facts.kind, facts.disabled = hashText(a.Name), a.Kind, a.Disabled
		for _, name := range a.Groups {
			group, ok := e.groupNumber[name]
			if !ok {
				return undefined("account "+a.Name, "group", name)
			}
			facts.groups = append(facts.groups, above[group]...)
		}
		for _, name := range a.Methods {
			method, ok := e.methodNumber[name]
			if !ok {
				return undefined("account "+a.Name, "method", name)
			}
			facts.methods = facts.methods.Add(int(method))
		}
		for name, value := range a.Attributes {
			facts.attributes = append(facts.attributes, intern(e.attributeNumber, name))
			if value.Kind() != attempt.Nothing {
				facts.attributes = append(facts.attributes, intern(e.attributeNumber, attributeValue(name, value.String())))
			}
		}
		slices.Sort(facts.attributes)
	}
	for i := range e.Groups {
		for _, name := range e.Groups[i].Members {
			account, ok := e.accountNumber[name]
			if !ok {
				return undefined("group "+e.Groups[i].Name, "account", name)
			}
			e.accounts[account].groups = append(e.accounts[account].groups, above[i]...)
		}
	}
	if err := e.addWhere(above); err != nil {
		return err
	}
	for i := range e.accounts {
		e.accounts[i].groups = settle(e.accounts[i].groups)
		e.accounts[i].perhaps = settle(e.accounts[i].perhaps)
	}
	return e.barMethods()
}

// settle sorts numbers and takes out what stands twice.
func settle(numbers []int32) []int32 {
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

// addWhere adds the accounts that a group's `where` holds for.
func (e *Directory) addWhere(above [][]int32) error {
	for i := range e.Groups {
		if e.Groups[i].Where == nil {
			continue
		}
		if err := CheckWhere(e.Groups[i].Where); err != nil {
			return fmt.Errorf("group %s: %w", e.Groups[i].Name, err)
		}
		where, err := condition.Bind(e.Groups[i].Where, e.Vocabulary("group "+e.Groups[i].Name))
		if err != nil {
			return fmt.Errorf("group %s: where: %w", e.Groups[i].Name, err)
		}
		for account := range e.accounts {
			facts := &e.accounts[account]
			switch condition.Eval(where, AccountFacts{e, account, time.Time{}}) {
			case condition.True:
				facts.groups = append(facts.groups, above[i]...)
			case condition.Unknown:
				facts.perhaps = append(facts.perhaps, above[i]...)
			}
		}
	}
	return nil
}

// CheckWhere tells what a group's `where` asks for that it cannot.
func CheckWhere(where condition.Node) error {
	if key, ok := asksFor(where, condition.Groups, condition.JoinedWithin); ok {
		return fmt.Errorf("where cannot ask for %s: membership hangs neither on other groups nor on the time", key)
	}
	return nil
}

// asksFor finds a test on one of the keys in a condition.
func asksFor(node condition.Node, keys ...condition.Key) (key condition.Key, found bool) {
	condition.Walk(node, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && slices.Contains(keys, t.Key) {
			key, found = t.Key, true
		}
		return true
	})
	return key, found
}

// barMethods takes from each account the methods that count for nothing with
// it. Where that is not known they are barred, for what is not known never helps.
func (e *Directory) barMethods() error {
	for m := range e.methods {
		if e.methods[m].BarredFor == nil {
			continue
		}
		if err := CheckBarredFor(e.methods[m].BarredFor); err != nil {
			return fmt.Errorf("method %s: %w", e.methods[m].Name, err)
		}
		barred, err := condition.Bind(e.methods[m].BarredFor, e.Vocabulary("method "+e.methods[m].Name))
		if err != nil {
			return fmt.Errorf("method %s: barred_for: %w", e.methods[m].Name, err)
		}
		for account := range e.accounts {
			if condition.Eval(barred, AccountFacts{e, account, time.Time{}}) != condition.False {
				e.accounts[account].barred = e.accounts[account].barred.Add(m)
			}
		}
	}
	for i := range e.accounts {
		e.accounts[i].methods &^= e.accounts[i].barred
	}
	return nil
}

// CheckBarredFor tells what a method's `barred_for` asks for that it cannot.
func CheckBarredFor(barred condition.Node) error {
	if key, ok := asksFor(barred, condition.Enrolled, condition.JoinedWithin); ok {
		return fmt.Errorf("barred_for cannot ask for %s: it hangs neither on what is enrolled nor on the time", key)
	}
	return nil
}

// attributeValue is the name under which an attribute with a value is numbered.
func attributeValue(name, value string) string { return name + "\x00" + value }

// hashText is FNV-1a with 64 bits, which stays the same from release to release
// (G. Fowler, L. C. Noll, K.-P. Vo; RFC 9923).
func hashText(text string) uint64 {
	h := fnv.New64a()
	_, _ = io.WriteString(h, text)
	return h.Sum64()
}

// groupsAbove returns for each group the groups that its members are in: itself
// and those that include it, at any distance.
func (e *Directory) groupsAbove() ([][]int32, error) {
	includedBy := make([][]int32, len(e.Groups))
	for i := range e.Groups {
		for _, name := range e.Groups[i].Includes {
			j, ok := e.groupNumber[name]
			if !ok {
				return nil, undefined("group "+e.Groups[i].Name, "group", name)
			}
			includedBy[j] = append(includedBy[j], int32(i))
		}
	}
	above := make([][]int32, len(e.Groups))
	for i := range above {
		seen := map[int32]bool{}
		queue := []int32{int32(i)}
		for len(queue) > 0 {
			g := queue[0]
			queue = queue[1:]
			if seen[g] {
				continue
			}
			seen[g] = true
			above[i] = append(above[i], g)
			for _, next := range includedBy[g] {
				if next == int32(i) {
					return nil, fmt.Errorf("group %s includes itself by way of others", e.Groups[i].Name)
				}
				queue = append(queue, next)
			}
		}
	}
	return above, nil
}

func (e *Directory) fillApps() error {
	e.apps = make([]appFacts, len(e.Apps))
	e.tagNumber = make(map[string]int32)
	for i := range e.Apps {
		for _, tag := range e.Apps[i].Tags {
			e.apps[i].tags = append(e.apps[i].tags, intern(e.tagNumber, tag))
		}
		for _, alias := range e.Apps[i].KnownAs {
			if other, taken := e.appNumber[alias]; taken && other != int32(i) {
				return fmt.Errorf("apps %s and %s are both known as %q", e.Apps[other].Name, e.Apps[i].Name, alias)
			}
			e.appNumber[alias] = int32(i)
		}
		for _, name := range e.Apps[i].OpenTo {
			group, ok := e.groupNumber[name]
			if !ok {
				return undefined("app "+e.Apps[i].Name, "group", name)
			}
			e.apps[i].openTo = append(e.apps[i].openTo, group)
		}
		slices.Sort(e.apps[i].tags)
		slices.Sort(e.apps[i].openTo)
	}
	hosts, wrong := readHosts(e.Apps)
	if len(wrong) > 0 {
		return fmt.Errorf("app %s: %w", wrong[0].App, wrong[0].Wrong)
	}
	e.hosts = hosts
	for i := range e.Postures {
		for k := range e.Postures[i].Checks {
			if err := e.Postures[i].Checks[k].Check(); err != nil {
				return fmt.Errorf("posture %s: %w", e.Postures[i].Name, err)
			}
		}
	}
	return nil
}

func intern(numbers map[string]int32, name string) int32 {
	n, ok := numbers[name]
	if !ok {
		n = int32(len(numbers))
		numbers[name] = n
	}
	return n
}

// domainOf is what follows the last @ of an account's name, in lower case, ""
// where there is none.
func domainOf(account string) string {
	if at := strings.LastIndexByte(account, '@'); at >= 0 {
		return strings.ToLower(account[at+1:])
	}
	return ""
}

// FindAccount returns the number of the account of that name.
func (e *Directory) FindAccount(name string) (int, bool) { return find(e.accountNumber, name) }

// FindMethod returns the number of the method of that name.
func (e *Directory) FindMethod(name string) (int, bool) {
	for i := range e.methods { // there are few, so that this beats a map
		if e.methods[i].Name == name {
			return i, true
		}
	}
	return 0, false
}

func find(numbers map[string]int32, name string) (int, bool) {
	n, ok := numbers[name]
	return int(n), ok
}

// Methods returns all methods in the order of their numbers. The caller must
// not change them.
func (e *Directory) Methods() []Method { return e.methods }

// Kind returns the kind of an account, by its number.
func (e *Directory) Kind(account int) Kind { return e.accounts[account].kind }

// Disabled tells whether an account, by its number, may not sign on at all.
func (e *Directory) Disabled(account int) bool { return e.accounts[account].disabled }

// Enrolled returns the methods that an account, by its number, has enrolled and
// that are not barred for it.
func (e *Directory) Enrolled(account int) MethodSet { return e.accounts[account].methods }

// Barred returns the methods that count for nothing with an account, by its
// number.
func (e *Directory) Barred(account int) MethodSet { return e.accounts[account].barred }

// GroupsOf returns the names of all groups that an account is in, directly or
// through others, by its number.
func (e *Directory) GroupsOf(account int) []string {
	var names []string
	for _, g := range e.accounts[account].groups {
		names = append(names, e.Groups[g].Name)
	}
	slices.Sort(names)
	return names
}

// IsOpenTo tells whether the app is given to the account, both by number. A
// membership that is not sure opens nothing.
func (e *Directory) IsOpenTo(app, account int) bool {
	return e.Apps[app].OpenTo == nil || intersects(e.apps[app].openTo, e.accounts[account].groups)
}

// Place returns what is known of an address. The caller must not change it.
func (e *Directory) Place(ip netip.Addr) *Place { return e.places.find(ip) }

// NetworkNames returns the names of the networks of a place; ranges that only
// conditions name are not among them.
func (e *Directory) NetworkNames(p *Place) []string {
	var names []string
	for _, n := range p.Networks {
		if int(n) < len(e.Networks) {
			names = append(names, e.Networks[n].Name)
		}
	}
	slices.Sort(names)
	return names
}

// NearestNetwork returns the network nearest to an address, and false where no
// network has addresses of its family.
func (e *Directory) NearestNetwork(ip netip.Addr) (Neighbour, bool) {
	return nearestNetwork(e.Networks, ip)
}

// InWindow tells whether the moment lies in the window of that number.
func (e *Directory) InWindow(window int, at time.Time) bool { return e.windows[window].contains(at) }

// NearestAccounts returns up to most names of accounts that name may stand for.
func (e *Directory) NearestAccounts(name string, most int) []string {
	return nearestNames(name, e.Accounts, func(a Account) string { return a.Name }, most)
}

// NearestApps returns up to most names of apps that name may stand for.
func (e *Directory) NearestApps(name string, most int) []string {
	return nearestNames(name, e.Apps, func(a App) string { return a.Name }, most)
}

func nearestNames[T any](name string, things []T, nameOf func(T) string, most int) []string {
	known := make([]string, len(things))
	for i := range things {
		known[i] = nameOf(things[i])
	}
	return nearest.Names(name, known, most)
}

// intersects tells whether two ascending lists share a number.
func intersects(a, b []int32) bool {
	for len(a) > 0 && len(b) > 0 {
		switch x, y := a[0], b[0]; {
		case x == y:
			return true
		case x < y:
			a = a[1:]
		default:
			b = b[1:]
		}
	}
	return false
}

// FindPosture returns the number of the posture of that name.
func (e *Directory) FindPosture(name string) (int, bool) { return find(e.postureNumber, name) }

// Memberships returns the numbers of the groups that an account, by number, is
// surely in and may be in, and of its domain. The caller must not change them.
func (e *Directory) Memberships(account int) (sure, perhaps []int32, domain int32) {
	facts := &e.accounts[account]
	return facts.groups, facts.perhaps, facts.domain
}

// MayStateOther tells whether a network could make the answer to "is it another
// country than that one" differ from what the stated country says.
func (e *Directory) MayStateOther(stated, than attempt.CountryCode) bool {
	return slices.ContainsFunc(e.stated, func(code attempt.CountryCode) bool { return (code != than) != (stated != than) })
}

// Domains returns how many domains the accounts have; they are numbered from 0.
func (e *Directory) Domains() int { return len(e.domainNumber) }
