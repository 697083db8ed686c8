package engine

import (
	"context"
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
)

// Brief is a decision without its words, for a program that judges millions of
// attempts.
type Brief struct {
	// Verdict is the verdict, and WithShadow what it would be were the shadow
	// policies live.
	Verdict, WithShadow decide.Verdict
	// Causes are those of the decision, without their texts.
	Causes []decide.Cause
	// Listed says that the account is the book's own: false where it lists none of that
	// name, and where one was supplied. App is the name of the app, "" where there is
	// none.
	Listed bool
	App    string
	// Country is where the attempt comes from, as Judge.Whereabouts has it; "" where
	// that is not known.
	Country attempt.CountryCode
	// MustEnrol says that something that is asked for can only be shown once a
	// method is enrolled, while the account has none.
	MustEnrol bool
}

// Brief judges an attempt into b. It always agrees with Decide. It uses the list
// in b again, and so comes to allocate nothing. The context is handed on as by
// Verdict.
func (j *Judge) Brief(ctx context.Context, a *attempt.Attempt, b *Brief) {
	e := j.begin(ctx, a)
	*b = Brief{Causes: b.Causes[:0], Listed: e.Profile != nil && !e.room.Holds(e.Profile)}
	if e.App >= 0 {
		b.App = j.directory.Apps[e.App].Name
	}
	if e.countryState() != countryUnknown {
		b.Country = e.where.country
	}
	e.findApplicable(withShadows)
	e.sortApplicable()
	if code := e.refusal(); code != "" {
		b.Causes = append(b.Causes, decide.Cause{Code: code})
		j.end(e)
		return
	}
	if shadows := e.meetsShadows(); shadows {
		b.WithShadow = e.evaluate(true)
		b.Verdict = e.evaluate(false)
	} else {
		b.Verdict = e.evaluate(false)
		b.WithShadow = b.Verdict
	}
	if b.Verdict != decide.Grant {
		for i := range e.needs {
			b.MustEnrol = b.MustEnrol || e.mustEnrol(e.needs[i])
		}
	}
	for _, c := range e.findCauses(b.Verdict) {
		o := &e.outcomes[c.outcome]
		source := e.source(o.policy, o.rule)
		b.Causes = append(b.Causes, decide.Cause{Code: c.code, Policy: source.Policy, Rule: source.Rule})
	}
	j.end(e)
}

// meetsShadows reports whether a policy applies that is not surely in force.
func (e *evaluation) meetsShadows() bool {
	return slices.ContainsFunc(e.applicable, func(h applicable) bool { return h.inForce != condition.True })
}

// mustEnrol reports whether a demand is open that takes a method which is to be
// enrolled first; of one of several ways, that each of them is such.
func (e *evaluation) mustEnrol(n need) bool {
	switch {
	case n.state == met:
		return false
	case n.demand == anyProof && e.Attempt.Action.TakesDeskPass():
		return false // a pass of the help desk will do
	case n.demand != oneOf:
		return n.enrol
	}
	for _, way := range e.ways[n.firstWay:n.lastWay] {
		if !slices.ContainsFunc(
			e.wayNeeds[way.first:way.last],
			func(inner need) bool { return e.mustEnrol(inner) || inner.state == impossible },
		) {
			return false
		}
	}
	return true
}

// foundCause says that an outcome, by its number among those joined, is decisive.
type foundCause struct {
	outcome int
	code    decide.CauseCode
}

// findCauses finds the causes of a verdict, the decisive ones only. The list holds
// until it is called again.
func (e *evaluation) findCauses(v decide.Verdict) []foundCause {
	blocks, worst := e.blocks(), met
	for i := range e.outcomes {
		worst = max(worst, e.weighing(&e.outcomes[i]).state)
	}
	e.causes = e.causes[:0]
	for i := range e.outcomes {
		if code := e.causeCode(&e.outcomes[i], v, blocks, worst); code != "" {
			e.causes = append(e.causes, foundCause{i, code})
		}
	}
	return e.causes
}

// causeCode tells why what was joined is decisive, "" where it is not. It is told
// the verdict, whether something blocks by itself, and how the strictest demand
// stands.
func (e *evaluation) causeCode(o *joined, v decide.Verdict, blocks bool, worst demandState) decide.CauseCode {
	w := e.weighing(o)
	switch state := w.state; {
	case o.outcome.block && o.policy == none:
		return decide.OtherwiseBlocks
	case o.outcome.block && o.sure:
		return decide.RuleBlocks
	case o.outcome.block:
		return decide.RuleMayBlock
	case blocks || state < worst && worst == impossible:
		return "" // what this one asks for is beside the point
	case state == impossible:
		return e.impossibleCode(e.firstImpossible(o))
	case state == open && v == decide.Block:
		return decide.CannotBeAsked
	case state == open:
		return decide.DemandOpen
	case v != decide.Grant:
		return ""
	case w.first == w.last:
		return decide.PublicApp
	}
	return decide.DemandsMet
}

// firstImpossible returns the first demand that cannot be met.
func (e *evaluation) firstImpossible(o *joined) *need {
	w := e.weighing(o)
	for i := w.first; i < w.last; i++ {
		if e.needs[i].state == impossible {
			return &e.needs[i]
		}
	}
	return nil
}

func (e *evaluation) impossibleCode(n *need) decide.CauseCode {
	if n.demand == oneOf {
		return decide.NoWay
	}
	if e.judge.demands[n.demand].kind == decide.DemandExternal {
		return decide.CheckFailed
	}
	if _, identified := e.findDevice().identity(); !identified {
		return decide.DeviceUnidentified
	}
	return decide.DeviceUnfit
}
