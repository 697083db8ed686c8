package inspect

import (
	"cmp"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicAim = "aim"

// forgotten is after how many days a draft or a shadow is forgotten.
const forgotten = 90

var aimChecks = []Check{
	{"aims-at-empty-group", topicAim, Warning, "a policy aimed at a group without members",
		"The author of the policy thought that the group had somebody in it. Mostly the members are in another group of a like name.",
		"Put the members into the group, or aim the policy at the group that they are in.", aimsAtEmptyGroup},
	{"accounts-unlisted", topicAim, Error, "accounts outside the book that nobody listed",
		"The directory is outside the book, so what is found about people is found about the few that the book names itself, and all else is " +
			"not looked at.",
		"Give inspect the accounts: --people FILE at the command, Book.Listing in a program.", accountsUnlisted},
	{"aims-at-nobody", topicAim, Error, "a policy that is for no account",
		"Its `who` holds for none of the accounts, so the policy never speaks. An emergency account is meant only where it is named.",
		"Widen `who`, or take the policy out.", aimsAtNobody},
	{"aims-at-no-app", topicAim, Error, "a policy that is for no app",
		"Its `apps` hold for none of the apps, so the policy never speaks.",
		"Name an app or a tag that some app bears.", aimsAtNoApp},
	{"uncovered-app", topicAim, Warning, "an app that no live policy covers",
		"Where no policy speaks, what the book says `otherwise` decides for every attempt by anyone.",
		"Aim a live policy at it, or take the app out.", uncoveredApp},
	{"review-overdue", topicAim, Warning, "a policy past its review_by",
		"Policies outlive their reasons. The day on which somebody promised to look has passed.",
		"Look at it with its owner and set a new `review_by`.", reviewOverdue},
	{"no-owner", topicAim, Note, "a policy without an owner",
		"When it stops somebody, nobody knows whom to ask.",
		"Name a person or a group in `owner`.", noOwner},
	{"otherwise-grants", topicAim, Error, "the book grants where no policy speaks",
		"Any app or account that no policy thinks of is open to anyone who proves one method. What is forgotten should be shut.",
		"Set `otherwise: block` in the settings, and write a policy for what is to be open.", otherwiseGrants},
	{"unused-definition", topicAim, Note, "a definition that nothing uses",
		"It is left over, or something should name it and names another by mistake.",
		"Use it or take it out.", unusedDefinition},
	{"forgotten-stage", topicAim, Warning, "a draft or a shadow that was forgotten",
		"A draft has no effect, and a shadow is only watched. After three months nobody waits for what it will show.",
		"Move it on, or take it out.", forgottenStage},
	{"except-takes-nobody", topicAim, Warning, "an `except` that takes nobody away",
		"The keys under one `except` must all hold for somebody to be excepted. Those that were meant to be excepted are still in.",
		"Write one key, or put `any` over them: `except: {any: [{groups: [a]}, {kinds: [service]}]}`.", exceptTakesNobody},
	{"out-of-force", topicAim, Warning, "a live policy that is not in force, or not for long years",
		"It is called live and asks nothing of anybody: it has ended, or begins so late that the year is mistyped.",
		"Correct `from` or `until`, or take the policy out.", outOfForce},
	{"app-open-to-nobody", topicAim, Warning, "an app that is open to a group without members",
		"Those whom the group was meant to have cannot open it, and nobody at all where it is the only one.",
		"Put the members into the group, or open the app to the group that they are in.", appOpenToNobody},
	{"public-and-guarded", topicAim, Warning, "a public app at which a policy is aimed by name or tag",
		"Somebody thought that the app needs a guard, and somebody that it needs none. Where the policy asks for nothing, it opens without " +
			"any proof.",
		"Take `public` from the app, or the app out of the policy.", publicAndGuarded},
	{"replaces-draft", topicAim, Note, "a policy that replaces a draft",
		"A draft has no say that could be silenced. When it is put live, it will be silenced without anybody having thought of it.",
		"Take it out of `replaces` until the draft is live.", replacesDraft},
	{"undated-stage", topicAim, Note, "a draft or a shadow that does not say since when",
		"Without a date nobody notices that it was forgotten.",
		"Write the day on which it came to its stage as `since`.", undatedStage},
}

func accountsUnlisted(in *Pass) {
	if !in.Book.ListsAll() {
		in.Report(
			"book",
			in.where("setting", "directory"),
			"The accounts are outside the book, and only the %s that it names itself were looked at.",
			words.Count(len(in.Directory.Accounts), "account"),
		)
	}
}

func aimsAtEmptyGroup(in *Pass) {
	for i := range in.Policies {
		s := &in.Policies[i]
		in.eachTest(s.Who, func(t *condition.Test) {
			if t.Key != engine.KeyGroups {
				return
			}
			for _, g := range t.Numbers() {
				name := in.Directory.Groups[g].Name
				if len(in.Accounts.Members(int(g))) == 0 && in.Directory.Groups[g].Where == nil {
					in.Report(s.Name+"/"+name, t.Pos(), "%s is aimed at the group %s, which has no members.", s.Name, name)
				}
			}
		})
	}
}

// eachTest visits the tests of a condition that stand outside any not.
func (in *Pass) eachTest(node condition.Node, visit func(*condition.Test)) {
	condition.Walk(node, func(n condition.Node) bool {
		switch n := n.(type) {
		case *condition.Not:
			return false
		case *condition.Test:
			visit(n)
		}
		return true
	})
}

func aimsAtNobody(in *Pass) {
	for i := range in.Policies {
		// Whom a condition on passing time holds for is another matter tomorrow.
		if s := &in.Policies[i]; s.Audience.IsEmpty() && !passes(s.Who) {
			in.Report(s.Name, s.At, "The `who` of %s holds for none of the %d accounts.", s.Name, len(in.Directory.Accounts))
		}
	}
}

func aimsAtNoApp(in *Pass) {
	for i := range in.Policies {
		if s := &in.Policies[i]; len(s.AimedAt) == 0 {
			in.Report(s.Name, s.At, "The `apps` of %s hold for none of the %d apps.", s.Name, len(in.Directory.Apps))
		}
	}
}

func uncoveredApp(in *Pass) {
	covered := in.Judge.Covered(in.Accounts, in.At)
	for n := range in.Directory.Apps {
		if a := &in.Directory.Apps[n]; !covered[n] && !a.Public {
			in.Report(a.Name, in.where("app", a.Name), "No live policy covers sign-ins at %s.", a.Name)
		}
	}
}

func exceptTakesNobody(in *Pass) {
	check := func(who condition.Node, at condition.Position, name string) {
		all, ok := who.(*condition.All)
		if !ok {
			return
		}
		for i, n := range all.Of {
			except, is := n.(*condition.Not)
			if !is || !except.Except || passes(who) {
				continue
			}
			// One key may well hold for nobody today. Several, each of them for somebody,
			// and all of them for nobody, were meant one by one.
			keys, several := except.Of.(*condition.All)
			rest := in.Accounts.Of(&condition.All{Of: slices.Delete(slices.Clone(all.Of), i, i+1)})
			if several && len(keys.Of) > 1 && rest.And(in.Accounts.Of(keys)).IsEmpty() &&
				!slices.ContainsFunc(keys.Of, func(n condition.Node) bool { return rest.And(in.Accounts.Of(n)).IsEmpty() }) {
				in.Report(name, cmp.Or(except.Pos(), at), "The `except` of %s takes away nobody whom it is for.", name)
			}
		}
	}
	for i := range in.Policies {
		check(in.Policies[i].Who, in.Policies[i].At, in.Policies[i].Name)
	}
	for _, x := range in.Judge.Exemptions() {
		check(x.Who, x.At, x.Name)
	}
	for _, r := range in.Judge.Rollouts() {
		check(r.Who, r.At, r.Name)
	}
}

// farOff is after how many days a policy that begins then is thought to be mistyped.
const farOff = 400

func outOfForce(in *Pass) {
	for i := range in.Policies {
		s := &in.Policies[i]
		switch {
		case s.Stage == decide.Draft:
		case s.Until != nil && s.Until.Before(in.today):
			in.Report(s.Name, s.At, "%s is %s, and ended on %s.", s.Name, s.Stage, s.Until)
		case s.From != nil && daysBetween(in.today, *s.From) > farOff:
			in.Report(s.Name, s.At, "%s is %s, and begins on %s.", s.Name, s.Stage, s.From)
		}
	}
}

func appOpenToNobody(in *Pass) {
	for n := range in.Directory.Apps {
		app := &in.Directory.Apps[n]
		for _, group := range app.OpenTo {
			i := slices.IndexFunc(in.Directory.Groups, func(g directory.Group) bool { return g.Name == group })
			if i >= 0 && len(in.Accounts.Members(i)) == 0 && in.Directory.Groups[i].Where == nil && in.Book.ListsAll() {
				in.Report(app.Name+"/"+group, in.where("app", app.Name), "%s is open to %s, which has no members.", app.Name, group)
			}
		}
	}
}

func publicAndGuarded(in *Pass) {
	for _, s := range in.Live() {
		aims := false
		in.eachTest(s.Apps, func(t *condition.Test) { aims = aims || t.Key != engine.KeyEvery })
		for _, n := range s.AimedAt {
			if app := &in.Directory.Apps[n]; aims && app.Public {
				in.Report(app.Name, in.where("app", app.Name), "%s is public, and %s is aimed at it.", app.Name, s.Name)
			}
		}
	}
}

func replacesDraft(in *Pass) {
	for i := range in.Policies {
		s := &in.Policies[i]
		for _, name := range s.Replaces {
			n := slices.IndexFunc(in.Policies, func(t Policy) bool { return t.Name == name })
			if s.active() && n >= 0 && !in.Policies[n].active() {
				in.Report(s.Name+"/"+name, s.At, "%s replaces %s, which is a draft.", s.Name, name)
			}
		}
	}
}

func reviewOverdue(in *Pass) {
	for i := range in.Policies {
		if s := &in.Policies[i]; s.ReviewBy != nil && s.ReviewBy.Before(in.today) {
			in.ReportWith(
				line("policy", s.Name, "review_by: %s", in.day(reviewAfter)),
				s.Name,
				s.At,
				"%s was to be looked at by %s, %s ago.",
				s.Name,
				s.ReviewBy,
				words.Count(daysBetween(*s.ReviewBy, in.today), "day"),
			)
		}
	}
}

func noOwner(in *Pass) {
	for i := range in.Policies {
		if s := &in.Policies[i]; s.Owner == "" {
			var owner *Paste
			for n := range in.Administrators.All() {
				owner = line("policy", s.Name, "owner: %q", in.Directory.Accounts[n].Name)
				break
			}
			in.ReportWith(owner, s.Name, s.At, "Nobody owns %s.", s.Name)
		}
	}
}

func otherwiseGrants(in *Pass) {
	if o := in.Judge.Otherwise(); o.Grant {
		in.ReportWith(
			line("settings", "", "otherwise: block"),
			"settings",
			in.where("setting", "otherwise"),
			"`otherwise: grant` lets in anyone who proves one method, wherever no live policy speaks.",
		)
	}
}

func forgottenStage(in *Pass) {
	for i := range in.Policies {
		s := &in.Policies[i]
		if s.Stage == decide.Live || s.Since == nil {
			continue
		}
		if n := daysBetween(*s.Since, in.today); n > forgotten {
			in.Report(s.Name, s.At, "%s has been a %s since %s, for %s.", s.Name, s.Stage, s.Since, words.Count(n, "day"))
		}
	}
}

func undatedStage(in *Pass) {
	for i := range in.Policies {
		if s := &in.Policies[i]; s.Stage != decide.Live && s.Since == nil {
			in.ReportWith(
				line("policy", s.Name, "since: %s", in.today),
				s.Name,
				s.At,
				"%s is a %s, and does not say since when.",
				s.Name,
				s.Stage,
			)
		}
	}
}

// used notes what conditions and definitions name.
type used map[string]map[string]bool

func (u used) note(what string, names ...string) {
	if u[what] == nil {
		u[what] = map[string]bool{}
	}
	for _, name := range names {
		u[what][name] = true
	}
}

// named are the kinds of definition that a key of conditions names.
var named = map[condition.Key]string{
	engine.KeyNetworks: "network", engine.KeyCountries: "region", engine.KeyDuring: "window", engine.KeyPosture: "posture",
	consent.KeyScopesWithin: "tier", consent.KeyClients: "client",
	engine.KeyGroups: "group", engine.KeySignals: "signal", engine.KeyProved: "assurance", engine.KeyEnrolled: "method",
}

func unusedDefinition(in *Pass) {
	u := used{}
	in.eachCondition(func(n condition.Node) {
		condition.Walk(n, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok {
				u.note(named[t.Key], t.Values...)
			}
			return true
		})
	})
	b := in.Book
	for _, p := range b.Policies {
		for _, r := range p.Rules {
			for _, q := range r.Then.Require {
				u.note("assurance", q.OneOf...)
			}
		}
		u.note("group", p.Owner)
	}
	for _, q := range b.Settings.Otherwise.Require {
		u.note("assurance", q.OneOf...)
	}
	for _, x := range b.Exemptions {
		u.note("assurance", x.Instead...)
	}
	for _, a := range b.Assurances {
		u.note("posture", a.Posture)
		u.note("method", a.Enrol...)
		for _, p := range a.Prove {
			u.note("method", slices.Concat(p.AnyOf, p.Fallback)...)
		}
	}
	u.note("window", b.Watch.Quiet)
	for _, g := range b.Guarantees {
		u.note("assurance", slices.Concat(g.NeverWithout, g.Enough, g.AtMost)...)
	}
	for _, a := range b.Accounts {
		u.note("method", a.Methods...)
	}
	for _, a := range b.Apps {
		u.note("group", a.OpenTo...)
	}
	for _, g := range b.Groups {
		u.note("group", g.Includes...)
	}
	findUnused(in, u, "network", b.Networks, func(n directory.Network) string {
		if n.Ours || n.Anonymous || n.Country != "" {
			return "" // it has its say without being named
		}
		return n.Name
	})
	findUnused(in, u, "region", b.Regions, func(r directory.Region) string { return r.Name })
	findUnused(in, u, "window", b.Windows, func(w directory.Window) string { return w.Name })
	findUnused(in, u, "posture", b.Postures, func(p directory.Posture) string { return p.Name })
	findUnused(in, u, "assurance", b.Assurances, func(a decide.Assurance) string { return a.Name })
	findUnused(in, u, "group", b.Groups, func(g directory.Group) string {
		if in.isImported("group", g.Name) {
			return "" // another system's groups need no use here
		}
		return g.Name
	})
	findUnused(in, u, "method", b.Methods, func(m directory.Method) string {
		if m.BarredFor != nil {
			return ""
		}
		return m.Name
	})
}

// isImported reports whether a definition comes from an import.
func (in *Pass) isImported(what, name string) bool {
	at := in.where(what, name)
	return at.IsValid() && !slices.ContainsFunc(in.Book.Files, func(name string) bool { return strings.HasSuffix(at.File, name) })
}

// findUnused finds the definitions of a kind that are not used. Where nameOf
// returns "" there need be no use.
func findUnused[T any](in *Pass, u used, what string, definitions []T, nameOf func(T) string) {
	for _, d := range definitions {
		if name := nameOf(d); name != "" && !u[what][name] {
			in.Report(what+"/"+name, in.where(what, name), "Nothing uses the %s %s.", what, name)
		}
	}
}

// eachCondition visits each condition of the book as it is written.
func (in *Pass) eachCondition(visit func(condition.Node)) {
	b := in.Book
	visit(b.Settings.Administrators)
	for _, p := range b.Policies {
		visit(p.Who)
		visit(p.Apps)
		visit(p.LiveFor)
		for _, r := range p.Rules {
			visit(r.When)
		}
	}
	for _, s := range b.Risk.Signals {
		visit(s.When)
	}
	for _, x := range b.Exemptions {
		visit(x.Who)
		visit(x.When)
	}
	for _, r := range b.Rollouts {
		visit(r.Who)
	}
	for i := range b.Watch.Alerts {
		visit(b.Watch.Alerts[i].When)
	}
	for i := range b.Guarantees {
		visit(b.Guarantees[i].Where)
	}
	visit(b.Consent.Reviewers)
	for _, r := range b.Consent.Rules {
		visit(r.When)
	}
	for _, g := range b.Groups {
		visit(g.Where)
	}
	for _, m := range b.Methods {
		visit(m.BarredFor)
	}
}

// passes reports whether a condition depends on what changes as time passes: the time since
// joining, or a risk that is put right.
func passes(node condition.Node) bool {
	return condition.Asks(node, engine.KeyJoinedWithin, engine.KeyAccountRiskAtLeast)
}
