package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/internal/words"
)

// mostRows is how many rows a table of a replay has, so that the answer above them
// stays on the screen; --json has more.
const mostRows = 5

// Replay writes what a history came to: the sum first, then what stopped or asked
// most.
func (p *Page) Replay(r *replay.Report) {
	v := r.Verdicts
	p.nothingFollows(&r.Basis)
	sum := fmt.Sprintf("%s: %s granted, %s asked for more, %s blocked",
		words.Count(int(r.Attempts), "attempt"), share(v.Grant, v), share(v.StepUp, v), share(v.Block, v))
	p.line("%s", p.bold.Render(sum))
	p.line("")
	if r.Attempts > 0 {
		p.labelled("From", r.First.Format(time.RFC3339)+" to "+r.Last.Format(time.RFC3339)+".")
		p.labelled("Prompts", fmt.Sprintf("%.2f for each person and day with attempts.", r.Prompts))
	}
	if s := r.Shadow; s != v {
		p.labelled(
			"Shadow",
			fmt.Sprintf(
				"Were the shadow policies live: %s granted, %s asked for more, %s blocked.",
				share(s.Grant, s),
				share(s.StepUp, s),
				share(s.Block, s),
			),
		)
	}
	p.leftOut(&r.Basis, "the book does not have")
	rules := column{head: []string{"Rule"}}
	asked, blocks := column{head: []string{"Asked"}}, column{head: []string{"Blocked"}}
	for _, rule := range r.Rules[:min(mostRows, len(r.Rules))] {
		rules.cells = append(rules.cells, ruleName(rule))
		asked.cells, blocks.cells = append(asked.cells, fmt.Sprint(rule.Asked)), append(blocks.cells, fmt.Sprint(rule.Blocks))
	}
	if len(rules.cells) > 0 {
		p.line("")
		p.tableOf([]column{rules, asked, blocks})
	}
	p.counted("App", r.Apps)
	p.counted("Country", r.Countries)
	p.counted("Blocked most", r.Stopped)
	if max(len(r.Rules), len(r.Apps), len(r.Countries), len(r.Stopped)) > mostRows {
		p.line("")
		p.line("Each table has its first %d rows; --json has more, and groups and hours of the day.", mostRows)
	}
}

// mostOnPage is how many attempts a list on a page has.
const mostOnPage = 200

// List writes the attempts that were picked, with why each came to what it did.
func (p *Page) List(l *replay.List, zone *time.Location) {
	p.nothingFollows(&l.Basis)
	all := len(l.Listed) + int(l.More)
	p.line("%s", p.bold.Render(fmt.Sprintf("%d of %s", all, words.Count(int(l.Attempts), "attempt"))))
	for i := range l.Listed[:min(mostOnPage, len(l.Listed))] {
		one := &l.Listed[i]
		p.line("")
		p.hang(pad(p.verdict(one.Verdict), verdictWidth), verdictWidth+2, one.String(zone))
		for _, why := range one.Why[:min(mostCauses, len(one.Why))] {
			p.hang("", verdictWidth+2, why)
		}
	}
	if all > mostOnPage {
		p.line("")
		p.line("… and %d more; --format csv and --format jsonl have up to 100,000, and --account, --app, --policy and --rule narrow the list.",
			all-mostOnPage)
	}
	p.leftOut(&l.Basis, "the book does not have")
}

// ruleName names a rule, or what was the reason where no rule was.
func ruleName(rule replay.RuleCount) string {
	if rule.Policy == "" {
		return strings.ReplaceAll(rule.Rule, "_", " ")
	}
	return rule.Policy + " / " + rule.Rule
}

// mostBad is how many of the lines that could not be read are told.
const mostBad = 3

// nothingFollows writes why nothing can be concluded from a history, where that is so.
func (p *Page) nothingFollows(b *replay.Basis) {
	if b.Unjudged != "" {
		p.line("%s", p.bold.Render(fmt.Sprintf("Nothing can be concluded from the history: %s.", b.Unjudged)))
	}
}

// leftOut writes what of a history was not judged, and what was judged of strangers, who
// are what lacks says: "the book does not have".
func (p *Page) leftOut(r *replay.Basis, lacks string) {
	if r.Strangers > 0 {
		p.labelled("Strangers", fmt.Sprintf("%s of an account, or at an app, that %s.", words.Count(int(r.Strangers), "attempt"), lacks))
	}
	label := "Left out"
	for i, b := range r.Bad {
		if i == mostBad {
			p.labelled(
				"",
				fmt.Sprintf(
					"… %s in all could not be read; --json has the first %d, --aside keeps all.",
					words.Count(int(r.BadAll), "line"),
					len(r.Bad),
				),
			)
			break
		}
		p.labelled(label, fmt.Sprintf("%s:%d: %s", b.File, b.Line, b.Text))
		label = ""
	}
	if r.Skipped > 0 {
		p.labelled(label, words.Count(int(r.Skipped), "record")+" of something else than a sign-in, such as a log-off.")
	}
}

// share is a number with its part of all.
func share(n int64, of replay.Counts) string {
	if of.All() == 0 {
		return fmt.Sprint(n)
	}
	return fmt.Sprintf("%d (%.1f %%)", n, 100*float64(n)/float64(of.All()))
}

// counted writes counts by what attempts have in common.
func (p *Page) counted(head string, list []replay.NamedCount) {
	if len(list) == 0 {
		return
	}
	columns := []column{
		{head: []string{head}},
		{head: []string{"Attempts"}},
		{head: []string{"Granted"}},
		{head: []string{"Asked"}},
		{head: []string{"Blocked"}},
	}
	for _, c := range list[:min(mostRows, len(list))] {
		for i, text := range []string{c.Name, fmt.Sprint(c.Counts.All()), fmt.Sprint(c.Counts.Grant), fmt.Sprint(c.Counts.StepUp), fmt.Sprint(
			c.Counts.Block)} {
			columns[i].cells = append(columns[i].cells, text)
		}
	}
	p.line("")
	p.tableOf(columns)
}

// Trials writes what a history came to with one value after the other, a column
// each: the sums, and the rules and accounts with different results.
func (p *Page) Trials(t *replay.Trials) {
	first := t.Trials[0].Report
	sum := fmt.Sprintf("%s with %s of %s", words.Count(int(first.Attempts), "attempt"), words.Count(len(t.Trials), "value"), t.Setting)
	p.nothingFollows(&first.Basis)
	p.line("%s", p.bold.Render(sum))
	p.leftOut(&first.Basis, "the book does not have")
	p.line("")
	lead := column{head: []string{t.Setting}, cells: []string{"granted", "asked for more", "blocked", "prompts a person and day"}}
	columns := make([]column, len(t.Trials))
	for i, trial := range t.Trials {
		v := trial.Report.Verdicts
		columns[i] = column{
			head:  []string{trial.Value},
			cells: []string{share(v.Grant, v), share(v.StepUp, v), share(v.Block, v), fmt.Sprintf("%.2f", trial.Report.Prompts)},
		}
	}
	p.table([]column{lead}, columns)
	p.differing("Rule, asked and blocked", t, func(r *replay.Report, visit func(name, cell string)) {
		for _, rule := range r.Rules {
			visit(ruleName(rule), fmt.Sprintf("%d, %d", rule.Asked, rule.Blocks))
		}
	})
	p.differing("Blocked", t, func(r *replay.Report, visit func(name, cell string)) {
		for _, c := range r.Stopped {
			visit(c.Name, fmt.Sprint(c.Counts.Block))
		}
	})
}

// differing writes the rows that have not the same cell for each value.
func (p *Page) differing(head string, t *replay.Trials, rows func(r *replay.Report, visit func(name, cell string))) {
	var names []string
	cells := map[string][]string{}
	for i, trial := range t.Trials {
		rows(trial.Report, func(name, cell string) {
			if cells[name] == nil {
				names = append(names, name)
				cells[name] = slices.Repeat([]string{"-"}, len(t.Trials))
			}
			cells[name][i] = cell
		})
	}
	names = slices.DeleteFunc(names, func(name string) bool { return len(slices.Compact(slices.Clone(cells[name]))) == 1 })
	if len(names) == 0 {
		return
	}
	lead, columns := column{head: []string{head}}, make([]column, len(t.Trials))
	for _, name := range names[:min(mostRows, len(names))] {
		lead.cells = append(lead.cells, name)
		for i := range columns {
			columns[i].head = []string{t.Trials[i].Value}
			columns[i].cells = append(columns[i].cells, cells[name][i])
		}
	}
	p.line("")
	p.table([]column{lead}, columns)
	if len(names) > mostRows {
		p.line("… and %d more that differ; --json has all.", len(names)-mostRows)
	}
}
