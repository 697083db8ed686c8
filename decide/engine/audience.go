package engine

import (
	"fmt"
	"iter"
	"math/bits"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
)

// Audience is a set of accounts, by number: those for which a condition surely
// holds, and those for which it may. It does not change.
type Audience struct{ sure, may []uint64 }

// Gathering finds the accounts for which conditions hold at one moment. It
// remembers what it found, and is not safe for concurrent use.
type Gathering struct {
	directory *Directory
	at        time.Time
	// profiles are those of the accounts, as conditions look at them.
	profiles []*Profile
	tests    map[string]Audience
	// members and perhaps list the accounts of each group.
	members, perhaps [][]int32
	emergencies      []int
}

// Gather returns a Gathering for a moment.
func (e *Directory) Gather(at time.Time) *Gathering {
	return e.gather(at, func(account int) *Profile { return e.ProfileAt(account, at) })
}

// GatherFrom returns a Gathering for a stretch of time from a moment on, in which a password may put a risk right: what groups
// and methods that depend on it come to is not known.
func (e *Directory) GatherFrom(at time.Time) *Gathering { return e.gather(at, e.Profile) }

func (e *Directory) gather(at time.Time, profile func(account int) *Profile) *Gathering {
	g := &Gathering{directory: e, at: at, tests: make(map[string]Audience), profiles: make([]*Profile, len(e.profiles)),
		members: make([][]int32, len(e.Groups)), perhaps: make([][]int32, len(e.Groups))}
	for account := range e.profiles {
		p := profile(account)
		g.profiles[account] = p
		for _, group := range p.groups {
			g.members[group] = append(g.members[group], int32(account))
		}
		for _, group := range p.mayBeIn() {
			g.perhaps[group] = append(g.perhaps[group], int32(account))
		}
		if p.kind == directory.Emergency {
			g.emergencies = append(g.emergencies, account)
		}
	}
	return g
}

// Members returns the accounts that are surely in a group, by number. The caller
// must not change them.
func (g *Gathering) Members(group int) []int32 { return g.members[group] }

// Emergencies returns the emergency accounts, by number. The caller must not
// change them.
func (g *Gathering) Emergencies() []int { return g.emergencies }

// InGroup returns the accounts in a group, by number.
func (g *Gathering) InGroup(group int) Audience {
	a := g.Nobody()
	for _, n := range g.members[group] {
		a.add(n, condition.True)
	}
	for _, n := range g.perhaps[group] {
		a.add(n, condition.Unknown)
	}
	return a
}

// Of returns the accounts for which a bound condition on accounts holds. What it
// asks of anything else is unknown.
func (g *Gathering) Of(node condition.Node) Audience {
	switch n := node.(type) {
	case *condition.All:
		all := g.Everyone()
		for _, kid := range n.Of {
			all = all.And(g.Of(kid))
		}
		return all
	case *condition.Any:
		any := g.Nobody()
		for _, kid := range n.Of {
			any = any.Or(g.Of(kid))
		}
		return any
	case *condition.Not:
		return g.Of(n.Of).Not(len(g.directory.Accounts))
	case *condition.Test:
		key := fmt.Sprint(n.Key, n.Attribute, n.Salt(), n.Limit(), strings.Join(n.Values, "\x00"))
		found, known := g.tests[key]
		if !known {
			found = g.test(n)
			g.tests[key] = found
		}
		return found
	}
	return g.Everyone() // the nil condition limits nothing
}

func (g *Gathering) test(t *condition.Test) Audience {
	a := Audience{make([]uint64, g.words()), make([]uint64, g.words())}
	switch t.Key {
	case KeyAccounts:
		for _, n := range t.Numbers() {
			if int(n) < len(g.directory.Accounts) { // the others are not listed
				a.add(n, condition.True)
			}
		}
	case KeyGroups:
		for _, group := range t.Numbers() {
			a = a.Or(g.InGroup(int(group)))
		}
	default:
		facts := Facts{HasProfile: true, Moment: g.at, At: g.at}
		for n, p := range g.profiles {
			facts.Profile = p
			a.add(int32(n), t.Holds(&facts))
		}
	}
	return a
}

func (g *Gathering) words() int { return (len(g.directory.Accounts) + 63) / 64 }

// Nobody returns the empty audience.
func (g *Gathering) Nobody() Audience {
	return Audience{make([]uint64, g.words()), make([]uint64, g.words())}
}

// Everyone returns the audience of all accounts.
func (g *Gathering) Everyone() Audience { return g.Nobody().Not(len(g.directory.Accounts)) }

// Only returns the audience of one account, by number.
func (g *Gathering) Only(account int) Audience {
	a := g.Nobody()
	a.add(int32(account), condition.True)
	return a
}

func (a Audience) add(account int32, holds condition.Truth) {
	bit := uint64(1) << (account % 64)
	if holds == condition.True {
		a.sure[account/64] |= bit
	}
	if holds != condition.False {
		a.may[account/64] |= bit
	}
}

// And returns those for which both conditions hold.
func (a Audience) And(b Audience) Audience {
	return a.with(b, func(x, y uint64) uint64 { return x & y })
}

// Or returns those for which one of the conditions holds.
func (a Audience) Or(b Audience) Audience {
	return a.with(b, func(x, y uint64) uint64 { return x | y })
}

func (a Audience) with(b Audience, combine func(x, y uint64) uint64) Audience {
	c := Audience{make([]uint64, len(a.sure)), make([]uint64, len(a.may))}
	for i := range a.sure {
		c.sure[i], c.may[i] = combine(a.sure[i], b.sure[i]), combine(a.may[i], b.may[i])
	}
	return c
}

// Not returns those, of so many accounts, for which the condition does not hold.
func (a Audience) Not(accounts int) Audience {
	c := Audience{make([]uint64, len(a.sure)), make([]uint64, len(a.may))}
	for i := range a.sure {
		all := ^uint64(0)
		if rest := accounts - i*64; rest < 64 {
			all = 1<<rest - 1
		}
		c.sure[i], c.may[i] = all&^a.may[i], all&^a.sure[i]
	}
	return c
}

// Surely returns those alone for which the condition surely holds.
func (a Audience) Surely() Audience { return Audience{a.sure, a.sure} }

// Possibly returns those for which the condition may hold, as if it did.
func (a Audience) Possibly() Audience { return Audience{a.may, a.may} }

// Holds reports whether an account, by number, is in the audience.
func (a Audience) Holds(account int) condition.Truth {
	bit := uint64(1) << (account % 64)
	switch {
	case a.sure[account/64]&bit != 0:
		return condition.True
	case a.may[account/64]&bit != 0:
		return condition.Unknown
	}
	return condition.False
}

// Len returns for how many accounts the condition surely holds, and for how many
// it may, those included.
func (a Audience) Len() (sure, may int) {
	for i := range a.sure {
		sure += bits.OnesCount64(a.sure[i])
		may += bits.OnesCount64(a.may[i])
	}
	return sure, may
}

// IsEmpty reports that the condition holds for nobody, not even perhaps.
func (a Audience) IsEmpty() bool {
	return !slices.ContainsFunc(a.may, func(w uint64) bool { return w != 0 })
}

// Meets reports whether some account may be in both audiences.
func (a Audience) Meets(b Audience) bool {
	for i := range a.may {
		if a.may[i]&b.may[i] != 0 {
			return true
		}
	}
	return false
}

// Covers reports whether anyone who may be in b is surely in a.
func (a Audience) Covers(b Audience) bool {
	for i := range a.sure {
		if b.may[i]&^a.sure[i] != 0 {
			return false
		}
	}
	return true
}

// All yields the numbers of those for which the condition may hold, ascending.
func (a Audience) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, w := range a.may {
			for ; w != 0; w &= w - 1 {
				if !yield(i*64 + bits.TrailingZeros64(w)) {
					return
				}
			}
		}
	}
}
