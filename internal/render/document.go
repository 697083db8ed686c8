package render

import (
	"fmt"

	"github.com/briskwarden/briskwarden/admin/describe"
)

// Document writes a description.
func (p *Page) Document(doc *describe.Document) {
	p.line("%s", p.bold.Render(doc.Title))
	for _, line := range doc.Summary {
		p.hang("", 0, line)
	}
	for _, s := range doc.Sections {
		p.line("")
		p.line("%s", p.heading.Render(s.Heading))
		for _, line := range s.Lines {
			p.hang("", 0, line)
		}
		for _, entry := range s.Entries {
			if entry.Lead != "" {
				p.hang("", 2, p.bold.Render(entry.Lead))
			}
			for i, rule := range entry.Rules {
				p.hang(fmt.Sprintf("  %2d", i+1), 6, rule)
			}
		}
	}
}
