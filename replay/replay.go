// Package replay judges a recorded history: attempts as JSON, one a line, as many
// as there are, in flat memory.
package replay

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
)

// Source is a part of the history, such as a file.
type Source struct {
	Name string
	Open func() (io.ReadCloser, error)
}

// Options say how a history is replayed.
type Options struct {
	// Workers is how many goroutines decode and judge; 0 is one for each processor.
	Workers int
	// AsRecorded leaves attempts as they stand. Else what an attempt lacks and the
	// history itself knows is filled in: the sign-in before, whether the device was
	// seen, the failures before.
	AsRecorded bool
	// Progress is called now and then, by many goroutines, with how many attempts
	// were judged since the last call; nil is not called.
	Progress func(attempts int64)
}

// Report is what a history came to.
type Report struct {
	Attempts int64     `json:"attempts" doc:"how many attempts were judged"`
	First    time.Time `json:"first,omitzero" doc:"the time of the earliest"`
	Last     time.Time `json:"last,omitzero" doc:"the time of the latest"`
	// Cut says that the replay was interrupted.
	Cut bool `json:"cut,omitzero" doc:"true where the replay was interrupted"`
	// Verdicts and the others count attempts.
	Verdicts  Counts       `json:"verdicts" doc:"how many attempts came to what"`
	Shadow    Counts       `json:"with_shadow" doc:"the same were the shadow policies live"`
	Rules     []RuleCount  `json:"rules" doc:"the rules that stopped or asked, those that did most first"`
	Apps      []NamedCount `json:"apps" doc:"by app, those with most attempts first"`
	Groups    []NamedCount `json:"groups" doc:"by group"`
	Countries []NamedCount `json:"countries" doc:"by country, as far as it is known"`
	Hours     [24]Counts   `json:"hours" doc:"by hour of the day, in the book's zone"`
	// Stopped are the accounts that were blocked most.
	Stopped []NamedCount `json:"stopped" doc:"the accounts that were blocked most"`
	// Prompts is how many step-ups a person saw on a day with attempts, on average.
	Prompts float64   `json:"prompts" doc:"step-ups for each person and day with attempts"`
	Bad     []BadLine `json:"bad" doc:"the first lines that could not be read"`
	BadAll  int64     `json:"bad_all" doc:"how many lines could not be read"`
}

// Counts are how many attempts came to what.
type Counts struct {
	Grant  int64 `json:"grant" doc:"granted"`
	StepUp int64 `json:"step_up" doc:"asked for more"`
	Block  int64 `json:"block" doc:"blocked"`
}

func (c *Counts) add(v decide.Verdict) {
	switch v {
	case decide.Grant:
		c.Grant++
	case decide.StepUp:
		c.StepUp++
	default:
		c.Block++
	}
}

func (c *Counts) join(d Counts) {
	c.Grant, c.StepUp, c.Block = c.Grant+d.Grant, c.StepUp+d.StepUp, c.Block+d.Block
}

// All is how many there are.
func (c Counts) All() int64 { return c.Grant + c.StepUp + c.Block }

// NamedCount counts attempts that have something in common.
type NamedCount struct {
	Name   string `json:"name" doc:"what they have in common"`
	Counts Counts `json:"counts" doc:"how many came to what"`
}

// RuleCount is how often a rule was the reason.
type RuleCount struct {
	// Policy is "" where no rule was the reason; then Rule is the code of the cause.
	Policy string `json:"policy" doc:"the policy; empty where no rule was the reason"`
	Rule   string `json:"rule" doc:"the rule, or the code of the cause where no rule was the reason"`
	Asked  int64  `json:"asked" doc:"how often it asked for more"`
	Blocks int64  `json:"blocks" doc:"how often it blocked, or what it asked for could not be met"`
}

// BadLine is a line that could not be read.
type BadLine struct {
	File string `json:"file" doc:"the file"`
	Line int64  `json:"line" doc:"the line, counted from 1"`
	Text string `json:"text" doc:"what is wrong with it"`
}

const (
	// batchLines is how many lines travel together, and mostBad how many bad ones are
	// kept.
	batchLines = 256
	mostBad    = 20
	// longestLine is how long a line may be, in bytes.
	longestLine = 1 << 20
	// mostWindow is how much memory a packed file may ask for, in bytes.
	mostWindow = 128 << 20
)

// batch is a run of lines of one source.
type batch struct {
	number int64
	source string
	first  int64
	text   []byte
	ends   []int
	// overlong are the lines, counted in the batch, that are too long to be read.
	overlong map[int]bool

	attempts []*attempt.Attempt
	bad      []BadLine
}

// Run replays a history. Where the context ends before the history does, the
// report tells of what was judged until then. The error is that of a source.
func Run(ctx context.Context, judge *decide.Judge, sources []Source, o Options) (*Report, error) {
	workers := cmp.Or(o.Workers, runtime.GOMAXPROCS(0))
	read, decoded, filled := make(chan *batch, workers), make(chan *batch, workers), make(chan *batch, workers)
	var failed error
	go func() {
		defer close(read)
		failed = readAll(ctx, sources, read)
	}()
	inParallel(workers, read, decoded, func(b *batch) { b.decode() })
	past := newPast(judge)
	go func() {
		defer close(filled)
		inOrder(decoded, func(b *batch) {
			for _, a := range b.attempts {
				past.see(a, !o.AsRecorded)
			}
			filled <- b
		})
	}()
	tallies := make(chan *tally, workers)
	var wait sync.WaitGroup
	for range workers {
		wait.Go(func() {
			t := newTally(judge)
			for b := range filled {
				t.judgeAll(b)
				if o.Progress != nil {
					o.Progress(int64(len(b.attempts)))
				}
			}
			tallies <- t
		})
	}
	wait.Wait()
	close(tallies)
	total := newTally(judge)
	for t := range tallies {
		total.join(t)
	}
	report := total.sum(past.personDays)
	report.Cut = ctx.Err() != nil
	return report, failed
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

// inOrder visits batches in the order in which they were read.
func inOrder(from <-chan *batch, visit func(*batch)) {
	early := map[int64]*batch{}
	next := int64(0)
	for b := range from {
		early[b.number] = b
		for early[next] != nil {
			visit(early[next])
			delete(early, next)
			next++
		}
	}
}

// readAll cuts the sources into batches of lines.
func readAll(ctx context.Context, sources []Source, to chan<- *batch) error {
	number := int64(0)
	var failed []error
	for _, s := range sources {
		if err := readSource(ctx, s, &number, to); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", s.Name, err))
		}
	}
	return errors.Join(failed...)
}

func readSource(ctx context.Context, s Source, number *int64, to chan<- *batch) error {
	file, err := s.Open()
	if err != nil {
		return err
	}
	defer file.Close()
	in, unpacked, err := unpack(file)
	if err != nil {
		return err
	}
	defer unpacked.Close()
	line := int64(1)
	b := &batch{number: *number, source: s.Name, first: line}
	send := func() {
		if len(b.ends) > 0 {
			to <- b
			*number++
		}
		b = &batch{number: *number, source: s.Name, first: line}
	}
	for ctx.Err() == nil {
		text, err := in.ReadSlice('\n')
		overlong := errors.Is(err, bufio.ErrBufferFull)
		if overlong {
			if b.overlong == nil {
				b.overlong = map[int]bool{}
			}
			b.overlong[len(b.ends)] = true
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
			text = nil
		}
		if len(text) > 0 || overlong || err == nil {
			b.text = append(b.text, text...)
			b.ends = append(b.ends, len(b.text))
			line++
		}
		if err != nil {
			send()
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if len(b.ends) == batchLines {
			send()
		}
	}
	send()
	return nil
}

// unpack reads a file that is plain, or packed with gzip (RFC 1952 §2.3.1) or
// Zstandard (RFC 8878 §3.1.1), which its first bytes tell.
func unpack(file io.Reader) (*bufio.Reader, io.Closer, error) {
	in := bufio.NewReaderSize(file, longestLine)
	var unpacked io.ReadCloser
	magic, _ := in.Peek(4)
	switch {
	case bytes.HasPrefix(magic, []byte{0x1f, 0x8b}):
		packed, err := gzip.NewReader(in)
		if err != nil {
			return nil, nil, err
		}
		unpacked = packed
	case bytes.Equal(magic, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		packed, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostWindow))
		if err != nil {
			return nil, nil, err
		}
		unpacked = packed.IOReadCloser()
	default:
		return in, io.NopCloser(in), nil
	}
	return bufio.NewReaderSize(unpacked, longestLine), unpacked, nil
}

// decode reads the attempts of a batch. What cannot be read is kept aside.
func (b *batch) decode() {
	start := 0
	b.attempts = make([]*attempt.Attempt, 0, len(b.ends))
	for i, end := range b.ends {
		text := bytes.TrimSpace(b.text[start:end])
		start = end
		var err error
		switch {
		case b.overlong[i]:
			err = fmt.Errorf("the line is longer than %d bytes", longestLine)
		case len(text) == 0:
			continue
		default:
			var a *attempt.Attempt
			if a, err = attempt.Read(bytes.NewReader(text)); err == nil {
				b.attempts = append(b.attempts, a)
				continue
			}
		}
		b.bad = append(b.bad, BadLine{b.source, b.first + int64(i), strings.TrimPrefix(err.Error(), "line 1, ")})
	}
}
