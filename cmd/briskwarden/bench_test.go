package main_test

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/synth"
)

// BenchmarkCommands times whole processes: each command on the demo's book, and
// those of the writing bench on a large one.
func BenchmarkCommands(b *testing.B) {
	dir := b.TempDir()
	chance := rand.New(rand.NewPCG(1, 2))
	require.NoError(b, os.Mkdir(filepath.Join(dir, "large"), 0o700))
	size := synth.Size{Accounts: 100_000, Policies: 1000, Apps: 500, Networks: 200, RangesEach: 50, Speaking: 10}
	for name, text := range synth.Large(chance, size).Files(chance, 4) {
		require.NoError(b, os.WriteFile(filepath.Join(dir, "large", name), []byte(text), 0o600))
	}
	require.NoError(b, os.Mkdir(filepath.Join(dir, "other"), 0o700))
	for name, text := range synth.Large(chance, size).Files(chance, 4) { // drawn again, so all of it is other
		require.NoError(b, os.WriteFile(filepath.Join(dir, "other", name), []byte(text), 0o600))
	}
	cmd := exec.Command(program, "demo", "--out", "demo")
	cmd.Dir = dir
	require.NoError(b, cmd.Run())
	ingrid := []string{"--account", "ingrid@kestrelsound.example", "--app", "card-till"}
	for _, c := range []struct {
		name string
		args []string
	}{
		{"demo/demo", []string{"demo"}}, {"demo/inspect", []string{"inspect", "--book", "demo"}}, {"demo/describe", []string{"describe", "--book",
			"demo"}},
		{"demo/reach", []string{"reach", "--book", "demo"}}, {"demo/rehearse", append([]string{"rehearse", "--book", "demo"}, ingrid...)},
		{"demo/vary", append([]string{"rehearse", "--book", "demo", "--until-granted", "--vary", "network,country,hour"}, ingrid...)},
		{"demo/schema", []string{"schema", "book"}}, {"demo/drill", []string{"drill", "--book", "demo", "--mutate"}}, {"demo/readiness", []string{
			"readiness", "--book", "demo"}},
		{"demo/compare", []string{"compare", "demo", "demo"}},
		{"large/inspect", []string{"inspect", "--book", "large"}}, {"large/describe", []string{"describe", "--book", "large"}},
		{"large/describe-by-app", []string{"describe", "--book", "large", "--by", "app"}}, {"large/describe-by-group", []string{"describe",
			"--book", "large", "--by", "group"}},
		{"large/compare", []string{"compare", "large", "other"}},
		{"large/reach", []string{"reach", "--book", "large"}}, {"large/reach-app", []string{"reach", "--book", "large", "--app", "app-3"}},
		{"large/reach-account", []string{"reach", "--book", "large", "--account", "person-7@kestrelsound.example"}},
	} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				cmd := exec.Command(program, c.args...)
				cmd.Dir = dir
				_ = cmd.Run() // inspect ends with 1 where it finds something
				require.Less(b, cmd.ProcessState.ExitCode(), 2)
			}
		})
	}
}
