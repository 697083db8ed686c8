// Package replay judges a recorded history, as long as it may be, in flat memory:
// attempts as JSON, one a line; OCSF authentication events, one a line; entries of a door's journal;
// or tables in CSV.
package replay

import (
	"cmp"
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
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
	// Recorded says that the history may hold what a door's journal says (MayBeRecorded): entries, as
	// JSON lines, or events that were written of them. They are judged as they were recorded, with what
	// the store of the door knew.
	Recorded bool
	// Columns are set where the sources are tables in CSV (RFC 4180) with a header:
	// for each key of an attempt that is named otherwise in the header, its column.
	Columns Columns
	// Aside is called with each line that could not be read, in their order, from
	// one goroutine; nil is not called. Of a line that is too long the text is nil.
	Aside func(line BadLine, text []byte)
	// AsideHeader is called before Aside with the very bytes of the header, where the line is
	// one of a table; nil is not called.
	AsideHeader func(header []byte)
	// MostBad is how many of a hundred lines may be left out because they cannot be read,
	// before nothing can be concluded from the rest; 0 allows none.
	MostBad float64
}

// Report is what a history came to.
type Report struct {
	Basis
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
	Prompts float64 `json:"prompts" doc:"step-ups for each person and day with attempts"`
}

// Counts are how many attempts came to what.
type Counts struct {
	Grant  int64 `json:"grant" doc:"granted"`
	StepUp int64 `json:"step_up" doc:"asked for more"`
	Block  int64 `json:"block" doc:"blocked"`
}

// Add counts so many attempts that came to a verdict.
func (c *Counts) Add(v decide.Verdict, n int64) {
	switch v {
	case decide.Grant:
		c.Grant += n
	case decide.StepUp:
		c.StepUp += n
	default:
		c.Block += n
	}
}

// Join adds what was counted elsewhere.
func (c *Counts) Join(d Counts) {
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

// Compare puts the rule that asked and blocked more first.
func (r RuleCount) Compare(o RuleCount) int {
	return cmp.Or(cmp.Compare(o.Asked+o.Blocks, r.Asked+r.Blocks), strings.Compare(r.Policy, o.Policy), strings.Compare(r.Rule, o.Rule))
}

// Period is the stretch of time that attempts lie in.
type Period struct{ First, Last time.Time }

// Include widens the period to hold a moment.
func (p *Period) Include(t time.Time) { p.Join(Period{t, t}) }

// Join widens the period to hold another one; the zero Period holds nothing.
func (p *Period) Join(q Period) {
	if p.First.IsZero() || !q.First.IsZero() && q.First.Before(p.First) {
		p.First = q.First
	}
	if q.Last.After(p.Last) {
		p.Last = q.Last
	}
}

// RuleTally counts which rules asked and blocked, by policy and rule.
type RuleTally map[[2]string]*RuleCount

// Count counts the causes of a verdict that is no grant.
func (t RuleTally) Count(causes []decide.Cause, v decide.Verdict) {
	for _, c := range causes {
		name := c.Rule
		if c.Policy == "" {
			name = string(c.Code)
		}
		rule := t.of(c.Policy, name)
		if v == decide.StepUp {
			rule.Asked++
		} else {
			rule.Blocks++
		}
	}
}

func (t RuleTally) of(policy, rule string) *RuleCount {
	key := [2]string{policy, rule}
	if t[key] == nil {
		t[key] = &RuleCount{Policy: policy, Rule: rule}
	}
	return t[key]
}

// Join adds what another tally counted.
func (t RuleTally) Join(u RuleTally) {
	for _, r := range u {
		rule := t.of(r.Policy, r.Rule)
		rule.Asked += r.Asked
		rule.Blocks += r.Blocks
	}
}

// Sorted returns the rules, those that asked and blocked most first.
func (t RuleTally) Sorted() []RuleCount {
	rules := make([]RuleCount, 0, len(t))
	for _, r := range t {
		rules = append(rules, *r)
	}
	slices.SortFunc(rules, RuleCount.Compare)
	return rules
}

// Prompts returns how many step-ups a person saw on a day with attempts, on average,
// where there are so many such days of all persons together.
func Prompts(c Counts, personDays int64) float64 {
	if personDays == 0 {
		return 0
	}
	return float64(c.StepUp) / float64(personDays)
}

// BadLine is a line that could not be read.
type BadLine struct {
	File string `json:"file" doc:"the file"`
	Line int64  `json:"line" doc:"the line, counted from 1"`
	Text string `json:"text" doc:"what is wrong with it"`
}

// Run replays a history. Where the context ends before the history does, the
// report reports what was judged until then. The error is that of a source. Whether
// anything can be concluded from the report, its Basis says.
func Run(ctx context.Context, judge *engine.Judge, sources []Source, o Options) (*Report, error) {
	reports, err := Each(ctx, []*engine.Judge{judge}, sources, o)
	if reports == nil {
		return nil, err
	}
	return reports[0], err
}

// Each replays a history once for each judge, and reads it only once.
func Each(ctx context.Context, judges []*engine.Judge, sources []Source, o Options) ([]*Report, error) {
	judges, err := o.Judges(judges)
	if err != nil {
		return nil, err
	}
	var workers [][]*tally
	visitor := func() Visit {
		tallies := make([]*tally, len(judges))
		for i, judge := range judges {
			tallies[i] = newTally(judge)
		}
		workers = append(workers, tallies)
		return func(ctx context.Context, _ int64, filled []*attempt.Attempt) {
			for i, a := range filled {
				tallies[i].judgeOne(ctx, a)
			}
		}
	}
	reading, err := Walk(ctx, judges, sources, o, visitor)
	reports := make([]*Report, len(judges))
	for i, judge := range judges {
		total := newTally(judge)
		for _, tallies := range workers {
			total.join(tallies[i])
		}
		reports[i] = total.sum(reading.PersonDays[i])
		reports[i].Basis = reading.Basis(total.verdicts.All(), total.strangers, total.period, o)
	}
	return reports, err
}

// Trial is a history replayed with another value for something that the book says.
type Trial struct {
	Value  string  `json:"value" doc:"the value, as YAML"`
	Report *Report `json:"report" doc:"what the history came to with it"`
}

// Trials are the same history with one value after the other.
type Trials struct {
	Setting string  `json:"setting" doc:"what was changed, as a path of keys and names"`
	Trials  []Trial `json:"trials" doc:"each value with what came of it"`
}
