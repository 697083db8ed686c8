// Package readiness reports for each rollout who has enrolled a method and who has
// not, how long those have yet, and who would be locked out on the day.
package readiness

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Status is how an account stands in a rollout.
type Status string

// How an account may stand, from the worst.
const (
	// LockedOut: on the day it is asked for what it cannot show, whatever it has enrolled.
	LockedOut Status = "locked_out"
	// InGrace: it has enrolled nothing and has time beyond the day.
	InGrace Status = "in_grace"
	// Weak: all it has enrolled are text messages.
	Weak Status = "weak"
	// Single: it has enrolled one method, and would be lost without it.
	Single Status = "single"
	// Ready: it has enrolled several methods.
	Ready Status = "ready"
)

// Statuses returns all ways in which an account may stand, the worst first.
func Statuses() []Status { return []Status{LockedOut, InGrace, Weak, Single, Ready} }

// Report is how ready people are for a day.
type Report struct {
	At       time.Time `json:"at" doc:"as of when"`
	Rollouts []Rollout `json:"rollouts" doc:"the rollouts, in order of name"`
}

// LockedOut counts those who would be locked out, over all rollouts.
func (r *Report) LockedOut() int {
	n := 0
	for i := range r.Rollouts {
		n += r.Rollouts[i].Counts.LockedOut
	}
	return n
}

// Rollout is how ready people are for one rollout.
type Rollout struct {
	Name    string   `json:"name" doc:"the rollout"`
	Methods []string `json:"methods" doc:"methods; each person enrols one of them"`
	// On is the day that is asked about.
	On       directory.Date `json:"on" doc:"the day that is asked about"`
	Enforced directory.Date `json:"enforced" doc:"the day from which it is demanded"`
	Counts   Counts         `json:"counts" doc:"how many stand how"`
	Groups   []Group        `json:"groups" doc:"the same by group"`
	Accounts []Account      `json:"accounts" doc:"those who are not ready, the worst first"`
}

// Counts are how many accounts stand how.
type Counts struct {
	People    int `json:"people" doc:"how many the rollout is for"`
	Ready     int `json:"ready" doc:"with several methods"`
	Single    int `json:"single" doc:"with one method only"`
	Weak      int `json:"weak" doc:"with text messages only"`
	InGrace   int `json:"in_grace" doc:"with nothing, and with time beyond the day"`
	LockedOut int `json:"locked_out" doc:"with nothing, and locked out on the day"`
}

func (c *Counts) add(s Status) {
	c.People++
	*map[Status]*int{LockedOut: &c.LockedOut, InGrace: &c.InGrace, Weak: &c.Weak, Single: &c.Single, Ready: &c.Ready}[s]++
}

// Group is how ready the members of a group are.
type Group struct {
	Name   string `json:"name" doc:"the group"`
	Counts Counts `json:"counts" doc:"how many of its members stand how"`
}

// Account is somebody who is not ready.
type Account struct {
	Name   string   `json:"name" doc:"the account"`
	Groups []string `json:"groups" doc:"its groups"`
	Status Status   `json:"status" doc:"how it stands"`
	// Has are the rollout's methods that it has enrolled.
	Has []string `json:"has" doc:"methods of the rollout that it has enrolled"`
	// App is where it would be locked out, and Away says that it would be so away from own
	// networks only.
	App  string `json:"app,omitzero" doc:"the app at which it would be locked out"`
	Away bool   `json:"away,omitzero" doc:"true where it would be locked out away from own networks only"`
	// Until is when its time is up, for those with nothing.
	Until    time.Time `json:"until,omitzero" doc:"when its time is up"`
	DaysLeft int       `json:"days_left,omitzero" doc:"days begun until then"`
	// Asked says that it was asked to enrol.
	Asked bool `json:"asked" doc:"true where it was asked to enrol"`
	// Reminder is what to write to the person.
	Reminder string `json:"reminder" doc:"what to write to the person"`
}

// Of reports how ready people are at a moment. Name picks one rollout, "" takes all;
// on is the day that is asked about, nil the day on which each rollout is
// enforced. Who is locked out on that day is decided as sign-ons are: at each app, from an
// own network and from elsewhere, at several hours, with all that the account has enrolled
// proven. The error suggests the nearest name.
func Of(judge *engine.Judge, name string, on *directory.Date, at time.Time) (*Report, error) {
	report := &Report{At: at, Rollouts: []Rollout{}}
	crowd := judge.Directory().Gather(at)
	var names []string
	for i, r := range judge.Rollouts() {
		names = append(names, r.Name)
		if name == "" || name == r.Name {
			report.Rollouts = append(report.Rollouts, rollout(judge, i, r, crowd, on, at))
		}
	}
	if name != "" && len(report.Rollouts) == 0 {
		return nil, fmt.Errorf("the book has no rollout %q%s", name, nearest.DidYouMean(name, names))
	}
	return report, nil
}

// remind writes a reminder in the book's own words, else in the built-in ones. The lists in
// words of one's own are separated by commas, which each language reads.
func remind(own, builtIn string, a *Account, methods []string, zone *time.Location) string {
	list := strings.Join(methods, ", ")
	if own == "" {
		list = words.List(methods, "or")
	}
	return strings.NewReplacer("{account}", a.Name, "{methods}", list, "{has}", strings.Join(a.Has, ", "),
		"{day}", a.Until.In(zone).Format(time.DateOnly)).Replace(cmp.Or(own, builtIn))
}

func rollout(judge *engine.Judge, number int, r decide.Rollout, crowd *engine.Gathering, on *directory.Date, at time.Time) Rollout {
	e := judge.Directory()
	found := Rollout{Name: r.Name, Methods: r.Methods, On: r.Enforced, Enforced: r.Enforced, Groups: []Group{}, Accounts: []Account{}}
	if on != nil {
		found.On = *on
	}
	var methods, texts engine.MethodSet
	for i, m := range e.Methods() {
		if slices.Contains(r.Methods, m.Name) {
			methods = methods.Add(i)
		}
		if slices.Contains(m.AMR, "sms") {
			texts = texts.Add(i)
		}
	}
	groups := map[string]*Counts{}
	people := slices.Collect(crowd.Of(r.Who).Surely().All())
	locked := lockedOutOf(newDay(judge, r, found.On), people)
	for i, n := range people {
		if e.Profile(n).Disabled() {
			continue
		}
		has := e.Profile(n).Enrolled() & methods
		a := Account{
			Name:   e.Accounts[n].Name,
			Groups: append([]string{}, e.Profile(n).Groups()...),
			Has:    judge.MethodNames(has),
			Asked:  e.Accounts[n].AskedAt != nil,
			App:    locked[i].app,
			Away:   locked[i].away,
		}
		switch {
		case has == 0 || a.App != "":
			a.Until = judge.Deadline(number, e.Profile(n), at)
			a.DaysLeft = max(0, int((a.Until.Sub(at)+24*time.Hour-1)/(24*time.Hour)))
			a.Status = InGrace
			if a.App != "" {
				a.Status = LockedOut
			}
			a.Reminder = remind(r.Say.Enrol, "Please enrol {methods} by {day}: from then on you cannot sign on without it.", &a, r.Methods,
				e.Zone)
		case has&^texts == 0:
			a.Status = Weak
			a.Reminder = remind(r.Say.Stronger, "Text messages can be read by others. Please enrol {methods} as well.", &a,
				judge.MethodNames(methods&^texts), e.Zone)
		case has.Len() == 1:
			a.Status = Single
			a.Reminder = remind(
				r.Say.Another,
				"You have enrolled {has} alone. Please enrol another method, for the day on which you lose it.",
				&a,
				judge.MethodNames(methods&^has),
				e.Zone,
			)
		default:
			a.Status = Ready
		}
		found.Counts.add(a.Status)
		for _, group := range a.Groups {
			if groups[group] == nil {
				groups[group] = new(Counts)
			}
			groups[group].add(a.Status)
		}
		if a.Status != Ready {
			found.Accounts = append(found.Accounts, a)
		}
	}
	for name, c := range groups {
		found.Groups = append(found.Groups, Group{name, *c})
	}
	slices.SortFunc(found.Groups, func(a, b Group) int { return strings.Compare(a.Name, b.Name) })
	order := Statuses()
	slices.SortStableFunc(found.Accounts, func(a, b Account) int {
		return cmp.Or(
			cmp.Compare(slices.Index(order, a.Status), slices.Index(order, b.Status)),
			a.Until.Compare(b.Until),
			strings.Compare(a.Name, b.Name),
		)
	})
	return found
}

// lockout is what lockedOut says of one account.
type lockout struct {
	app  string
	away bool
}

// lockedOutOf judges the day of many accounts, by as many goroutines as there are
// processors.
func lockedOutOf(d *day, accounts []int) []lockout {
	found := make([]lockout, len(accounts))
	var next atomic.Int64
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(accounts) {
					return
				}
				found[i].app, found[i].away = d.lockedOut(accounts[i])
			}
		})
	}
	workers.Wait()
	return found
}

// WriteCSV writes those who are not ready as a table for a mail merge (RFC 4180).
func (r *Report) WriteCSV(w io.Writer) error {
	table := csv.NewWriter(w)
	rows := [][]string{{"rollout", "account", "status", "groups", "has", "until", "days_left", "reminder"}}
	for _, rollout := range r.Rollouts {
		for _, a := range rollout.Accounts {
			until, left := "", ""
			if !a.Until.IsZero() {
				until, left = a.Until.Format(time.RFC3339), fmt.Sprint(a.DaysLeft)
			}
			rows = append(
				rows,
				[]string{
					rollout.Name,
					a.Name,
					string(a.Status),
					strings.Join(a.Groups, ";"),
					strings.Join(a.Has, ";"),
					until,
					left,
					a.Reminder,
				},
			)
		}
	}
	for _, row := range rows {
		for i := range row {
			row[i] = words.Cell(row[i])
		}
	}
	if err := table.WriteAll(rows); err != nil {
		return err
	}
	return table.Error()
}
