package door_test

import (
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/internal/synth"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// load opens the demo's book.
func load(o ...briskwarden.Option) (*briskwarden.Book, error) {
	return briskwarden.OpenFS(demo.Files(), append(o, briskwarden.WithDatabase(mmdb.Locator))...)
}

var silent = door.Options{Log: slog.New(slog.NewTextHandler(io.Discard, nil))}

func open(b *testing.B) store.Store {
	file, err := sqlite.Open(filepath.Join(b.TempDir(), "door.db"))
	require.NoError(b, err)
	b.Cleanup(func() { file.Close() })
	return file
}

// BenchmarkReview judges 10,000 open sessions again, as after a newer book, on SQLite.
func BenchmarkReview(b *testing.B) {
	const sessions = 10_000
	s := open(b)
	d, err := door.New(b.Context(), load, s, &door.Config{Store: door.StoreConfig{History: door.Complete}}, silent)
	require.NoError(b, err)
	defer d.Close()
	var group sync.WaitGroup
	for worker := range 16 {
		group.Go(func() {
			for i := worker; i < sessions; i += 16 {
				a := new(attempt.Attempt)
				text := doortest.Ingrid("mail", password+","+push, fmt.Sprintf(`,"session":{"id":"s-%d"}`, i))
				if err := attempt.Parse([]byte(text), a, attempt.Options{Now: time.Now()}); err != nil {
					b.Error(err)
				}
				d.Decide(b.Context(), a, door.Asked{Caller: "gateway"})
			}
		})
	}
	group.Wait()
	for b.Loop() {
		ended, err := d.Review(b.Context())
		require.NoError(b, err)
		require.Zero(b, ended)
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N), "s/review")
}

// BenchmarkSessionEnds has a device report that its firewall is off, and waits until the session that was granted on it has ended
// in the store, on SQLite.
func BenchmarkSessionEnds(b *testing.B) {
	h := doortest.New(b, open(b), nil)
	report := func(firewall bool) {
		h.Pass(time.Second)
		status, _, text := h.Ask("PUT", "/v1/devices/laptop-ingrid/report", all,
			fmt.Sprintf(`{"platform":"windows","facts":{"firewall":%t,"os_version":"10.0.22631","patch_age_days":3}}`, firewall))
		require.Equal(b, 204, status, string(text))
	}
	var sum, slowest time.Duration
	n := 0
	for b.Loop() {
		id := fmt.Sprintf("s-%d", n)
		report(true)
		require.Equal(b, decide.Grant, h.Answer(doortest.Ingrid("card-till", password+","+push, `,"session":{"id":"`+id+`"}`)).Verdict)
		from := time.Now()
		report(false)
		for len(h.Session(id).Apps) > 0 {
			time.Sleep(50 * time.Microsecond)
		}
		took := time.Since(from)
		sum, slowest, n = sum+took, max(slowest, took), n+1
	}
	b.ReportMetric(sum.Seconds()*1000/float64(n), "ms/end")
	b.ReportMetric(slowest.Seconds()*1000, "ms-slowest")
}

// BenchmarkStart makes a door of 1,000 policies and a store of 100,000 accounts that the book does not
// list, up to its first decision.
func BenchmarkStart(b *testing.B) {
	const accounts = 100_000
	chance := rand.New(rand.NewPCG(1, 2))
	files := fstest.MapFS{}
	for name, text := range synth.Large(chance, synth.Size{Accounts: 100, Policies: 1000, Apps: 200, Networks: 100, RangesEach: 10,
		Speaking: 5}).Files(chance, 4) {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	s := open(b)
	require.NoError(b, s.Update(b.Context(), func(tx store.Tx) error {
		for i := range accounts {
			a := &store.Account{Name: fmt.Sprintf("hand-%d@kestrelsound.example", i), Stated: []store.Statement{
				doortest.Stated(store.Methods, store.Before, attempt.BoolScalar(true), ""),
				{Fact: store.Method, Name: "password", By: store.Before, At: noon, Value: attempt.BoolScalar(true)}}}
			if err := store.Save(tx, a); err != nil {
				return err
			}
		}
		return nil
	}))
	for b.Loop() {
		d, err := door.New(b.Context(), func(o ...briskwarden.Option) (*briskwarden.Book, error) { return briskwarden.OpenFS(files, o...) }, s,
			new(door.Config), silent)
		require.NoError(b, err)
		d.Decide(b.Context(), &attempt.Attempt{At: time.Now(), Account: "hand-7@kestrelsound.example", App: "app-1"}, door.Asked{})
		require.NoError(b, d.Close())
	}
}

func BenchmarkDecide(b *testing.B) {
	for name, c := range map[string]struct {
		mode   door.JournalMode
		sqlite bool
		proofs string
	}{
		"off/step-up": {door.JournalOff, false, `[{"method":"password"}]`},
		"off/grant":   {door.JournalOff, false, `[{"method":"password"},{"method":"push"}]`},
		"memory":      {door.JournalRequired, false, `[{"method":"password"},{"method":"push"}]`},
		"sqlite":      {door.JournalRequired, true, `[{"method":"password"},{"method":"push"}]`},
	} {
		b.Run(name, func(b *testing.B) {
			var s store.Store = new(store.Memory)
			if c.sqlite {
				s = open(b)
			}
			d, err := door.New(b.Context(), load, s, &door.Config{Journal: door.JournalConfig{Mode: c.mode}}, silent)
			require.NoError(b, err)
			defer d.Close()
			body := []byte(
				`{"account":"ingrid@kestrelsound.example","app":"mail","ip":"203.0.113.20","through":"browser","device":{"id":"laptop-ingrid"},` +
					`"session":{"id":"s-9"},"proofs":` + c.proofs + `,"previous":null,"failures":null,"client":null}`,
			)
			b.SetParallelism(32)
			b.ReportAllocs()
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					a := new(attempt.Attempt)
					if err := attempt.Parse(body, a, attempt.Options{Now: time.Now()}); err != nil {
						b.Error(err)
					}
					d.Decide(b.Context(), a, door.Asked{Caller: "gateway"})
				}
			})
		})
	}
}
