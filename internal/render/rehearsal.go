package render

import (
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
)

// mostCauses is how many reasons come before the table of policies.
const mostCauses = 3

// Rehearsal writes one rehearsed attempt: the verdict, why, what to do, what was
// assumed, what is missing, and then every policy.
func (p *Page) Rehearsal(r *rehearse.Report, zone *time.Location) {
	a := r.Rehearsal.Attempt
	p.line("%s  %s%s at %s, %s", p.verdict(r.Verdict), a.Account, toDo(a.Action), r.AppNamed(),
		a.At.In(zone).Format("Mon 2006-01-02 15:04 MST"))
	p.line("")
	p.labelled("Why", causes(r.Decision)...)
	if r.Verdict == decide.Block {
		p.labelled("Besides", openDemands(r.Decision)...)
	}
	if !r.Refused() && r.Rehearsal.Terms != "block" {
		p.labelled("Terms", r.Rehearsal.Terms+".")
	}
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
	p.session(r.Decision, zone)
	if r.WithShadow.Verdict != r.Verdict {
		p.labelled("Shadow", "Were the shadow policies live, the verdict would be "+rehearse.Words(r.WithShadow.Verdict)+".")
	}
	if w := r.Rehearsal.UntilGranted; w != nil {
		p.labelled("Way in", w.String())
	}
	p.line("")
	if g := r.Rehearsal.Grid; g != nil {
		p.grid(g)
		return
	}
	if r.Refused() {
		p.line("No policy was asked.")
		return
	}
	p.policies(r.Policies)
}

// toDo names an action other than to sign in.
func toDo(a attempt.Action) string {
	if a == attempt.SignIn {
		return ""
	}
	return ", to " + strings.ReplaceAll(a.String(), "-", " the ")
}

// session tells the risk of an attempt and the bounds of a granted session.
func (p *Page) session(d *decide.Decision, zone *time.Location) {
	if d.Risk.AtMost > 0 {
		var signals []string
		for _, s := range d.Risk.Signals {
			word := ""
			if s.Holds == condition.Unknown {
				word = "perhaps "
			}
			signals = append(signals, fmt.Sprintf("%s%s (%d)", word, s.Name, s.Points))
		}
		score := fmt.Sprintf("%s, score %d", d.Risk.Level, d.Risk.Score)
		if d.Risk.AtMost != d.Risk.Score {
			score = fmt.Sprintf("%s to %s, score %d to %d", d.Risk.Level, d.Risk.LevelAtMost, d.Risk.Score, d.Risk.AtMost)
		}
		p.labelled("Risk", score+": "+strings.Join(signals, ", "))
	}
	if d.Verdict == decide.Block {
		return
	}
	var bounds []string
	if d.Limits.Lasts > 0 {
		bounds = append(bounds, "lasts "+d.Limits.Lasts.String())
	}
	if d.Limits.Idle > 0 {
		bounds = append(bounds, "rests "+d.Limits.Idle.String()+" at most")
	}
	if !d.Limits.Shared {
		bounds = append(bounds, "takes only proofs made for this app")
	}
	if !d.Limits.Until.IsZero() {
		bounds = append(bounds, "ends by "+d.Limits.Until.In(zone).Format("Mon 2006-01-02 15:04 MST"))
	}
	if len(bounds) > 0 {
		p.labelled("Session", "A session "+strings.Join(bounds, ", ")+".")
	}
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
	p.headings(pad("Policy", width), "Stage ", "Applies", "Rule, or why not")
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
		parts = append(parts, t.Rule+": "+t.Outcome.String())
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

// openDemands says what a blocked attempt would be asked for besides, were the block gone.
func openDemands(d *decide.Decision) []string {
	var list []string
	for _, demand := range d.Demands {
		if demand.Met || demand.Impossible || len(demand.From) == 0 {
			continue
		}
		by := "the book's `otherwise`"
		if from := demand.From[0]; from.Policy != "" {
			by = from.Policy + " / " + from.Rule
		}
		list = append(list, by+" asks for "+demand.String()+".")
	}
	return list[:min(mostCauses, len(list))]
}
