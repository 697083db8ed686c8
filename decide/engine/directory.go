package engine

import (
	"crypto/sha256"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Directory answers questions about the facts. It does not change and is safe for
// concurrent use.
type Directory struct {
	directory.Contents
	// Literals are the ranges that conditions name without a network.
	Literals []directory.Range
	methods  []directory.Method
	shareKey [sha256.Size]byte

	accountNumber, groupNumber, appNumber, networkNumber, windowNumber map[string]int32
	regionNumber, methodNumber, deviceNumber, postureNumber            map[string]int32
	// tagNumber numbers the tags of apps as they are met.
	tagNumber map[string]int32

	profiles []Profile
	// above lists for each group those that its members are in, itself included.
	above [][]int32
	// listedIn lists for each account the groups whose `members` name it.
	listedIn map[int32][]int32
	// where are the conditions on membership, and barring those on methods.
	where, barring []numbered
	// asksRisk says that one of them asks for the risk of the account.
	asksRisk bool
	// enrollable are the methods that an account can have.
	enrollable MethodSet
	apps       []appFacts
	hosts      []hostPattern
	places     *placeTable
	windows    []compiledWindow
	// stated are the networks that state a country, for CountryMayHold.
	stated []attempt.CountryCode
}

// numbered is a bound condition of a group or a method.
type numbered struct {
	number    int32
	condition condition.Node
}

type appFacts struct {
	tags   []int32
	openTo []int32
}

// Mentioned is what conditions mention and the contents do not define.
type Mentioned struct {
	// Literals are ranges of addresses, and Accounts names of accounts that are supplied
	// while decisions are made.
	Literals []directory.Range
	Accounts []string
}

// New makes a Directory. It keeps copies of the lists in the contents, but not of
// what those hold, so that accounts and the like must not change afterwards. The
// error is [Problems]: all that Check reports.
func NewDirectory(c directory.Contents, mentioned Mentioned) (*Directory, error) {
	if c.Zone == nil {
		c.Zone = time.UTC
	}
	var problems directory.Problems
	CheckContents(&c, func(p directory.Problem) { problems = append(problems, p) })
	if len(problems) > 0 {
		return nil, problems
	}
	e := &Directory{
		Contents: c,
		Literals: mentioned.Literals,
		methods:  directory.Catalogue(c.Methods),
		shareKey: sha256.Sum256([]byte(c.ShareKey)),
	}
	number := func(n int, name func(int) string) map[string]int32 {
		numbers := make(map[string]int32, n)
		for i := range n {
			numbers[name(i)] = int32(i)
		}
		return numbers
	}
	e.accountNumber = number(len(c.Accounts), func(i int) string { return c.Accounts[i].Name })
	e.groupNumber = number(len(c.Groups), func(i int) string { return c.Groups[i].Name })
	e.appNumber = number(len(c.Apps), func(i int) string { return c.Apps[i].Name })
	e.networkNumber = number(len(c.Networks), func(i int) string { return c.Networks[i].Name })
	e.windowNumber = number(len(c.Windows), func(i int) string { return c.Windows[i].Name })
	e.regionNumber = number(len(c.Regions), func(i int) string { return c.Regions[i].Name })
	e.deviceNumber = number(len(c.Devices), func(i int) string { return c.Devices[i].Name })
	e.postureNumber = number(len(c.Postures), func(i int) string { return c.Postures[i].Name })
	e.methodNumber = number(len(e.methods), func(i int) string { return e.methods[i].Name })
	for _, name := range mentioned.Accounts {
		e.nameAccount(name)
	}
	if err := e.fillAccounts(); err != nil {
		return nil, err
	}
	e.fillApps()
	// Literals are networks without a name; their numbers follow the named ones.
	all := slices.Clone(c.Networks)
	for _, r := range mentioned.Literals {
		all = append(all, directory.Network{Name: r.String(), Ranges: []directory.Range{r}})
	}
	e.places = newPlaceTable(all)
	for i := range c.Networks {
		if code := attempt.CountryCode(c.Networks[i].Country); code != "" && !slices.Contains(e.stated, code) {
			e.stated = append(e.stated, code)
		}
	}
	for i := range c.Windows {
		e.windows = append(e.windows, compileWindow(&c.Windows[i], c.Zone))
	}
	return e, nil
}

// nameAccount gives a number to the name of an account that the list may lack.
func (e *Directory) nameAccount(name string) int32 {
	n, ok := e.accountNumber[name]
	if !ok {
		n = int32(len(e.accountNumber))
		e.accountNumber[name] = n
	}
	return n
}

func (e *Directory) fillAccounts() error {
	e.above = e.groupsAbove()
	e.listedIn = make(map[int32][]int32)
	for i := range e.Groups {
		for _, name := range e.Groups[i].Members {
			account := e.nameAccount(name)
			e.listedIn[account] = append(e.listedIn[account], int32(i))
		}
	}
	if err := e.bindWhere(); err != nil {
		return err
	}
	if err := e.bindBarring(); err != nil {
		return err
	}
	for _, b := range slices.Concat(e.where, e.barring) {
		e.asksRisk = e.asksRisk || condition.Asks(b.condition, KeyAccountRiskAtLeast)
	}
	for i := range e.methods {
		if e.methods[i].Name != directory.DeskPass { // which nobody enrols
			e.enrollable = e.enrollable.Add(i)
		}
	}
	e.profiles = make([]Profile, len(e.Accounts))
	var facts Facts
	for i := range e.profiles {
		e.resolve(&e.profiles[i], &e.Accounts[i], int32(i), time.Time{}, &facts)
	}
	return nil
}

// settle sorts numbers and takes out what stands twice.
func settle(numbers []int32) []int32 {
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

// bindWhere binds the conditions on membership.
func (e *Directory) bindWhere() error {
	for i := range e.Groups {
		if e.Groups[i].Where == nil {
			continue
		}
		where, err := condition.Bind(e.Groups[i].Where, e.Vocabulary("group "+e.Groups[i].Name))
		if err != nil {
			return fmt.Errorf("group %s: where: %w", e.Groups[i].Name, err)
		}
		e.where = append(e.where, numbered{int32(i), where})
	}
	return nil
}

// checkWhere reports what a group's `where` asks for that it cannot.
func checkWhere(where condition.Node) error {
	if key, ok := asksFor(where, KeyGroups, KeyJoinedWithin); ok {
		return fmt.Errorf("where cannot ask for %s: membership depends neither on other groups nor on the time", key)
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

// bindBarring binds the conditions that bar methods.
func (e *Directory) bindBarring() error {
	for m := range e.methods {
		if e.methods[m].BarredFor == nil {
			continue
		}
		barred, err := condition.Bind(e.methods[m].BarredFor, e.Vocabulary("method "+e.methods[m].Name))
		if err != nil {
			return fmt.Errorf("method %s: barred_for: %w", e.methods[m].Name, err)
		}
		e.barring = append(e.barring, numbered{int32(m), barred})
	}
	return nil
}

// checkBarredFor reports what a method's `barred_for` asks for that it cannot.
func checkBarredFor(barred condition.Node) error {
	if key, ok := asksFor(barred, KeyEnrolled, KeyJoinedWithin); ok {
		return fmt.Errorf("barred_for cannot ask for %s: it depends neither on what is enrolled nor on the time", key)
	}
	return nil
}

// groupsAbove returns for each group the groups that its members are in: itself
// and those that include it, at any distance.
func (e *Directory) groupsAbove() [][]int32 {
	includedBy := make([][]int32, len(e.Groups))
	for i := range e.Groups {
		for _, name := range e.Groups[i].Includes {
			j := e.groupNumber[name]
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
			queue = append(queue, includedBy[g]...)
		}
	}
	return above
}

func (e *Directory) fillApps() {
	e.apps = make([]appFacts, len(e.Apps))
	e.tagNumber = make(map[string]int32)
	for i := range e.Apps {
		for _, tag := range e.Apps[i].Tags {
			e.apps[i].tags = append(e.apps[i].tags, intern(e.tagNumber, tag))
		}
		for _, alias := range e.Apps[i].KnownAs {
			e.appNumber[alias] = int32(i)
		}
		for _, name := range e.Apps[i].OpenTo {
			e.apps[i].openTo = append(e.apps[i].openTo, e.groupNumber[name])
		}
		slices.Sort(e.apps[i].tags)
		slices.Sort(e.apps[i].openTo)
	}
	e.hosts, _ = readHosts(e.Apps) // whose errors Check has reported
}

func intern(numbers map[string]int32, name string) int32 {
	n, ok := numbers[name]
	if !ok {
		n = int32(len(numbers))
		numbers[name] = n
	}
	return n
}

// domainOf is what follows the last @ of an account's name, in the form in which
// domains are compared, "" where there is none or it is no domain.
func domainOf(account string) string {
	at := strings.LastIndexByte(account, '@')
	if at < 0 {
		return ""
	}
	domain, err := normalDomain(account[at+1:])
	if err != nil {
		return ""
	}
	return domain
}

// normalDomain puts a domain into the form in which domains are compared: ASCII by
// IDNA (RFC 5891), in lower case. It allocates nothing where that is its form.
func normalDomain(domain string) (string, error) {
	plain := domain != ""
	for i := range len(domain) {
		c := domain[i]
		plain = plain && (c == '.' || c == '-' || '0' <= c && c <= '9' || 'a' <= c && c <= 'z')
	}
	if plain && !strings.Contains(domain, "xn--") {
		return domain, nil
	}
	normal, err := normalHost(domain)
	if err != nil {
		return "", fmt.Errorf("%q is no domain such as kestrelsound.example", domain)
	}
	return normal, nil
}

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
func (e *Directory) Methods() []directory.Method { return e.methods }

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

// AddressElsewhere returns an address that lies in no network of the directory, and
// false where none was found.
func (e *Directory) AddressElsewhere() (netip.Addr, bool) {
	candidates := []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8:ffff::1")}
	for _, n := range e.Networks {
		for _, r := range n.Ranges {
			candidates = append(candidates, r.To.Next(), r.From.Prev())
		}
	}
	for _, ip := range candidates {
		if ip.IsValid() && len(e.Place(ip).Networks) == 0 {
			return ip, true
		}
	}
	return netip.Addr{}, false
}

// InWindow reports whether the moment lies in the window of that number.
func (e *Directory) InWindow(window int, at time.Time) bool { return e.windows[window].contains(at) }

// NearestAccounts returns up to most names of accounts that name may stand for.
func (e *Directory) NearestAccounts(name string, most int) []string {
	return nearestNames(name, e.Accounts, func(a directory.Account) string { return a.Name }, most)
}

// AreSwapped reports whether an account that is not known is the name of an app, and the app
// that of an account: one was put in the place of the other.
func (e *Directory) AreSwapped(account, app string) bool {
	_, isApp := e.FindApp(account)
	_, isAccount := e.FindAccount(app)
	return isApp && isAccount
}

// NearestApps returns up to most names of apps that name may stand for.
func (e *Directory) NearestApps(name string, most int) []string {
	return nearestNames(name, e.Apps, func(a directory.App) string { return a.Name }, most)
}

func nearestNames[T any](name string, things []T, nameOf func(T) string, most int) []string {
	known := make([]string, len(things))
	for i := range things {
		known[i] = nameOf(things[i])
	}
	return nearest.Names(name, known, most)
}

// intersects reports whether two ascending lists share a number.
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

// MayStateOther reports whether a network could make the answer to "is it another
// country than that one" differ from what the stated country says.
func (e *Directory) MayStateOther(stated, than attempt.CountryCode) bool {
	return slices.ContainsFunc(e.stated, func(code attempt.CountryCode) bool { return (code != than) != (stated != than) })
}
