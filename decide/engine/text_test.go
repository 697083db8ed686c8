package engine_test

import (
	"math/rand/v2"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// TestAConditionIsReadBackFromItsText writes the conditions of made-up books and
// reads them again; and a copy is equal and shares nothing.
func TestAConditionIsReadBackFromItsText(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		random := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 3))
		made := synth.Small(random, 4)
		files := mapFS(made.Files(random, 1))
		b, err := book.OpenFS(files)
		require.NoError(t, err)
		for _, p := range b.Policies {
			text := "briskwarden: 1\npolicies:\n- {name: again, stage: draft, who: " + condition.Text(
				p.Who,
			) + ", apps: " + condition.Text(
				p.Apps,
			) + ", rules: [{name: r, then: block"
			if when := condition.Text(p.Rules[0].When); when != "" {
				text += ", when: " + when
			}
			files["again.yaml"] = &fstest.MapFile{Data: []byte(text + "}]}\n")}
			again, err := book.OpenFS(files)
			require.NoError(t, err, text)
			read := again.Policies[len(again.Policies)-1]
			for _, q := range again.Policies {
				if q.Name == "again" {
					read = q
				}
			}
			require.Equal(t, condition.Text(p.Who), condition.Text(read.Who))
			require.Equal(t, condition.Text(p.Rules[0].When), condition.Text(read.Rules[0].When))
			copied := condition.Copy(p.Who)
			require.Equal(t, p.Who, copied)
			condition.Walk(copied, func(n condition.Node) bool {
				if test, ok := n.(*condition.Test); ok {
					test.Values[0] = "changed"
				}
				return true
			})
			require.NotContains(t, condition.Text(p.Who), "changed")
		}
	})
}
