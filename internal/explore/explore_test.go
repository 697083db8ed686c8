package explore_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/explore"
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
			app, _ := judge.Directory().FindApp(pick.App)
			where := &condition.All{Of: []condition.Node{
				&condition.Test{Key: engine.KeyAccounts, Values: []string{pick.Account}},
				&condition.Test{Key: engine.KeyNames, Values: []string{judge.Directory().Apps[app].Name}},
			}}
			space, err := explore.New(judge, first, last.Add(time.Second), where)
			require.NoError(t, err)
			bound, err := space.Bind("guarantee", where)
			require.NoError(t, err)
			real, err := judge.Bind("guarantee", where)
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

var books = flag.Int("books", 24, "how many tiny books are tried with all that can be tried on them")

// TestCellsPartTheGrid: of all that can be tried on a tiny book each attempt is in one cell and no other, and its terms are
// those of the cell.
func TestCellsPartTheGrid(t *testing.T) {
	for seed := range uint64(*books) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			chance := rand.New(rand.NewPCG(seed, 18))
			_, judge := synth.Tiny(chance, 2).Open(chance)
			space, err := explore.New(judge, synth.TinyDay, synth.TinyDay.Add(24*time.Hour))
			require.NoError(t, err)
			type subject struct {
				account, app string
				action       attempt.Action
			}
			type cell struct {
				at      time.Time
				answers []explore.Answered
				terms   string
			}
			cells := map[subject][]cell{}
			var mu sync.Mutex
			_, whole := space.Walk(t.Context(), nil, func(c *explore.Cell) bool {
				mu.Lock()
				defer mu.Unlock()
				for _, account := range c.Accounts {
					for _, app := range c.Apps {
						s := subject{account, app, c.Action}
						cells[s] = append(cells[s], cell{c.At, c.Answers(), c.Terms.String()})
					}
				}
				return true
			})
			require.True(t, whole)
			for a := range synth.Grid() {
				terms := judge.Terms(context.Background(), a)
				var holding []cell
				alike := false // at a moment that is like that of the cell
				for _, c := range cells[subject{a.Account, a.App, a.Action}] {
					if !slices.ContainsFunc(c.answers, func(x explore.Answered) bool { return judge.Holds(a, x.Test) != x.Truth }) {
						alike = alike || c.terms == terms.String()
						if c.at.Equal(a.At) {
							holding = append(holding, c)
						}
					}
				}
				first := a.At.Equal(synth.TinyDay) // a cell of its own begins then, whatever tells moments apart
				if !alike || len(holding) > 1 || first && len(holding) != 1 || len(holding) == 1 && holding[0].terms != terms.String() {
					require.Fail(t, "no cell, or several", "%s: %s\n%v", a.AppendJSON(nil), terms.String(), holding)
				}
			}
		})
	}
}
