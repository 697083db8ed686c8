package engine_test

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// chance draws from rapid, which can then shrink what it found.
type chance struct{ *rapid.T }

func (c chance) IntN(n int) int { return rapid.IntRange(0, n-1).Draw(c.T, "n") }

// compile reads a made-up book as a user would: from files.
func compile(t require.TestingT, c synth.Chance, made synth.Book) *engine.Judge {
	b, err := book.OpenFS(mapFS(made.Files(c, 1+c.IntN(3))))
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	return judge
}

func mapFS(texts map[string]string) fstest.MapFS {
	files := fstest.MapFS{}
	for name, text := range texts {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return files
}

// answer is the decision without the name of the book that made it.
func answer(t require.TestingT, judge *engine.Judge, a *attempt.Attempt) string {
	d := judge.Decide(context.Background(), a)
	d.JudgedBy = decide.JudgedBy{}
	text, err := json.Marshal(d)
	require.NoError(t, err)
	return string(text)
}

func TestAGrantHoldsWhateverTheMissingFactsWere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chance{t}
		judge := compile(t, c, synth.Small(c, 3))
		for range 10 {
			a := synth.Attempt(c)
			verdict := judge.Verdict(context.Background(), a)
			require.Equal(t, verdict, judge.Decide(context.Background(), a).Verdict, "the quick verdict and the full decision agree")
			if verdict != decide.Grant {
				continue
			}
			for range 5 {
				complete := synth.Complete(c, a)
				require.Equal(t, decide.Grant, judge.Verdict(context.Background(), complete), "%+v completed to %+v", a, complete)
			}
		}
	})
}

// surelySpeaks reports whether some live policy does: it applies, one rule spoke,
// and nothing is left that it depends on.
func surelySpeaks(d *decide.Decision) bool {
	return slices.ContainsFunc(d.Policies, func(p decide.PolicyTrace) bool {
		return p.Stage == decide.Live && p.Applies == condition.True && p.Rule != "" && len(p.Why) == 0
	})
}

func TestAnotherPolicyOnlyMakesADecisionStricter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chance{t}
		made := synth.Small(c, 3)
		before := compile(t, c, made)
		made.Definitions = append(made.Definitions, synth.Policy(c, 9, 9)) // the last of nine replaces nothing
		after := compile(t, c, made)
		for range 10 {
			a := synth.Attempt(c)
			was, is := before.Decide(context.Background(), a), after.Decide(context.Background(), a)
			if !surelySpeaks(was) {
				continue
			}
			require.LessOrEqual(t, is.Verdict, was.Verdict, "%+v", a)
			if is.Verdict != decide.StepUp {
				continue
			}
			for _, d := range was.Demands {
				require.True(
					t,
					d.Met || slices.ContainsFunc(is.Demands, func(e decide.Demand) bool { return !e.Met }),
					"%v is asked no more",
					d,
				)
			}
		}
	})
}

func TestNoOrderMatters(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chance{t}
		made := synth.Small(c, 4)
		one := compile(t, c, made)
		shuffled := synth.Book{Definitions: rapid.Permutation(made.Definitions).Draw(t, "order")}
		other := compile(t, c, shuffled)
		for range 10 {
			a := synth.Attempt(c)
			require.Equal(t, answer(t, one, a), answer(t, other, a))
		}
	})
}

func TestNothingIsToldBeforeAProof(t *testing.T) {
	// The same attempt by anyone, known or not, is answered alike until a method
	// has been proven; only where a public app lets somebody in does she see it.
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		judge := compile(t, random, synth.Small(random, 3))
		a := synth.Attempt(random)
		a.Proofs, a.Session.Proofs = nil, nil
		a.Account = "nobody@one.example"
		want := judge.Decide(context.Background(), a).ToPerson
		for _, account := range judge.Directory().Accounts {
			a.Account = account.Name
			if d := judge.Decide(context.Background(), a); d.Verdict != decide.Grant {
				require.Equal(t, want, d.ToPerson, account.Name)
			}
		}
	}
}

// TestAnAccountIsJudgedAlikeWhereverItIsFrom takes the accounts out of a book and
// supplies them while it decides: one decision in the book and through the
// interface.
func TestAnAccountIsJudgedAlikeWhereverItIsFrom(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := chance{t}
		b, err := book.OpenFS(mapFS(synth.Small(c, 4).Files(c, 1)))
		require.NoError(t, err)
		inside, err := b.Compile()
		require.NoError(t, err)
		outside := b.Rulebook()
		supplied := people{}
		for _, a := range outside.Directory.Accounts {
			supplied[a.Name] = a
		}
		outside.Directory.Accounts, outside.Accounts = nil, supplied
		judge, err := engine.Compile(outside)
		require.NoError(t, err)
		for range 20 {
			a := synth.Attempt(c)
			if supplied[a.Account] == nil {
				continue // what is said of whom nobody knows names the book or does not
			}
			require.Equal(t, answer(t, inside, a), answer(t, judge, a))
			require.Equal(t, inside.Verdict(context.Background(), a), judge.Verdict(context.Background(), a))
		}
	})
}

// TestOnlyWhoNeedsTimeIsReminded: of a grant a rollout is told where it rests on the time that it leaves, and nowhere else. All
// there is of a few assurances, accounts and proofs is tried.
func TestOnlyWhoNeedsTimeIsReminded(t *testing.T) {
	strictWorld, _, _ := strings.Cut(repairWorld, "rollouts:")
	judgeOf := func(world, policy string) *engine.Judge {
		b, err := book.OpenFS(mapFS(map[string]string{"world.yaml": world, "p.yaml": "briskwarden: 1\npolicies: [" + policy + "]\n"}))
		require.NoError(t, err)
		judge, err := b.Compile()
		require.NoError(t, err)
		return judge
	}
	demands := []string{"known", "held", "strong", "{one_of: [known, held]}", "{one_of: [held, strong]}", "{one_of: [strong, held]}",
		"{one_of: [known, strong]}", "{one_of: [strong, held, known]}"}
	methods := []string{"password", "otp-app", "push", "passkey"}
	reminders := 0
	for _, one := range demands {
		for _, other := range demands {
			policy := "{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [" + one + ", " + other + "]}}]}"
			easing, strict := judgeOf(repairWorld, policy), judgeOf(strictWorld, policy)
			for proven := range 1 << len(methods) {
				for _, account := range []string{"ann", "bob", "late"} {
					a := read(t, `"account":"`+account+`"`)
					for i, m := range methods {
						if proven>>i&1 == 1 {
							a.Session.Proofs = append(a.Session.Proofs, attempt.Proof{Method: m, At: a.At})
						}
					}
					d := easing.Decide(t.Context(), a)
					if d.Verdict != decide.Grant {
						continue
					}
					told := slices.ContainsFunc(d.Notices, func(n decide.Notice) bool { return n.Code == decide.EnrolmentDue })
					require.Equal(t, strict.Verdict(t.Context(), a) != decide.Grant, told, "%s %s %v", policy, account, d.Notices)
					if told {
						reminders++
					}
				}
			}
		}
	}
	require.Greater(t, reminders, 100)
}
