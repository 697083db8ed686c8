package compare_test

import (
	"context"
	"flag"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
)

// pairsOfChanges is how many pairs of changes are tried beside single ones.
var pairsOfChanges = flag.Int("pairs", 0, "how many pairs of changes of the demo's book are tried beside single ones")

// TestChangesOfTheDemo: each change on trial of the demo's book is proven to change nothing, and then no attempt of a month
// comes to something else; or there is an attempt that shows what it does. Most that loosen for sign-ins refute one of
// the demo's guarantees.
func TestChangesOfTheDemo(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	older, err := b.Compile()
	require.NoError(t, err)
	history := demo.History()
	made := drill.Book{Rulebook: b.Rulebook(), Consent: b.Consent, Tiers: b.Scopes, Clients: b.Clients}
	type change struct {
		text string
		book drill.Book
	}
	var changes []change
	for m, changed := range drill.Changes(made) {
		changes = append(changes, change{m.Of + ": " + m.Text, changed})
	}
	chance := rand.New(rand.NewPCG(1, 18))
	singles := len(changes)
	for range *pairsOfChanges {
		first := changes[chance.IntN(singles)]
		second := slices.Collect(func(yield func(change) bool) {
			for m, changed := range drill.Changes(first.book) {
				if !yield(change{first.text + "; " + m.Of + ": " + m.Text, changed}) {
					return
				}
			}
		})
		changes = append(changes, second[chance.IntN(len(second))])
	}
	same, differ, loosen, caught := 0, 0, 0, 0
	for i, c := range changes {
		if *pairsOfChanges == 0 && i%9 != 0 {
			continue // all of them take minutes
		}
		newer, err := engine.Compile(c.book.Rulebook)
		if err != nil {
			continue // a change that no book could have is none
		}
		x, err := compare.Exactly(t.Context(), older, newer, compare.ExactOptions{From: monday})
		require.NoError(t, err)
		require.Empty(t, x.Open, c.text)
		relation, err := engine.Relate(older, newer)
		require.NoError(t, err)
		for k := range x.Differences {
			d := &x.Differences[k]
			was, is := older.Terms(context.Background(), d.Attempt), newer.Terms(context.Background(), d.Attempt)
			milder, stricter := relation.Compare(&was, &is)
			require.Equal(t, d.Effect&compare.Loosens != 0, milder)
			require.Equal(t, d.Effect&compare.Tightens != 0, stricter)
		}
		for _, a := range history {
			before, after := older.Verdict(context.Background(), a), newer.Verdict(context.Background(), a)
			if before != after {
				effect := map[bool]compare.Effect{true: compare.Loosens, false: compare.Tightens}[after > before]
				require.True(t, slices.ContainsFunc(x.Differences, func(d compare.Difference) bool {
					return d.Effect&effect != 0 && slices.Contains(d.Apps, a.App) && slices.Contains(d.Actions, a.Action)
				}), "%s: %s became %s", c.text, before, after)
			}
		}
		if len(x.Differences) == 0 {
			same++
			continue
		}
		differ++
		if !x.Loosens() {
			continue
		}
		loosen++
		r, err := prove.Prove(t.Context(), b, newer, prove.Options{From: monday})
		require.NoError(t, err)
		if r.Count(prove.Fails) > 0 {
			caught++
		} else {
			t.Logf("no guarantee fails by: %s (%s)", c.text, x.Differences[0].Title(x))
		}
	}
	t.Logf("%d change nothing, %d something; of %d that loosen a guarantee fails by %d", same, differ, loosen, caught)
	require.Positive(t, same)
	require.Positive(t, differ)
	require.Positive(t, caught)
}
