package engine

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// Relation compares terms of two judges: those of an older and of a newer version of a rulebook. Methods, documents
// and outside checks are the same where they have the same names, and postures where they check the same. It is
// safe for concurrent use.
type Relation struct {
	older, newer *Judge
	// demands are those of the older judge and then of the newer, with one numbering of methods.
	demands []demand
	// equal has for each demand of the newer judge the one of the older that asks for the same, or none.
	equal []int32
	// renumber has for each method of the newer judge its number here.
	renumber []int
}

// Relate prepares to compare terms of two judges. The error says that they have more methods than can be numbered.
func Relate(older, newer *Judge) (*Relation, error) {
	r := &Relation{older: older, newer: newer, demands: slices.Clone(older.demands)}
	known := len(older.directory.Methods())
	for _, m := range newer.directory.Methods() {
		n, has := older.directory.FindMethod(m.Name)
		if !has {
			n = known
			known++
		}
		r.renumber = append(r.renumber, n)
	}
	if known > MaxMethods {
		return nil, fmt.Errorf("the two books have %d methods with different names, and no more than %d can be told apart", known,
			MaxMethods)
	}
	for i := range newer.demands {
		d := newer.demands[i]
		d.methods, d.fallback = r.numbered(d.methods), r.numbered(d.fallback)
		found := none
		for k := range older.demands {
			if o := &older.demands[k]; r.same(o, &d) {
				found = int32(k)
			}
		}
		r.equal = append(r.equal, found)
		r.demands = append(r.demands, d)
	}
	return r, nil
}

// numbered is a set of methods of the newer judge in the numbering of the relation.
func (r *Relation) numbered(set MethodSet) (s MethodSet) {
	for i, n := range r.renumber {
		if set.Has(i) {
			s = s.Add(n)
		}
	}
	return s
}

// same reports whether a demand of the older judge and one of the newer ask for the same.
func (r *Relation) same(x, y *demand) bool {
	return x.kind == y.kind && x.methods == y.methods && x.fallback == y.fallback && x.within == y.within && x.remember == y.remember &&
		x.version == y.version && x.every == y.every &&
		(x.kind == decide.DemandPosture && SamePosture(&r.older.directory.Postures[x.posture], &r.newer.directory.Postures[y.posture]) ||
			x.kind != decide.DemandPosture && x.name == y.name)
}

// Compare reports whether the newer terms are milder than the older ones, so that somebody may meet them who did not
// meet those, and whether they are stricter. Both may be so, or neither. Limits of the session are among what is
// compared. The terms are those of one account and app in the same circumstances.
func (r *Relation) Compare(was, is *Terms) (milder, stricter bool) {
	switch {
	case was.Block && is.Block:
		return false, false
	case was.Block:
		return true, false
	case is.Block:
		return false, true
	}
	milder, stricter = r.compareLimits(&was.limits, &is.limits)
	if r.provesAlike(was.profile, is.profile) && r.sameClauses(was.clauses, is.clauses) {
		return milder, stricter
	}
	p := pairing{Relation: r, was: r.standing(was.profile, false), is: r.standing(is.profile, true)}
	newer := make([]clause, len(is.clauses))
	for i, c := range is.clauses {
		for _, way := range c {
			moved := make([]int32, len(way))
			for k, d := range way {
				if moved[k] = newerAnyProof; d >= 0 {
					moved[k] = d + int32(len(r.older.demands))
				}
			}
			newer[i] = append(newer[i], moved)
		}
	}
	for _, c := range was.clauses {
		milder = milder || !imply(newer, c, p.implies)
	}
	for _, c := range newer {
		stricter = stricter || !imply(was.clauses, c, p.implies)
	}
	if otherwise := otherSince(was.profile, is.profile); otherwise && (r.dated(was.clauses) || r.dated(newer)) {
		return true, true
	}
	return milder, stricter
}

// compareLimits compares what bounds a session; zero bounds nothing.
func (r *Relation) compareLimits(was, is *limits) (milder, stricter bool) {
	for _, x := range [...][2]time.Duration{{was.lasts, is.lasts}, {was.idle, is.idle}} {
		if x[0] != x[1] {
			longer := x[1] == 0 || x[0] != 0 && x[0] < x[1]
			milder, stricter = milder || longer, stricter || !longer
		}
	}
	return milder || was.unshared && !is.unshared, stricter || !was.unshared && is.unshared
}

// sameClauses reports whether clauses of both judges ask for the same, one by one.
func (r *Relation) sameClauses(was, is []clause) bool {
	same := func(a, b int32) bool { return b < 0 && a == b || b >= 0 && r.equal[b] == a && a >= 0 }
	sameWay := func(a, b []int32) bool {
		return len(a) == len(b) && !slices.ContainsFunc(b, func(d int32) bool {
			return !slices.ContainsFunc(a, func(o int32) bool { return same(o, d) })
		})
	}
	return len(was) == len(is) && !slices.ContainsFunc(is, func(c clause) bool {
		return !slices.ContainsFunc(was, func(o clause) bool {
			return len(o) == len(c) && !slices.ContainsFunc(c, func(way []int32) bool {
				return !slices.ContainsFunc(o, func(other []int32) bool { return sameWay(other, way) })
			})
		})
	})
}

// standing is what an account has to prove itself by, in the numbering of the relation.
type standing struct{ enrolled, barred MethodSet }

func (r *Relation) standing(p *Profile, newer bool) standing {
	s := standing{p.Enrolled() | p.PerhapsEnrolled(), p.Barred()}
	if newer {
		s = standing{r.numbered(s.enrolled), r.numbered(s.barred)}
	}
	return s
}

// provesAlike reports whether what an account proves counts the same by both judges.
func (r *Relation) provesAlike(was, is *Profile) bool {
	return r.standing(was, false) == r.standing(is, true) && was.PerhapsBarred() == 0 && is.PerhapsBarred() == 0 && !otherSince(was, is)
}

// otherSince reports whether the password or the risk of an account is dated otherwise, which decides whether
// one was changed and what a device remembers.
func otherSince(was, is *Profile) bool {
	a, b := was.Account(), is.Account()
	return a != b && !(reflect.DeepEqual(a.AccountRisk, b.AccountRisk) && reflect.DeepEqual(a.PasswordChangedAt, b.PasswordChangedAt))
}

// dated reports whether a demand among clauses looks at what otherSince does.
func (r *Relation) dated(clauses []clause) bool {
	return slices.ContainsFunc(clauses, func(c clause) bool {
		return slices.ContainsFunc(c, func(way []int32) bool {
			return slices.ContainsFunc(way, func(d int32) bool {
				return d >= 0 && (r.demands[d].kind == decide.DemandChangePassword || r.demands[d].remember > 0)
			})
		})
	})
}

// pairing compares demands for one account.
type pairing struct {
	*Relation
	was, is standing
}

// newerAnyProof is anyProof of the newer judge.
const newerAnyProof = anyProof - 2

// implies reports whether meeting one demand meets another; those of the newer judge are numbered after those of
// the older.
func (p *pairing) implies(one, other int32) bool {
	barred := p.of(other).barred
	switch {
	case one < 0 && other < 0:
		return barred&^p.of(one).barred == 0
	case one < 0:
		return false
	case other < 0:
		x := &p.demands[one]
		return x.kind == decide.DemandMethod && p.provesAtAll(one, x)&barred == 0
	}
	x, y := p.demands[one], p.demands[other]
	if x.kind != y.kind {
		return false
	}
	switch x.kind {
	case decide.DemandPosture:
		return postureImplies(p.posture(one), p.posture(other))
	case decide.DemandMethod:
		return p.proves(one, &x)&^p.proves(other, &y) == 0 && p.provesAtAll(one, &x)&^p.provesAtAll(other, &y) == 0 &&
			p.withoutSets(x).implies(p.withoutSets(y)) && (x.fallback&^y.methods == 0 || x.methods&^y.methods == 0)
	}
	return x.implies(&y)
}

// withoutSets is a demand for a method, to compare how recent it must be and nothing else.
func (p *pairing) withoutSets(d demand) *demand {
	d.methods, d.fallback = 0, 0
	return &d
}

// of is the standing of the account by the judge whose demand it is.
func (p *pairing) of(d int32) standing {
	if d >= int32(len(p.older.demands)) || d == newerAnyProof {
		return p.is
	}
	return p.was
}

// proves are the methods that meet a demand whatever failed before.
func (p *pairing) proves(number int32, d *demand) MethodSet {
	s := p.of(number)
	set := d.methods
	if set&s.enrolled == 0 {
		set |= d.fallback
	}
	return set &^ s.barred
}

// provesAtAll are those that may meet it.
func (p *pairing) provesAtAll(number int32, d *demand) MethodSet {
	return (d.methods | d.fallback) &^ p.of(number).barred
}

func (p *pairing) posture(number int32) *directory.Posture {
	if older := int32(len(p.older.demands)); number >= older {
		return &p.newer.directory.Postures[p.demands[number].posture]
	}
	return &p.older.directory.Postures[p.demands[number].posture]
}
