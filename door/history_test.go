package door_test

import (
	"bytes"
	"fmt"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// TestTheJournalIsAHistory replays what a door decided on facts of its store: as it was recorded, and as
// OCSF events.
func TestTheJournalIsAHistory(t *testing.T) {
	h := doortest.New(t, nil, nil)
	risky := noon.Add(-time.Hour)
	require.NoError(t, h.Kept.Update(t.Context(), func(tx store.Tx) error { // which the book knows nothing of
		if err := store.Save(tx, &store.Account{Name: "ingrid@kestrelsound.example", Stated: []store.Statement{
			doortest.Stated(store.StandingRisk, store.Before, attempt.TextScalar("high"), "strange-sign-ins")}}); err != nil {
			return err
		}
		return store.Save(tx,
			&store.Device{ID: "till-04", Facts: map[string]attempt.Scalar{"firewall": attempt.BoolScalar(false)}, ReportedAt: &risky})
	}))
	verdicts := map[string]decide.Verdict{}
	causes := map[string]string{}
	for i, scene := range demo.Scenes() {
		for j, app := range []string{"mail", "card-till", "https://mail.kestrelsound.example/inbox"} {
			a := scene.Attempt
			a.At, a.App, a.ID = h.Clock(), app, fmt.Sprintf("a-%d-%d", i, j)
			if a.Action != attempt.SignIn {
				continue
			}
			answer := h.Decide(t.Context(), &a, door.Asked{Caller: "gateway"})
			verdicts[a.ID], causes[a.ID] = answer.Verdict, answer.Causes[0].Text
			h.Pass(time.Second)
		}
	}
	require.Greater(t, len(verdicts), 10)
	b, err := h.Load()
	require.NoError(t, err)
	judge, err := b.Source().Compile()
	require.NoError(t, err)
	for name, write := range map[string]func(io.Writer) error{
		"as it was recorded": func(w io.Writer) error {
			return evidence.WriteLines(w, h.Kept.Entries(t.Context(), journal.Filter{}), 0)
		},
		"as OCSF events": func(w io.Writer) error {
			return evidence.WriteOCSF(w, h.Kept.Entries(t.Context(), journal.Filter{}), 0)
		},
	} {
		t.Run(name, func(t *testing.T) {
			var text bytes.Buffer
			require.NoError(t, write(&text))
			sources := []replay.Source{
				{Name: name, Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text.Bytes())), nil }},
			}
			found, err := (&evidence.Filter{}).ListHistory(t.Context(), judge, sources, replay.Options{Recorded: replay.MayBeRecorded(text.Bytes())},
				1000)
			require.NoError(t, err)
			require.Empty(t, found.Bad)
			require.Len(t, found.Entries, len(verdicts))
			for _, line := range found.Entries {
				require.Equal(t, verdicts[line.ID].String(), line.Verdict, line.ID)
				require.Equal(t, causes[line.ID], line.Text)
			}
			unexpected, err := (&evidence.Filter{}).ListHistory(t.Context(), judge, sources, replay.Options{}, 1000)
			require.NoError(t, err)
			require.Empty(t, unexpected.Entries, "without what the store knew nothing is judged")
			require.NotEmpty(t, unexpected.Unjudged)
		})
	}
	t.Run("filters", func(t *testing.T) {
		office, err := directory.ParseRange("203.0.113.0/24")
		require.NoError(t, err)
		for name, f := range map[string]*evidence.Filter{
			"all":        {},
			"a verdict":  {Verdicts: []decide.Verdict{decide.Block}},
			"an app":     {App: "mail"},
			"a policy":   {Policy: "card-till"},
			"an address": {Ranges: []directory.Range{office}},
			"a country":  {Country: "NO"},
			"an account": {Account: "ingrid@kestrelsound.example", Verdicts: []decide.Verdict{decide.StepUp, decide.Block}},
			"a time":     {From: noon.Add(3 * time.Second), To: noon.Add(6 * time.Second), Kind: journal.Decision},
		} {
			t.Run(name, func(t *testing.T) {
				list, err := f.ListOf(h.Kept.Entries(t.Context(), f.Of()), 1000)
				require.NoError(t, err)
				require.NotEmpty(t, list.Entries)
				for _, l := range list.Entries {
					require.True(
						t,
						(len(f.Verdicts) == 0 || l.Verdict != "grant") && (f.App == "" || l.App == "mail") && (f.Policy == "" || l.Policy == "card-till") &&
							(f.Ranges == nil || office.Contains(l.IP)) && (f.Country == "" || l.Country == "NO") &&
							(f.Account == "" || l.Account == f.Account) &&
							(f.From.IsZero() || !l.At.Before(f.From) && l.At.Before(f.To)),
						"%+v",
						l,
					)
				}
			})
		}
	})
	verified, err := evidence.Verify(t.Context(), h.Kept, journal.Verification{})
	require.NoError(t, err)
	require.Empty(t, verified.Wrong, "the briefs are what the entries say, too")
}
