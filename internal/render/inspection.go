package render

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Source returns the text of a file of the book, for the lines that are shown.
type Source func(file string) ([]byte, error)

// mostOfOneCheck is how many findings of one check are shown in full.
const mostOfOneCheck = 4

// Inspection writes what an inspection found: the sum first, then each finding
// with its line, then what brings most.
func (p *Page) Inspection(r *inspect.Report, source Source) {
	p.line("%s", p.bold.Render(inspectionSum(r)))
	shown := map[string]int{}
	for i, f := range r.Findings {
		// What keeps the book from being read at all is shown whole.
		if shown[f.Check]++; shown[f.Check] > mostOfOneCheck && r.Score.Possible > 0 {
			if i == len(r.Findings)-1 || r.Findings[i+1].Check != f.Check {
				p.moreOf(f.Check, r)
			}
			continue
		}
		p.line("")
		p.hang(p.severity(f.Severity), severityColumn, p.bold.Render(f.Name))
		p.hang("", severityColumn, f.Text)
		p.place(f.At, source)
		if shown[f.Check] == 1 {
			p.hang("", severityColumn, "Way out: "+f.WayOut)
		}
		switch {
		case f.Paste == nil:
		case f.Paste.Into != "":
			p.hang("", severityColumn, "Paste: "+f.Paste.YAML+" into "+f.Paste.Into+".")
		case shown[f.Check] == 1:
			p.hang("", severityColumn, "Paste: a file that does it; --explain with the finding's name shows it.")
		}
	}
	p.line("")
	for i, f := range r.Accepted {
		label := ""
		if i == 0 {
			label = "Accepted"
		}
		p.labelled(label, fmt.Sprintf("%s until %s: %s", f.Name, f.Accepted.Until, f.Accepted.Because))
	}
	for i, imp := range r.Imports {
		label := ""
		if i == 0 {
			label = "Imports"
		}
		p.labelled(
			label,
			fmt.Sprintf("%s (%s): %s, %s old.", imp.Name, imp.File, words.Count(imp.Accounts, "account"), words.Count(imp.Days, "day")),
		)
	}
	p.notRead(r.NotRead)
	if r.Score.Possible == 0 {
		p.line("Everything else is looked at once the book can be read.")
		return
	}
	p.score(r)
	if len(r.Findings) > 0 {
		p.commands("Next", terminal.Command("briskwarden inspect --explain %s", r.Findings[0].Name))
	} else {
		p.commands("Next", terminal.Command("briskwarden describe --by app"))
	}
}

// notRead names what stands in the book's folder and was not read.
func (p *Page) notRead(others []book.NotRead) {
	var names []string
	for _, o := range others {
		names = append(names, o.Name+" ("+o.Why+")")
	}
	if len(names) > 0 {
		p.labelled("Not read", words.UpTo(mostRows, names)+".")
	}
}

// severityColumn is where the text behind a severity begins.
const severityColumn = labelColumn

func (p *Page) moreOf(check string, r *inspect.Report) {
	all := 0
	for _, f := range r.Findings {
		if f.Check == check {
			all++
		}
	}
	p.line("")
	p.hang("", severityColumn, fmt.Sprintf("… and %d more of %s; --json has them all.", all-mostOfOneCheck, check))
}

func inspectionSum(r *inspect.Report) string {
	counts := [3]int{}
	for _, f := range r.Findings {
		counts[f.Severity]++
	}
	var parts []string
	for _, s := range []inspect.Severity{inspect.Error, inspect.Warning, inspect.Note} {
		if counts[s] > 0 {
			parts = append(parts, words.Count(counts[s], s.String()))
		}
	}
	text := "Nothing is amiss"
	if len(parts) > 0 {
		text = strings.Join(parts, ", ")
	}
	if len(r.Accepted) > 0 {
		text += fmt.Sprintf("; %d accepted", len(r.Accepted))
	}
	if r.Score.Possible > 0 {
		text += fmt.Sprintf("; score %d of %d", r.Score.Reached, r.Score.Possible)
	}
	return text
}

// severity returns the word in capitals.
func (p *Page) severity(s inspect.Severity) string {
	style := [...]lipgloss.Style{inspect.Note: p.bold, inspect.Warning: p.careful, inspect.Error: p.grave}[s]
	return style.Render(strings.ToUpper(s.String()))
}

// place writes where something stands, with its line and a caret below it.
func (p *Page) place(at condition.Position, source Source) {
	if !at.IsValid() {
		return
	}
	p.line("%s%s", strings.Repeat(" ", severityColumn), p.dim.Render(at.String()))
	text, err := source(at.File)
	if err != nil {
		return // the place alone will do
	}
	lines := strings.Split(string(text), "\n")
	if at.Line > len(lines) {
		return
	}
	number := fmt.Sprintf("%d", at.Line)
	lead := strings.Repeat(" ", severityColumn+2)
	line, column := window(strings.TrimRight(lines[at.Line-1], "\r"), at.Column, p.width-len(lead)-len(number)-4)
	p.line("%s%s | %s", lead, number, line)
	p.line("%s%s | %s^", lead, strings.Repeat(" ", len(number)), strings.Repeat(" ", column))
}

// window returns as much of a line as there is room for, with the column in it,
// and how many cells come before that column.
func window(line string, column, width int) (string, int) {
	runes := []rune(strings.ReplaceAll(line, "\t", " "))
	column = max(0, min(column-1, len(runes)))
	start := 0
	for start < len(runes) && runes[start] == ' ' && start < column && column > width/2 {
		start++
	}
	if column-start > width-10 {
		start = column - 10
	}
	text := string(runes[start:])
	if ansi.StringWidth(text) > width {
		text = ansi.Truncate(text, width, "…")
	}
	return text, ansi.StringWidth(string(runes[start:column]))
}

// score writes how far the book has come and what brings most.
func (p *Page) score(r *inspect.Report) {
	p.labelled("Score", fmt.Sprintf("%d of %d points.", r.Score.Reached, r.Score.Possible))
	if r.Since != nil {
		p.labelled(
			"Since",
			fmt.Sprintf(
				"It was %d of %d: %s new, %d gone.",
				r.Since.Reached,
				r.Since.Possible,
				words.Count(len(r.Since.New), "finding"),
				len(r.Since.Gone),
			),
		)
		for _, name := range r.Since.New {
			p.labelled("", "new: "+name)
		}
		for _, name := range r.Since.Gone {
			p.labelled("", "gone: "+name)
		}
	}
	for i, item := range r.Score.Open[:min(3, len(r.Score.Open))] {
		label := ""
		if i == 0 {
			label = "First"
		}
		p.labelled(label, fmt.Sprintf("%s brings %d points (%s)", item.Check, item.Worth, words.Count(item.Findings, "finding")))
	}
}

// Checks writes what checks look for, and why.
func (p *Page) Checks(checks []inspect.Check) {
	width := 0
	for _, c := range checks {
		width = max(width, utf8.RuneCountInString(c.Name))
	}
	topic := ""
	for _, c := range checks {
		if c.Topic != topic {
			if topic != "" {
				p.line("")
			}
			topic = c.Topic
			p.line("%s", p.heading.Render(topic))
		}
		p.hang(pad(c.Name, width)+"  "+pad(c.Severity.String(), 7), width+11, c.Title)
	}
}

// Finding explains one finding: what was found, why it matters and what makes it go away.
func (p *Page) Finding(f inspect.Finding, source Source) {
	p.hang(p.severity(f.Severity), severityColumn, p.bold.Render(f.Name))
	p.hang("", severityColumn, f.Text)
	p.place(f.At, source)
	p.line("")
	if check, ok := inspect.FindCheck(f.Check); ok {
		p.labelled("Why", check.Why)
	}
	p.labelled("Way out", f.WayOut)
	switch {
	case f.Paste == nil:
	case f.Paste.Into != "":
		p.labelled("Paste", "This line into "+f.Paste.Into+", in the place of what it says under that key:")
		p.snippet(f.Paste.YAML)
	default:
		p.labelled("Paste", "This file into the folder of the book, under any name that ends in .yaml:")
		p.snippet(f.Paste.YAML)
	}
	if f.Accepted != nil {
		p.labelled("Accepted", fmt.Sprintf("until %s: %s", f.Accepted.Until, f.Accepted.Because))
		return
	}
	p.labelled("Accept", "To live with it for a time, name it in the book under `accepted`, with a reason and an end:")
	p.snippet(fmt.Sprintf("accepted:\n  - {name: %q, because: …, until: …}", f.Name))
}

// snippet shows lines to be copied, as they are.
func (p *Page) snippet(text string) {
	p.line("")
	for line := range strings.Lines(text) {
		p.line("%s%s", strings.Repeat(" ", labelColumn), strings.TrimRight(line, "\n"))
	}
	p.line("")
}

// Check explains one check.
func (p *Page) Check(c inspect.Check) {
	p.line("%s  %s", p.severity(c.Severity), p.bold.Render(c.Name))
	p.line("")
	p.labelled("Finds", c.Title+".")
	p.labelled("Why", c.Why)
	p.labelled("Way out", c.WayOut)
	p.labelled("Accept", "To live with a finding for a time, name it in the book under `accepted`, with a reason and an end:")
	p.snippet(fmt.Sprintf("accepted:\n  - {name: \"%s:…\", because: …, until: …}", c.Name))
}
