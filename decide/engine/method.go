package engine

import (
	"math/bits"
)

// MethodSet is a set of methods, by their numbers in the directory.
type MethodSet uint64

// MaxMethods is how many methods a MethodSet has room for.
const MaxMethods = 64

// Has reports whether method number i is in the set.
func (s MethodSet) Has(i int) bool { return s&(1<<i) != 0 }

// Add returns the set with method number i.
func (s MethodSet) Add(i int) MethodSet { return s | 1<<i }

// Len is the number of methods in the set.
func (s MethodSet) Len() int { return bits.OnesCount64(uint64(s)) }
