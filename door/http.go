package door

import (
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

// request is a request of a caller who may make it.
type request struct {
	*http.Request
	caller *knownCaller
}

// route is one thing that a door answers.
type route struct {
	method, path string
	right        Right // 0 is for everybody
	serve        func(w http.ResponseWriter, r *request) error
	// The rest says what it is, for /openapi.json. Takes and gives are values of the types of what
	// it takes and gives as JSON, nil where that is nothing or no JSON; status is that of success.
	about        string
	takes, gives any
	status       int
}

// routes makes the handler.
func (d *Door) routes() (http.Handler, error) {
	mux := http.NewServeMux()
	paths := map[string][]string{}
	for _, route := range d.allRoutes() {
		mux.Handle(route.method+" "+route.path, d.guarded(route))
		paths[route.path] = append(paths[route.path], route.method)
	}
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		d.writeProblem(w, r, problem(http.StatusNotFound, "There is nothing at this path. /openapi.json lists what there is."))
	})
	for path, methods := range paths {
		allowed := strings.Join(methods, ", ")
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
			d.writeProblem(w, r, problem(http.StatusMethodNotAllowed, "Here one of %s is taken.", allowed).with("Allow", allowed))
		})
	}
	people, err := d.scimServer()
	if err != nil {
		return nil, err
	}
	mux.Handle("/scim/v2/", people)
	return mux, nil
}

func (d *Door) allRoutes() []route {
	return []route{
		{"POST", "/v1/decisions", MayDecide, d.serveDecision, "Decide on an attempt", attemptForm{}, answerForm{}, 200},
		{"GET", "/v1/decisions/{id}", MayLook, d.serveRecorded, "Read a decision back", nil, answerForm{}, 200},
		{"POST", "/v1/consents", MayDecide, d.serveConsent, "Ask what an outside program may have", consentAsk{}, acts.Answer{}, 200},
		{"GET", "/v1/guard", 0, d.serveGuard, "Ask for a request, as a reverse proxy does", nil, nil, 200},
		{"GET", "/v1/sessions", MayLook, d.serveSessions, "List the sessions of an account, and those that ended", nil, openSessions{}, 200},
		{"GET", "/v1/sessions/{id}", MayLook, d.serveSession, "Read an open session", nil, store.Session{}, 200},
		{"DELETE", "/v1/sessions", MayOperate, d.serveEndSessions, "End all sessions of an account", nil, nil, 204},
		{"DELETE", "/v1/sessions/{id}", MayOperate, d.serveEndSession, "End a session", nil, nil, 204},
		{"PUT", "/v1/devices/{id}/report", MayReport, d.serveReport, "Hand in what a device reports", DeviceReport{}, nil, 204},
		{"POST", "/v1/events", MayEvents, d.serveEvent, "Push a security event token (RFC 8935)", nil, nil, 202},
		{"GET", "/jwks.json", 0, d.serveKeys, "Read the keys that sign what is told", nil, map[string]any{}, 200},
		{"GET", "/.well-known/authzen-configuration", 0, d.serveMetadata, "Find the OpenID Authorization API", nil, map[string]string{}, 200},
		{
			"POST",
			"/access/v1/evaluation",
			MayDecide,
			d.serveEvaluation,
			"Evaluate (OpenID Authorization API 1.0)",
			evaluationAsk{},
			evaluation{},
			200,
		},
		{"POST", "/access/v1/evaluations", MayDecide, d.serveEvaluations, "Evaluate several at once", evaluationsAsk{}, map[string]any{}, 200},
		{
			"POST",
			"/access/v1/search/subject",
			MayLook,
			d.serveSubjectSearch,
			"Search who would be granted an app",
			searchAsk{},
			found[entity]{},
			200,
		},
		{
			"POST",
			"/access/v1/search/resource",
			MayLook,
			d.serveResourceSearch,
			"Search which apps would be granted",
			searchAsk{},
			found[entity]{},
			200,
		},
		{
			"POST",
			"/access/v1/search/action",
			MayLook,
			d.serveActionSearch,
			"Search which actions would be granted",
			searchAsk{},
			found[actionName]{},
			200,
		},
		{"GET", "/watch", MayLook, d.serveWatch, "Read a report on the journal, as a page", nil, nil, 200},
		{"GET", "/watch/decisions", MayLook, d.serveWatchList, "List decisions, as a page", nil, nil, 200},
		{"GET", "/watch/decisions/{id}", MayLook, d.serveWatchDecision, "Explain a decision, as a page", nil, nil, 200},
		{"GET", "/healthz", 0, d.serveHealth, "Whether the program runs", nil, map[string]bool{}, 200},
		{"GET", "/readyz", 0, d.serveReady, "Whether decisions rest on all that they should", nil, Readiness{}, 200},
		{"GET", "/metrics", MayMeasure, d.serveMetrics, "Metrics, as Prometheus reads them", nil, nil, 200},
		{"GET", "/openapi.json", 0, d.serveOpenAPI, "This document", nil, map[string]any{}, 200},
	}
}

// guarded lets a request through that a caller may make.
func (d *Door) guarded(route route) http.Handler {
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
		known, err := d.admit(route.right, r)
		if err == nil {
			err = route.serve(w, &request{r, known})
		}
		if err != nil {
			d.writeProblem(w, r, err)
		}
	})
}

// admit returns who makes a request, or why it is not let through.
func (d *Door) admit(right Right, r *http.Request) (*knownCaller, error) {
	if right == 0 {
		return nil, nil
	}
	known := d.believed.Load().callers.of(r)
	switch {
	case known == nil:
		d.metrics.refused("unknown")
		return nil, problem(http.StatusUnauthorized, "Say who calls: with a bearer token or a client certificate that the configuration lists.").
			with("WWW-Authenticate", challengeOf(r))
	case !known.may(right):
		d.metrics.refused("not_allowed")
		return nil, problem(http.StatusForbidden, "%s may not do this; it would need the right %s.", known.Name, right)
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
		d.metrics.refused("too_many")
		return problem(http.StatusTooManyRequests, "%s may make %d requests at once, and each evaluation is one.", known.Name,
			known.limit.Burst())
	case allowed.Delay() == 0:
		return nil
	}
	wait := max(time.Second, allowed.Delay().Round(time.Second))
	allowed.Cancel()
	d.metrics.refused("too_many")
	return problem(http.StatusTooManyRequests, "%s makes more requests than it may.", known.Name).
		with("Retry-After", strconv.Itoa(int(wait/time.Second)))
}

// isWatch reports whether a request is for a page that people look at.
func isWatch(r *http.Request) bool {
	return r.URL.Path == "/watch" || strings.HasPrefix(r.URL.Path, "/watch/")
}

// challengeOf says how a caller shows who it is: at pages for people as a browser asks them, else with a
// bearer token.
func challengeOf(r *http.Request) string {
	if isWatch(r) {
		return `Basic realm="The watch: any name, and a token as the password", charset="UTF-8"`
	}
	return "Bearer"
}

// body reads the JSON of a request, of at most so many bytes.
func body(w http.ResponseWriter, r *request, most int64, types ...string) ([]byte, error) {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	ok := err == nil && kind == "application/json"
	for _, t := range types {
		ok = ok || kind == t
	}
	if !ok {
		return nil, problem(http.StatusUnsupportedMediaType, "Send %s.", strings.Join(append(types, "application/json"), " or "))
	}
	size := r.ContentLength
	if size > most {
		return nil, problem(http.StatusRequestEntityTooLarge, "At most %d bytes are taken.", most)
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
				return nil, problem(http.StatusRequestEntityTooLarge, "At most %d bytes are taken.", most)
			}
			return nil, problem(http.StatusBadRequest, "The request did not come in whole.")
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
func (d *Door) serveDecision(w http.ResponseWriter, r *request) error {
	text, err := body(w, r, attempt.MaxSize)
	if err != nil {
		return err
	}
	a := new(attempt.Attempt)
	if err := attempt.ParseNow(text, d.now(), a); err != nil {
		return problem(http.StatusBadRequest, "%s", err)
	}
	asked := r.caller.asks()
	asked.minimal = prefersMinimal(r.Header)
	answer, err := d.Decide(r.Context(), a, asked)
	if err != nil {
		return problem(http.StatusUnprocessableEntity, "%s", err)
	}
	defer answer.release()
	if asked.minimal {
		answer.writeMinimal()
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

// findRecorded returns the entry of the decision that a request names. The error is the problem to answer with.
func (d *Door) findRecorded(r *request) (journal.Entry, error) {
	e, err := d.facts.store.Entry(r.Context(), r.PathValue("id"))
	switch {
	case errors.Is(err, store.ErrNotFound) || err == nil && e.Kind != journal.Decision:
		return e, problem(http.StatusNotFound, "The journal has no decision of that id.")
	case err != nil:
		return e, d.unavailable(err)
	case e.Leaf == nil:
		return e, problem(http.StatusGone, "The decision was pruned from the journal; its hash is kept.")
	}
	return e, nil
}

// serveRecorded answers GET /v1/decisions/{id}.
func (d *Door) serveRecorded(w http.ResponseWriter, r *request) error {
	e, err := d.findRecorded(r)
	if err != nil {
		return err
	}
	c, err := e.Content()
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, c.Answer)
}

// unavailable says that the store could not be asked.
func (d *Door) unavailable(err error) error {
	d.log.Error("the store could not be asked", "error", err)
	return problem(http.StatusServiceUnavailable, "The store cannot be asked now. Try again.").with("Retry-After", "1")
}

// serveSession answers GET /v1/sessions/{id}.
func (d *Door) serveSession(w http.ResponseWriter, r *request) error {
	found, err := d.facts.sessions.get(r.Context(), d.facts.store, r.PathValue("id"))
	switch {
	case err != nil:
		return d.unavailable(err)
	case found.value == nil:
		return problem(http.StatusNotFound, "There is no open session of that id.")
	}
	return writeJSON(w, http.StatusOK, store.RowOf(found.value).Value)
}

// serveHealth answers GET /healthz: the program runs.
func (d *Door) serveHealth(w http.ResponseWriter, _ *request) error {
	return writeJSON(w, http.StatusOK, []byte(`{"alive":true}`))
}

// serveReady answers GET /readyz: whether decisions rest on all that they should.
func (d *Door) serveReady(w http.ResponseWriter, r *request) error {
	ready := d.Ready(r.Context())
	status := http.StatusOK
	if !ready.Ready {
		status = http.StatusServiceUnavailable
	}
	return writeValue(w, status, ready)
}
