package condition

import "fmt"

// Truth is one of Kleene's strong three values. The order False < Unknown <
// True makes conjunction the minimum and disjunction the maximum (S. C. Kleene,
// Introduction to Metamathematics, 1952, §64).
type Truth int8

// The three values. The zero Truth is False.
const (
	False Truth = iota
	Unknown
	True
)

var truthNames = [...]string{False: "false", Unknown: "unknown", True: "true"}

// Of turns a bool into a Truth.
func Of(b bool) Truth {
	if b {
		return True
	}
	return False
}

// FalseUnless is the truth of what is not so, or not known to be: False, and
// Unknown where the fact behind it is unknown.
func FalseUnless(unknown bool) Truth {
	if unknown {
		return Unknown
	}
	return False
}

// Not is the negation: the unknown stays unknown.
func (t Truth) Not() Truth { return True - t }

// String returns "true", "false" or "unknown".
func (t Truth) String() string {
	if t < False || t > True {
		return fmt.Sprintf("Truth(%d)", int8(t))
	}
	return truthNames[t]
}

// MarshalText writes the words of String, which are also the wire form.
func (t Truth) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads the words of String. It refuses any other.
func (t *Truth) UnmarshalText(text []byte) error {
	for i, name := range truthNames {
		if string(text) == name {
			*t = Truth(i)
			return nil
		}
	}
	return fmt.Errorf("a truth is true, false or unknown, not %q", text)
}
