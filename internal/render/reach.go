package render

import (
	"fmt"
	"strings"

	"github.com/briskwarden/briskwarden/admin/reach"
	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
)

// AccountReach writes the apps that an account can open.
func (p *Page) AccountReach(r *reach.AccountReach) {
	p.line("%s", p.bold.Render(fmt.Sprintf("%s can open %d of %s", r.Account, r.Opens(), words.Count(len(r.Apps), "app"))))
	p.line("")
	width := 0
	for _, a := range r.Apps {
		width = max(width, len(a.App))
	}
	for _, a := range r.Apps {
		text := a.Why
		if len(a.Asks) > 0 {
			text = "asks for " + a.Terms
		}
		if a.WithShadow != a.Verdict {
			text += " (with the shadow policies: " + rehearse.Words(a.WithShadow) + ")"
		}
		p.hang(pad(p.verdict(a.Verdict), verdictWidth)+"  "+pad(a.App, width)+"  ", verdictWidth+width+4, text)
	}
	p.line("")
	p.labelled("Assumed", r.Assumed...)
	p.commands("Next", terminal.Command("briskwarden describe --account %s", r.Account))
}

// verdictWidth is the width of the longest verdict.
const verdictWidth = len("STEP UP")

// AppReach writes who can open an app.
func (p *Page) AppReach(r *reach.AppReach) {
	can, all := r.Opens()
	p.line("%s", p.bold.Render(fmt.Sprintf("%d of %s can open %s", can, words.Count(all, "account"), r.App)))
	for _, a := range r.Answers {
		p.line("")
		names := strings.Join(a.Accounts, ", ") // all, for this is the list of who gets in
		p.hang(pad(p.verdict(a.Verdict), verdictWidth), verdictWidth+2, p.bold.Render(words.Count(len(a.Accounts), "account"))+": "+names)
		text := a.Why
		if len(a.Asks) > 0 {
			text = "Asks for " + a.Terms + "."
		}
		p.hang("", verdictWidth+2, text)
	}
	p.line("")
	p.labelled("Assumed", r.Assumed...)
	if can > 0 {
		p.commands("Next", terminal.Command("briskwarden rehearse --account %s --app %s", r.Answers[0].Accounts[0], r.App))
	}
}

// Matrix writes a verdict for each group at each app.
func (p *Page) Matrix(m *reach.Matrix) {
	p.line("%s", p.bold.Render(fmt.Sprintf("What %s can open at %s", words.Count(len(m.Rows), "group"), words.Count(len(m.Apps), "app"))))
	p.line("")
	first := len("Group")
	some, less := false, false
	for _, r := range m.Rows {
		first = max(first, len(r.Group))
	}
	var columns []column
	for i, app := range m.Apps {
		c := column{head: headOf(app)}
		for _, r := range m.Rows {
			verdict, all, open := r.Cells[i].Mildest()
			cell := "·"
			if open {
				cell = rehearse.Words(verdict)
				if !all {
					cell += "*"
					some = true
				}
				cell = p.ofVerdict(verdict).Render(cell)
			}
			c.cells = append(c.cells, cell)
			less = less || r.Judged < r.Members
		}
		columns = append(columns, c)
	}
	lead := column{head: []string{"Group"}}
	for _, r := range m.Rows {
		lead.cells = append(lead.cells, r.Group)
	}
	p.table([]column{lead}, columns)
	p.line("")
	p.labelled("Reads", "step up: opened once what is asked for is shown; ·: not given to the group, or it has no members.")
	if some {
		p.labelled("", "*: for some of the members only; the others are treated more strictly, or are not given the app.")
	}
	if less {
		p.labelled("", "Of the largest groups the first members were judged; --app and --account judge all.")
	}
	if len(m.Uncovered) > 0 {
		p.labelled("Uncovered", "No live policy covers "+strings.Join(m.Uncovered, ", ")+".")
	}
	p.labelled("Assumed", m.Assumed...)
	p.commands("Next", terminal.Command("briskwarden reach --app %s", m.Apps[0]))
}

// headOf breaks a name for the head of a narrow column.
func headOf(name string) []string {
	if i := strings.LastIndexByte(name, '-'); i > 0 && len(name) > verdictWidth {
		return []string{name[:i+1], name[i+1:]}
	}
	return []string{name}
}
