package render

import (
	"fmt"

	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
)

// mostSurvived is how many unnoticed changes are told.
const mostSurvived = 20

// Drills writes what came of the drills: those that failed in full.
func (p *Page) Drills(r *drill.Report) {
	answer := fmt.Sprintf("All %s passed", words.Count(len(r.Results), "drill"))
	if failed := r.Failed(); failed > 0 {
		answer = fmt.Sprintf("%d of %s failed", failed, words.Count(len(r.Results), "drill"))
	}
	p.line("%s", p.bold.Render(answer))
	p.line("")
	width := 0
	for _, result := range r.Results {
		width = max(width, len(result.Name))
	}
	for _, result := range r.Results {
		if result.Passed {
			p.hang(pad(p.good.Render("PASSED"), 8)+pad(result.Name, width)+"  ", width+10, result.Wanted)
			continue
		}
		p.hang(
			pad(p.grave.Render("FAILED"), 8)+pad(p.bold.Render(result.Name), width)+"  ",
			width+10,
			"wanted "+result.Wanted+", got "+result.Got,
		)
		for _, why := range result.Why {
			p.hang("", width+10, why)
		}
		p.hang("", width+10, p.dim.Render(result.At.String()))
	}
	p.line("")
	p.labelled("Reach", fmt.Sprintf("%d of %s are reached by some drill.", r.Coverage.Reached, words.Count(r.Coverage.Rules, "rule")))
	if len(r.Coverage.Unreached) > 0 {
		p.labelled("", "No drill reaches "+words.List(r.Coverage.Unreached, "or")+".")
	}
	if m := r.Mutations; m != nil {
		p.labelled("Changes", fmt.Sprintf("%d of %s were noticed.", m.Noticed, words.Count(m.Tried, "change")+" on trial"))
		for i, survived := range m.Survived {
			if i == mostSurvived {
				p.labelled("", fmt.Sprintf("… and %d more; --json has them all.", len(m.Survived)-i))
				break
			}
			p.labelled("", fmt.Sprintf("nobody notices: %s %s", survived.Of, survived.Text))
		}
	} else {
		p.commands("Next", terminal.Command("briskwarden drill --mutate"))
	}
}
