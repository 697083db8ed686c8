package condition

import (
	"cmp"
	"fmt"
	"slices"
)

// Definition is all that is said of one key but for its answers, which stand beside it. Whatever walks
// conditions asks it: the reader of books, the published schema, the binding, the words, the
// comparison of two books and the search for rules that never speak. So a key is
// added in one place, beside those of its [Family]: decide/engine/keys_*.go (accounts,
// apps, places, times, devices, attempts, risk and proofs), consent/keys.go and watch/keys.go.
type Definition struct {
	// Name is the key as a book writes it, and Doc says in half a sentence what it
	// asks.
	Name, Doc string
	// About is its subject, which decides where it may stand.
	About Subject
	// Shape is the form of its value.
	Shape Shape
	// Names is the kind of definition that its values name, such as "group"; "" where
	// they name none.
	Names string
	// Words are its values, where the list of them is closed.
	Words []string
	// Check reports what is wrong with a value that names nothing and is no word of a
	// closed list; nil takes any text.
	Check func(value string) error
	// Literal reports whether a value stands for itself although the key has Names; nil
	// where none does.
	Literal func(value string) bool
	// Meaning says by what two tests are compared.
	Meaning Meaning
	// Explored says how the circumstances are found in which a test holds.
	Explored Exploration
	// Bind returns what a value stands for. Names is the vocabulary of the one who
	// binds; the error is for one that does not know the key.
	Bind func(names Vocabulary, t *Test, value string) (Binding, error)
	// Says is a sentence that a bound test holds, or that it does not: "they are in
	// ticket-office".
	Says func(t *Test, negated bool) string
	// Noun names those for whom a bound test holds: "members of ticket-office". It is
	// nil for a key that is about an attempt.
	Noun func(t *Test) string
}

// Exploration says how a search through all circumstances, which proves that something holds in each, brings about what a test
// asks for. The zero Exploration is invalid.
type Exploration uint8

const (
	// NotExplored: nobody can bring it about yet. A test is answered either way, and what rests on the answer is open.
	NotExplored Exploration = iota + 1
	// ExploredAsGiven: it rests on the account, the app, the action or the moment, which are gone through one by one.
	ExploredAsGiven
	// ExploredByPlace: by addresses and countries; ExploredByDevice by devices; ExploredByChannel by what is signed in through.
	ExploredByPlace
	ExploredByDevice
	ExploredByChannel
	// ExploredByHistory: by signals and proofs. A test is answered either way, and an attempt shows that it can come about.
	ExploredByHistory
	// NoCircumstance: it asks about no sign-in, but about a request for consent or a decision that was made.
	NoCircumstance
)

// Meaning says what the values of a test stand for.
type Meaning uint8

// The meanings.
const (
	// MeansWords is the values themselves.
	MeansWords Meaning = iota + 1
	// MeansAccounts is the accounts for which it holds, and MeansApps the apps.
	MeansAccounts
	MeansApps
	// MeansAddresses is the addresses in networks that are named, MeansOwnAddresses
	// those in networks that are marked.
	MeansAddresses
	MeansOwnAddresses
	// MeansCountries is the countries, those in regions included.
	MeansCountries
	// MeansDefinitions is what the definitions of that name say.
	MeansDefinitions
	// MeansLevel is the score from which a level is reached, and MeansScore a score.
	MeansLevel
	MeansScore
	// MeansClients is what is known of outside programs, MeansClientFlag a truth about
	// them, and MeansScopes what they ask for.
	MeansClients
	MeansClientFlag
	MeansScopes
)

// definitions are those of all keys, by their numbers. The first is that of no key.
var definitions = make([]Definition, 1)

// Facts answer the tests of conditions: an attempt that is judged, one account at one moment, a request for consent.
type Facts interface {
	// Holds answers a bound test. What the facts do not show leaves it unknown. It must not allocate.
	Holds(t *Test) Truth
	// Saw describes to a reader what the facts show of a bound test, "" where that is unknown.
	Saw(t *Test) string
}

// Family is the keys that are answered by facts of one type, with their answers. The zero Family is ready for use. It is
// filled while the program starts, and safe for concurrent use after that.
type Family[F any] struct{ answers [1 << 8]answers[F] }

// answers are those of one key, nil of one that is of another family.
type answers[F any] struct {
	holds func(facts F, t *Test) Truth
	saw   func(facts F, t *Test) string
}

// Holds answers a bound test by the answers of its key. A test of a key of another family is unknown.
func (f *Family[F]) Holds(facts F, t *Test) Truth {
	if holds := f.answers[t.Key].holds; holds != nil {
		return holds(facts, t)
	}
	return Unknown
}

// Saw describes what the facts show of a bound test, "" where its key is of another family.
func (f *Family[F]) Saw(facts F, t *Test) string {
	if saw := f.answers[t.Key].saw; saw != nil {
		return saw(facts, t)
	}
	return ""
}

// HoldsOr is Holds, but a test of a key of another family is left to others.
func (f *Family[F]) HoldsOr(facts F, t *Test, others Facts) Truth {
	if f.answers[t.Key].holds == nil {
		return others.Holds(t)
	}
	return f.Holds(facts, t)
}

// SawOr is Saw, but a test of a key of another family is left to others.
func (f *Family[F]) SawOr(facts F, t *Test, others Facts) string {
	if f.answers[t.Key].saw == nil {
		return others.Saw(t)
	}
	return f.Saw(facts, t)
}

// Define adds a key to the family, with what answers its tests as [Facts] says. It is called once for each key while the
// program starts, and panics where a part is missing, or a name stands twice.
func (f *Family[F]) Define(d Definition, holds func(facts F, t *Test) Truth, saw func(facts F, t *Test) string) Key {
	if lacks := d.lacks(); lacks != "" || holds == nil || saw == nil {
		panic(fmt.Sprintf("condition: the key %q lacks %s", d.Name, cmp.Or(lacks, "its answers")))
	}
	if _, twice := ParseKey(d.Name); twice {
		panic(fmt.Sprintf("condition: the key %q is defined twice", d.Name))
	}
	if len(definitions) == len(f.answers) {
		panic("condition: there are more keys than a Key can number")
	}
	definitions = append(definitions, d)
	k := Key(len(definitions) - 1)
	f.answers[k] = answers[F]{holds, saw}
	return k
}

// lacks names a part that a definition lacks, "" where it has all.
func (d *Definition) lacks() string {
	for part, missing := range map[string]bool{
		"a name": d.Name == "", "a doc": d.Doc == "", "a subject": d.About == 0, "a meaning": d.Meaning == 0,
		"a way to be explored": d.Explored == 0,
		"Bind":                 d.Bind == nil, "Says": d.Says == nil,
	} {
		if missing {
			return part
		}
	}
	return ""
}

// Definition returns what is said of the key. The key must be valid.
func (k Key) Definition() *Definition { return &definitions[k] }

// Keys returns all keys, those about accounts first, and those that are about decisions alone last; of one subject in the
// order of the alphabet.
func Keys() []Key {
	keys := make([]Key, len(definitions)-1)
	for i := range keys {
		keys[i] = Key(i + 1)
	}
	rank := func(k Key) Subject { return cmp.Or(k.About()&^AboutDecision, AboutDecision) }
	slices.SortFunc(keys, func(a, b Key) int { return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.String(), b.String())) })
	return keys
}

// ParseKey finds the key of that name.
func ParseKey(name string) (Key, bool) {
	for k := 1; k < len(definitions); k++ {
		if definitions[k].Name == name {
			return Key(k), true
		}
	}
	return 0, false
}

// IsValid reports whether there is such a key.
func (k Key) IsValid() bool { return k > 0 && int(k) < len(definitions) }

// String returns the key as the book writes it.
func (k Key) String() string {
	if !k.IsValid() {
		return fmt.Sprintf("Key(%d)", uint8(k))
	}
	return definitions[k].Name
}

// About returns the subject of the key.
func (k Key) About() Subject { return definitions[k].About }

// Shape returns the form of the key's value.
func (k Key) Shape() Shape { return definitions[k].Shape }

// Doc says in half a sentence what the key asks.
func (k Key) Doc() string { return definitions[k].Doc }

// Either returns one of two texts for a sentence: that a test holds, or that it does
// not.
func Either(negated bool, holds, fails string) string {
	if negated {
		return fails
	}
	return holds
}
