package acts_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// recordBefore writes a record of testdata that a program of the version before kept. In that of the north a client was let
// in that is barred in that of the south, as two doors had it.
func recordBefore(t *testing.T, name string) (path string) {
	path = filepath.Join(t.TempDir(), name+".db")
	require.NoError(t, os.WriteFile(path, storetest.Unzip(t, name+".record.gz"), 0o600))
	return path
}

func TestRecordsOfTheVersionBeforeAreMergedAndABarWins(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	consents, err := b.CompileConsent(judge)
	require.NoError(t, err)
	for name, order := range map[string][]string{"let in, then barred": {"north", "south"}, "barred, then let in": {"south", "north"}} {
		t.Run(name, func(t *testing.T) {
			s := new(store.Memory)
			for _, record := range append(order, order...) { // a second time does nothing
				texts, root, err := sqlite.ActsBefore(ctx, recordBefore(t, record))
				require.NoError(t, err)
				_, err = acts.TakeOver(ctx, s, "door", root, texts)
				require.NoError(t, err)
			}
			d := acts.New(consents, s, "door")
			require.Len(t, done(t, d), 6)
			require.Equal(t, map[string]string{"tide-table": "1 [tides.read]"}, holds(t, d))
			queue, err := d.Queue(ctx, monday)
			require.NoError(t, err)
			require.Empty(t, queue, "what a barred client asked for does not wait")
			register, err := d.Register(ctx, monday)
			require.NoError(t, err)
			for _, e := range register {
				if e.Client == "voyage-log" {
					require.Equal(t, "It changed hands.", e.Because)
				}
			}
		})
	}
	t.Run("what the journal has already is not entered twice", func(t *testing.T) {
		s := new(store.Memory)
		require.NoError(t, s.Update(ctx, func(tx store.Tx) error {
			return tx.Put(store.Row{Key: store.Key{Kind: "followed", Key: "consent"}, Value: []byte(`{"record":"consent","acts":3}`)})
		}))
		texts, root, err := sqlite.ActsBefore(ctx, recordBefore(t, "north"))
		require.NoError(t, err)
		taken, err := acts.TakeOver(ctx, s, "door", root, texts)
		require.NoError(t, err)
		require.Equal(t, 4, taken)
		require.Len(t, done(t, acts.New(consents, s, "door")), 1)
	})
	t.Run("a record becomes a store, and is kept", func(t *testing.T) {
		path := recordBefore(t, "north")
		kept, err := sqlite.CarryOverActs(ctx, path, func(into store.Store, texts []string, root string) error {
			_, err := acts.TakeOver(ctx, into, store.TerminalLog, root, texts)
			return err
		})
		require.NoError(t, err)
		require.FileExists(t, kept)
		s, err := sqlite.Read(path)
		require.NoError(t, err)
		defer s.Close()
		r, err := acts.New(consents, s, store.TerminalLog).Acts(ctx, journal.Verification{})
		require.NoError(t, err)
		require.Equal(t, acts.Granted, r.Acts[3].Kind)
		require.Equal(t, int64(1), r.Acts[3].Request)
	})
}
