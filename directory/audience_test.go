package directory_test

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
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
		crowd := e.Gather(at)
		var audiences []directory.Audience
		for _, p := range judge.Policies() {
			audience := crowd.Of(p.Who)
			audiences = append(audiences, audience)
			var may []int
			sure := 0
			for n := range e.Accounts {
				want := condition.Eval(p.Who, directory.FactsOf(e.Profile(n), at))
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

func TestWordsOfSpans(t *testing.T) {
	for text, want := range map[string]string{"30d": "30 days", "1d": "24 hours", "12h": "12 hours", "1h": "1 hour", "90m": "90 minutes", "45s": "45s", "168h": "7 days"} {
		var s directory.Span
		require.NoError(t, s.UnmarshalText([]byte(text)))
		require.Equal(t, want, s.Words(), text)
	}
}

func TestSample(t *testing.T) {
	for text, want := range map[string]string{"203.0.113.0/24": "203.0.113.1", "198.51.100.7": "198.51.100.7", "2001:db8::/64": "2001:db8::1", "10.0.0.8-10.0.0.9": "10.0.0.9"} {
		r, err := directory.ParseRange(text)
		require.NoError(t, err)
		require.Equal(t, want, r.Sample().String())
	}
}
