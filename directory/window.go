package directory

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/words"
)

// Window is a named stretch of time. Days, dates and hours are wall-clock in
// its zone; what is left out does not limit.
type Window struct {
	Name string `book:"-"`
	// Days are the days of the week on which the window starts.
	Days []Weekday `book:"days" doc:"days of the week on which it starts: mon, tue, wed, thu, fri, sat, sun"`
	// From is included, To is not. A To at or before From runs into the next
	// day and belongs to the day on which it starts; equal ones are a whole day.
	From  *Clock      `book:"from" doc:"time of day at which it starts, included"`
	To    *Clock      `book:"to" doc:"time of day at which it ends, not included; at or before from, on the next day"`
	Dates []DateRange `book:"dates" doc:"days on which it starts, both ends included"`
	// Zone is nil for the book's own zone.
	Zone *time.Location `book:"zone" doc:"IANA time zone; settings.zone where left out"`
}

// Clock is a time of day in minutes after midnight; 24:00 is the end of a day.
type Clock int

// clockForm is how a time of day is written: two digits, a colon, two digits.
var clockForm = regexp.MustCompile(`^[0-2][0-9]:[0-5][0-9]$`)

// EndOfDay is 24:00.
const EndOfDay Clock = 24 * 60

// UnmarshalText reads a time of day from 00:00 to 24:00.
func (c *Clock) UnmarshalText(text []byte) error {
	if clockForm.Match(text) {
		tens := func(i int) Clock { return Clock(text[i]-'0')*10 + Clock(text[i+1]-'0') }
		if minutes := tens(0)*60 + tens(3); minutes <= EndOfDay {
			*c = minutes
			return nil
		}
	}
	return fmt.Errorf("a time of day is written like \"05:00\", from 00:00 to 24:00, not %q", text)
}

// String returns the time of day as 05:00.
func (c Clock) String() string { return fmt.Sprintf("%02d:%02d", int(c)/60, int(c)%60) }

// Weekday is a day of the week.
type Weekday time.Weekday

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Weekdays returns the words for the days, from Sunday on.
func Weekdays() []string { return slices.Clone(weekdays) }

// UnmarshalText reads mon, tue, wed, thu, fri, sat or sun.
func (d *Weekday) UnmarshalText(text []byte) error {
	return words.Parse((*int)(d), "a day of the week", string(text), weekdays, 0)
}

// String returns the day as the book writes it.
func (d Weekday) String() string { return weekdays[d] }

// compiledWindow is a window ready to be asked.
type compiledWindow struct {
	days [7]bool
	// everyDay says that neither days nor dates limit it.
	everyDay bool
	dates    []DateRange
	from, to Clock
	zone     *time.Location
}

func compileWindow(w *Window, zone *time.Location) compiledWindow {
	c := compiledWindow{dates: w.Dates, from: 0, to: EndOfDay, zone: zone}
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
		c.days[day] = len(w.Days) == 0 || slices.Contains(w.Days, Weekday(day))
	}
	c.everyDay = len(w.Days) == 0 && len(w.Dates) == 0
	return c
}

// contains reports whether the wall clock of the window's zone at t lies in it.
func (w *compiledWindow) contains(t time.Time) bool {
	local := t.In(w.zone)
	hour, minute, _ := local.Clock()
	clock := Clock(hour*60 + minute)
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
	start := DateOf(time.Date(year, month, day+after, 12, 0, 0, 0, time.UTC))
	return slices.ContainsFunc(w.dates, func(r DateRange) bool { return r.Contains(start) })
}

// String says when the window is open, for a reader.
func (w *Window) String() string {
	var parts []string
	for _, day := range w.Days {
		parts = append(parts, day.String())
	}
	days := strings.Join(parts, ", ")
	parts = parts[:0]
	if days != "" {
		parts = append(parts, days)
	}
	switch {
	case w.From != nil && w.To != nil:
		parts = append(parts, w.From.String()+"-"+w.To.String())
	case w.From != nil:
		parts = append(parts, "from "+w.From.String())
	case w.To != nil:
		parts = append(parts, "until "+w.To.String())
	}
	for _, r := range w.Dates {
		parts = append(parts, r.String())
	}
	if w.Zone != nil {
		parts = append(parts, w.Zone.String())
	}
	return strings.Join(parts, " ")
}

// WindowTurns returns the moments after now, and not after end, at which the
// window of that number may open or close.
func (e *Directory) WindowTurns(window int, now, end time.Time) []time.Time {
	return e.windows[window].turns(now, end)
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
	for day := -1; ; day++ {
		year, month, date := local.Date()
		midnight := time.Date(year, month, date+day, 0, 0, 0, 0, w.zone)
		if midnight.After(end) {
			break
		}
		for _, clock := range []Clock{0, w.from, w.to} {
			add(time.Date(year, month, date+day, int(clock)/60, int(clock)%60, 0, 0, w.zone))
		}
		// A clock change may skip a boundary, or bring it twice.
		if _, change := midnight.ZoneBounds(); !change.IsZero() && change.Sub(midnight) < 24*time.Hour {
			before, after := change.Add(-time.Second).In(w.zone), change.In(w.zone)
			_, from := before.Zone()
			_, to := after.Zone()
			shift := time.Duration(to-from) * time.Second
			add(change)
			for _, clock := range []Clock{0, w.from, w.to} {
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
