package compare

import (
	"cmp"
	"reflect"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/watch"
)

// clientFacts are the clients without their places.
func clientFacts(v *view) []consent.Client {
	list := slices.Clone(v.book.Clients)
	for i := range list {
		list[i].At = condition.Position{}
	}
	return list
}

func (d *differ) compareConsent() {
	d.about("consent", "", func() {
		was, is := d.old.consent.Scheme(), d.new.consent.Scheme()
		name := func(r *consent.Rule) string { return r.Name }
		for _, p := range pairs(was.Rules, is.Rules, name) {
			switch {
			case p.old == nil:
				d.note(Either, "rule %s is new: %s, %s.", p.name, caseWords(p.new.When), p.new.Then)
			case p.new == nil:
				d.note(Either, "rule %s is gone: %s, %s.", p.name, caseWords(p.old.When), p.old.Then)
			default:
				if p.old.Then != p.new.Then {
					d.note(
						Effect(compareOrdered(int(p.old.Then), int(p.new.Then))),
						"rule %s said %s and says %s.",
						p.name,
						p.old.Then,
						p.new.Then,
					)
				}
				dir := d.relate(p.old.When, p.new.When)
				switch {
				case fingerprint(p.old.When) != fingerprint(p.new.When):
					d.note(
						Either.when(dir != same),
						"rule %s: it spoke %s, and speaks %s.",
						p.name,
						caseWords(p.old.When),
						caseWords(p.new.When),
					)
				case dir != same:
					d.suspect(Either, p.new.When, "rule "+p.name+" speaks in other cases")
				}
			}
		}
		if !sameOrder(was.Rules, is.Rules, name) {
			d.note(Either, "its rules stood as %s and stand as %s.", ruleNames(was.Rules), ruleNames(is.Rules))
		}
		if fingerprint(was.Reviewers) != fingerprint(is.Reviewers) {
			moved := d.relateAccounts(d.old.crowd.Of(orNobody(was.Reviewers)), d.new.crowd.Of(orNobody(is.Reviewers)))
			d.note(Either.when(moved != same), "its reviewers were %s and are %s.", inForceFor(was.Reviewers), inForceFor(is.Reviewers))
		}
		if was.OwnRequests != is.OwnRequests {
			d.note(
				map[bool]Effect{true: Loosens, false: Tightens}[is.OwnRequests],
				"%s.",
				map[bool]string{
					true:  "a reviewer may answer her own requests now",
					false: "a reviewer may not answer her own requests any more",
				}[is.OwnRequests],
			)
		}
		span := func(s directory.Span) string { return cmp.Or(statedSpan(s), "as long as nobody withdraws it") }
		if was.Lasts != is.Lasts {
			d.note(Either, "an approval held %s and holds %s.", span(was.Lasts), span(is.Lasts))
		}
		if was.Wait() != is.Wait() {
			d.note(Either, "a request waited %s and waits %s.", directory.Span(was.Wait()).Words(), directory.Span(is.Wait()).Words())
		}
	})
	d.compareTiers()
	for _, p := range pairs(clientFacts(d.old), clientFacts(d.new), func(c *consent.Client) string { return c.Name }) {
		d.about("client", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Either, "it is new; it is %s.", p.new.Standing)
			case p.new == nil:
				d.note(Either, "it is gone; it was %s.", p.old.Standing)
			default:
				d.compareClient(p.old, p.new)
			}
		})
	}
}

func (d *differ) compareClient(was, is *consent.Client) {
	list := func(names []string) string {
		if len(names) == 0 {
			return "none"
		}
		return words.List(names, "and")
	}
	vetted := map[bool]string{true: "vetted", false: "not vetted"}
	d.noteMove(Either, "its standing", was.Standing.String(), is.Standing.String())
	d.noteMove(Either, "its publisher", was.Publisher.Title, is.Publisher.Title)
	d.noteMove(Either, "the domain of its publisher", was.Publisher.Domain, is.Publisher.Domain)
	d.noteMove(Either, "its publisher", vetted[was.Publisher.Vetted], vetted[is.Publisher.Vetted])
	if !sameSet(was.RedirectURIs, is.RedirectURIs) {
		d.note(Either, "it was answered at %s and is at %s.", list(was.RedirectURIs), list(is.RedirectURIs))
	}
	if !sameSet(was.Tags, is.Tags) {
		d.note(Either, "its tags were %s and are %s.", list(was.Tags), list(is.Tags))
	}
	d.noteMove(Neither, "what people know it as", was.Title, is.Title)
	d.noteMove(Neither, "the reason of its standing", was.Because, is.Because)
	d.noteMove(Neither, "the day on which it came to its standing", dateWords(was.Reviewed), dateWords(is.Reviewed))
	d.noteMove(Neither, "who decided that", was.Reviewer, is.Reviewer)
}

// compareTiers tells what is other about the tiers of scopes.
func (d *differ) compareTiers() {
	for _, p := range pairs(d.old.book.Scopes, d.new.book.Scopes, func(t *consent.Tier) string { return t.Name }) {
		d.about("tier", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Either, "it is new, of gravity %d, with %s.", p.new.Gravity, words.List(p.new.Scopes, "and"))
			case p.new == nil:
				d.note(Either, "it is gone; it was of gravity %d, with %s.", p.old.Gravity, words.List(p.old.Scopes, "and"))
			default:
				if p.old.Gravity != p.new.Gravity {
					d.note(Either, "its gravity was %d and is %d.", p.old.Gravity, p.new.Gravity)
				}
				if !sameSet(p.old.Scopes, p.new.Scopes) {
					d.note(Either, "its scopes were %s and are %s.", words.List(p.old.Scopes, "and"), words.List(p.new.Scopes, "and"))
				}
				if p.old.Lasting != p.new.Lasting {
					d.note(Either, "%s.", map[bool]string{true: "its scopes outlive the session now",
						false: "its scopes do not outlive the session any more"}[p.new.Lasting])
				}
			}
		})
	}
}

func ruleNames(rules []consent.Rule) string {
	var names []string
	for _, r := range rules {
		names = append(names, r.Name)
	}
	return strings.Join(names, ", ")
}

// sameTiers reports whether two lists have the same tiers, in any order.
func sameTiers(a, b []consent.Tier) bool {
	for _, p := range pairs(a, b, func(t *consent.Tier) string { return t.Name }) {
		if p.old == nil || p.new == nil || p.old.Gravity != p.new.Gravity || p.old.Lasting != p.new.Lasting ||
			!sameSet(p.old.Scopes, p.new.Scopes) {
			return false
		}
	}
	return true
}

// sameOrder reports whether the names that two lists share stand in the same order.
func sameOrder[T any](a, b []T, name func(*T) string) bool {
	names := func(list, other []T) []string {
		var all []string
		for i := range list {
			if n := name(&list[i]); slices.ContainsFunc(other, func(x T) bool { return name(&x) == n }) {
				all = append(all, n)
			}
		}
		return all
	}
	return slices.Equal(names(a, b), names(b, a))
}

// compareRest reports what no decision depends on.
func (d *differ) compareRest() {
	d.about("drills", "", func() {
		noteList(
			d,
			"drill",
			d.old.book.Drills,
			d.new.book.Drills,
			func(x *book.Drill) (string, *condition.Position) { return x.Name, &x.At },
		)
	})
	d.about("accepted", "", func() {
		noteList(
			d,
			"accepted finding",
			d.old.book.Accepted,
			d.new.book.Accepted,
			func(x *book.Acceptance) (string, *condition.Position) { return x.Name, &x.At },
		)
	})
	d.about("imports", "", func() {
		noteList(
			d,
			"import",
			d.old.book.Imports,
			d.new.book.Imports,
			func(x *book.Import) (string, *condition.Position) { return x.Name, &x.At },
		)
	})
	d.about("watch", "", d.compareWatch)
	d.about("guarantees", "", func() {
		noteList(d, "guarantee", saidGuarantees(d.old.book), saidGuarantees(d.new.book), func(x *saidGuarantee) (string, *condition.Position) {
			return x.Name, &x.At
		})
	})
}

// saidGuarantee is what a guarantee says, wherever its parts stand.
type saidGuarantee struct {
	book.Guarantee
	where string
}

func saidGuarantees(b *book.Book) (list []saidGuarantee) {
	for _, g := range b.Guarantees {
		said := saidGuarantee{g, condition.Text(g.Where)}
		said.Where = nil
		list = append(list, said)
	}
	return list
}

// saidAlert is what an alert says, wherever its parts stand.
type saidAlert struct {
	watch.Alert
	when string
}

func saidAlerts(s *watch.Scheme) []saidAlert {
	var list []saidAlert
	for _, a := range s.Alerts {
		said := saidAlert{a, condition.Text(a.When)}
		said.When = nil
		list = append(list, said)
	}
	return list
}

// compareWatch tells what is other about who hears what.
func (d *differ) compareWatch() {
	was, is := &d.old.book.Watch, &d.new.book.Watch
	noteList(d, "recipient", was.Recipients, is.Recipients, func(x *watch.Recipient) (string, *condition.Position) {
		return x.Name, new(condition.Position)
	})
	noteList(d, "alert", saidAlerts(was), saidAlerts(is), func(x *saidAlert) (string, *condition.Position) { return x.Name, &x.At })
	noteList(d, "digest", was.Digests, is.Digests, func(x *watch.Digest) (string, *condition.Position) { return x.Name, &x.At })
	if was.Quiet != is.Quiet {
		d.note(Neither, "quiet: it was %s, and is %s.", cmp.Or(was.Quiet, "no window"), cmp.Or(is.Quiet, "no window"))
	}
	if was.LettersAnHour() != is.LettersAnHour() {
		d.note(Neither, "at_most: it was %d, and is %d.", was.LettersAnHour(), is.LettersAnHour())
	}
}

// noteList tells what is new, gone or other in a list without an effect. Where an item
// stands makes it no other.
func noteList[T any](d *differ, what string, old, new []T, of func(*T) (name string, at *condition.Position)) {
	var fresh, gone, other []string
	for _, p := range pairs(old, new, func(x *T) string { name, _ := of(x); return name }) {
		switch {
		case p.old == nil:
			fresh = append(fresh, p.name)
		case p.new == nil:
			gone = append(gone, p.name)
		default:
			was, is := *p.old, *p.new
			for _, x := range []*T{&was, &is} {
				_, at := of(x)
				*at = condition.Position{}
			}
			if !reflect.DeepEqual(was, is) {
				other = append(other, p.name)
			}
		}
	}
	for _, told := range []struct {
		names []string
		text  string
	}{{fresh, "%s new: %s."}, {gone, "%s gone: %s."}, {other, "%s changed: %s."}} {
		if len(told.names) > 0 {
			verb := map[bool]string{true: " is", false: " are"}[len(told.names) == 1]
			d.note(Neither, told.text, words.Count(len(told.names), what)+verb, words.UpTo(mostNames, told.names))
		}
	}
}
