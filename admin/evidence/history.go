package evidence

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/journal"
)

// HistoryList is a List of attempts that nobody has decided on yet, judged by a book.
type HistoryList struct {
	replay.Basis
	List
}

// ListHistory judges a history and lists at most so many of the attempts that the filter leaves, the
// latest first, as if a door had decided on them. Numbers are those of the lines, from 0 on, and name
// attempts that have no ID.
func (f *Filter) ListHistory(
	ctx context.Context,
	judge *engine.Judge,
	sources []replay.Source,
	o replay.Options,
	most int,
) (*HistoryList, error) {
	found := &HistoryList{List: List{Entries: []Line{}}}
	var mu sync.Mutex
	var counted replay.Counter
	reading, err := judged(ctx, judge, sources, o, func(judge *engine.Judge) replay.Visit {
		var brief engine.Brief
		return func(ctx context.Context, number int64, filled []*attempt.Attempt) {
			a := filled[0]
			judge.Brief(ctx, a, &brief)
			var line *Line
			if f.leaves(a) {
				d := judge.Outline(ctx, a)
				if b := journal.BriefOf(d, a, brief.App, brief.Country); f.matches(b) {
					line = f.lineOfAttempt(number, a, d, b)
				}
			}
			mu.Lock()
			defer mu.Unlock()
			counted.Count(a, &brief)
			if line != nil {
				if found.Entries = append(found.Entries, *line); len(found.Entries) >= 4*most {
					found.cut(most)
				}
			}
		}
	})
	if reading == nil {
		return nil, err
	}
	found.cut(most)
	found.Basis = counted.Basis(reading, o)
	return found, err
}

// judged walks through a history with a judge that also knows what a journal says.
func judged(ctx context.Context, judge *engine.Judge, sources []replay.Source, o replay.Options,
	visitor func(*engine.Judge) replay.Visit) (*replay.Reading, error) {
	judges, err := o.Judges([]*engine.Judge{judge})
	if err != nil {
		return nil, err
	}
	return replay.Walk(ctx, judges, sources, o, func() replay.Visit { return visitor(judges[0]) })
}

// leaves reports whether the filter leaves an attempt, by its time, its account and its kind.
func (f *Filter) leaves(a *attempt.Attempt) bool {
	return (f.Kind == 0 || f.Kind == journal.Decision) && (f.Account == "" || f.Account == a.Account) &&
		(f.From.IsZero() || !a.At.Before(f.From)) && (f.To.IsZero() || a.At.Before(f.To))
}

// nameOf returns the ID of an attempt, and one made of its line where it has none.
func nameOf(number int64, a *attempt.Attempt) string {
	if a.ID == "" {
		return fmt.Sprintf("line-%d", number+1)
	}
	return strings.Clone(a.ID)
}

func (f *Filter) lineOfAttempt(number int64, a *attempt.Attempt, d *decide.Decision, b *journal.Brief) *Line {
	line := &Line{Number: number, ID: nameOf(number, a), At: a.At, Kind: journal.Decision, Account: strings.Clone(a.Account)}
	for _, text := range []*string{&b.App, &b.Country, &b.Device} {
		*text = strings.Clone(*text) // what an attempt holds is written over by the next
	}
	for i := range b.Proved {
		b.Proved[i] = strings.Clone(b.Proved[i])
	}
	line.decided(f, b)
	if len(d.Causes) > 0 {
		line.Text = d.Causes[0].Text
	}
	return line
}

// cut puts the list in order and leaves the latest.
func (l *HistoryList) cut(most int) {
	slices.SortFunc(l.Entries, func(a, b Line) int { return cmp.Or(b.At.Compare(a.At), cmp.Compare(b.Number, a.Number)) })
	if len(l.Entries) > most {
		l.Entries, l.More = l.Entries[:most], true
	}
}

// FindInHistory judges the attempt of an ID in a history, as ListHistory names it, and explains it as
// Read does.
func FindInHistory(ctx context.Context, judge *engine.Judge, sources []replay.Source, o replay.Options, id string) (*Decision, error) {
	var mu sync.Mutex
	var found *Decision
	_, err := judged(ctx, judge, sources, o, func(judge *engine.Judge) replay.Visit {
		return func(ctx context.Context, number int64, filled []*attempt.Attempt) {
			if nameOf(number, filled[0]) != id {
				return
			}
			a := *filled[0]
			d := &Decision{ID: strings.Clone(id), At: a.At, Decision: judge.Decide(ctx, &a), Attempt: &a}
			mu.Lock()
			defer mu.Unlock()
			if found == nil {
				found = d
			}
		}
	})
	if err == nil && found == nil {
		err = fmt.Errorf("no attempt of the history has the id %q", id)
	}
	return found, err
}
