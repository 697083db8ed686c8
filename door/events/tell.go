package events

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/outbox"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// teller tells receivers of sessions that end early, by CAEP session-revoked in security event
// tokens (RFC 8417) that are pushed (RFC 8935) until they are taken.
type teller struct {
	config *door.Telling
	signer jose.Signer
	public jose.JSONWebKeySet
	bearer map[string]string
	client *http.Client
	outbox *outbox.Outbox
	now    func() time.Time
}

// newTeller makes a teller for a door; without one it reads the files alone.
func newTeller(c *door.Telling, d *door.Door) (*teller, error) {
	t := &teller{config: c, bearer: map[string]string{}, client: &http.Client{
		Timeout:       10 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
	if d != nil {
		t.now, t.outbox = d.Now, t.outboxOf(d)
	}
	if len(c.Receivers) == 0 {
		return t, nil
	}
	text, err := os.ReadFile(c.Key)
	if err != nil {
		return nil, fmt.Errorf("tell.key: %w", err)
	}
	key, err := privateKey(text)
	if err != nil {
		return nil, fmt.Errorf("tell.key: %s: %w", c.Key, err)
	}
	options := (&jose.SignerOptions{}).WithType("secevent+jwt").WithHeader("kid", key.KeyID)
	if t.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.SignatureAlgorithm(key.Algorithm), Key: key.Key}, options); err != nil {
		return nil, fmt.Errorf("tell.key: %w", err)
	}
	t.public.Keys = []jose.JSONWebKey{key.Public()}
	for _, r := range c.Receivers {
		if r.Bearer == "" {
			continue
		}
		token, err := os.ReadFile(r.Bearer)
		if err != nil {
			return nil, fmt.Errorf("tell: %s: %w", r.Name, err)
		}
		t.bearer[r.Name] = strings.TrimSpace(string(token))
	}
	return t, nil
}

// outboxOf makes the outbox of what is told.
func (t *teller) outboxOf(d *door.Door) *outbox.Outbox {
	return outbox.New(outbox.Options{Kind: store.Outbox, Store: d.Store(), Deliver: t.deliver, Now: d.Now, Log: d.Log(),
		Lane: func(o *store.Outgoing) string { return o.To },
		Line: func(o *store.Outgoing) string { return o.Session },
		GiveUp: func(_ *store.Outgoing, err error, _ time.Time) bool {
			refused := new(door.EventRefusal)
			return errors.As(err, &refused) && isFinal(refused)
		},
		Done: func(o *store.Outgoing, err error, givenUp bool) {
			switch {
			case givenUp:
				d.Log().Error("a receiver refused what it was told, and is not told it again", "receiver", o.To, "session", o.Session,
					"error", err)
			case err != nil:
				d.Log().Warn("a receiver did not take what it was told; it is told again", "receiver", o.To, "session", o.Session,
					"tries", o.Tries, "error", err)
			}
		}})
}

// privateKey reads a private key: a JWK, or PKCS #8 in PEM. Its name is the thumbprint of the key
// (RFC 7638) where it has none.
func privateKey(text []byte) (*jose.JSONWebKey, error) {
	key := new(jose.JSONWebKey)
	if block, _ := pem.Decode(text); block != nil {
		read, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("that is no private key in PKCS #8: %w", err)
		}
		key.Key = read
	} else if err := json.Unmarshal(text, key); err != nil {
		return nil, errors.New("that is no private key: write a JWK, or PKCS #8 in PEM")
	}
	key.Use = "sig"
	switch k := key.Key.(type) {
	case ed25519.PrivateKey:
		key.Algorithm = string(jose.EdDSA)
	case *ecdsa.PrivateKey:
		key.Algorithm = map[int]string{256: "ES256", 384: "ES384", 521: "ES512"}[k.Curve.Params().BitSize]
	case *rsa.PrivateKey:
		key.Algorithm = string(jose.PS256)
	default:
		return nil, errors.New("the key signs nothing: write the private one, RSA, ECDSA or Ed25519")
	}
	if key.KeyID == "" {
		print, err := key.Thumbprint(crypto.SHA256)
		if err != nil {
			return nil, err
		}
		key.KeyID = fmt.Sprintf("%x", print[:8])
	}
	return key, nil
}

// tell puts what is to be told of a session that ends into the outbox, within the change that ends it.
func (t *teller) tell(c *door.Change, s *store.Session, app, because string) error {
	if len(t.config.Receivers) == 0 {
		return nil
	}
	at := t.now()
	for i := range t.config.Receivers {
		r := &t.config.Receivers[i]
		if app != "" && !slices.Contains(r.Apps, app) {
			continue
		}
		subject := map[string]any{"format": "complex", "session": map[string]string{"format": "opaque", "id": s.SID},
			"user": subjectOf(s.Account)}
		if app != "" {
			subject["application"] = map[string]string{"format": "opaque", "id": app}
		}
		id := journal.NewID()
		token, err := jwt.Signed(t.signer).Claims(map[string]any{
			"iss": t.config.Issuer, "aud": r.Audience, "jti": id, "iat": at.Unix(), "sub_id": subject,
			"events": map[string]any{door.SessionRevoked: map[string]any{
				"initiating_entity": "policy", "event_timestamp": at.Unix(), "reason_admin": map[string]string{"en": because},
			}},
		}).Serialize()
		if err != nil {
			return err
		}
		if err := store.Save(c.Tx(), &store.Outgoing{ID: id, To: r.Name, Session: s.ID, Token: token, Next: at}); err != nil {
			return err
		}
	}
	c.Afterwards(t.outbox.Ring)
	return nil
}

// subjectOf names an account as a subject (RFC 9493).
func subjectOf(account string) map[string]string {
	if strings.Contains(account, "@") {
		return map[string]string{"format": "email", "email": account}
	}
	return map[string]string{"format": "opaque", "id": account}
}

func (t *teller) deliver(ctx context.Context, o *store.Outgoing) error {
	for _, r := range t.config.Receivers {
		if r.Name != o.To {
			continue
		}
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, r.URL, bytes.NewReader([]byte(o.Token)))
		if err != nil {
			return err
		}
		request.Header.Set("Content-Type", "application/secevent+jwt")
		request.Header.Set("Accept", "application/json")
		if token := t.bearer[r.Name]; token != "" {
			request.Header.Set("Authorization", "Bearer "+token)
		}
		answer, err := t.client.Do(request)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		said, _ := io.ReadAll(io.LimitReader(answer.Body, 300)) // for the log alone
		switch answer.StatusCode {
		case http.StatusAccepted, http.StatusOK:
			return nil
		case http.StatusBadRequest:
			refused := new(door.EventRefusal)
			if json.Unmarshal(said, refused) == nil {
				return refused
			}
		}
		return fmt.Errorf("it answers %s: %s", answer.Status, said)
	}
	return errors.New("the configuration has no such receiver any more; name it again, or it waits for ever")
}

// isFinal reports whether the same token would be refused each time (RFC 8935 §2.4). A key may become known to the receiver yet, and who
// pushes may be let in.
func isFinal(r *door.EventRefusal) bool {
	return r.Code == "invalid_request" || r.Code == "invalid_issuer" || r.Code == "invalid_audience"
}

// serveKeys answers GET /jwks.json with the key that signs what is told.
func (d *room) serveKeys(w http.ResponseWriter, _ *door.Request) error {
	set := d.teller.public
	if set.Keys == nil {
		set.Keys = []jose.JSONWebKey{}
	}
	return door.WriteValue(w, http.StatusOK, set)
}
