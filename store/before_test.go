package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/store"
)

// TestWhatWasKeptBeforeIsCarriedOver: rows of a version that did not note its sources.
func TestWhatWasKeptBeforeIsCarriedOver(t *testing.T) {
	s := new(store.Memory)
	row := func(kind store.Kind, key, value string) store.Row {
		return store.Row{Key: store.Key{Kind: kind, Key: key}, Value: []byte(value)}
	}
	put := func(rows ...store.Row) {
		require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
			for _, r := range rows {
				if err := tx.Put(r); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	put(
		row(store.Accounts, "ann@kestrelsound.example",
			`{"name":"ann@kestrelsound.example","disabled":true,"groups":["deck","crew"],"methods":["password"],`+
				`"attributes":{"team":"blue"},"joined":"2026-11-01","account_risk":{"level":"high","because":"odd","since":"2026-11-20T12:00:00Z"},`+
				`"password_changed_at":"2026-11-19T12:00:00Z","previous":{"at":"2026-11-22T12:00:00Z"},"failures":["2026-11-22T11:00:00Z"],`+
				`"since":"2026-11-01T00:00:00Z","pushed":{"attributes":{"userName":"ann@kestrelsound.example"},"created":"2026-11-01T00:00:00Z",`+
				`"changed":"2026-11-02T00:00:00Z","version":3}}`),
		row(store.Accounts, "eve@kestrelsound.example", `{"name":"eve@kestrelsound.example","kind":"emergency"}`),
		row(store.Devices, "till-04", `{"id":"till-04","facts":{"firewall":true},"reported_at":"2026-11-22T12:00:00Z",`+
			`"compliance":{"compliant":false,"at":"2026-11-22T13:00:00Z"},"seen_with":["ann@kestrelsound.example"]}`),
		row(store.Groups, "deck",
			`{"name":"deck","members":["ann@kestrelsound.example"],"pushed":{"attributes":{},"created":"2026-11-01T00:00:00Z",`+
				`"changed":"2026-11-02T00:00:00Z","version":1}}`),
	)
	rows, err := store.CarryOver(t.Context(), s, at)
	require.NoError(t, err)
	require.Equal(t, 4, rows)
	rows, err = store.CarryOver(t.Context(), s, at)
	require.NoError(t, err)
	require.Zero(t, rows, "once")

	managed, err := store.Managed(t.Context(), s)
	require.NoError(t, err)
	require.Equal(t, map[string]store.Source{"deck": store.Before}, managed)
	a := &store.Account{Name: ann}
	require.NoError(t, store.Load(t.Context(), s, a))
	joined, _, err := a.Join(listed(), managed, at)
	require.Equal(t, `disabled; in [crew deck] has [password push] high "odd" since -4320 team blue`, shown(joined, err))
	require.Equal(t, "2026-11-01", joined.Joined.String())
	require.NotNil(t, a.Previous)
	require.Len(t, a.Failures, 1)
	require.Equal(t, 3, a.Pushed[store.Before].Version)
	a.Say(said(0, hr, store.Disabled, "", no))
	joined, _, err = a.Join(listed(), managed, at)
	require.NoError(t, err)
	require.True(t, joined.Disabled, "an administrator alone takes it back")

	eve := &store.Account{Name: "eve@kestrelsound.example"}
	require.NoError(t, store.Load(t.Context(), s, eve))
	_, _, err = eve.Join(store.Listed{}, managed, at)
	require.ErrorContains(t, err, "before says that it is an emergency account")
	d := &store.Device{ID: "till-04"}
	require.NoError(t, store.Load(t.Context(), s, d))
	facts, _ := d.Reported()
	require.Equal(t, attempt.BoolScalar(false), facts["compliant"])
	require.True(t, d.WasSeenWith(ann, new(store.Making)))
	members, err := s.List(t.Context(), store.MembersOf("deck"))
	require.NoError(t, err)
	require.Len(t, members, 1)

	put(row(store.Forms, "facts", `{"name":"facts","form":2}`),
		row(store.Sessions, "s-1", `{"id":"s-1","account":"`+ann+`","started":"2026-11-22T12:00:00Z","proofs":[],"apps":[]}`),
		row(store.Sessions, "s-2", `{"id":"s-2","account":"`+ann+`","started":"2026-11-22T12:00:00Z","proofs":[],"apps":[],`+
			`"ended":"2026-11-22T13:00:00Z","because":"she called"}`))
	rows, err = store.CarryOver(t.Context(), s, at)
	require.NoError(t, err)
	require.Equal(t, 2, rows)
	again := &store.Account{Name: ann}
	require.NoError(t, store.Load(t.Context(), s, again))
	require.Equal(t, []store.EndedSID{{SID: "s-2", At: time.Date(2026, 11, 22, 13, 0, 0, 0, time.UTC)}}, again.EndedSIDs)
	again.EndedSIDs = nil
	require.Equal(t, a.Stated[:len(a.Stated)-1], again.Stated, "and nothing else is other than it was")

	put(row(store.Forms, "facts", `{"name":"facts","form":9}`))
	_, err = store.CarryOver(t.Context(), s, at)
	require.ErrorContains(t, err, "a newer version")
}
