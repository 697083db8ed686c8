// Package lookout says what is to be told by the section `watch` of a book: which alerts ring, for whom,
// and which digests are due. It is told of decisions and of the time, has no clock and sends nothing, and
// remembers in a [State] that the caller keeps.
package lookout

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/watch"
)

// Lookout tells by a scheme what is to be told. It does not change; what it remembers is in a State. Its
// methods are for one goroutine at a time.
type Lookout struct {
	scheme   *watch.Scheme
	judge    *engine.Judge
	contents *engine.Directory
	alerts   []condition.Node
	quiet    condition.Node
	room     engine.Room
	// told are the facts that conditions look at, and made the decision that they are of.
	told watch.Facts
	made made
	asks attempt.Attempt
}

// New makes a lookout. Conditions are bound to the names of the judge, whose rulebook has them as
// Watched, and accounts looked up where the judge does. The error names what a condition refers to and
// the judge does not have.
func New(judge *engine.Judge, scheme *watch.Scheme) (*Lookout, error) {
	w := &Lookout{scheme: scheme, judge: judge, contents: judge.Directory()}
	var wrong []error
	scheme.Check(func(p watch.Problem) { wrong = append(wrong, errors.New(p.Text)) })
	for i := range scheme.Alerts {
		a := &scheme.Alerts[i]
		if a.When == nil {
			wrong = append(wrong, fmt.Errorf("alert %s: `when` is missing: say which decisions count", a.Name))
			continue
		}
		if err := check(a.When); err != nil {
			wrong = append(wrong, fmt.Errorf("alert %s: %w", a.Name, err))
			continue
		}
		bound, err := judge.Bind("alert "+a.Name, a.When)
		if err != nil {
			wrong = append(wrong, fmt.Errorf("alert %s: %w", a.Name, err))
		}
		w.alerts = append(w.alerts, bound)
	}
	if scheme.Quiet != "" {
		var err error
		w.quiet, err = judge.Bind("watch", &condition.Test{Key: engine.KeyDuring, Values: []string{scheme.Quiet}})
		if err != nil {
			wrong = append(wrong, fmt.Errorf("watch: quiet: %w", err))
		}
	}
	w.told = watch.Facts{Facts: engine.Facts{Directory: w.contents, Attempt: &w.asks, Made: &w.made}, Kept: &w.made}
	return w, errors.Join(wrong...)
}

// alertSubjects are the subjects of keys that an alert may have.
const alertSubjects = condition.AboutAccount | condition.AboutApp | condition.AboutDecision

// check reports a test on what is not kept of a decision.
func check(node condition.Node) (wrong error) {
	condition.Walk(node, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key.IsValid() && t.Key.About()&alertSubjects == 0 {
			wrong = fmt.Errorf("%s: the key %s asks for what is not kept of a decision", t.At, t.Key)
		}
		return wrong == nil
	})
	return wrong
}

// Decision is a decision of the journal.
type Decision struct {
	// Number is its place in the journal, At when it was decided, and Account whose attempt it was.
	Number  int64
	At      time.Time
	Account string
	Brief   *journal.Brief
}

// made is a decision as conditions look at it.
type made struct {
	brief   *journal.Brief
	country attempt.CountryCode
}

// Verdicts implements watch.Kept.
func (m *made) Verdicts() (was, withShadow decide.Verdict) {
	return m.brief.Verdict, m.brief.WithShadow
}

// Causes implements watch.Kept.
func (m *made) Causes(visit func(code decide.CauseCode, policy, rule string)) {
	for _, c := range m.brief.Causes {
		visit(c.Code, c.Policy, c.Rule)
	}
}

// Excused implements watch.Kept.
func (m *made) Excused() []string { return m.brief.Excused }

// LetIn implements watch.Kept.
func (m *made) LetIn() []string { return m.brief.Due }

// Noticed implements engine.Made.
func (m *made) Noticed(signal string) bool { return slices.Contains(m.brief.Signals, signal) }

// Risk implements engine.Made.
func (m *made) Risk() (score int, level directory.Level) { return m.brief.Score, m.brief.Level }

// Country implements engine.Made.
func (m *made) Country() attempt.CountryCode { return m.country }

// look sets what conditions look at, but for the account.
func (w *Lookout) look(d *Decision) {
	w.made = made{d.Brief, attempt.CountryCode(d.Brief.Country)}
	f := &w.told
	f.HasProfile, f.Profile = false, nil
	f.Moment, f.At = d.At, d.At
	w.asks = attempt.Attempt{At: d.At, Account: d.Account, App: d.Brief.App, Action: d.Brief.Action}
	app, known := w.contents.FindApp(d.Brief.App)
	if f.HasApp, f.App = true, app; !known {
		f.App = -1
	}
	f.Address, f.Place = d.Brief.IP, nil
	if d.Brief.IP.IsValid() {
		f.Place = w.contents.Place(d.Brief.IP)
	}
}

// counts reports whether a decision is one that an alert counts: its condition holds, or nobody knows.
// The account is looked up once a condition asks for it. One that nobody could find out about is unknown.
func (w *Lookout) counts(ctx context.Context, alert int, d *Decision) bool {
	holds := condition.Eval(w.alerts[alert], &w.told)
	if holds != condition.Unknown || w.told.HasProfile {
		return holds != condition.False
	}
	profile, err := w.contents.Lookup(ctx, w.judge.Accounts(), d.Account, d.At, &w.room)
	if err != nil {
		return true
	}
	w.told.HasProfile, w.told.Profile = true, profile
	return condition.Eval(w.alerts[alert], &w.told) != condition.False
}

// Take takes decisions, in the order of the journal, into what is remembered. What rings is told by the
// next Tell. It costs some 100 ns for an alert and a decision, and a look-up of the account where its
// condition asks for that.
func (w *Lookout) Take(ctx context.Context, s *State, decisions []Decision) {
	for i := range decisions {
		d := &decisions[i]
		w.look(d)
		for n := range w.scheme.Alerts {
			if w.counts(ctx, n, d) {
				w.count(s, &w.scheme.Alerts[n], d)
			}
		}
	}
}

// countedBy returns what of a decision an alert counts apart.
func countedBy(a *watch.Alert, d *Decision) string {
	switch a.By {
	case watch.ByAccount:
		return d.Account
	case watch.ByApp:
		return d.Brief.App
	case watch.ByAddress:
		if d.Brief.IP.IsValid() {
			return directory.Plain(d.Brief.IP).String()
		}
		return "" // which is the address that nobody knows
	}
	return ""
}

// count counts a decision for an alert, which rings where it is the last that it takes.
func (w *Lookout) count(s *State, a *watch.Alert, d *Decision) {
	within := time.Duration(a.Within)
	of := countedBy(a, d)
	c := new(Counter)
	if within > 0 {
		c = s.counter(a.Name, of)
	}
	if !c.Rang.IsZero() && d.At.Before(c.Rang.Add(within)) {
		c.Since++
		return // it rang, and this is of the same
	}
	c.Lately = slices.DeleteFunc(c.Lately, func(x Noted) bool { return !x.At.After(d.At.Add(-within)) })
	c.Lately = append(c.Lately, Noted{Number: d.Number, At: d.At, Account: d.Account, App: d.Brief.App, IP: d.Brief.IP,
		Verdict: d.Brief.Verdict.String(), Reason: reasonOf(d.Brief)})
	if len(c.Lately) < a.Needs() {
		return
	}
	ring := Ring{Alert: a.Name, Of: of, Urgent: a.Urgent, Count: len(c.Lately), Before: c.Since, First: c.Lately[0].At, Last: d.At}
	accounts := map[string]bool{}
	for i := range c.Lately {
		accounts[c.Lately[i].Account] = true
	}
	ring.Accounts = len(accounts)
	ring.Latest = slices.Clone(c.Lately[max(0, len(c.Lately)-mostShown):])
	c.Rang, c.Lately, c.Since = d.At, nil, 0
	for _, to := range slices.Compact(slices.Sorted(slices.Values(a.To))) {
		s.queue(to).add(ring)
	}
	if s.Rings == nil {
		s.Rings = map[string]int64{}
	}
	s.Rings[a.Name]++
}

// mostShown is how many decisions a ring shows.
const mostShown = 5

// reasonOf says in a few words what is behind a verdict.
func reasonOf(b *journal.Brief) string {
	if len(b.Causes) == 0 {
		return ""
	}
	if c := b.Causes[0]; c.Rule != "" {
		return c.Policy + "/" + c.Rule
	}
	return strings.ReplaceAll(string(b.Causes[0].Code), "_", " ")
}

// Post is one letter to one recipient: some rings, or a digest.
type Post struct {
	To string
	// Rings are what rang, none in a digest, and More how many rang besides.
	Rings []Ring
	More  int
	// Quiet says that they waited for the end of quiet hours, and Bounded that there were more of them
	// than a recipient gets letters in an hour.
	Quiet, Bounded bool
	// Digest is the name of a digest, with the stretch that it is about.
	Digest      string
	From, Until time.Time
}

// Tell returns what is to be told now, and remembers that it was: the caller keeps the state and the
// letters in one step, so that nothing is told twice or lost.
func (w *Lookout) Tell(s *State, now time.Time) []Post {
	s.begin(w, now)
	quiet := w.isQuiet(now)
	var posts []Post
	for _, to := range slices.Sorted(maps.Keys(s.Queues)) {
		posts = append(posts, w.tellOf(to, s.Queues[to], now, quiet)...)
	}
	zone := w.contents.Zone
	for i := range w.scheme.Digests {
		d := &w.scheme.Digests[i]
		due := d.LatestDue(now, zone)
		last := s.Digests[d.Name]
		if !due.After(last) {
			continue
		}
		for _, name := range slices.Compact(slices.Sorted(slices.Values(d.To))) {
			posts = append(posts, Post{To: name, Digest: d.Name, From: last, Until: due})
		}
		s.Digests[d.Name] = due
	}
	s.forget(w.scheme, now)
	return posts
}

// isQuiet reports whether alerts wait. Where nobody knows, they do not.
func (w *Lookout) isQuiet(now time.Time) bool {
	return w.quiet != nil && condition.Eval(w.quiet, &engine.Facts{Directory: w.contents, Moment: now, At: now}) == condition.True
}

// tellOf returns the letters to one recipient: one for each ring, while there are letters left in the
// hour, and the last of them sums up what is left. What waited for the end of quiet hours is one letter.
func (w *Lookout) tellOf(to string, q *Queue, now time.Time, quiet bool) (posts []Post) {
	q.Sent = slices.DeleteFunc(q.Sent, func(at time.Time) bool { return !at.After(now.Add(-time.Hour)) })
	ready, wait := q.Waiting, []Ring(nil)
	if quiet {
		ready, wait = nil, nil
		for _, r := range q.Waiting {
			if r.Urgent {
				ready = append(ready, r)
			} else {
				wait = append(wait, r)
			}
		}
	}
	wasQuiet := q.WasQuiet && !quiet
	for left := w.scheme.LettersAnHour() - len(q.Sent); left > 0 && len(ready) > 0; left-- {
		n := 1
		if wasQuiet || left == 1 {
			n = len(ready)
		}
		post := Post{To: to, Rings: ready[:n:n], Quiet: wasQuiet, Bounded: n > 1 && !wasQuiet}
		if ready = ready[n:]; len(ready) == 0 && !quiet {
			post.More, q.More = q.More, 0
		}
		posts, q.Sent, wasQuiet = append(posts, post), append(q.Sent, now), false
	}
	q.WasQuiet = q.WasQuiet && quiet || len(wait) > 0 || wasQuiet && len(ready) > 0
	q.Waiting = append(slices.Clip(ready), wait...)
	return posts
}
