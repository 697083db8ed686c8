package main

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
)

func guard(t *testing.T, change func(*decide.Rulebook)) *Guard {
	b, err := demo.Open()
	require.NoError(t, err)
	rulebook := b.Rulebook()
	change(&rulebook)
	judge, err := decide.Compile(rulebook)
	require.NoError(t, err)
	g := &Guard{App: "crew-roster", Next: http.HandlerFunc(page),
		Now: func() time.Time { return time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC) }}
	g.Judge.Store(judge)
	return g
}

func ask(g http.Handler, ip, account, proved string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(http.MethodGet, "/", nil)
	r.RemoteAddr = ip + ":4711"
	r.Header.Set("X-Account", account)
	r.Header.Set("X-Proved", proved)
	r.Header.Set("X-Device", "laptop-ingrid")
	w := httptest.NewRecorder()
	g.ServeHTTP(w, r)
	return w
}

func TestGuard(t *testing.T) {
	g := guard(t, func(*decide.Rulebook) {})
	for _, c := range []struct {
		ip, account, proved string
		status              int
		offer               []any
	}{
		{"203.0.113.20", "ingrid@kestrelsound.example", "password", http.StatusOK, nil},
		{"192.0.2.200", "ingrid@kestrelsound.example", "password", http.StatusUnauthorized, []any{"push"}},
		{"192.0.2.200", "ingrid@kestrelsound.example", "password, push", http.StatusOK, nil},
		{"192.0.2.200", "marek@gdansk-yard.example", "password", http.StatusForbidden, []any{}},
		// Anyone who has proven nothing is told the same, known or not.
		{"192.0.2.200", "marek@gdansk-yard.example", "", http.StatusUnauthorized, []any{"certificate", "crew-card", "otp-app", "passkey",
			"password", "security-key"}},
		{"192.0.2.200", "nobody@kestrelsound.example", "", http.StatusUnauthorized, []any{"certificate", "crew-card", "otp-app", "passkey",
			"password", "security-key"}},
	} {
		t.Run(c.account, func(t *testing.T) {
			w := ask(g, c.ip, c.account, c.proved)
			require.Equal(t, c.status, w.Code, c)
			if c.status == http.StatusOK {
				require.Equal(t, "Welcome aboard, "+c.account+".\n", w.Body.String())
				return
			}
			require.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
			var problem map[string]any
			require.NoError(t, json.Unmarshal(w.Body.Bytes(), &problem))
			require.Equal(t, c.offer, problem["offer"], c)
		})
	}
}

func TestConcurrentRequestsSeeOneBookOrTheOther(t *testing.T) {
	g := guard(t, func(*decide.Rulebook) {})
	strict := guard(t, func(r *decide.Rulebook) { r.Policies, r.Otherwise = nil, decide.Outcome{} }).Judge.Load()
	lenient := g.Judge.Load()
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for range 200 {
				if code := ask(g, "203.0.113.20", "ingrid@kestrelsound.example", "password").Code; code != http.StatusOK &&
					code != http.StatusForbidden {
					t.Errorf("status %d is of neither book", code)
				}
			}
		})
	}
	for range 100 {
		g.Judge.Store(strict)
		g.Judge.Store(lenient)
	}
	group.Wait()
	g.Judge.Store(strict)
	require.Equal(t, http.StatusForbidden, ask(g, "203.0.113.20", "ingrid@kestrelsound.example", "password").Code)
}
