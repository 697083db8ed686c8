package render

import (
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/inspect"
	"github.com/briskwarden/briskwarden/rehearse"
)

// SceneReport is one rehearsed scene of the demo.
type SceneReport struct {
	Title   string           `json:"title"`
	Differs string           `json:"differs"`
	Report  *rehearse.Report `json:"report"`
}

// Demo writes the guided example.
func (p *Page) Demo(b *book.Book, scenes []SceneReport, zone *time.Location) {
	p.line("%s", p.bold.Render("Kestrel Sound Ferries, a made-up ferry line"))
	p.hang("", 0, fmt.Sprintf("Its book has %d policies, %d accounts in %d groups, %d apps, %d networks and %d windows. "+
		"Below, Ingrid of the ticket office opens the card till, six times; each attempt differs from the first in one thing.",
		len(b.Policies), len(b.Accounts), len(b.Groups), len(b.Apps), len(b.Networks), len(b.Windows)))
	for i, s := range scenes {
		p.line("")
		lead := fmt.Sprintf("%d %s", i+1, p.bold.Render(s.Title))
		differs := s.Differs
		if i > 0 {
			differs = "the same " + differs
		}
		p.line("%s  %s: %s", pad(p.verdict(s.Report.Verdict), len("STEP UP")), lead, differs)
		for _, text := range causes(s.Report.Decision) {
			p.hang("", len("STEP UP")+2, text)
		}
	}
	p.line("")
	p.hang(p.bold.Render("The join"), labelColumn, "Every policy that applies has its say and the strictest stands, so 2 is asked for more by fleet-baseline "+
		"though the till is content. What is not known never helps: in 5 the country is missing, so the rule that may block does. "+
		"In 6 only the policy applies that names the emergency account; nothing else can lock it out.")
	p.line("")
	p.commands("Next", "briskwarden demo --out kestrel", "briskwarden rehearse --book kestrel --account ingrid@kestrelsound.example --app card-till --ip 198.51.100.200 --country BR --proved password")
}

// DemoWritten tells where a book of the demo was laid, and the command to go on
// with.
func (p *Page) DemoWritten(dir string, paths []string, next string) {
	p.line("The book of Kestrel Sound Ferries is in %s:", dir)
	for _, path := range paths {
		p.line("  %s", path)
	}
	p.line("")
	if next == "inspect" {
		p.commands("Next", "briskwarden inspect --book "+dir)
		p.labelled("", "Then correct what it finds in "+dir+" and inspect again.")
		return
	}
	p.commands("Next", "briskwarden rehearse --book "+dir+" --account ingrid@kestrelsound.example --app card-till --ip 203.0.113.20 --proved password")
	p.labelled("", "Then change a rule in "+dir+"/policies.yaml and rehearse again.")
}

// DemoFaulty tells of each mistake in the faulty book what inspect says of it.
func (p *Page) DemoFaulty(faults []demo.Fault, r *inspect.Report) {
	p.line("%s", p.bold.Render(fmt.Sprintf("Kestrel Sound Ferries with %d mistakes, and what inspect says", len(faults))))
	for i, fault := range faults {
		p.line("")
		p.hang(fmt.Sprintf("%d", i+1), 3, fault.Title)
		for _, f := range r.Findings {
			if f.Name == fault.Finding {
				p.hang("", 3, p.severity(f.Severity)+" "+f.Name)
				p.hang("", 3, f.Text)
			}
		}
	}
	p.line("")
	p.labelled("Score", fmt.Sprintf("%d of %d points.", r.Score.Reached, r.Score.Possible))
	p.commands("Next", "briskwarden demo --faulty --out kestrel-faulty", "briskwarden inspect --book kestrel-faulty")
}
