package alerts_test

import (
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/alerts"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// BenchmarkAlerts decides the demo's month several times over, with the journal on SQLite, and then lets the
// watch of its seven alerts look at what was decided. It reports what that adds to a decision, in time of the
// processors.
func BenchmarkAlerts(b *testing.B) {
	const rounds, workers = 8, 64
	s, err := sqlite.Open(filepath.Join(b.TempDir(), "door.db"))
	require.NoError(b, err)
	watching := new(alerts.Waiting)
	d := doortest.New(b, s, nil, func(o *door.Options) { o.Now, o.Rooms = nil, []door.Room{watching.Room} })
	attempts := demo.History()
	for b.Loop() {
		require.NoError(b, watching.LookOnce(b.Context()))
		now, begun := time.Now(), processorTime(b)
		var group sync.WaitGroup
		for worker := range workers {
			group.Go(func() {
				for i := worker; i < rounds*len(attempts); i += workers {
					a := *attempts[i%len(attempts)]
					a.At = now
					d.Decide(b.Context(), &a, door.Asked{Caller: "gateway"})
				}
			})
		}
		group.Wait()
		decided := processorTime(b) - begun
		begun = processorTime(b)
		require.NoError(b, watching.LookOnce(b.Context()))
		looked := processorTime(b) - begun
		each := float64(rounds * len(attempts))
		b.ReportMetric(float64(decided.Nanoseconds())/each, "ns/decision")
		b.ReportMetric(float64(looked.Nanoseconds())/each, "ns/looked")
		b.ReportMetric(100*looked.Seconds()/decided.Seconds(), "%added")
	}
}

// processorTime is how long processors have worked for this program.
func processorTime(b *testing.B) time.Duration {
	var used syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &used))
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}
