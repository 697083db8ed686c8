package render

import (
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/replay"
)

// mostRows is how many rows a table of a replay has, so that the answer above them
// stays on the screen; --json has more.
const mostRows = 5

// Replay writes what a history came to: the sum first, then what stopped or asked
// most.
func (p *Page) Replay(r *replay.Report) {
	v := r.Verdicts
	p.line("%s", p.bold.Render(fmt.Sprintf("%s: %s granted, %s asked for more, %s blocked", words.Count(int(r.Attempts), "attempt"), share(v.Grant, v), share(v.StepUp, v), share(v.Block, v))))
	if r.Cut {
		p.line("It was interrupted; this is what was judged until then.")
	}
	p.line("")
	if r.Attempts > 0 {
		p.labelled("From", r.First.Format(time.RFC3339)+" to "+r.Last.Format(time.RFC3339)+".")
		p.labelled("Prompts", fmt.Sprintf("%.2f for each person and day with attempts.", r.Prompts))
	}
	if s := r.Shadow; s != v {
		p.labelled("Shadow", fmt.Sprintf("Were the shadow policies live: %s granted, %s asked for more, %s blocked.", share(s.Grant, s), share(s.StepUp, s), share(s.Block, s)))
	}
	for i, b := range r.Bad {
		label := ""
		if i == 0 {
			label = "Left out"
		}
		if i == 3 {
			p.labelled("", fmt.Sprintf("… %s in all could not be read; --json has the first %d.", words.Count(int(r.BadAll), "line"), len(r.Bad)))
			break
		}
		p.labelled(label, fmt.Sprintf("%s:%d: %s", b.File, b.Line, b.Text))
	}
	rules := column{head: []string{"Rule"}}
	asked, blocks := column{head: []string{"Asked"}}, column{head: []string{"Blocked"}}
	for _, rule := range r.Rules[:min(mostRows, len(r.Rules))] {
		name := rule.Policy + " / " + rule.Rule
		if rule.Policy == "" {
			name = strings.ReplaceAll(rule.Rule, "_", " ")
		}
		rules.cells = append(rules.cells, name)
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
	columns := []column{{head: []string{head}}, {head: []string{"Attempts"}}, {head: []string{"Granted"}}, {head: []string{"Asked"}}, {head: []string{"Blocked"}}}
	for _, c := range list[:min(mostRows, len(list))] {
		for i, text := range []string{c.Name, fmt.Sprint(c.Counts.All()), fmt.Sprint(c.Counts.Grant), fmt.Sprint(c.Counts.StepUp), fmt.Sprint(c.Counts.Block)} {
			columns[i].cells = append(columns[i].cells, text)
		}
	}
	p.line("")
	p.tableOf(columns)
}
