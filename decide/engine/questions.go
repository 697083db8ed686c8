package engine

import (
	"context"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// What follows answers questions about a judge that are no attempts: those of what describes a book, checks or
// explores it. Policies and rollouts are numbered in the order of the judge's lists of them; accounts, groups and
// apps in that of the directory's.

// Directory returns the facts that the judge decides on.
func (j *Judge) Directory() *Directory { return j.directory }

// Bind binds a condition to the judge's names. Owner is the name of the policy for which shares are drawn.
func (j *Judge) Bind(owner string, node condition.Node) (condition.Node, error) {
	return condition.Bind(node, j.vocabulary(owner))
}

// Holds answers a bound test on an attempt, as a decision on it would.
func (j *Judge) Holds(a *attempt.Attempt, t *condition.Test) condition.Truth {
	e := j.begin(context.Background(), a)
	holds := e.Facts.Holds(t)
	j.end(e)
	return holds
}

// Fulfils reports whether on an attempt each of some bound conditions surely holds, and none of some others surely does.
func (j *Judge) Fulfils(ctx context.Context, a *attempt.Attempt, holds, unless []condition.Node) bool {
	e := j.begin(ctx, a)
	defer j.end(e)
	surely := func(node condition.Node) bool { return condition.Eval(node, e) == condition.True }
	return !slices.ContainsFunc(holds, func(node condition.Node) bool { return !surely(node) }) && !slices.ContainsFunc(unless, surely)
}

// Deadline returns when the time of a rollout is up for an account, as seen at a moment.
func (j *Judge) Deadline(rollout int, account *Profile, at time.Time) time.Time {
	return j.rollouts[rollout].deadline(account, at)
}

// Methods returns the methods that meet what an assurance asks to be proven, and its fallbacks; none where the judge does
// not know one of them.
func (j *Judge) Methods(anyOf []string, traits []directory.Trait, fallbacks []string) (preferred, fallback MethodSet) {
	d, err := j.compileProve(decide.Prove{AnyOf: anyOf, Traits: traits, Fallback: fallbacks})
	if err != nil {
		return 0, 0 // it is none of the judge's
	}
	return d.methods, d.fallback
}

// MethodNames returns the names of a set of methods, sorted.
func (j *Judge) MethodNames(set MethodSet) []string {
	return j.appendMethodNames(make([]string, 0, set.Len()), set)
}

// Speaking is a policy that speaks on an attempt, or may.
type Speaking struct {
	Policy int
	// Applies and InForce are whether it does for certain, and Speaks whether one of its rules surely matches.
	Applies, InForce condition.Truth
	Speaks           bool
	Rules            []MatchingRule
}

// MatchingRule is a rule that matches, or may.
type MatchingRule struct {
	Rule    int
	Matches condition.Truth
}

// Speaking returns which of the policies speak on an attempt, or may, with their rules that match. A policy that says nothing
// is left out. The policies are to be aimed at the app.
func (j *Judge) Speaking(ctx context.Context, a *attempt.Attempt, policies []int) (list []Speaking) {
	e := j.begin(ctx, a)
	defer j.end(e)
	if e.refusal() != "" {
		return nil
	}
	for _, number := range policies {
		e.consider(int32(number), inForce)
	}
	for i := range e.applicable {
		h := &e.applicable[i]
		speaking := Speaking{Policy: int(h.policy), Applies: h.applies, InForce: h.inForce, Speaks: h.speaks}
		for _, r := range e.spoken[h.first:h.last] {
			speaking.Rules = append(speaking.Rules, MatchingRule{Rule: int(r.rule), Matches: r.match})
		}
		if len(speaking.Rules) > 0 {
			list = append(list, speaking)
		}
	}
	return list
}

// Score returns between what the score of an attempt surely lies.
func (j *Judge) Score(a *attempt.Attempt) Score {
	e := j.begin(context.Background(), a)
	defer j.end(e)
	return e.score()
}

// Audience returns the accounts that a policy is for. An emergency account is among them only where the policy names it.
func (j *Judge) Audience(policy int, g *Gathering) Audience {
	p := &j.policies[policy]
	audience := g.Of(p.who)
	for _, account := range g.Emergencies() {
		if !p.names(j.directory.Profile(account)) {
			audience = audience.And(g.Only(account).Not(len(j.directory.Accounts)))
		}
	}
	return audience
}

// Apps returns the apps that a policy is aimed at.
func (j *Judge) Apps(policy int) []int {
	var apps []int
	for app := range j.directory.Apps {
		if condition.Eval(j.policies[policy].apps, j.directory.FactsOfApp(app)) != condition.False {
			apps = append(apps, app)
		}
	}
	return apps
}

// InForceAt reports whether a moment lies between the dates of a policy.
func (j *Judge) InForceAt(policy int, at time.Time) bool { return j.policies[policy].inForceAt(at) }

// Covered reports of each app whether a live policy within its dates is for sign-ins there, of other accounts than
// those for emergencies.
func (j *Judge) Covered(g *Gathering, at time.Time) []bool {
	daily := g.Everyone()
	for _, account := range g.Emergencies() {
		daily = daily.And(g.Only(account).Not(len(j.directory.Accounts)))
	}
	covered := make([]bool, len(j.directory.Apps))
	for i := range j.policies {
		p := &j.policies[i]
		if p.stage != decide.Live || !p.isFor(attempt.SignIn) || !p.inForceAt(at) || !j.Audience(i, g).Meets(daily) {
			continue
		}
		for _, app := range j.Apps(i) {
			covered[app] = true
		}
	}
	return covered
}
