package door

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// Request is a request of a caller who may make it.
type Request struct {
	*http.Request
	caller *knownCaller
}

// Caller returns who makes the request, nil where everybody may.
func (r *Request) Caller() *Caller {
	if r.caller == nil {
		return nil
	}
	return r.caller.Caller
}

// routes makes the handler.
func (d *Door) routes() http.Handler {
	mux := http.NewServeMux()
	paths := map[string][]string{}
	for _, route := range d.allRoutes() {
		mux.Handle(route.Pattern, d.guarded(route))
		if method, path, one := strings.Cut(route.Pattern, " "); one {
			paths[path] = append(paths[path], method)
		}
	}
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		d.writeProblem(w, r, Problemf(http.StatusNotFound, "There is nothing at this path. /openapi.json lists what there is."))
	})
	for path, methods := range paths {
		allowed := strings.Join(methods, ", ")
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
			d.writeProblem(w, r, Problemf(http.StatusMethodNotAllowed, "Here one of %s is taken.", allowed).With("Allow", allowed))
		})
	}
	return mux
}

// allRoutes are those of the door itself and of its rooms.
func (d *Door) allRoutes() []Route {
	var list []Route
	add := func(pattern string, right Right, serve func(http.ResponseWriter, *Request) error, about string, takes, gives any, status int) {
		list = append(list, Route{Pattern: pattern, Right: right, Serve: serve, About: about, Takes: takes, Gives: gives, Status: status})
	}
	add("POST /v1/decisions", MayDecide, d.serveDecision, "Decide on an attempt", attemptForm{}, answerForm{}, 200)
	add("GET /v1/decisions/{id}", MayLook, d.serveRecorded, "Read a decision back", nil, answerForm{}, 200)
	add("POST /v1/consents", MayDecide, d.serveConsent, "Ask what an outside program may have", consentAsk{}, acts.Answer{}, 200)
	add("GET /v1/guard", 0, d.serveGuard, "Ask for a request, as a reverse proxy does", nil, nil, 200)
	add("GET /v1/sessions", MayLook, d.serveSessions, "List the sessions of an account, and those that ended", nil, openSessions{}, 200)
	add("GET /v1/sessions/{id}", MayLook, d.serveSession, "Read an open session", nil, store.Session{}, 200)
	add("DELETE /v1/sessions", MayOperate, d.serveEndSessions, "End all sessions of an account", nil, nil, 204)
	add("DELETE /v1/sessions/{id}", MayOperate, d.serveEndSession, "End a session", nil, nil, 204)
	add("PUT /v1/devices/{id}/report", MayReport, d.serveReport, "Hand in what a device reports", DeviceReport{}, nil, 204)
	add("GET /.well-known/authzen-configuration", 0, d.serveMetadata, "Find the OpenID Authorization API", nil, map[string]string{}, 200)
	add("POST /access/v1/evaluation", MayDecide, d.serveEvaluation, "Evaluate (OpenID Authorization API 1.0)", evaluationAsk{}, evaluation{},
		200)
	add("POST /access/v1/evaluations", MayDecide, d.serveEvaluations, "Evaluate several at once", evaluationsAsk{}, map[string]any{}, 200)
	add("POST /access/v1/search/subject", MayLook, d.serveSubjectSearch, "Search who would be granted an app", searchAsk{}, found[entity]{},
		200)
	add("POST /access/v1/search/resource", MayLook, d.serveResourceSearch, "Search which apps would be granted", searchAsk{}, found[entity]{},
		200)
	add("POST /access/v1/search/action", MayLook, d.serveActionSearch, "Search which actions would be granted", searchAsk{},
		found[actionName]{}, 200)
	add("GET /healthz", 0, d.serveHealth, "Whether the program runs", nil, map[string]bool{}, 200)
	add("GET /readyz", 0, d.serveReady, "Whether decisions rest on all that they should", nil, Readiness{}, 200)
	add("GET /openapi.json", 0, d.serveOpenAPI, "This document", nil, map[string]any{}, 200)
	for _, room := range d.rooms {
		list = append(list, room.Routes...)
	}
	return list
}

// guarded lets a request through that a caller may make.
func (d *Door) guarded(route Route) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if failure := recover(); failure != nil {
				if failure == http.ErrAbortHandler {
					panic(failure)
				}
				d.log.Error("a fault of the program", "path", r.URL.Path, "failure", fmt.Sprint(failure), "stack", string(debug.Stack()))
				d.writeProblem(w, r, errors.New("panic"))
			}
		}()
		w.Header()["Cache-Control"] = notKept
		if id := r.Header.Get("X-Request-Id"); id != "" && len(id) <= 200 {
			w.Header().Set("X-Request-Id", id) // as the OpenID Authorization API 1.0 has it
		}
		known, err := d.admit(&route, r)
		if err == nil {
			err = route.Serve(w, &Request{r, known})
		}
		if err != nil {
			d.writeProblem(w, r, err)
		}
	})
}

// admit returns who makes a request, or why it is not let through.
func (d *Door) admit(route *Route, r *http.Request) (*knownCaller, error) {
	if route.Right == 0 {
		return nil, nil
	}
	known := d.believed.Load().callers.of(r, route.IsPage)
	switch {
	case known == nil:
		d.Count(RequestsRefused, "unknown")
		return nil, Problemf(http.StatusUnauthorized, "Say who calls: with a bearer token or a client certificate that the configuration lists.").
			With("WWW-Authenticate", challengeOf(route))
	case !known.may(route.Right):
		d.Count(RequestsRefused, "not_allowed")
		return nil, Problemf(http.StatusForbidden, "%s may not do this; it would need the right %s.", known.Name, route.Right)
	}
	if err := d.spend(known, 1); err != nil {
		return nil, err
	}
	return known, nil
}

// spend takes so many requests from a caller's rate, or says that it makes too many.
func (d *Door) spend(known *knownCaller, requests int) error {
	if known.limit == nil || requests == 0 {
		return nil
	}
	allowed := known.limit.ReserveN(time.Now(), requests)
	switch {
	case !allowed.OK():
		d.Count(RequestsRefused, "too_many")
		return Problemf(http.StatusTooManyRequests, "%s may make %d requests at once, and each evaluation is one.", known.Name,
			known.limit.Burst())
	case allowed.Delay() == 0:
		return nil
	}
	wait := max(time.Second, allowed.Delay().Round(time.Second))
	allowed.Cancel()
	d.Count(RequestsRefused, "too_many")
	return Problemf(http.StatusTooManyRequests, "%s makes more requests than it may.", known.Name).
		With("Retry-After", strconv.Itoa(int(wait/time.Second)))
}

// challengeOf says how a caller shows who it is: at pages for people as a browser asks them, else with a
// bearer token.
func challengeOf(route *Route) string {
	if route.IsPage {
		return `Basic realm="The watch: any name, and a token as the password", charset="UTF-8"`
	}
	return "Bearer"
}

// ReadBody reads the JSON of a request, or what is of one of some other types, of at most so many bytes. The error is a Problem.
func ReadBody(w http.ResponseWriter, r *Request, most int64, types ...string) ([]byte, error) {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	ok := err == nil && kind == "application/json"
	for _, t := range types {
		ok = ok || kind == t
	}
	if !ok {
		return nil, Problemf(http.StatusUnsupportedMediaType, "Send %s.", strings.Join(append(types, "application/json"), " or "))
	}
	size := r.ContentLength
	if size > most {
		return nil, Problemf(http.StatusRequestEntityTooLarge, "At most %d bytes are taken.", most)
	}
	text := make([]byte, 0, max(512, size+1))
	from := http.MaxBytesReader(w, r.Body, most)
	for {
		n, err := from.Read(text[len(text):cap(text)])
		text = text[:len(text)+n]
		switch {
		case err == io.EOF:
			return text, nil
		case err != nil:
			if tooLong := new(http.MaxBytesError); errors.As(err, &tooLong) {
				return nil, Problemf(http.StatusRequestEntityTooLarge, "At most %d bytes are taken.", most)
			}
			return nil, Problemf(http.StatusBadRequest, "The request did not come in whole.")
		}
		if len(text) == cap(text) {
			text = append(text, 0)[:len(text)]
		}
	}
}

// decodeStrictly reads one JSON value, and refuses keys that nobody knows and anything after it.
func decodeStrictly(text []byte, into any) error {
	if err := json.Unmarshal(text, into, json.RejectUnknownMembers(true)); err != nil {
		return fmt.Errorf("the JSON cannot be read: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

// The values of headers that each answer has. Nobody changes them.
var notKept, isJSON = []string{"no-store"}, []string{"application/json"}

// writeJSON answers with a text of JSON.
func writeJSON(w http.ResponseWriter, status int, text []byte) error {
	w.Header()["Content-Type"] = isJSON
	w.Header().Set("Content-Length", strconv.Itoa(len(text)))
	w.WriteHeader(status)
	w.Write(text) // a client that went away misses nothing
	return nil
}

// serveDecision answers POST /v1/decisions.
func (d *Door) serveDecision(w http.ResponseWriter, r *Request) error {
	text, err := ReadBody(w, r, attempt.MaxSize)
	if err != nil {
		return err
	}
	a := new(attempt.Attempt)
	if err := attempt.Parse(text, a, attempt.Options{Now: d.now()}); err != nil {
		return Problemf(http.StatusBadRequest, "%s", err)
	}
	asked := r.caller.asks()
	asked.minimal = prefersMinimal(r.Header)
	answer, err := d.Decide(r.Context(), a, asked)
	if err != nil {
		return Problemf(http.StatusUnprocessableEntity, "%s", err)
	}
	defer answer.release()
	if asked.minimal {
		if d.config.Journal.Mode != JournalOff { // else it is written already
			answer.writeMinimal()
		}
		w.Header()["Preference-Applied"] = minimalApplied
	}
	return writeJSON(w, http.StatusOK, *answer.text)
}

// minimalApplied says that an answer is minimal (RFC 7240 §3). Nobody changes it.
var minimalApplied = []string{"return=minimal"}

// prefersMinimal reports whether a request asks for a minimal answer (RFC 7240 §4.2).
func prefersMinimal(header http.Header) bool {
	for _, line := range header["Prefer"] {
		for preference := range strings.SplitSeq(line, ",") {
			token, _, _ := strings.Cut(preference, ";")
			if name, value, _ := strings.Cut(token, "="); strings.EqualFold(strings.TrimSpace(name), "return") {
				return strings.EqualFold(strings.Trim(strings.TrimSpace(value), `"`), "minimal") // the first of several counts
			}
		}
	}
	return false
}

// Recorded returns the entry of a decision. The error is the problem to answer with.
func (d *Door) Recorded(ctx context.Context, id string) (journal.Entry, error) {
	e, err := d.facts.store.Entry(ctx, id)
	switch {
	case errors.Is(err, store.ErrNotFound) || err == nil && e.Kind != journal.Decision:
		return e, Problemf(http.StatusNotFound, "The journal has no decision of that id.")
	case err != nil:
		return e, d.Unavailable(err)
	case e.Leaf == nil:
		return e, Problemf(http.StatusGone, "The decision was pruned from the journal; its hash is kept.")
	}
	return e, nil
}

// serveRecorded answers GET /v1/decisions/{id}.
func (d *Door) serveRecorded(w http.ResponseWriter, r *Request) error {
	e, err := d.Recorded(r.Context(), r.PathValue("id"))
	if err != nil {
		return err
	}
	c, err := e.Content()
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, c.Answer)
}

// Unavailable logs that the store could not be asked, and returns the problem to answer with.
func (d *Door) Unavailable(err error) error {
	d.log.Error("the store could not be asked", "error", err)
	return Problemf(http.StatusServiceUnavailable, "The store cannot be asked now. Try again.").With("Retry-After", "1")
}

// serveSession answers GET /v1/sessions/{id}.
func (d *Door) serveSession(w http.ResponseWriter, r *Request) error {
	found, err := d.facts.sessions.get(r.Context(), d.facts.store, r.PathValue("id"))
	switch {
	case err != nil:
		return d.Unavailable(err)
	case found.value == nil:
		return Problemf(http.StatusNotFound, "There is no open session of that id.")
	}
	return writeJSON(w, http.StatusOK, store.RowOf(found.value).Value)
}

// serveHealth answers GET /healthz: the program runs.
func (d *Door) serveHealth(w http.ResponseWriter, _ *Request) error {
	return writeJSON(w, http.StatusOK, []byte(`{"alive":true}`))
}

// serveReady answers GET /readyz: whether decisions rest on all that they should.
func (d *Door) serveReady(w http.ResponseWriter, r *Request) error {
	ready := d.Ready(r.Context())
	status := http.StatusOK
	if !ready.Ready {
		status = http.StatusServiceUnavailable
	}
	return WriteValue(w, status, ready)
}
