package compare

import (
	"reflect"

	"github.com/briskwarden/briskwarden/directory"
)

// window compares a window by what it states.
func (d *differ) window(name string) direction {
	was, is := find(d.old.book.Windows, d.new.book.Windows, func(w *directory.Window) bool { return w.Name == name })
	if was == nil || is == nil {
		return both
	}
	zone := func(v *view, w *directory.Window) string {
		if w.Zone != nil {
			return w.Zone.String()
		}
		return v.directory.Zone.String()
	}
	var all direction
	if zone(d.old, was) != zone(d.new, is) || !reflect.DeepEqual(was.Dates, is.Dates) {
		all |= both
	}
	if len(was.Dates) == 0 && len(is.Dates) == 0 {
		return all | compareWeeks(week(was), week(is))
	}
	aFrom, aTo := hours(was)
	bFrom, bTo := hours(is)
	return all | compareSets(startDays(was), startDays(is)) | compareOrdered(aFrom, bFrom).flip() | compareOrdered(aTo, bTo)
}

// startDays are the days of the week on which a window starts.
func startDays(w *directory.Window) []directory.Weekday {
	if w.Days == nil {
		return []directory.Weekday{0, 1, 2, 3, 4, 5, 6}
	}
	return w.Days
}

// hours are the minutes after the midnight before it starts from and to which a window lasts.
func hours(w *directory.Window) (from, to int) {
	to = int(directory.EndOfDay)
	if w.From != nil {
		from = int(*w.From)
	}
	if w.To != nil {
		to = int(*w.To)
	}
	if to <= from {
		to += int(directory.EndOfDay)
	}
	return from, to
}

// minutes are those of a week that a window covers.
type minutes [7 * int(directory.EndOfDay)]bool

func week(w *directory.Window) *minutes {
	var covered minutes
	from, to := hours(w)
	for _, day := range startDays(w) {
		for m := from; m < to; m++ {
			covered[(int(day)*int(directory.EndOfDay)+m)%len(covered)] = true
		}
	}
	return &covered
}

func compareWeeks(a, b *minutes) (d direction) {
	for m := range a {
		switch {
		case b[m] && !a[m]:
			d |= widens
		case a[m] && !b[m]:
			d |= narrows
		}
	}
	return d
}
