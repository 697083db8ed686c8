package render

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/journal"
)

// Journal lists entries, with times in a zone. From are the flags that name where they are from.
func (p *Page) Journal(list *evidence.List, zone *time.Location, from ...string) {
	if len(list.Entries) == 0 {
		p.line("No entry matches.")
		return
	}
	p.line("%s", p.bold.Render(words.Count(len(list.Entries), "entry")+", the latest first; times are "+zone.String()))
	p.line("")
	const column = 21
	for _, e := range list.Entries {
		what, style := strings.ReplaceAll(e.Kind.String(), "_", " "), p.bold
		if e.Verdict != "" {
			what = strings.ToUpper(strings.ReplaceAll(e.Verdict, "_", " "))
			var v decide.Verdict
			if err := v.UnmarshalText([]byte(e.Verdict)); err == nil {
				style = p.ofVerdict(v)
			}
		}
		subject := e.Account
		if e.App != "" {
			subject += " at " + e.App
		}
		if e.IP.IsValid() {
			subject += " from " + e.IP.String()
		}
		if e.Country != "" {
			subject += " in " + e.Country
		}
		p.line(
			"%s",
			strings.TrimRight(fmt.Sprintf("%s  %s  %s", e.At.In(zone).Format("2006-01-02 15:04:05"), style.Render(pad(what, 11)), subject), " "),
		)
		p.hang(strings.Repeat(" ", column), column, e.Text)
		p.line("%s%s", strings.Repeat(" ", column), p.dim.Render(e.ID))
	}
	p.line("")
	if list.More {
		p.line("There are more; --most N lists more of them, and filters such as --account, --verdict and --last list fewer.")
	}
	for _, e := range list.Entries {
		if e.Verdict != "" {
			p.commands("Next", append(terminal.Command("briskwarden journal show --book %s", p.folder), append(from, e.ID)...))
			return
		}
	}
}

// JournalDecision explains a decision of the journal.
func (p *Page) JournalDecision(d *evidence.Decision) {
	r := &rehearse.Report{Decision: d.Decision, Rehearsal: rehearse.Rehearsal{Attempt: d.Attempt, ToDo: d.ToDo()}}
	p.Rehearsal(r, time.UTC)
	if d.From == nil {
		return // of a history, where nobody has decided yet
	}
	p.line("")
	p.labelled("Decided", d.At.Format("Mon 2006-01-02 15:04:05 MST")+" for "+d.Caller+", by the book "+evidence.ShortDigest(d.JudgedBy.Book))
	for _, text := range d.Degraded {
		p.labelled("Degraded", text)
	}
	var from []string
	for _, fact := range slices.Sorted(maps.Keys(d.From)) {
		from = append(from, fact+" from "+d.From[fact])
	}
	p.labelled("Facts", strings.Join(from, ", "))
	switch t := d.Today; {
	case t == nil:
		p.labelled("Today", "name a book with --book, and it is asked about the same attempt")
	case t.Same:
		p.labelled("Today", "the book is the one that decided, and says "+rehearse.Words(t.Verdict))
	default:
		said := "the book would say " + rehearse.Words(t.Verdict)
		if len(t.Causes) > 0 {
			said += ": " + t.Causes[0].Text
		}
		p.labelled("Today", said)
	}
}

// JournalVerified tells what came of verifying a journal.
func (p *Page) JournalVerified(v *evidence.Verification) {
	if v.Wrong != "" {
		p.line("%s  %s", p.grave.Render("NOT AS IT WAS"), v.Wrong)
		return
	}
	p.line("%s  %s, each as it was recorded, and none is missing", p.good.Render("SOUND"), words.Count(int(v.Size), "entry"))
	p.line("")
	for i, l := range v.Logs {
		label := ""
		if i == 0 {
			label = "Logs"
		}
		p.labelled(label, fmt.Sprintf("%s: %s, root %s", l.Log, words.Count(int(l.Size), "entry"), l.Root))
	}
	if v.Pruned > 0 {
		p.labelled("Pruned", words.Count(int(v.Pruned), "entry")+" with the hash alone")
		for _, x := range v.Prunings {
			p.labelled("", fmt.Sprintf("%s of the log %s, recorded before %s, by %s", words.Count(int(x.Entries), "entry"), x.Log,
				x.Before.Format("2006-01-02 15:04 MST"), cmp.Or(x.By, "the door")))
		}
	}
	if v.Covered == nil {
		p.labelled("Covered", "none was given: that somebody rewrote all of it only one shows that was kept elsewhere")
		return
	}
	p.labelled("Covered", fmt.Sprintf("%s, as they were when %s signed", words.Count(int(*v.Covered), "entry"), v.Origin))
}

// JournalPruned tells what was taken out.
func (p *Page) JournalPruned(done *journal.Pruning) {
	if done.Entries == 0 {
		p.line("Nothing was recorded before %s that is still there.", done.Before.Format("2006-01-02 15:04 MST"))
		return
	}
	p.line("%s", p.bold.Render("Only the hash is left of "+words.Count(int(done.Entries), "entry")+" before "+
		done.Before.Format("2006-01-02 15:04 MST")))
}

// JournalKey tells where a new pair of keys is.
func (p *Page) JournalKey(public, private string) {
	p.line("%s", p.bold.Render("A key pair to sign checkpoints with"))
	p.line("")
	p.labelled("Private", private+": anyone who has it can sign; only the door reads it.")
	p.labelled("Public", private+".pub: "+public)
	p.line("")
	p.line("%s", p.bold.Render("For the configuration:"))
	p.line("")
	p.line("journal: {key: %s, checkpoint: door.checkpoint}", private)
}
