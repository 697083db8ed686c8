package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/words"
)

//go:embed page.html
var pageText string

//go:embed style.css
var style string

// Style is the style sheet of the page, for other pages that are shown beside it.
func Style() string { return style }

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"style": func() template.CSS { return template.CSS(style) },
	"drawn": func(p *Plot) template.HTML { return template.HTML(p.draw()) }, // draw escapes all that it is given
	"class": func(p *Plot, n int) string {
		if p.Name == "rules" {
			n++
		}
		return fmt.Sprintf("s%d", n)
	},
}).Parse(pageText))

// paged is what the page is made of.
type paged struct {
	*Report
	Stretch  string
	Sections []pagedSection
	// FromDay and ToDay are the stretch as the fields of a form have it, "" for an end that is open.
	FromDay, ToDay string
	// Stretches are links to reports on other stretches of time, where the page is a live one.
	Stretches []Link
}

// Link is a link of a page.
type Link struct{ Name, Link string }

type pagedSection struct {
	Section
	Drawn []*Plot
}

func (r *Report) paged() paged {
	p := paged{Report: r, Stretch: "No decisions"}
	if !r.First.IsZero() {
		first, last := r.First.In(r.zone).Format("2 January 2006"), r.Last.In(r.zone).Format("2 January 2006")
		if p.Stretch = first; last != first {
			p.Stretch += " to " + last
		}
	}
	for _, s := range r.Sections() {
		section := pagedSection{Section: s}
		for _, name := range s.Plots {
			for i := range r.Plots {
				if r.Plots[i].Name == name {
					section.Drawn = append(section.Drawn, &r.Plots[i])
				}
			}
		}
		p.Sections = append(p.Sections, section)
	}
	return p
}

// WriteHTML writes the report as one page that needs no network and no scripts. A live page gets links to
// other stretches of time.
func (r *Report) WriteHTML(w io.Writer, stretches ...Link) error {
	p := r.paged()
	p.Stretches = stretches
	for _, x := range []struct {
		at   time.Time
		into *string
	}{{r.From, &p.FromDay}, {r.To, &p.ToDay}} {
		if !x.at.IsZero() {
			*x.into = x.at.In(r.zone).Format(time.DateOnly)
		}
	}
	return page.Execute(w, p)
}

// WriteMarkdown writes the report as CommonMark with the tables of GitHub Flavored Markdown.
func (r *Report) WriteMarkdown(w io.Writer) error {
	var b strings.Builder
	p := r.paged()
	fmt.Fprintf(&b, "# %s\n", words.Markdown("Report: "+p.Stretch))
	for _, line := range []string{r.Happened, r.Wrong, r.Do} {
		fmt.Fprintf(&b, "\n%s\n", words.Markdown(line))
	}
	for _, s := range r.Sections() {
		fmt.Fprintf(&b, "\n## %s\n", words.Markdown(s.Heading))
		for _, line := range s.Lines {
			fmt.Fprintf(&b, "\n%s\n", words.Markdown(line))
		}
		for _, t := range s.Tables {
			if len(t.Rows) == 0 {
				continue
			}
			if t.Title != "" {
				fmt.Fprintf(&b, "\n**%s**\n", words.Markdown(t.Title))
			}
			b.WriteString("\n|")
			rule := "|"
			for _, c := range t.Columns {
				fmt.Fprintf(&b, " %s |", words.Markdown(c.Head))
				if c.Number {
					rule += " ---: |"
				} else {
					rule += " --- |"
				}
			}
			commands := t.HasCommands()
			if commands {
				b.WriteString(" Command |")
				rule += " --- |"
			}
			fmt.Fprintf(&b, "\n%s\n", rule)
			for _, row := range t.Rows {
				b.WriteString("|")
				for _, text := range row.Cells {
					fmt.Fprintf(&b, " %s |", words.Markdown(text))
				}
				if commands {
					command := ""
					if row.Command != "" {
						command = "`" + strings.ReplaceAll(strings.ReplaceAll(row.Command, "`", ""), "|", `\|`) + "`"
					}
					fmt.Fprintf(&b, " %s |", command)
				}
				b.WriteString("\n")
			}
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// HasCommands reports whether a row of the table has a command.
func (t Table) HasCommands() bool {
	return slices.ContainsFunc(t.Rows, func(r Row) bool { return r.Command != "" })
}
