package directory

import (
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Method is a way for a person or a machine to prove itself.
type Method struct {
	Name   string     `book:"-"`
	Kind   FactorKind `book:"kind" doc:"what it rests on: knowledge, possession or inherence"`
	Traits []Trait    `book:"traits" doc:"phishing_resistant, device_bound, user_verified, out_of_band"`
	// AMR are the values of RFC 8176 §2 that a token states for the method.
	AMR []string `book:"amr" doc:"values of RFC 8176 that a token states for it"`
	// BarredFor are the accounts for which it proves nothing; nil bars nobody.
	BarredFor condition.Node `book:"barred_for" about:"account" doc:"accounts for which it counts for nothing"`
}

// FactorKind is what a method rests on (NIST SP 800-63B-4 §3).
type FactorKind uint8

// What a method may rest on; the zero FactorKind says nothing of it.
const (
	Knowledge FactorKind = iota + 1
	Possession
	Inherence
)

var factorKinds = []string{"unstated", "knowledge", "possession", "inherence"}

// FactorKinds returns the words for what a method rests on.
func FactorKinds() []string { return slices.Clone(factorKinds[1:]) }

// String returns the word.
func (k FactorKind) String() string { return words.Of(k, factorKinds, 0) }

// UnmarshalText reads knowledge, possession or inherence.
func (k *FactorKind) UnmarshalText(text []byte) error {
	return words.Parse(k, "what a method rests on", string(text), factorKinds[1:], Knowledge)
}

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

// Traits returns the words for the traits.
func Traits() []string { return slices.Clone(traits) }

// String returns the trait as a book writes it.
func (t Trait) String() string { return words.Of(t, traits, 0) }

// UnmarshalText reads a trait.
func (t *Trait) UnmarshalText(text []byte) error {
	return words.Parse(t, "a trait", string(text), traits, 0)
}

// DeskPass is the method that a help desk issues for once. It stands for any
// method where an account is being put right, and for nothing elsewhere.
const DeskPass = "desk-pass"

// BuiltInMethods returns the methods that every book has.
func BuiltInMethods() []Method {
	method := func(name string, kind FactorKind, amr []string, traits ...Trait) Method {
		return Method{Name: name, Kind: kind, Traits: traits, AMR: amr}
	}
	return []Method{
		method("password", Knowledge, []string{"pwd"}),
		method("otp-app", Possession, []string{"otp"}),
		method("push", Possession, []string{"mca"}, DeviceBound, OutOfBand),
		method("security-key", Possession, []string{"hwk"}, PhishingResistant, DeviceBound),
		method("passkey", Possession, []string{"swk", "user"}, PhishingResistant, UserVerified),
		method("sms-code", Possession, []string{"sms"}, OutOfBand),
		method("certificate", Possession, []string{"swk"}, PhishingResistant, DeviceBound),
		method("recovery-code", Possession, []string{"otp"}),
		method(DeskPass, Possession, []string{"otp"}),
	}
}

// Catalogue returns the built-in methods with those of a book: one of a name
// that there is already redefines what it states, and keeps the rest. A push and a
// text message reach out to a phone whatever traits a book lists for them.
func Catalogue(more []Method) []Method {
	all := BuiltInMethods()
	for _, m := range more {
		i := slices.IndexFunc(all, func(b Method) bool { return b.Name == m.Name })
		if i < 0 {
			all = append(all, m)
			continue
		}
		if m.Kind != 0 {
			all[i].Kind = m.Kind
		}
		if m.Traits != nil {
			all[i].Traits = m.Traits
			if (m.Name == "push" || m.Name == "sms-code") && !slices.Contains(m.Traits, OutOfBand) {
				all[i].Traits = append(slices.Clone(m.Traits), OutOfBand)
			}
		}
		if m.AMR != nil {
			all[i].AMR = m.AMR
		}
		all[i].BarredFor = m.BarredFor
	}
	return all
}

// HasAll reports whether the method has each of the traits.
func (m *Method) HasAll(traits []Trait) bool {
	return !slices.ContainsFunc(traits, func(t Trait) bool { return !slices.Contains(m.Traits, t) })
}
