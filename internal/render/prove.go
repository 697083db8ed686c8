package render

import (
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Proof writes what came of guarantees: those that fail in full, with the attempt that shows it. Next is a
// command to go on with.
func (p *Page) Proof(r *prove.Report, next []string) {
	fails, open := r.Count(prove.Fails), r.Count(prove.Open)
	answer := fmt.Sprintf("All %s hold in all circumstances", words.Count(len(r.Results), "guarantee"))
	if len(r.Results) == 1 {
		answer = "The guarantee holds in all circumstances"
	}
	if fails+open > 0 {
		answer = fmt.Sprintf(
			"Of %s %d are proven, %d fail, and %d are open",
			words.Count(len(r.Results), "guarantee"),
			r.Count(prove.Proven),
			fails,
			open,
		)
	}
	today := 0
	for i := range r.Results {
		if r.Results[i].Newcomer != nil {
			today++
		}
	}
	if today > 0 {
		answer += fmt.Sprintf(", %d of them for today's accounts only", today)
	}
	p.line("%s", p.bold.Render(answer))
	p.line("")
	width := 0
	for i := range r.Results {
		width = max(width, len(r.Results[i].Name))
	}
	order := map[prove.State]int{prove.Fails: 0, prove.Open: 1, prove.Proven: 2}
	results := slices.Clone(r.Results)
	slices.SortStableFunc(results, func(a, b prove.Result) int { return order[a.State] - order[b.State] })
	for i := range results {
		x := &results[i]
		switch x.State {
		case prove.Proven:
			p.hang(pad(p.good.Render("PROVEN"), 8)+pad(x.Name, width)+"  ", width+10, x.Claim)
			if n := x.Newcomer; n != nil {
				p.hang("", width+10, p.careful.Render("For today's accounts only")+": not for "+n.String()+", at "+n.Attempt.App+". "+n.Why)
			}
		case prove.Open:
			p.hang(pad(p.careful.Render("OPEN"), 8)+pad(p.bold.Render(x.Name), width)+"  ", width+10, x.Claim)
			p.hang("", width+10, x.Why)
		case prove.Fails:
			p.hang(pad(p.grave.Render("FAILS"), 8)+pad(p.bold.Render(x.Name), width)+"  ", width+10, x.Claim)
			if x.About != "" {
				p.hang("", width+10, x.About)
			}
			if x.Attempt != nil {
				p.hang("", width+10, "Not so for "+x.Shown(r.Zone)+".")
			}
			p.hang("", width+10, x.Why)
			var rules []string
			for _, s := range x.Rules {
				if s.Policy != "" {
					rules = append(rules, s.Policy+" / "+s.Rule)
				}
			}
			if len(rules) > 0 {
				p.hang("", width+10, "Behind it: "+strings.Join(rules, ", ")+".")
			}
			if x.Alike > 1 {
				p.hang("", width+10, fmt.Sprintf("Nothing tells %s apart.", words.Count(x.Alike, "such account")))
			}
			p.hang("", width+10, p.dim.Render(x.At.String()))
		}
	}
	p.line("")
	looked := fmt.Sprintf(
		"All that can come about from %s to %s",
		r.From.In(r.Zone).Format("2006-01-02"),
		r.To.In(r.Zone).Format("2006-01-02"),
	)
	if n := r.Cells(); n > 0 {
		looked += fmt.Sprintf("; what is proven, in %s", words.Count(int(n), "cell"))
	}
	p.labelled("Looked", looked+".")
	if next != nil {
		p.commands("Next", next)
	}
}

// Suggestions writes guarantees that hold and that the book does not have, to be pasted into it.
func (p *Page) Suggestions(list []prove.Suggestion) {
	if len(list) == 0 {
		p.line("%s", p.bold.Render("No guarantee was found that holds today and that the book does not have."))
		return
	}
	p.line("%s", p.bold.Render(fmt.Sprintf("%s that hold today, and that the book does not have. Keep those that are meant:",
		words.Count(len(list), "guarantee"))))
	p.line("")
	p.line("guarantees:")
	for i := range list {
		p.line("%s", p.dim.Render("  # "+list[i].Claim))
		p.line("  %s", list[i].YAML)
	}
}
