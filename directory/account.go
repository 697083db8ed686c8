package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Kind is what an account is for. The zero Kind states nothing, which means a
// person where nobody else states a kind.
type Kind uint8

// The kinds. An emergency account is the one that must get in when all else
// fails.
const (
	UnstatedKind Kind = iota
	Person
	Service
	Emergency
)

var kinds = []string{"person", "service", "emergency"}

// Kinds returns the words for the kinds.
func Kinds() []string { return slices.Clone(kinds) }

// String returns the kind as a book writes it. A kind that is not stated is a
// person.
func (k Kind) String() string {
	switch k {
	case UnstatedKind, Person:
		return kinds[0]
	case Service, Emergency:
		return kinds[k-Person]
	}
	return fmt.Sprintf("invalid (%d)", uint8(k))
}

// MarshalText writes String.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads a kind.
func (k *Kind) UnmarshalText(text []byte) error {
	return words.Parse(k, "a kind of account", string(text), kinds, Person)
}

// Level is how much risk there is.
type Level uint8

// The levels.
const (
	NoRisk Level = iota
	LowRisk
	MediumRisk
	HighRisk
)

var levels = []string{"none", "low", "medium", "high"}

// Levels returns the words for the levels, from none on.
func Levels() []string { return slices.Clone(levels) }

// String returns none, low, medium or high.
func (l Level) String() string {
	if int(l) >= len(levels) {
		return fmt.Sprintf("invalid (%d)", uint8(l))
	}
	return levels[l]
}

// MarshalText writes String.
func (l Level) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads none, low, medium or high.
func (l *Level) UnmarshalText(text []byte) error {
	return words.Parse(l, "a level of risk", string(text), levels, 0)
}

// ParseLevel reads a level that a condition can ask for: low, medium or high.
func ParseLevel(text string) (level Level, err error) {
	err = words.Parse(&level, "a level of risk to ask for", text, levels[1:], LowRisk)
	return level, err
}

// Account is one who signs on. A key that is nil or zero is not stated.
type Account struct {
	Name       string                    `book:"name,required" doc:"how the account is named in attempts, often a mail address"`
	Kind       Kind                      `book:"kind" doc:"person, service or emergency" default:"person"`
	Disabled   bool                      `book:"disabled" doc:"true where the account may not sign on at all"`
	Groups     []string                  `book:"groups" ref:"group" doc:"groups that it is a member of" default:"those that list it"`
	Methods    []string                  `book:"methods" ref:"method" doc:"methods that it has enrolled"`
	Attributes map[string]attempt.Scalar `book:"attributes" doc:"what else is known, by name; what is missing is unknown, null is none"`
	Joined     *Date                     `book:"joined" doc:"day on which the person joined"`
	// AskedAt is when a rollout first asked the person to enrol.
	AskedAt     *time.Time   `book:"asked_at" doc:"when a rollout first asked the person to enrol"`
	AccountRisk *AccountRisk `book:"account_risk" doc:"the standing risk of the account, until it is put right"`
	// PasswordChangedAt is when the password was last changed, as far as known.
	PasswordChangedAt *time.Time `book:"password_changed_at" doc:"when the password was last changed"`

	// MayBeIn are groups of which it is not known whether the account is a member, and IsWhole says that nothing
	// which the book states of it is to be added, but for groups that list it. They are for what is supplied.
	MayBeIn []string `book:"-"`
	IsWhole bool     `book:"-"`
}

// ErrNotFound is what [Accounts] and [Devices] return for a name that they surely
// do not have. Any other error means that nobody could find out.
var ErrNotFound = errors.New("not found")

// Accounts supplies accounts while decisions are made, so that people need not be
// in the book and may change by the minute. It must be safe for concurrent use.
type Accounts interface {
	// Account returns the account of that name. It is called once in each
	// decision, with the name that the attempt states, and its time is part of
	// the decision's. What the account states wins over what the book says of it,
	// key by key; it is disabled where either says so. It bears the name that was asked for:
	// an answer without one is an error. Methods that are nil are not stated, and where the
	// book does not state them either, it is unknown which the account has. The caller of a decision
	// reads the account while it decides and keeps nothing of it, so the slices,
	// maps and pointers in it must not change until then.
	//
	// The error is ErrNotFound, or wraps it, where there surely is no such account:
	// the book's own is taken then, if it lists one. With any other error the
	// attempt is blocked, since nobody could find out.
	Account(ctx context.Context, name string) (Account, error)
}

// LeakedPassword is the reason of an account risk that a changed password puts
// right; any other stays until a reviewer takes it out.
const LeakedPassword = "leaked-password"

// AccountRisk is a standing risk of an account.
type AccountRisk struct {
	Level   Level      `book:"level,required" doc:"low, medium or high"`
	Because string     `book:"because" doc:"the reason; leaked-password is put right by a changed password"`
	Since   *time.Time `book:"since" doc:"when it arose"`
}

// RiskAt returns the level of the account's standing risk as seen at a moment: none where a changed password
// has put it right by then, and high where the risk has no level, or one that there is not.
func (a *Account) RiskAt(at time.Time) Level {
	switch r := a.AccountRisk; {
	case r == nil || r.Because == LeakedPassword && a.ChangedSinceRisk(at):
		return NoRisk
	case r.Level == NoRisk || r.Level > HighRisk:
		return HighRisk
	default:
		return r.Level
	}
}

// ChangedSinceRisk reports whether the password was changed after the account's
// risk arose, as seen at a moment; the zero moment is after everything.
func (a *Account) ChangedSinceRisk(at time.Time) bool {
	return a.AccountRisk != nil && a.AccountRisk.Since != nil && a.PasswordChangedAt != nil &&
		a.PasswordChangedAt.After(*a.AccountRisk.Since) && (at.IsZero() || !attempt.IsLater(*a.PasswordChangedAt, at))
}

// CompleteFrom takes over from another record of the account what a does not
// state, key by key. It is disabled where either says so.
func (a *Account) CompleteFrom(other *Account) {
	if a.Kind == UnstatedKind {
		a.Kind = other.Kind
	}
	a.Disabled = a.Disabled || other.Disabled
	if a.Groups == nil {
		a.Groups = other.Groups
	}
	if a.Methods == nil {
		a.Methods = other.Methods
	}
	if a.Attributes == nil {
		a.Attributes = other.Attributes
	}
	if a.Joined == nil {
		a.Joined = other.Joined
	}
	if a.AskedAt == nil {
		a.AskedAt = other.AskedAt
	}
	if a.AccountRisk == nil {
		a.AccountRisk = other.AccountRisk
	}
	if a.PasswordChangedAt == nil {
		a.PasswordChangedAt = other.PasswordChangedAt
	}
}
