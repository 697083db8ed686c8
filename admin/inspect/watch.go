package inspect

import (
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/watch"
)

// topicWatch is the topic of who hears what.
const topicWatch = "watch"

var watchChecks = []Check{
	{"told-to-nobody", topicWatch, Error, "an alert or a digest that nobody gets",
		"It rings where nobody is: its author relies on it, and its silence reassures.",
		"Name recipients in `to`, each with a mail address or a web hook.", toldToNobody},
	{"recipient-without-letters", topicWatch, Note, "a recipient who is told nothing",
		"They may believe that they would hear of it.",
		"Name them in the `to` of an alert or a digest, or take them out.", recipientsWithoutLetters},
}

// toldToNobody finds alerts and digests whose recipients have no address.
func toldToNobody(p *Pass) {
	scheme := &p.Book.Watch
	check := func(what, name string, at condition.Position, to []string) {
		if slices.ContainsFunc(to, func(name string) bool { return isReached(scheme, name) }) {
			return
		}
		if len(to) == 0 {
			p.Report(name, at, "The %s %s names nobody in `to`.", what, name)
			return
		}
		p.Report(name, at, "The %s %s goes to %s, without a mail address or a web hook.", what, name, words.List(to, "and"))
	}
	for i := range scheme.Alerts {
		check("alert", scheme.Alerts[i].Name, scheme.Alerts[i].At, scheme.Alerts[i].To)
	}
	for i := range scheme.Digests {
		check("digest", scheme.Digests[i].Name, scheme.Digests[i].At, scheme.Digests[i].To)
	}
}

// isReached reports whether a recipient has a mail address or a web hook.
func isReached(scheme *watch.Scheme, name string) bool {
	return slices.ContainsFunc(scheme.Recipients, func(r watch.Recipient) bool {
		return r.Name == name && (len(r.Mail) > 0 || r.Hook != "")
	})
}

func recipientsWithoutLetters(p *Pass) {
	told := map[string]bool{}
	for i := range p.Book.Watch.Alerts {
		for _, name := range p.Book.Watch.Alerts[i].To {
			told[name] = true
		}
	}
	for i := range p.Book.Watch.Digests {
		for _, name := range p.Book.Watch.Digests[i].To {
			told[name] = true
		}
	}
	for i := range p.Book.Watch.Recipients {
		if name := p.Book.Watch.Recipients[i].Name; !told[name] {
			p.Report(name, p.Book.Where("recipient", name), "No alert and no digest goes to %s.", name)
		}
	}
}
