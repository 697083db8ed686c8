// Package estate holds the facts about an organisation as values: accounts,
// groups, apps, methods, networks, regions and windows; and finds them fast.
package estate

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/nearest"
)

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

// parseWord finds text among the words and stores its number.
func parseWord[T ~uint8 | ~int](into *T, what, text string, words []string) error {
	i := slices.Index(words, text)
	if i < 0 {
		return fmt.Errorf("%q is not %s%s", text, what, nearest.DidYouMean(text, words))
	}
	*into = T(i)
	return nil
}

// Account is one who signs on.
type Account struct {
	Name     string   `book:"name,required" doc:"how the account is named in attempts, often a mail address"`
	Kind     Kind     `book:"kind" doc:"person (the default), service or emergency"`
	Disabled bool     `book:"disabled" doc:"true where the account may not sign on at all"`
	Groups   []string `book:"groups" ref:"group" doc:"groups that it is a member of"`
	Methods  []string `book:"methods" ref:"method" doc:"methods that it has enrolled"`
	Joined   *Date    `book:"joined" doc:"day on which the person joined"`
}

// Group is a named set of accounts.
type Group struct {
	Name     string   `book:"name,required" doc:"name of the group"`
	About    string   `book:"about" doc:"what the group is for"`
	Members  []string `book:"members" ref:"account" doc:"accounts in the group, besides those that name it themselves"`
	Includes []string `book:"includes" ref:"group" doc:"groups whose members are members of this one too"`
}

// App is what people sign on to.
type App struct {
	Name   string   `book:"name,required" doc:"how the app is named in attempts"`
	About  string   `book:"about" doc:"what the app is for"`
	Tags   []string `book:"tags" doc:"tags that policies can aim at"`
	OpenTo []string `book:"open_to" ref:"group" doc:"groups that the app is given to at all; left out, to all"`
	Public bool     `book:"public" doc:"true for an app that needs no proof"`
}

// Contents are the facts that an Estate is made from.
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
	// Literals are ranges that conditions name without defining a network.
	Literals []Range
}

// Estate answers questions about the facts. It does not change and is safe for
// concurrent use.
type Estate struct {
	Contents
	methods []Method

	accountNumber, groupNumber, appNumber, networkNumber, windowNumber map[string]int32
	regionNumber, methodNumber, domainNumber, tagNumber                map[string]int32

	accounts []accountFacts
	apps     []appFacts
	places   *placeTable
	windows  []compiledWindow
}

// accountFacts are what conditions ask of an account, as numbers.
type accountFacts struct {
	groups  []int32
	domain  int32
	methods MethodSet
}

type appFacts struct {
	tags   []int32
	openTo []int32
}

// New makes an Estate. The error names a reference to what is not defined, a
// name that is defined twice, or a circle of groups.
func New(c Contents) (*Estate, error) {
	if c.Zone == nil {
		c.Zone = time.UTC
	}
	e := &Estate{Contents: c, methods: BuiltInMethods()}
	if len(e.methods) > maxMethods {
		return nil, fmt.Errorf("%d methods are more than the %d there is room for", len(e.methods), maxMethods)
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
	for i := range c.Windows {
		e.windows = append(e.windows, c.Windows[i].compile(c.Zone))
	}
	return e, nil
}

// undefined is the error for a reference to what is not there.
func undefined(where, what, name string) error {
	return fmt.Errorf("%s: %s %q is not defined", where, what, name)
}

func (e *Estate) fillAccounts() error {
	above, err := e.groupsAbove()
	if err != nil {
		return err
	}
	e.accounts = make([]accountFacts, len(e.Accounts))
	e.domainNumber = make(map[string]int32)
	for i := range e.Accounts {
		a, facts := &e.Accounts[i], &e.accounts[i]
		facts.domain = e.intern(e.domainNumber, domainOf(a.Name))
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
	for i := range e.accounts {
		slices.Sort(e.accounts[i].groups)
		e.accounts[i].groups = slices.Compact(e.accounts[i].groups)
	}
	return nil
}

// groupsAbove returns for each group the groups that its members are in: itself
// and those that include it, at any distance.
func (e *Estate) groupsAbove() ([][]int32, error) {
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

func (e *Estate) fillApps() error {
	e.apps = make([]appFacts, len(e.Apps))
	e.tagNumber = make(map[string]int32)
	for i := range e.Apps {
		for _, tag := range e.Apps[i].Tags {
			e.apps[i].tags = append(e.apps[i].tags, e.intern(e.tagNumber, tag))
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
	return nil
}

func (e *Estate) intern(numbers map[string]int32, name string) int32 {
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
func (e *Estate) FindAccount(name string) (int, bool) { return find(e.accountNumber, name) }

// FindApp returns the number of the app of that name.
func (e *Estate) FindApp(name string) (int, bool) { return find(e.appNumber, name) }

// FindMethod returns the number of the method of that name.
func (e *Estate) FindMethod(name string) (int, bool) { return find(e.methodNumber, name) }

func find(numbers map[string]int32, name string) (int, bool) {
	n, ok := numbers[name]
	return int(n), ok
}

// Methods returns all methods in the order of their numbers. The caller must
// not change them.
func (e *Estate) Methods() []Method { return e.methods }

// Enrolled returns the methods of an account, by its number.
func (e *Estate) Enrolled(account int) MethodSet { return e.accounts[account].methods }

// GroupsOf returns the names of all groups that an account is in, directly or
// through others, by its number.
func (e *Estate) GroupsOf(account int) []string {
	var names []string
	for _, g := range e.accounts[account].groups {
		names = append(names, e.Groups[g].Name)
	}
	slices.Sort(names)
	return names
}

// IsOpenTo tells whether the app is given to the account, both by number.
func (e *Estate) IsOpenTo(app, account int) bool {
	return e.Apps[app].OpenTo == nil || intersects(e.apps[app].openTo, e.accounts[account].groups)
}

// Place returns what is known of an address. The caller must not change it.
func (e *Estate) Place(ip netip.Addr) *Place { return e.places.find(ip) }

// NetworkNames returns the names of the networks of a place; ranges that only
// conditions name are not among them.
func (e *Estate) NetworkNames(p *Place) []string {
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
func (e *Estate) NearestNetwork(ip netip.Addr) (Neighbour, bool) {
	return nearestNetwork(e.Networks, ip)
}

// InWindow tells whether the moment lies in the window of that number.
func (e *Estate) InWindow(window int, at time.Time) bool { return e.windows[window].contains(at) }

// NearestAccounts returns up to most names of accounts that name may stand for.
func (e *Estate) NearestAccounts(name string, most int) []string {
	return nearestNames(name, e.Accounts, func(a Account) string { return a.Name }, most)
}

// NearestApps returns up to most names of apps that name may stand for.
func (e *Estate) NearestApps(name string, most int) []string {
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
		switch cmp.Compare(a[0], b[0]) {
		case 0:
			return true
		case -1:
			a = a[1:]
		default:
			b = b[1:]
		}
	}
	return false
}
