package main

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestGateway(t *testing.T) {
	handler, d, err := gateway(t.Context(), func() time.Time { return time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC) })
	require.NoError(t, err)
	defer d.Close()
	ask := func(path string, header map[string]string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		r.RemoteAddr = "127.0.0.1:4711"
		for name, value := range header {
			r.Header.Set(name, value)
		}
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		return w
	}
	for name, c := range map[string]struct {
		account, proved, device, ip string
		status                      int
		says                        string
	}{
		"at the pier": {"ingrid@kestrelsound.example", "pwd", "laptop-ingrid", "203.0.113.20", 200,
			"Welcome aboard, ingrid@kestrelsound.example.\n"},
		"elsewhere more is asked": {"ingrid@kestrelsound.example", "pwd", "laptop-ingrid", "192.0.2.200", 401, "acr_values="},
		"which is shown":          {"ingrid@kestrelsound.example", "pwd,mca", "laptop-ingrid", "192.0.2.200", 200, "Welcome aboard"},
		"not open to him":         {"marek@gdansk-yard.example", "pwd", "", "192.0.2.200", 403, "Sign on from the yard"},
		"nobody":                  {"nobody@kestrelsound.example", "pwd", "", "192.0.2.200", 403, "This cannot be opened"},
	} {
		t.Run(name, func(t *testing.T) {
			token := ask("/sign-on?"+url.Values{"account": {c.account}, "proved": {c.proved}, "device": {c.device}}.Encode(), nil).Body.String()
			w := ask("/", map[string]string{"Authorization": "Bearer " + strings.TrimSpace(token), "X-Forwarded-Host": "crew.kestrelsound.example",
				"X-Forwarded-Uri": "/", "X-Forwarded-For": c.ip})
			require.Equal(t, c.status, w.Code, w.Body.String())
			require.Contains(t, w.Body.String()+w.Header().Get("WWW-Authenticate"), c.says)
		})
	}
	w := ask("/", map[string]string{"X-Forwarded-Host": "crew.kestrelsound.example", "X-Forwarded-Uri": "/"})
	require.Equal(t, http.StatusUnauthorized, w.Code, "without a token nobody is let in")
}
