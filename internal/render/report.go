package render

import (
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/internal/terminal"
)

// Report writes a report: the three sentences, what looks wrong with the command that shows what is
// behind it, and the beginning of each table.
func (p *Page) Report(r *report.Report) {
	p.sentences(r)
	for _, s := range r.Sections() {
		p.line("")
		p.line("%s", p.bold.Render(s.Heading))
		for _, line := range s.Lines {
			p.line("")
			p.hang("", 0, line)
		}
		if s.ID == "troubles" || s.ID == "next" {
			p.told(s)
			continue
		}
		for _, t := range s.Tables {
			if len(t.Rows) == 0 {
				continue
			}
			p.line("")
			cells := make([]column, len(t.Columns))
			for i, c := range t.Columns {
				cells[i].head = []string{c.Head}
				for _, row := range t.Rows[:min(mostRows, len(t.Rows))] {
					cells[i].cells = append(cells[i].cells, row.Cells[i])
				}
			}
			p.table(cells[:1], cells[1:])
		}
	}
	p.line("")
	p.line("Each table has its first %d rows; --format html, markdown and --json have more, with a command for each number.", mostRows)
}

// told writes what is told in sentences, each with its command.
func (p *Page) told(s report.Section) {
	for _, t := range s.Tables {
		for _, row := range t.Rows {
			p.line("")
			p.hang("- ", 2, row.Cells[0])
			if n := len(row.Cells); n > 1 {
				p.hang("", 2, row.Cells[n-1])
			}
			if row.Command != "" {
				p.line("  %s", p.dim.Render(row.Command))
			}
		}
	}
}

// ReportWritten says what a report that was written into a file begins with.
func (p *Page) ReportWritten(r *report.Report, path string) {
	p.sentences(r)
	p.line("")
	p.labelled("Written", path)
}

// sentences writes what happened, what is wrong and what to do first.
func (p *Page) sentences(r *report.Report) {
	p.hang("", 0, r.Happened)
	style := p.grave
	if len(r.Troubles) == 0 {
		style = p.bold
	}
	p.hang("", 0, style.Render(r.Wrong))
	p.hang("", 0, r.Do)
}

// DemoReported says how the commands of the report on the demo's month come to work.
func (p *Page) DemoReported() {
	p.line("")
	p.commands("Next", terminal.Command("briskwarden demo --out kestrel"), terminal.Command("briskwarden demo --history > month.jsonl"))
	p.line("and the commands of the page show what is behind its numbers.")
}
