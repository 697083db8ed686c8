package door_test

import (
	"io"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

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
				file, err := sqlite.Open(filepath.Join(b.TempDir(), "door.db"))
				require.NoError(b, err)
				defer file.Close()
				s = file
			}
			d, err := door.New(b.Context(), func(o ...briskwarden.Option) (*briskwarden.Book, error) {
				return briskwarden.OpenFS(demo.Files(), append(o, briskwarden.WithDatabase(mmdb.Locator))...)
			}, s, &door.Config{Journal: door.JournalConfig{Mode: c.mode}}, door.Options{Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
			require.NoError(b, err)
			defer d.Close()
			body := []byte(`{"account":"ingrid@kestrelsound.example","app":"mail","ip":"203.0.113.20","through":"browser","device":{"id":"laptop-ingrid"},` +
				`"session":{"id":"s-9"},"proofs":` + c.proofs + `,"previous":null,"failures":null,"client":null}`)
			b.SetParallelism(32)
			b.ReportAllocs()
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					a := new(attempt.Attempt)
					if err := attempt.ParseNow(body, time.Now(), a); err != nil {
						b.Error(err)
					}
					d.Decide(b.Context(), a, door.Asked{Caller: "gateway"})
				}
			})
		})
	}
}
