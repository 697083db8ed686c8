// Gateway guards a small web page with decisions of Brisk Warden:
//
//	go run ./examples/gateway
//
// and then, from another terminal, the lines that it prints. A real gateway
// would take the account and the proofs from its own session; this one believes
// the headers X-Account, X-Device and X-Proved, so that the verdicts can be seen
// with curl.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync/atomic"
	"time"
	_ "time/tzdata"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
)

// Guard lets a request pass to a handler where the judge grants it. The judge
// can be replaced while requests are served.
type Guard struct {
	Judge atomic.Pointer[decide.Judge]
	App   string
	Now   func() time.Time
	Next  http.Handler
}

// ServeHTTP judges the request. Where it is not granted the answer is a problem
// (RFC 9457) that tells the person no more than she may know.
func (g *Guard) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	decision := g.Judge.Load().Decide(context.Background(), g.attempt(r))
	slog.Info("decided", "account", r.Header.Get("X-Account"), "app", g.App, "verdict", decision.Verdict, "why", decision.Causes[0].Text)
	if decision.Verdict == decide.Grant {
		g.Next.ServeHTTP(w, r)
		return
	}
	status, title := http.StatusUnauthorized, "Something is still to be proven"
	if decision.ToPerson.Verdict == decide.Block {
		status, title = http.StatusForbidden, "You cannot sign on like this"
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	problem := map[string]any{
		"title":   title,
		"status":  status,
		"detail":  decision.ToPerson.Say,
		"offer":   decision.ToPerson.Offer,
		"repairs": decision.ToPerson.Repairs,
	}
	if err := json.NewEncoder(w).Encode(problem); err != nil {
		slog.Error("the answer was not sent", "error", err)
	}
}

func (g *Guard) attempt(r *http.Request) *attempt.Attempt {
	a := &attempt.Attempt{At: g.Now(), Account: r.Header.Get("X-Account"), App: g.App, Through: attempt.Known(attempt.Browser)}
	if remote, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
		a.IP = attempt.Known(remote.Addr())
	}
	if device := r.Header.Get("X-Device"); device != "" {
		a.Device = attempt.Known(attempt.Device{ID: attempt.Known(device)})
	}
	for method := range strings.SplitSeq(r.Header.Get("X-Proved"), ",") {
		if method = strings.TrimSpace(method); method != "" {
			a.Proofs = append(a.Proofs, attempt.Proof{Method: method, At: a.At})
		}
	}
	return a
}

// page is what the guard protects.
func page(w http.ResponseWriter, r *http.Request) {
	fmt.Fprintf(w, "Welcome aboard, %s.\n", r.Header.Get("X-Account"))
}

func main() {
	addr := flag.String("addr", "127.0.0.1:8080", "address to listen on")
	flag.Parse()
	book, err := demo.Open()
	if err != nil {
		slog.Error("the book cannot be read", "error", err)
		os.Exit(2)
	}
	judge, err := book.Compile()
	if err != nil {
		slog.Error("the book cannot be compiled", "error", err)
		os.Exit(2)
	}
	guard := &Guard{App: "crew-roster", Now: time.Now, Next: http.HandlerFunc(page)}
	guard.Judge.Store(judge)
	fmt.Printf("The crew roster is on http://%s/. Try:\n\n"+
		"  curl -H 'X-Account: ingrid@kestrelsound.example' http://%[1]s/\n"+
		"  curl -H 'X-Account: ingrid@kestrelsound.example' -H 'X-Proved: password' http://%[1]s/\n"+
		"  curl -H 'X-Account: ingrid@kestrelsound.example' -H 'X-Proved: password,push' http://%[1]s/\n\n", *addr)
	server := &http.Server{Addr: *addr, Handler: guard, ReadHeaderTimeout: 10 * time.Second}
	if err := server.ListenAndServe(); err != nil {
		slog.Error("the server stopped", "error", err)
		os.Exit(2)
	}
}
