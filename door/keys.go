package door

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// algorithms are the signatures that are taken: those with a public key that cannot be confused
// with a shared secret, and not `none`.
var algorithms = []jose.SignatureAlgorithm{jose.EdDSA, jose.ES256, jose.ES384, jose.ES512, jose.PS256, jose.PS384, jose.PS512,
	jose.RS256, jose.RS384, jose.RS512}

// keySet is a JWK Set (RFC 7517 §5) that is read again every so often, and where a token names a
// key that it does not have.
type keySet struct {
	at      string // a URL or a file
	refresh time.Duration
	now     func() time.Time
	client  *http.Client

	mu     sync.Mutex
	keys   []jose.JSONWebKey
	read   time.Time // when the keys were read
	tried  time.Time // when that was last tried
	broken error
	// round grows whenever the keys are read, so that what an older set verified can be told.
	round uint64
}

// tryAgain is how long at least lies between two readings, so that tokens with made-up keys do not
// make the door ask all the time. staleFor is how long keys are good for when they cannot be read
// again: a key that was taken back may be among them.
const (
	tryAgain = 10 * time.Second
	staleFor = 24 * time.Hour
	mostKeys = 1 << 20
)

func newKeySet(at string, refresh time.Duration, now func() time.Time) *keySet {
	return &keySet{at: at, refresh: refresh, now: now, client: &http.Client{Timeout: 5 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("keys are not followed to another place")
		}}}
}

// find returns the keys that a token may be signed with: those of its key ID, or all where it
// names none.
func (s *keySet) find(ctx context.Context, kid, algorithm string) ([]jose.JSONWebKey, uint64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	if s.round == 0 || now.Sub(s.read) > s.refresh {
		s.load(ctx, now)
	}
	found := s.matching(kid, algorithm)
	if len(found) == 0 && s.load(ctx, now) {
		found = s.matching(kid, algorithm)
	}
	switch {
	case s.round == 0 || now.Sub(s.read) > staleFor:
		return nil, 0, fmt.Errorf("its keys cannot be read: %w", s.broken)
	case len(found) == 0:
		return nil, 0, fmt.Errorf("no key %q for %s is known", kid, algorithm)
	}
	return found, s.round, nil
}

// errSignature says that no key that may have signed a token did.
var errSignature = errors.New("its signature is wrong")

// verify reads the claims of a token into values, if one of the keys signed it. It returns in which
// round the key was known. Any error but errSignature means that there is no key to try.
func (s *keySet) verify(ctx context.Context, token *jwt.JSONWebToken, into ...any) (round uint64, err error) {
	header := token.Headers[0]
	keys, round, err := s.find(ctx, header.KeyID, header.Algorithm)
	if err != nil {
		return 0, err
	}
	for _, key := range keys {
		if token.Claims(key.Key, into...) == nil {
			return round, nil
		}
	}
	return 0, errSignature
}

// isOfType reports whether a token says that it is of a type, in short or in full (RFC 7515 §4.1.9).
func isOfType(token *jwt.JSONWebToken, kind string) bool {
	said, _ := token.Headers[0].ExtraHeaders["typ"].(string)
	return strings.EqualFold(said, kind) || strings.EqualFold(said, "application/"+kind)
}

// current reports whether what was verified in a round still holds: the keys are the same.
func (s *keySet) current(ctx context.Context, round uint64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := s.now(); now.Sub(s.read) > s.refresh {
		s.load(ctx, now)
	}
	return s.round == round && s.now().Sub(s.read) <= staleFor
}

func (s *keySet) matching(kid, algorithm string) []jose.JSONWebKey {
	var found []jose.JSONWebKey
	for _, key := range s.keys {
		if (kid == "" || key.KeyID == kid) && (key.Use == "" || key.Use == "sig") && (key.Algorithm == "" || key.Algorithm == algorithm) &&
			key.IsPublic() {
			found = append(found, key)
		}
	}
	return found
}

// load reads the keys, unless that was tried a moment ago. It reports whether it did.
func (s *keySet) load(ctx context.Context, now time.Time) bool {
	if !s.tried.IsZero() && now.Sub(s.tried) < tryAgain {
		return false
	}
	s.tried = now
	text, err := s.fetch(ctx)
	var set jose.JSONWebKeySet
	if err == nil {
		err = json.Unmarshal(text, &set)
	}
	if err == nil && len(set.Keys) == 0 {
		err = errors.New("the set has no keys")
	}
	if err != nil {
		s.broken = err
		return false
	}
	same := slices.EqualFunc(s.keys, set.Keys, func(a, b jose.JSONWebKey) bool { return a.KeyID == b.KeyID && sameKey(a, b) })
	s.keys, s.read, s.broken = set.Keys, now, nil
	if !same || s.round == 0 {
		s.round++
	}
	return true
}

func sameKey(a, b jose.JSONWebKey) bool {
	one, err := a.MarshalJSON()
	other, wrong := b.MarshalJSON()
	return err == nil && wrong == nil && string(one) == string(other)
}

func (s *keySet) fetch(ctx context.Context) ([]byte, error) {
	if !strings.Contains(s.at, "://") {
		return os.ReadFile(s.at)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.at, nil)
	if err != nil {
		return nil, err
	}
	answer, err := s.client.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the place of the keys answers %s", answer.Status)
	}
	return io.ReadAll(io.LimitReader(answer.Body, mostKeys))
}
