package decide

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
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
	var turns []time.Time
	add := func(t time.Time) {
		if t.After(now) && !t.After(end) {
			turns = append(turns, t)
		}
	}
	windows := map[int32]bool{}
	look := func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok {
			switch t.Key {
			case directory.KeyDuring:
				for _, w := range t.Numbers() {
					windows[w] = true
				}
			case directory.KeyJoinedWithin:
				if joined, known := e.Profile.JoinedUntil(directory.Span(t.Limit()), e.Attempt.At); known {
					add(joined)
				}
			}
		}
		return true
	}
	for i := range e.judge.policies {
		p := &e.judge.policies[i]
		if !e.judge.index.isAimed(e.App, int32(i)) {
			continue
		}
		add(p.from)
		add(p.until)
		condition.Walk(p.who, look)
		condition.Walk(p.liveFor, look)
		if e.heard(int32(i)) == nil && !e.mayApplyLater(p) {
			continue
		}
		for _, r := range p.rules {
			condition.Walk(r.when, look)
		}
	}
	for i := range e.judge.model.Signals {
		condition.Walk(e.judge.model.When(i), look)
	}
	for i := range e.judge.exemptions {
		x := &e.judge.exemptions[i]
		add(x.until)
		condition.Walk(x.who, look)
		condition.Walk(x.when, look)
	}
	for i := range e.judge.rollouts {
		add(e.judge.rollouts[i].deadline(e.Profile, e.Attempt.At))
		condition.Walk(e.judge.rollouts[i].who, look)
	}
	for w := range windows {
		for _, t := range e.judge.directory.WindowTurns(int(w), now, end) {
			add(t)
		}
	}
	slices.SortFunc(turns, time.Time.Compare)
	return slices.Compact(turns)
}

// mayApplyLater reports whether a policy that does not apply now depends on the time
// for that.
func (e *evaluation) mayApplyLater(p *policy) bool {
	timely := !p.from.IsZero()
	condition.Walk(p.who, func(n condition.Node) bool {
		t, ok := n.(*condition.Test)
		timely = timely || ok && t.Key == directory.KeyJoinedWithin
		return true
	})
	return timely || p.liveFor != nil
}
