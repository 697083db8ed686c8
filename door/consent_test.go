package door_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// actsInJournal are the sentences of the acts in the journal.
func actsInJournal(h *doortest.House, t *testing.T) (said []string) {
	for e, err := range h.Kept.Entries(t.Context(), journal.Filter{Kind: journal.Consent}) {
		require.NoError(t, err)
		c, err := e.Content()
		require.NoError(t, err)
		var act acts.Act
		require.NoError(t, json.Unmarshal(c.Consent, &act))
		said = append(said, act.Sentence())
	}
	return said
}

func TestOutsidePrograms(t *testing.T) {
	kept := new(store.Memory)
	h := doortest.New(t, kept, doortest.Answering)
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
			status, _, text := h.Ask("POST", "/v1/consents", all, c.ask)
			require.Equal(t, c.status, status, string(text))
			var answer struct{ Outcome string }
			require.NoError(t, json.Unmarshal(text, &answer))
			require.Equal(t, c.outcome, answer.Outcome, string(text))
		})
	}
	status, _, _ := h.Ask("POST", "/v1/consents", idle, tide)
	require.Equal(t, http.StatusForbidden, status)

	b, err := h.Load()
	require.NoError(t, err)
	judge, err := b.Source().CompileConsent(b.Judge())
	require.NoError(t, err)
	reviewing := acts.New(judge, kept, store.TerminalLog)
	require.Empty(t, actsInJournal(h, t), "what was refused or rehearsed is no act")
	status, _, _ = h.Ask("POST", "/v1/consents", all, tide)
	require.Equal(t, http.StatusOK, status)
	status, _, text := h.Ask("POST", "/v1/consents", all, with(mail, "because", "For the log."))
	require.Equal(t, http.StatusOK, status, string(text))
	require.Equal(t, []string{"ingrid@kestrelsound.example let in tide-table: tides.read",
		"ingrid@kestrelsound.example asked for voyage-log: mail.read. For the log."}, actsInJournal(h, t))

	t.Run("a reviewer's act at a terminal counts at once", func(t *testing.T) {
		_, err := reviewing.Bar(t.Context(), "ragna@kestrelsound.example", "voyage-log", "It wants every mailbox.", noon.Add(time.Hour))
		require.NoError(t, err)
		h.Pass(2 * time.Hour)
		status, _, text := h.Ask("POST", "/v1/consents", all, mail)
		require.Equal(t, http.StatusOK, status)
		require.Contains(t, string(text), `"refuse"`)
		said := actsInJournal(h, t)
		require.Len(t, said, 3, "each act is an entry, once")
		require.Contains(t, said[2], "ragna@kestrelsound.example barred voyage-log. It wants every mailbox.")
	})
	t.Run("none are answered where the configuration does not say so", func(t *testing.T) {
		status, _, text := doortest.New(t, nil, nil).Ask("POST", "/v1/consents", all, tide)
		require.Equal(t, http.StatusNotFound, status)
		require.Contains(t, string(text), "consent: {answer: true}")
	})
	t.Run("a newer book answers at once", func(t *testing.T) {
		h := doortest.New(t, nil, doortest.Answering)
		newer := doortest.Edited(t, "scopes_within: [harmless]}, then: allow", "scopes_within: [harmless]}, then: refuse")
		delete(newer, "drills.yaml")
		h.Read(newer)
		require.True(t, h.Reload().Taken, h.Logged)
		_, _, answer := h.Ask("POST", "/v1/consents", all, tide)
		require.Contains(t, string(answer), `"refuse"`)
	})
}
