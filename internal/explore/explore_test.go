package explore_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/explore"
	"github.com/briskwarden/briskwarden/internal/facts"
	"github.com/briskwarden/briskwarden/internal/inside"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// TestEachAttemptIsInACell: whatever the circumstances of an attempt are, the terms that a judge has in them
// are those of some cell; and each cell has an attempt with its terms, or cannot come about.
func TestEachAttemptIsInACell(t *testing.T) {
	if testing.Short() {
		t.Skip("many books are explored")
	}
	for seed := range uint64(60) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			chance := rand.New(rand.NewPCG(seed, 15))
			_, judge := synth.Open(chance, 4)
			var attempts []*attempt.Attempt
			for range 400 {
				a := synth.Attempt(chance)
				a.Proofs, a.Session = nil, attempt.Session{} // terms are those of one who has shown nothing
				if d := a.Device.Ref(); d != nil {
					d.Remembered = nil
				}
				attempts = append(attempts, a)
			}
			first := slices.MinFunc(attempts, func(a, b *attempt.Attempt) int { return a.At.Compare(b.At) }).At
			last := slices.MaxFunc(attempts, func(a, b *attempt.Attempt) int { return a.At.Compare(b.At) }).At
			pick := attempts[0]
			terms := judge.Terms(context.Background(), pick)
			for _, a := range attempts {
				if found := judge.Terms(context.Background(), a); found.Refused == "" {
					pick, terms = a, found
					break
				}
			}
			if terms.Refused != "" {
				t.Skip("nobody gets as far as the policies")
			}
			app, _ := inside.Of(judge).Directory().FindApp(pick.App)
			where := &condition.All{Of: []condition.Node{
				&condition.Test{Key: facts.KeyAccounts, Values: []string{pick.Account}},
				&condition.Test{Key: facts.KeyNames, Values: []string{inside.Of(judge).Directory().Apps[app].Name}},
			}}
			space, err := explore.New(judge, first, last.Add(time.Second), where)
			require.NoError(t, err)
			bound, err := space.Bind("guarantee", where)
			require.NoError(t, err)
			real, err := inside.Of(judge).Bind("guarantee", where)
			require.NoError(t, err)
			var mu sync.Mutex
			found := map[string]bool{}
			cells, whole := space.Walk(t.Context(), bound, func(c *explore.Cell) bool {
				key := fmt.Sprint(c.Action, c.Terms.String())
				mu.Lock()
				seen := found[key]
				found[key] = true
				mu.Unlock()
				if !seen {
					a, _ := c.Witness(func(a *attempt.Attempt) bool {
						_, terms := judge.TermsWhere(context.Background(), a, real)
						return terms.Same(&c.Terms)
					})
					if a != nil {
						again := judge.Terms(context.Background(), a)
						require.Equal(t, c.Terms.String(), again.String())
					}
				}
				return true
			})
			require.True(t, whole)
			require.NotZero(t, cells)
			for _, a := range attempts {
				a.Account, a.App = pick.Account, pick.App
				terms := judge.Terms(context.Background(), a)
				require.True(t, found[fmt.Sprint(a.Action, terms.String())], "%s at %s: %s", a.Action, a.At, terms.String())
			}
		})
	}
}
