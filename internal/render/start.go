package render

import (
	"fmt"

	"github.com/briskwarden/briskwarden/admin/start"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
)

// mostSkipped is how many lines that were left out are told.
const mostSkipped = 10

// Started tells what was laid out, and how to go on.
func (p *Page) Started(s *start.Report) {
	p.line("%s", p.bold.Render("A new book is in "+s.Folder))
	for _, path := range s.Files {
		p.line("  %s", path)
	}
	p.line("")
	if s.Accounts > 0 {
		p.labelled("People", fmt.Sprintf("%s in %s were read.", words.Count(s.Accounts, "account"), words.Count(s.Groups, "group")))
	}
	for i, sentence := range s.Taken {
		label := ""
		if i == 0 {
			label = "Taken"
		}
		p.labelled(label, sentence)
	}
	for i, skipped := range s.Skipped {
		label := ""
		if i == 0 {
			label = "Left out"
		}
		if i == mostSkipped {
			p.labelled("", fmt.Sprintf("… and %d more; --json has them all.", len(s.Skipped)-i))
			break
		}
		p.labelled(label, fmt.Sprintf("line %d: %s", skipped.Line, skipped.Text))
	}
	p.labelled("Begins", s.Administrator+" looks after the systems, and is the first for whom the second factor is in force. "+
		"Everyone else signs on as until now, and the shadow tells what will change for them.")
	p.labelled("Inspect", inspectionSum(s.Inspection)+".")
	for _, f := range s.Inspection.Findings {
		p.labelled("", f.Name+": "+f.Text)
	}
	p.line("")
	p.commands(
		"Next",
		terminal.Command("briskwarden describe --book %s", s.Folder),
		terminal.Command(
			"briskwarden rehearse --book %s --account %s --app mail --ip 203.0.113.20 --proved password",
			s.Folder,
			s.Administrator,
		),
	)
}
