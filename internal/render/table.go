package render

import (
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// column is a column of a table, its head in lines.
type column struct {
	head  []string
	cells []string
}

func (c column) width() int {
	width := 0
	for _, text := range append(c.cells, c.head...) {
		width = max(width, ansi.StringWidth(text))
	}
	return width
}

// table writes columns behind the first ones. Where they do not fit side by side,
// they are written in several tables.
func (p *Page) table(leads, columns []column) {
	for len(columns) > 0 {
		room, n := p.width, 0
		for _, lead := range leads {
			room -= lead.width() + 2
		}
		for n < len(columns) && (n == 0 || room >= columns[n].width()+2) {
			room -= columns[n].width() + 2
			n++
		}
		p.tableOf(slices.Concat(leads, columns[:n]))
		if columns = columns[n:]; len(columns) > 0 {
			p.line("")
		}
	}
}

func (p *Page) tableOf(columns []column) {
	lines := 1
	for _, c := range columns {
		lines = max(lines, len(c.head))
	}
	for i := range lines {
		var cells []string
		for _, c := range columns {
			text := ""
			if k := i - lines + len(c.head); k >= 0 {
				text = c.head[k]
			}
			text = pad(text, c.width())
			if i == lines-1 {
				text = p.heading.Render(text)
			}
			cells = append(cells, text)
		}
		p.line("%s", strings.Join(cells, "  "))
	}
	for i := range columns[0].cells {
		var cells []string
		for _, c := range columns {
			cells = append(cells, pad(c.cells[i], c.width()))
		}
		p.line("%s", strings.Join(cells, "  "))
	}
}
