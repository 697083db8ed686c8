package consent

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Tier is a named set of scopes that are about as grave.
type Tier struct {
	Name string `book:"-"`
	// Gravity orders the tiers from the mildest, 1, to the gravest.
	Gravity int    `book:"gravity,required" doc:"how grave the tier is, from 1 for the mildest"`
	About   string `book:"about" doc:"what its scopes let a client do"`
	// Scopes are names and patterns.
	Scopes []string `book:"scopes,required" doc:"scopes by name, or by a pattern in which * stands for anything"`
	// Lasting marks scopes that outlive the session, such as offline_access (OpenID
	// Connect Core 1.0 §11).
	Lasting bool `book:"lasting" doc:"true where its scopes outlive the session, as offline_access does"`
}

// Unlisted is the tier of a scope that no tier lists. It counts as the gravest.
const Unlisted = "unlisted"

// Ladder finds the tiers of scopes.
type Ladder struct {
	// tiers are from the mildest to the gravest.
	tiers []Tier
	exact map[string]int
}

// NewLadder makes a Ladder. The error names tiers of the same gravity, a scope
// that two tiers name, and a pattern that is none.
func NewLadder(tiers []Tier) (*Ladder, error) {
	l := &Ladder{tiers: slices.SortedFunc(slices.Values(tiers), func(a, b Tier) int {
		return cmp.Or(cmp.Compare(a.Gravity, b.Gravity), cmp.Compare(a.Name, b.Name))
	}), exact: map[string]int{}}
	for i, t := range l.tiers {
		switch {
		case t.Gravity < 1:
			return nil, fmt.Errorf("tier %s: gravity counts from 1", t.Name)
		case i > 0 && l.tiers[i-1].Gravity == t.Gravity:
			return nil, fmt.Errorf("tiers %s and %s have the same gravity, %d", l.tiers[i-1].Name, t.Name, t.Gravity)
		case t.Name == Unlisted:
			return nil, fmt.Errorf("no tier can be named %s: that is what scopes in none are called", Unlisted)
		}
		for _, scope := range t.Scopes {
			if err := CheckPattern(scope); err != nil {
				return nil, fmt.Errorf("tier %s: %w", t.Name, err)
			}
			if strings.Contains(scope, "*") {
				continue
			}
			if other, twice := l.exact[scope]; twice && other != i {
				return nil, fmt.Errorf("tiers %s and %s both name the scope %s", l.tiers[other].Name, t.Name, scope)
			}
			l.exact[scope] = i
		}
	}
	return l, nil
}

// Tiers returns the tiers from the mildest to the gravest. The caller must not
// change them.
func (l *Ladder) Tiers() []Tier { return l.tiers }

// Rank returns the place of a scope's tier, counted from the mildest, and
// whether a tier lists it. A tier that names the scope settles it; else the
// gravest tier with a pattern that matches. What none lists ranks behind all.
func (l *Ladder) Rank(scope string) (rank int, listed bool) {
	if i, ok := l.exact[scope]; ok {
		return i, true
	}
	for i := len(l.tiers) - 1; i >= 0; i-- {
		if slices.ContainsFunc(l.tiers[i].Scopes, func(p string) bool { return Matches(p, scope) }) {
			return i, true
		}
	}
	return len(l.tiers), false
}

// TierOf returns the name of a scope's tier.
func (l *Ladder) TierOf(scope string) string {
	if rank, listed := l.Rank(scope); listed {
		return l.tiers[rank].Name
	}
	return Unlisted
}

// IsLasting reports whether a scope outlives the session, as far as its tier says.
func (l *Ladder) IsLasting(scope string) bool {
	rank, listed := l.Rank(scope)
	return listed && l.tiers[rank].Lasting
}

// Sort sorts scopes from the mildest to the gravest, each once.
func (l *Ladder) Sort(scopes []string) []string {
	sorted := slices.Clone(scopes)
	slices.SortFunc(sorted, func(a, b string) int {
		x, _ := l.Rank(a)
		y, _ := l.Rank(b)
		return cmp.Or(cmp.Compare(x, y), cmp.Compare(a, b))
	})
	return slices.Compact(sorted)
}

// CheckScope reports what is wrong with a scope: RFC 6749 §3.3 allows the printable
// characters of ASCII without the space, the quote and the backslash.
func CheckScope(scope string) error {
	if scope == "" || len(scope) > 200 ||
		strings.ContainsFunc(scope, func(r rune) bool { return r <= ' ' || r > '~' || r == '"' || r == '\\' }) {
		return fmt.Errorf("%q is no scope such as files.read (RFC 6749 §3.3)", scope)
	}
	return nil
}

// CheckPattern reports what is wrong with a scope or a pattern of scopes.
func CheckPattern(pattern string) error {
	if err := CheckScope(pattern); err != nil {
		return err
	}
	if strings.Count(pattern, "*") > 4 {
		return fmt.Errorf("%q has more stars than any scope could need", pattern)
	}
	return nil
}

// Matches reports whether a scope fits a pattern, in which * stands for any run of
// characters, an empty one too.
func Matches(pattern, scope string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == scope
	}
	rest, ok := strings.CutPrefix(scope, parts[0])
	if !ok {
		return false
	}
	for _, part := range parts[1 : len(parts)-1] {
		i := strings.Index(rest, part)
		if i < 0 {
			return false
		}
		rest = rest[i+len(part):]
	}
	return strings.HasSuffix(rest, parts[len(parts)-1])
}
