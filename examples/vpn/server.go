package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
	"github.com/briskwarden/briskwarden/journal"
)

// server answers a VPN gateway by RADIUS (RFC 2865). It checks what is typed, and the door decides.
type server struct {
	door   *door.Door
	people *standin.People
	phones *standin.Phones
	// checks are the outside checks that contractors pass.
	checks func(account string) map[string]attempt.CheckResult
	now    func() time.Time
	// pause is how long an answer waits where the password is wrong, so that guessing is slow, and as slow for names that
	// there are not.
	pause time.Duration

	answered answered
	mu       sync.Mutex
	// open are the sign-ons that wait for more, by the State that the client sends back.
	open map[string]*signOn
}

// signOn is somebody who was challenged.
type signOn struct {
	attempt attempt.Attempt
	from    string
	// prompt is the one on the phone, "" where there is none.
	prompt string
	// offer are the methods that may be proven now, in the order of preference.
	offer []string
	asked time.Time
	turns int
}

// waits is how long a challenge may be answered, mostOpen how many wait at once, and mostTurns how many one sign-on gets.
const waits, mostOpen, mostTurns = 2 * time.Minute, 10_000, 4

// stranger is what anybody is told who proves nothing, whether the account exists or not.
const stranger = "This could not be opened. Check the name and the password."

// ServeRADIUS answers a request. One without a Message-Authenticator that is right is dropped: the sender does not have the
// secret, or somebody changed it.
func (s *server) ServeRADIUS(w radius.ResponseWriter, r *radius.Request) {
	if r.Code != radius.CodeAccessRequest || !isSigned(r.Packet) {
		slog.Warn("dropped a request", "from", r.RemoteAddr, "why", "it is no Access-Request with a Message-Authenticator that is right")
		return
	}
	begun := time.Now()
	key := keyOf(r.RemoteAddr, r.Packet)
	p := s.answered.find(key)
	if p == nil {
		var err error
		if p, err = s.answer(r, begun); err == nil {
			p, err = signed(p)
		}
		if err != nil {
			slog.Error("a request was not answered", "error", err)
			return
		}
		s.answered.keep(key, p, s.now())
	}
	if err := w.Write(p); err != nil {
		slog.Error("an answer was not sent", "error", err)
	}
}

// answer makes the answer to a request, not signed yet.
func (s *server) answer(r *radius.Request, begun time.Time) (*radius.Packet, error) {
	now := s.now()
	name, password := rfc2865.UserName_GetString(r.Packet), rfc2865.UserPassword_GetString(r.Packet)
	var on *signOn
	if state := rfc2865.State_GetString(r.Packet); state != "" {
		// A challenge is answered where, and for what, it was given.
		if on = s.take(state, now); on == nil || on.attempt.Account != name || on.from != hostOf(r) || on.attempt.App != appOf(r) ||
			on.attempt.IP != addressOf(r) {
			return s.reject(r, "This took too long. Begin again.")
		}
		s.prove(on, strings.TrimSpace(password), now)
	} else {
		on = &signOn{from: hostOf(r), attempt: attempt.Attempt{Account: name, App: appOf(r), Through: attempt.Known(attempt.Native),
			IP: addressOf(r), Session: attempt.Session{ID: journal.NewID(), Started: now}}}
		if s.people.HasPassword(name, password) {
			on.attempt.Proofs = []attempt.Proof{{Method: "password", At: now}}
		} else {
			on.attempt.Failed = []attempt.Failure{{Method: "password", Reason: attempt.Refused}}
		}
	}
	a := on.attempt
	a.At, a.External = now, s.checks(name)
	answer, err := s.door.Decide(r.Context(), &a, door.Asked{Caller: "vpn"})
	if err != nil {
		return s.turnAway(r, begun)
	}
	switch {
	case answer.Verdict == decide.Grant:
		return s.accept(r, answer, now)
	case len(a.Proofs) == 0:
		return s.turnAway(r, begun)
	case slices.Contains(a.Failed, attempt.Failure{Method: "push", Reason: attempt.Refused}):
		return s.reject(r, "It was refused on the phone.")
	case answer.Verdict == decide.StepUp && on.turns < mostTurns:
		return s.challenge(r, on, &answer.ToPerson, now)
	}
	return s.reject(r, append([]string{answer.ToPerson.Say}, answer.ToPerson.Repairs...)...)
}

// turnAway rejects one who proved nothing: all in the same words, and after the same time.
func (s *server) turnAway(r *radius.Request, begun time.Time) (*radius.Packet, error) {
	select {
	case <-time.After(time.Until(begun.Add(s.pause))):
	case <-r.Context().Done():
	}
	return s.reject(r, stranger)
}

// prove takes what was typed for a proof of one of the methods on offer.
func (s *server) prove(on *signOn, typed string, now time.Time) {
	on.attempt.Failed = nil
	proven := func(method string, fallback bool) {
		on.attempt.Proofs = append(on.attempt.Proofs, attempt.Proof{Method: method, At: now, Fallback: fallback})
	}
	failed := func(method string, why attempt.FailureReason) {
		on.attempt.Failed = append(on.attempt.Failed, attempt.Failure{Method: method, Reason: why})
	}
	if on.prompt != "" {
		state := s.phones.GiveUp(on.prompt)
		on.prompt = ""
		switch {
		case state == standin.Approved:
			proven("push", false)
			return
		case state == standin.Refused:
			failed("push", attempt.Refused)
			return
		case typed == "": // else it was done in another way
			failed("push", attempt.TimedOut)
			return
		}
	}
	for _, method := range on.offer {
		switch {
		case method == "otp-app" && s.people.FitsCode(on.attempt.Account, typed, now):
			proven(method, false)
			return
		case method == "sms-code" && s.phones.FitsText(on.attempt.Account, typed):
			proven(method, true)
			return
		}
	}
	for _, method := range on.offer {
		if method != "push" {
			failed(method, attempt.Refused)
			return
		}
	}
}

// typable are the methods that can be proven where nothing but text is shown and typed.
var typable = []string{"push", "otp-app", "sms-code"}

// challenge asks for more.
func (s *server) challenge(r *radius.Request, on *signOn, to *decide.ToPerson, now time.Time) (*radius.Packet, error) {
	on.offer = slices.DeleteFunc(slices.Clone(to.Offer), func(method string) bool { return !slices.Contains(typable, method) })
	if len(on.offer) == 0 {
		way := "Sign on in a browser, where you can be asked for more."
		if len(to.Offer) > 0 {
			way = "Sign on in a browser, where you can prove " + strings.Join(to.Offer, " or ") + "."
		}
		return s.reject(r, append(append([]string{to.Say}, to.Repairs...), way)...)
	}
	var ways []string
	for _, method := range on.offer {
		switch method {
		case "push":
			prompt := s.phones.Push(on.attempt.Account, on.attempt.App, fromOf(&on.attempt))
			on.prompt = prompt.ID
			ways = append(ways, fmt.Sprintf("approve number %d on your phone and then answer with an empty line", prompt.Number))
		case "otp-app":
			ways = append(ways, "type the code of your app")
		case "sms-code":
			s.phones.SendText(on.attempt.Account)
			ways = append(ways, "type the code that was sent to your phone")
		}
	}
	sentence := strings.Join(ways, ", or ") + "."
	on.asked, on.turns = now, on.turns+1
	p := r.Response(radius.CodeAccessChallenge)
	if err := rfc2865.State_SetString(p, s.keep(on, now)); err != nil {
		return nil, err
	}
	return p, say(p, strings.ToUpper(sentence[:1])+sentence[1:])
}

// accept lets in, for as long as the decision says.
func (s *server) accept(r *radius.Request, answer *door.Answer, now time.Time) (*radius.Packet, error) {
	p := r.Response(radius.CodeAccessAccept)
	lasts := time.Duration(answer.Limits.Lasts)
	if until := answer.Limits.Until; !until.IsZero() && (lasts == 0 || until.Sub(now) < lasts) {
		lasts = until.Sub(now)
	}
	if lasts > 0 {
		lasts = max(lasts, time.Second) // 0 is no limit to many gateways
		if err := rfc2865.SessionTimeout_Set(p, rfc2865.SessionTimeout(lasts/time.Second)); err != nil {
			return nil, err
		}
	}
	if idle := time.Duration(answer.Limits.Idle); idle > 0 {
		if err := rfc2865.IdleTimeout_Set(p, rfc2865.IdleTimeout(idle/time.Second)); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// reject turns away, and says what the person may know.
func (s *server) reject(r *radius.Request, sentences ...string) (*radius.Packet, error) {
	p := r.Response(radius.CodeAccessReject)
	sentences = slices.DeleteFunc(sentences, func(text string) bool { return text == "" })
	if len(sentences) == 0 {
		sentences = []string{"This cannot be opened now."}
	}
	return p, say(p, sentences...)
}

// keep keeps a sign-on for its next turn, and returns the State by which it is found.
func (s *server) keep(on *signOn, now time.Time) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for state, other := range s.open {
		if now.Sub(other.asked) > waits || len(s.open) >= mostOpen {
			delete(s.open, state)
		}
	}
	state := standin.NewToken()
	s.open[state] = on
	return state
}

// take returns the sign-on that a State stands for, once; nil where there is none, or it waited too long.
func (s *server) take(state string, now time.Time) *signOn {
	s.mu.Lock()
	defer s.mu.Unlock()
	on := s.open[state]
	delete(s.open, state)
	if on == nil || now.Sub(on.asked) > waits {
		return nil
	}
	return on
}

// hostOf returns the address of the gateway that asks.
func hostOf(r *radius.Request) string {
	at, err := netip.ParseAddrPort(r.RemoteAddr.String())
	if err != nil {
		return r.RemoteAddr.String()
	}
	return at.Addr().String()
}

// appOf returns the app that is opened: what the gateway calls itself, or the VPN.
func appOf(r *radius.Request) string {
	if name := rfc2865.NASIdentifier_GetString(r.Packet); name != "" {
		return name
	}
	return "shore-vpn"
}

// addressOf returns where the person is: the gateway knows, and says so in Calling-Station-Id.
func addressOf(r *radius.Request) attempt.Fact[netip.Addr] {
	at, err := netip.ParseAddr(rfc2865.CallingStationID_GetString(r.Packet))
	if err != nil {
		return attempt.Fact[netip.Addr]{}
	}
	return attempt.Known(at)
}

// serve answers on a connection until the context ends.
func (s *server) serve(ctx context.Context, conn net.PacketConn, secret []byte) error {
	answering := &radius.PacketServer{Handler: s, SecretSource: radius.StaticSecretSource(secret)}
	stop := context.AfterFunc(ctx, func() {
		patience, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_ = answering.Shutdown(patience) // what was not answered by then the gateway asks again
	})
	defer stop()
	if err := answering.Serve(conn); ctx.Err() == nil {
		return err
	}
	return nil
}

// fromOf says where an attempt is made from, for the person at the phone.
func fromOf(a *attempt.Attempt) string {
	if ip, ok := a.IP.Get(); ok {
		return "Through the VPN, from " + ip.String()
	}
	return "Through the VPN"
}
