// VPN answers a VPN gateway by RADIUS (RFC 2865), with a door of Brisk Warden behind it:
//
//	go run ./examples/vpn
//
// and then, from another terminal, the lines that it prints. A gateway asks with a name and a password. Where the door wants
// more, the answer is a challenge: a number to approve on the phone, or a code to type. The phone is a page of this program.
// Requests need a Message-Authenticator (RFC 3579).
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"
	_ "time/tzdata"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
	"github.com/briskwarden/briskwarden/store"
)

// newServer makes the server, with a door on the demo's book.
func newServer(ctx context.Context, now func() time.Time) (*server, error) {
	config := &door.Config{Store: door.StoreConfig{History: door.Complete}}
	// What an example says is for those who try it, and its log for what goes wrong.
	quiet := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))
	d, err := door.New(ctx, func(o ...briskwarden.Option) (*briskwarden.Book, error) {
		return briskwarden.OpenFS(demo.Files(), append(o, briskwarden.WithDatabase(mmdb.Locator))...)
	}, new(store.Memory), config, door.Options{Now: now, Log: quiet})
	if err != nil {
		return nil, err
	}
	book, err := demo.Open()
	if err != nil {
		return nil, err
	}
	// The shipyard says of those on its list that they work there.
	checks := func(string) map[string]attempt.CheckResult {
		return map[string]attempt.CheckResult{"shipyard-verifier": attempt.CheckPassed}
	}
	people := standin.NewPeople(book.Rulebook().Directory.Accounts)
	return &server{door: d, people: people, phones: standin.NewPhones(now), checks: checks, now: now, open: map[string]*signOn{}}, nil
}

func main() {
	addr := flag.String("addr", "127.0.0.1:1812", "UDP address to listen on")
	phone := flag.String("phone", "127.0.0.1:8081", "address of the page of phones")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *addr, *phone); err != nil {
		slog.Error("the server stopped", "error", err)
		os.Exit(2)
	}
}

func run(ctx context.Context, addr, phone string) error {
	s, err := newServer(ctx, standin.NewClock(time.Now).Now)
	if err != nil {
		return err
	}
	defer s.door.Close()
	s.pause = time.Second
	conn, err := net.ListenPacket("udp", addr)
	if err != nil {
		return err
	}
	secret := standin.NewToken()
	pages := &http.Server{Addr: phone, Handler: s.phones.Page(s.people, time.Local), ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout: 10 * time.Second}
	stopped := make(chan error, 2)
	go func() { stopped <- pages.ListenAndServe() }()
	go func() { stopped <- s.serve(ctx, conn, []byte(secret)) }()
	marek, ingrid := "marek@gdansk-yard.example", "ingrid@kestrelsound.example"
	line := func(more string) string {
		return "  echo 'User-Name=" + more + ", Message-Authenticator=0x00' | ask\n"
	}
	fmt.Printf("RADIUS on %s. The phones are on http://%s/phone. Try, with radclient (Debian: freeradius-utils):\n\n"+
		"  ask() { radclient -x %[1]s auth %[3]s; }\n\n", addr, phone, secret)
	fmt.Print("  # A contractor in the yard: his password, and then the code that his phone shows. STATE stands in the challenge.\n" +
		line(marek+", User-Password="+s.people.Password(marek)+", Calling-Station-Id=192.0.2.20") +
		line(marek+", User-Password=CODE, State=STATE, Calling-Station-Id=192.0.2.20") +
		"\n  # The same at home: he is turned away, and told where he may sign on.\n" +
		line(marek+", User-Password="+s.people.Password(marek)+", Calling-Station-Id=192.0.2.200") +
		"\n  # Ingrid at the crew roster from home: a number to approve on her phone, and then an empty line.\n" +
		line(ingrid+", User-Password="+s.people.Password(ingrid)+", NAS-Identifier=crew-roster, Calling-Station-Id=192.0.2.200") +
		line(ingrid+", User-Password=\" \", State=STATE, NAS-Identifier=crew-roster, Calling-Station-Id=192.0.2.200") + "\n")
	select {
	case err = <-stopped:
	case <-ctx.Done():
	}
	patience, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = pages.Shutdown(patience)
	return err
}
