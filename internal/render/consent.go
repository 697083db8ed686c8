package render

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// outcome returns an outcome of consent in capitals.
func (p *Page) outcome(o consent.Outcome) string {
	style := [...]lipgloss.Style{consent.Refuse: p.grave, consent.Review: p.careful, consent.Allow: p.good}[o]
	return style.Render(strings.ToUpper(o.String()))
}

// ConsentDecision writes what the rules say of a request.
func (p *Page) ConsentDecision(r consent.Request, d *consent.Decision) {
	p.line("%s  %s for %s, %s data", p.outcome(d.Outcome), r.Client, r.Account, r.Resource)
	p.line("")
	for i, c := range d.Causes {
		label := ""
		if i == 0 {
			label = "Why"
		}
		p.labelled(label, c.Text)
	}
	if d.ToPerson.Say != "" {
		p.labelled("Say", d.ToPerson.Say)
	}
	if !d.Until.IsZero() {
		p.labelled("Until", d.Until.Format(time.DateOnly))
	}
	p.line("")
	p.scopes(d.Scopes)
}

// scopes writes what becomes of each scope.
func (p *Page) scopes(scopes []consent.ScopeDecision) {
	width := len("Scope")
	for _, s := range scopes {
		width = max(width, len(s.Scope))
	}
	p.headings(pad("Scope", width), "Tier    ", "Answer", "Rule, and why")
	for _, s := range scopes {
		rule := s.Rule
		switch {
		case s.Approved:
			rule = "a reviewer approved it"
		case len(s.Rules) > 0:
			rule = "one of " + strings.Join(s.Rules, ", ")
		case rule == "" && s.Outcome == consent.Review:
			rule = "no rule speaks"
		}
		p.hang(
			pad(s.Scope, width)+"  "+pad(s.Tier, 8)+"  "+pad(p.outcome(s.Outcome), 6)+"  ",
			width+20,
			strings.Join(append([]string{rule}, s.Why...), "; "),
		)
	}
}

// ConsentAnswer tells what became of asking.
func (p *Page) ConsentAnswer(r consent.Request, a *acts.Answer) {
	p.ConsentDecision(r, a.Decision)
	p.line("")
	switch {
	case a.Request != 0:
		others := ""
		if a.Others > 0 {
			others = fmt.Sprintf(
				" %s for the same.",
				strings.Replace(words.Count(a.Others, "other")+" wait", "1 other wait", "1 other waits", 1),
			)
		}
		p.labelled("Waits", fmt.Sprintf("as request %d, until %s.%s", a.Request, a.Expires.Format(time.DateOnly), others))
		p.commands("Next", p.consent("queue"))
	case a.Outcome == consent.Allow:
		p.labelled("Recorded", r.Client+" is let in.")
	}
}

// level returns a level of danger, coloured.
func (p *Page) level(l directory.Level) string {
	style := [...]lipgloss.Style{directory.NoRisk: p.dim, directory.LowRisk: p.bold, directory.MediumRisk: p.careful,
		directory.HighRisk: p.grave}[l]
	return style.Render(strings.ToUpper(l.String()))
}

// ConsentQueue writes what waits for a reviewer.
func (p *Page) ConsentQueue(batches []acts.Batch, at time.Time) {
	waiting := 0
	for _, b := range batches {
		waiting += len(b.Requests)
	}
	if waiting == 0 {
		p.line("%s", p.bold.Render("Nothing waits for a reviewer"))
		return
	}
	waits := strings.Replace(words.Count(waiting, "request")+" wait", "1 request wait", "1 request waits", 1)
	p.line("%s", p.bold.Render(waits+" for a reviewer"))
	for _, b := range batches {
		p.line("")
		title := b.Client
		if b.Title != "" {
			title = fmt.Sprintf("%s (%s)", b.Title, b.Client)
		}
		p.hang(pad(p.level(b.Grade.Level), 6), 8, p.bold.Render(title)+fmt.Sprintf(", danger %d, on %s data", b.Grade.Danger, b.Resource))
		var asks []string
		for _, s := range b.Scopes {
			asks = append(asks, fmt.Sprintf("%s (%s)", s.Scope, s.Tier))
		}
		p.hang("", 8, "Asks for "+strings.Join(asks, ", "))
		answered := "It does not say where it wants to be answered."
		if b.Redirect != "" {
			answered = "Answered at " + b.Redirect
		}
		p.hang("", 8, answered)
		for _, c := range b.Causes {
			p.hang("", 8, c.Text)
		}
		for _, r := range b.Requests {
			why := ""
			if r.Why != "" {
				why = ": " + r.Why
			}
			asked := "just now"
			if wait := at.Sub(r.At); wait >= time.Minute {
				asked = ago(wait) + " ago"
			}
			p.hang(
				fmt.Sprintf("%8s%-3d ", "", r.Number),
				12,
				fmt.Sprintf("%s, %s, expires in %s%s", r.Account, asked, ago(r.Expires.Sub(at)), why),
			)
		}
	}
	p.line("")
	first := batches[0].Requests[0].Number
	p.commands("Next", p.consent("approve --request %d --as REVIEWER --because WHY", first),
		p.consent("refuse --request %d --as REVIEWER --because WHY", first))
}

// ago words a length of time roughly.
func ago(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return words.Count(int(d/(24*time.Hour)), "day")
	case d >= time.Hour:
		return words.Count(int(d/time.Hour), "hour")
	}
	return words.Count(int(d/time.Minute), "minute")
}

// mostReasons is how many reasons of a grade are told.
const mostReasons = 3

// ConsentRegister writes a table of all clients, the most dangerous first, with
// the reasons below each.
func (p *Page) ConsentRegister(entries []acts.Entry, at time.Time) {
	heading := words.Count(len(entries), "program")
	if len(entries) > 1 {
		heading += ", the most dangerous first"
	}
	p.line("%s", p.bold.Render(heading))
	p.line("")
	width := len("Program")
	for _, e := range entries {
		width = max(width, len(e.Client))
	}
	const danger, standing, accounts = 12, 12, 10
	p.headings(pad("Danger", danger-2), pad("Program", width), pad("Standing", standing-2), pad("Accounts", accounts-2), "Last used")
	for _, e := range entries {
		used := "not known"
		switch {
		case !e.LastUsed.IsZero():
			used = ago(at.Sub(e.LastUsed)) + " ago"
		case e.Users == 0 && e.Ever:
			used = "let in by nobody any more"
		case e.Users == 0:
			used = "never let in"
		}
		if e.Waiting > 0 {
			used += ", " + words.Count(e.Waiting, "request") + " waiting"
		}
		p.line("%s", pad(p.level(e.Grade.Level)+fmt.Sprintf(" %d", e.Grade.Danger), danger)+p.bold.Render(pad(e.Client, width))+"  "+
			pad(e.Standing.String(), standing)+pad(fmt.Sprint(e.Users), accounts)+used)
		lines := []string{}
		if e.Title != "" {
			lines = append(lines, strings.TrimSpace(e.Title+". "+e.Because))
		}
		if len(e.Scopes) > 0 {
			lines = append(lines, "Holds "+strings.Join(e.Scopes, ", ")+".")
		}
		var reasons []string
		for i, r := range e.Grade.Reasons {
			if i == mostReasons && len(e.Grade.Reasons) > mostReasons+1 {
				reasons = append(reasons, fmt.Sprintf("and %d more reasons", len(e.Grade.Reasons)-i))
				break
			}
			reasons = append(reasons, fmt.Sprintf("%s (%d)", strings.TrimSuffix(r.Text, "."), r.Points))
		}
		if len(reasons) > 0 {
			lines = append(lines, strings.Join(reasons, "; ")+".")
		}
		for _, line := range lines {
			p.hang("", danger, line)
		}
		p.line("")
	}
	if len(entries) != 1 {
		p.commands("Next", p.consent("strays"))
	}
}

// ConsentHolders writes who let a program in, and to what.
func (p *Page) ConsentHolders(client string, grants []acts.Grant, zone *time.Location) {
	p.line("%s", p.heading.Render("Let in by "+words.Count(len(grants), "account")))
	for _, g := range grants {
		used := "its use is not known"
		if !g.LastUsed.IsZero() {
			used = "last used on " + g.LastUsed.In(zone).Format(time.DateOnly)
		}
		p.hang("", 2, fmt.Sprintf("%s, on %s data, since %s, %s: %s", g.Account, g.Resource, g.Since.In(zone).Format(time.DateOnly), used,
			strings.Join(g.Scopes, ", ")))
	}
	if len(grants) > 0 {
		p.line("")
		p.commands(
			"Next",
			p.consent("withdraw --account %s --client %s --resource %s --as REVIEWER --because WHY", grants[0].Account, client,
				grants[0].Resource.String()),
		)
	}
}

// ConsentStrays writes the grants that today's rules would not allow.
func (p *Page) ConsentStrays(strays []acts.Stray) {
	if len(strays) == 0 {
		p.line("%s", p.bold.Render("Today's rules would allow every grant"))
		return
	}
	p.line("%s", p.bold.Render(words.Count(len(strays), "grant")+" would not be allowed today"))
	client := ""
	for _, s := range strays {
		if s.Client != client {
			client = s.Client
			p.line("")
			p.line("%s", p.heading.Render(client))
		}
		of := ""
		if len(s.Over) < len(s.Scopes) {
			of = " of " + strings.Join(s.Scopes, ", ")
		}
		text := fmt.Sprintf("%s: %s%s; since %s", s.Account, strings.Join(s.Over, ", "), of, s.Since.Format(time.DateOnly))
		p.hang(pad(p.outcome(s.Outcome), 6), 8, text)
		p.hang("", 8, s.Causes[0].Text)
	}
	p.line("")
	p.commands("Next", p.consent("bar --client %s --as REVIEWER --because WHY", strays[0].Client))
}

// ConsentActed tells what was recorded.
func (p *Page) ConsentActed(acts []acts.Act, zone *time.Location) {
	p.line("%s", p.bold.Render(words.Count(len(acts), "act")+" recorded"))
	p.acts(acts, zone)
}

// ConsentActs writes the record: so many of the last acts, or all where that is 0.
func (p *Page) ConsentActs(r *acts.Record, last int, zone *time.Location) {
	whole := words.Count(len(r.Acts), "act") + " on record, each as it was recorded"
	if c := r.Covered; c != nil {
		whole = fmt.Sprintf("The first %s are as they were at the checkpoint of %s; %d came after it", words.Count(int(c.Acts), "act"),
			c.Origin, c.Since)
	}
	p.line("%s", p.bold.Render(whole))
	shown := r.Acts
	if earlier := len(shown) - last; last > 0 && earlier > 0 {
		shown = shown[earlier:]
		p.line("These are the last %d; --last 0 shows all.", last)
	}
	if len(r.Acts) > 0 {
		p.line("Times are in %s.", zone)
	}
	p.acts(shown, zone)
	if r.Covered == nil && len(r.Acts) > 0 {
		p.line("")
		p.labelled("Note", "That somebody wrote all of it again only a checkpoint shows that is kept elsewhere.")
		p.commands("Next", p.consent("checkpoint --private-key FILE"))
	}
}

// ConsentKey tells where a new key pair is.
func (p *Page) ConsentKey(private, public, key string) {
	p.line("%s", p.bold.Render("A key pair to sign checkpoints with"))
	p.line("")
	p.labelled("Private", private+": anyone who has it can sign; keep it apart from the record.")
	p.labelled("Public", public+": "+key)
	p.line("")
	p.commands("Next", p.consent("checkpoint --private-key %s", private))
}

func (p *Page) acts(acts []acts.Act, zone *time.Location) {
	for _, a := range acts {
		p.hang(fmt.Sprintf("%4d  %s  ", a.Number, a.At.In(zone).Format("2006-01-02 15:04")), 24, a.Sentence())
	}
}
