package metrics_test

import (
	"bytes"
	"testing"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/doortest"
)

func TestMetricsAreThoseOfPrometheus(t *testing.T) {
	h := doortest.New(t, nil, nil)
	h.Answer(doortest.Ingrid("mail", doortest.Password, ""))
	_, header, text := h.Ask("GET", "/metrics", doortest.All, nil)
	require.Contains(t, header.Get("Content-Type"), "text/plain")
	problems, err := promlint.New(bytes.NewReader(text)).Lint()
	require.NoError(t, err)
	require.Empty(t, problems)
	require.Contains(t, string(text), `briskwarden_book_in_force{book="`+h.Book().Digest()+`",rules="`+h.Book().Judge().Rules()+`"} 1`)
	require.Contains(t, string(text), `briskwarden_decisions_total{cause="demands_met",policy="fleet-baseline",rule="`)
}
