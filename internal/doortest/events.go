package doortest

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Feed is the issuer of events.
const Feed = "https://feed.kestrelsound.example"

// Receiver is a stand-in for one who is told of sessions that end.
type Receiver struct {
	*httptest.Server
	mu      sync.Mutex
	refuses bool
	got     []map[string]any
}

// NewReceiver starts one, which ends with the test.
func NewReceiver(t testing.TB) *Receiver {
	r := &Receiver{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		r.mu.Lock()
		defer r.mu.Unlock()
		text, err := io.ReadAll(q.Body)
		if err != nil || r.refuses || q.Header.Get("Content-Type") != "application/secevent+jwt" {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		token, err := jwt.ParseSigned(string(text), []jose.SignatureAlgorithm{jose.ES256})
		claims := map[string]any{}
		if err == nil {
			err = token.UnsafeClaimsWithoutVerification(&claims)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		// A sender that was cut off sends again what was taken; the jti tells.
		if !slices.ContainsFunc(r.got, func(c map[string]any) bool { return c["jti"] == claims["jti"] }) {
			r.got = append(r.got, claims)
		}
		w.WriteHeader(http.StatusAccepted)
	}))
	t.Cleanup(r.Close)
	return r
}

// Refuse has it refuse what it is told, or take it again.
func (r *Receiver) Refuse(is bool) { r.mu.Lock(); defer r.mu.Unlock(); r.refuses = is }

// Taken returns what it was told.
func (r *Receiver) Taken() []map[string]any {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.got)
}

// Telling configures a house that takes events of the provider's and tells the receiver.
func Telling(t testing.TB, p *Provider, r *Receiver) func(*door.Config) {
	key, err := (&jose.JSONWebKey{Key: p.Keys["first"], KeyID: "door", Algorithm: "ES256"}).MarshalJSON()
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "key.jwk")
	require.NoError(t, os.WriteFile(path, key, 0o600))
	return func(c *door.Config) {
		c.Events = []door.Transmitter{{Issuer: Feed, Audience: []string{"https://door.kestrelsound.example"}, Keys: p.URL}}
		c.Tell = door.Telling{Issuer: "https://door.kestrelsound.example", Key: path,
			Receivers: []door.Receiver{{Name: "idp", URL: r.URL, Audience: Issuer, Apps: []string{"mail", "card-till"}}}}
	}
}

// Event makes the claims of a security event token about a subject.
func Event(jti, kind string, subject, says map[string]any) map[string]any {
	return map[string]any{"iss": Feed, "aud": "https://door.kestrelsound.example", "jti": jti, "iat": Noon.Unix(), "sub_id": subject,
		"events": map[string]any{kind: says}}
}

// PushEvent hands in a token.
func (h *House) PushEvent(token string) (int, string) {
	return h.PushEventAs(All, token)
}

// PushEventAs is PushEvent by a caller.
func (h *House) PushEventAs(bearer, token string) (int, string) {
	r := httptest.NewRequest("POST", "/v1/events", strings.NewReader(token))
	r.Header.Set("Authorization", "Bearer "+bearer)
	r.Header.Set("Content-Type", "application/secevent+jwt")
	w := httptest.NewRecorder()
	h.Handler().ServeHTTP(w, r)
	return w.Code, w.Body.String()
}

// What the types of events begin with.
const (
	CAEP = "https://schemas.openid.net/secevent/caep/event-type/"
	RISC = "https://schemas.openid.net/secevent/risc/event-type/"
)

// SessionOf is the door's identifier of a session of ingrid's that the gateway names.
func SessionOf(sid string) string {
	return store.SessionID("gateway", sid, "ingrid@kestrelsound.example")
}

// Session returns an open session of ingrid's, nil where there is none.
func (h *House) Session(sid string) *store.Session { return h.SessionBy(SessionOf(sid)) }

// OpenApps returns the apps that a session of ingrid's is granted.
func (h *House) OpenApps(sid string) (apps []string) {
	if s := h.Session(sid); s != nil {
		for i := range s.Apps {
			if ended, _ := s.Apps[i].EndedBy(h.Clock()); ended.IsZero() {
				apps = append(apps, s.Apps[i].App)
			}
		}
	}
	return apps
}

// SessionBy is Session by the door's identifier.
func (h *House) SessionBy(id string) *store.Session {
	s := &store.Session{ID: id}
	if store.Load(h.T.Context(), h.Kept, s) != nil {
		return nil
	}
	return s
}

// Tells hands in an event by an issuer about an account, dated so many minutes from now, and returns the status.
func (h *House) Tells(p *Provider, token, iss, kind, account string, minutes int, says map[string]any) int {
	now := h.Clock()
	claims := Event(fmt.Sprint(journal.NewID()), kind, map[string]any{"format": "email", "email": account}, map[string]any{})
	claims["iss"], claims["iat"] = iss, now.Unix()
	about := map[string]any{"event_timestamp": now.Add(time.Duration(minutes) * time.Minute).Unix()}
	for name, value := range says {
		about[name] = value
	}
	claims["events"] = map[string]any{kind: about}
	status, _ := h.PushEventAs(token, p.Sign("first", "secevent+jwt", claims))
	return status
}
