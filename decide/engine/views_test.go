package engine_test

import (
	"context"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// TestViewsAreWhatIsJudged holds the views of a judge against its decisions: a
// policy applies where its audience, its apps, its actions and its dates say so.
func TestViewsAreWhatIsJudged(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 6)
		e, policies := judge.Directory(), judge.Policies()
		for range 40 {
			a := synth.Attempt(chance)
			account, known := e.FindAccount(a.Account)
			app, listed := e.FindApp(a.App)
			if !known || !listed {
				continue
			}
			crowd := e.Gather(a.At)
			for i, trace := range judge.Decide(context.Background(), a).Policies {
				require.Equal(t, policies[i].Name, trace.Name)
				want := judge.Audience(i, crowd).Holds(account)
				isFor := policies[i].Actions == nil || slices.Contains(policies[i].Actions, a.Action)
				if policies[i].Stage == decide.Draft || !slices.Contains(judge.Apps(i), app) || !isFor ||
					!judge.InForceAt(i, a.At) {
					want = condition.False
				}
				require.Equal(t, want, trace.Applies, "%s for %s at %s", trace.Name, a.Account, a.App)
			}
		}
	})
}

// mustEnrol reports whether a demand is open that nobody can show before enrolling.
func mustEnrol(d decide.Demand) bool {
	if d.Met || d.Kind != decide.DemandOneOf {
		return !d.Met && d.Kind == decide.DemandEnrol
	}
	return !slices.ContainsFunc(d.Ways, func(way []decide.Demand) bool {
		return !slices.ContainsFunc(way, func(d decide.Demand) bool { return mustEnrol(d) || d.Impossible })
	})
}

// dueOf are the notices of what is yet to be enrolled.
func dueOf(d *decide.Decision) []decide.Notice {
	return slices.DeleteFunc(slices.Clone(d.Notices), func(n decide.Notice) bool { return n.Code != decide.EnrolmentDue })
}

// TestShortFormsAgreeWithDecide: an outline is a decision without its trace, and a
// brief one without its words.
func TestShortFormsAgreeWithDecide(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 6)
		var brief engine.Brief
		for range 40 {
			a := synth.Attempt(chance)
			full, outline := judge.Decide(context.Background(), a), judge.Outline(context.Background(), a)
			require.Empty(t, outline.Policies)
			outline.Policies, outline.Limits.Until = full.Policies, full.Limits.Until
			require.Equal(t, full, outline)
			enforced := judge.Enforced(context.Background(), a)
			require.Equal(t, string(full.AppendMinimal(nil)), string(enforced.AppendMinimal(nil)))
			require.Equal(t, full.Causes, enforced.Causes)
			require.Equal(t, dueOf(full), dueOf(enforced), "what is to be kept of it is the same")
			judge.Brief(context.Background(), a, &brief)
			require.Equal(t, []decide.Verdict{full.Verdict, full.WithShadow.Verdict}, []decide.Verdict{brief.Verdict, brief.WithShadow})
			for i := range full.Causes {
				full.Causes[i].Text = ""
			}
			require.ElementsMatch(t, full.Causes, brief.Causes)
			require.Equal(t, slices.ContainsFunc(full.Demands, mustEnrol), brief.MustEnrol, "%+v", full.Demands)
		}
	})
}

// TestCovered: an app that is not covered has no live policy that applies to a
// sign-in there, but for emergency accounts.
func TestCovered(t *testing.T) {
	bare := 0
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 3)
		e := judge.Directory()
		for range 40 {
			a := synth.Attempt(chance)
			a.Action = attempt.SignIn
			app, listed := e.FindApp(a.App)
			account, known := e.FindAccount(a.Account)
			if !listed || !known || judge.Covered(e.Gather(a.At), a.At)[app] ||
				slices.Contains(e.Gather(a.At).Emergencies(), account) {
				continue
			}
			bare++
			for _, trace := range judge.Decide(context.Background(), a).Policies {
				require.False(t, trace.Stage == decide.Live && trace.Applies != condition.False, trace.Name)
			}
		}
	})
	require.Positive(t, bare)
}

func TestWhatAJudgeShows(t *testing.T) {
	_, judge := synth.Open(rand.New(rand.NewPCG(1, 1)), 6)
	for _, a := range judge.Assurances() {
		require.Equal(t, a.Name, judge.FindAssurance(a.Name).Name)
		for _, p := range a.Prove {
			preferred, fallback := judge.Methods(p.AnyOf, p.Traits, p.Fallback)
			if len(p.AnyOf) > 0 {
				require.ElementsMatch(t, slices.Compact(slices.Sorted(slices.Values(p.AnyOf))), judge.MethodNames(preferred))
			}
			require.ElementsMatch(t, slices.Compact(slices.Sorted(slices.Values(p.Fallback))), judge.MethodNames(fallback))
		}
	}
	require.Nil(t, judge.FindAssurance("none"))
	preferred, _ := judge.Methods([]string{"none"}, nil, nil)
	require.Zero(t, preferred.Len())
}

// TestBriefAllocatesNothing once its list has room, beyond what a verdict does for
// apps that are named by odd URLs.
func TestBriefAllocatesNothing(t *testing.T) {
	chance := rand.New(rand.NewPCG(5, 1))
	_, judge := synth.Open(chance, 6)
	var attempts []*attempt.Attempt
	for range 200 {
		attempts = append(attempts, synth.Attempt(chance))
	}
	var brief engine.Brief
	allocations := func(judge func(*attempt.Attempt)) float64 {
		all := func() {
			for _, a := range attempts {
				judge(a)
			}
		}
		all()
		return testing.AllocsPerRun(20, all)
	}
	require.LessOrEqual(
		t,
		allocations(func(a *attempt.Attempt) { judge.Brief(context.Background(), a, &brief) }),
		allocations(func(a *attempt.Attempt) { judge.Verdict(context.Background(), a) }),
	)
}

// TestOnlyDailySignInsCover holds what makes an app covered: a live policy, within its
// dates, for sign-ins, and for others than emergency accounts.
func TestOnlyDailySignInsCover(t *testing.T) {
	at := time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC)
	const rules = "apps: every, rules: [{name: all, then: grant}]}\n"
	for name, c := range map[string]struct {
		policy string
		want   bool
	}{
		"a live policy":          {"{name: p, stage: live, who: {groups: [crew]}, ", true},
		"a shadow":               {"{name: p, stage: shadow, who: anyone, ", false},
		"one for enrolling":      {"{name: p, stage: live, actions: [enrol], who: anyone, ", false},
		"one that is over":       {"{name: p, stage: live, until: 2026-11-22, who: anyone, ", false},
		"one for the safe's key": {"{name: p, stage: live, who: {kinds: [emergency]}, ", false},
	} {
		t.Run(name, func(t *testing.T) {
			of := judgeOf(t, "  - "+c.policy+rules)
			require.Equal(t, []bool{c.want, c.want, c.want}, of.Covered(of.Directory().Gather(at), at))
		})
	}
}
