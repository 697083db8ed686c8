package render

import (
	"strings"

	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
)

// ServeChecked tells what would keep a door from starting.
func (p *Page) ServeChecked(c *service.Checked, config string) {
	if len(c.Wrong) > 0 {
		p.line("%s  %s", p.grave.Render("NOT READY"), words.Count(len(c.Wrong), "thing")+" to put right first")
		p.line("")
		for _, text := range c.Wrong {
			p.hang("  ", 2, text)
		}
		p.line("")
	} else {
		p.line("%s  the door would start with this book", p.good.Render("READY"))
		p.line("")
	}
	p.labelled("Listens", c.Listen)
	p.labelled("Store", c.Store)
	if len(c.Callers) == 0 {
		p.labelled("Callers", "nobody: every request but /healthz and /readyz is refused")
	}
	for i, caller := range c.Callers {
		label := ""
		if i == 0 {
			label = "Callers"
		}
		p.labelled(label, caller)
	}
	for i, text := range c.Unreached {
		label := ""
		if i == 0 {
			label = "Untold"
		}
		p.labelled(label, text)
	}
	if len(c.Wrong) == 0 {
		drills := "the book has none; drills keep a mistake from being taken into force"
		if c.Drills > 0 {
			drills = words.Count(c.Drills, "drill") + ", all pass"
		}
		p.labelled("Drills", drills)
		p.line("")
		p.commands("Next", terminal.Command("briskwarden serve --book %s --config %s", p.folder, config))
	}
}

// ServeToken prints a new token, and what lets its bearer in.
func (p *Page) ServeToken(token, config string) {
	p.line("%s", p.bold.Render("The token, which is printed this once:"))
	p.line("")
	p.line("%s", token)
	p.line("")
	p.line("%s", p.bold.Render("For the configuration, which has no more than its digest:"))
	p.line("")
	for line := range strings.Lines(config) {
		p.line("%s", strings.TrimRight(line, "\n"))
	}
}

// ServeBackedUp tells where a copy of the store is.
func (p *Page) ServeBackedUp(path string) {
	p.line("A copy of the store is in %s.", path)
	p.line("")
	p.commands("Next", terminal.Command("briskwarden journal verify --file %s", path))
}
