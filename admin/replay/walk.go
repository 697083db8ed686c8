package replay

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// Visit looks at one attempt of a history. Filled holds it once for each judge,
// filled in from what the history knows by that judge's book; what it points to
// must not be kept, but an attempt may be copied. The judges are asked with ctx, in which is what a
// journal says of the attempt (Supply). Number counts the lines of the
// history, so that what many goroutines visit can be put in order.
type Visit func(ctx context.Context, number int64, filled []*attempt.Attempt)

// Reading is what a history holds beside its attempts.
type Reading struct {
	// Bad are the first lines that could not be read, and BadAll how many there are.
	Bad    []BadLine
	BadAll int64
	// Skipped are the records that are in order and no attempts, such as a log-off.
	Skipped int64
	// PersonDays counts for each judge the days on which somebody made attempts, in
	// the zone of its book.
	PersonDays []int64
	// Cut says that the context ended before the history did.
	Cut bool
	// Broken are the sources that could not be read to their end, each with the reason.
	Broken []string
}

// mostPerProcessor is how many goroutines there may be for each processor. More only
// take memory.
const mostPerProcessor = 4

// Check reports what makes no sense of the options, before anything is read.
func (o *Options) Check() error {
	if most := mostPerProcessor * runtime.GOMAXPROCS(0); o.Workers < 0 || o.Workers > most {
		return fmt.Errorf(
			"a history is read by 1 to %d goroutines on this machine (0 takes one for each processor), not by %d",
			most,
			o.Workers,
		)
	}
	return nil
}

// Walk reads a history and shows each attempt to one of the visits. Each goroutine has
// a visit of its own. Where the context ends before the history does, the reading
// reports what was seen until then. The reading is never nil. The error is that of a
// source, or says that the number of goroutines makes no sense.
func Walk(ctx context.Context, judges []*engine.Judge, sources []Source, o Options, visitor func() Visit) (*Reading, error) {
	if err := o.Check(); err != nil {
		return &Reading{Bad: []BadLine{}, PersonDays: make([]int64, len(judges))}, err
	}
	workers := cmp.Or(o.Workers, runtime.GOMAXPROCS(0))
	read, decoded, filled := make(chan *batch, workers), make(chan *batch, workers), make(chan *batch, workers)
	var failed []error
	go func() {
		defer close(read)
		failed = readAll(ctx, sources, o, read)
	}()
	inParallel(workers, read, decoded, newDecoder(judges, &o).decode)
	reading := &Reading{Bad: []BadLine{}}
	go func() {
		defer close(filled)
		fillInOrder(judges, o, reading, decoded, filled)
	}()
	var wait sync.WaitGroup
	for range workers {
		visit := visitor()
		wait.Go(func() {
			for b := range filled {
				for i := range b.lanes[0] {
					asking := context.Background()
					if r := b.recorded[i]; r != nil {
						asking = r.With(asking)
					}
					visit(asking, b.numbers[i], b.at(i))
				}
				if o.Progress != nil {
					o.Progress(int64(len(b.lanes[0])))
				}
				b.free()
			}
		})
	}
	wait.Wait()
	reading.Cut = ctx.Err() != nil
	for _, err := range failed {
		reading.Broken = append(reading.Broken, err.Error())
	}
	return reading, errors.Join(failed...)
}

// inParallel works on batches by so many goroutines, and closes the channel behind
// the last.
func inParallel(workers int, from <-chan *batch, to chan<- *batch, work func(*batch)) {
	var wait sync.WaitGroup
	for range workers {
		wait.Go(func() {
			for b := range from {
				work(b)
				to <- b
			}
		})
	}
	go func() {
		wait.Wait()
		close(to)
	}()
}

// fillInOrder fills batches in for each judge, in the order in which they were
// read, and notes in the reading what is not about attempts.
func fillInOrder(judges []*engine.Judge, o Options, reading *Reading, from <-chan *batch, to chan<- *batch) {
	pasts := make([]*past, len(judges))
	for i, judge := range judges {
		pasts[i] = newPast(judge)
	}
	early := map[int64]*batch{}
	next := int64(0)
	for b := range from {
		early[b.number] = b
		for ; early[next] != nil; next++ {
			b := early[next]
			delete(early, next)
			b.report(reading, o)
			b.spread(len(judges))
			for lane, p := range pasts {
				for i := range b.lanes[lane] {
					p.see(&b.lanes[lane][i], !o.AsRecorded && b.recorded[i] == nil)
				}
			}
			to <- b
		}
	}
	for _, p := range pasts {
		reading.PersonDays = append(reading.PersonDays, p.personDays)
	}
}
