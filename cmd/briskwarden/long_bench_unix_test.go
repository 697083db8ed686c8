//go:build unix

package main_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/synth"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

var attempts = flag.Int(
	"attempts",
	100_000,
	"how many attempts the long history of BenchmarkLongReplay has, and the journal of BenchmarkLongJournal",
)

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
			asProcess(b, dir, args...)
			b.ReportMetric(float64(*attempts)*float64(b.N)/b.Elapsed().Seconds(), "attempts/s")
		})
	}
}

// asProcess runs the command as a whole process, and reports the most memory that it had.
func asProcess(b *testing.B, dir string, args ...string) {
	for b.Loop() {
		cmd := exec.Command(program, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(b, err, "%s", out[:min(len(out), 2000)])
		usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage)
		require.True(b, ok)
		b.ReportMetric(float64(usage.Maxrss)/1024, "MB-peak")
	}
}

// BenchmarkLongJournal reports on a long journal of 100,000 accounts in a SQLite file, and lists the
// entries of one account, as whole processes. Entries are what a door writes, with shorter leaves.
func BenchmarkLongJournal(b *testing.B) {
	dir := b.TempDir()
	require.NoError(b, exec.Command(program, "demo", "--out", filepath.Join(dir, "kestrel")).Run())
	s, err := sqlite.Open(filepath.Join(dir, "door.db"))
	require.NoError(b, err)
	chance := rand.New(rand.NewPCG(1, 2))
	begun := time.Date(2026, time.October, 23, 0, 0, 0, 0, time.UTC)
	const month, together = 31 * 24 * time.Hour, 256
	verdicts := []decide.Verdict{decide.Grant, decide.Grant, decide.Grant, decide.Grant, decide.StepUp, decide.Block}
	apps, rules := []string{"mail", "card-till", "crew-roster", "engine-logs"}, []string{"elsewhere", "open", "shut", "doubtful"}
	for n := 0; n < *attempts; n += together {
		var group []journal.Entry
		for i := range min(together, *attempts-n) {
			account := fmt.Sprintf("account-%d@kestrelsound.example", chance.IntN(100_000))
			at := begun.Add(time.Duration(float64(month) * float64(n+i) / float64(*attempts)))
			v := verdicts[chance.IntN(len(verdicts))]
			rule := chance.IntN(len(rules))
			app, ip := apps[chance.IntN(len(apps))], netip.AddrFrom4([4]byte{203, 0, byte(chance.IntN(64)), byte(chance.IntN(256))})
			e := journal.Make(journal.Decision, journal.NewID(), at, "gateway", account, "answer",
				fmt.Appendf(nil, `{"verdict":%[1]q,"causes":[{"code":"demands_met","policy":"fleet-baseline","rule":%[2]q}],"with_shadow":`+
					`{"verdict":%[1]q},"facts":{"app":%[3]q,"country":"NO","attempt":{"at":%[4]q,"account":%[5]q,"app":%[3]q,"ip":%[6]q,`+
					`"device":{"id":"laptop"},"proofs":[{"method":"password"},{"method":"push"}]}}}`, v, rules[rule], app,
					at.Format(time.RFC3339Nano), account, ip))
			brief, err := e.ReadBrief()
			require.NoError(b, err)
			e.Brief, _ = brief.AppendBinary(nil)
			group = append(group, e)
		}
		if n == 0 {
			s.Resembling(group[0].Leaf)
		}
		require.NoError(b, s.Update(b.Context(), func(tx store.Tx) error { return tx.Append("door", group) }))
	}
	require.NoError(b, s.Close())
	about, err := os.Stat(filepath.Join(dir, "door.db"))
	require.NoError(b, err)
	b.Logf("%d entries in %d MB", *attempts, about.Size()>>20)
	for name, args := range map[string][]string{
		"report":       {"report", "--book", "kestrel", "--file", "door.db", "--json"},
		"verify":       {"journal", "verify", "--file", "door.db"},
		"journal-list": {"journal", "list", "--file", "door.db", "--account", "account-4711@kestrelsound.example"},
	} {
		b.Run(name, func(b *testing.B) { asProcess(b, dir, args...) })
	}
}
