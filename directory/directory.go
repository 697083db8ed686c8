// Package directory holds the facts about an organisation as values: accounts,
// groups, apps, devices, methods, networks, regions, windows and postures. A program
// that makes a rulebook in Go writes them down; a book is read into them.
//
// People, devices and places change by the minute, and need not be written down: a
// program supplies them while decisions are made, through [Accounts], [Devices] and
// [Locator].
package directory

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Group is a named set of accounts.
type Group struct {
	Name     string   `book:"name,required" doc:"name of the group"`
	About    string   `book:"about" doc:"what the group is for"`
	Members  []string `book:"members" ref:"account" doc:"accounts in the group, besides those that name it themselves"`
	Owners   []string `book:"owners" ref:"account" doc:"accounts that may speak for the group"`
	Includes []string `book:"includes" ref:"group" doc:"groups whose members are members of this one too"`
	// Where adds the accounts that it holds for. It cannot ask for groups, and
	// methods that are barred for an account count as enrolled there, since
	// barring may depend on groups.
	Where condition.Node `book:"where" about:"account" doc:"a condition on accounts that are members too; not on groups or on the time"`
}

// App is what people sign on to.
type App struct {
	Name    string   `book:"name,required" doc:"how the app is named in attempts"`
	About   string   `book:"about" doc:"what the app is for"`
	Tags    []string `book:"tags" doc:"tags that policies can aim at"`
	OpenTo  []string `book:"open_to" ref:"group" doc:"groups that the app is given to at all" default:"everybody"`
	Public  bool     `book:"public" doc:"true for an app that needs no proof"`
	KnownAs []string `book:"known_as" doc:"other identifiers: SAML entity ID, OAuth client ID, the name at a gateway"`
	Hosts   []string `book:"hosts" doc:"hosts and paths that it is reached by: host, *.host, host/path, host/path/*; the most specific wins"`
	Limits  Limits   `book:"limits" doc:"limits on each session on the app"`
	// Over has no effect on decisions; inspect looks for networks that forget one.
	Over []IPVersion `book:"over" doc:"the versions of IP that it is reached over: ipv4, ipv6" default:"both"`
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
	return words.Parse(v, "a version of IP", string(text), ipVersions, 0)
}

// Limits bound a session. Of several the strictest stands.
type Limits struct {
	// Lasts is how long a session may last, Idle how long it may rest; zero sets
	// no limit.
	Lasts Span `book:"lasts" doc:"how long a session may last, such as 4h" default:"no limit"`
	Idle  Span `book:"idle" doc:"how long a session may rest, such as 15m" default:"no limit"`
	// Shared false asks for proofs made for this very app.
	Shared *bool `book:"shared" doc:"false where only proofs made for this very app count" default:"true"`
}

// Contents are the facts that a Directory is made from.
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
	// Outside says that there are accounts which Accounts does not list, so that
	// groups and conditions may name them.
	Outside bool
	// ShareKey decides, with the names of accounts and owners, which accounts fall
	// into a share. Without one anyone who chooses an account's name chooses its side.
	ShareKey string
}
