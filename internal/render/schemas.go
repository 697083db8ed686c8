package render

import (
	"github.com/briskwarden/briskwarden/internal/schema"
	"github.com/briskwarden/briskwarden/internal/terminal"
)

// Schemas lists what has a schema.
func (p *Page) Schemas(documents []schema.Document) {
	width := 0
	for _, d := range documents {
		width = max(width, len(d.Name))
	}
	for _, d := range documents {
		p.hang(pad(p.bold.Render(d.Name), width), width+2, d.About)
	}
	p.line("")
	p.commands("Next", terminal.Command("briskwarden schema book > book.schema.json"))
}
