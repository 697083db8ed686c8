// Package metrics is the room of a door that counts what it does, for Prometheus to read at /metrics.
package metrics

import (
	"context"
	"math"
	"net/http"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/store"
)

// Room makes the room.
func Room(d *door.Door) (*door.Opened, error) {
	m := newMetrics(d)
	return &door.Opened{Meter: m, Taken: m.taken, Routes: []door.Route{{Pattern: "GET /metrics", Right: door.MayMeasure, Serve: m.serve,
		About: "Metrics, as Prometheus reads them", Status: http.StatusOK}}}, nil
}

// metrics count what a door does, in the form that Prometheus reads.
type metrics struct {
	registry  *prometheus.Registry
	decisions *prometheus.CounterVec
	latency   prometheus.Histogram
	writes    *prometheus.CounterVec
	writing   prometheus.Histogram
	together  prometheus.Histogram
	degraded  prometheus.Counter
	again     prometheus.Counter
	book      *prometheus.GaugeVec
	// counts are the counters with a label, by what they count.
	counts map[door.Counter]*prometheus.CounterVec

	// rules has the counters of decisions by what decided them, mostRules at most.
	rules sync.Map // of ruled to prometheus.Counter
	mu    sync.Mutex
	count int
}

// ruled is what a decision is counted by.
type ruled struct{ verdict, policy, rule, cause string }

// mostRules bounds the counters of decisions: beyond it they are counted under "other".
const mostRules = 2000

func newMetrics(d *door.Door) *metrics {
	m := &metrics{registry: prometheus.NewRegistry()}
	counter := func(name, help string, labels ...string) *prometheus.CounterVec {
		c := prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "briskwarden", Name: name, Help: help}, labels)
		m.registry.MustRegister(c)
		return c
	}
	histogram := func(name, help string, buckets []float64) prometheus.Histogram {
		h := prometheus.NewHistogram(prometheus.HistogramOpts{Namespace: "briskwarden", Name: name, Help: help, Buckets: buckets})
		m.registry.MustRegister(h)
		return h
	}
	m.decisions = counter("decisions_total", "Decisions, by verdict and the rule or cause that decided.", "verdict", "policy", "rule", "cause")
	m.latency = histogram("decision_seconds", "Time that a decision took, its record included.",
		[]float64{.00005, .0001, .00025, .0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 3})
	m.writes = counter("store_writes_total", "Transactions that the store was asked for.", "result")
	m.writing = histogram("store_write_seconds", "Time that a transaction took.", prometheus.ExponentialBuckets(.0002, 2, 14))
	m.together = histogram("store_write_jobs", "How much was written in one transaction.", prometheus.ExponentialBuckets(1, 2, 10))
	m.counts = map[door.Counter]*prometheus.CounterVec{
		door.RequestsRefused: counter("requests_refused_total", "Requests that were refused before anything was done.", "reason"),
		door.Reloads:         counter("reloads_total", "Books that were to be taken into force.", "result"),
		door.LettersTried: counter("letters_total",
			"Letters of the watch that were tried, by what became of the try: sent, not_taken or given_up.", "result"),
		door.EventsTaken: counter("events_total", "Security events that were handed in, by what became of them.", "result"),
		door.StatementsLeftOut: counter("statements_left_out_total", "Requests with a part left out, since the caller may not state it.",
			"caller"),
	}
	m.book = prometheus.NewGaugeVec(prometheus.GaugeOpts{Namespace: "briskwarden", Name: "book_in_force",
		Help: "Always 1, of the book in force."}, []string{"book", "rules"})
	m.registry.MustRegister(m.book)
	m.degraded = prometheus.NewCounter(prometheus.CounterOpts{Namespace: "briskwarden", Name: "decisions_degraded_total",
		Help: "Decisions that lacked something because something failed."})
	m.again = prometheus.NewCounter(prometheus.CounterOpts{Namespace: "briskwarden", Name: "guard_passed_again_total",
		Help: "Requests that the guard judged and let through as a moment before, which are not recorded again."})
	m.registry.MustRegister(m.degraded, m.again)
	gauge := func(name, help string, value func() float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Namespace: "briskwarden", Name: name, Help: help}, value))
	}
	gauge("book_age_seconds", "Time since the book in force was taken into force.", func() float64 {
		return d.Now().Sub(d.Workload().Since).Seconds()
	})
	gauge("facts_cached", "Rows of the store that are remembered.", func() float64 { return float64(d.Workload().Remembered) })
	gauge("store_jobs_waiting", "What waits to be written.", func() float64 { return float64(d.Workload().Waiting) })
	waiting := func(name, help string, kind store.Kind) {
		gauge(name, help+"; not a number where the store cannot be asked.", func() float64 {
			ctx, cancel := context.WithTimeout(context.Background(), time.Duration(d.Config().Limits.Answer))
			defer cancel()
			rows, err := d.Store().List(ctx, store.Query{Kind: kind})
			if err != nil {
				return math.NaN()
			}
			return float64(len(rows))
		})
	}
	waiting("events_untold", "Security events that receivers have not taken yet", store.Outbox)
	waiting("letters_unsent", "Letters of the watch that were not taken yet", store.Letters)
	return m
}

// Decided implements door.Meter.
func (m *metrics) Decided(a *door.Answer, took time.Duration) {
	m.latency.Observe(took.Seconds())
	if len(a.Degraded) > 0 {
		m.degraded.Inc()
	}
	c := a.Causes[0]
	key := ruled{a.Verdict.String(), c.Policy, c.Rule, string(c.Code)}
	counter, ok := m.rules.Load(key)
	if !ok {
		counter = m.counterOf(key)
	}
	counter.(prometheus.Counter).Inc()
}

func (m *metrics) counterOf(key ruled) prometheus.Counter {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.count++; m.count > mostRules {
		return m.decisions.WithLabelValues(key.verdict, "other", "other", key.cause)
	}
	counter := m.decisions.WithLabelValues(key.verdict, key.policy, key.rule, key.cause)
	m.rules.Store(key, counter)
	return counter
}

// Count implements door.Meter.
func (m *metrics) Count(what door.Counter, label string) {
	if what == door.PassedAgain {
		m.again.Inc()
		return
	}
	m.counts[what].WithLabelValues(label).Inc()
}

// taken notes which book is in force.
func (m *metrics) taken(b *briskwarden.Book) {
	m.book.Reset()
	m.book.WithLabelValues(b.Digest(), b.Judge().Rules()).Set(1)
}

// Wrote implements door.Meter.
func (m *metrics) Wrote(took time.Duration, together int, err error) {
	result := "kept"
	if err != nil {
		result = "failed"
	}
	m.writes.WithLabelValues(result).Inc()
	m.writing.Observe(took.Seconds())
	m.together.Observe(float64(together))
}

// serve answers GET /metrics.
func (m *metrics) serve(w http.ResponseWriter, r *door.Request) error {
	promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{}).ServeHTTP(w, r.Request)
	return nil
}
