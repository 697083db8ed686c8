// Bare is what the door is measured against: a net/http handler that decodes an attempt and
// writes an answer of a given size, and does nothing else.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:7440", "address to listen on")
	size := flag.Int("size", 4096, "bytes of an answer")
	flag.Parse()
	answer := append(append([]byte(`"`), bytes.Repeat([]byte("x"), *size-2)...), '"')
	http.HandleFunc("POST /v1/decisions", func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		if err == nil {
			err = attempt.Parse(text, new(attempt.Attempt), attempt.Options{Now: time.Now()})
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Content-Length", strconv.Itoa(len(answer)))
		w.Write(answer) // a client that went away misses nothing
	})
	http.HandleFunc("GET /v1/guard", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusOK) })
	if err := http.ListenAndServe(*listen, nil); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}
