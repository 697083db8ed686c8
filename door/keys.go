package door

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
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

// KeysFrom returns the keys of an issuer, all that count now. It is called as rarely as a place of keys is read: in the background
// every so often, and where a token names a key that the last set did not have. The context bounds how long it may take.
type KeysFrom func(context.Context) (jose.JSONWebKeySet, error)

// FixedKeys returns public keys that do not change.
func FixedKeys(keys ...jose.JSONWebKey) KeysFrom {
	return func(context.Context) (jose.JSONWebKeySet, error) { return jose.JSONWebKeySet{Keys: keys}, nil }
}

// keySet is a JWK Set (RFC 7517 §5) that is read again every so often, and where a token names a
// key that it does not have. It is read in the background: who has a token of a key that is known never waits for the place of the
// keys, and a client that hangs up stops no reading.
type keySet struct {
	at      string // a URL or a file, "" where from returns the keys
	from    KeysFrom
	refresh time.Duration
	now     func() time.Time
	client  *http.Client
	// keeper keeps what was read over the network, for when the door starts while its place is silent; nil where nothing does.
	keeper Keeper

	// mu guards what follows, and is never held while keys are read.
	mu     sync.Mutex
	keys   []jose.JSONWebKey
	read   time.Time // when the keys were read
	tried  time.Time // when that was last tried
	broken error
	// round grows whenever the keys are read, so that what an older set verified can be told.
	round uint64
	// reading is closed when the reading that is under way has ended; it is nil where none is.
	reading chan struct{}
}

// tryAgain is how long at least lies between two readings, so that tokens with made-up keys do not
// make the door ask all the time. staleFor is how long keys are good for when they cannot be read
// again: a key that was taken back may be among them.
const (
	tryAgain = 10 * time.Second
	staleFor = 24 * time.Hour
	mostKeys = 1 << 20
)

func newKeySet(at string, from KeysFrom, refresh time.Duration, now func() time.Time, keeper Keeper) *keySet {
	s := &keySet{at: at, from: from, refresh: refresh, now: now, client: &http.Client{Timeout: longestReading,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("keys are not followed to another place")
		}}}
	if keeper == nil || !strings.Contains(at, "://") {
		return s
	}
	s.keeper = keeper
	var set jose.JSONWebKeySet
	text, read, err := keeper.Kept(s.keptName())
	if err == nil && json.Unmarshal(text, &set) == nil && len(set.Keys) > 0 && !read.After(now()) {
		s.take(set, nil, read)
	}
	return s
}

// keptName is the name under which the keys are kept.
func (s *keySet) keptName() string {
	sum := sha256.Sum256([]byte(s.at))
	return "keys-" + hex.EncodeToString(sum[:8])
}

// readNow begins to read the keys, unless they are being read.
func (s *keySet) readNow() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tried = time.Time{}
	s.readAgain()
}

// find returns the keys that a token may be signed with: those of its key ID, or all where it
// names none. Only for a key that is not known, or that nobody could vouch for any more, it waits for a reading, for as long as the
// context lasts.
func (s *keySet) find(ctx context.Context, kid, algorithm string) ([]jose.JSONWebKey, uint64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.readIfOld()
	found := s.matching(kid, algorithm)
	if len(found) == 0 || !s.isGood() {
		if reading := s.readAgain(); reading != nil {
			s.mu.Unlock()
			select {
			case <-reading:
			case <-ctx.Done():
			}
			s.mu.Lock()
			found = s.matching(kid, algorithm)
		}
	}
	switch {
	case s.round == 0 && s.broken == nil:
		return nil, 0, errors.New("its keys are still being read")
	case !s.isGood():
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
	if _, is := header.ExtraHeaders["crit"]; is { // nothing that it could name is understood, and an empty one is none (RFC 7515 §4.1.11)
		return 0, errors.New("it has a crit, and no extension is understood")
	}
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

// current reports whether what was verified in a round still holds: the keys are the same, as far as they could be read.
func (s *keySet) current(round uint64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.readIfOld()
	return s.round == round && s.isGood()
}

// isGood reports whether the keys were read of late enough to be relied on; s.mu is held.
func (s *keySet) isGood() bool { return s.round > 0 && s.now().Sub(s.read) <= staleFor }

// readIfOld begins to read the keys again where they are old; s.mu is held.
func (s *keySet) readIfOld() {
	if !isWithin(s.now().Sub(s.read), s.refresh) {
		s.readAgain()
	}
}

// isWithin reports whether an age is at most so much. That of what was before a clock was put back is not.
func isWithin(age, most time.Duration) bool { return age >= 0 && age <= most }

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

// readAgain begins to read the keys, unless that was tried a moment ago. It returns what is closed when the reading that is under way
// has ended, nil where none is. s.mu is held.
func (s *keySet) readAgain() <-chan struct{} {
	now := s.now()
	if s.reading == nil && (s.tried.IsZero() || !isWithin(now.Sub(s.tried), tryAgain)) {
		s.tried, s.reading = now, make(chan struct{})
		go func() {
			set, err := s.fetch()
			if err == nil && s.keeper != nil {
				if text, err := json.Marshal(set); err == nil {
					s.keeper.Keep(s.keptName(), text) // else they are read again after a restart
				}
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			s.take(set, err, now)
			close(s.reading)
			s.reading = nil
		}()
	}
	return s.reading
}

// take takes in what was read at a moment; s.mu is held.
func (s *keySet) take(set jose.JSONWebKeySet, err error, at time.Time) {
	if s.broken = err; err != nil {
		return
	}
	same := slices.EqualFunc(s.keys, set.Keys, func(a, b jose.JSONWebKey) bool { return a.KeyID == b.KeyID && sameKey(a, b) })
	s.keys, s.read = set.Keys, at
	if !same || s.round == 0 {
		s.round++
	}
}

func sameKey(a, b jose.JSONWebKey) bool {
	one, err := a.MarshalJSON()
	other, wrong := b.MarshalJSON()
	return err == nil && wrong == nil && string(one) == string(other)
}

// longestReading is how long the place of keys, or a function, may take.
const longestReading = 5 * time.Second

// fetch reads the keys from where they are.
func (s *keySet) fetch() (set jose.JSONWebKeySet, err error) {
	if s.from != nil {
		ctx, cancel := context.WithTimeout(context.Background(), longestReading)
		defer cancel()
		if set, err = s.from(ctx); err == nil && len(set.Keys) == 0 {
			err = errors.New("the set has no keys")
		}
		return set, err
	}
	text, err := s.fetchText()
	if err == nil {
		err = json.Unmarshal(text, &set)
	}
	if err == nil && len(set.Keys) == 0 {
		err = errors.New("the set has no keys")
	}
	return set, err
}

func (s *keySet) fetchText() ([]byte, error) {
	if !strings.Contains(s.at, "://") {
		return os.ReadFile(s.at)
	}
	answer, err := s.client.Get(s.at)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the place of the keys answers %s", answer.Status)
	}
	return io.ReadAll(io.LimitReader(answer.Body, mostKeys))
}
