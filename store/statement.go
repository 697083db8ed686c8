package store

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// Source names who states a fact. The zero Source states nothing.
type Source string

// The sources that there is one of each. Others are named by CallerSource, IssuerSource and
// AdministratorSource.
const (
	// Book is the book in force. What it says is kept in its files, and is no Statement.
	Book Source = "book"
	// Door is what a door noticed itself.
	Door Source = "door"
	// Before is what a version of this program had kept that did not note its sources.
	Before Source = "before"
)

const caller, issuer, administrator = "caller ", "issuer ", "administrator "

// CallerSource is a caller of the door, by the name that the configuration gives it.
func CallerSource(name string) Source { return Source(caller + name) }

// IssuerSource is who issues security event tokens, by their `iss`.
func IssuerSource(iss string) Source { return Source(issuer + iss) }

// AdministratorSource is an administrator, by the name that she gave.
func AdministratorSource(name string) Source { return Source(administrator + name) }

// IsAdministrator reports whether an administrator states it.
func (s Source) IsAdministrator() bool { return strings.HasPrefix(string(s), administrator) }

// Fact is something that sources state of an account.
type Fact string

// The facts of an account that have sources, with what the Name and the Value of a Statement are.
const (
	// Disabled: whether it may not sign on (a truth).
	Disabled Fact = "disabled"
	// Gone: whether a feed deleted it (a truth).
	Gone Fact = "gone"
	// AccountKind: the word for its kind.
	AccountKind Fact = "kind"
	// Membership, by group: whether the account is a member (a truth).
	Membership Fact = "group"
	// Attribute, by name: its value.
	Attribute Fact = "attribute"
	// Joined: the day of joining.
	Joined Fact = "joined"
	// Methods: that the source stated all methods of the account, each as a Method.
	Methods Fact = "methods"
	// Method, by name: whether the account has enrolled it (a truth). At is when it was enrolled, or taken back.
	Method Fact = "method"
	// Revocation of a method, by name. Any source may state it. It takes the method away until a later enrolment.
	Revocation Fact = "revocation"
	// Password: when the password was last changed (RFC 3339).
	Password Fact = "password"
	// StandingRisk: the level of the standing risk; none lowers what the source stated before.
	StandingRisk Fact = "risk"
)

// ofFact is what there is to know of a fact.
type ofFact struct {
	// right is the word by which bounds let a source state it.
	right string
	// stays says that it stands for the next bearer of the name too; doubted that of a former bearer it is unknown, where
	// others would be void.
	stays, doubted bool
	// named says that there are several of it, by name.
	named bool
	// milder orders two values of one time: it reports whether one is milder than another.
	milder func(one, other attempt.Scalar) bool
}

func isFalse(one, _ attempt.Scalar) bool { return one != attempt.BoolScalar(true) }
func isTrue(one, _ attempt.Scalar) bool  { return one == attempt.BoolScalar(true) }
func isLess(one, other attempt.Scalar) bool {
	return cmp.Compare(one.String(), other.String()) < 0 // neither is stricter: so that the order of arrival does not matter
}

var ofFacts = map[Fact]ofFact{
	Disabled:     {right: "active", stays: true, milder: isFalse},
	Gone:         {right: "active", stays: true, milder: isFalse},
	AccountKind:  {right: "active", milder: isLess},
	Membership:   {right: "groups", named: true, doubted: true, milder: isTrue},
	Attribute:    {right: "attributes", named: true, doubted: true, milder: isLess},
	Joined:       {right: "joined", milder: func(one, other attempt.Scalar) bool { return isLess(other, one) }},
	Methods:      {right: "methods", milder: isLess},
	Method:       {right: "methods", named: true, milder: isTrue},
	Revocation:   {right: "methods", named: true, milder: isLess},
	Password:     {right: "password", milder: func(one, other attempt.Scalar) bool { return isLess(other, one) }},
	StandingRisk: {right: "risk", stays: true, milder: func(one, other attempt.Scalar) bool { return levelOf(one) < levelOf(other) }},
}

// Right returns the word by which bounds let a source state the fact, such as "active"; of attributes it is
// "attributes", whichever they are.
func (f Fact) Right() string { return ofFacts[f].right }

// Statement is one fact of an account as one source states it. Of each fact a source has one statement, its newest.
type Statement struct {
	Fact Fact `json:"fact" doc:"what is stated"`
	// Name says which group, attribute or method.
	Name string `json:"name,omitzero" doc:"which group, attribute or method"`
	By   Source `json:"by" doc:"who states it"`
	// At is when it was so, which may be long before it arrived.
	At    time.Time      `json:"at" doc:"when it was so"`
	Value attempt.Scalar `json:"value" doc:"the value"`
	// Since is when a risk arose, where that is not At.
	Since time.Time `json:"since,omitzero" doc:"when a risk arose, where that was not then"`
	// Because is the reason of a risk.
	Because string `json:"because,omitzero" doc:"the reason of a risk"`
	// Withdrawn says that the source states nothing of it any more.
	Withdrawn bool `json:"withdrawn,omitzero" doc:"true where it is no longer stated"`
}

// isSame reports whether two statements are of the same fact by the same source.
func (s *Statement) isSame(o *Statement) bool {
	return s.Fact == o.Fact && s.Name == o.Name && s.By == o.By
}

// replaces reports whether a statement takes the place of another of the same fact by the same source: it is later or,
// of the same time, stricter.
func (s *Statement) replaces(o *Statement) bool {
	switch c := s.At.Compare(o.At); {
	case c != 0:
		return c > 0
	case s.Withdrawn != o.Withdrawn:
		// To state nothing is the milder of two where the value is a ground to refuse, and else the stricter.
		return s.Withdrawn != (s.Fact == Disabled || s.Fact == Gone || s.Fact == StandingRisk || s.Fact == Revocation)
	case s.Value != o.Value:
		return ofFacts[s.Fact].milder(o.Value, s.Value)
	}
	return s.Because > o.Because
}

// isStrict reports whether a statement makes an answer stricter, so that it counts although it is dated ahead.
func (s *Statement) isStrict() bool {
	switch s.Fact {
	case Disabled, Gone:
		return isTrue(s.Value, s.Value)
	case StandingRisk:
		return levelOf(s.Value) > directory.LowRisk
	case Method:
		return !isTrue(s.Value, s.Value)
	case Revocation:
		return true
	}
	return false
}

// Arrived dates a statement that is dated ahead of the moment at which it arrives: one that makes an answer stricter
// counts as of its arrival, and of any other it reports false, for it is refused.
func (s *Statement) Arrived(now time.Time) bool {
	if attempt.IsLater(s.At, now) {
		s.At = now
		return s.isStrict() && !s.Withdrawn
	}
	return true
}

// Say takes a statement in. An older one than what the source stated last changes nothing, so that the order of arrival
// does not matter. It returns what the source stated before, nil where it stated nothing, and whether anything changed.
// Like other methods it changes no list in place.
func (a *Account) Say(s Statement) (was *Statement, changed bool) {
	for i := range a.Stated {
		if old := &a.Stated[i]; old.isSame(&s) {
			if !s.replaces(old) {
				return old, false
			}
			before := *old
			a.Stated = slices.Clone(a.Stated)
			a.Stated[i] = s
			return &before, true
		}
	}
	a.Stated = append(slices.Clip(a.Stated), s)
	return nil, true
}

// States reports whether any source states something that a directory would know.
func (a *Account) States() bool { return len(a.Stated) > 0 || a.AskedAt != nil || !a.Made.At.IsZero() }

// Latest returns the time of the newest statement of a source, zero where there is none.
func (a *Account) Latest(by Source) (latest time.Time) {
	for i := range a.Stated {
		if s := &a.Stated[i]; s.By == by && s.At.After(latest) {
			latest = s.At
		}
	}
	return latest
}

func levelOf(v attempt.Scalar) (level directory.Level) {
	if err := level.UnmarshalText([]byte(v.String())); err != nil {
		return directory.HighRisk // a level that is none is the strictest
	}
	return level
}

// After is a moment, or a later one, after all that a source stated of the account: what it says then is newer, however fast
// it comes.
func (a *Account) After(by Source, at time.Time) time.Time {
	at = at.UTC().Truncate(time.Microsecond) // as finely as every store keeps it
	if latest := a.Latest(by); !at.After(latest) {
		return latest.Add(time.Microsecond)
	}
	return at
}

// Says reports whether a source says that a fact without a name is true.
func (a *Account) Says(fact Fact, by Source) bool {
	return slices.ContainsFunc(a.Stated, func(s Statement) bool {
		return s.Fact == fact && s.By == by && !s.Withdrawn && isTrue(s.Value, s.Value)
	})
}

// Label names what is stated: the fact, and which group, attribute or method.
func (s *Statement) Label() string {
	if s.Name == "" {
		return string(s.Fact)
	}
	return string(s.Fact) + " " + s.Name
}

// IsLabel reports whether a text may be the Label of a statement: a fact, and behind it a name where it is one of several.
func IsLabel(text string) bool {
	fact, name, _ := strings.Cut(text, " ")
	of, is := ofFacts[Fact(fact)]
	return is && of.named == (name != "")
}
