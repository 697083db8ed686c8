// Signon is a trial of the demo's book with a browser: sign on as somebody, be stopped, be told why, repair it, and get in.
//
//	go run ./examples/signon
//
// It prints what to open and what to try. A small OpenID provider asks for what the door wants; phones, devices and places are
// pages of the program; the apps stand behind door.Guard. All of it is on loopback, and nothing is left when it stops.
package main

import (
	"context"
	_ "embed"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"sync"
	"syscall"
	"time"
	_ "time/tzdata"
)

//go:embed pages.html
var templates string

func main() {
	addr := flag.String("addr", "127.0.0.1:8080", "loopback address to listen on")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, *addr); err != nil {
		slog.Error("the trial stopped", "error", err)
		os.Exit(2)
	}
}

func run(ctx context.Context, addr string) error {
	dir, err := os.MkdirTemp("", "signon")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	listener, err := net.Listen("tcp", addr)
	if err != nil {
		return err
	}
	// Keys are for a name, not for an address.
	base := "http://localhost:" + strconv.Itoa(listener.Addr().(*net.TCPAddr).Port)
	t, err := newTrial(ctx, base, dir, time.Now)
	if err != nil {
		return errors.Join(err, listener.Close())
	}
	defer t.door.Close()
	t.pause = 400 * time.Millisecond
	running, stop := context.WithCancel(ctx)
	defer stop()
	if t.nginx, err = t.startNginx(running, dir); err != nil {
		return errors.Join(err, listener.Close())
	}
	if t.nginx != nil {
		defer func() {
			stop()
			_ = t.nginx.cmd.Wait() // an interrupt is how it ends
		}()
	}
	var reporting sync.WaitGroup
	defer reporting.Wait()
	defer stop()
	reporting.Go(func() { t.haveDevicesReport(running) })
	t.print()
	server := &http.Server{Handler: t.http, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 10 * time.Second}
	stopped := make(chan error, 1)
	go func() { stopped <- server.Serve(listener) }()
	select {
	case err := <-stopped:
		return err
	case <-ctx.Done():
	}
	patience, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return server.Shutdown(patience)
}

// haveDevicesReport has devices report that do so by themselves, until the context ends.
func (t *trial) haveDevicesReport(ctx context.Context) {
	tick := time.NewTicker(time.Second) // the clock of the trial may be put forward at any time
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := t.agents.reportDue(t.clock.Now()); err != nil {
				slog.Error("a device could not report", "error", err)
			}
		}
	}
}

// print says what to open, and what to try.
func (t *trial) print() {
	who := func(account, is string) string {
		return fmt.Sprintf("  %-32s %-18s %s\n", account, t.people.Password(account), is)
	}
	const at = "@kestrelsound.example"
	people := who("ingrid"+at, "sells tickets; her phone approves") + who("torstein"+at, "a master; his app shows codes") +
		who("marek@gdansk-yard.example", "works at the shipyard; his app shows codes") +
		who("oskar"+at, "started in November with a password alone: what the rollout says") +
		who("jonas"+at, "has a password alone, and was asked late to enrol") +
		who("nina"+at, "her password was found in a leak") + who("astrid"+at, "on the board: board-papers, once that policy is live") +
		who("ragna"+at, "shore IT, with a key from the cabinet ("+t.base+"/around); reviews programs") +
		who("harbour-key"+at, "the emergency account: its key, from the cabinet, lets it in from anywhere")
	fmt.Printf(`Open %s/ in a browser. A private window is somebody new.

Names and passwords:
%[3]s
Try:
  1. As Ingrid, open crew-roster from home, and approve the number on her phone: %[1]s/phone?account=%[2]s
  2. Put her at the pier on laptop-ingrid (%[1]s/around), and open card-till: her password will do.
  3. Leave the till open. Turn the firewall of laptop-ingrid off and report (%[1]s/agent?device=laptop-ingrid): it closes.
     Turn it on, report, and get in again.
  4. Put her abroad, and open card-till: she is stopped, and told why. At home, say no on the phone.
  5. As Marek, open crew-roster from home, then from the shipyard. Then have the shipyard's check fail.
  6. Tell the door that Ingrid's password was found (%[1]s/around), and open mail: she changes it and gets in.
  7. Forget it: "Forgot your password?" where the page asks for it, from home, and her phone shows that it is her.

`, t.base, "ingrid"+at, people)
}
