package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// From how many attempts on something looks wrong.
const (
	fewestStops = 5 // of an account by one rule, when it was not let in after them
	manyPrompts = 8 // on one day
)

// findTroubles finds what looks wrong in what was counted.
func (r *Report) findTroubles() {
	r.Troubles = []Trouble{}
	add := func(weight int, since, last time.Time, command, do, format string, args ...any) {
		r.Troubles = append(
			r.Troubles,
			Trouble{Text: fmt.Sprintf(format, args...), Do: do, Since: since, Last: last, Command: command, weight: weight},
		)
	}
	for i := range r.AccountsWithRisk {
		if a := r.AccountsWithRisk[i].own; a != nil {
			r.addRisk(a, add)
		}
	}
	for i := range r.Addresses {
		a := &r.Addresses[i]
		add(
			700+a.Accounts,
			a.First,
			a.Last,
			a.Command,
			"see whether any of those accounts was let in from there, and make the address a network that is blocked.",
			"From %s %s of %s were stopped within %s: somebody may be trying passwords.",
			a.IP,
			words.Count(int(a.Stopped), "attempt"),
			words.Count(a.Accounts, "account"),
			about(a.Last.Sub(a.First)),
		)
	}
	for i := range r.Stopped {
		p := &r.Stopped[i]
		if min(p.Counts.Block, p.own) < fewestStops || p.Rule == "" || r.hasRisk(p.Account) {
			continue
		}
		rule := Rule{}
		rule.Policy, rule.Rule = p.Policy, p.Rule
		if p.Granted.After(p.Last) {
			add(
				200+int(min(p.Counts.Block, 90)),
				p.First,
				p.Last,
				p.Command,
				"see whether the rule means them; else tell them when and how it works.",
				"%s was stopped %d times, most by %s.",
				p.Account,
				p.Counts.Block,
				rule.name(),
			)
			continue
		}
		since := "and was not let in once"
		if !p.Granted.IsZero() {
			since = "and was not let in since " + p.Granted.In(r.zone).Format("2 January 15:04")
		}
		add(
			600+int(min(p.Counts.Block, 90)),
			p.First,
			p.Last,
			p.Command,
			"find out whether they can work: "+p.Account+" gets no further by trying again.",
			"%s was stopped %d times, most by %s, %s.",
			p.Account,
			p.Counts.Block,
			rule.name(),
			since,
		)
	}
	if len(r.Work.Asked) > 0 && r.Work.Asked[0].Prompts >= manyPrompts {
		a := &r.Work.Asked[0]
		day, _ := time.ParseInLocation(time.DateOnly, a.Date, r.zone) // it was written so
		add(150, day, day, a.Command, "see which rule asks, and whether a longer `within` or a remembered device would do.",
			"%s was asked for more %d times on %s: a person who is asked so often stops reading.", a.Account, a.Prompts, a.Date)
	}
	slices.SortStableFunc(r.Troubles, func(a, b Trouble) int {
		return cmp.Or(cmp.Compare(b.weight, a.weight), strings.Compare(a.Text, b.Text))
	})
}

// addRisk adds an account with attempts at medium risk or higher.
func (r *Report) addRisk(a *AccountWithRisk, add func(int, time.Time, time.Time, string, string, string, ...any)) {
	weight := 300 + 100*int(a.Level) + int(min(a.Attempts, 90))
	did := fmt.Sprintf("all %d were stopped", a.Attempts)
	switch {
	case a.Granted > 0:
		weight += 1000
		did = fmt.Sprintf("%d of %d were granted", a.Granted, a.Attempts)
	case a.Attempts == 1:
		did = "it was stopped"
	}
	if a.PutRight {
		weight /= 4
	} else if !a.letIn.IsZero() && a.letIn.Before(a.Since) {
		did += ", and it was not let in since " + a.letIn.In(r.zone).Format("2 January 15:04")
	}
	do := "ask " + a.Account + " whether that was them; if not, end their sessions and have the password changed."
	if a.machine {
		do = "see whether the key or certificate of " + a.Account + " still holds, and renew it; if somebody else has it, bar it."
	}
	add(
		weight,
		a.Since,
		a.Last,
		a.Command,
		do,
		"%s: %s with the risk %s (%s), %s.",
		a.Account,
		words.Count(int(a.Attempts), "sign-in"),
		a.Level,
		strings.Join(a.Signals, ", "),
		did,
	)
}

func (r *Report) hasRisk(account string) bool {
	return slices.ContainsFunc(r.AccountsWithRisk, func(a AccountWithRisk) bool { return a.Account == account && a.own != nil })
}

// about is a length of time as one would say it.
func about(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return "two minutes"
	case d < 2*time.Hour:
		return words.Count(int(d.Round(time.Minute)/time.Minute), "minute")
	case d < 48*time.Hour:
		return words.Count(int(d.Round(time.Hour)/time.Hour), "hour")
	}
	return words.Count(int(d/(24*time.Hour)), "day")
}

// soon is how many days before its end an exemption or a rollout is told.
const soon = 30

// steps lists what to do: for what looks wrong, and for what comes.
func (r *Report) steps(at time.Time) {
	r.Next = []Step{}
	add := func(command, format string, args ...any) {
		r.Next = append(r.Next, Step{fmt.Sprintf(format, args...), command})
	}
	const most = 6
	for _, t := range r.Troubles[:min(most, len(r.Troubles))] {
		add(t.Command, "%s %s", t.Text, words.Capital(t.Do))
	}
	for i := range r.Rollouts {
		if x := &r.Rollouts[i]; x.Counts.LockedOut > 0 && x.DaysLeft >= 0 {
			add(x.Command, "%s would be locked out by %s on %s. Write to them.", words.Count(x.Counts.LockedOut, "person"), x.Name, x.Enforced)
		}
	}
	for i := range r.Exemptions {
		switch x := &r.Exemptions[i]; {
		case x.Ended:
			add("", "The exemption %s has ended: take it out of the book.", x.Name)
		case x.Until != nil && daysTo(*x.Until, at, r.zone) <= soon:
			add("", "The exemption %s ends on %s: decide whether it is still needed.", x.Name, x.Until)
		case x.Times == 0 && r.Verdicts.All() > 0:
			add("", "Nobody used the exemption %s in this stretch of time: see whether it is still needed.", x.Name)
		}
	}
	for i := range r.Standing {
		if s := &r.Standing[i]; !s.PutRight {
			add("", "%s has the standing risk %s (%s): put it right.", s.Account, s.Level, cmp.Or(s.Because, "no reason is given"))
		}
	}
	waiting := 0
	for i := range r.Programs {
		waiting += r.Programs[i].Waiting
	}
	if waiting > 0 {
		add(r.source.with("consent queue"), "%s outside programs wait for a reviewer.", words.Count(waiting, "request")+" of")
	}
	if r.Score != nil && len(r.Score.Brings) > 0 {
		var names []string
		for _, open := range r.Score.Brings[:min(3, len(r.Score.Brings))] {
			names = append(names, open.Check)
		}
		add(
			r.source.with("inspect"),
			"The book reaches %d of %d points; most brings %s.",
			r.Score.Reached,
			r.Score.Possible,
			words.List(names, "and"),
		)
	}
}

// daysTo returns how many days there are until a day, below 0 where it is past.
func daysTo(day directory.Date, at time.Time, zone *time.Location) int {
	year, month, today := at.In(zone).Date()
	return int(
		time.Date(day.Year, day.Month, day.Day, 0, 0, 0, 0, time.UTC).Sub(time.Date(year, month, today, 0, 0, 0, 0, time.UTC)).Hours() / 24,
	)
}

// mostBrings is how many checks of inspect are told.
const mostBrings = 5

// take notes the score of an inspection as that of now.
func (s *Score) take(found *inspect.Report) {
	s.Reached, s.Possible = found.Score.Reached, found.Score.Possible
	s.Brings = append([]inspect.OpenItem{}, found.Score.Open[:min(mostBrings, len(found.Score.Open))]...)
}
