package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/words"
)

// mostChanged is how many changed definitions are told in sentences, so that a
// history below them is not lost; those without effect are only named.
const mostChanged = 12

// effectColumn is where the sentences behind an effect begin.
const effectColumn = len("tightens") + 2

// Compare writes what changed between two books, what that would have changed, and a
// command to go on with, where there is one.
func (p *Page) Compare(r *compare.Report, next []string) {
	for _, gate := range r.Gates {
		if gate.Unjudged != "" {
			p.line("%s", p.bold.Render(fmt.Sprintf("The gate %s cannot be judged: %s.", gate.Name, gate.Unjudged)))
		}
	}
	if r.History != nil && r.History.Unjudged != "" && !r.Unjudged() {
		p.nothingFollows(&r.History.Basis)
	}
	p.line("%s", p.bold.Render(r.Summary()))
	for _, gate := range r.Gates {
		switch {
		case gate.Unjudged != "":
		case gate.Shut:
			p.line("The gate %s is %s.", gate.Name, p.bold.Render("shut"))
		default:
			p.line("The gate %s is open.", gate.Name)
		}
	}
	if r.Exact != nil {
		p.comparedExactly(r.Exact)
		p.line("")
		p.line("%s", p.heading.Render("What changed in the book"))
	}
	var without []string
	shown := 0
	for _, c := range r.Changed {
		if c.Effect == compare.Neither {
			title := c.Title()
			if c.Was != "" {
				title += " (was " + c.Was + ")"
			}
			without = append(without, title)
			continue
		}
		if shown++; shown > mostChanged {
			continue
		}
		p.line("")
		place := ""
		if c.At.IsValid() {
			place = p.dim.Render("  " + c.At.String())
		}
		p.line("%s%s", p.heading.Render(c.Title()), place)
		for _, change := range c.Changes {
			lead := change.Effect.String()
			if change.Effect == compare.Neither {
				lead = ""
			}
			p.hang(lead, effectColumn, change.Text)
		}
	}
	if shown > mostChanged {
		p.line("")
		p.line("… and %s more; --json and --format markdown have all.", words.Count(shown-mostChanged, "definition"))
	}
	if len(without) > 0 {
		p.line("")
		p.line("Without effect on decisions: %s.", words.UpTo(mostRows, without))
	}
	told := map[string]bool{}
	if h := r.History; h != nil && (h.Attempts > 0 || h.BadAll+h.Skipped > 0) {
		p.comparedHistory(r.History, told)
	}
	if r.Shadow != nil && r.Shadow.Attempts > 0 {
		p.comparedShadow(r.History, r.Shadow, told)
	}
	if len(next) > 0 && len(r.Changed) > 0 && (r.History == nil || r.History.Unjudged == "") {
		p.line("")
		p.commands("Next", next)
	}
}

// mostDifferences is how many kinds of case are told in full.
const mostDifferences = 8

// comparedExactly writes in which circumstances the books ask for something else.
func (p *Page) comparedExactly(x *compare.Exact) {
	p.line("")
	p.line("%s", p.heading.Render(x.Summary()))
	shown, others := 0, 0
	for i := range x.Differences {
		d := &x.Differences[i]
		if !slices.Contains(d.Actions, attempt.SignIn) {
			others++
			continue
		}
		if shown++; shown > mostDifferences {
			continue
		}
		p.line("")
		p.hang(d.Effect.String(), effectColumn, d.Title(x))
		p.hang("", effectColumn, "was  "+d.Was+p.dim.Render(rulesBehind(d.RulesWere)))
		p.hang("", effectColumn, "is   "+p.bold.Render(d.Is)+p.dim.Render(rulesBehind(d.RulesAre)))
	}
	var more []string
	if shown > mostDifferences {
		more = append(more, words.Count(shown-mostDifferences, "difference")+" of sign-ins")
	}
	if others > 0 {
		more = append(more, words.Count(others, "difference")+" of other actions alone")
	}
	if len(more) > 0 {
		p.line("")
		p.line("… and %s; --json and --format markdown have all.", words.List(more, "and"))
	}
	p.line("")
	p.labelled("Looked", fmt.Sprintf("All that can come about from %s to %s, in %s.", x.From.In(x.Zone).Format("2006-01-02"),
		x.To.In(x.Zone).Format("2006-01-02"), words.Count(int(x.Cells), "cell")))
	if x.Open != "" {
		p.labelled("Open", x.Open)
	}
}

// rulesBehind names the rules behind terms.
func rulesBehind(sources []decide.Source) string {
	var rules []string
	for _, s := range sources {
		if s.Policy != "" {
			rules = append(rules, s.Policy+" / "+s.Rule)
		}
	}
	if len(rules) == 0 {
		return ""
	}
	return "  (" + strings.Join(rules, ", ") + ")"
}

// comparedShadow writes in short what a history would have come to were the shadow
// policies live: what happens otherwise than without them, with examples that were
// not told before.
func (p *Page) comparedShadow(live, h *compare.History, told map[string]bool) {
	is, without := h.Is, map[string]int64{}
	for _, x := range live.Happenings() {
		without[x.Name] = x.Attempts
	}
	p.line("")
	texts := []string{
		fmt.Sprintf(
			"Were the shadow policies live: %s granted, %s asked for more, %s blocked.",
			share(is.Grant, is),
			share(is.StepUp, is),
			share(is.Block, is),
		),
	}
	for _, x := range h.Happenings() {
		if x.Attempts == without[x.Name] {
			continue
		}
		texts = append(texts, fmt.Sprintf("%s: %s, such as %s.", x.Title, words.Count(int(x.Attempts), "attempt"), most(x)))
	}
	p.labelled("Shadow", texts...)
	p.instances(h, told)
}

// most names the accounts with most attempts.
func most(x compare.Happening) string {
	text := x.Most[0].String()
	if len(x.Most) > 1 {
		text += ", " + x.Most[1].String()
	}
	if len(x.Most) > 2 {
		text += ", …"
	}
	return text
}

// instances writes an example of each happening that was not told before.
func (p *Page) instances(h *compare.History, told map[string]bool) {
	label := "Such as"
	for _, one := range h.Instances(told) {
		p.labelled(label, one.Happening+": "+one.Text)
		label = ""
	}
}

// comparedHistory writes what a history would have come to, with examples.
func (p *Page) comparedHistory(h *compare.History, told map[string]bool) {
	p.line("")
	p.line("%s", p.heading.Render("What it would have changed"))
	if h.Attempts > 0 {
		p.labelled("History", fmt.Sprintf("%s, from %s to %s.",
			words.Count(int(h.Attempts), "attempt"), h.First.Format(time.RFC3339), h.Last.Format(time.RFC3339)))
	}
	p.leftOut(&h.Basis, "neither book has")
	if h.Attempts == 0 {
		return
	}
	p.line("")
	columns := []column{
		{head: []string{"Verdicts"}, cells: []string{"before", "now"}},
		{head: []string{"Granted"}},
		{head: []string{"Asked for more"}},
		{head: []string{"Blocked"}},
		{head: []string{"Prompts a person and day"}, cells: []string{fmt.Sprintf("%.2f", h.PromptsWas), fmt.Sprintf("%.2f", h.PromptsIs)}},
	}
	for _, c := range []replay.Counts{h.Was, h.Is} {
		for i, n := range []int64{c.Grant, c.StepUp, c.Block} {
			columns[i+1].cells = append(columns[i+1].cells, share(n, c))
		}
	}
	p.tableOf(columns)
	happenings := h.Happenings()
	if len(happenings) == 0 {
		p.line("")
		p.line("%s", h.Quiet())
		return
	}
	p.line("")
	columns = []column{
		{head: []string{"What happens"}},
		{head: []string{"Attempts"}},
		{head: []string{"Accounts"}},
		{head: []string{"Most of them"}},
	}
	for _, x := range happenings {
		for i, cell := range []string{x.Title, fmt.Sprint(x.Attempts), fmt.Sprint(x.Accounts), most(x)} {
			columns[i].cells = append(columns[i].cells, cell)
		}
	}
	p.tableOf(columns)
	if len(h.Rules) > 0 {
		var rules []string
		for _, rule := range h.Rules[:min(mostBad, len(h.Rules))] {
			rules = append(rules, fmt.Sprintf("%s (%d)", ruleName(rule), rule.Asked+rule.Blocks))
		}
		p.line("")
		p.labelled("Because", "What became stricter did so by "+strings.Join(rules, ", ")+".")
	}
	p.instances(h, told)
}
