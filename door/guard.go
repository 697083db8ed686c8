package door

import (
	"context"
	"crypto/sha256"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// AccountHeader is the header in which the guard tells an app who signed on. An app believes it
// from the guard alone: a proxy or the middleware sets it, and drops what a client sends.
const AccountHeader = "X-Account"

// guard remembers which sessions were let in to which app a moment ago, so that each of the many
// requests of a page is judged, but not each recorded.
type guard struct {
	recent *lru.Cache[admission, admitted]
	// refused bounds how much of tokens that are refused is logged, since anybody can send them.
	refused rate.Sometimes
}

// admitted is until when an admission is not recorded again, and when it lapses; zero where it does not.
type admitted struct{ until, lapses time.Time }

// admission is what was let in: a token, to an app, from an address, by a book.
type admission struct {
	token [sha256.Size]byte
	app   string
	ip    netip.Addr
	book  *inForce
}

// recordEvery is how often at least the same admission is recorded; by that the store knows when the session was last used.
const recordEvery = time.Minute

// admittedFor says how long an answer stands for the same admission.
func admittedFor(answer *Answer, g *gathering, b *inForce) admitted {
	a := answer.Attempt
	every := recordEvery
	if idle := time.Duration(answer.Limits.Idle); idle > 0 {
		every = min(every, idle/10)
	}
	kept := admitted{until: a.At.Add(every)}
	if lasts := time.Duration(answer.Limits.Lasts); lasts > 0 {
		kept.lapses = g.restsOn(b, a).Add(lasts)
	}
	return kept
}

func newGuard() *guard {
	recent, err := lru.New[admission, admitted](mostTokens)
	if err != nil {
		panic(err) // a size below 1
	}
	return &guard{recent: recent, refused: rate.Sometimes{First: 20, Interval: 10 * time.Second}}
}

// accountKey is under which the account is in the context of a request that was let through.
type accountKey struct{}

// AccountOf returns the account of a request that a Guard let through, "" of any other.
func AccountOf(ctx context.Context) string {
	account, _ := ctx.Value(accountKey{}).(string)
	return account
}

// Guard is net/http middleware: it lets a request through to next where its bearer token or
// session cookie is valid and the door grants the account the app that the book has for the
// request's URL. next finds the account in the header X-Account and by AccountOf. A public app is open
// without a token; then there is no account. Any other request
// is answered with 401 and a challenge (RFC 6750, RFC 9470) or with 403, and a problem (RFC 9457).
//
// The URL and the address are those of the request as it came, whatever other middleware rewrote (http.StripPrefix), unless it
// comes from one of the configuration's trusted proxies and bears forwarded headers.
func (d *Door) Guard(next http.Handler) http.Handler {
	if d == nil || d.config == nil || next == nil {
		panic("door: Guard needs a Door of New, and a handler to guard")
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var account string
		seen, err := d.seen(r)
		if err == nil {
			account, err = d.admits(r, seen)
		}
		if err != nil {
			d.writeProblem(w, r, err)
			return
		}
		through := r.Clone(context.WithValue(r.Context(), accountKey{}, account))
		if through.Header.Del(AccountHeader); account != "" {
			through.Header.Set(AccountHeader, account)
		}
		next.ServeHTTP(w, through)
	})
}

// seen is what middleware sees: what a trusted proxy says, or the request as it came, which other middleware does not rewrite.
func (d *Door) seen(r *http.Request) (seenRequest, error) {
	ip := remote(r)
	if d.isTrusted(ip) && r.Header.Get("X-Forwarded-Host") != "" {
		return d.forwarded(r)
	}
	uri := r.RequestURI
	if uri == "" { // a program made it
		uri = r.URL.RequestURI()
	}
	if _, rest, absolute := strings.Cut(uri, "://"); absolute && !strings.HasPrefix(uri, "/") {
		// In the form for a proxy (RFC 9112 §3.2.2), whose host net/http put into Host. Without a path it is the root.
		if uri = rest[min(len(rest), strings.IndexAny(rest+"/", "/?#")):]; !strings.HasPrefix(uri, "/") {
			uri = "/" + uri
		}
	}
	url, err := urlOf(r.Host, uri)
	return seenRequest{url, ip}, err
}

// urlOf joins a host and a path. A client can send others, to which nothing is opened: nginx would make 500 of any other problem.
func urlOf(host, path string) (string, error) {
	if !strings.HasPrefix(path, "/") || strings.ContainsAny(host, "/?#\\@,") {
		return "", Problemf(http.StatusForbidden, "This cannot be opened.")
	}
	return host + path, nil
}

// serveGuard answers GET /v1/guard, which a reverse proxy asks for each request: with 200 and the
// account in a header, 401 and a challenge, or 403.
func (d *Door) serveGuard(w http.ResponseWriter, r *Request) error {
	if !d.isTrusted(remote(r.Request)) {
		known, err := d.admit(&Route{Right: MayDecide}, r.withoutToken())
		if known == nil || err != nil {
			return Problemf(http.StatusForbidden, "The guard is asked by a trusted proxy, or with a client certificate.")
		}
	}
	seen, err := d.forwarded(r.Request)
	if err != nil {
		return err
	}
	account, err := d.admits(r.Request, seen)
	if err != nil {
		return err
	}
	if account != "" {
		w.Header().Set(AccountHeader, account)
	}
	w.WriteHeader(http.StatusOK)
	return nil
}

// withoutToken returns the request without its bearer token, which is that of the person and says
// nothing of who calls.
func (r *Request) withoutToken() *http.Request {
	bare := r.Request.Clone(r.Context())
	bare.Header.Del("Authorization")
	return bare
}

// seenRequest is what the guard knows of a request for an app: its host and path, and where it comes from.
type seenRequest struct {
	url string
	ip  netip.Addr
}

// remote returns the address that a request comes from.
func remote(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return netip.Addr{}
	}
	return directory.Plain(ip)
}

// isTrusted reports whether an address is one of a proxy whose headers count.
func (d *Door) isTrusted(ip netip.Addr) bool {
	for _, r := range d.believed.Load().config.Trusted {
		if ip.IsValid() && r.Contains(ip) {
			return true
		}
	}
	return false
}

// forwarded reads what a proxy says of a request: its host, as the proxy itself routes by, its path as it came, and the address that it
// came from, which is the last one that no trusted proxy has.
func (d *Door) forwarded(r *http.Request) (seenRequest, error) {
	one := func(name string) (string, error) {
		values := r.Header.Values(name)
		if len(values) != 1 || values[0] == "" || strings.ContainsAny(values[0], " \t") {
			return "", Problemf(http.StatusBadRequest, "The proxy is to send %s, once and with one value.", name)
		}
		return values[0], nil
	}
	host, err := one("X-Forwarded-Host")
	if err != nil {
		return seenRequest{}, err
	}
	path, err := one("X-Forwarded-Uri")
	if err != nil {
		return seenRequest{}, err
	}
	var seen seenRequest
	if seen.url, err = urlOf(host, path); err != nil {
		return seen, err
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(hops) - 1; i >= 0; i-- {
		ip, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break // what stands before it was said by nobody who is trusted, so the address is unknown
		}
		if seen.ip = directory.Plain(ip); !d.isTrusted(seen.ip) {
			break
		}
	}
	return seen, nil
}

// admits returns the account that is let in, or a problem with what to do instead. At a public app everybody is let in: as nobody, "",
// where there is no token by which the account would be.
func (d *Door) admits(r *http.Request, seen seenRequest) (string, error) {
	b := d.book.Load()
	url, _, _ := strings.Cut(seen.url, "?")
	app := b.app(url)
	if app != nil {
		url = app.Name // a URL may be longer than a name
	}
	account, err := d.admitsToken(r, b, url, seen.ip)
	if err != nil && app != nil && app.Public {
		d.Count(PassedAgain, "")
		return "", nil
	}
	return account, err
}

// admitsToken returns the account of a request's token, which is let in to an app, or a problem.
func (d *Door) admitsToken(r *http.Request, b *inForce, app string, ip netip.Addr) (string, error) {
	token, err := d.believed.Load().tokens.of(r)
	switch {
	case errors.Is(err, errNoToken):
		return "", Problemf(http.StatusUnauthorized, "Sign on first.").With("WWW-Authenticate", `Bearer realm="sign-on"`)
	case err != nil:
		d.Count(RequestsRefused, "invalid_token")
		d.guard.refused.Do(func() { d.log.Info("tokens are refused; the metric counts them all", "why", err) })
		return "", Problemf(http.StatusUnauthorized, "The token is not valid. Sign on again.").
			With("WWW-Authenticate", `Bearer error="invalid_token"`)
	}
	a := token.attempt(b, d.now(), app)
	if ip.IsValid() {
		a.IP = attempt.Known(ip)
	}
	a.Through = attempt.Known(attempt.Browser)
	if err := d.CheckAttempt(a); err != nil {
		return "", Problemf(http.StatusForbidden, "This cannot be opened.")
	}
	asked, now := Asked{Caller: "guard", token: token}, d.now()
	g := &gathering{authenticated: token.authenticated}
	d.facts.gather(r.Context(), b, a, asked.sessionOf(a), g)
	key := admission{token.digest, app, ip, b}
	if last, ok := d.guard.recent.Get(key); ok && now.Before(last.until) && (last.lapses.IsZero() || now.Before(last.lapses)) {
		if verdict, _ := d.judge(r.Context(), b, a, asked, g); verdict == decide.Grant && len(g.degraded()) == 0 {
			d.Count(PassedAgain, "")
			return a.Account, nil
		}
	}
	d.meet(r.Context(), b, a, token, g)
	answer := d.answer(r.Context(), a, asked)
	defer answer.release()
	if answer.Verdict == decide.Grant {
		d.guard.recent.Add(key, admittedFor(answer, g, b))
		return a.Account, nil
	}
	return "", d.challenge(b, answer, token)
}

// resumed returns the attempt with what the store knows of the session beside what the token says:
// which methods were proven earlier, and when. From the grant of the app it takes what outside checks said, and what a caller said
// of a device that neither the book nor the program lists: its platform, its tags, and whether it is managed or shared. A review of
// the session rests on the same. While the app is granted, what was proven just before it counts as made now.
func (d *Door) resumed(b *inForce, a *attempt.Attempt, g *gathering) *attempt.Attempt {
	s := g.session.value
	if s == nil || !s.Ended.IsZero() || g.voids(s.Started) {
		return a
	}
	resumed := *a
	resumed.Session.Proofs = append(slices.Clone(s.Proofs), a.Session.Proofs...)
	if s.Started.Before(resumed.Session.Started) {
		resumed.Session.Started = s.Started
	}
	grant, _, _ := g.grant(b, a)
	if grant != nil {
		resumed.Session.AsOf = grant.At
	}
	device := a.Device.Ref()
	isListed := device == nil || g.listedDevice != nil // so that the book or the program says what it is
	was := new(attempt.Attempt)
	if grant == nil || !b.asksOutside && isListed || attempt.Parse(grant.Attempt, was, attempt.Options{}) != nil {
		return &resumed
	}
	if b.asksOutside {
		resumed.External = was.External
	}
	if then := was.Device.Ref(); !isListed && then != nil && then.ID == device.ID {
		d := *device // a token says only which device it is
		if kept := g.device.value; kept == nil || kept.Platform == "" {
			d.Platform = then.Platform
		}
		d.Managed, d.Shared, d.Tags = then.Managed, then.Shared, then.Tags
		resumed.Device = attempt.Known(d)
	}
	return &resumed
}

// challenge says what would let the bearer in: which classes of sign-on would do, and how fresh it
// must be (RFC 9470 §3), or that nothing that she can prove would.
func (d *Door) challenge(b *inForce, answer *Answer, token *access) error {
	detail := strings.TrimSpace(answer.ToPerson.Say + " " + strings.Join(answer.ToPerson.Repairs, " "))
	if detail == "" {
		detail = "This cannot be opened like this."
	}
	classes, age, provable := wanted(b, answer.Demands, answer.isOver)
	if answer.Causes[0].Code != decide.SessionEnded && (answer.ToPerson.Verdict != decide.StepUp || !provable) {
		return Problemf(http.StatusForbidden, "%s", detail).With("Decision-Id", answer.ID)
	}
	if !answer.Limits.Shared {
		if err := d.give(answer, token); err != nil {
			return d.Unavailable(err)
		}
	}
	if answer.isOver || !answer.Limits.Shared {
		age = 0
	}
	header := `Bearer error="insufficient_user_authentication", error_description="More is to be proven"`
	if len(classes) > 0 {
		header += `, acr_values="` + strings.Join(classes, " ") + `"`
	}
	if age >= 0 {
		header += `, max_age="` + strconv.Itoa(int(age/time.Second)) + `"`
	}
	return Problemf(http.StatusUnauthorized, "%s", detail).With("WWW-Authenticate", header).With("Decision-Id", answer.ID)
}

// wanted returns the classes of the assurances that open demands are from, or all of them, the shortest time within
// which they want something proven (-1 where they set none), and whether a sign-on can meet any.
func wanted(b *inForce, demands []decide.Demand, all bool) (classes []string, age time.Duration, provable bool) {
	age = -1
	note := func(demand *decide.Demand) {
		for _, source := range demand.From {
			if a := b.Judge().FindAssurance(source.Assurance); a != nil && a.ACR != "" && !slices.Contains(classes, a.ACR) {
				classes = append(classes, a.ACR)
			}
		}
		if demand.Within == nil || *demand.Within == decide.Session {
			return
		}
		within := max(0, time.Duration(*demand.Within)) // now is an age of nothing
		if age < 0 || within < age {
			age = within
		}
	}
	for i := range demands {
		demand := &demands[i]
		switch {
		case demand.Met && !all:
		case demand.Kind == decide.DemandMethod:
			provable = true
			note(demand)
		case demand.Kind == decide.DemandOneOf:
			for k := range demand.Ways {
				inner, within, can := wanted(b, demand.Ways[k], all)
				provable = provable || can
				for _, class := range inner {
					if !slices.Contains(classes, class) {
						classes = append(classes, class)
					}
				}
				if can && within >= 0 && (age < 0 || within < age) {
					age = within // which is fresh enough whichever way is taken
				}
			}
		}
	}
	return classes, age, provable
}
