package service_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"log/slog"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// authority issues certificates into files of a folder.
type authority struct {
	dir  string
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// issue writes NAME.crt and NAME.key, signed by the authority, or by itself where there is none.
func (a *authority) issue(t *testing.T, name string, isCA bool) *authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	made := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject: pkix.Name{CommonName: name}, DNSNames: []string{name, "localhost"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: isCA, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	by, signs := made, key
	if a.cert != nil {
		by, signs = a.cert, a.key
	}
	der, err := x509.CreateCertificate(rand.Reader, made, by, key.Public(), signs)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	for ending, block := range map[string]*pem.Block{".crt": {Type: "CERTIFICATE", Bytes: der},
		".key": {Type: "PRIVATE KEY", Bytes: private}} {
		require.NoError(t, os.WriteFile(filepath.Join(a.dir, name+ending), pem.EncodeToMemory(block), 0o600))
	}
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &authority{a.dir, cert, key}
}

const book = `briskwarden: 1
apps: [{name: mail}]
accounts: [{name: liv, methods: [password]}]
policies: [{name: all, stage: live, who: anyone, apps: every, rules: [{name: r, then: grant}]}]
drills: [{name: liv-reads-mail, expect: grant, attempt: {account: liv, app: mail, at: 2026-11-23T13:10:00Z, proofs: [{method: password}]}}]
`

// laid lays out a folder with a book, certificates and a configuration.
func laid(t *testing.T) string {
	dir, _ := laidBy(t)
	return dir
}

// laidBy is laid, with the authority of the certificates.
func laidBy(t *testing.T) (string, *authority) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "book"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "book", "book.yaml"), []byte(book), 0o600))
	ca := (&authority{dir: dir}).issue(t, "ca", true)
	ca.issue(t, "door.example", false)
	ca.issue(t, "gateway.example", false)
	ca.issue(t, "stranger.example", false)
	private, public, err := journal.NewKey("ferries.example/door")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "j.key"), []byte(private), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "j.pub"), []byte(public), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "door.yaml"), []byte(`door: 1
listen: 127.0.0.1:0
certificate: door.example.crt
key: door.example.key
client_ca: ca.crt
store: {file: door.db}
journal: {key: j.key, checkpoint: door.checkpoint}
callers: [{name: gateway, certificate: gateway.example, may: [decide, look]}]
`), 0o600))
	return dir, ca
}

func TestTheServiceKnowsCallersByTheirCertificates(t *testing.T) {
	dir, ca := laidBy(t)
	config, err := service.ReadConfig(filepath.Join(dir, "door.yaml"))
	require.NoError(t, err)
	left, young := filepath.Join(dir, ".new-door.checkpoint-1"), filepath.Join(dir, ".new-door.checkpoint-2")
	for _, name := range []string{left, young} {
		require.NoError(t, os.WriteFile(name, nil, 0o600))
	}
	require.NoError(t, os.Chtimes(left, time.Time{}, time.Now().Add(-time.Hour)))
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	at, ended := make(chan string, 1), make(chan error, 1)
	reload := make(chan os.Signal, 1)
	s := &service.Service{Dir: filepath.Join(dir, "book"), Config: config, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Reload: reload, Again: func() (*door.Config, error) { return service.ReadConfig(filepath.Join(dir, "door.yaml")) },
		Listening: func(address string) { at <- address }}
	go func() { ended <- s.Run(ctx) }()
	var address string
	select {
	case address = <-at:
	case err := <-ended:
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	authority, err := os.ReadFile(filepath.Join(dir, "ca.crt"))
	require.NoError(t, err)
	require.True(t, roots.AppendCertsFromPEM(authority))
	ask := func(who string) int {
		settled := &tls.Config{RootCAs: roots, ServerName: "door.example"}
		if who != "" {
			pair, err := tls.LoadX509KeyPair(filepath.Join(dir, who+".crt"), filepath.Join(dir, who+".key"))
			require.NoError(t, err)
			settled.Certificates = []tls.Certificate{pair}
		}
		client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: settled}}
		answer, err := client.Post("https://"+address+"/v1/decisions", "application/json",
			strings.NewReader(`{"account":"liv","app":"mail","proofs":[{"method":"password"}]}`))
		require.NoError(t, err)
		defer answer.Body.Close()
		return answer.StatusCode
	}
	require.NoFileExists(t, left, "of a door that was killed")
	require.FileExists(t, young, "of a door that writes it")
	require.Equal(t, http.StatusOK, ask("gateway.example"))
	require.Equal(t, http.StatusUnauthorized, ask("stranger.example"))
	require.Equal(t, http.StatusUnauthorized, ask(""))

	serial := func() *big.Int {
		conn, err := tls.Dial("tcp", address, &tls.Config{RootCAs: roots, ServerName: "door.example"})
		require.NoError(t, err)
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber
	}
	was := serial()
	ca.issue(t, "door.example", false)
	require.Equal(t, was, serial())
	reload <- os.Interrupt
	require.Eventually(t, func() bool { return serial().Cmp(was) != 0 }, 10*time.Second, time.Millisecond, "a certificate that was renewed")
	was = serial()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "door.example.crt"), []byte("half"), 0o600))
	reload <- os.Interrupt
	reload <- os.Interrupt // so that the first was looked at
	require.Equal(t, was, serial())
	stop()
	require.NoError(t, <-ended)

	checkpoint, err := os.ReadFile(filepath.Join(dir, "door.checkpoint"))
	require.NoError(t, err, "a checkpoint is written at the end")
	public, err := os.ReadFile(filepath.Join(dir, "j.pub"))
	require.NoError(t, err)
	kept, err := service.ReadStore(t.Context(), config)
	require.NoError(t, err)
	defer kept.Close()
	found, err := journal.Verify(t.Context(), kept, journal.Verification{Checkpoint: checkpoint, PublicKey: string(public)})
	require.NoError(t, err)
	require.Contains(t, []int64{2, 3}, *found.Covered, "the book, maybe what inspect says of it, and the decision")
}

func TestCheck(t *testing.T) {
	add := func(dir, more string) error {
		path := filepath.Join(dir, "door.yaml")
		text, err := os.ReadFile(path)
		return errors.Join(err, os.WriteFile(path, append(text, more...), 0o600))
	}
	for name, c := range map[string]struct {
		spoil func(dir string) error
		want  string
	}{
		"nothing wrong": {func(string) error { return nil }, ""},
		"a book with an error": {func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "book", "more.yaml"), []byte("briskwarden: 1\nap: 1\n"), 0o600)
		}, "more.yaml:2:1"},
		"a drill that fails": {func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "book", "book.yaml"), []byte(strings.Replace(book, "expect: grant", "expect: block", 1)), 0o600)
		}, "the drill liv-reads-mail fails: wanted block, got grant"},
		"no certificate": {func(dir string) error { return os.Remove(filepath.Join(dir, "door.example.crt")) }, "certificate and key:"},
		"no authority": {func(dir string) error { return os.WriteFile(filepath.Join(dir, "ca.crt"), []byte("none"), 0o600) },
			"has no certificate in PEM"},
		"keys of an issuer that are missing": {func(dir string) error {
			return add(dir, "tokens: [{issuer: \"https://idp.example\", audience: [a], accounts: [anyone], keys: idp.jwks}]\n")
		}, "the keys of https://idp.example"},
		"a key to sign with that is missing": {func(dir string) error {
			return add(dir, "tell: {issuer: \"https://door.example\", key: none.pem, "+
				"receivers: [{name: r, url: \"https://r.example\", audience: a}]}\n")
		}, "tell.key"},
		"a state that cannot be kept": {func(dir string) error {
			return errors.Join(os.WriteFile(filepath.Join(dir, "file"), nil, 0o600), add(dir, "state: file/state\n"))
		}, "state: nothing can be written there"},
		"no key": {func(dir string) error { return os.WriteFile(filepath.Join(dir, "j.key"), []byte("none"), 0o600) }, "journal.key:"},
		"a store that is none": {func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "door.db"), []byte(strings.Repeat("no database ", 100)), 0o600)
		}, "not a database"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := laid(t)
			require.NoError(t, c.spoil(dir))
			config, err := service.ReadConfig(filepath.Join(dir, "door.yaml"))
			require.NoError(t, err)
			found := service.Check(t.Context(), filepath.Join(dir, "book"), config)
			require.Contains(t, strings.Join(found.Wrong, "\n"), c.want)
			require.Equal(t, c.want == "", len(found.Wrong) == 0, "%v", found.Wrong)
		})
	}
}

func TestNewTokenPrintsAConfiguration(t *testing.T) {
	made, err := service.NewToken("gateway:#\"2", []string{"decide", "look"})
	require.NoError(t, err)
	c, err := door.ReadConfig("door.yaml", []byte("door: 1\n"+made.Config))
	require.NoError(t, err)
	require.Equal(t, "gateway:#\"2", c.Callers[0].Name)
	require.Equal(t, door.TokenDigest(made.Token), c.Callers[0].Token)
	_, err = service.NewToken("two words", []string{"decide"})
	require.ErrorContains(t, err, "--for")
	_, err = service.NewToken("gateway", []string{"decides"})
	require.ErrorContains(t, err, `did you mean "decide"?`)
}

// TestARecordThatNoDoorReads: one that a terminal carried over by itself keeps a door from starting, since what was barred in it
// would be open.
func TestARecordThatNoDoorReads(t *testing.T) {
	dir := laid(t)
	record, err := sqlite.Join(filepath.Join(dir, "acts.db"))
	require.NoError(t, err)
	require.NoError(t, record.Close())
	path := filepath.Join(dir, "door.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append(text, "consent: {answer: true, record: acts.db}\n"...), 0o600))
	config, err := service.ReadConfig(path)
	require.NoError(t, err)
	const want = "acts.db is no record of the version before"
	require.Contains(t, strings.Join(service.Check(t.Context(), filepath.Join(dir, "book"), config).Wrong, "\n"), want)
	s := &service.Service{Dir: filepath.Join(dir, "book"), Config: config, Log: slog.New(slog.NewTextHandler(io.Discard, nil))}
	require.ErrorContains(t, s.Run(t.Context()), want)
	_, err = service.CarryOver(t.Context(), config, time.Now())
	require.ErrorContains(t, err, want)
}

// TestTheAddressOfTheDatabaseMayBeASecret: it comes from a file, which has to have it.
func TestTheAddressOfTheDatabaseMayBeASecret(t *testing.T) {
	dir := t.TempDir()
	path, secret := filepath.Join(dir, "door.yaml"), filepath.Join(dir, "address")
	configure := func(store string) (*door.Config, error) {
		require.NoError(t, os.WriteFile(path, []byte("door: 1\nstore: {"+store+"}\n"), 0o600))
		return service.ReadConfig(path)
	}
	_, err := configure("postgres_file: address")
	require.ErrorContains(t, err, "store.postgres_file")
	require.NoError(t, os.WriteFile(secret, []byte("\n"), 0o600))
	_, err = configure("postgres_file: address")
	require.ErrorContains(t, err, "is empty; it has the address of a database")
	require.NoError(t, os.WriteFile(secret, []byte("postgres://door@db.example/door\n"), 0o600))
	c, err := configure("postgres_file: address")
	require.NoError(t, err)
	require.Equal(t, "postgres://door@db.example/door", c.Store.Postgres)
	_, err = configure("postgres_file: address, file: door.db")
	require.ErrorContains(t, err, "one of them only")
}
