package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/pflag"

	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/typed"
)

// stretchFlags say which stretch of time is looked at.
type stretchFlags struct{ from, to, last string }

func (f *stretchFlags) addTo(set *pflag.FlagSet) {
	set.StringVar(&f.from, "from", "", "since this time, such as 2026-11-23 or \"2026-11-23 14:10\"")
	set.StringVar(&f.to, "to", "", "before this time")
	set.StringVar(&f.last, "last", "", "in place of both, the time until now, such as 7d")
}

// stretch reads the flags; what they leave out is zero. Times without an offset are in the zone.
func (f *stretchFlags) stretch(zone *time.Location, now time.Time) (from, to time.Time, err error) {
	if f.last != "" {
		if f.from+f.to != "" {
			return from, to, errors.New("give --last, or --from and --to")
		}
		var span directory.Span
		if err := span.UnmarshalText([]byte(f.last)); err != nil {
			return from, to, fmt.Errorf("--last: %w", err)
		}
		return now.Add(-time.Duration(span)), to, nil
	}
	for _, x := range []struct {
		flag, text string
		into       *time.Time
	}{{"--from", f.from, &from}, {"--to", f.to, &to}} {
		if x.text == "" {
			continue
		}
		if *x.into, err = typed.ParseTime(x.text, zone, now); err != nil {
			return from, to, fmt.Errorf("%s: %w", x.flag, err)
		}
	}
	if !from.IsZero() && !to.IsZero() && !from.Before(to) {
		return from, to, errors.New("--from is not before --to, so nothing lies between them")
	}
	return from, to, nil
}
