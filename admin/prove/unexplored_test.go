package prove_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
)

// strange is a key that nobody can bring about, as one that was just added is. It stands in the binary of these tests alone.
var strange = new(condition.Family[condition.Facts]).Define(condition.Definition{Name: "zodiac", Doc: "the sign in the sky",
	About: condition.AboutAttempt, Meaning: condition.MeansWords, Explored: condition.NotExplored,
	Bind: func(_ condition.Vocabulary, _ *condition.Test, value string) (condition.Binding, error) {
		return condition.Binding{Words: value}, nil
	},
	Says: func(t *condition.Test, negated bool) string {
		return condition.Either(negated, "the sign is ", "the sign is not ") + t.Wants()
	},
}, func(condition.Facts, *condition.Test) condition.Truth { return condition.Unknown },
	func(condition.Facts, *condition.Test) string { return "" })

// TestWhatNobodyExploresIsOpen: what rests on a key that the explorer does not know is neither proven nor refuted, is no
// rule that never speaks, and opens no gate.
func TestWhatNobodyExploresIsOpen(t *testing.T) {
	require.True(t, strange.IsValid())
	const world = `briskwarden: 1
assurances: {once: {prove: [{any_of: [password]}]}, twice: {prove: [{any_of: [password]}, {any_of: [push]}]}}
accounts: [{name: liv, methods: [password, push]}]
apps: [{name: mail}]
`
	open := func(t *testing.T, text string) *book.Book {
		b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(world + text)}})
		require.NoError(t, err)
		return b
	}
	policy := func(rules string) string {
		return "policies: [{name: p, stage: live, who: anyone, apps: every, rules: [" + rules + "]}]\n"
	}
	const opens = "{name: a, when: {zodiac: [lion]}, then: grant}, {name: b, then: block}"
	for name, c := range map[string]struct {
		text  string
		state prove.State
	}{
		"a rule grants by it": {policy(opens) + "guarantees: [{name: g, where: {names: [mail]}, always: block}]", prove.Open},
		"a signal weighs by it": {policy("{name: a, when: {risk_at_least: high}, then: grant}, {name: b, then: block}") +
			"risk: {signals: [{name: s, when: {zodiac: [lion]}, points: 90}]}\n" +
			"guarantees: [{name: g, where: {names: [mail]}, always: block}]", prove.Open},
		"it holds whatever it is": {policy("{name: a, when: {zodiac: [lion]}, then: {require: [twice]}}, {name: b, then: {require: [twice]}}") +
			"guarantees: [{name: g, where: {names: [mail]}, never_without: [twice]}]", prove.Proven},
		"it fails whatever it is": {policy("{name: a, when: {zodiac: [lion]}, then: {require: [once]}}, {name: b, then: {require: [once]}}") +
			"guarantees: [{name: g, where: {names: [mail]}, never_without: [twice]}]", prove.Fails},
	} {
		t.Run(name, func(t *testing.T) {
			b := open(t, c.text)
			judge, err := b.Compile()
			require.NoError(t, err)
			r, err := prove.Prove(t.Context(), b, judge, prove.Options{From: monday})
			require.NoError(t, err)
			require.Equal(t, c.state, r.Results[0].State, r.Results[0].Why)
			if c.state == prove.Open {
				require.Contains(t, r.Results[0].Why, "was not settled. Whatever rests on zodiac is open")
			}
		})
	}

	older := open(t, policy(opens))
	was, err := older.Compile()
	require.NoError(t, err)
	is, err := open(t, policy(strings.Replace(opens, "[lion]", "[lion, fish]", 1))).Compile()
	require.NoError(t, err)
	x, err := compare.Exactly(t.Context(), was, is, compare.ExactOptions{From: monday})
	require.NoError(t, err)
	require.Contains(t, x.Open, "was not settled. Whatever rests on zodiac is open", "a loosening that no attempt shows")
	same, err := compare.Exactly(t.Context(), was, was, compare.ExactOptions{From: monday})
	require.NoError(t, err)
	require.Empty(t, same.Open, "the same asks for the same, whatever it is")

	found, err := inspect.Inspect(t.Context(), older, monday)
	require.NoError(t, err)
	for _, f := range found.Findings {
		require.NotContains(t, f.Text, "never", f.Name)
	}
}
