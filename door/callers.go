package door

import (
	"crypto/sha256"
	"net/http"
	"strings"

	"golang.org/x/time/rate"
)

// callers are those who may call, by the digest of their token and by the names of their
// certificate.
type callers struct {
	byToken       map[[sha256.Size]byte]*knownCaller
	byCertificate map[string]*knownCaller
}

// knownCaller is a caller with what it has left of its rate; nil sets no bound.
type knownCaller struct {
	*Caller
	limit *rate.Limiter
}

// asks is how the caller asks for decisions.
func (c *Caller) asks() Asked { return Asked{Caller: c.Name, Issuer: c.Issuer} }

func newCallers(c *Config) (*callers, error) {
	all := &callers{byToken: map[[sha256.Size]byte]*knownCaller{}, byCertificate: map[string]*knownCaller{}}
	for i := range c.Callers {
		known := &knownCaller{Caller: &c.Callers[i]}
		if known.Rate > 0 {
			burst := known.Burst
			if burst == 0 {
				burst = max(1, int(known.Rate))
			}
			known.limit = rate.NewLimiter(rate.Limit(known.Rate), burst)
		}
		if known.Certificate != "" {
			all.byCertificate[known.Certificate] = known
			continue
		}
		sum, err := tokenDigest(known.Token)
		if err != nil {
			return nil, err
		}
		all.byToken[sum] = known
	}
	return all, nil
}

// of returns who makes a request, for a page or not, nil where nobody knows. The search is by digest, so its time
// says nothing of a token.
func (c *callers) of(r *http.Request, isPage bool) *knownCaller {
	if token, ok := bearer(r); ok {
		return c.byToken[sha256.Sum256([]byte(token))]
	}
	if _, token, ok := r.BasicAuth(); ok && isPage { // a browser has no other way (RFC 7617)
		return c.byToken[sha256.Sum256([]byte(token))]
	}
	if r.TLS == nil || len(r.TLS.VerifiedChains) == 0 {
		return nil
	}
	leaf := r.TLS.VerifiedChains[0][0]
	for _, name := range leaf.DNSNames {
		if known := c.byCertificate[name]; known != nil {
			return known
		}
	}
	for _, uri := range leaf.URIs {
		if known := c.byCertificate[uri.String()]; known != nil {
			return known
		}
	}
	return nil
}

// bearer returns the bearer token of a request (RFC 6750 §2.1).
func bearer(r *http.Request) (string, bool) {
	header := r.Header.Get("Authorization")
	if len(header) < 7 || !strings.EqualFold(header[:7], "bearer ") {
		return "", false
	}
	return strings.TrimLeft(header[7:], " "), true
}
