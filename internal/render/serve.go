package render

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/store"
)

// ServeChecked tells what would keep a door from starting.
func (p *Page) ServeChecked(c *service.Checked, config string) {
	if len(c.Wrong) > 0 {
		p.line("%s  %s", p.grave.Render("NOT READY"), words.Count(len(c.Wrong), "thing")+" to put right first")
		p.line("")
		for _, text := range c.Wrong {
			p.hang("  ", 2, text)
		}
		p.line("")
	} else {
		p.line("%s  the door would start with this book", p.good.Render("READY"))
		p.line("")
	}
	p.labelled("Listens", c.Listen)
	p.labelled("Store", c.Store)
	if len(c.Callers) == 0 {
		p.labelled("Callers", "nobody: every request but /healthz and /readyz is refused")
	}
	for i, caller := range c.Callers {
		label := ""
		if i == 0 {
			label = "Callers"
		}
		p.labelled(label, caller)
	}
	for i, text := range c.Unreached {
		label := ""
		if i == 0 {
			label = "Untold"
		}
		p.labelled(label, text)
	}
	if len(c.Wrong) == 0 {
		drills := "the book has none; drills keep a mistake from being taken into force"
		if c.Drills > 0 {
			drills = words.Count(c.Drills, "drill") + ", all pass"
		}
		p.labelled("Drills", drills)
		p.line("")
		p.commands("Next", terminal.Command("briskwarden serve --book %s --config %s", p.folder, config))
	}
}

// ServeToken prints a new token, and what lets its bearer in.
func (p *Page) ServeToken(token, config string) {
	p.line("%s", p.bold.Render("The token, which is printed this once:"))
	p.line("")
	p.line("%s", token)
	p.line("")
	p.line("%s", p.bold.Render("For the configuration, which has no more than its digest:"))
	p.line("")
	for line := range strings.Lines(config) {
		p.line("%s", strings.TrimRight(line, "\n"))
	}
}

// ServeBackedUp tells where a copy of the store is.
func (p *Page) ServeBackedUp(path string) {
	p.line("A copy of the store is in %s.", path)
	p.line("")
	p.commands("Next", terminal.Command("briskwarden journal verify --file %s", path))
}

// ServeCarriedOver tells what was carried over.
func (p *Page) ServeCarriedOver(did []string) {
	if len(did) == 0 {
		p.line("There was nothing to carry over: the store is of this version.")
		return
	}
	p.line("%s", p.bold.Render("The store is of this version"))
	p.line("")
	for _, text := range did {
		p.hang("  ", 2, words.Capital(text)+".")
	}
}

// ServeRestored tells what was entered of a store that was put back, and what is still missing.
func (p *Page) ServeRestored(r *service.Restored, config string) {
	switch {
	case r.Resynced == "":
		p.line("%s", p.bold.Render("It is entered that the store was put back, for all its doors"))
		p.line("")
		lost := fmt.Sprintf("the log %s had %s, and has %d", r.Log, words.Count(int(r.From), "entry"), r.To)
		if r.From == 0 {
			lost = fmt.Sprintf("nobody can tell: the door kept nothing of its log %s, which has %s", r.Log, words.Count(int(r.To), "entry"))
		}
		p.labelled("Lost", lost)
		p.labelled("Revoked", "all that was authenticated before")
		p.labelled("To do", "End, disable and bar again what was ended, disabled and barred since the copy was made, and have each feed "+
			"push all of its people.")
	default:
		p.line("%s", p.bold.Render("It is entered that the store is resynced with "+r.Resynced))
		p.line("")
	}
	if len(r.Owed) == 0 {
		p.labelled("Resync", "nothing more: the doors let people in")
		return
	}
	for i, by := range r.Owed {
		label := ""
		if i == 0 {
			label = "Resync"
		}
		p.labelled(label, "with "+string(by))
	}
	p.labelled("", "Until then nobody is let in for whom one of them speaks.")
	p.line("")
	p.commands("Next", terminal.Command("briskwarden serve restored --config %s --resynced %s --as %s --because %s", config, string(r.Owed[0]),
		r.By, "WHY"))
}

// ServeFacts tells what holds of an account for the door, and what each source states of it.
func (p *Page) ServeFacts(k *service.KnownFacts, config string) {
	may := "may sign on"
	switch {
	case k.Why != "":
		may = "nobody can tell what holds, so every attempt is blocked: " + k.Why
	case k.Holds.Disabled:
		may = "may not sign on: the book says so"
		for _, o := range k.From {
			if o.Fact == string(store.Disabled) || o.Fact == string(store.Gone) {
				may = "may not sign on: " + o.Fact + ", says " + string(o.By)
			}
		}
	}
	p.line("%s  %s", p.bold.Render(k.Account), may)
	p.line("")
	if !k.Listed {
		p.labelled("Book", "does not list it")
	}
	if k.Made != nil {
		p.labelled("Made anew", moment(k.Made.At)+" by "+string(k.Made.By)+"; what was shown or reported before counts no more")
	}
	if h := k.Holds; h != nil {
		p.labelled("Groups", cmp.Or(strings.Join(h.Groups, ", "), "none of its own"))
		if len(h.MayBeIn) > 0 {
			p.labelled("", "perhaps "+strings.Join(h.MayBeIn, ", "))
		}
		methods := "not stated, so it is unknown which it has"
		if h.Methods != nil {
			methods = cmp.Or(strings.Join(h.Methods, ", "), "none")
		}
		p.labelled("Methods", methods)
		if r := h.Risk; r != nil {
			p.labelled("Risk", strings.TrimSuffix(r.Level.String()+", "+r.Because, ", "))
		}
	}
	p.line("")
	if len(k.Stated) == 0 {
		p.line("No source states anything: all of it is the book's.")
		return
	}
	head := func(text string) column { return column{head: []string{text}} }
	facts, values, by, since, void := head("Fact"), head("Value"), head("By"), head("Since"), head("Does not count")
	for i := range k.Stated {
		s := &k.Stated[i]
		facts.cells, values.cells = append(facts.cells, s.Label()), append(values.cells, strings.TrimSuffix(s.Value.String()+", "+s.Because,
			", "))
		by.cells, since.cells, void.cells = append(by.cells, string(s.By)), append(since.cells, moment(s.At)), append(void.cells, s.Void)
	}
	p.tableOf([]column{facts, values, by, since, void})
	p.line("")
	var counts *service.StatedFact
	for i := range k.Stated {
		s := &k.Stated[i]
		shuts := s.Fact == store.Disabled || s.Fact == store.Gone
		if s.Void == "" && (counts == nil || shuts) {
			counts = s
		}
	}
	if counts != nil {
		p.commands("Take back", terminal.Command("briskwarden serve facts %s --withdraw %s --of %s --as NAME --because TEXT --config %s",
			k.Account,
			counts.Label(), string(counts.By), config))
	}
}

func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

// ServeWithdrawn tells what was taken back.
func (p *Page) ServeWithdrawn(done []string) {
	for _, text := range done {
		p.line("%s", text)
	}
	p.line("")
	p.line("It is entered in the journal.")
}
