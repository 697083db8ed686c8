package post

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/briskwarden/briskwarden/watch/letter"
)

// Hooks tells letters to web hooks. It is safe for concurrent use.
type Hooks struct {
	client *http.Client
	now    func() time.Time
}

// longestHook is how long at most a web hook may take to answer.
const longestHook = 10 * time.Second

// NewHooks returns what tells web hooks. Now dates signatures.
func NewHooks(now func() time.Time) *Hooks {
	return &Hooks{now: now, client: &http.Client{
		Timeout:       longestHook,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Send posts a letter as JSON. It is taken where the answer is one of success (2xx). The request is signed
// by HTTP message signatures (RFC 9421) with HMAC and SHA-256 (§3.3.3) over the method, the URL, and the
// digest of the content (RFC 9530); keyID says which key it was: the recipient. Idempotency-Key is the
// letter's ID, the same each time it is sent.
func (h *Hooks) Send(ctx context.Context, url, keyID string, key []byte, l *letter.Letter) error {
	body := l.Hook()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Idempotency-Key", `"`+l.ID+`"`)
	sum := sha256.Sum256(body)
	request.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	sign(request, keyID, key, h.now())
	answer, err := h.client.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 300)) // for the log alone
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("it answers %s: %s", answer.Status, said)
	}
	return nil
}

// covered are the components that a signature covers, in order (RFC 9421 §2).
var covered = []string{"@method", "@target-uri", "content-type", "content-digest", "idempotency-key"}

// sign adds Signature-Input and Signature (RFC 9421 §4).
func sign(r *http.Request, keyID string, key []byte, at time.Time) {
	var base bytes.Buffer // the signature base, §2.5
	input := []byte("(")
	for i, name := range covered {
		value := r.Header.Get(name)
		switch name {
		case "@method":
			value = r.Method
		case "@target-uri":
			value = r.URL.String()
		}
		fmt.Fprintf(&base, "%q: %s\n", name, value)
		if i > 0 {
			input = append(input, ' ')
		}
		input = fmt.Appendf(input, "%q", name)
	}
	input = fmt.Appendf(input, `);created=%d;keyid=%q;alg="hmac-sha256"`, at.Unix(), keyID)
	fmt.Fprintf(&base, `"@signature-params": %s`, input)
	mac := hmac.New(sha256.New, key)
	mac.Write(base.Bytes())
	r.Header.Set("Signature-Input", "warden="+string(input))
	r.Header.Set("Signature", "warden=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
