package door_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/store"
)

// TestAStoreInDoubt: emergency accounts alone are let in, then nobody for whom a source speaks with which it is not resynced; and
// what was authenticated before proves nothing.
func TestAStoreInDoubt(t *testing.T) {
	const ann, root, inSession = "ann@shop.example", "root@shop.example", `,"session":{"id":"s-1"},"device":{"id":"till"}`
	h, _ := shopHouse(t)
	restored := func(sources ...store.Source) {
		require.NoError(t, h.Kept.Update(t.Context(), func(tx store.Tx) error {
			return store.Save(tx, &store.Restored{At: noon.Add(time.Minute), By: "ragna", Because: "the disk failed", Resynced: sources})
		}))
		h.Forget()
	}
	blocks := func(account, because string) {
		t.Helper()
		a := h.Answer(`{"account":"` + account + `","app":"mail","proofs":[` + password + `]}`)
		require.Equal(t, "account_unavailable", string(a.Causes[0].Code))
		require.Contains(t, a.Causes[0].Text, because)
		require.Contains(t, a.Degraded[0], because)
	}
	opens := func() {
		t.Helper()
		a := h.Answer(`{"account":"safe","app":"mail","proofs":[{"method":"security-key"}]}`)
		require.Equal(t, "grant", a.Verdict.String())
	}
	remembered := `{"account":"` + ann + `","app":"mail","device":{"id":"till"}}`
	h.Answer(
		`{"account":"` + ann + `","app":"mail","session":{"id":"s-1"},"proofs":[` + password + `],"device":{"id":"till","remembered":[` +
			`{"account":"` + ann + `","method":"password","at":"` + noon.Format(time.RFC3339) + `"}]}}`,
	)
	require.Equal(t, "grant", h.Answer(remembered).Verdict.String())
	require.NotEmpty(t, h.SessionBy(store.SessionID("gateway", "s-1", ann)).Apps)

	h.Suspend()
	blocks(ann, "the store is in doubt")
	opens()
	require.False(t, h.Ready(t.Context()).Ready)
	h.Pass(2 * time.Minute)
	_, err := h.Review(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, h.SessionBy(store.SessionID("gateway", "s-1", ann)).Apps, "what cannot be found out ends nothing")
	h.Resume()
	continues := `{"account":"` + ann + `","app":"mail"` + inSession + `}`
	require.Equal(t, "demands_met", string(h.Answer(continues).Causes[0].Code))

	restored()
	blocks(ann, "not yet resynced with administrators")
	opens()
	restored(store.Administrators, store.CallerSource("gateway"), store.CallerSource("payroll"))
	blocks(ann, "not yet resynced with caller narrow")
	blocks(root, "not yet resynced with issuer "+feed)
	restored(store.Administrators, store.CallerSource("gateway"), store.CallerSource("payroll"), store.IssuerSource(feed),
		store.IssuerSource("https://other.example"))
	blocks(ann, "not yet resynced with caller narrow")
	require.Equal(t, "demands_met", h.Cause(root, "mail", ""), "it is not for narrow to speak of root")
	require.False(t, h.Ready(t.Context()).Ready)
	restored(store.Administrators, store.CallerSource("gateway"), store.CallerSource("payroll"), store.CallerSource("narrow"),
		store.IssuerSource(feed), store.IssuerSource("https://other.example"))
	require.True(t, h.Ready(t.Context()).Ready)
	require.Equal(t, "demands_met", h.Cause(ann, "mail", ""))
	require.Equal(t, "session_ended", string(h.Answer(`{"account":"` + ann + `","app":"mail"` + inSession + `}`).Causes[0].Code))
	require.Equal(t, "step_up", h.Answer(remembered).Verdict.String(), "remembered before")
	before := `{"method":"password","at":"` + noon.Format(time.RFC3339) + `"}`
	require.Equal(t, "step_up", h.Answer(`{"account":"`+ann+`","app":"mail","proofs":[`+before+`]}`).Verdict.String())
	_, err = h.Review(t.Context())
	require.NoError(t, err)
	require.False(t, h.SessionBy(store.SessionID("gateway", "s-1", ann)).Ended.IsZero())
}
