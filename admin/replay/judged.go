package replay

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/journal"
)

// Judged is an attempt of a history with what came of it. It shares nothing with the attempt.
type Judged struct {
	// Number is its place in the history.
	Number  int64
	At      time.Time
	Account string
	Brief   *journal.Brief
}

// JudgedBy judges a filled attempt of a history for a brief. Short is memory that is used again; it holds
// the short form of the decision afterwards. It is for a Visit.
func JudgedBy(ctx context.Context, judge *engine.Judge, number int64, a *attempt.Attempt, short *engine.Brief) Judged {
	judge.Brief(ctx, a, short)
	return JudgedAs(number, a, short, judge.Outline(ctx, a))
}

// JudgedAs is JudgedBy where both forms of the decision are there already.
func JudgedAs(number int64, a *attempt.Attempt, short *engine.Brief, d *decide.Decision) Judged {
	b := journal.BriefOf(d, a, short.App, short.Country)
	// The texts of an attempt are written over by the next.
	for _, text := range []*string{&b.App, &b.Country, &b.Device} {
		*text = strings.Clone(*text)
	}
	for i := range b.Proved {
		b.Proved[i] = strings.Clone(b.Proved[i])
	}
	return Judged{number, a.At, strings.Clone(a.Account), b}
}

// InOrder hands on attempts in the order of the history, as they are visited by several goroutines. Take
// is called by one at a time.
type InOrder struct {
	Take func(*Judged)

	mu      sync.Mutex
	waiting []Judged
}

// mostWaiting is how many attempts wait for those before them: more than goroutines can be apart.
const mostWaiting = 64 << 10

// Add adds an attempt. It is safe for concurrent use.
func (o *InOrder) Add(j Judged) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.waiting = append(o.waiting, j); len(o.waiting) >= 2*mostWaiting {
		o.take(mostWaiting)
	}
}

// Flush hands on what waits, once all attempts have been added.
func (o *InOrder) Flush() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.take(0)
}

// take hands on all but the last ones.
func (o *InOrder) take(leave int) {
	slices.SortFunc(o.waiting, func(a, b Judged) int { return int(a.Number - b.Number) })
	n := max(0, len(o.waiting)-leave)
	for i := range o.waiting[:n] {
		o.Take(&o.waiting[i])
	}
	o.waiting = slices.Delete(o.waiting, 0, n)
}

// Counter counts what a result rests on while a history is visited. The zero Counter is ready, and safe for
// concurrent use.
type Counter struct {
	mu                  sync.Mutex
	attempts, strangers int64
	period              Period
}

// Count counts an attempt that was judged.
func (c *Counter) Count(a *attempt.Attempt, judged *engine.Brief) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.attempts++
	if IsStranger(judged) {
		c.strangers++
	}
	c.period.Include(a.At)
}

// Basis returns what a result rests on that came of the reading.
func (c *Counter) Basis(r *Reading, o Options) Basis {
	c.mu.Lock()
	defer c.mu.Unlock()
	return r.Basis(c.attempts, c.strangers, c.period, o)
}
