//go:build unix

package main_test

import (
	"flag"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/synth"
)

var attempts = flag.Int("attempts", 100_000, "how many attempts the long history of BenchmarkLongReplay has")

// BenchmarkLongReplay replays a long history by a large book as a whole process, and
// compares two books by it. It reports the rate, and the most memory that the process
// had.
func BenchmarkLongReplay(b *testing.B) {
	dir := b.TempDir()
	chance := rand.New(rand.NewPCG(1, 2))
	size := synth.Size{Accounts: 20_000, Policies: 200, Apps: 100, Networks: 50, RangesEach: 20, Speaking: 5}
	require.NoError(b, os.Mkdir(filepath.Join(dir, "large"), 0o700))
	for name, text := range synth.Large(chance, size).Files(chance, 4) {
		require.NoError(b, os.WriteFile(filepath.Join(dir, "large", name), []byte(text), 0o600))
	}
	file, err := os.Create(filepath.Join(dir, "history.jsonl"))
	require.NoError(b, err)
	require.NoError(b, synth.LargeHistory(chance, size, *attempts, file))
	require.NoError(b, file.Close())
	for _, args := range [][]string{{"replay", "--book", "large", "history.jsonl"}, {"compare", "large", "large", "--history",
		"history.jsonl"}} {
		b.Run(args[0], func(b *testing.B) {
			for b.Loop() {
				cmd := exec.Command(program, args...)
				cmd.Dir = dir
				require.NoError(b, cmd.Run())
				usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage)
				require.True(b, ok)
				b.ReportMetric(float64(usage.Maxrss)/1024, "MB-peak")
			}
			b.ReportMetric(float64(*attempts)*float64(b.N)/b.Elapsed().Seconds(), "attempts/s")
		})
	}
}
