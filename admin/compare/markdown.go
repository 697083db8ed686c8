package compare

import (
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/words"
)

// mostInSummary is how many definitions a summary reports, so that it fits a pull
// request.
const mostInSummary = 50

// Markdown returns the report in CommonMark with tables as GitHub Flavored Markdown
// has them (§4.10), fit for a pull request.
func (r *Report) Markdown() string {
	var b strings.Builder
	b.WriteString("## What this changes\n\n" + words.Markdown(r.Summary()) + "\n")
	for _, gate := range r.Gates {
		mark := "open"
		switch {
		case gate.Unjudged != "":
			mark = "**cannot be judged**: " + words.Markdown(gate.Unjudged)
		case gate.Shut:
			mark = "**shut**"
		}
		fmt.Fprintf(&b, "\nGate `%s`: %s\n", gate.Name, mark)
	}
	r.Exact.markdown(&b)
	for i, c := range r.Changed {
		if i == mostInSummary {
			fmt.Fprintf(&b, "\n… and %s more, which `--json` has.\n", words.Count(len(r.Changed)-i, "definition"))
			break
		}
		fmt.Fprintf(&b, "\n### %s: %s\n\n", c.Effect, words.Markdown(c.Title()))
		for _, change := range c.Changes {
			fmt.Fprintf(&b, "- %s: %s\n", change.Effect, words.Markdown(change.Text))
		}
	}
	told := map[string]bool{}
	r.History.markdown(&b, "## What it would have changed", told, true)
	r.Shadow.markdown(&b, "## What it would have changed were the shadow policies live", told, false)
	return b.String()
}

// markdown writes in which circumstances the books ask for something else.
func (x *Exact) markdown(b *strings.Builder) {
	if x == nil {
		return
	}
	fmt.Fprintf(b, "\n**%s**\n", words.Markdown(x.Summary()))
	if x.Open != "" {
		fmt.Fprintf(b, "\n**Open**: %s\n", words.Markdown(x.Open))
	}
	if len(x.Differences) == 0 {
		return
	}
	b.WriteString("\n| | whom, where and when | was | is |\n| --- | --- | --- | --- |\n")
	for i := range x.Differences {
		if i == mostInSummary {
			fmt.Fprintf(b, "\n… and %s more, which `--json` has.\n", words.Count(len(x.Differences)-i, "difference"))
			break
		}
		d := &x.Differences[i]
		fmt.Fprintf(b, "| %s | %s | %s | %s |\n", d.Effect, words.Markdown(d.Title(x)), words.Markdown(d.Was), words.Markdown(d.Is))
	}
}

// markdown writes a history, with examples that were not told yet, and with what it rests
// on unless that was told.
func (h *History) markdown(b *strings.Builder, heading string, told map[string]bool, basis bool) {
	if h == nil || h.Attempts == 0 && !basis {
		return
	}
	fmt.Fprintf(b, "\n%s\n\n", heading)
	if basis {
		h.markdownBasis(b)
	}
	if h.Attempts == 0 {
		return
	}
	fmt.Fprintf(b, "%s from %s to %s; %.2f prompts for each person and day before, %.2f now.\n\n", words.Count(int(h.Attempts), "attempt"),
		h.First.Format(time.RFC3339), h.Last.Format(time.RFC3339), h.PromptsWas, h.PromptsIs)
	b.WriteString("| | granted | asked for more | blocked |\n| --- | ---: | ---: | ---: |\n")
	for _, row := range []struct {
		name   string
		counts replay.Counts
	}{{"before", h.Was}, {"now", h.Is}} {
		fmt.Fprintf(b, "| %s | %d | %d | %d |\n", row.name, row.counts.Grant, row.counts.StepUp, row.counts.Block)
	}
	happenings := h.Happenings()
	if len(happenings) == 0 {
		b.WriteString("\n" + h.Quiet() + "\n")
		return
	}
	b.WriteString("\n| what happens | attempts | accounts | most |\n| --- | ---: | ---: | --- |\n")
	for _, x := range happenings {
		fmt.Fprintf(b, "| %s | %d | %d | %s |\n", x.Title, x.Attempts, x.Accounts, words.Markdown(words.UpTo(mostExamples, x.names())))
	}
	for _, one := range h.Instances(told) {
		fmt.Fprintf(b, "\n*%s*: %s\n", one.Happening, words.Markdown(one.Text))
	}
}

// markdownBasis writes what was left out and what nothing can be concluded from.
func (h *History) markdownBasis(b *strings.Builder) {
	if h.Unjudged != "" {
		fmt.Fprintf(b, "**Nothing can be concluded from the history**: %s.\n\n", words.Markdown(h.Unjudged))
	}
	for i, bad := range h.Bad {
		if i == mostExamples {
			fmt.Fprintf(b, "- … %s in all\n", words.Count(int(h.BadAll), "line"))
			break
		}
		fmt.Fprintf(b, "- left out: %s\n", words.Markdown(fmt.Sprintf("%s:%d: %s", bad.File, bad.Line, bad.Text)))
	}
	if len(h.Bad) > 0 {
		b.WriteString("\n")
	}
	if h.Strangers > 0 {
		fmt.Fprintf(b, "%s of an account, or at an app, that neither book has.\n\n", words.Count(int(h.Strangers), "attempt"))
	}
}

// names lists the accounts with most attempts.
func (a *Affected) names() []string {
	var names []string
	for _, c := range a.Most {
		names = append(names, c.String())
	}
	return names
}

// verdictWords says what an attempt came to.
var verdictWords = map[decide.Verdict]string{decide.Grant: "granted", decide.StepUp: "asked for more", decide.Block: "blocked"}

// String tells an example in a sentence.
func (e *Example) String() string {
	return fmt.Sprintf("%s at %s, %s: it was %s and is %s now. %s", e.Attempt.Account, e.Attempt.App, e.Attempt.At.Format(time.RFC3339),
		verdictWords[e.Was], verdictWords[e.Is], strings.Join(e.Why, " "))
}
