// Gateway guards a small web page with decisions of Brisk Warden, in one program:
//
//	go run ./examples/gateway
//
// and then, from another terminal, the lines that it prints. The page is behind door.Guard, which
// takes access tokens (RFC 9068). They come from a stand-in for an identity provider, which believes
// what it is told was proven; a real one would ask.
package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// issuer and audience are the iss and aud of the stand-in's tokens.
const issuer, audience = "https://sign-on.kestrelsound.example", "https://gateway.kestrelsound.example"

// provider is a stand-in for an identity provider.
type provider struct {
	signer jose.Signer
	now    func() time.Time
}

// newProvider makes a provider, and returns its public key, by which the door verifies what it signs.
func newProvider(now func() time.Time) (*provider, jose.JSONWebKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, jose.JSONWebKey{}, err
	}
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: key},
		(&jose.SignerOptions{}).WithType("at+jwt").WithHeader("kid", "1"),
	)
	return &provider{signer, now}, jose.JSONWebKey{Key: key.Public(), KeyID: "1", Algorithm: "ES256", Use: "sig"}, err
}

// ServeHTTP issues a token to anyone who asks for one: ?account=NAME&proved=pwd,mca&device=ID.
func (p *provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	now, asked := p.now(), r.URL.Query()
	token, err := jwt.Signed(p.signer).Claims(map[string]any{
		"iss": issuer, "aud": audience, "sub": asked.Get("account"), "client_id": "gateway", "jti": journal.NewID(), "sid": journal.NewID(),
		"iat": now.Unix(), "exp": now.Add(time.Hour).Unix(), "auth_time": now.Unix(), "amr": strings.Split(asked.Get("proved"), ","),
		"device_id": asked.Get("device"),
	}).Serialize()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	fmt.Fprintln(w, token)
}

// page is what the guard protects.
func page(w http.ResponseWriter, r *http.Request) {
	fmt.Fprintf(w, "Welcome aboard, %s.\n", door.AccountOf(r.Context()))
}

// gateway makes the guarded page and the stand-in beside it. Requests from this machine count as
// coming from where a forwarded header says, so that other places can be tried.
func gateway(ctx context.Context, now func() time.Time) (http.Handler, *door.Door, error) {
	signOn, key, err := newProvider(now)
	if err != nil {
		return nil, nil, err
	}
	local := netip.MustParseAddr("127.0.0.1")
	config := &door.Config{
		Store: door.StoreConfig{History: door.Complete},
		Tokens: []door.TokenIssuer{{Issuer: issuer, Audience: []string{audience}, KeysFrom: door.FixedKeys(key), Accounts: []string{"anyone"},
			Device: "device_id", Own: []string{"gateway"}}},
		Trusted: []directory.Range{{From: local, To: local}},
	}
	d, err := door.New(ctx, func(o ...briskwarden.Option) (*briskwarden.Book, error) {
		return briskwarden.OpenFS(demo.Files(), append(o, briskwarden.WithDatabase(mmdb.Locator))...)
	}, new(store.Memory), config, door.Options{Now: now})
	if err != nil {
		return nil, nil, err
	}
	mux := http.NewServeMux()
	mux.Handle("/sign-on", signOn)
	mux.Handle("/", d.Guard(http.HandlerFunc(page)))
	return mux, d, nil
}

func main() {
	addr := flag.String("addr", "127.0.0.1:8080", "address to listen on")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *addr); err != nil {
		slog.Error("the gateway stopped", "error", err)
		os.Exit(2)
	}
}

func run(ctx context.Context, addr string) error {
	handler, d, err := gateway(ctx, time.Now)
	if err != nil {
		return err
	}
	defer d.Close()
	fmt.Printf("The crew roster is on http://%s/. Try:\n\n"+
		"  token=$(curl -s 'http://%[1]s/sign-on?account=ingrid@kestrelsound.example&proved=pwd')\n"+
		"  roster=\"-H X-Forwarded-Host:crew.kestrelsound.example -H X-Forwarded-Uri:/ -H X-Forwarded-For:192.0.2.200\"\n"+
		"  curl -i $roster -H \"Authorization: Bearer $token\" http://%[1]s/       # the challenge says what would do\n\n"+
		"and again with proved=pwd,mca: a password and a push.\n\n", addr)
	server := &http.Server{Addr: addr, Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 10 * time.Second}
	stopped := make(chan error, 1)
	go func() { stopped <- server.ListenAndServe() }()
	select {
	case err := <-stopped:
		return err
	case <-ctx.Done():
	}
	patience, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return server.Shutdown(patience) // what was accepted is answered
}
