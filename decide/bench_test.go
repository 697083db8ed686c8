package decide_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
)

func demoJudge(b *testing.B) *decide.Judge {
	b.Helper()
	opened, err := demo.Open()
	require.NoError(b, err)
	judge, err := opened.Compile()
	require.NoError(b, err)
	return judge
}

// BenchmarkVerdict judges the demo's scenes in turn, for the verdict alone.
func BenchmarkVerdict(b *testing.B) {
	judge, scenes := demoJudge(b), demo.Scenes()
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		judge.Verdict(&scenes[i%len(scenes)].Attempt)
	}
}

// BenchmarkDecide judges them with the full trace.
func BenchmarkDecide(b *testing.B) {
	judge, scenes := demoJudge(b), demo.Scenes()
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		judge.Decide(&scenes[i%len(scenes)].Attempt)
	}
}
