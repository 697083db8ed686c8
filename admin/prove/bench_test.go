package prove_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/synth"
)

func bench(b *testing.B, source *book.Book) {
	judge, err := source.Compile()
	require.NoError(b, err)
	for b.Loop() {
		r, err := prove.Prove(b.Context(), source, judge, prove.Options{From: monday})
		require.NoError(b, err)
		require.Zero(b, r.Count(prove.Open))
		b.ReportMetric(float64(r.Count(prove.Proven)), "proven")
		b.ReportMetric(float64(r.Cells()), "cells")
	}
}

// BenchmarkDemo proves the twelve guarantees of the demo.
func BenchmarkDemo(b *testing.B) {
	source, err := demo.Open()
	require.NoError(b, err)
	bench(b, source)
}

// BenchmarkLarge proves guarantees of a large book, each of an app.
func BenchmarkLarge(b *testing.B) {
	for _, size := range []struct{ policies, accounts, guarantees int }{{200, 10_000, 50}, {1000, 100_000, 20}} {
		b.Run(fmt.Sprintf("%d-policies-%d-accounts-%d-guarantees", size.policies, size.accounts, size.guarantees), func(b *testing.B) {
			chance := rand.New(rand.NewPCG(1, 2))
			source, _ := synth.Large(chance, synth.Size{Accounts: size.accounts, Policies: size.policies, Apps: 100, Networks: 50, RangesEach: 10,
				Speaking: 5}).Open(chance)
			for i := range size.guarantees {
				g := book.Guarantee{
					Name:  fmt.Sprintf("g%d", i),
					Where: &condition.Test{Key: engine.KeyNames, Values: []string{fmt.Sprintf("app-%d", i)}},
				}
				switch i % 3 {
				case 0:
					g.NeverWithout = []string{"once"}
				case 1:
					g.Enough = []string{"twice", "device"}
				default:
					g.AtMost = []string{"once", "twice", "device"}
				}
				source.Guarantees = append(source.Guarantees, g)
			}
			bench(b, source)
		})
	}
}
