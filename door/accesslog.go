package door

import (
	"net/http"
	"time"
)

// noted is an answer whose status the access log reads.
type noted struct {
	http.ResponseWriter
	status int
}

// WriteHeader implements http.ResponseWriter.
func (n *noted) WriteHeader(status int) {
	if n.status == 0 {
		n.status = status
	}
	n.ResponseWriter.WriteHeader(status)
}

// Unwrap is for http.ResponseController.
func (n *noted) Unwrap() http.ResponseWriter { return n.ResponseWriter }

// accessLogged logs each request with what came of it, where the configuration says so. What stands behind a ? is left out: it may name
// people.
func (d *Door) accessLogged(next http.Handler) http.Handler {
	if !d.config.AccessLog {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begun, n := time.Now(), &noted{ResponseWriter: w}
		defer func() {
			caller := ""
			if known := d.believed.Load().callers.of(r, true); known != nil {
				caller = known.Name
			}
			status := n.status
			if status == 0 {
				status = http.StatusOK
			}
			d.log.Info("request", "method", r.Method, "path", r.URL.Path, "status", status, "caller", caller, "from", r.RemoteAddr,
				"took", time.Since(begun), "request", r.Header.Get("X-Request-Id"))
		}()
		next.ServeHTTP(n, r)
	})
}
