package decide

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
)

// farthestLook is how far ahead a granted session is looked at.
const farthestLook = 40 * 24 * time.Hour

// grantedUntil returns the first moment at which the attempt, repeated, would no
// longer be granted because a window or a date has passed; the zero Time where
// there is none in sight. Ages of proofs and reports stand still for this. The
// evaluation must have granted the attempt; it is changed by the look ahead.
func (e *evaluation) grantedUntil() time.Time {
	horizon := farthestLook
	if e.limits.lasts > 0 && e.limits.lasts < horizon {
		horizon = e.limits.lasts
	}
	now := e.Attempt.At
	turns := e.turns(now, now.Add(horizon))
	defer func() { e.Moment = now }()
	for _, t := range turns {
		e.Moment = t
		e.hear(inForce)
		if e.evaluate(false) != Grant {
			return t
		}
	}
	return time.Time{}
}

// turns returns the moments after now, and not after end, at which something
// that depends on the time may change, in order.
func (e *evaluation) turns(now, end time.Time) []time.Time {
	w := &e.draft
	w.turns, w.windows = w.turns[:0], w.windows[:0]
	add := func(t time.Time) {
		if t.After(now) && !t.After(end) {
			w.turns = append(w.turns, t)
		}
	}
	look := func(tests []*condition.Test) {
		for _, t := range tests {
			if t.Key == facts.KeyJoinedWithin {
				if joined, known := e.Profile.JoinedUntil(directory.Span(t.Limit()), e.Attempt.At); known {
					add(joined)
				}
				continue
			}
			for _, window := range t.Numbers() {
				if !slices.Contains(w.windows, window) {
					w.windows = append(w.windows, window)
				}
			}
		}
	}
	for i := range e.judge.policies {
		p := &e.judge.policies[i]
		if !e.judge.index.isAimed(e.App, int32(i)) {
			continue
		}
		add(p.from)
		add(p.until)
		look(p.timely)
		if e.heard(int32(i)) != nil || p.mayApplyLater() {
			look(p.timelyRules)
		}
	}
	look(e.judge.timely)
	for i := range e.judge.exemptions {
		add(e.judge.exemptions[i].until)
	}
	for i := range e.judge.rollouts {
		add(e.judge.rollouts[i].deadline(e.Profile, e.Attempt.At))
	}
	for _, window := range w.windows {
		for _, t := range e.judge.directory.WindowTurns(int(window), now, end) {
			add(t)
		}
	}
	slices.SortFunc(w.turns, time.Time.Compare)
	return slices.Compact(w.turns)
}

// timelyTests collects the tests in conditions that depend on the time.
func timelyTests(nodes ...condition.Node) []*condition.Test {
	var tests []*condition.Test
	for _, node := range nodes {
		condition.Walk(node, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok && (t.Key == facts.KeyDuring || t.Key == facts.KeyJoinedWithin) {
				tests = append(tests, t)
			}
			return true
		})
	}
	return tests
}

// mayApplyLater reports whether a policy that does not apply now depends on the time
// for that.
func (p *policy) mayApplyLater() bool {
	return !p.from.IsZero() || len(p.timely) > 0
}
