package inspect

import (
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicTime = "time"

// margin is how many days a rollout should leave between asking and enforcing.
const margin = 7

var timeChecks = []Check{
	{"empty-window", topicTime, Error, "a window that is never open",
		"None of its dates falls on one of its days, so no rule that asks for it ever matches, and each that asks for the contrary always does.",
		"Correct the days or the dates.", emptyWindow},
	{"past-window", topicTime, Warning, "a window that is over",
		"The last of its dates has passed. It will not open again, and what depends on it has changed without anybody changing it.",
		"Set new dates, or take the window out with what asks for it.", pastWindow},
	{"clock-change", topicTime, Note, "a window whose edge falls into a clock change",
		"Where summer time begins an hour of the night does not exist, and where it ends one exists twice. A window that opens or closes in " +
			"that hour is open for an hour more or less that night.",
		"Move the edge out of that hour, or accept the finding.", clockChange},
	{"rollout-without-margin", topicTime, Warning, "a rollout that leaves no margin",
		"People read their mail late. Anyone who is asked in the last week before it is enforced is locked out on the day.",
		"Ask earlier, or enforce later; a week between `ask_by` and `enforced` is little.", rolloutWithoutMargin},
	{"rollout-dates-reversed", topicTime, Error, "a rollout whose days are not in order",
		"It opens, asks everyone and is enforced, in this order. Where the days are reversed, people are held to what nobody told them of.",
		"Put `opens`, `ask_by` and `enforced` in order.", rolloutDatesReversed},
	{"rollout-method-unmet", topicTime, Warning, "a method of a rollout that meets nothing it eases",
		"Anyone who enrols it has done what was asked, and is locked out on the day.",
		"Take the method out of the rollout, or have the assurance take it.", rolloutMethodUnmet},
	{"future-date", topicTime, Warning, "a date of what has happened that lies ahead",
		"What happened in the future counts for nothing, or for ever: a report of tomorrow is no report, and a risk of tomorrow outlasts " +
			"each new password.",
		"Correct the year or the day.", futureDate},
	{"night-only", topicTime, Warning, "people are blocked outside a window that is open at night only",
		"`from` is later than `to`, so the window is open at night, and the rule blocks by day. Mostly the two are swapped.",
		"Swap `from` and `to`, or accept the finding where only nights are meant.", nightOnly},
	{"rollout-eases-nothing", topicTime, Warning, "a rollout that eases what nothing demands",
		"No policy asks the rollout's people for the assurance, or none of the rollout's methods would meet it. Nobody is given time, and " +
			"nobody is made to enrol.",
		"Name in `eases` what the policies ask of these people, or put the policy on its way.", rolloutEasesNothing},
}

// never reports that a window has dates and none of them falls on one of its days.
func never(w directory.Window) bool {
	if len(w.Days) == 0 || len(w.Dates) == 0 {
		return false
	}
	return !slices.ContainsFunc(w.Dates, func(r directory.DateRange) bool {
		day := r.First.Start(time.UTC)
		for range 7 {
			if r.Contains(directory.DateOf(day)) && slices.Contains(w.Days, directory.Weekday(day.Weekday())) {
				return true
			}
			day = day.AddDate(0, 0, 1)
		}
		return false
	})
}

func emptyWindow(in *Pass) {
	for _, w := range in.Directory.Windows {
		if never(w) {
			in.Report(w.Name, in.where("window", w.Name), "None of the dates of %s falls on one of its days (%s).", w.Name, w.String())
		}
	}
}

func pastWindow(in *Pass) {
	for _, w := range in.Directory.Windows {
		if len(w.Dates) == 0 {
			continue
		}
		last := slices.MaxFunc(w.Dates, func(a, b directory.DateRange) int { return daysBetween(b.Last, a.Last) }).Last
		if last.Before(in.today) && daysBetween(last, in.today) > 1 { // it may run into the next day
			in.Report(w.Name, in.where("window", w.Name), "%s was open for the last time on %s.", w.Name, last)
		}
	}
}

// clockChanges is how far ahead clock changes are looked for.
const clockChanges = 2 * 366 * 24 * time.Hour

func clockChange(in *Pass) {
	for _, w := range in.Directory.Windows {
		zone := in.Directory.Zone
		if w.Zone != nil {
			zone = w.Zone
		}
		for t := in.At.In(zone); t.Before(in.At.Add(clockChanges)); {
			_, change := t.ZoneBounds()
			if change.IsZero() {
				break
			}
			if !change.After(t) {
				// Beyond the changes that a zone's file lists, the last bound in a year
				// is its 365th day, which on the last of a leap year is over.
				t = t.Add(24 * time.Hour)
				continue
			}
			if edge, hit := edgeIn(w, change); hit {
				in.Report(
					w.Name,
					in.where("window", w.Name),
					"The edge %s of %s falls into the clock change of %s (%s).",
					edge,
					w.Name,
					change.In(zone).Format(time.DateOnly),
					zone,
				)
				break
			}
			t = change.Add(time.Hour)
		}
	}
}

// edgeIn returns the edge of a window that a clock change skips or brings twice,
// on a day on which the window has that edge.
func edgeIn(w directory.Window, change time.Time) (directory.Clock, bool) {
	before, after := change.Add(-time.Second), change
	_, from := before.Zone()
	_, to := after.Zone()
	// The wall clock is ambiguous between its readings at the change, by the old
	// offset and by the new.
	wall := func(offset int) directory.Clock {
		local := change.UTC().Add(time.Duration(offset) * time.Second)
		return directory.Clock(local.Hour()*60 + local.Minute())
	}
	first, last := min(wall(from), wall(to)), max(wall(from), wall(to))
	for i, edge := range []*directory.Clock{w.From, w.To} {
		if edge == nil || *edge < first || *edge >= last {
			continue
		}
		day := change
		if i == 1 && w.From != nil && *w.To <= *w.From {
			day = day.AddDate(0, 0, -1) // it belongs to the day on which it starts
		}
		date := directory.DateOf(day)
		onDay := len(w.Days) == 0 || slices.Contains(w.Days, directory.Weekday(day.Weekday()))
		onDate := len(w.Dates) == 0 || slices.ContainsFunc(w.Dates, func(r directory.DateRange) bool { return r.Contains(date) })
		if onDay && onDate {
			return *edge, true
		}
	}
	return 0, false
}

func rolloutWithoutMargin(in *Pass) {
	for _, r := range in.Judge.Rollouts() {
		if r.Enforced.Before(in.today) {
			continue
		}
		switch {
		case r.AskBy == nil:
			asked := directory.DateOf(r.Enforced.Start(time.UTC).AddDate(0, 0, -margin))
			in.ReportWith(line("rollout", r.Name, "ask_by: %s", asked), r.Name, r.At,
				"%s is enforced on %s and does not say by when everyone has been asked.", r.Name, r.Enforced)
		case daysBetween(*r.AskBy, r.Enforced) < margin:
			in.Report(
				r.Name,
				r.At,
				"%s asks people by %s and is enforced on %s, %s later.",
				r.Name,
				r.AskBy,
				r.Enforced,
				words.Count(daysBetween(*r.AskBy, r.Enforced), "day"),
			)
		}
	}
}

func rolloutEasesNothing(in *Pass) {
	for _, r := range in.Judge.Rollouts() {
		who := in.Accounts.Of(r.Who)
		var methods engine.MethodSet
		for _, name := range r.Methods {
			if n, ok := in.Directory.FindMethod(name); ok {
				methods = methods.Add(n)
			}
		}
		for _, name := range r.Eases {
			switch asked := in.methodsOf(name) | in.enrolOf(name); {
			case asked&methods == 0:
				in.Report(r.Name+"/"+name, r.At, "%s eases %s, which none of its methods would meet.", r.Name, name)
			case !in.asksOf(name, who):
				in.Report(r.Name+"/"+name, r.At, "%s eases %s, which no live or shadow policy asks of %s.", r.Name, name, in.peopleOf(who))
			}
		}
	}
}

// enrolOf returns the methods that an assurance asks to enrol one of.
func (in *Pass) enrolOf(assurance string) engine.MethodSet {
	a := in.Judge.FindAssurance(assurance)
	if a == nil {
		return 0
	}
	set, _ := in.Judge.Methods(a.Enrol, nil, nil)
	return set
}

func rolloutDatesReversed(in *Pass) {
	for _, r := range in.Judge.Rollouts() {
		reversed := func(first *directory.Date, firstName string, last *directory.Date, lastName string) {
			if first != nil && last != nil && last.Before(*first) {
				in.Report(r.Name, r.At, "%s: %s (%s) is after %s (%s).", r.Name, firstName, first, lastName, last)
			}
		}
		reversed(r.Opens, "opens", r.AskBy, "ask_by")
		reversed(r.AskBy, "ask_by", &r.Enforced, "enforced")
		reversed(r.Opens, "opens", &r.Enforced, "enforced")
	}
}

func rolloutMethodUnmet(in *Pass) {
	for _, r := range in.Judge.Rollouts() {
		var met engine.MethodSet
		for _, name := range r.Eases {
			met |= in.methodsOf(name) | in.enrolOf(name)
		}
		for _, method := range r.Methods {
			if n, ok := in.Directory.FindMethod(method); ok && met != 0 && !met.Has(n) {
				in.Report(
					r.Name+"/"+method,
					r.At,
					"%s has people enrol %s, which meets none of %s.",
					r.Name,
					method,
					words.List(r.Eases, "or"),
				)
			}
		}
	}
}

func futureDate(in *Pass) {
	check := func(about string, at condition.Position, what string, when *time.Time) {
		if when != nil && when.After(in.At.Add(24*time.Hour)) { // clocks and zones differ
			in.Report(about, at, "%s is %s, which lies ahead.", what, when.Format(time.RFC3339))
		}
	}
	day := func(d *directory.Date) *time.Time {
		if d == nil {
			return nil
		}
		start := d.Start(in.Directory.Zone)
		return &start
	}
	for i := range in.Directory.Accounts {
		a := &in.Directory.Accounts[i]
		at := in.where("account", a.Name)
		check(a.Name, at, "The last change of the password of "+a.Name, a.PasswordChangedAt)
		check(a.Name, at, "When a rollout asked "+a.Name, a.AskedAt)
		if a.AccountRisk != nil {
			check(a.Name, at, "The beginning of the risk of "+a.Name, a.AccountRisk.Since)
		}
	}
	for i := range in.Directory.Devices {
		d := &in.Directory.Devices[i]
		check(d.Name, in.where("device", d.Name), "The last report of "+d.Name, d.ReportedAt)
	}
	for i := range in.Policies {
		s := &in.Policies[i]
		check(s.Name, s.At, "The day on which "+s.Name+" came to its stage", day(s.Since))
	}
	for _, i := range in.Book.Imported {
		check(i.Name, i.At, "The day on which "+i.File+" was made", day(i.Taken))
	}
}

func nightOnly(in *Pass) {
	in.eachRule(func(s *Policy, k int, _ *silentRule) {
		r := &s.Rules[k]
		if !r.Then.Blocks() || !s.active() {
			return
		}
		condition.Walk(r.When, func(n condition.Node) bool {
			not, ok := n.(*condition.Not)
			if !ok {
				return true
			}
			if t, is := not.Of.(*condition.Test); is && t.Key == engine.KeyDuring && len(t.Numbers()) == 1 {
				if w := in.Directory.Windows[t.Numbers()[0]]; w.From != nil && w.To != nil && *w.To < *w.From {
					in.Report(
						w.Name,
						in.where("window", w.Name),
						"%s / %s blocks outside %s, which is open at night only (%s).",
						s.Name,
						r.Name,
						w.Name,
						w.String(),
					)
				}
			}
			return false
		})
	})
}

// asksOf reports whether some live or shadow policy asks an assurance of somebody.
func (in *Pass) asksOf(assurance string, who engine.Audience) bool {
	return slices.ContainsFunc(in.Policies, func(s Policy) bool {
		return s.active() && s.Audience.Meets(who) && slices.ContainsFunc(s.Rules, func(r decide.Rule) bool {
			return slices.ContainsFunc(r.Then.Require, func(q decide.Requirement) bool { return slices.Contains(q.OneOf, assurance) })
		})
	})
}

// peopleOf names an audience, "nobody" where it is empty.
func (in *Pass) peopleOf(who engine.Audience) string {
	if who.IsEmpty() {
		return "anybody: it is for nobody"
	}
	return in.accountNames(who)
}
