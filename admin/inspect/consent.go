package inspect

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicConsent = "outside programs"

// What a client with many scopes and few users is.
const (
	manyScopes = 6
	fewUsers   = 3
)

var consentChecks = []Check{
	{"consent-open-to-all", topicConsent, Error, "a rule that allows any program",
		"It looks neither at what is asked for nor at who asks for it, so people let in whatever comes along, unread.",
		"Allow by `scopes_within` or `scopes`, and by `publisher_vetted`, `standing` or `clients`.", consentOpenToAll},
	{"group-owners-unrestricted", topicConsent, Warning, "group owners who may let programs in to anything of their group's",
		"The owner of a group answers for everybody in it, and mostly does not know it. What an owner lets in reads the data of all.",
		"Confine the rule with `scopes_within` to a mild tier, and with `groups` to the owners you trust with it.", groupOwnersUnrestricted},
	{"group-data-unasked", topicConsent, Warning, "a rule that allows a group's data without saying so",
		"A rule that does not ask whose data is wanted allows one person to give away that of a whole group.",
		"Add `resource: [own]`, or review what is asked for a group in a rule before it.", groupDataUnasked},
	{"lasting-scope-mild", topicConsent, Warning, "a scope that keeps access in the mildest tier",
		"A program that goes on when the person has left needs no password and is not asked again. That is never harmless.",
		"Put the scope into a tier of its own, with `lasting: true`.", lastingScopeMild},
	{"approved-unvetted", topicConsent, Warning, "an approved program whose publisher nobody vetted",
		"Programs change hands. What was approved is what its publisher makes of it tomorrow.",
		"Vet the publisher, or take the approval back.", approvedUnvetted},
	{"many-scopes-few-users", topicConsent, Note, "a program with many scopes and few users",
		"What hardly anybody uses is watched by nobody, and it can do much.",
		"Ask those who use it whether they still do, and bar it otherwise.", manyScopesFewUsers},
	{"no-reviewer", topicConsent, Error, "requests wait for a reviewer, and there is none",
		"What needs a reviewer waits until it expires. People will find another way in.",
		"Name reviewers in `consent`, two at least.", noReviewer},
	{"one-reviewer", topicConsent, Warning, "one reviewer only",
		"Nobody approves her own requests, and on her holiday nobody approves anything.",
		"Name a second reviewer.", oneReviewer},
	{"unreached-consent-rule", topicConsent, Error, "a rule of consent that nothing reaches",
		"Whatever it would match, a rule before it has matched already, or its tests contradict each other.",
		"Move it up, correct its condition, or take it out.", unreachedConsentRule},
	{"unlisted-scope", topicConsent, Note, "a scope that no tier lists",
		"It counts as the gravest, so anyone who asks for it waits for a reviewer, harmless as it may be.",
		"List it in a tier.", unlistedScope},
}

// eachConsentRule visits the rules as they are judged.
func (in *Pass) eachConsentRule(visit func(i int, r consent.Rule, keys map[condition.Key]bool)) {
	for i, r := range in.Consent.Scheme().Rules {
		keys := map[condition.Key]bool{}
		in.eachTest(r.When, func(t *condition.Test) { keys[t.Key] = true })
		visit(i, r, keys)
	}
}

func consentOpenToAll(in *Pass) {
	in.eachConsentRule(func(_ int, r consent.Rule, keys map[condition.Key]bool) {
		asks := keys[consent.KeyScopes] || keys[consent.KeyScopesWithin]
		who := keys[consent.KeyClients] || keys[consent.KeyStanding] || keys[consent.KeyPublisherVetted] || keys[consent.KeyClientTags]
		if r.Then == consent.Allow && !asks && !who {
			in.Report(r.Name, r.At, "The rule %s allows whatever any program asks for.", r.Name)
		}
	})
}

func groupOwnersUnrestricted(in *Pass) {
	in.eachConsentRule(func(_ int, r consent.Rule, keys map[condition.Key]bool) {
		confined := (keys[consent.KeyScopes] || keys[consent.KeyScopesWithin]) && (keys[engine.KeyGroups] || keys[engine.KeyAccounts])
		if r.Then == consent.Allow && keys[consent.KeyOwnsGroup] && !confined {
			in.Report(r.Name, r.At, "The rule %s lets the owner of any group, or for any scope, decide for the group.", r.Name)
		}
	})
}

func groupDataUnasked(in *Pass) {
	var before []condition.Node
	group := condition.Is("resource", "group")
	in.eachConsentRule(func(_ int, r consent.Rule, keys map[condition.Key]bool) {
		if r.Then == consent.Allow && !keys[consent.KeyOwnsGroup] && !keys[consent.KeyResource] &&
			in.canMatch([]condition.Node{group, r.When}, before) {
			in.Report(r.Name, r.At, "The rule %s allows what is asked of a group's data too.", r.Name)
		}
		before = append(before, r.When)
	})
}

// offline is the scope by which a client keeps its access (OpenID Connect Core
// 1.0 §11).
const offline = "offline_access"

func lastingScopeMild(in *Pass) {
	tiers := in.Consent.Ladder().Tiers()
	if len(tiers) == 0 {
		return
	}
	mild := tiers[0]
	if mild.Lasting || in.Consent.Ladder().TierOf(offline) == mild.Name {
		in.Report(mild.Name, in.where("tier", mild.Name), "The mildest tier, %s, holds a scope that keeps its access.", mild.Name)
	}
}

func approvedUnvetted(in *Pass) {
	for _, c := range in.Book.Clients {
		if c.Standing == consent.Approved && !c.Publisher.Vetted {
			in.Report(c.Name, c.At, "%s is approved, and nobody vetted its publisher.", c.Name)
		}
	}
}

func manyScopesFewUsers(in *Pass) {
	for _, name := range slices.Sorted(maps.Keys(in.Usage)) {
		u := in.Usage[name]
		if len(u.Holds) >= manyScopes && u.Users <= fewUsers {
			in.Report(
				name,
				in.where("client", name),
				"%s holds %s and is used by %s.",
				name,
				words.Count(len(u.Holds), "scope"),
				words.Count(u.Users, "account"),
			)
		}
	}
}

// guards reports whether the book says anything of consent.
func (in *Pass) guards() bool {
	return len(in.Book.Consent.Rules)+len(in.Book.Clients)+len(in.Book.Scopes) > 0
}

// reviewers counts those who may surely review.
func (in *Pass) reviewers() int {
	n := 0
	for i := range in.Directory.Accounts {
		if in.Consent.MayReview(context.Background(), in.Directory.Accounts[i].Name, in.At) {
			n++
		}
	}
	return n
}

func noReviewer(in *Pass) {
	if in.guards() && in.reviewers() == 0 {
		in.ReportWith(in.administratorsReview(), "consent", in.where("setting", "consent"), "Nobody may answer what waits for a reviewer.")
	}
}

func oneReviewer(in *Pass) {
	if in.guards() && in.reviewers() == 1 {
		in.Report("consent", in.where("setting", "consent"), "One account alone may answer what waits for a reviewer.")
	}
}

func unreachedConsentRule(in *Pass) {
	var before []condition.Node
	for _, r := range in.Consent.Scheme().Rules {
		if !in.canMatch([]condition.Node{r.When}, before) {
			in.Report(r.Name, r.At, "Nothing reaches the rule %s.", r.Name)
		}
		before = append(before, r.When)
	}
}

func unlistedScope(in *Pass) {
	note := func(scope string, at condition.Position, who string) {
		if _, listed := in.Consent.Ladder().Rank(scope); !listed && !strings.Contains(scope, "*") {
			in.Report(scope, at, "No tier lists %s, which %s.", scope, who)
		}
	}
	for _, r := range in.Consent.Scheme().Rules {
		condition.Walk(r.When, func(n condition.Node) bool {
			if t, ok := n.(*condition.Test); ok && t.Key == consent.KeyScopes {
				for _, scope := range t.Values {
					note(scope, t.Pos(), "the rule "+r.Name+" names")
				}
			}
			return true
		})
	}
	for _, name := range slices.Sorted(maps.Keys(in.Usage)) {
		for _, scope := range slices.Concat(in.Usage[name].Holds, in.Usage[name].Wants) {
			note(scope, in.where("client", name), name+" holds or asks for")
		}
	}
}
