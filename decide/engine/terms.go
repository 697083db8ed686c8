package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Terms are what a book asks in given circumstances, whatever was shown: nobody gets in, or those who meet
// all clauses do. Where a fact is missing they are the strictest that are possible.
type Terms struct {
	// Refused is why no policy was asked, "" where policies were. It is a block.
	Refused decide.CauseCode
	// Block says that nobody gets in.
	Block bool
	// Sources are the rules that have a part in it, nothing standing for the book's own outcome.
	Sources []decide.Source

	judge   *Judge
	clauses []clause
	// limits bound the session, and profile is the account, nil where no policy was asked.
	limits  limits
	profile *Profile
}

// clause is met where one of its ways is met whole. A way is a list of demands by number, or anyProof.
type clause [][]int32

// mostCombined is how many combinations of ways are looked at, to find out whether terms imply others.
// Beyond it they do not.
const mostCombined = 1024

// Terms returns what the book asks in the circumstances of an attempt. Where proofs are among them,
// demands that they meet are part of the terms all the same.
func (j *Judge) Terms(ctx context.Context, a *attempt.Attempt) Terms {
	e := j.begin(ctx, a)
	t := e.terms()
	j.end(e)
	return t
}

// TermsWhere is Terms with the truth of a condition in the same circumstances, which is bound to the judge's
// names; nil always holds. Where it is False the terms are not worked out.
func (j *Judge) TermsWhere(ctx context.Context, a *attempt.Attempt, where condition.Node) (condition.Truth, Terms) {
	e := j.begin(ctx, a)
	defer j.end(e)
	holds := condition.Eval(where, e)
	if holds == condition.False {
		return holds, Terms{judge: j}
	}
	return holds, e.terms()
}

func (e *evaluation) terms() Terms {
	t := Terms{judge: e.judge}
	if t.Refused = e.refusal(); t.Refused != "" {
		t.Block = true
		return t
	}
	e.findApplicable(inForce)
	e.join(false)
	e.weigh()
	t.limits, t.profile = e.limits, e.Profile
	for i := range e.outcomes {
		if s := e.source(e.outcomes[i].policy, e.outcomes[i].rule); !slices.Contains(t.Sources, s) {
			t.Sources = append(t.Sources, s)
		}
	}
	if t.Block = len(e.outcomes) == 0 || e.blocks(); t.Block {
		return t
	}
	for i := range e.needs {
		n := &e.needs[i]
		c := clause{{n.demand}}
		if n.demand == oneOf {
			c = nil
			for _, w := range e.ways[n.firstWay:n.lastWay] {
				way := []int32{}
				for k := w.first; k < w.last; k++ {
					way = append(way, e.wayNeeds[k].demand)
				}
				slices.Sort(way)
				c = append(c, slices.Compact(way))
			}
			slices.SortFunc(c, slices.Compare)
			c = slices.CompactFunc(c, slices.Equal)
		}
		t.clauses = append(t.clauses, c)
	}
	byWays := func(a, b clause) int { return slices.CompareFunc(a, b, slices.Compare) }
	slices.SortFunc(t.clauses, byWays)
	t.clauses = slices.CompactFunc(t.clauses, func(a, b clause) bool { return byWays(a, b) == 0 })
	return t
}

// Same reports whether two terms of one judge ask for the same, by the same rules or by others. Limits are no
// part of it.
func (t *Terms) Same(o *Terms) bool {
	return t.Block == o.Block && slices.EqualFunc(t.clauses, o.clauses, func(a, b clause) bool { return slices.EqualFunc(a, b, slices.Equal) })
}

// Imply reports whether all who meet the terms meet an assurance: nobody gets in without it. An assurance
// that the book does not have is not met.
func (t *Terms) Imply(assurance string) bool {
	if t.Block {
		return true
	}
	n, known := t.judge.assuranceNumber[assurance]
	return known && imply(t.clauses, clause{t.judge.assurances[n].demands}, t.judge.demandImplies)
}

// AssuranceImplies reports whether all who meet one assurance meet another. One that the book does not have implies nothing
// and is implied by none.
func (j *Judge) AssuranceImplies(one, other string) bool {
	n, known := j.assuranceNumber[one]
	m, knownToo := j.assuranceNumber[other]
	return known && knownToo && imply([]clause{{j.assurances[n].demands}}, clause{j.assurances[m].demands}, j.demandImplies)
}

// MetBy reports whether all who meet some assurances meet the terms. Nothing meets a block.
func (t *Terms) MetBy(assurances []string) bool {
	if t.Block {
		return false
	}
	var shown []clause
	for _, name := range assurances {
		n, known := t.judge.assuranceNumber[name]
		if !known {
			return false
		}
		shown = append(shown, clause{t.judge.assurances[n].demands})
	}
	for _, c := range t.clauses {
		if !imply(shown, c, t.judge.demandImplies) {
			return false
		}
	}
	return true
}

// Implies reports whether all who meet the terms meet others of the same judge. A block implies all.
func (t *Terms) Implies(o *Terms) bool {
	return t.Block || !o.Block && !slices.ContainsFunc(o.clauses, func(c clause) bool { return !imply(t.clauses, c, t.judge.demandImplies) })
}

// WithinReach reports whether the account can meet the terms with what it has enrolled, on a device that passes what is
// asked of it.
func (t *Terms) WithinReach() bool {
	if t.Block {
		return false
	}
	has := t.profile.Enrolled() &^ t.profile.Barred()
	can := func(n int32) bool {
		if n == anyProof {
			return has != 0
		}
		switch d := &t.judge.demands[n]; d.kind {
		case decide.DemandMethod:
			return (d.methods|d.fallback)&has != 0
		case decide.DemandEnrol:
			return d.methods&has != 0
		}
		return true
	}
	return !slices.ContainsFunc(t.clauses, func(c clause) bool {
		return !slices.ContainsFunc(c, func(way []int32) bool { return !slices.ContainsFunc(way, func(n int32) bool { return !can(n) }) })
	})
}

// imply reports whether those who meet all of some clauses meet another one: whichever ways they took. Implies
// reports whether meeting one demand meets another.
func imply(clauses []clause, other clause, implies func(one, other int32) bool) bool {
	combinations := 1
	for _, c := range clauses {
		if combinations *= max(1, len(c)); combinations > mostCombined {
			return false
		}
	}
	for n := range combinations {
		var shown []int32
		for _, c := range clauses {
			if len(c) > 0 {
				shown = append(shown, c[n%len(c)]...)
				n /= len(c)
			}
		}
		if !slices.ContainsFunc(other, func(way []int32) bool { return meetAll(shown, way, implies) }) {
			return false
		}
	}
	return true
}

// meetAll reports whether demands that are met mean that others are.
func meetAll(shown, asked []int32, implies func(one, other int32) bool) bool {
	for _, a := range asked {
		if !slices.ContainsFunc(shown, func(s int32) bool { return implies(s, a) }) {
			return false
		}
	}
	return true
}

// demandImplies reports whether meeting one demand meets another.
func (j *Judge) demandImplies(one, other int32) bool {
	switch {
	case one == other:
		return true
	case one < 0:
		return false
	case other == anyProof:
		return j.demands[one].kind == decide.DemandMethod
	case other < 0:
		return false
	}
	return j.demands[one].implies(&j.demands[other])
}

// implies reports whether meeting one demand meets another of the same judge.
func (x *demand) implies(y *demand) bool {
	if x.kind != y.kind {
		return false
	}
	switch x.kind {
	case decide.DemandMethod:
		recent := y.within == decide.Session || x.within == y.within || x.within == decide.Now && y.within >= decide.Within(longestAttempt) ||
			x.within > 0 && x.within <= y.within
		fallback := x.fallback&^y.methods == 0 || x.methods == y.methods && x.fallback&^y.fallback == 0
		return x.methods&^y.methods == 0 && fallback && recent && (x.remember == 0 || x.remember <= y.remember)
	case decide.DemandEnrol:
		return x.methods&^y.methods == 0
	case decide.DemandAccept:
		return x.name == y.name && x.version >= y.version && (y.every == 0 || x.every > 0 && x.every <= y.every)
	case decide.DemandPosture:
		return x.posture == y.posture
	case decide.DemandExternal:
		return x.name == y.name
	}
	return true
}

// String is the terms in words: "block", "nothing", or all that is asked for, by the names of the book's assurances
// where they ask for just that.
func (t *Terms) String() string { return t.words(t.judge.named) }

// InFull is String without the names of assurances: each demand in words.
func (t *Terms) InFull() string {
	return t.words(func(demands []int32) (all []string) {
		for _, d := range demands {
			all = append(all, t.judge.demandWords(d))
		}
		return all
	})
}

func (t *Terms) words(named func(demands []int32) []string) string {
	switch {
	case t.Refused != "":
		return "block (" + strings.ReplaceAll(string(t.Refused), "_", " ") + ")"
	case t.Block:
		return "block"
	case len(t.clauses) == 0:
		return "nothing"
	}
	implied := func(by []clause, c clause) bool { return imply(by, c, t.judge.demandImplies) }
	var alone []int32 // what has to be met whichever way is taken
	var choices []string
	for i, c := range t.clauses {
		rest := slices.Delete(slices.Clone(t.clauses), i, i+1)
		if implied(rest, c) && !slices.ContainsFunc(t.clauses[:i], func(o clause) bool { return implied([]clause{c}, o) }) {
			continue // what is said besides says it too
		}
		if len(c) == 1 {
			alone = append(alone, c[0]...)
			continue
		}
		var ways []string
		for _, way := range c {
			ways = append(ways, cmp.Or(words.List(named(way), "and"), "nothing"))
		}
		choices = append(choices, "either "+strings.Join(ways, " or "))
	}
	return strings.Join(append(named(alone), choices...), "; ")
}

// named returns what demands are called: the assurances that ask for several of them, or for one, and in words those
// that no assurance asks for alone.
func (j *Judge) named(demands []int32) (names []string) {
	asked := func(d int32) bool { return slices.Contains(demands, d) }
	left := slices.Clone(demands)
	bySize := make([]int, len(j.assurances))
	for i := range bySize {
		bySize[i] = i
	}
	slices.SortStableFunc(bySize, func(a, b int) int { return len(j.assurances[b].demands) - len(j.assurances[a].demands) })
	for _, n := range bySize {
		own := j.assurances[n].demands
		if len(own) == 0 || !slices.ContainsFunc(own, func(d int32) bool { return slices.Contains(left, d) }) ||
			slices.ContainsFunc(own, func(d int32) bool { return !asked(d) }) {
			continue
		}
		names = append(names, j.assurances[n].name)
		left = slices.DeleteFunc(left, func(d int32) bool { return slices.Contains(own, d) })
	}
	for _, d := range left {
		names = append(names, j.demandWords(d))
	}
	return names
}

// LimitWords says in words how long a session may last and rest, and whether proofs made for other apps count.
func (t *Terms) LimitWords() string {
	parts := []string{"without a limit of time"}
	if t.limits.lasts > 0 {
		parts[0] = "for at most " + directory.Span(t.limits.lasts).Words()
	}
	if t.limits.idle > 0 {
		parts = append(parts, directory.Span(t.limits.idle).Words()+" of rest")
	}
	if t.limits.unshared {
		parts = append(parts, "with proofs made for this app alone")
	}
	return words.List(parts, "and")
}

// demandWords is a demand in words.
func (j *Judge) demandWords(number int32) string {
	if number < 0 {
		return "any proof"
	}
	d := &j.demands[number]
	w := decide.Demand{Kind: d.kind, AnyOf: j.appendMethodNames(nil, d.methods)}
	switch d.kind {
	case decide.DemandMethod:
		w.Within = &d.within
	case decide.DemandPosture:
		w.Posture = d.name
	case decide.DemandAccept:
		w.Document, w.Version = d.name, d.version
	case decide.DemandExternal:
		w.External = d.name
	}
	return fmt.Sprint(w)
}
