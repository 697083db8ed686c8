package bench_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/synth"
)

func demoJudge(b testing.TB) *engine.Judge {
	b.Helper()
	opened, err := demo.Open()
	require.NoError(b, err)
	judge, err := opened.Compile()
	require.NoError(b, err)
	return judge
}

// inTurn times two ways of doing the same in turn, a stretch of so many each, and
// reports the median of each and of the ratio of neighbours: a machine whose speed
// drifts slows both alike. Beside the median of each stands the tenth percentile,
// which is what it costs while others leave the machine alone.
func inTurn(b *testing.B, stretch int, firstName, secondName string, first, second func(i int)) {
	stretchOf := func(do func(i int)) float64 {
		start := time.Now()
		for i := range stretch {
			do(i)
		}
		return float64(time.Since(start).Nanoseconds()) / float64(stretch)
	}
	stretchOf(first)
	stretchOf(second)
	var firsts, seconds, ratios []float64
	b.ReportAllocs()
	for b.Loop() {
		x, y := stretchOf(first), stretchOf(second)
		firsts, seconds, ratios = append(firsts, x), append(seconds, y), append(ratios, x/y)
	}
	b.ReportMetric(percentile(firsts, 50), firstName+"-ns")
	b.ReportMetric(percentile(firsts, 10), firstName+"-ns-quiet")
	b.ReportMetric(percentile(seconds, 50), secondName+"-ns")
	b.ReportMetric(percentile(seconds, 10), secondName+"-ns-quiet")
	b.ReportMetric(percentile(ratios, 50), "ratio")
}

func percentile(values []float64, percent int) float64 {
	slices.Sort(values)
	return values[len(values)*percent/100]
}

// BenchmarkVerdict judges the demo's scenes for the verdict alone, and decides
// them by the hand-written function.
func BenchmarkVerdict(b *testing.B) {
	opened, err := demo.Open()
	require.NoError(b, err)
	judge, err := opened.Compile()
	require.NoError(b, err)
	h, scenes := newHand(opened.Rulebook(), judge), demo.Scenes()
	inTurn(b, 2000, "judge", "hand",
		func(i int) { judge.Verdict(context.Background(), &scenes[i%len(scenes)].Attempt) },
		func(i int) { h.verdict(&scenes[i%len(scenes)].Attempt) })
}

// BenchmarkDecide judges them with the full trace, and without.
func BenchmarkDecide(b *testing.B) {
	judge, scenes := demoJudge(b), demo.Scenes()
	inTurn(b, 600, "trace", "verdict",
		func(i int) { judge.Decide(context.Background(), &scenes[i%len(scenes)].Attempt) },
		func(i int) { judge.Verdict(context.Background(), &scenes[i%len(scenes)].Attempt) })
}

// large is the book of the bars: 1,000 policies, 100,000 accounts, 500 apps and
// 200 networks of 50 ranges, about 10 policies speaking.
var large = synth.Size{Accounts: 100_000, Policies: 1000, Apps: 500, Networks: 200, RangesEach: 50, Speaking: 10}

// largeBook lays a large book into a folder, as a user has it.
func largeBook(b testing.TB, size synth.Size) string {
	dir := b.TempDir()
	random := rand.New(rand.NewPCG(1, 1))
	for name, text := range synth.Large(random, size).Files(random, 4) {
		require.NoError(b, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

var judges sync.Map // of synth.Size to *engine.Judge: the large book is opened once

func largeJudge(b testing.TB, size synth.Size) (*engine.Judge, []*attempt.Attempt) {
	b.Helper()
	kept, ok := judges.Load(size)
	if !ok {
		opened, err := book.Open(largeBook(b, size))
		require.NoError(b, err)
		judge, err := opened.Compile()
		require.NoError(b, err)
		judges.Store(size, judge)
		kept = judge
	}
	random := rand.New(rand.NewPCG(2, 2))
	var attempts []*attempt.Attempt
	for range 1000 {
		attempts = append(attempts, synth.LargeAttempt(random, size))
	}
	return kept.(*engine.Judge), attempts
}

// BenchmarkLarge judges attempts on the large book, and on one with 20 policies
// while as many speak.
func BenchmarkLarge(b *testing.B) {
	judge, attempts := largeJudge(b, large)
	size := large
	size.Policies = 20
	few, attemptsOnFew := largeJudge(b, size)
	inTurn(b, 2000, "policies=1000", "policies=20",
		func(i int) { judge.Verdict(context.Background(), attempts[i%len(attempts)]) },
		func(i int) { few.Verdict(context.Background(), attemptsOnFew[i%len(attempts)]) })
}

// BenchmarkLargeAlone judges attempts on the large book while no other book takes
// its place in the caches.
func BenchmarkLargeAlone(b *testing.B) {
	judge, attempts := largeJudge(b, large)
	n := len(attempts)
	inTurn(b, 2000, "forth", "back",
		func(i int) { judge.Verdict(context.Background(), attempts[i%n]) },
		func(i int) { judge.Verdict(context.Background(), attempts[n-1-i%n]) })
}

// BenchmarkGoroutines judges attempts on the large book with one goroutine and
// with two, as many decisions in all; the ratio says how many times as many two
// make in the same time.
func BenchmarkGoroutines(b *testing.B) {
	judge, attempts := largeJudge(b, large)
	const decisions = 200_000 // long enough that starting a goroutine is nothing to it
	work := func(from, n int) {
		for i := range n {
			judge.Verdict(context.Background(), attempts[(from+i)%len(attempts)])
		}
	}
	inTurn(b, 1, "one", "two",
		func(i int) { work(i, decisions) },
		func(i int) {
			var group sync.WaitGroup
			group.Go(func() { work(i, decisions/2) })
			group.Go(func() { work(i+decisions/2, decisions/2) })
			group.Wait()
		})
}

// BenchmarkOpen opens and compiles books of several sizes from files. The peak is
// that of the process since it began, so that a size of its own is best asked for
// by name, in a process of its own.
func BenchmarkOpen(b *testing.B) {
	for _, accounts := range []int{25_000, 50_000, 100_000} {
		for _, policies := range []int{250, 500, 1000} {
			size := large
			size.Accounts, size.Policies = accounts, policies
			b.Run(fmt.Sprintf("accounts=%d/policies=%d", accounts, policies), func(b *testing.B) {
				dir := largeBook(b, size)
				runtime.GC()
				for b.Loop() {
					opened, err := book.Open(dir)
					require.NoError(b, err)
					_, err = opened.Compile()
					require.NoError(b, err)
				}
				b.ReportMetric(peak(b), "MB-peak")
			})
		}
	}
}

// peak is the most memory that the process ever held, in MB, as Linux tells.
func peak(b *testing.B) float64 {
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Skip("the peak of memory is only known on Linux")
	}
	_, after, _ := strings.Cut(string(status), "VmHWM:")
	kilobytes, err := strconv.Atoi(strings.Fields(after)[0])
	require.NoError(b, err)
	return float64(kilobytes) / 1000
}
