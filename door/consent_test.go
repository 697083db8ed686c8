package door_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/consent/desk"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// actsInJournal waits until so many acts are in the journal, and returns their sentences.
func (h *house) actsInJournal(t *testing.T, n int) []string {
	var said []string
	require.Eventually(t, func() bool {
		said = nil
		for e, err := range h.store.Entries(t.Context(), journal.Filter{Kind: journal.Consent}) {
			require.NoError(t, err)
			c, err := e.Content()
			require.NoError(t, err)
			var act desk.Act
			require.NoError(t, json.Unmarshal(c.Consent, &act))
			said = append(said, act.Sentence())
		}
		return len(said) >= n
	}, 20*time.Second, 5*time.Millisecond)
	return said
}

func TestOutsidePrograms(t *testing.T) {
	record, kept := new(desk.Memory), new(store.Memory)
	h := newHouseWith(t, kept, record, nil)
	tide := map[string]any{"account": "ingrid@kestrelsound.example", "client": "tide-table", "scopes": []string{"tides.read"},
		"redirect_uri": "https://tidewise.example/answer"}
	with := func(base map[string]any, key string, value any) map[string]any {
		changed := map[string]any{key: value}
		for k, v := range base {
			if k != key {
				changed[k] = v
			}
		}
		return changed
	}
	mail := with(
		with(with(tide, "client", "voyage-log"), "scopes", []string{"mail.read"}),
		"redirect_uri",
		"https://app.fjordscribe.example/answer",
	)
	for name, c := range map[string]struct {
		ask     any
		status  int
		outcome string
	}{
		"harmless":                             {with(tide, "rehearse", true), http.StatusOK, "allow"},
		"everybody's data":                     {with(tide, "scopes", []string{"files.all"}), http.StatusOK, "refuse"},
		"barred":                               {with(tide, "client", "prize-wheel"), http.StatusOK, "refuse"},
		"somebody whom nobody knows":           {with(tide, "account", "nobody@kestrelsound.example"), http.StatusOK, "refuse"},
		"a program that is answered elsewhere": {with(tide, "redirect_uri", "https://evil.example"), http.StatusOK, "refuse"},
		"no scope":                             {with(tide, "scopes", []string{}), http.StatusUnprocessableEntity, ""},
		"a key that nobody knows":              {with(tide, "scope", "tides.read"), http.StatusBadRequest, ""},
		"no JSON":                              {"{", http.StatusBadRequest, ""},
	} {
		t.Run(name, func(t *testing.T) {
			status, _, text := h.ask("POST", "/v1/consents", all, c.ask)
			require.Equal(t, c.status, status, string(text))
			var answer struct{ Outcome string }
			require.NoError(t, json.Unmarshal(text, &answer))
			require.Equal(t, c.outcome, answer.Outcome, string(text))
		})
	}
	status, _, _ := h.ask("POST", "/v1/consents", idle, tide)
	require.Equal(t, http.StatusForbidden, status)

	b, err := h.load()
	require.NoError(t, err)
	judge, err := b.Source().CompileConsent(b.Judge())
	require.NoError(t, err)
	reviewing := desk.New(judge, record)
	acted, err := reviewing.Acts(t.Context())
	require.NoError(t, err)
	require.Empty(t, acted, "what was refused or rehearsed is no act")
	status, _, _ = h.ask("POST", "/v1/consents", all, tide)
	require.Equal(t, http.StatusOK, status)
	status, _, text := h.ask("POST", "/v1/consents", all, with(mail, "because", "For the log."))
	require.Equal(t, http.StatusOK, status, string(text))
	said := h.actsInJournal(t, 2)
	require.Equal(t, []string{"ingrid@kestrelsound.example let in tide-table: tides.read",
		"ingrid@kestrelsound.example asked for voyage-log: mail.read. For the log."}, said)

	t.Run("a reviewer's act elsewhere is taken too, and each once over a restart", func(t *testing.T) {
		require.NoError(t, h.Close())
		_, err := reviewing.Bar(t.Context(), "ragna@kestrelsound.example", "voyage-log", "It wants every mailbox.", noon.Add(time.Hour))
		require.NoError(t, err)
		again := newHouseWith(t, kept, record, nil)
		again.pass(2 * time.Hour)
		said := again.actsInJournal(t, 3)
		require.Len(t, said, 3)
		require.Contains(t, said[2], "ragna@kestrelsound.example barred voyage-log. It wants every mailbox.")
		status, _, text := again.ask("POST", "/v1/consents", all, mail)
		require.Equal(t, http.StatusOK, status)
		require.Contains(t, string(text), `"refuse"`)
	})
	t.Run("none are answered where there is no record", func(t *testing.T) {
		status, _, text := newHouse(t, nil, nil).ask("POST", "/v1/consents", all, tide)
		require.Equal(t, http.StatusNotFound, status)
		require.Contains(t, string(text), "consent.record")
	})
	t.Run("a newer book answers at once", func(t *testing.T) {
		h := newHouseWith(t, nil, new(desk.Memory), nil)
		newer := edited(t, "scopes_within: [harmless]}, then: allow", "scopes_within: [harmless]}, then: refuse")
		delete(newer, "drills.yaml")
		h.read(newer)
		require.True(t, h.Reload().Taken, h.log)
		_, _, answer := h.ask("POST", "/v1/consents", all, tide)
		require.Contains(t, string(answer), `"refuse"`)
	})
}
