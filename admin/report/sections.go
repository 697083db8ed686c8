package report

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Section is a part of the report as people read it.
type Section struct {
	// ID names it within a document, and Short is its heading in a word.
	ID, Short, Heading string
	// Lines are said before the tables.
	Lines []string
	// Plots are the names of those that are drawn in it.
	Plots  []string
	Tables []Table
}

// Table is numbers beside each other.
type Table struct {
	Title   string
	Columns []Column
	Rows    []Row
}

// Column is one of a table.
type Column struct {
	Head string
	// Number says that it holds numbers.
	Number bool
}

// Class is how a page sets it.
func (c Column) Class() string {
	switch {
	case c.Number:
		return "n"
	case c.Head == "When":
		return "when"
	}
	return "name"
}

// IsWide reports whether a table takes the whole width of a page.
func (t Table) IsWide() bool {
	return len(t.Columns) > 4 || t.HasCommands() && len(t.Columns) > 1 || t.Title == ""
}

// Row is one of a table. Command shows what is behind it, "" where nothing is.
type Row struct {
	Cells   []string
	Command string
}

// Link is the page of what is behind it, "" where a command shows it.
func (r Row) Link() string {
	if strings.HasPrefix(r.Command, "/") {
		return r.Command
	}
	return ""
}

func columns(heads ...string) []Column {
	list := make([]Column, len(heads))
	for i, head := range heads {
		list[i] = Column{strings.TrimPrefix(head, "#"), strings.HasPrefix(head, "#")}
	}
	return list
}

func (t *Table) add(command string, cells ...string) {
	t.Rows = append(t.Rows, Row{cells, command})
}

func number[T ~int | ~int64](n T) string { return strconv.FormatInt(int64(n), 10) }

// Sections returns the report as people read it: what is wrong first.
func (r *Report) Sections() []Section {
	return []Section{r.troublesSection(), r.decisionsSection(), r.stoppedSection(), r.riskSection(), r.workSection(), r.rolloutSection(),
		r.exemptionSection(), r.programSection(), r.nextSection()}
}

func (r *Report) at(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.In(r.zone).Format("2006-01-02 15:04")
}

// stretchOf is from when to when, as short as it can be said.
func (r *Report) stretchOf(from, to time.Time) string {
	from, to = from.In(r.zone), to.In(r.zone)
	const day, clock = "2 Jan", "15:04"
	switch {
	case from.Equal(to) && from.Format(clock) == "00:00": // a day
		return from.Format(day)
	case from.Format(day) != to.Format(day):
		return from.Format(day) + " to " + to.Format(day)
	case from.Format(clock) != to.Format(clock):
		return from.Format(day+" "+clock) + " to " + to.Format(clock)
	}
	return from.Format(day + " " + clock)
}

func (r *Report) troublesSection() Section {
	s := Section{ID: "troubles", Short: "Wrong", Heading: "What looks wrong"}
	if len(r.Troubles) == 0 {
		s.Lines = []string{r.Wrong}
		return s
	}
	t := Table{Columns: columns("What", "When", "What to do")}
	for i := range r.Troubles {
		x := &r.Troubles[i]
		t.add(x.Command, x.Text, r.stretchOf(x.Since, x.Last), words.Capital(x.Do))
	}
	s.Tables = []Table{t}
	return s
}

func counted(title, head string, counts []replay.NamedCount) Table {
	t := Table{Title: title, Columns: columns(head, "#Granted", "#Asked", "#Blocked")}
	for _, c := range counts {
		t.add("", c.Name, number(c.Counts.Grant), number(c.Counts.StepUp), number(c.Counts.Block))
	}
	return t
}

func (r *Report) decisionsSection() Section {
	all := r.Verdicts.All()
	s := Section{ID: "decisions", Short: "Decided", Heading: "What was decided", Plots: []string{"days", "hours"}}
	s.Lines = []string{
		fmt.Sprintf(
			"%s: %d granted (%s), %d asked for more (%s), %d blocked (%s).",
			words.Count(int(all), "attempt"),
			r.Verdicts.Grant,
			percent(
				r.Verdicts.Grant,
				all,
			),
			r.Verdicts.StepUp,
			percent(r.Verdicts.StepUp, all),
			r.Verdicts.Block,
			percent(r.Verdicts.Block, all),
		),
	}
	if r.Shadow != r.Verdicts {
		s.Lines = append(
			s.Lines,
			fmt.Sprintf("Were the shadow policies live: %d granted, %d asked for more, %d blocked.", r.Shadow.Grant, r.Shadow.StepUp,
				r.Shadow.Block),
		)
	}
	days := Table{Title: "By day", Columns: columns("Day", "#Granted", "#Asked", "#Blocked")}
	for _, d := range r.Days {
		days.add("", d.Date, number(d.Counts.Grant), number(d.Counts.StepUp), number(d.Counts.Block))
	}
	hours := Table{Title: "By hour of the day, " + r.Zone, Columns: columns("Hour", "#Granted", "#Asked", "#Blocked")}
	for hour, c := range r.Hours {
		if c.All() > 0 {
			hours.add("", fmt.Sprintf("%02d", hour), number(c.Grant), number(c.StepUp), number(c.Block))
		}
	}
	methods := Table{Title: "Methods that were proven", Columns: columns("Method", "#Attempts", "#Accounts")}
	for _, m := range r.Methods {
		methods.add("", m.Name, number(m.Times), number(m.Accounts))
	}
	s.Tables = []Table{days, hours, counted("By app", "App", r.Apps), counted("By country", "Country", r.Countries), methods}
	return s
}

func (r *Report) stoppedSection() Section {
	s := Section{ID: "stopped", Short: "Stopped", Heading: "Who was stopped, and by what", Plots: []string{"rules"}}
	rules := Table{Title: "By rule", Columns: columns("Rule", "#Blocked", "#Asked", "#Accounts")}
	for i := range r.Rules {
		x := &r.Rules[i]
		rules.add(x.Command, x.name(), number(x.Blocks), number(x.Asked), number(x.Accounts))
	}
	people := Table{Title: "By account", Columns: columns("Account", "#Blocked", "#Asked", "#Granted", "Most by", "Last let in")}
	for i := range r.Stopped {
		x := &r.Stopped[i]
		rule := Rule{}
		rule.Policy, rule.Rule = x.Policy, x.Rule
		people.add(
			x.Command,
			x.Account,
			number(x.Counts.Block),
			number(x.Counts.StepUp),
			number(x.Counts.Grant),
			rule.name(),
			r.at(x.Granted),
		)
	}
	addresses := Table{
		Title:   "Addresses from which many accounts were tried",
		Columns: columns("Address", "#Stopped", "#Granted", "#Accounts", "First", "Last"),
	}
	for i := range r.Addresses {
		x := &r.Addresses[i]
		addresses.add(x.Command, x.IP, number(x.Stopped), number(x.Granted), number(x.Accounts), r.at(x.First), r.at(x.Last))
	}
	s.Tables = []Table{rules, people, addresses}
	return s
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func (r *Report) riskSection() Section {
	s := Section{ID: "risk", Short: "Risk", Heading: "Accounts and attempts with risk"}
	accounts := Table{
		Title:   "Accounts",
		Columns: columns("Account", "Level", "Noticed", "#Attempts", "#Granted", "Since", "Last", "Put right"),
	}
	for i := range r.AccountsWithRisk {
		x := &r.AccountsWithRisk[i]
		accounts.add(
			x.Command,
			x.Account,
			x.Level.String(),
			strings.Join(x.Signals, ", "),
			number(x.Attempts),
			number(x.Granted),
			r.at(x.Since),
			r.at(x.Last),
			yesNo(x.PutRight),
		)
	}
	standing := Table{Title: "Accounts with a standing risk", Columns: columns("Account", "Level", "Because", "Since", "Put right")}
	for i := range r.Standing {
		x := &r.Standing[i]
		since := "not known"
		if x.Since != nil {
			since = r.at(*x.Since)
		}
		standing.add("", x.Account, x.Level.String(), cmp.Or(x.Because, "no reason is given"), since, yesNo(x.PutRight))
	}
	noticed := Table{Title: "What was noticed", Columns: columns("Signal", "#Times", "#Accounts", "#Granted all the same")}
	for _, x := range r.Noticed {
		noticed.add("", x.Signal, number(x.Times), number(x.Accounts), number(x.Granted))
	}
	const most = 20
	signIns := Table{
		Title:   "Attempts, the gravest first",
		Columns: columns("When", "Account", "App", "From", "Level", "#Score", "Noticed", "Verdict"),
	}
	for i := range r.AttemptsWithRisk[:min(most, len(r.AttemptsWithRisk))] {
		x := &r.AttemptsWithRisk[i]
		signIns.add(
			"",
			r.at(x.At),
			x.Account,
			x.App,
			strings.TrimSpace(x.IP+" "+x.Country),
			x.Level.String(),
			number(x.Score),
			strings.Join(x.Signals, ", "),
			strings.ReplaceAll(x.Verdict, "_", " "),
		)
	}
	s.Tables = []Table{accounts, standing, noticed, signIns}
	if len(r.AccountsWithRisk)+len(r.Standing)+len(r.Noticed) == 0 {
		s.Lines = []string{"Nothing was noticed in this stretch of time."}
	}
	return s
}

func (r *Report) workSection() Section {
	w := &r.Work
	s := Section{ID: "work", Short: "Work", Heading: "Whether people can work"}
	s.Lines = []string{
		fmt.Sprintf(
			"On %s with attempts an account was asked for more %.2f times on average: %d at the median, at most %d on 95 of 100, %d at the worst.",
			words.Count(int(w.PersonDays), "day"),
			w.Prompts.Mean,
			w.Prompts.Median,
			w.Prompts.P95,
			w.Prompts.Worst,
		),
		fmt.Sprintf("Of %s %s came at the first try; before %d the account had been stopped at the same app within ten minutes.",
			words.Count(int(w.Grants), "grant"), percent(w.FirstTry, w.Grants), w.CameBack),
	}
	const most = 10
	asked := Table{Title: "Asked most on one day", Columns: columns("Account", "Day", "#Asked")}
	for i := range w.Asked[:min(most, len(w.Asked))] {
		asked.add(w.Asked[i].Command, w.Asked[i].Account, w.Asked[i].Date, number(w.Asked[i].Prompts))
	}
	s.Tables = []Table{asked}
	return s
}

func (r *Report) rolloutSection() Section {
	s := Section{ID: "rollouts", Short: "Enrolment", Heading: "Who is enrolled"}
	if len(r.Rollouts) == 0 {
		s.Lines = []string{"The book has no rollout."}
	}
	for i := range r.Rollouts {
		x := &r.Rollouts[i]
		when := fmt.Sprintf("%s is demanded from %s, in %s", x.Name, x.Enforced, words.Count(x.DaysLeft, "day"))
		if x.DaysLeft < 0 {
			when = fmt.Sprintf("%s has been demanded since %s", x.Name, x.Enforced)
		}
		s.Lines = append(
			s.Lines,
			fmt.Sprintf(
				"%s: of %s %d are ready, %d have one method only, %d text messages only, %d nothing and time left, and %d would be locked out.",
				when,
				words.Count(x.Counts.People, "person"),
				x.Counts.Ready,
				x.Counts.Single,
				x.Counts.Weak,
				x.Counts.InGrace,
				x.Counts.LockedOut,
			),
		)
		groups := Table{
			Title:   x.Name + ", by group",
			Columns: columns("Group", "#People", "#Ready", "#One method", "#Messages only", "#In grace", "#Locked out"),
		}
		for _, g := range x.Groups {
			c := g.Counts
			groups.add(
				x.Command,
				g.Name,
				number(c.People),
				number(c.Ready),
				number(c.Single),
				number(c.Weak),
				number(c.InGrace),
				number(c.LockedOut),
			)
		}
		eased := map[string]int{}
		for _, d := range x.Eased {
			eased[d.Date] = d.Count
		}
		s.Lines = append(s.Lines, "By day: an account counts as enrolled from the day after the last on which it was let in without.")
		days := Table{Title: x.Name + ", by day", Columns: columns("Day", "#Enrolled", "#Not yet", "#Let in without")}
		for _, d := range x.Enrolled {
			days.add("", d.Date, number(d.Count), number(x.Counts.People-d.Count), number(eased[d.Date]))
		}
		s.Plots = append(s.Plots, "enrolment-"+x.Name, "rollout-"+x.Name)
		s.Tables = append(s.Tables, groups, days)
	}
	return s
}

func (r *Report) exemptionSection() Section {
	s := Section{ID: "exemptions", Short: "Exemptions", Heading: "Exemptions and their ends"}
	t := Table{Columns: columns("Exemption", "Excuses from", "Because", "Until", "#Used", "Last")}
	for i := range r.Exemptions {
		x := &r.Exemptions[i]
		until := "no end"
		if x.Until != nil {
			until = x.Until.String()
		}
		if x.Ended {
			until += ", past"
		}
		t.add("", x.Name, strings.Join(x.From, ", "), x.Because, until, number(x.Times), r.at(x.Last))
	}
	s.Tables = []Table{t}
	if len(r.Exemptions) == 0 {
		s.Lines = []string{"The book has no exemption."}
	}
	return s
}

func (r *Report) programSection() Section {
	s := Section{ID: "programs", Short: "Programs", Heading: "Outside programs"}
	t := Table{Columns: columns("Program", "Standing", "Danger", "#Accounts", "#Waiting", "Has")}
	for i := range r.Programs {
		x := &r.Programs[i]
		t.add(
			"",
			x.Client,
			x.Standing.String(),
			fmt.Sprintf("%s, %d", x.Grade.Level, x.Grade.Danger),
			number(x.Users),
			number(x.Waiting),
			strings.Join(x.Scopes, ", "),
		)
	}
	s.Tables = []Table{t}
	if len(r.Programs) == 0 {
		s.Lines = []string{"There is no record of consent beside the book, or it is empty."}
	}
	return s
}

func (r *Report) nextSection() Section {
	s := Section{ID: "next", Short: "Next", Heading: "What to do next"}
	if r.Score != nil {
		s.Lines = append(s.Lines, fmt.Sprintf("The book reaches %d of %d points of inspect.", r.Score.Reached, r.Score.Possible))
		if len(r.Score.Moved) > 0 {
			s.Plots = append(s.Plots, "score")
		}
	}
	t := Table{Columns: columns("What")}
	for _, step := range r.Next {
		t.add(step.Command, step.Text)
	}
	s.Tables = []Table{t}
	if r.Score != nil {
		moved := Table{Title: "Points by book in force", Columns: columns("When", "Book", "#Reached", "#Possible")}
		for _, at := range r.Score.Moved {
			moved.add("", r.at(at.At), evidence.ShortDigest(at.Book), number(at.Reached), number(at.Possible))
		}
		if len(r.Score.Moved) > 0 {
			s.Tables = append(s.Tables, moved)
		}
	}
	return s
}
