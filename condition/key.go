package condition

// Key names the fact that a test asks about. The zero Key is none. Its number is good
// for one run of a program: write its name.
type Key uint8

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
	// AboutDecision is what is kept of a decision that was made: what an alert may ask for.
	AboutDecision
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
