package bench_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
)

// BenchmarkSupplied judges the demo's scenes with each account supplied as a value
// of 10 groups and 10 attributes, against the same with the accounts in the book.
func BenchmarkSupplied(b *testing.B) {
	opened, err := demo.Open()
	require.NoError(b, err)
	listed, err := opened.Compile()
	require.NoError(b, err)
	rules := opened.Rulebook()
	supplied := accountMap{}
	for row, a := range rules.Directory.Accounts {
		a.Groups = slices.Clone(listed.Directory().Profile(row).Groups())
		for i := 0; len(a.Groups) > 0 && len(a.Groups) < 10; i++ {
			a.Groups = append(a.Groups, a.Groups[i])
		}
		attributes := map[string]attempt.Scalar{}
		for name, value := range a.Attributes {
			attributes[name] = value
		}
		for i := len(attributes); i < 10; i++ {
			attributes[fmt.Sprintf("attribute-%d", i)] = attempt.TextScalar("value")
		}
		a.Attributes = attributes
		supplied[a.Name] = a
	}
	rules.Accounts = supplied
	outside, err := engine.Compile(rules)
	require.NoError(b, err)
	scenes := demo.Scenes()
	inTurn(b, 2000, "supplied", "listed",
		func(i int) { outside.Verdict(context.Background(), &scenes[i%len(scenes)].Attempt) },
		func(i int) { listed.Verdict(context.Background(), &scenes[i%len(scenes)].Attempt) })
}

type accountMap map[string]directory.Account

func (m accountMap) Account(_ context.Context, name string) (directory.Account, error) {
	a, ok := m[name]
	if !ok {
		return directory.Account{}, directory.ErrNotFound
	}
	return a, nil
}

// speaking is a rulebook in which so many policies speak for everybody.
func speaking(b *testing.B, policies int) *engine.Judge {
	r := decide.Rulebook{
		Directory: directory.Contents{Accounts: []directory.Account{{Name: "ann", Methods: []string{"password"}, Groups: []string{"crew"}}},
			Groups: []directory.Group{{Name: "crew"}}, Apps: []directory.App{{Name: "mail"}}},
		Assurances: []decide.Assurance{{Name: "own", Prove: []decide.Prove{{AnyOf: []string{"password"}}}},
			{Name: "held", Prove: []decide.Prove{{AnyOf: []string{"push", "otp-app"}}}}},
	}
	for i := range policies {
		r.Policies = append(r.Policies, decide.Policy{Name: fmt.Sprintf("policy-%d", i), Stage: decide.Live,
			Who: condition.Is("anyone"), Apps: condition.Is("every"),
			Rules: []decide.Rule{{Name: "all", Then: decide.Require([]string{"own", "held"}[i%2])}}})
	}
	judge, err := engine.Compile(r)
	require.NoError(b, err)
	return judge
}

// BenchmarkSpeaking decides in full while 400 policies speak, against 25; and with
// 100.
func BenchmarkSpeaking(b *testing.B) {
	a := &attempt.Attempt{At: time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC), Account: "ann", App: "mail"}
	few, some, many := speaking(b, 25), speaking(b, 100), speaking(b, 400)
	b.Run("policies=100", func(b *testing.B) {
		inTurn(b, 100, "some", "few", func(int) { some.Decide(context.Background(), a) }, func(int) { few.Decide(context.Background(), a) })
	})
	b.Run("policies=400", func(b *testing.B) {
		inTurn(b, 50, "many", "few", func(int) { many.Decide(context.Background(), a) }, func(int) { few.Decide(context.Background(), a) })
	})
}

// BenchmarkOpening compares the time for an account that does not exist with that
// for one that does, in what is told before a proof.
func BenchmarkOpening(b *testing.B) {
	judge, scenes := demoJudge(b), demo.Scenes()
	known := scenes[0].Attempt
	known.Proofs, known.Session = nil, attempt.Session{}
	unknown := known
	unknown.Account = "nobody@kestrelsound.example"
	inTurn(b, 5000, "unknown", "known", func(int) { judge.Opening(&unknown) }, func(int) { judge.Opening(&known) })
}

// million answers for a million accounts that stand nowhere.
type million struct{}

func (million) Account(_ context.Context, name string) (directory.Account, error) {
	var n int
	if _, err := fmt.Sscanf(name, "person-%d@", &n); err != nil || n >= 1_000_000 {
		return directory.Account{}, errors.Join(err, directory.ErrNotFound)
	}
	return directory.Account{Groups: []string{"crew"}, Methods: []string{"password"}}, nil
}

// BenchmarkMillion opens the demo's book with a million accounts behind the
// interface, and decides the first attempt.
func BenchmarkMillion(b *testing.B) {
	a := &attempt.Attempt{At: time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC), Account: "person-999999@kestrelsound.example", App: "mail"}
	runtime.GC()
	for b.Loop() {
		opened, err := demo.Open()
		require.NoError(b, err)
		rules := opened.Rulebook()
		rules.Accounts = million{}
		judge, err := engine.Compile(rules)
		require.NoError(b, err)
		require.NotEqual(b, decide.AccountUnknown, judge.Decide(context.Background(), a).Causes[0].Code)
	}
	b.ReportMetric(peak(b), "MB-peak")
}

// BenchmarkChangedPolicy compiles the large book again after one policy changed, and
// judges an attempt.
func BenchmarkChangedPolicy(b *testing.B) {
	judge, attempts := largeJudge(b, large)
	rules := judge.Rulebook()
	rules.Policies = slices.Clone(rules.Policies)
	for b.Loop() {
		rules.Policies[0].Stage = decide.Live - rules.Policies[0].Stage%2
		rules.Policies[0].LiveFor = nil
		changed, err := engine.Compile(rules)
		require.NoError(b, err)
		changed.Verdict(context.Background(), attempts[0])
	}
}
