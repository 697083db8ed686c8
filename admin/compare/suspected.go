package compare

import (
	"github.com/briskwarden/briskwarden/condition"
)

// One edit of a definition makes each condition that names it hold in other cases. It is told
// once, with the definition; a condition that is worded the same is told only where nothing
// else accounts for what it does now.

// suspicion is a change of a condition that is caused by a change of what it names.
type suspicion struct {
	of     definition
	change Change
	when   condition.Node
}

// suspect notes, for the definition that is reported, that a condition holds in other cases
// though it is worded the same. It is told only where nothing else that is told accounts for
// it. What changed is added to the text.
func (d *differ) suspect(e Effect, when condition.Node, text string) {
	if moved := d.movedBy(when); moved != "" {
		d.note(e, "%s: %s.", text, moved)
		return
	}
	d.suspected = append(d.suspected, suspicion{
		definition{d.current.What, d.current.Name}, Change{e, capital(text + ": what it names has changed.")}, when,
	})
}

// movedBy says which accounts or apps the tests of a condition hold for that they did not
// hold for, and the other way round; "" where they are the same.
func (d *differ) movedBy(when condition.Node) string {
	text := ""
	condition.Walk(when, func(n condition.Node) bool {
		t, ok := n.(*condition.Test)
		if !ok || text != "" {
			return text == ""
		}
		switch t.Key.Definition().Meaning {
		case condition.MeansAccounts:
			if before, after := d.old.crowd.Of(t), d.new.crowd.Of(t); d.relateAccounts(before, after) != same {
				text = d.otherAccounts(before, after)
			}
		case condition.MeansApps:
			if d.relateApps(t, t) != same {
				text = "apps bear other tags"
			}
		}
		return true
	})
	return text
}

// tellSuspected tells the changes of conditions that nothing else accounts for.
func (d *differ) tellSuspected() {
	told, general := map[definition]Effect{}, Neither
	for _, c := range d.out {
		told[definition{c.What, c.Name}] |= c.Effect
		switch c.What {
		case "settings", "accounts", "method", "consent", "tier", "client", "devices":
			general |= c.Effect // a condition need not name them to depend on them
		}
	}
	for _, s := range d.suspected {
		accounted, some := general, false
		condition.Walk(s.when, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok {
				for _, def := range d.named(t) {
					e, is := told[def]
					accounted, some = accounted|e, some || is
				}
			}
			return true
		})
		if s.change.Effect&^accounted != Neither || s.change.Effect == Neither && !some {
			d.about(s.of.what, s.of.name, func() { d.note(s.change.Effect, "%s", s.change.Text) })
		}
	}
}
