package decide_test

import (
	"context"
	"testing"

	"github.com/briskwarden/briskwarden/demo"
)

func BenchmarkZZ(b *testing.B) {
	judge, scenes := demoJudge(b), demo.Scenes()
	i := 0
	for b.Loop() {
		judge.Decide(context.Background(), &scenes[i%len(scenes)].Attempt)
		i++
	}
}
