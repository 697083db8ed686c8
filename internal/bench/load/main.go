// Load asks a server for decisions over many connections and prints how many it answered, and how
// fast. It is how the door is measured, beside wrk:
//
//	load -url http://127.0.0.1:7443/v1/decisions -token bw_… -seconds 10
//	load -url … -rate 5000    # a steady rate instead of the highest: what takes long is counted from when it was due
package main

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
)

func main() {
	url := flag.String("url", "", "where requests go")
	method := flag.String("method", http.MethodPost, "method of the requests")
	token := flag.String("token", "", "bearer token")
	bodies := flag.String("bodies", "", "file with a body a line, sent in turn; none are sent where it is left out")
	headers := flag.String("headers", "", "more headers, as Name: value with | between several")
	connections := flag.Int("connections", 64, "connections at once")
	seconds := flag.Float64("seconds", 5, "how long")
	rate := flag.Float64("rate", 0, "requests a second; 0 is as many as are answered")
	flag.Parse()
	if err := run(*url, *method, *token, *bodies, *headers, *connections, *seconds, *rate); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}

func run(url, method, token, bodies, headers string, connections int, seconds, rate float64) error {
	lines := [][]byte{nil}
	if bodies != "" {
		text, err := os.ReadFile(bodies)
		if err != nil {
			return err
		}
		lines = bytes.Split(bytes.TrimSpace(text), []byte("\n"))
	}
	header := http.Header{"Content-Type": {"application/json"}}
	if token != "" {
		header.Set("Authorization", "Bearer "+token)
	}
	for one := range strings.SplitSeq(headers, "|") {
		if name, value, ok := strings.Cut(one, ":"); ok {
			header.Set(name, strings.TrimSpace(value))
		}
	}
	client := &http.Client{
		Timeout:   30 * time.Second,
		Transport: &http.Transport{MaxIdleConnsPerHost: connections, MaxConnsPerHost: connections},
	}
	var mu sync.Mutex
	var took []time.Duration
	failed := map[string]int{}
	begun := time.Now()
	end := begun.Add(time.Duration(seconds * float64(time.Second)))
	var group sync.WaitGroup
	for worker := range connections {
		group.Go(func() {
			var mine []time.Duration
			wrong := map[string]int{}
			every := time.Duration(0)
			if rate > 0 {
				every = time.Duration(float64(connections) / rate * float64(time.Second))
			}
			due := begun.Add(every * time.Duration(worker) / time.Duration(connections))
			for i := worker; time.Now().Before(end); i += connections {
				if every > 0 {
					time.Sleep(time.Until(due))
				} else {
					due = time.Now()
				}
				r, err := http.NewRequest(method, url, bytes.NewReader(lines[i%len(lines)]))
				if err == nil {
					r.Header = header
					err = send(client, r)
				}
				if err != nil {
					wrong[err.Error()]++
				} else {
					mine = append(mine, time.Since(due))
				}
				due = due.Add(every)
			}
			mu.Lock()
			defer mu.Unlock()
			took = append(took, mine...)
			for text, n := range wrong {
				failed[text] += n
			}
		})
	}
	group.Wait()
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	slices.Sort(took)
	at := func(share float64) float64 {
		if len(took) == 0 {
			return 0
		}
		return took[int(share*float64(len(took)-1))].Seconds() * 1000
	}
	fmt.Fprintf(
		out,
		"rate %.0f p50 %.2f p99 %.2f max %.2f answered %d",
		float64(len(took))/time.Since(begun).Seconds(),
		at(.5),
		at(.99),
		at(1),
		len(took),
	)
	for text, n := range failed {
		fmt.Fprintf(out, " failed %d (%s)", n, text)
	}
	fmt.Fprintln(out)
	return nil
}

// send sends a request and reads the answer whole.
func send(client *http.Client, r *http.Request) error {
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, answer.Body); err != nil {
		return err
	}
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("%s", answer.Status)
	}
	return nil
}
