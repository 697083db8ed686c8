package estate

import (
	"math/bits"
	"slices"
)

// Method is a way for a person or a machine to prove itself.
type Method struct {
	Name   string
	Kind   FactorKind
	Traits []Trait
	// AMR are the values of RFC 8176 §2 that a token states for the method.
	AMR []string
}

// FactorKind is what a method rests on (NIST SP 800-63B-4 §3).
type FactorKind uint8

// What a method may rest on.
const (
	Knowledge FactorKind = iota
	Possession
	Inherence
)

var factorKinds = []string{"knowledge", "possession", "inherence"}

// String returns the word.
func (k FactorKind) String() string { return factorKinds[k] }

// Trait is a property of a method.
type Trait uint8

// The traits. An out-of-band method reaches out to a phone of its own accord,
// so it is offered only after another proof: nobody shall be able to flood a
// phone.
const (
	PhishingResistant Trait = iota
	DeviceBound
	UserVerified
	OutOfBand
)

var traits = []string{"phishing_resistant", "device_bound", "user_verified", "out_of_band"}

// String returns the trait as a book writes it.
func (t Trait) String() string { return traits[t] }

// UnmarshalText reads a trait.
func (t *Trait) UnmarshalText(text []byte) error {
	return parseWord(t, "a trait", string(text), traits)
}

// BuiltInMethods returns the methods that every book has.
func BuiltInMethods() []Method {
	return []Method{
		{"password", Knowledge, nil, []string{"pwd"}},
		{"otp-app", Possession, nil, []string{"otp"}},
		{"push", Possession, []Trait{DeviceBound, OutOfBand}, []string{"mca"}},
		{"security-key", Possession, []Trait{PhishingResistant, DeviceBound}, []string{"hwk"}},
		{"passkey", Possession, []Trait{PhishingResistant, UserVerified}, []string{"swk", "user"}},
		{"sms-code", Possession, []Trait{OutOfBand}, []string{"sms"}},
		{"certificate", Possession, []Trait{PhishingResistant, DeviceBound}, []string{"swk"}},
		{"recovery-code", Possession, nil, []string{"otp"}},
	}
}

// MethodSet is a set of methods, by their numbers in the estate.
type MethodSet uint64

// maxMethods is how many methods a MethodSet has room for.
const maxMethods = 64

// Has tells whether method number i is in the set.
func (s MethodSet) Has(i int) bool { return s&(1<<i) != 0 }

// Add returns the set with method number i.
func (s MethodSet) Add(i int) MethodSet { return s | 1<<i }

// Len is the number of methods in the set.
func (s MethodSet) Len() int { return bits.OnesCount64(uint64(s)) }

// HasAll tells whether the method has each of the traits.
func (m *Method) HasAll(traits []Trait) bool {
	return !slices.ContainsFunc(traits, func(t Trait) bool { return !slices.Contains(m.Traits, t) })
}
