package doortest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	cryptorand "crypto/rand"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
)

// Provider is a stand-in for an identity provider: it signs tokens, and serves its keys.
type Provider struct {
	*httptest.Server
	T    Tester
	mu   sync.Mutex
	Keys map[string]*ecdsa.PrivateKey
	Asks int
	// asked has each request for the keys, and hold keeps those waiting, where it is not nil.
	Asked chan *http.Request
	Hold  chan struct{}
}

// NewProvider starts one with a key, "first". It ends with the test.
func NewProvider(t Tester) *Provider {
	p := &Provider{T: t, Keys: map[string]*ecdsa.PrivateKey{}, Asked: make(chan *http.Request, 10)}
	p.Rotate("first")
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case p.Asked <- r:
		default: // nobody looks
		}
		if p.Hold != nil {
			select {
			case <-p.Hold:
			case <-r.Context().Done():
			}
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		p.Asks++
		var set jose.JSONWebKeySet
		for kid, key := range p.Keys {
			set.Keys = append(set.Keys, jose.JSONWebKey{Key: key.Public(), KeyID: kid, Algorithm: "ES256", Use: "sig"})
		}
		json.NewEncoder(w).Encode(set)
	}))
	t.Cleanup(p.Close)
	return p
}

// Rotate has one key, of that name.
func (p *Provider) Rotate(kid string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), cryptorand.Reader)
	require.NoError(p.T, err)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.Keys = map[string]*ecdsa.PrivateKey{kid: key}
}

// Sign makes a token with the key of that name.
func (p *Provider) Sign(kid, kind string, claims map[string]any) string {
	p.mu.Lock()
	key := p.Keys[kid]
	p.mu.Unlock()
	return Signed(p.T, jose.SigningKey{Algorithm: jose.ES256, Key: key}, kid, kind, claims)
}

// Signed makes a token.
func Signed(t Tester, key jose.SigningKey, kid, kind string, claims map[string]any) string {
	signer, err := jose.NewSigner(key, (&jose.SignerOptions{}).WithType(jose.ContentType(kind)).WithHeader("kid", kid))
	require.NoError(t, err)
	text, err := jwt.Signed(signer).Claims(claims).Serialize()
	require.NoError(t, err)
	return text
}

// Issuer is the issuer of the provider.
const Issuer = "https://idp.kestrelsound.example"

// Claims are those of an access token of ingrid, who proved these.
func Claims(now time.Time, amr ...string) map[string]any {
	return map[string]any{"iss": Issuer, "aud": "https://door.kestrelsound.example", "sub": "ingrid@kestrelsound.example", "jti": "t-1",
		"client_id": "intranet", "iat": now.Unix(), "exp": now.Add(time.Hour).Unix(), "auth_time": now.Add(-time.Minute).Unix(), "amr": amr,
		"sid": "s-7", "device_id": "laptop-ingrid"}
}

// Guarded configures a house that takes tokens of the provider, and trusts the local proxy.
func Guarded(p *Provider) func(*door.Config) {
	return func(c *door.Config) {
		c.Tokens = []door.TokenIssuer{{Issuer: Issuer, Accounts: []string{"anyone"}, Audience: []string{"https://door.kestrelsound.example"},
			Keys:   p.URL,
			Cookie: "sign_on", Device: "device_id", Own: []string{"intranet"}, Means: []door.Meaning{{AMR: "otp", Method: "otp-app"}}}}
		c.Callers[0].Issuer = Issuer
		local := netip.MustParseAddr("127.0.0.1")
		c.Trusted = []directory.Range{{From: local, To: local}}
	}
}

// AskGuard asks the guard as a proxy on this machine would.
func (h *House) AskGuard(token, url, ip string, more map[string]string) (int, http.Header, string) {
	r := httptest.NewRequest("GET", "/v1/guard", nil)
	r.RemoteAddr = "127.0.0.1:4711"
	host, path, _ := strings.Cut(strings.TrimPrefix(url, "https://"), "/")
	r.Header.Set("X-Forwarded-Host", host)
	r.Header.Set("X-Forwarded-Uri", "/"+path)
	r.Header.Set("X-Forwarded-For", ip)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for name, value := range more {
		if value == "" {
			r.Header.Del(name)
		} else {
			r.Header.Set(name, value)
		}
	}
	w := httptest.NewRecorder()
	h.Handler().ServeHTTP(w, r)
	return w.Code, w.Header(), w.Body.String()
}

// Mail is a URL of an app, and the others are addresses.
const Mail, Pier, Abroad = "https://mail.kestrelsound.example/inbox?x=1", "203.0.113.20", "192.0.2.200"

// Bearer is a token of ann's, authenticated now by a password, in a session.
func (h *House) Bearer(p *Provider, sid string, change map[string]any) string {
	says := Claims(h.Clock(), "pwd")
	says["sub"], says["auth_time"], says["sid"], says["exp"] = "ann", h.Clock().Unix(), sid, h.Clock().Add(100*24*time.Hour).Unix()
	delete(says, "device_id")
	for name, value := range change {
		if says[name] = value; value == nil {
			delete(says, name)
		}
	}
	return p.Sign("first", "at+jwt", says)
}

// Opens asks the guard, and returns the status and what a challenge asks for.
func (h *House) Opens(token, app string) (int, string) {
	status, header, text := h.AskGuard(token, "https://"+app+".example/", Pier, nil)
	age := regexp.MustCompile(`max_age="(\d+)"`).FindStringSubmatch(header.Get("WWW-Authenticate"))
	if len(age) == 0 {
		return status, text
	}
	return status, age[1]
}
