package condition

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
	Every
	Names
	Tags
	Networks
	OurNetwork
	Countries
	During
	Through
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
)

// keyTable is the one description of each key.
var keyTable = [numKeys]struct {
	name  string
	about Subject
	shape Shape
	doc   string
}{
	Anyone:     {"anyone", AboutAccount, Marker, "every account (an emergency account only where it is named)"},
	Accounts:   {"accounts", AboutAccount, List, "accounts by name"},
	Groups:     {"groups", AboutAccount, List, "members of a group, directly or through the groups it includes"},
	Domains:    {"domains", AboutAccount, List, "the part of the account's name after the last @"},
	Kinds:      {"kinds", AboutAccount, List, "the account's kind: person, service or emergency"},
	Every:      {"every", AboutApp, Marker, "every app"},
	Names:      {"names", AboutApp, List, "apps by name"},
	Tags:       {"tags", AboutApp, List, "apps that bear a tag"},
	Networks:   {"networks", AboutAttempt, List, "the address lies in a network, by name or as an address, a CIDR block or a range a-b"},
	OurNetwork: {"our_network", AboutAttempt, Flag, "the address lies in a network marked `ours`"},
	Countries:  {"countries", AboutAttempt, List, "the country, by ISO 3166-1 alpha-2 code or by region"},
	During:     {"during", AboutAttempt, List, "the time lies in a window"},
	Through:    {"through", AboutAttempt, List, "what the sign-in is made through: browser, native, unattended or unpromptable"},
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

// String returns the key as the book writes it.
func (k Key) String() string { return keyTable[k].name }

// About returns the subject of the key.
func (k Key) About() Subject { return keyTable[k].about }

// Shape returns the form of the key's value.
func (k Key) Shape() Shape { return keyTable[k].shape }

// Doc says in half a sentence what the key asks.
func (k Key) Doc() string { return keyTable[k].doc }
