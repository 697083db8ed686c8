package door

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
)

// Problem is an answer that is none, as RFC 9457 has it. It is an error too.
type Problem struct {
	Status int    `json:"status" doc:"the status of HTTP"`
	Title  string `json:"title" doc:"what kind of problem it is"`
	Detail string `json:"detail,omitzero" doc:"what is wrong here, and what would be right"`

	header map[string]string
}

// Error returns the title and the detail.
func (p *Problem) Error() string { return p.Title + ": " + p.Detail }

// Problemf makes a problem of a status of HTTP, which says what is wrong and what would be right.
func Problemf(status int, format string, args ...any) *Problem {
	return &Problem{Status: status, Title: http.StatusText(status), Detail: fmt.Sprintf(format, args...)}
}

// With adds a header to the answer.
func (p *Problem) With(name, value string) *Problem {
	if p.header == nil {
		p.header = map[string]string{}
	}
	p.header[name] = value
	return p
}

// writeProblem answers a request with a problem. Any other error is one of the door's own, and
// nothing is told of it but that it is there.
func (d *Door) writeProblem(w http.ResponseWriter, r *http.Request, err error) {
	var p *Problem
	if !errors.As(err, &p) {
		d.log.ErrorContext(r.Context(), "a request failed", "path", r.URL.Path, "error", err)
		p = Problemf(http.StatusInternalServerError, "The request could not be served. The log says why.")
	}
	for name, value := range p.header {
		w.Header().Set(name, value)
	}
	text, err := json.Marshal(p)
	if err != nil {
		panic(err) // two texts and a number
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	w.Write(append(text, '\n')) // a client that went away misses nothing
}
