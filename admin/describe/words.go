// Package describe puts a book into plain sentences that an auditor can read.
// The sentences are made from the compiled conditions, so that what is read is
// what is judged.
package describe

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// A phrase is a condition in words, and how tightly it holds together: an
// alternative inside a conjunction is put in parentheses.
type phrase struct {
	text  string
	binds strength
}

type strength uint8

const (
	alternative strength = iota
	conjunction
	single
)

// clause says when a condition holds, or where negated is set when it does not:
// "the time is within sailing-hours and they are on an own network". Negation is
// moved down to the tests (De Morgan), which keeps the meaning in three values.
func clause(node condition.Node, negated bool) phrase {
	switch n := node.(type) {
	case *condition.Test:
		return phrase{sentence(n, negated), single}
	case *condition.Not:
		return clause(n.Of, !negated)
	case *condition.All:
		return joined(n.Of, negated, !negated)
	case *condition.Any:
		return joined(n.Of, negated, negated)
	}
	return phrase{"always", single}
}

func joined(nodes []condition.Node, negated, all bool) phrase {
	binds, word := alternative, " or "
	if all {
		binds, word = conjunction, " and "
	}
	if len(nodes) == 0 {
		return phrase{map[bool]string{true: "always", false: "never"}[all], single}
	}
	var parts []string
	for _, kid := range nodes {
		p := clause(kid, negated)
		if len(nodes) == 1 {
			return p
		}
		if p.binds < binds {
			p.text = "(" + p.text + ")"
		}
		parts = append(parts, p.text)
	}
	return phrase{strings.Join(parts, word), binds}
}

// When says when a bound condition holds: "the time is outside sailing-hours
// (05:00-23:00)".
func When(node condition.Node) string { return clause(node, false).text }

// sentence says that a test holds, or that it does not.
func sentence(t *condition.Test, negated bool) string { return t.Key.Definition().Says(t, negated) }

// People names those for whom a bound condition on accounts holds: "members of
// ticket-office or finance, except auditor@kestrelsound.example".
func People(node condition.Node) string {
	return named(node, nounAbout(condition.AboutAccount), "those")
}

// Apps names the apps for which a bound condition on apps holds.
func Apps(node condition.Node) string { return named(node, nounAbout(condition.AboutApp), "apps") }

// named puts a condition on things into a noun, with what else must hold of them
// and what is excepted behind it. A test that makes no noun has it "".
func named(node condition.Node, noun func(*condition.Test) string, things string) string {
	switch n := node.(type) {
	case *condition.Test:
		if text := noun(n); text != "" {
			return text
		}
	case *condition.All:
		lead, rest := "", &condition.All{}
		var excepted []string
		for _, kid := range n.Of {
			if not, ok := kid.(*condition.Not); ok && not.Except {
				excepted = append(excepted, named(not.Of, noun, things))
				continue
			}
			if t, ok := kid.(*condition.Test); ok && lead == "" && noun(t) != "" {
				lead = noun(t)
				continue
			}
			rest.Of = append(rest.Of, kid)
		}
		text := cmp.Or(lead, things)
		if len(rest.Of) > 0 {
			text += " where " + When(rest)
		}
		if len(excepted) > 0 {
			text += ", except " + words.List(excepted, "and")
		}
		return text
	case *condition.Any:
		var parts []string
		for _, kid := range n.Of {
			parts = append(parts, named(kid, noun, things))
		}
		return strings.Join(parts, ", or ")
	}
	return things + " where " + When(node)
}

// nounAbout returns the nouns of tests on one subject: those for whom a test holds, ""
// where it takes a clause.
func nounAbout(subject condition.Subject) func(*condition.Test) string {
	return func(t *condition.Test) string {
		if d := t.Key.Definition(); d.About == subject && d.Noun != nil {
			return d.Noun(t)
		}
		return ""
	}
}

// requirements says what an outcome asks for, by the names of its assurances.
func requirements(o decide.Outcome) string {
	var parts []string
	for _, r := range o.Require {
		if len(r.OneOf) > 1 {
			parts = append(parts, "either "+words.List(r.OneOf, "or"))
		} else {
			parts = append(parts, r.OneOf[0])
		}
	}
	return words.List(parts, "and")
}

// Outcome says what becomes of those for whom a rule speaks.
func Outcome(o decide.Outcome) string {
	switch {
	case o.Blocks():
		return "they are blocked"
	case len(o.Require) == 0:
		return "they are let in with any one proof"
	}
	return "they must meet " + requirements(o)
}

// limits says what bounds a session, "" where nothing does.
func limits(l directory.Limits) string {
	var parts []string
	if l.Lasts > 0 {
		parts = append(parts, "lasts "+l.Lasts.Words()+" at most")
	}
	if l.Idle > 0 {
		parts = append(parts, "may rest for "+l.Idle.Words())
	}
	if l.Shared != nil && !*l.Shared {
		parts = append(parts, "takes only proofs made for the app itself")
	}
	if len(parts) == 0 {
		return ""
	}
	return "A session " + words.List(parts, "and") + "."
}

// Assurance says what an assurance asks for.
func Assurance(judge *engine.Judge, a *decide.Assurance) string {
	var parts []string
	for _, p := range a.Prove {
		parts = append(parts, prove(judge, p))
	}
	if a.Posture != "" {
		parts = append(parts, "a device that passes "+a.Posture)
	}
	if a.ChangePassword {
		parts = append(parts, "a changed password")
	}
	if a.Accept != nil {
		text := fmt.Sprintf("version %d of %s accepted", a.Accept.Version, a.Accept.Document)
		if a.Accept.Every > 0 {
			text += ", again every " + a.Accept.Every.Words()
		}
		parts = append(parts, text)
	}
	if a.External != "" {
		parts = append(parts, "the outside check "+a.External+" passed")
	}
	if a.Consent {
		parts = append(parts, "the outside program, where it is made for one, let in")
	}
	if len(a.Enrol) > 0 {
		parts = append(parts, words.List(a.Enrol, "or")+" enrolled")
	}
	return strings.Join(parts, "; and ")
}

func prove(judge *engine.Judge, p decide.Prove) string {
	methods, _ := judge.Methods(p.AnyOf, p.Traits, p.Fallback)
	names := p.AnyOf
	if len(names) == 0 {
		names = judge.MethodNames(methods)
	}
	text := words.List(names, "or")
	switch p.Within {
	case decide.Now:
		text += " proven in this very attempt"
	case decide.Session:
		text += " proven in this session"
	default:
		text += " proven in the last " + directory.Span(p.Within).Words()
	}
	var aside []string
	if len(p.Fallback) > 0 {
		aside = append(aside, words.List(p.Fallback, "or")+" where none of these can be reached or is enrolled")
	}
	if p.Remember > 0 {
		aside = append(aside, "a device can be remembered for "+p.Remember.Words())
	}
	if len(aside) > 0 {
		text += " (" + strings.Join(aside, "; ") + ")"
	}
	return text
}

// stands says how far a policy has come and when it is in force.
func stands(p *decide.Policy) string {
	text := map[decide.Stage]string{decide.Draft: "is a draft and has no effect", decide.Shadow: "is a shadow, judged without effect",
		decide.Live: "is live"}[p.Stage]
	if p.Stage == decide.Shadow && p.LiveFor != nil {
		text += ", but in force for " + People(p.LiveFor)
	}
	switch {
	case p.From != nil && p.Until != nil:
		text += fmt.Sprintf(", from %s until %s", p.From, p.Until)
	case p.From != nil:
		text += fmt.Sprintf(", from %s on", p.From)
	case p.Until != nil:
		text += fmt.Sprintf(", until %s", p.Until)
	}
	return text
}

// rule is a rule in one sentence, after so many others.
func rule(r decide.Rule, before int) string {
	lead := ""
	switch {
	case r.When != nil && before == 0:
		lead = "Where " + When(r.When) + ", "
	case r.When != nil:
		lead = "Otherwise, where " + When(r.When) + ", "
	case before > 0:
		lead = "Otherwise "
	}
	text := lead + Outcome(r.Then) + "."
	if more := limits(r.Limits); more != "" {
		text += " " + more
	}
	if r.Say != "" {
		text += " They are told: \"" + r.Say + "\""
	}
	if lead == "" {
		text = strings.ToUpper(text[:1]) + text[1:]
	}
	return text
}

// day words a day, "no end" where there is none.
func day(d *directory.Date) string {
	if d == nil {
		return "without an end"
	}
	return "until " + d.String()
}

// sorted returns the names sorted, each once.
func sorted(names []string) []string {
	slices.Sort(names)
	return slices.Compact(names)
}
