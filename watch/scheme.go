package watch

import (
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/loopback"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Scheme is the section `watch` of a book. The zero Scheme tells nobody anything.
type Scheme struct {
	// Quiet is a window of the book in which alerts wait, but for urgent ones.
	Quiet string `book:"quiet" ref:"window" doc:"a window in which alerts wait until it ends, but for urgent ones" default:"no alert waits"`
	// AtMost bounds how many letters about alerts one recipient gets in an hour.
	AtMost     int         `book:"at_most" doc:"letters about alerts to one recipient in an hour; the rest is summed up in one" default:"6"`
	Recipients []Recipient `book:"recipients" of:"recipient" doc:"who hears of alerts and digests"`
	Alerts     []Alert     `book:"alerts" of:"alert" doc:"what is told at once"`
	Digests    []Digest    `book:"digests" of:"digest" doc:"what is told every day or week"`
}

// Recipient is somebody who hears of alerts and digests, by mail, by a web hook, or by both.
type Recipient struct {
	Name string `book:"-"`
	// Mail are addresses as RFC 5322 §3.4.1 has them.
	Mail []string `book:"mail" doc:"mail addresses"`
	// Hook is an https URL.
	Hook string `book:"hook" doc:"an https URL that is told by POST, as JSON"`
}

// Alert is told when decisions of a kind come together.
type Alert struct {
	At    condition.Position `book:"-"`
	Name  string             `book:"name,required" doc:"its name"`
	About string             `book:"about" doc:"what it means that it rings, in a sentence"`
	// When is a condition on what was decided. What is not known counts as if it held: an alert that
	// is silent reassures.
	When condition.Node `book:"when,required" about:"account,app,decision" doc:"which decisions count; one counts too where nobody knows"`
	// AtLeast is how many such decisions it takes, 0 meaning 1.
	AtLeast int `book:"at_least" doc:"how many of them it takes" default:"1"`
	// Within is how long they may lie apart. For so long it does not ring again for the same.
	Within directory.Span `book:"within" doc:"how long they may lie apart; for so long it rings once" default:"it rings for each"`
	By     By             `book:"by" doc:"what is counted apart: account, app or address" default:"all are counted together"`
	Say    string         `book:"say" doc:"what to do about it, in a sentence"`
	To     []string       `book:"to" ref:"recipient" doc:"who is told"`
	Urgent bool           `book:"urgent" doc:"true where it does not wait for the end of quiet hours"`
}

// By says of what decisions are counted apart. The zero By counts all together.
type By uint8

// What decisions are counted by.
const (
	Together By = iota
	ByAccount
	ByApp
	ByAddress
)

var bys = []string{"together", "account", "app", "address"}

// Bys returns the words for what decisions are counted by.
func Bys() []string { return slices.Clone(bys) }

// String returns the word.
func (b By) String() string { return words.Of(b, bys, 0) }

// MarshalText writes String.
func (b By) MarshalText() ([]byte, error) { return []byte(b.String()), nil }

// UnmarshalText reads a word.
func (b *By) UnmarshalText(text []byte) error {
	return words.Parse(b, "what decisions are counted by", string(text), bys, Together)
}

// Digest is told every day or every week.
type Digest struct {
	At    condition.Position `book:"-"`
	Name  string             `book:"name,required" doc:"its name"`
	Every Every              `book:"every,required" doc:"day or week"`
	// On is the day of the week, nil meaning Monday.
	On *directory.Weekday `book:"on" doc:"of a weekly one, the day on which it is told" default:"mon"`
	// Hour is a time of day in the book's zone, nil meaning 07:00.
	Hour *directory.Clock `book:"at" doc:"the time of day at which it is told, in the zone of the book" default:"07:00"`
	To   []string         `book:"to" ref:"recipient" doc:"who is told"`
}

// Every says how often a digest is told. The zero Every is invalid.
type Every uint8

// How often a digest is told.
const (
	Day Every = iota + 1
	Week
)

var everies = []string{"day", "week"}

// Everies returns the words for how often a digest is told.
func Everies() []string { return slices.Clone(everies) }

// String returns the word.
func (e Every) String() string {
	if e == 0 || int(e) > len(everies) {
		return "invalid"
	}
	return everies[e-1]
}

// MarshalText writes String.
func (e Every) MarshalText() ([]byte, error) { return []byte(e.String()), nil }

// UnmarshalText reads a word.
func (e *Every) UnmarshalText(text []byte) error {
	return words.Parse(e, "how often a digest is told", string(text), everies, Day)
}

// What holds where a scheme says nothing.
const (
	usualAtMost = 6
	usualHour   = directory.Clock(7 * 60)
)

// LettersAnHour is how many letters about alerts a recipient gets in an hour at most.
func (s *Scheme) LettersAnHour() int {
	if s.AtMost == 0 {
		return usualAtMost
	}
	return s.AtMost
}

// Needs is how many decisions it takes.
func (a *Alert) Needs() int { return max(1, a.AtLeast) }

// LatestDue returns the latest time, at or before a moment, at which the digest is told.
func (d *Digest) LatestDue(now time.Time, zone *time.Location) time.Time {
	hour, on := usualHour, directory.Weekday(time.Monday)
	if d.Hour != nil {
		hour = *d.Hour
	}
	if d.On != nil {
		on = *d.On
	}
	local := now.In(zone)
	for back := 0; ; back++ {
		due := time.Date(local.Year(), local.Month(), local.Day()-back, int(hour)/60, int(hour)%60, 0, 0, zone)
		// The day is that of the calendar: an hour that a change of clocks skips moves the time, not the day.
		day := time.Date(local.Year(), local.Month(), local.Day()-back, 12, 0, 0, 0, zone)
		if !due.After(now) && (d.Every == Day || day.Weekday() == time.Weekday(on)) {
			return due
		}
	}
}

// Before returns the time at which the digest was told before that.
func (d *Digest) Before(due time.Time, zone *time.Location) time.Time {
	return d.LatestDue(due.Add(-time.Second), zone)
}

// Problem is something wrong with a scheme.
type Problem struct {
	// What and Name say of what it is: alert, digest, recipient, or watch and "".
	What, Name string
	Text       string
}

// Check reports everything that is wrong with the scheme, to report.
func (s *Scheme) Check(report func(Problem)) {
	wrong := func(what, name, format string, args ...any) {
		text := what + " " + name + ": "
		if name == "" {
			text = what + ": "
		}
		report(Problem{what, name, text + fmt.Sprintf(format, args...)})
	}
	if s.AtMost < 0 || s.AtMost > 1000 {
		wrong("watch", "", "at_most is from 1 to 1000 letters an hour, not %d", s.AtMost)
	}
	for i := range s.Recipients {
		r := &s.Recipients[i]
		for _, address := range r.Mail {
			if parsed, err := mail.ParseAddress(address); err != nil || parsed.Address != address {
				wrong("recipient", r.Name, "%q is no mail address such as duty@kestrel.example", address)
			}
		}
		if u, err := url.Parse(r.Hook); r.Hook != "" && (err != nil || u.Host == "" || u.User != nil || u.Fragment != "" ||
			u.Scheme != "https" && !(u.Scheme == "http" && loopback.IsHost(u.Hostname()))) {
			wrong("recipient", r.Name, "hook is an https URL without a password, such as https://hooks.kestrel.example/warden")
		}
	}
	for i := range s.Alerts {
		a := &s.Alerts[i]
		switch {
		case a.AtLeast < 0 || a.AtLeast > mostCounted:
			wrong("alert", a.Name, "at_least is from 1 to %d, not %d", mostCounted, a.AtLeast)
		case a.AtLeast > 1 && a.Within == 0:
			wrong("alert", a.Name, "at_least: %d needs `within`, such as 10m: within how long they come together", a.AtLeast)
		case time.Duration(a.Within) > longestWithin:
			wrong("alert", a.Name, "within is 31d at most: longer ones are for a digest")
		}
	}
	for i := range s.Digests {
		if d := &s.Digests[i]; d.Every == Day && d.On != nil {
			wrong("digest", d.Name, "`on` is for a weekly one; this one is told every day")
		} else if d.Hour != nil && *d.Hour >= directory.Clock(24*60) {
			wrong("digest", d.Name, "at is a time of day before 24:00")
		}
	}
}

// mostCounted bounds how many decisions an alert waits for, and longestWithin how long: both are kept.
const (
	mostCounted   = 10_000
	longestWithin = 31 * 24 * time.Hour
)
