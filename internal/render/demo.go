package render

import (
	"fmt"
	"strings"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/terminal"
)

// SceneReport is one rehearsed scene of the demo.
type SceneReport struct {
	Title   string           `json:"title"`
	Differs string           `json:"differs"`
	Report  *rehearse.Report `json:"report"`
}

// StepReport is a step of the walk with what its command printed.
type StepReport struct {
	Number int
	demo.Step
	Output string
}

// Walk writes the guided walk: of each step what it is for, the beginning of what
// its command prints, and the command that shows more.
func (p *Page) Walk(b *book.Book, steps []StepReport, scenes []SceneReport) {
	p.line("%s", p.bold.Render("Kestrel Sound Ferries, a made-up ferry line"))
	p.hang("", 0, fmt.Sprintf("Its book has %d policies, %d accounts in %d groups, %d apps, %d networks and %d windows. "+
		"Below is what an administrator does with it, step by step, each with the beginning of what it prints; demo --step N shows one alone.",
		len(b.Policies), len(b.Accounts), len(b.Groups), len(b.Apps), len(b.Networks), len(b.Windows)))
	for _, s := range steps {
		p.line("")
		p.step(s, scenes, s.Lines)
	}
	p.line("")
	p.line("%s", p.heading.Render("To walk it yourself"))
	p.commands(
		"",
		terminal.Command("briskwarden demo --out %s", demo.Folder),
		terminal.Command("briskwarden demo --proposed --out %s", demo.ProposedFolder),
		terminal.Command("briskwarden demo --history > %s", demo.HistoryFile),
		terminal.Command("briskwarden consent import --book %s --file %s/grants.csv --as ragna@kestrelsound.example", demo.Folder, demo.Folder),
	)
	p.labelled("Your own", "briskwarden start lays out a small and careful book to begin with.")
}

// Step writes one step of the walk, with all that its command prints.
func (p *Page) Step(s StepReport, scenes []SceneReport) {
	p.step(s, scenes, strings.Count(s.Output, "\n"))
}

func (p *Page) step(s StepReport, scenes []SceneReport, most int) {
	p.line("%s", p.heading.Render(fmt.Sprintf("%d %s", s.Number, s.Title)))
	p.hang("", 0, s.Why)
	p.line("")
	if s.Scenes {
		p.scenes(scenes)
	} else {
		p.line("  $ %s", p.bold.Render("briskwarden "+strings.Join(s.Command, " ")))
		p.excerpt(s.Output, most)
	}
	p.commands("More", terminal.Command(s.More))
}

// excerpt writes the first lines of a text, set in.
func (p *Page) excerpt(text string, most int) {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for _, l := range lines[:min(most, len(lines))] {
		p.line("  %s", p.dim.Render("│")+" "+l)
	}
	if len(lines) > most {
		p.line("  %s", p.dim.Render(fmt.Sprintf("│ … %d lines more", len(lines)-most)))
	}
}

// scenes writes the six attempts, each with its verdict and its reason.
func (p *Page) scenes(scenes []SceneReport) {
	for i, s := range scenes {
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
	p.hang(
		p.bold.Render("The join"),
		labelColumn,
		"Every policy that applies has its say and the strictest stands, so 2 is asked for more by fleet-baseline "+
			"though the till is content. What is not known never helps: in 5 the country is missing, so the rule that may block does. "+
			"In 6 only the policy applies that names the emergency account; nothing else can lock it out.",
	)
}

// DemoWritten tells where a book of the demo was laid, and the command to go on
// with.
func (p *Page) DemoWritten(dir string, paths []string, next string) {
	p.line("The book of Kestrel Sound Ferries is in %s:", dir)
	for _, path := range paths {
		p.line("  %s", path)
	}
	p.line("")
	switch next {
	case "compare":
		p.commands("Next", terminal.Command("briskwarden compare %s %s", demo.Folder, dir))
		return
	case "inspect":
		p.commands("Next", terminal.Command("briskwarden inspect --book %s", dir))
		p.labelled("", "Then correct what it finds in "+dir+" and inspect again.")
		return
	}
	p.commands(
		"Next",
		terminal.Command("briskwarden rehearse --book %s --account ingrid@kestrelsound.example --app card-till "+
			"--ip 203.0.113.20 --proved password", dir),
	)
	p.labelled("", "Then change a rule in "+dir+"/policies.yaml and rehearse again.")
}

// DemoFaulty writes what inspect says of each mistake in the faulty book.
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
	p.commands("Next", terminal.Command("briskwarden demo --faulty --out kestrel-faulty"),
		terminal.Command("briskwarden inspect --book kestrel-faulty"))
}
