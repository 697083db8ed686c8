package engine

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
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
	w := &e.draft
	open := uint64(0)
	for i, window := range w.windows {
		if i < mostBits && e.judge.directory.InWindow(int(window), now) {
			open |= 1 << i
		}
	}
	w.granted = append(w.granted[:0], open)
	for i, t := range turns {
		switch {
		case t.window < 0:
			w.granted = w.granted[:0]
		case t.window < mostBits:
			open ^= 1 << t.window
		}
		if i+1 < len(turns) && turns[i+1].at.Equal(t.at) {
			continue // all that changes at one moment is judged together
		}
		// Between two dates the verdict depends on which windows are open alone, so what was
		// granted with the same ones open is granted again.
		if len(w.windows) <= mostBits && slices.Contains(w.granted, open) {
			continue
		}
		e.Moment = t.at
		e.findApplicable(inForce)
		if e.evaluate(false) != decide.Grant {
			return t.at
		}
		w.granted = append(w.granted, open)
	}
	return time.Time{}
}

// mostBits is how many windows have a bit each in the set of those that are open.
const mostBits = 64

// turn is a moment at which the verdict may change: a date, or the opening or closing of the
// window of that place in draft.windows.
type turn struct {
	at     time.Time
	window int
}

// aDate is the window of a turn that is none.
const aDate = -1

// turns returns the moments after now, and not after end, at which something
// that depends on the time may change, in order.
func (e *evaluation) turns(now, end time.Time) []turn {
	w := &e.draft
	w.turns, w.windows = w.turns[:0], w.windows[:0]
	add := func(t time.Time) {
		if t.After(now) && !t.After(end) {
			w.turns = append(w.turns, turn{t, aDate})
		}
	}
	look := func(tests []*condition.Test) {
		for _, t := range tests {
			if t.Key == KeyJoinedWithin {
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
		if e.applicableOf(int32(i)) != nil || p.mayApplyLater() {
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
	slices.SortFunc(w.turns, func(a, b turn) int { return a.at.Compare(b.at) })
	for i, window := range w.windows {
		w.merge(e.judge.directory.WindowTurns(int(window), now, end), i)
	}
	return w.turns
}

// merge adds the turns of a window, which are in order, to those that there are, which are too.
func (d *draft) merge(times []time.Time, window int) {
	before := d.turns
	merged := slices.Grow(d.mergedTurns[:0], len(before)+len(times))
	for len(before) > 0 || len(times) > 0 {
		if len(times) == 0 || len(before) > 0 && !times[0].Before(before[0].at) {
			merged, before = append(merged, before[0]), before[1:]
		} else {
			merged, times = append(merged, turn{times[0], window}), times[1:]
		}
	}
	d.turns, d.mergedTurns = merged, d.turns
}

// timelyTests collects the tests in conditions that depend on the time.
func timelyTests(nodes ...condition.Node) []*condition.Test {
	var tests []*condition.Test
	for _, node := range nodes {
		condition.Walk(node, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok && (t.Key == KeyDuring || t.Key == KeyJoinedWithin) {
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
