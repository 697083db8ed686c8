package engine

import (
	"bytes"
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
)

// draft is what a decision is written with: lists that are needed while it is put
// together, which the next decision uses again, and memory that is the decision's own,
// taken in a few pieces rather than one for each name and sentence.
type draft struct {
	// entries are the demands as the decision lists them, of has for each need its
	// number there, and byDemand for each demand that number plus one. The last of
	// byDemand is for any proof. order has the numbers in the order of the decision.
	entries             []listedDemand
	of, byDemand, order []int32
	// asked are the sources of demands, in the order in which they are found.
	asked []sourceOf
	// assurances are those asked for, and replaced the policies that replace each
	// applicable were the shadows live.
	assurances, replaced []int32
	// turns are the moments at which the verdict may change, windows those that were looked at
	// for them, and granted the sets of open windows with which it was granted. mergedTurns is room
	// for the next turns.
	turns, mergedTurns []turn
	windows            []int32
	granted            []uint64

	// text holds the causes, each to its end in causes, and then the reasons.
	text    []byte
	causes  []int
	pending []pendingReason
	ends    []int
	// words holds open demands in words, and those of each outcome joined.
	words     []byte
	ofOutcome []span
	listed    []span

	// names, of methods and then the reasons, and withins are the decision's own. Most
	// decisions need no more than there is room for beside them.
	names   []string
	withins []decide.Within
	// sources, demands and ways are what is left of the room for them.
	sources []decide.Source
	demands []decide.Demand
	ways    [][]decide.Demand
}

// listedDemand is a demand as the decision lists it: once, with all that ask for it.
type listedDemand struct {
	need          need
	sources, rank int
	from          []decide.Source
	// words are those of an open demand, empty where it is met or left out.
	words span
}

// sourceOf is what asks for a demand, all by their numbers, none where there is no such.
type sourceOf struct{ entry, policy, rule, assurance int32 }

// span bounds a part of draft.words.
type span struct{ start, end int }

// pendingReason is a reason of a policy that has been written into draft.text, to its end.
type pendingReason struct{ policy, end int }

// start makes the draft ready for the next decision, and returns that, with no more in
// it than lists that are empty.
func (w *draft) start() *decide.Decision {
	clear(w.entries) // whose sources are the last decision's
	w.entries, w.asked = w.entries[:0], w.asked[:0]
	w.text, w.causes, w.pending, w.words = w.text[:0], w.causes[:0], w.pending[:0], w.words[:0]
	kept := new(struct {
		decide.Decision
		names   [24]string
		withins [4]decide.Within
		causes  [1]decide.Cause
		signals [1]decide.SignalTrace
		ways    [2][]decide.Demand
		sources [4]decide.Source
	})
	kept.Reset()
	w.names, w.withins, w.sources, w.demands = kept.names[:0], kept.withins[:0], kept.sources[:], nil
	kept.Causes, kept.Risk.Signals, w.ways = kept.causes[:0], kept.signals[:0], kept.ways[:]
	return &kept.Decision
}

// take returns so much of the room that is left, or new room where that is too little. A
// caller that appends to what it gets appends to a copy.
func take[T any](left *[]T, n int) (taken []T) {
	if n > len(*left) {
		return make([]T, n)
	}
	taken, *left = (*left)[:n:n], (*left)[n:]
	return taken
}

// begin makes room for the demands of an evaluation.
func (w *draft) begin(e *evaluation) {
	w.of = slices.Grow(w.of[:0], len(e.needs))[:len(e.needs)]
	w.byDemand = slices.Grow(w.byDemand[:0], len(e.judge.demands)+1)[:len(e.judge.demands)+1]
	w.ofOutcome = slices.Grow(w.ofOutcome[:0], len(e.judge.outcomes))[:len(e.judge.outcomes)]
	clear(w.byDemand)
	clear(w.ofOutcome)
}

// namesFrom returns the names that were added since there were so many. A caller that
// appends to them appends to a copy.
func (w *draft) namesFrom(first int) []string { return w.names[first:len(w.names):len(w.names)] }

// roomForNames returns an empty list with room for so many names of the decision's own.
func (w *draft) roomForNames(n int) []string {
	first := len(w.names)
	w.names = slices.Grow(w.names, n)[:first+n]
	return w.names[first:first:len(w.names)]
}

// addNames returns names of the decision's own.
func (w *draft) addNames(names []string) []string {
	first := len(w.names)
	w.names = append(w.names, names...)
	return w.namesFrom(first)
}

// keptReasons returns reasons that are kept for an app, as the decision's own.
func (w *draft) keptReasons(kept *appTrace) []string {
	if kept == nil {
		return nil
	}
	return w.addNames(kept.reasons)
}

// within returns a place that holds a length of time.
func (w *draft) within(length decide.Within) *decide.Within {
	w.withins = append(w.withins, length)
	return &w.withins[len(w.withins)-1]
}

// methodNames returns the names of a set of methods, sorted.
func (e *evaluation) methodNames(set MethodSet) []string {
	first := len(e.draft.names)
	e.draft.names = e.judge.appendMethodNames(e.draft.names, set)
	return e.draft.namesFrom(first)
}

// appendMethodNames appends the names of a set of methods, sorted.
func (j *Judge) appendMethodNames(names []string, set MethodSet) []string {
	for _, i := range j.methodOrder {
		if set.Has(i) {
			names = append(names, j.directory.Methods()[i].Name)
		}
	}
	return names
}

// write appends to the text.
func (w *draft) write(parts ...string) {
	for _, part := range parts {
		w.text = append(w.text, part...)
	}
}

// writeReasons writes reasons, each once, behind a semicolon.
func (w *draft) writeReasons(reasons []condition.Reason) {
	for i := range reasons {
		if slices.Contains(reasons[:i], reasons[i]) {
			continue
		}
		w.write("; ")
		w.text = reasons[i].Append(w.text)
	}
}

// word puts something into words.
func (w *draft) word(appendTo func([]byte) []byte) span {
	start := len(w.words)
	w.words = appendTo(w.words)
	return span{start, len(w.words)}
}

// list adds words to those listed, unless they are empty or there already.
func (w *draft) list(words span) {
	same := func(other span) bool {
		return bytes.Equal(w.words[other.start:other.end], w.words[words.start:words.end])
	}
	if words.end > words.start && !slices.ContainsFunc(w.listed, same) {
		w.listed = append(w.listed, words)
	}
}

// handOut gives the causes and policies the texts that were written for them: all are
// parts of one text, for a decision has many.
func (w *draft) handOut(d *decide.Decision) {
	text := string(w.text)
	start := 0
	for i, end := range w.causes {
		d.Causes[i].Text, start = text[start:end], end
	}
	w.names = slices.Grow(w.names, len(w.pending))
	for i := 0; i < len(w.pending); {
		policy, first := w.pending[i].policy, len(w.names)
		for ; i < len(w.pending) && w.pending[i].policy == policy; i++ {
			w.names, start = append(w.names, text[start:w.pending[i].end]), w.pending[i].end
		}
		d.Policies[policy].Why = w.namesFrom(first)
	}
}
