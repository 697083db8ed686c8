package post_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/mailtest"
	"github.com/briskwarden/briskwarden/watch"
	"github.com/briskwarden/briskwarden/watch/letter"
	"github.com/briskwarden/briskwarden/watch/post"
)

var written = &letter.Letter{ID: "019aafc2-5e0c-7b6e-9d3e-6a2f4c1b8e77", At: time.Date(2026, 11, 23, 7, 30, 0, 0, time.UTC), To: "duty",
	Subject: "Fürther: næste", Text: "Line one.\n" + strings.Repeat("long ", 300) + "\n", HTML: "<p>Line one.</p>"}

func file(t *testing.T, text string) string {
	name := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	return name
}

func TestMail(t *testing.T) {
	s, err := mailtest.Start("hunter2", nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	server := watch.MailServer{Address: s.Address, From: "warden@x.example", User: "warden", Password: file(t, "hunter2\n"),
		Authorities: file(t, string(s.Authority))}
	send := func(change func(*watch.MailServer)) error {
		other := server
		change(&other)
		m, err := post.NewMailer(other)
		if err != nil {
			return err
		}
		return m.Send(t.Context(), []string{"duty@x.example", "office@x.example"}, written)
	}
	require.NoError(t, send(func(*watch.MailServer) {}))
	require.Len(t, s.Mails(), 1)
	m := s.Mails()[0]
	require.True(t, m.Secure)
	require.Equal(t, "warden", m.User)
	require.Equal(t, []string{"duty@x.example", "office@x.example"}, m.To)
	require.Equal(t, []string{written.Subject, written.HTML}, []string{m.Subject, m.HTML})
	require.Equal(t, written.Text, strings.ReplaceAll(m.Text, "\r\n", "\n"))
	require.Equal(t, "<"+written.ID+"@x.example>", m.Header.Get("Message-Id"))
	require.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
	for line := range strings.SplitSeq(m.Raw, "\r\n") {
		require.LessOrEqual(t, len(line), 998, "RFC 5322 §2.1.1")
	}
	for name, change := range map[string]func(*watch.MailServer){
		"a certificate that nobody vouches for": func(s *watch.MailServer) { s.Authorities = "" },
		"a wrong password":                      func(s *watch.MailServer) { s.Password = file(t, "hunter3") },
		"a password without TLS":                func(s *watch.MailServer) { s.Security = watch.Clear },
		"no log-in":                             func(s *watch.MailServer) { s.User, s.Password = "", "" },
		"a file that is none":                   func(s *watch.MailServer) { s.Authorities = "/no/such/file" },
		"no certificate":                        func(s *watch.MailServer) { s.Authorities = file(t, "x") },
		"no port":                               func(s *watch.MailServer) { s.Address = "localhost" },
		"no sender":                             func(s *watch.MailServer) { s.From = "warden" },
		"nobody listens":                        func(s *watch.MailServer) { s.Address = "localhost:1" },
		"no TLS over a network": func(s *watch.MailServer) {
			*s = watch.MailServer{Address: "mail.x.example:25", From: "w@x.example", Security: watch.Clear}
		},
	} {
		t.Run(name, func(t *testing.T) {
			require.Error(t, send(change))
			require.Len(t, s.Mails(), 1)
		})
	}
	t.Run("a server that offers no TLS gets nothing", func(t *testing.T) {
		plain, err := mailtest.Start("", nil)
		require.NoError(t, err)
		defer plain.Close()
		m, err := post.NewMailer(watch.MailServer{Address: plain.Address, From: "warden@x.example"})
		require.NoError(t, err)
		require.Error(t, m.Send(t.Context(), []string{"duty@x.example"}, written))
		require.Empty(t, plain.Mails())
	})
}

// verified reports whether a request bears a signature of the key over its method, URL and content, as a
// recipient would find out (RFC 9421 §3.2).
func verified(t *testing.T, r *http.Request, body, key []byte) bool {
	input, ok := strings.CutPrefix(r.Header.Get("Signature-Input"), "warden=")
	require.True(t, ok)
	list := regexp.MustCompile(`^\(([^)]*)\);created=(\d+);keyid="duty";alg="hmac-sha256"$`).FindStringSubmatch(input)
	require.NotNil(t, list, input)
	base := ""
	for name := range strings.FieldsSeq(list[1]) {
		value := map[string]string{`"@method"`: r.Method, `"@target-uri"`: "http://" + r.Host + r.URL.RequestURI()}[name]
		if value == "" {
			value = r.Header.Get(strings.Trim(name, `"`))
		}
		require.NotEmpty(t, value, name)
		base += name + ": " + value + "\n"
	}
	for _, name := range []string{"@method", "@target-uri", "content-digest", "idempotency-key"} {
		require.Contains(t, list[1], `"`+name+`"`)
	}
	sum := sha256.Sum256(body)
	require.Equal(t, "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":", r.Header.Get("Content-Digest"))
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s\"@signature-params\": %s", base, input)
	return r.Header.Get("Signature") == "warden=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":"
}

func TestHook(t *testing.T) {
	key := []byte("0123456789abcdef0123456789abcdef")
	var got []*http.Request
	var bodies [][]byte
	answer := http.StatusOK
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got, bodies = append(got, r), append(bodies, body)
		if answer == http.StatusFound {
			w.Header().Set("Location", "/elsewhere")
		}
		w.WriteHeader(answer)
	}))
	t.Cleanup(server.Close)
	hooks := post.NewHooks(func() time.Time { return time.Unix(1_800_000_000, 0) })
	require.NoError(t, hooks.Send(t.Context(), server.URL+"/warden?x=1", "duty", key, written))
	require.Len(t, got, 1)
	require.True(t, verified(t, got[0], bodies[0], key))
	require.False(t, verified(t, got[0], bodies[0], []byte("another")))
	require.Equal(t, `"`+written.ID+`"`, got[0].Header.Get("Idempotency-Key"))
	said := map[string]any{}
	require.NoError(t, json.Unmarshal(bodies[0], &said))
	require.Equal(t, written.Subject, said["subject"])
	require.NotContains(t, said, "html")
	for _, answer = range []int{http.StatusFound, http.StatusForbidden, http.StatusInternalServerError} {
		before := len(got)
		require.Error(t, hooks.Send(t.Context(), server.URL, "duty", key, written), answer)
		require.Len(t, got, before+1, "a redirect is not followed")
	}
}
