package lookout

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/watch"
)

// State is what a lookout remembers from one time to the next. It is kept as JSON. The zero State has
// seen nothing yet.
type State struct {
	// Counters are what was counted lately, by alert and by what is counted apart.
	Counters map[string]map[string]*Counter `json:"counters,omitempty"`
	// Queues are what waits to be told, by recipient.
	Queues map[string]*Queue `json:"queues,omitempty"`
	// Digests says when each was told last.
	Digests map[string]time.Time `json:"digests,omitempty"`
	// Rings counts how often each alert rang.
	Rings map[string]int64 `json:"rings,omitempty"`
}

// Counter is what an alert counted of one account, app or address.
type Counter struct {
	// Lately are the decisions since it rang, and Rang is when it did.
	Lately []Noted   `json:"lately,omitempty"`
	Rang   time.Time `json:"rang,omitzero"`
	// Since counts those for which it did not ring, because it just had.
	Since int `json:"since,omitzero"`
}

// latest is the time of the latest decision that matters.
func (c *Counter) latest() time.Time {
	if n := len(c.Lately); n > 0 {
		return c.Lately[n-1].At
	}
	return c.Rang
}

// Queue is what waits to be told to a recipient.
type Queue struct {
	// Sent are the times of the letters of the last hour.
	Sent []time.Time `json:"sent,omitempty"`
	// Waiting are rings that wait, and More counts those that were not kept, because too many waited.
	Waiting []Ring `json:"waiting,omitempty"`
	More    int    `json:"more,omitzero"`
	// WasQuiet says that some waited for the end of quiet hours.
	WasQuiet bool `json:"was_quiet,omitzero"`
}

// Noted is a decision that was counted.
type Noted struct {
	Number  int64      `json:"number" doc:"its place in the journal"`
	At      time.Time  `json:"at" doc:"when it was decided"`
	Account string     `json:"account" doc:"whose attempt it was"`
	App     string     `json:"app,omitzero" doc:"at which app"`
	IP      netip.Addr `json:"ip,omitzero" doc:"from which address"`
	Verdict string     `json:"verdict" doc:"what it came to"`
	Reason  string     `json:"reason,omitzero" doc:"the rule or the cause behind it"`
}

// Ring is that an alert rang.
type Ring struct {
	Alert string `json:"alert" doc:"the alert"`
	// Of is an account, an app or an address; "" where all are counted together, or it is not known.
	Of     string `json:"of,omitzero" doc:"the account, the app or the address that is counted"`
	Urgent bool   `json:"urgent,omitzero" doc:"true where it did not wait for the end of quiet hours"`
	// Count is how many decisions it took, of so many Accounts, and Before how many came since it rang
	// last for the same.
	Count    int       `json:"count" doc:"how many decisions it took"`
	Accounts int       `json:"accounts" doc:"of how many accounts"`
	Before   int       `json:"before,omitzero" doc:"how many came besides since it rang last for the same"`
	First    time.Time `json:"first" doc:"the time of the first decision"`
	Last     time.Time `json:"last" doc:"the time of the last"`
	Latest   []Noted   `json:"latest" doc:"the latest decisions"`
}

func (s *State) counter(alert, of string) *Counter {
	if s.Counters == nil {
		s.Counters = map[string]map[string]*Counter{}
	}
	if s.Counters[alert] == nil {
		s.Counters[alert] = map[string]*Counter{}
	}
	c := s.Counters[alert][of]
	if c == nil {
		c = new(Counter)
		s.Counters[alert][of] = c
	}
	return c
}

func (s *State) queue(to string) *Queue {
	if s.Queues == nil {
		s.Queues = map[string]*Queue{}
	}
	if s.Queues[to] == nil {
		s.Queues[to] = new(Queue)
	}
	return s.Queues[to]
}

// mostWaiting is how many rings wait for a recipient with what they are about.
const mostWaiting = 100

func (q *Queue) add(r Ring) {
	if len(q.Waiting) >= mostWaiting {
		q.More++
		return
	}
	q.Waiting = append(q.Waiting, r)
}

// begin notes digests that there were not before: nothing is told of the time before.
func (s *State) begin(w *Lookout, now time.Time) {
	if s.Digests == nil {
		s.Digests = map[string]time.Time{}
	}
	for i := range w.scheme.Digests {
		d := &w.scheme.Digests[i]
		if _, known := s.Digests[d.Name]; !known {
			s.Digests[d.Name] = d.LatestDue(now, w.contents.Zone)
		}
	}
}

// mostCounters is how many accounts or addresses an alert remembers: somebody may come from as many
// addresses as she likes.
const mostCounters = 10_000

// forget drops what can have no effect any more.
func (s *State) forget(scheme *watch.Scheme, now time.Time) {
	withins := map[string]time.Duration{}
	for i := range scheme.Alerts {
		withins[scheme.Alerts[i].Name] = time.Duration(scheme.Alerts[i].Within)
	}
	maps.DeleteFunc(s.Rings, func(alert string, _ int64) bool { _, there := withins[alert]; return !there })
	for alert, counters := range s.Counters {
		within, there := withins[alert]
		if !there {
			delete(s.Counters, alert)
			continue
		}
		before := now.Add(-within)
		maps.DeleteFunc(counters, func(_ string, c *Counter) bool { return c.latest().Before(before) })
		if over := len(counters) - mostCounters; over > 0 {
			names := slices.SortedFunc(maps.Keys(counters), func(a, b string) int {
				return cmp.Or(counters[a].latest().Compare(counters[b].latest()), cmp.Compare(a, b))
			})
			for _, name := range names[:over] {
				delete(counters, name)
			}
		}
		if len(counters) == 0 {
			delete(s.Counters, alert)
		}
	}
	maps.DeleteFunc(s.Queues, func(_ string, q *Queue) bool { return len(q.Sent)+len(q.Waiting)+q.More == 0 })
	maps.DeleteFunc(s.Digests, func(name string, _ time.Time) bool {
		return !slices.ContainsFunc(scheme.Digests, func(d watch.Digest) bool { return d.Name == name })
	})
}

// Waits reports whether something waits to be told.
func (s *State) Waits() bool {
	for _, q := range s.Queues {
		if len(q.Waiting)+q.More > 0 {
			return true
		}
	}
	return false
}
