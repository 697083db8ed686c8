package inspect

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// Pieces of YAML that make findings go away. Each is tried by a test: pasted into the faulty
// book, the finding is gone.

// line is a line for a definition.
func line(what, name, format string, args ...any) *Paste {
	return &Paste{Into: strings.TrimSpace(what + " " + name), YAML: fmt.Sprintf(format, args...)}
}

// day is the day so many days after the inspection.
func (in *Pass) day(days int) directory.Date {
	return directory.DateOf(in.At.In(in.Directory.Zone).AddDate(0, 0, days))
}

// free returns a name that no definition of a kind has yet.
func free(name string, taken func(name string) bool) string {
	for n := 2; taken(name); n++ {
		name = fmt.Sprintf("%s-%d", strings.TrimRight(name, "-0123456789"), n)
	}
	return name
}

func (in *Pass) freePolicy(name string) string {
	return free(name, func(name string) bool {
		return slices.ContainsFunc(in.Book.Policies, func(p decide.Policy) bool { return p.Name == name })
	})
}

func (in *Pass) freeAssurance(name string) string {
	return free(name, func(name string) bool { return in.Judge.FindAssurance(name) != nil })
}

// owned is the line of a policy that says who owns it, "" where the book has no
// administrator.
func (in *Pass) owned() string {
	for n := range in.Administrators.All() {
		return fmt.Sprintf("    owner: %q\n", in.Directory.Accounts[n].Name)
	}
	return ""
}

// wayBackIn is a file with a policy for emergency accounts, and an account where there is
// none.
func (in *Pass) wayBackIn(withAccount bool) *Paste {
	text := "briskwarden: 1\n"
	if withAccount {
		name := free("way-back-in", func(name string) bool { _, taken := in.Directory.FindAccount(name); return taken })
		text += "accounts:\n  - {name: " + name + ", kind: emergency, methods: [security-key]}\n"
	}
	assurance := in.freeAssurance("key-in-hand")
	return &Paste{YAML: text + "assurances:\n  " + assurance + ": {prove: [{traits: [phishing_resistant], within: now}]}\n" +
		"policies:\n  - name: " + in.freePolicy("way-back-in") + "\n" +
		"    about: Somebody can always get back in, with a key from the safe.\n" +
		in.owned() + "    stage: live\n    who: {kinds: [emergency]}\n    apps: every\n    rules:\n" +
		"      - {name: key, then: {require: [" + assurance + "]}}\n"}
}

// confinedEnrolment is a file with a policy that confines the action enrol.
func (in *Pass) confinedEnrolment() *Paste {
	own := ""
	if slices.ContainsFunc(in.Directory.Networks, func(n directory.Network) bool { return n.Ours }) {
		own = "      - {name: at-an-own-network, when: {our_network: true}, then: grant}\n"
	}
	return &Paste{YAML: "briskwarden: 1\npolicies:\n  - name: " + in.freePolicy("confined-enrolment") + "\n" +
		"    about: A password alone enrols nothing from anywhere.\n" + in.owned() +
		"    stage: live\n    who: {kinds: [person]}\n    apps: every\n    actions: [enrol]\n    rules:\n" + own +
		"      - {name: elsewhere, then: block, say: Enrol at the office or at the help desk.}\n"}
}

// noUnpromptable is a file with a policy that blocks programs that can show no question.
func (in *Pass) noUnpromptable() *Paste {
	return &Paste{YAML: "briskwarden: 1\npolicies:\n  - name: " + in.freePolicy("no-unpromptable") + "\n" +
		"    about: A program that can show no question is let past no second factor.\n" + in.owned() +
		"    stage: live\n    who: {kinds: [person]}\n    apps: every\n    rules:\n" +
		"      - {name: unpromptable, when: {through: [unpromptable]}, then: block,\n" +
		"         say: Use an app that can ask you for a second factor.}\n"}
}

// barForAdministrators bars a built-in method for the administrators; nil for a method that
// the book defines itself, which has a place of its own for that.
func (in *Pass) barForAdministrators(method string) *Paste {
	if slices.ContainsFunc(in.Book.Methods, func(m directory.Method) bool { return m.Name == method }) {
		return line("method", method, "barred_for: %s", condition.Text(in.Book.Settings.Administrators))
	}
	return &Paste{
		YAML: "briskwarden: 1\nmethods:\n  " + method + ": {barred_for: " + condition.Text(in.Book.Settings.Administrators) + "}\n",
	}
}

// personsOnly takes service accounts out of a rollout.
func personsOnly(r decide.Rollout) *Paste {
	return line("rollout", r.Name, "who: {all: [%s, {kinds: [person]}]}", condition.Text(r.Who))
}

// atHome confines an exemption to own networks; nil where the book has none.
func (in *Pass) atHome(x decide.Exemption) *Paste {
	if !slices.ContainsFunc(in.Directory.Networks, func(n directory.Network) bool { return n.Ours }) {
		return nil
	}
	return line("exemption", x.Name, "when: {our_network: true}")
}

// administratorsReview has the administrators review; nil where there are none.
func (in *Pass) administratorsReview() *Paste {
	if in.Administrators.IsEmpty() {
		return nil
	}
	return line("consent", "", "reviewers: %s", condition.Text(in.Book.Settings.Administrators))
}

// Lengths of time that the pieces propose.
const (
	reviewAfter  = 180 // days until a policy is looked at again
	exemptionFor = 90  // days that an exemption holds
	freshFor     = 24 * time.Hour
)
