// Package inside lets the packages of this module look into a compiled judge: at the
// directory that it decides on, and at policies, rollouts and apps by their numbers. A
// program that uses the module has no need of it, and package decide exports none of
// it.
package inside

import (
	"context"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
)

// Judge is what can be seen inside a judge. Policies and rollouts are numbered in the
// order of decide.Judge's lists of them, accounts, groups and apps in that of the
// directory's.
type Judge interface {
	// Directory returns the facts that the judge decides on.
	Directory() *facts.Directory
	// Apps returns the apps that a policy is aimed at.
	Apps(policy int) []int
	// Audience returns the accounts that a policy is for. An emergency account is among
	// them only where the policy names it.
	Audience(policy int, g *facts.Gathering) facts.Audience
	// Covered reports of each app whether a live policy within its dates is for sign-ins
	// there, of other accounts than those for emergencies.
	Covered(g *facts.Gathering, at time.Time) []bool
	// InForceAt reports whether a moment lies between the dates of a policy.
	InForceAt(policy int, at time.Time) bool
	// Deadline returns when the time of a rollout is up for an account, as seen at a
	// moment.
	Deadline(rollout int, account *facts.Profile, at time.Time) time.Time
	// Methods returns the methods that meet what an assurance asks to be proven, and its
	// fallbacks; none where the judge does not know one of them.
	Methods(anyOf []string, traits []directory.Trait, fallbacks []string) (preferred, fallback facts.MethodSet)
	// Bind binds a condition to the judge's names. Owner is the name of the policy for which
	// shares are drawn.
	Bind(owner string, node condition.Node) (condition.Node, error)
	// Holds answers a bound test on an attempt, as a decision on it would.
	Holds(a *attempt.Attempt, t *condition.Test) condition.Truth
	// Fulfils reports whether on an attempt each of some bound conditions surely holds, and none of some others surely
	// does.
	Fulfils(ctx context.Context, a *attempt.Attempt, holds, unless []condition.Node) bool
	// Heard returns which rules of policies speak on an attempt, or may, each with its truth, and whether the policies
	// surely apply. A policy that says nothing is left out. The policies are to be aimed at the app.
	Heard(ctx context.Context, a *attempt.Attempt, policies []int) []Heard
	// Score returns between what the score of an attempt surely lies.
	Score(a *attempt.Attempt) (low, high int)
	// MethodNames returns the names of a set of methods, sorted.
	MethodNames(set facts.MethodSet) []string
}

// Heard is a policy that speaks on an attempt, or may.
type Heard struct {
	Policy int
	// Applies and InForce are whether it does for certain, and Speaks whether one of its rules surely matches.
	Applies, InForce condition.Truth
	Speaks           bool
	Rules            []HeardRule
}

// HeardRule is a rule that matches, or may.
type HeardRule struct {
	Rule    int
	Matches condition.Truth
}

// Asker answers the tests of a judge that CompileAsking made, in place of an attempt. The judge finds it as
// the context that it is given.
type Asker interface {
	context.Context
	// Answer answers a bound test. Held is what it comes to on the attempt that the judge was given.
	Answer(t *condition.Test, held func() condition.Truth) condition.Truth
	// ReachesMedium answers whether the risk of the attempt is medium or higher.
	ReachesMedium() condition.Truth
}

// CompileAsking is set by package decide. It is given a decide.Rulebook, and returns a *decide.Judge whose
// tests are answered by an Asker where one is its context.
var CompileAsking func(rulebook any) (judge any, err error)

// Fingerprint is set by package decide. It returns a hash of what a part of a rulebook says, wherever it is from:
// two parts that say the same have the same.
var Fingerprint func(part any) string

// Open is set by package decide. It is given a *decide.Judge.
var Open func(judge any) Judge

// Of returns what is inside a *decide.Judge.
func Of(judge any) Judge { return Open(judge) }
