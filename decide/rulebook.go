// Package decide judges attempts: it compiles policies and assurances against
// an estate and answers each attempt with a verdict, or with a decision that
// carries its demands, causes and full trace.
//
// The package computes and does nothing else. It reads no file and no clock;
// time, facts and history come in with the attempt.
package decide

import (
	"fmt"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/estate"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Rulebook is what is decided by: the facts, and the policies on them.
type Rulebook struct {
	// Digest names the book that the rules were read from, for the record.
	Digest string
	Estate estate.Contents
	// Otherwise is joined in where no live policy surely speaks. The zero
	// Outcome grants to whoever proves any method; a book says block.
	Otherwise  Outcome
	Assurances []Assurance
	Policies   []Policy
}

// Verdict is the answer to an attempt. The order is from mild to strict.
type Verdict uint8

// The verdicts.
const (
	Grant Verdict = iota
	StepUp
	Block
)

var verdicts = []string{"grant", "step_up", "block"}

// Verdicts returns the words for the verdicts.
func Verdicts() []string { return slices.Clone(verdicts) }

// String returns grant, step_up or block.
func (v Verdict) String() string { return verdicts[v] }

// MarshalText writes String.
func (v Verdict) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText reads grant, step_up or block.
func (v *Verdict) UnmarshalText(text []byte) error {
	return parseWord(v, "a verdict", string(text), verdicts)
}

func parseWord[T ~uint8](into *T, what, text string, words []string) error {
	i := slices.Index(words, text)
	if i < 0 {
		return fmt.Errorf("%q is not %s%s", text, what, nearest.DidYouMean(text, words))
	}
	*into = T(i)
	return nil
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

// String returns draft, shadow or live.
func (s Stage) String() string { return stages[s] }

// MarshalText writes String.
func (s Stage) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads draft, shadow or live.
func (s *Stage) UnmarshalText(text []byte) error {
	return parseWord(s, "a stage", string(text), stages)
}

// Policy says what is asked of whom at which apps. The first of its rules that
// matches speaks.
type Policy struct {
	At    condition.Position `book:"-"`
	Name  string             `book:"name,required" doc:"name of the policy"`
	About string             `book:"about" doc:"what the policy is for, for those who read the book"`
	Owner string             `book:"owner" doc:"who answers for the policy"`
	// ReviewBy is advice to the owner and has no effect on decisions.
	ReviewBy *estate.Date `book:"review_by" doc:"day by which the policy is to be looked at again"`
	Stage    Stage        `book:"stage,required" doc:"draft, shadow or live"`
	// Who and Apps are about the account and the app.
	Who  condition.Node `book:"who,required" about:"account" doc:"the accounts it is for; anyone for all"`
	Apps condition.Node `book:"apps,required" about:"app" doc:"the apps it is for; every for all"`
	// Replaces names policies that it silences where it surely speaks.
	Replaces []string `book:"replaces" ref:"policy" doc:"policies that it silences where it surely speaks"`
	Rules    []Rule   `book:"rules,required" doc:"rules in order; the first that matches speaks"`
}

// Rule is a condition and an outcome.
type Rule struct {
	At   condition.Position `book:"-"`
	Name string             `book:"name,required" doc:"name of the rule, its own within the policy"`
	When condition.Node     `book:"when" about:"account,app,attempt" doc:"when the rule matches; left out, always"`
	Then Outcome            `book:"then,required" doc:"grant, block, or {require: [assurances]}"`
	Say  string             `book:"say" doc:"what the person is told where the rule blocks or asks for something"`
}

// Outcome is what a rule comes to: a block, or a grant to whoever meets the
// required assurances.
type Outcome struct {
	Block   bool
	Require []string
}

// String returns the outcome's word in the trace: grant, block or require.
func (o Outcome) String() string {
	switch {
	case o.Block:
		return "block"
	case len(o.Require) > 0:
		return "require"
	}
	return "grant"
}

// Assurance is a named bundle of demands.
type Assurance struct {
	Name  string  `book:"-"`
	About string  `book:"about" doc:"what the assurance is for"`
	Prove []Prove `book:"prove,required" doc:"what is to be proven, all of it"`
}

// Prove asks for a method proven recently enough. One of AnyOf and Traits is
// given.
type Prove struct {
	AnyOf  []string       `book:"any_of" ref:"method" doc:"methods of which one is to be proven"`
	Traits []estate.Trait `book:"traits" doc:"traits that the proven method has, all of them"`
	Within Within         `book:"within" doc:"now (in this very attempt), session (the default), or a length of time such as 12h"`
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
		if err := (*estate.Span)(w).UnmarshalText(text); err != nil {
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
	return estate.Span(w).String()
}

// MarshalText writes String.
func (w Within) MarshalText() ([]byte, error) { return []byte(w.String()), nil }
