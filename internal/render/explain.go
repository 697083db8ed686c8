package render

import (
	"strings"
	"unicode/utf8"

	"github.com/briskwarden/briskwarden/admin/explain"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/internal/terminal"
)

// Explained writes what was said of a word, or the sections.
func (p *Page) Explained(r *explain.Report) {
	if r.Asked == "" {
		p.line("%s", p.bold.Render("The sections of a book, and what stands in many places"))
		p.line("")
		p.words(r.Words)
		p.line("")
		p.commands("Next", terminal.Command("briskwarden explain policies"), terminal.Command("briskwarden explain during"))
		return
	}
	for _, w := range r.Words {
		title := p.bold.Render(w.Name)
		if w.In != "" {
			title += "  in " + w.In
		}
		p.line("%s", title)
		p.line("")
		p.labelled("Means", w.Means+".")
		p.labelled("Values", w.Values+".")
		if w.Required || w.Default != "" {
			p.labelled("Left out", explain.Left(w)+".")
		}
		if w.Example != "" {
			label := p.bold.Render("Example")
			for line := range strings.Lines(w.Example) {
				p.line("%s%s", pad(label, labelColumn), strings.TrimRight(line, "\n"))
				label = ""
			}
			p.line("")
		}
	}
	first := 0
	for i := 0; i < len(r.Inside); {
		last := i
		for last < len(r.Inside) && r.Inside[last].In == r.Inside[i].In {
			last++
		}
		if i == 0 {
			first = last
		}
		p.line("%s", p.heading.Render(r.Inside[i].In))
		p.words(r.Inside[i:last])
		p.line("")
		i = last
	}
	if first > 0 {
		p.commands("Next", terminal.Command("briskwarden explain %s", r.Inside[first-1].Name))
	}
}

// words lists words with what they mean.
func (p *Page) words(list []book.Word) {
	width := 0
	for _, w := range list {
		width = max(width, utf8.RuneCountInString(w.Name))
	}
	for _, w := range list {
		text := w.Means
		switch {
		case w.Required:
			text += " (required)"
		case w.Default != "" && w.Default != book.NoDefault && w.Default != "false":
			text += " (left out: " + w.Default + ")"
		}
		p.hang(pad(w.Name, width), width+2, text)
	}
}
