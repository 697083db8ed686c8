package replay

import (
	"slices"
	"sync"

	"github.com/briskwarden/briskwarden/attempt"
)

const (
	// batchLines is how many lines travel together, and mostBad how many bad ones are
	// told.
	batchLines = 256
	mostBad    = 20
)

// batch is a run of lines of one source, and what became of them. Batches are used
// again, so that a long history leaves little behind.
type batch struct {
	number int64
	source string
	// start counts the lines of the history before this batch, and first is the
	// number of its first line in the source.
	start, first int64
	// text holds the lines, each up to its end.
	text []byte
	ends []int
	// rows are the records of a table, in place of text, and places their lines.
	rows   []row
	header *header
	// overlong are the lines, counted in the batch, that are too long to be read.
	overlong []int

	// lanes hold the attempts once for each judge, and numbers which lines of the
	// history they are.
	lanes   [][]attempt.Attempt
	numbers []int64
	// recorded is what a journal says of each attempt, nil where it is of none.
	recorded []*Recorded
	filled   []*attempt.Attempt
	bad      []badLine
	skipped  int64
}

// badLine is a line that could not be read, with its text as far as it was kept.
type badLine struct {
	BadLine
	text []byte
}

var batches = sync.Pool{New: func() any { return &batch{lanes: make([][]attempt.Attempt, 1)} }}

// newBatch returns an empty batch.
func newBatch(number int64, source string, start, first int64) *batch {
	b := batches.Get().(*batch)
	for i := range b.lanes {
		clear(b.lanes[i]) // lets go of what the attempts point to
		b.lanes[i] = b.lanes[i][:0]
	}
	*b = batch{
		number:   number,
		source:   source,
		start:    start,
		first:    first,
		text:     b.text[:0],
		ends:     b.ends[:0],
		rows:     b.rows[:0],
		overlong: b.overlong[:0],
		lanes:    b.lanes,
		numbers:  b.numbers[:0],
		recorded: b.recorded[:0],
		filled:   b.filled,
		bad:      b.bad[:0],
	}
	return b
}

// free lets the batch be used again.
func (b *batch) free() { batches.Put(b) }

// lines is how many lines, or records, the batch has.
func (b *batch) lines() int { return max(len(b.ends), len(b.rows)) }

// line returns one of the lines.
func (b *batch) line(i int) []byte {
	start := 0
	if i > 0 {
		start = b.ends[i-1]
	}
	return b.text[start:b.ends[i]]
}

// next makes room for an attempt, which is empty.
func (b *batch) next() *attempt.Attempt {
	lane := &b.lanes[0]
	*lane = slices.Grow(*lane, 1)[:len(*lane)+1]
	b.recorded = append(b.recorded, nil)
	return &(*lane)[len(*lane)-1]
}

// takeBack gives up the room that next made, and leaves it empty.
func (b *batch) takeBack() {
	last := len(b.lanes[0]) - 1
	b.lanes[0][last] = attempt.Attempt{}
	b.lanes[0], b.recorded = b.lanes[0][:last], b.recorded[:last]
}

// spread copies the attempts into so many lanes.
func (b *batch) spread(lanes int) {
	for len(b.lanes) < lanes {
		b.lanes = append(b.lanes, nil)
	}
	for i := 1; i < lanes; i++ {
		b.lanes[i] = append(b.lanes[i][:0], b.lanes[0]...)
	}
	b.filled = slices.Grow(b.filled[:0], lanes)[:lanes]
}

// at returns one attempt in all lanes, until it is called again.
func (b *batch) at(i int) []*attempt.Attempt {
	for lane := range b.filled {
		b.filled[lane] = &b.lanes[lane][i]
	}
	return b.filled
}

// report notes what was not read.
func (b *batch) report(r *Reading, o Options) {
	r.Skipped += b.skipped
	r.BadAll += int64(len(b.bad))
	for _, bad := range b.bad {
		if len(r.Bad) < mostBad {
			r.Bad = append(r.Bad, bad.BadLine)
		}
		if o.Aside != nil {
			if b.header != nil && o.AsideHeader != nil {
				o.AsideHeader(b.header.text)
			}
			o.Aside(bad.BadLine, bad.text)
		}
	}
}
