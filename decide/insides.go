package decide

import (
	"context"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
	"github.com/briskwarden/briskwarden/internal/inside"
)

// insides show the packages of this module what they need of a judge.
type insides struct{ *Judge }

func init() {
	inside.Open = func(judge any) inside.Judge { return insides{judge.(*Judge)} }
	inside.Fingerprint = fingerprintOf
	inside.CompileAsking = func(rulebook any) (any, error) { return compile(rulebook.(Rulebook), true) }
}

// Directory implements inside.Judge.
func (j insides) Directory() *facts.Directory { return j.directory }

// Bind implements inside.Judge.
func (j insides) Bind(owner string, node condition.Node) (condition.Node, error) {
	return condition.Bind(node, j.vocabulary(owner))
}

// Holds implements inside.Judge.
func (j insides) Holds(a *attempt.Attempt, t *condition.Test) condition.Truth {
	e := j.begin(context.Background(), a)
	holds := t.Key.Definition().Holds(&e.Facts, t)
	j.end(e)
	return holds
}

// Fulfils implements inside.Judge.
func (j insides) Fulfils(ctx context.Context, a *attempt.Attempt, holds, unless []condition.Node) bool {
	e := j.begin(ctx, a)
	defer j.end(e)
	surely := func(node condition.Node) bool { return condition.Eval(node, &e.Facts) == condition.True }
	return !slices.ContainsFunc(holds, func(node condition.Node) bool { return !surely(node) }) && !slices.ContainsFunc(unless, surely)
}

// Deadline implements inside.Judge.
func (j insides) Deadline(rollout int, account *facts.Profile, at time.Time) time.Time {
	return j.rollouts[rollout].deadline(account, at)
}

// Methods implements inside.Judge.
func (j insides) Methods(anyOf []string, traits []directory.Trait, fallbacks []string) (preferred, fallback facts.MethodSet) {
	d, err := j.compileProve(Prove{AnyOf: anyOf, Traits: traits, Fallback: fallbacks})
	if err != nil {
		return 0, 0 // it is none of the judge's
	}
	return d.methods, d.fallback
}

// Heard implements inside.Judge.
func (j insides) Heard(ctx context.Context, a *attempt.Attempt, policies []int) (list []inside.Heard) {
	e := j.begin(ctx, a)
	defer j.end(e)
	if e.refusal() != "" {
		return nil
	}
	for _, number := range policies {
		e.hearOne(int32(number), inForce)
	}
	for i := range e.hearings {
		h := &e.hearings[i]
		heard := inside.Heard{Policy: int(h.policy), Applies: h.applies, InForce: h.inForce, Speaks: h.speaks}
		for _, r := range e.spoken[h.first:h.last] {
			heard.Rules = append(heard.Rules, inside.HeardRule{Rule: int(r.rule), Matches: r.match})
		}
		if len(heard.Rules) > 0 {
			list = append(list, heard)
		}
	}
	return list
}

// Score implements inside.Judge.
func (j insides) Score(a *attempt.Attempt) (low, high int) {
	e := j.begin(context.Background(), a)
	defer j.end(e)
	score := e.score()
	return score.Low, score.High
}

// MethodNames implements inside.Judge.
func (j insides) MethodNames(set facts.MethodSet) []string {
	return j.appendMethodNames(make([]string, 0, set.Len()), set)
}

// Audience implements inside.Judge.
func (j insides) Audience(policy int, g *facts.Gathering) facts.Audience {
	p := &j.policies[policy]
	audience := g.Of(p.who)
	for _, account := range g.Emergencies() {
		if !p.names(j.directory.Profile(account)) {
			audience = audience.And(g.Only(account).Not(len(j.directory.Accounts)))
		}
	}
	return audience
}

// Apps implements inside.Judge.
func (j insides) Apps(policy int) []int {
	var apps []int
	for app := range j.directory.Apps {
		if condition.Eval(j.policies[policy].apps, j.directory.FactsOfApp(app)) != condition.False {
			apps = append(apps, app)
		}
	}
	return apps
}

// InForceAt implements inside.Judge.
func (j insides) InForceAt(policy int, at time.Time) bool { return j.policies[policy].inForceAt(at) }

// Covered implements inside.Judge.
func (j insides) Covered(g *facts.Gathering, at time.Time) []bool {
	daily := g.Everyone()
	for _, account := range g.Emergencies() {
		daily = daily.And(g.Only(account).Not(len(j.directory.Accounts)))
	}
	covered := make([]bool, len(j.directory.Apps))
	for i := range j.policies {
		p := &j.policies[i]
		if p.stage != Live || !p.isFor(attempt.SignIn) || !p.inForceAt(at) || !j.Audience(i, g).Meets(daily) {
			continue
		}
		for _, app := range j.Apps(i) {
			covered[app] = true
		}
	}
	return covered
}
