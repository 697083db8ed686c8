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
	Days []Weekday `book:"days" doc:"days of the week on which it starts: mon, tue, wed, thu, fri, sat, sun" default:"every day"`
	// From is included, To is not. A To at or before From runs into the next
	// day and belongs to the day on which it starts; equal ones are a whole day.
	From  *Clock      `book:"from" doc:"time of day at which it starts, included" default:"00:00"`
	To    *Clock      `book:"to" doc:"time of day at which it ends, not included; at or before from, on the next day" default:"24:00"`
	Dates []DateRange `book:"dates" doc:"days on which it starts, both ends included" default:"every day"`
	// Zone is nil for the book's own zone.
	Zone *time.Location `book:"zone" doc:"IANA time zone" default:"settings.zone"`
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
func (d Weekday) String() string { return words.Of(d, weekdays, 0) }

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
