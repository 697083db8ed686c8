package engine_test

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// TestAudiencesAreEvaluations: anyone who is in the audience of a condition is whom
// the condition holds for, one by one; and the algebra of audiences is that of
// three values.
func TestAudiencesAreEvaluations(t *testing.T) {
	at := time.Date(2026, time.March, 28, 10, 0, 0, 0, time.UTC)
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 6)
		e := judge.Directory()
		crowd, profile := e.Gather(at), func(n int) *engine.Profile { return e.ProfileAt(n, at) }
		if rapid.Bool().Draw(t, "from then on") {
			crowd, profile = e.GatherFrom(at), e.Profile
		}
		var audiences []engine.Audience
		for _, p := range judge.Policies() {
			audience := crowd.Of(p.Who)
			audiences = append(audiences, audience)
			var may []int
			sure := 0
			for n := range e.Accounts {
				want := condition.Eval(p.Who, engine.FactsOf(profile(n), at))
				require.Equal(t, want, audience.Holds(n), "%s for %s", p.Name, e.Accounts[n].Name)
				if want != condition.False {
					may = append(may, n)
				}
				if want == condition.True {
					sure++
				}
			}
			require.Equal(t, may, slices.Collect(audience.All()))
			gotSure, gotMay := audience.Len()
			require.Equal(t, []int{sure, len(may)}, []int{gotSure, gotMay})
			require.Equal(t, len(may) == 0, audience.IsEmpty())
		}
		for i := range audiences {
			a, b := audiences[i], audiences[(i+1)%len(audiences)]
			both, either, not := a.And(b), a.Or(b), a.Not(len(e.Accounts))
			meets, covers := false, true
			for n := range e.Accounts {
				x, y := a.Holds(n), b.Holds(n)
				require.Equal(t, min(x, y), both.Holds(n))
				require.Equal(t, max(x, y), either.Holds(n))
				require.Equal(t, x.Not(), not.Holds(n))
				require.Equal(t, condition.Of(x == condition.True), a.Surely().Holds(n))
				require.Equal(t, condition.Of(x != condition.False), a.Possibly().Holds(n))
				meets = meets || x != condition.False && y != condition.False
				covers = covers && (x == condition.True || y == condition.False)
			}
			require.Equal(t, meets, a.Meets(b))
			require.Equal(t, covers, a.Covers(b))
		}
	})
}
