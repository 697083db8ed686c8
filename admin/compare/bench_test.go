package compare_test

import (
	"context"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// BenchmarkExact finds all in which the demo's book and the one that is proposed differ.
func BenchmarkExact(b *testing.B) {
	older, err := demo.Open()
	require.NoError(b, err)
	newer, err := book.OpenFS(demo.ProposedFiles(), book.WithDatabase(mmdb.Locator))
	require.NoError(b, err)
	for b.Loop() {
		r, err := compare.Books(older, newer, monday)
		require.NoError(b, err)
		require.NoError(b, r.AddExact(context.Background(), compare.ExactOptions{From: monday}))
		require.NotEmpty(b, r.Exact.Differences)
		b.ReportMetric(float64(r.Exact.Cells), "cells")
	}
}

// BenchmarkExactLarge finds what changed in a large book: three policies for some groups at a few apps, or one for
// everybody at every app.
func BenchmarkExactLarge(b *testing.B) {
	size := synth.Size{Accounts: 10_000, Policies: 200, Apps: 100, Networks: 50, RangesEach: 10, Speaking: 5}
	for name, kind := range map[string]struct {
		wide bool
		most int
	}{"three-narrow": {false, 3}, "one-wide": {true, 1}} {
		b.Run(name, func(b *testing.B) {
			chance := rand.New(rand.NewPCG(1, 2))
			made := synth.Large(chance, size)
			older, judge := made.Open(chance)
			var changed []string
			for i, p := range judge.Policies() {
				if len(changed) < kind.most && kind.wide == (i < size.Speaking) && len(judge.Apps(i)) > 0 {
					changed = append(changed, "{name: "+p.Name+",")
				}
			}
			for i, d := range made.Definitions {
				if slices.ContainsFunc(changed, func(begin string) bool { return strings.HasPrefix(d.Text, begin) }) {
					made.Definitions[i].Text = strings.Replace(d.Text, "{require: [once]}", "{require: [once, device]}", 1)
				}
			}
			newer, _ := made.Open(chance)
			for b.Loop() {
				r, err := compare.Books(older, newer, monday)
				require.NoError(b, err)
				begun := time.Now()
				require.NoError(b, r.AddExact(context.Background(), compare.ExactOptions{From: monday}))
				require.Empty(b, r.Exact.Open)
				require.Len(b, r.Changed, kind.most)
				require.NotEmpty(b, r.Exact.Differences)
				b.ReportMetric(time.Since(begun).Seconds(), "exact-s")
				b.ReportMetric(float64(r.Exact.Cells), "cells")
				b.ReportMetric(float64(len(r.Exact.Differences)), "differences")
			}
		})
	}
}
