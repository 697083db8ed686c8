package directory

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Span is a length of time as a book writes it: 30d, 12h, 90m, 1h30m. A day is
// always 24 hours.
type Span time.Duration

var spanParts = regexp.MustCompile(`^(?:(\d{1,5})d)?(?:(\d{1,6})h)?(?:(\d{1,7})m)?(?:(\d{1,8})s)?$`)

// UnmarshalText reads a span longer than nothing.
func (s *Span) UnmarshalText(text []byte) error {
	parts := spanParts.FindStringSubmatch(string(text))
	var total time.Duration
	if parts != nil {
		for i, unit := range []time.Duration{24 * time.Hour, time.Hour, time.Minute, time.Second} {
			n, _ := strconv.Atoi(parts[i+1]) // an absent part is 0
			total += time.Duration(n) * unit
		}
	}
	if total <= 0 {
		return fmt.Errorf("a length of time is written like 30d, 12h or 90m, not %q", text)
	}
	*s = Span(total)
	return nil
}

// String returns the span in hours and minutes, the wire form: 4h, 168h, 90m.
// What is not whole minutes keeps its seconds.
func (s Span) String() string {
	d := time.Duration(s)
	switch {
	case d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%dm", d/time.Minute)
	}
	return fmt.Sprintf("%ds", d/time.Second)
}

// MarshalText writes String.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Words returns the span as a reader would say it: 12 hours, 30 days.
func (s Span) Words() string {
	for _, unit := range []struct {
		length time.Duration
		word   string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}} {
		switch n := time.Duration(s) / unit.length; {
		case time.Duration(s)%unit.length != 0 || n == 0 || n == 1 && unit.word == "day":
			// A day is said as 24 hours, so that it is not taken for a day of the calendar.
		case n == 1:
			return "1 " + unit.word
		default:
			return fmt.Sprintf("%d %ss", n, unit.word)
		}
	}
	return s.String()
}

// Date is a day of the calendar, in no zone.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// DateOf returns the day that t shows in its own location.
func DateOf(t time.Time) Date {
	y, m, d := t.Date()
	return Date{y, m, d}
}

// dayForm is how a day is written, whether or not there is such a day.
var dayForm = regexp.MustCompile(`^[0-9]{4}-[0-9]{2}-[0-9]{2}$`)

// UnmarshalText reads a day such as 2026-11-23.
func (d *Date) UnmarshalText(text []byte) error {
	t, err := time.Parse(time.DateOnly, string(text))
	if err != nil {
		if dayForm.Match(text) {
			return fmt.Errorf("there is no day %s", text)
		}
		return fmt.Errorf("a day is written like 2026-11-23, not %q", text)
	}
	*d = DateOf(t)
	return nil
}

// Start returns the moment at which the day begins in loc: the first that has its
// date there. A clock change may skip midnight, so that the day begins at the
// change, or bring it twice.
func (d Date) Start(loc *time.Location) time.Time {
	midnight := time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, loc)
	if DateOf(midnight).Before(d) {
		if _, change := midnight.ZoneBounds(); !change.IsZero() {
			return change
		}
		return midnight
	}
	// time.Date may return the later of two midnights.
	if change, _ := midnight.ZoneBounds(); !change.IsZero() {
		_, offset := change.Add(-time.Second).Zone()
		earlier := time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC).Add(-time.Duration(offset) * time.Second).In(loc)
		if earlier.Before(change) {
			return earlier
		}
	}
	return midnight
}

// End returns the moment at which the day is over in loc: the beginning of the
// next.
func (d Date) End(loc *time.Location) time.Time {
	return DateOf(time.Date(d.Year, d.Month, d.Day+1, 12, 0, 0, 0, time.UTC)).Start(loc)
}

// IsZero reports that no day is given.
func (d Date) IsZero() bool { return d == Date{} }

// Before orders days.
func (d Date) Before(e Date) bool { return d.ordinal() < e.ordinal() }

func (d Date) ordinal() int { return (d.Year*16+int(d.Month))*32 + d.Day }

// String returns the day as 2026-11-23.
func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// MarshalText writes String.
func (d Date) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// DateRange is a stretch of days; both ends are included.
type DateRange struct{ First, Last Date }

// UnmarshalText reads 2026-05-01..2026-09-30, or one day.
func (r *DateRange) UnmarshalText(text []byte) error {
	first, last, found := strings.Cut(string(text), "..")
	if err := r.First.UnmarshalText([]byte(first)); err != nil {
		return fmt.Errorf("a stretch of days is written like 2026-05-01..2026-09-30, not %q", text)
	}
	r.Last = r.First
	if found {
		if err := r.Last.UnmarshalText([]byte(last)); err != nil {
			return fmt.Errorf("a stretch of days is written like 2026-05-01..2026-09-30, not %q", text)
		}
	}
	if r.Last.Before(r.First) {
		return fmt.Errorf("%s ends before it begins; write %s..%s", text, r.Last, r.First)
	}
	return nil
}

// Contains reports whether the day lies in the stretch.
func (r DateRange) Contains(d Date) bool { return !d.Before(r.First) && !r.Last.Before(d) }

// String returns the stretch as a book writes it.
func (r DateRange) String() string {
	if r.First == r.Last {
		return r.First.String()
	}
	return r.First.String() + ".." + r.Last.String()
}
