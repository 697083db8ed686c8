// Package decide holds what attempts are judged by, and what comes of it: policies and assurances as a book or a program states
// them ([Rulebook]), and the [Decision] on an attempt, with its demands, causes and full trace. They are values; package
// decide/engine judges by them.
package decide

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Rulebook is what is decided by: the facts, and the policies on them. Anyone who
// compiles one hands it over: nothing that it holds may change afterwards.
type Rulebook struct {
	// Digest names the book that the rules were read from, for the record. What was
	// compiled has a digest of its own in each decision.
	Digest    string
	Directory directory.Contents
	// Otherwise is joined in where no live policy surely speaks. The zero
	// Outcome blocks.
	Otherwise  Outcome
	Risk       risk.Scheme
	Assurances []Assurance
	Policies   []Policy
	Exemptions []Exemption
	Rollouts   []Rollout
	// Watched are more conditions, such as those of alerts and guarantees. They have no
	// effect on decisions and no part in the digest of the rules; the ranges and accounts that they name
	// are known when they are bound.
	Watched []condition.Node
	// Accounts and Devices supply accounts and devices while decisions are made;
	// nil leaves it at those of the Directory.
	Accounts directory.Accounts
	Devices  directory.Devices
	// Locator looks addresses up; nil knows none.
	Locator directory.Locator
	// Reports answers for the signals that have neither a detector nor a condition;
	// nil leaves it at those that the attempt names.
	Reports Reports
}

// Reports is how a risk engine of one's own takes part in the score. It must be
// safe for concurrent use.
type Reports interface {
	// Signal returns whether the signal of that name, as the book defines it, holds
	// for an attempt: attempt.Known(true) or attempt.Known(false). Any other fact, the zero one
	// among them, says that it is unknown, which makes the score a span; so does an error. It is
	// asked of each signal without a detector and a condition that the attempt does
	// not name, where the score is asked for.
	Signal(ctx context.Context, a *attempt.Attempt, name string) (attempt.Fact[bool], error)
}

// Verdict is the answer to an attempt. The zero Verdict is [Block], so that an
// answer that nobody filled in lets nobody in.
type Verdict uint8

// The verdicts, from strict to mild.
const (
	// Block stops the attempt.
	Block Verdict = iota
	// StepUp asks the person for what is still to be shown.
	StepUp
	// Grant lets the account in.
	Grant
)

var verdicts = []string{"block", "step_up", "grant"}

// Verdicts returns the words for the verdicts, from mild to strict.
func Verdicts() []string {
	words := slices.Clone(verdicts)
	slices.Reverse(words)
	return words
}

// Compare returns a negative number where v is stricter than w, a positive one
// where it is milder, and 0 where they are the same.
func (v Verdict) Compare(w Verdict) int { return int(v) - int(w) }

// String returns grant, step_up or block.
func (v Verdict) String() string { return words.Of(v, verdicts, 0) }

// MarshalText writes String.
func (v Verdict) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText reads grant, step_up or block.
func (v *Verdict) UnmarshalText(text []byte) error {
	return words.Parse(v, "a verdict", string(text), verdicts, Block)
}

// Stage says how far a policy has come.
type Stage uint8

// The stages: a draft is read and never evaluated, a shadow is evaluated and
// reported without effect, a live one counts.
const (
	Draft Stage = iota
	Shadow
	Live
)

var stages = []string{"draft", "shadow", "live"}

// Stages returns the words for the stages.
func Stages() []string { return slices.Clone(stages) }

// String returns draft, shadow or live.
func (s Stage) String() string { return words.Of(s, stages, 0) }

// MarshalText writes String.
func (s Stage) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads draft, shadow or live.
func (s *Stage) UnmarshalText(text []byte) error {
	return words.Parse(s, "a stage", string(text), stages, Draft)
}

// Policy says what is asked of whom at which apps. The first of its rules that
// matches speaks.
type Policy struct {
	At    condition.Position `book:"-"`
	Name  string             `book:"name,required" doc:"name of the policy"`
	About string             `book:"about" doc:"what the policy is for, for those who read the book"`
	Owner string             `book:"owner" doc:"who answers for the policy"`
	// ReviewBy is advice to the owner and has no effect on decisions.
	ReviewBy *directory.Date `book:"review_by" doc:"day by which the policy is to be looked at again"`
	Stage    Stage           `book:"stage,required" doc:"draft, shadow or live"`
	// Since is advice too.
	Since *directory.Date `book:"since" doc:"day on which it came to its stage"`
	// Who and Apps are about the account and the app.
	Who  condition.Node `book:"who,required" about:"account" doc:"the accounts it is for; anyone for all"`
	Apps condition.Node `book:"apps,required" about:"app" doc:"the apps it is for; every for all"`
	// Actions are those that it is for; nil is all.
	Actions []attempt.Action `book:"actions" doc:"the actions it is for" default:"all"`
	From    *directory.Date  `book:"from" doc:"first day on which it is in force" default:"no bound"`
	Until   *directory.Date  `book:"until" doc:"last day on which it is in force" default:"no bound"`
	// Replaces names policies that it silences where it surely speaks.
	Replaces []string `book:"replaces" ref:"policy" doc:"policies that it silences where it surely speaks"`
	// Firm policies cannot be replaced.
	Firm bool `book:"firm" doc:"true where no other policy may replace it"`
	// LiveFor are the accounts for which a shadow policy is in force already.
	LiveFor condition.Node `book:"live_for" about:"account" doc:"accounts for which a shadow policy is in force already" default:"nobody"`
	Rules   []Rule         `book:"rules,required" doc:"rules in order; the first that matches speaks"`
}

// Rule is a condition and an outcome.
type Rule struct {
	At     condition.Position `book:"-"`
	Name   string             `book:"name,required" doc:"name of the rule, its own within the policy"`
	When   condition.Node     `book:"when" about:"account,app,attempt,risk" doc:"when the rule matches" default:"always"`
	Then   Outcome            `book:"then,required" doc:"grant, block, or {require: [assurances]}"`
	Say    string             `book:"say" doc:"what the person is told where the rule blocks or asks for something"`
	Limits directory.Limits   `book:"limits" doc:"limits on the session that is granted"`
}

// Outcome is what a rule comes to: a grant to an account that meets all that is
// required, a plain grant, or a block. The zero Outcome blocks.
type Outcome struct {
	// Grant says that nothing is required beyond the one proof that every grant
	// needs. It cannot stand beside Require.
	Grant bool
	// Require is what is to be met, all of it.
	Require []Requirement
}

// Blocks reports whether the outcome is a block.
func (o Outcome) Blocks() bool { return !o.Grant && len(o.Require) == 0 }

// Requirement asks for one of some assurances, met whole; mostly there is one.
type Requirement struct {
	OneOf []string
}

// Require asks for each of the assurances.
func Require(assurances ...string) Outcome {
	var o Outcome
	for _, name := range assurances {
		o.Require = append(o.Require, Requirement{[]string{name}})
	}
	return o
}

// Kind returns what sort of outcome it is.
func (o Outcome) Kind() OutcomeKind {
	switch {
	case o.Grant:
		return OutcomeGrant
	case len(o.Require) > 0:
		return OutcomeRequire
	}
	return OutcomeBlock
}

// OutcomeKind is the outcome of a rule in one word, as traces have it. The zero
// OutcomeKind is that of a policy of which no one rule speaks.
type OutcomeKind uint8

// The kinds of outcomes.
const (
	OutcomeBlock OutcomeKind = iota + 1
	OutcomeRequire
	OutcomeGrant
)

var outcomeKinds = []string{"", "block", "require", "grant"}

// OutcomeKinds returns the words for the kinds of outcomes.
func OutcomeKinds() []string { return slices.Clone(outcomeKinds[OutcomeBlock:]) }

// String returns block, require or grant, and "" for the zero OutcomeKind.
func (k OutcomeKind) String() string { return words.Of(k, outcomeKinds, 0) }

// MarshalText writes String.
func (k OutcomeKind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads block, require or grant.
func (k *OutcomeKind) UnmarshalText(text []byte) error {
	return words.Parse(k, "an outcome", string(text), outcomeKinds[OutcomeBlock:], OutcomeBlock)
}

// Assurance is a named bundle of demands.
type Assurance struct {
	At    condition.Position `book:"-"`
	Name  string             `book:"-"`
	About string             `book:"about" doc:"what the assurance is for"`
	// ACR names the assurance in tokens (OpenID Connect Core 1.0 §2, RFC 9470).
	ACR   string  `book:"acr" doc:"the authentication context class that a token states where it is met"`
	Prove []Prove `book:"prove" doc:"what is to be proven, all of it"`
	// Posture is a posture that the device must pass.
	Posture string `book:"posture" ref:"posture" doc:"a posture that the device must pass"`
	// ChangePassword asks for a password changed since the account's risk arose,
	// or in this session.
	ChangePassword bool    `book:"change_password" doc:"true where the password is to be changed"`
	Accept         *Accept `book:"accept" doc:"a document to be accepted"`
	// External names an outside check that must pass.
	External string `book:"external" doc:"an outside check that must pass, by name"`
	// Consent asks that the client which the sign-on is made for be let in.
	Consent bool `book:"consent" doc:"true where the outside program that a sign-on is made for is to be let in first"`
	// Enrol lists methods; one of them must be enrolled.
	Enrol []string `book:"enrol" ref:"method" doc:"methods; one of them is to be enrolled"`
}

// Prove asks for a method proven recently enough. One of AnyOf and Traits is
// given.
type Prove struct {
	AnyOf  []string          `book:"any_of" ref:"method" doc:"methods; one of them is to be proven"`
	Traits []directory.Trait `book:"traits" doc:"traits that the proven method has, all of them"`
	Within Within            `book:"within" doc:"now (in this very attempt), session, or a length of time such as 12h" default:"session"`
	// Fallback lists methods that count where a preferred one could not be
	// reached, or where the account has none of those.
	Fallback []string `book:"fallback" ref:"method" doc:"methods that count where a preferred one was not reached, or the account has none"`
	// Remember is how long the device may stand for the method where the account
	// asked to be remembered on it.
	Remember directory.Span `book:"remember" doc:"how long a remembered device stands for the method" default:"nothing is remembered"`
}

// Accept asks for a version of a document to be accepted.
type Accept struct {
	Document string `book:"document,required" doc:"name of the document"`
	Version  int    `book:"version,required" doc:"the version; a later one counts too"`
	// Every is how long an acceptance holds; zero is for good.
	Every directory.Span `book:"every" doc:"how long an acceptance holds, such as 365d" default:"for good"`
}

// Exemption excuses accounts from assurances, everywhere at once. It never lifts
// a block.
type Exemption struct {
	At         condition.Position `book:"-"`
	Name       string             `book:"name,required" doc:"name of the exemption"`
	Who        condition.Node     `book:"who,required" about:"account" doc:"the accounts that are excused"`
	From       []string           `book:"from,required" ref:"assurance" doc:"the assurances that are not asked of them"`
	Instead    []string           `book:"instead" ref:"assurance" doc:"the assurances that are asked in their place"`
	When       condition.Node     `book:"when" about:"app,attempt,risk" doc:"when it holds" default:"always"`
	Because    string             `book:"because,required" doc:"the reason"`
	ApprovedBy string             `book:"approved_by" ref:"account" doc:"who approved it"`
	Until      *directory.Date    `book:"until" doc:"last day on which it holds" default:"no bound"`
}

// Rollout is a dated campaign by which people enrol a method.
type Rollout struct {
	At      condition.Position `book:"-"`
	Name    string             `book:"name,required" doc:"name of the rollout"`
	Who     condition.Node     `book:"who,required" about:"account" doc:"the accounts that it is for"`
	Methods []string           `book:"methods,required" ref:"method" doc:"methods; each account enrols one of them"`
	// Eases names the assurances whose demands wait for those still in time.
	Eases    []string        `book:"eases,required" ref:"assurance" doc:"assurances whose demands wait while there is time left"`
	Opens    *directory.Date `book:"opens" doc:"day from which people are told"`
	AskBy    *directory.Date `book:"ask_by" doc:"day by which everyone has been asked"`
	Enforced directory.Date  `book:"enforced,required" doc:"day from whose beginning it is demanded"`
	// Newcomers is how long after joining a person has in any case.
	Newcomers directory.Span `book:"newcomers" doc:"time that a person has after joining, such as 30d"`
	// Grace is how long after being first asked a person has in any case.
	Grace directory.Span `book:"grace" doc:"time that a person has after being first asked, such as 14d"`
	// Say words what people are written by readiness.
	Say Reminders `book:"say" doc:"what people are written, in words of one's own" default:"the built-in text"`
}

// Reminders word what people are written in a rollout; "" leaves the built-in text. In them
// {account} stands for the account, {methods} for the methods that are wanted, {has} for those
// that it has and {day} for the day on which its time is up.
type Reminders struct {
	Enrol    string `book:"enrol" doc:"for those with nothing: {methods}, {day}, {account}"`
	Stronger string `book:"stronger" doc:"for those who have a text message alone: {methods}, {account}"`
	Another  string `book:"another" doc:"for those who have one method alone: {has}, {methods}, {account}"`
}

// placeholder is what is put in for a word in braces.
var placeholder = regexp.MustCompile(`\{[^{}]*\}`)

// Check reports a word in braces that nothing is put in for.
func (r *Reminders) Check() error {
	for _, text := range []string{r.Enrol, r.Stronger, r.Another} {
		for _, word := range placeholder.FindAllString(text, -1) {
			if !slices.Contains([]string{"{account}", "{methods}", "{has}", "{day}"}, word) {
				return fmt.Errorf("nothing is put in for %s; the words are {account}, {methods}, {has} and {day}", word)
			}
		}
	}
	return nil
}

// Within says how recent a proof must be: Now, Session, or no older than so
// long and in this session.
type Within time.Duration

// The two that are no length of time.
const (
	// Session, the zero Within, wants the proof in this session.
	Session Within = 0
	// Now wants the proof in this very attempt.
	Now Within = -1
)

// UnmarshalText reads now, session, or a span such as 12h.
func (w *Within) UnmarshalText(text []byte) error {
	switch string(text) {
	case "now":
		*w = Now
	case "session":
		*w = Session
	default:
		if err := (*directory.Span)(w).UnmarshalText(text); err != nil {
			return fmt.Errorf("within is now, session or a length of time such as 12h, not %q", text)
		}
	}
	return nil
}

// String returns now, session or the span.
func (w Within) String() string {
	switch w {
	case Now:
		return "now"
	case Session:
		return "session"
	}
	return directory.Span(w).String()
}

// MarshalText writes String.
func (w Within) MarshalText() ([]byte, error) { return []byte(w.String()), nil }
