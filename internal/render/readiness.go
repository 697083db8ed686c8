package render

import (
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
)

// mostUnready is how many accounts of each status are named.
const mostUnready = 10

// Readiness writes who is ready for each rollout and who is not.
func (p *Page) Readiness(r *readiness.Report, zone *time.Location) {
	if len(r.Rollouts) == 0 {
		p.line("%s", p.bold.Render("The book has no rollout"))
		return
	}
	for i, rollout := range r.Rollouts {
		if i > 0 {
			p.line("")
		}
		c := rollout.Counts
		answer := "Nobody would be locked out"
		if c.LockedOut > 0 {
			answer = fmt.Sprintf("%s would be locked out", words.Count(c.LockedOut, "account"))
		}
		p.hang("", 0, p.bold.Render(fmt.Sprintf("%s on %s (%s, enforced on %s)", answer, rollout.On, rollout.Name, rollout.Enforced)))
		p.line("")
		p.unready(rollout, zone)
		p.readyGroups(rollout)
	}
	p.line("")
	p.commands("Next", terminal.Command("briskwarden readiness --format csv"))
}

// unready writes those who are not ready, by how they stand.
func (p *Page) unready(rollout readiness.Rollout, zone *time.Location) {
	shown := map[readiness.Status]int{}
	for _, a := range rollout.Accounts {
		shown[a.Status]++
		switch n := shown[a.Status]; {
		case n == mostUnready+1:
			p.hang("", 12, "… and more; --json and --format csv have them all.")
			continue
		case n > mostUnready:
			continue
		}
		text := a.Name
		if !a.Until.IsZero() {
			has := "nothing enrolled"
			if len(a.Has) > 0 {
				has = words.List(a.Has, "and") + ", which is not what is asked for"
			}
			text += fmt.Sprintf(" has %s, and time until %s (%s)", has, a.Until.In(zone).Format("2006-01-02 15:04"), words.Count(a.DaysLeft, "day"))
			if !a.Asked {
				text += "; it was not asked yet"
			}
		} else if len(a.Has) > 0 {
			text += " has " + words.List(a.Has, "and") + " only"
		}
		if a.App != "" {
			text += "; it could not open " + a.App
			if a.Away {
				text += " away from own networks"
			}
		}
		p.hang(pad(p.status(a.Status), 12), 12, text+".")
	}
}

func (p *Page) status(s readiness.Status) string {
	text := strings.ToUpper(strings.ReplaceAll(string(s), "_", " "))
	switch s {
	case readiness.LockedOut:
		return p.grave.Render(text)
	case readiness.InGrace, readiness.Weak:
		return p.careful.Render(text)
	}
	return p.bold.Render(text)
}

// readyGroups writes how many stand how, by group.
func (p *Page) readyGroups(rollout readiness.Rollout) {
	columns := []column{
		{head: []string{"People"}},
		{head: []string{"Ready"}},
		{head: []string{"Single"}},
		{head: []string{"Weak"}},
		{head: []string{"In grace"}},
		{head: []string{"Locked out"}},
	}
	lead := column{head: []string{"Group"}}
	add := func(name string, c readiness.Counts) {
		lead.cells = append(lead.cells, name)
		for i, n := range []int{c.People, c.Ready, c.Single, c.Weak, c.InGrace, c.LockedOut} {
			columns[i].cells = append(columns[i].cells, fmt.Sprint(n))
		}
	}
	for _, g := range rollout.Groups {
		add(g.Name, g.Counts)
	}
	add("all", rollout.Counts)
	p.line("")
	p.table([]column{lead}, columns)
}
