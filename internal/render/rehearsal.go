package render

import (
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/rehearse"
)

// mostCauses is how many reasons come before the table of policies.
const mostCauses = 3

// Rehearsal writes one rehearsed attempt: the verdict, why, what to do, what was
// assumed, what is missing, and then every policy.
func (p *Page) Rehearsal(r *rehearse.Report, zone *time.Location) {
	a := r.Rehearsal.Attempt
	p.line("%s  %s at %s, %s", p.verdict(r.Verdict), a.Account, a.App, a.At.In(zone).Format("Mon 2006-01-02 15:04 MST"))
	p.line("")
	p.labelled("Why", causes(r.Decision)...)
	p.labelled("Do", r.Rehearsal.ToDo...)
	if said := r.ToPerson.Say; said != "" {
		p.labelled("Say", said)
	}
	p.labelled("Assumed", r.Rehearsal.Assumed...)
	if r.Rehearsal.Place != "" {
		p.labelled("Place", r.Rehearsal.Place)
	}
	p.labelled("Warning", r.Rehearsal.Warnings...)
	for _, n := range r.Notices {
		p.labelled("Notice", n.Text)
	}
	for i, m := range r.Rehearsal.Missing {
		label := ""
		if i == 0 {
			label = "Missing"
		}
		p.labelled(label, m.String())
	}
	if r.WithShadow.Verdict != r.Verdict {
		p.labelled("Shadow", "Were the shadow policies live, the verdict would be "+rehearse.Words(r.WithShadow.Verdict)+".")
	}
	p.line("")
	if r.Refused() {
		p.line("No policy was asked.")
		return
	}
	p.policies(r.Policies)
}

// causes returns the first causes in words, and says how many more there are.
func causes(d *decide.Decision) []string {
	var texts []string
	for i, c := range d.Causes {
		if i == mostCauses-1 && len(d.Causes) > mostCauses {
			return append(texts, fmt.Sprintf("… and %d more causes, see the policies below or --json.", len(d.Causes)-i))
		}
		texts = append(texts, c.Text)
	}
	return texts
}

// policies writes a line for every policy, those that count first.
func (p *Page) policies(traces []decide.PolicyTrace) {
	width := len("Policy")
	for _, t := range traces {
		width = max(width, len(t.Name))
	}
	p.line("%s", p.heading.Render(pad("Policy", width))+"  "+p.heading.Render("Stage ")+"  "+p.heading.Render("Applies")+"  "+p.heading.Render("Rule, or why not"))
	for _, applies := range []condition.Truth{condition.True, condition.Unknown, condition.False} {
		for _, t := range traces {
			if t.Applies == applies {
				lead := pad(t.Name, width) + "  " + pad(t.Stage.String(), 6) + "  " + pad(appliesWord(t.Applies), 7) + "  "
				p.hang(lead, width+19, policyLine(t))
			}
		}
	}
}

func appliesWord(t condition.Truth) string {
	return map[condition.Truth]string{condition.True: "yes", condition.Unknown: "perhaps", condition.False: "no"}[t]
}

func policyLine(t decide.PolicyTrace) string {
	var parts []string
	switch {
	case t.Rule != "":
		parts = append(parts, t.Rule+": "+t.Outcome)
	case len(t.Rules) > 0:
		parts = append(parts, "one of "+strings.Join(t.Rules, ", "))
	case t.Applies != condition.False:
		parts = append(parts, "no rule matches")
	}
	if t.SilencedBy != "" {
		parts = append(parts, "silenced by "+t.SilencedBy)
	}
	return strings.Join(append(parts, t.Why...), "; ")
}
