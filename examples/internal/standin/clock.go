package standin

import (
	"sync"
	"time"
)

// Clock goes on from a moment of its own, and can be put forward. It is safe for concurrent use.
type Clock struct {
	mu   sync.Mutex
	from time.Time
	real time.Time
	tick func() time.Time
}

// Begins is a Monday on which the demo's book is in force as its pages say.
var Begins = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// NewClock makes a clock that shows Begins now, and goes as fast as tick does: time.Now, but for tests.
func NewClock(tick func() time.Time) *Clock { return &Clock{from: Begins, real: tick(), tick: tick} }

// Now returns what the clock shows.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.from.Add(c.tick().Sub(c.real)).Truncate(time.Millisecond).UTC()
}

// Forward puts the clock forward.
func (c *Clock) Forward(by time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.from = c.from.Add(by)
}
