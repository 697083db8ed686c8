package describe

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/internal/words"
)

// AddConsent adds to the description of a book what it says of outside programs.
func (doc *Document) AddConsent(judge *consent.Judge) {
	scheme := judge.Scheme()
	if len(scheme.Rules)+len(judge.Clients())+len(judge.Ladder().Tiers()) == 0 {
		return
	}
	s := Section{Heading: "Outside programs"}
	s.Lines = append(
		s.Lines,
		"Each scope that a program asks for is judged by itself, and the strictest answer stands. A barred program is refused whatever the "+
			"rules say, "+
			"and what is not known is never allowed.",
	)
	reviewers := "Nobody may review, so what needs a reviewer waits until it expires."
	if scheme.Reviewers != nil {
		reviewers = "Reviewers are " + People(scheme.Reviewers) + "; nobody approves their own requests."
		if scheme.OwnRequests {
			reviewers = "Reviewers are " + People(scheme.Reviewers) + ", and may approve their own requests."
		}
	}
	s.Lines = append(s.Lines, reviewers)
	if scheme.Lasts > 0 {
		s.Lines = append(s.Lines, "An approval holds for "+scheme.Lasts.Words()+".")
	}
	entry := Entry{Rules: []string{}}
	for i, r := range scheme.Rules {
		sentence := consentRule(r, i)
		entry.Rules = append(entry.Rules, r.Name+": "+sentence)
	}
	entry.Rules = append(entry.Rules, "Otherwise a reviewer looks.")
	s.Entries = append(s.Entries, entry)
	doc.add(s, nil)

	tiers := Section{Heading: "Scopes, from the mildest to the gravest"}
	for _, t := range judge.Ladder().Tiers() {
		tiers.Lines = append(tiers.Lines, strings.TrimSpace(fmt.Sprintf("%s: %s. %s", t.Name, words.List(t.Scopes, "and"), t.About)))
	}
	tiers.Lines = append(tiers.Lines, "What no tier lists counts as the gravest.")
	doc.add(tiers, nil)

	clients := Section{Heading: "Programs"}
	for _, name := range slices.Sorted(maps.Keys(judge.Clients())) {
		c := judge.Clients()[name]
		text := name + " is " + c.Standing.String()
		if c.Publisher.Title != "" {
			text += ", by " + c.Publisher.Title
			if !c.Publisher.Vetted {
				text += ", whom nobody vetted"
			}
		}
		clients.Lines = append(clients.Lines, strings.TrimSpace(text+". "+c.Because))
	}
	doc.add(clients, nil)
}

// consentRule is a rule of consent in one sentence, after so many others.
func consentRule(r consent.Rule, before int) string {
	does := map[consent.Outcome]string{consent.Allow: "it is allowed", consent.Review: "a reviewer looks",
		consent.Refuse: "it is refused"}[r.Then]
	text := strings.ToUpper(does[:1]) + does[1:] + "."
	switch {
	case r.When != nil && before == 0:
		text = "Where " + When(r.When) + ", " + does + "."
	case r.When != nil:
		text = "Otherwise, where " + When(r.When) + ", " + does + "."
	case before > 0:
		text = "Otherwise " + does + "."
	}
	if r.Say != "" {
		text += " They are told: \"" + r.Say + "\""
	}
	return text
}
