package engine

import (
	"slices"
	"sort"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/directory"
)

// compiledWindow is a window ready to be asked.
type compiledWindow struct {
	days [7]bool
	// everyDay says that neither days nor dates limit it.
	everyDay bool
	dates    []directory.DateRange
	from, to directory.Clock
	zone     *time.Location
	kept     *keptTurns
}

// keptTurns remembers when a window turns in the time to come, for many decisions in a row ask
// that of about the same moment.
type keptTurns struct {
	list atomic.Pointer[turnList]
	// missed is the last moment, in seconds, for which there was no list.
	missed atomic.Int64
}

// turnList has all turns after a moment, and not after another.
type turnList struct {
	after, end time.Time
	turns      []time.Time
}

// keptAhead is how far ahead turns are remembered.
const keptAhead = 90 * 24 * time.Hour

// between returns the turns after now, and not after end. A list is made once two moments of the
// same day were asked for, so that moments far apart cost no list each.
func (w *compiledWindow) between(now, end time.Time) []time.Time {
	if end.Sub(now) > keptAhead/2 {
		return w.turns(now, end)
	}
	list := w.kept.list.Load()
	if list == nil || now.Before(list.after) || end.After(list.end) {
		if apart := now.Unix() - w.kept.missed.Swap(now.Unix()); apart < -24*60*60 || apart > 24*60*60 {
			return w.turns(now, end)
		}
		list = &turnList{after: now, end: now.Add(keptAhead)}
		list.turns = w.turns(list.after, list.end)
		w.kept.list.Store(list)
	}
	first := sort.Search(len(list.turns), func(i int) bool { return list.turns[i].After(now) })
	last := first
	for last < len(list.turns) && !list.turns[last].After(end) {
		last++
	}
	return list.turns[first:last:last]
}

func compileWindow(w *directory.Window, zone *time.Location) compiledWindow {
	c := compiledWindow{dates: w.Dates, from: 0, to: directory.EndOfDay, zone: zone, kept: new(keptTurns)}
	if w.Zone != nil {
		c.zone = w.Zone
	}
	if w.From != nil {
		c.from = *w.From
	}
	if w.To != nil {
		c.to = *w.To
	}
	for day := range c.days {
		c.days[day] = len(w.Days) == 0 || slices.Contains(w.Days, directory.Weekday(day))
	}
	c.everyDay = len(w.Days) == 0 && len(w.Dates) == 0
	return c
}

// contains reports whether the wall clock of the window's zone at t lies in it.
func (w *compiledWindow) contains(t time.Time) bool {
	local := t.In(w.zone)
	hour, minute, _ := local.Clock()
	clock := directory.Clock(hour*60 + minute)
	overnight := w.to <= w.from
	if clock >= w.from && (overnight || clock < w.to) && w.startsOn(local, 0) {
		return true
	}
	return overnight && clock < w.to && w.startsOn(local, -1)
}

// startsOn reports whether the window starts on the day that is so many days
// after the one that local shows.
func (w *compiledWindow) startsOn(local time.Time, after int) bool {
	if w.everyDay {
		return true
	}
	if !w.days[(int(local.Weekday())+7+after)%7] {
		return false
	}
	if len(w.dates) == 0 {
		return true
	}
	year, month, day := local.Date()
	// Noon keeps the arithmetic away from the hours that a clock change skips.
	start := directory.DateOf(time.Date(year, month, day+after, 12, 0, 0, 0, time.UTC))
	return slices.ContainsFunc(w.dates, func(r directory.DateRange) bool { return r.Contains(start) })
}

// longestDay is longer than any day, and than a clock change can move its end.
const longestDay = 30 * time.Hour

// WindowTurns returns the moments after now, and not after end, at which the
// window of that number opens or closes. The list is shared: nobody changes it.
func (e *Directory) WindowTurns(window int, now, end time.Time) []time.Time {
	return e.windows[window].between(now, end)
}

// changesBetween reports whether clocks change in the window's zone near a stretch of
// time.
func (w *compiledWindow) changesBetween(now, end time.Time) bool {
	since, until := now.In(w.zone).ZoneBounds()
	return !since.IsZero() && now.Sub(since) < 2*longestDay || !until.IsZero() && until.Sub(end) < 2*longestDay
}

func (w *compiledWindow) turns(now, end time.Time) []time.Time {
	var turns []time.Time
	inside := w.contains(now)
	local := now.In(w.zone)
	add := func(t time.Time) {
		if t.After(now) && !t.After(end) {
			turns = append(turns, t)
		}
	}
	year, month, date := local.Date()
	changes := w.changesBetween(now, end)
	for day := -1; ; day++ {
		midnight := time.Date(year, month, date+day, 0, 0, 0, 0, w.zone)
		if midnight.After(end) {
			break
		}
		if now.Sub(midnight) > longestDay {
			continue // all of it is over
		}
		for _, clock := range []directory.Clock{0, w.from, w.to} {
			add(time.Date(year, month, date+day, int(clock)/60, int(clock)%60, 0, 0, w.zone))
		}
		if !changes {
			continue
		}
		// A clock change may skip a boundary, or bring it twice.
		if _, change := midnight.ZoneBounds(); !change.IsZero() && change.Sub(midnight) < 24*time.Hour {
			before, after := change.Add(-time.Second).In(w.zone), change.In(w.zone)
			_, from := before.Zone()
			_, to := after.Zone()
			shift := time.Duration(to-from) * time.Second
			add(change)
			for _, clock := range []directory.Clock{0, w.from, w.to} {
				t := time.Date(year, month, date+day, int(clock)/60, int(clock)%60, 0, 0, w.zone)
				add(t.Add(shift))
				add(t.Add(-shift))
			}
		}
	}
	slices.SortFunc(turns, time.Time.Compare)
	// Only those at which the window really opens or closes are of interest.
	kept := turns[:0]
	for _, t := range turns {
		if is := w.contains(t); is != inside {
			kept = append(kept, t)
			inside = is
		}
	}
	return kept
}
