package condition

import "fmt"

// Key names the fact that a test asks about.
type Key uint8

// The keys. Their docs are in the table below, which the reader of books, the
// published schema and the help share.
const (
	Anyone Key = iota
	Accounts
	Groups
	Domains
	Kinds
	Attributes
	Enrolled
	JoinedWithin
	AccountRiskAtLeast
	Share
	Every
	Names
	Tags
	Networks
	OurNetwork
	Countries
	During
	Platforms
	Device
	DeviceTags
	Posture
	Through
	Actions
	Signals
	RiskAtLeast
	ScoreAtLeast
	Proved
	Clients
	ClientTags
	Standing
	PublisherVetted
	Scopes
	ScopesWithin
	Resource
	OwnsGroup
	numKeys
)

// Subject is what a key is about. Each place in a book allows the keys of some
// subjects.
type Subject uint8

// The subjects, to be combined with |.
const (
	AboutAccount Subject = 1 << iota
	AboutApp
	AboutAttempt
	// AboutRisk is what depends on the score of an attempt, and so cannot add to it.
	AboutRisk
	// AboutConsent is what a client asks for, one scope at a time.
	AboutConsent
)

// Shape is the form of a key's value.
type Shape uint8

// The shapes.
const (
	// List is a list of alternatives; one alone need not be in brackets.
	List Shape = iota
	// Flag is true or false.
	Flag
	// Marker is true only: the condition that always holds of its subject.
	Marker
	// Named maps names to values: a test for each name.
	Named
	// Length is a length of time.
	Length
	// Level is low, medium or high.
	Level
	// Number is a whole number from 1 to 100.
	Number
)

// keyTable is the one description of each key.
var keyTable = [numKeys]struct {
	name  string
	about Subject
	shape Shape
	doc   string
}{
	Anyone:             {"anyone", AboutAccount, Marker, "every account (an emergency account only where it is named)"},
	Accounts:           {"accounts", AboutAccount, List, "accounts by name"},
	Groups:             {"groups", AboutAccount, List, "members of a group, directly or through the groups it includes"},
	Domains:            {"domains", AboutAccount, List, "the part of the account's name after the last @"},
	Kinds:              {"kinds", AboutAccount, List, "the account's kind: person, service or emergency"},
	Attributes:         {"attributes", AboutAccount, Named, "attributes of the account, by name, each with its alternatives"},
	Enrolled:           {"enrolled", AboutAccount, List, "the account has enrolled one of these methods"},
	JoinedWithin:       {"joined_within", AboutAccount, Length, "so many times 24 hours have not passed since the midnight that began the day of joining"},
	AccountRiskAtLeast: {"account_risk_at_least", AboutAccount, Level, "the standing risk of the account: low, medium or high"},
	Share:              {"share", AboutAccount, Number, "so many percent of all accounts, the same ones each time; a wider share only adds accounts"},
	Every:              {"every", AboutApp, Marker, "every app"},
	Names:              {"names", AboutApp, List, "apps by name"},
	Tags:               {"tags", AboutApp, List, "apps that bear a tag"},
	Networks:           {"networks", AboutAttempt, List, "the address lies in a network, by name or as an address, a CIDR block or a range a-b"},
	OurNetwork:         {"our_network", AboutAttempt, Flag, "the address lies in a network marked `ours`"},
	Countries:          {"countries", AboutAttempt, List, "the country, by ISO 3166-1 alpha-2 code or by region"},
	During:             {"during", AboutAttempt, List, "the time lies in a window"},
	Platforms:          {"platforms", AboutAttempt, List, "the platform of the device, such as windows or ios"},
	Device:             {"device", AboutAttempt, List, "the device is known, managed, shared or the account's own"},
	DeviceTags:         {"device_tags", AboutAttempt, List, "the device bears a tag"},
	Posture:            {"posture", AboutAttempt, List, "the device passes a posture"},
	Through:            {"through", AboutAttempt, List, "what the sign-in is made through: browser, native, unattended or unpromptable"},
	Actions:            {"actions", AboutAttempt, List, "what is attempted: sign-in, enrol, change-password, recover or consent"},
	Signals:            {"signals", AboutRisk, List, "a signal holds"},
	RiskAtLeast:        {"risk_at_least", AboutRisk, Level, "the level of the score: low, medium or high"},
	ScoreAtLeast:       {"score_at_least", AboutRisk, Number, "the score, from 1 to 100"},
	Proved:             {"proved", AboutAttempt, List, "the session meets an assurance already"},
	Clients:            {"clients", AboutConsent, List, "the client, by name"},
	ClientTags:         {"client_tags", AboutConsent, List, "the client bears a tag"},
	Standing:           {"standing", AboutConsent, List, "the client is unreviewed or approved; a barred one is refused before any rule"},
	PublisherVetted:    {"publisher_vetted", AboutConsent, Flag, "the publisher of the client was vetted"},
	Scopes:             {"scopes", AboutConsent, List, "the scope, by name or by a pattern such as calendar.*"},
	ScopesWithin:       {"scopes_within", AboutConsent, List, "the scope lies in a tier or in a milder one"},
	Resource:           {"resource", AboutConsent, List, "whose data is asked for: own or group"},
	OwnsGroup:          {"owns_group", AboutConsent, Flag, "the one who asks owns the group whose data is asked for"},
}

// Keys returns all keys in the order of the documentation.
func Keys() []Key {
	keys := make([]Key, numKeys)
	for i := range keys {
		keys[i] = Key(i)
	}
	return keys
}

// ParseKey finds the key of that name.
func ParseKey(name string) (Key, bool) {
	for k := range keyTable {
		if keyTable[k].name == name {
			return Key(k), true
		}
	}
	return 0, false
}

// IsValid reports whether there is such a key.
func (k Key) IsValid() bool { return k < numKeys }

// String returns the key as the book writes it.
func (k Key) String() string {
	if !k.IsValid() {
		return fmt.Sprintf("Key(%d)", uint8(k))
	}
	return keyTable[k].name
}

// About returns the subject of the key.
func (k Key) About() Subject { return keyTable[k].about }

// Shape returns the form of the key's value.
func (k Key) Shape() Shape { return keyTable[k].shape }

// Doc says in half a sentence what the key asks.
func (k Key) Doc() string { return keyTable[k].doc }
