package compare

import (
	"reflect"
	"slices"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/internal/words"
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
					d.suspect(Either, p.new.When, "rule "+p.name+" speaks in other cases: %s.")
				}
			}
		}
		if order := sameOrder(was.Rules, is.Rules, name); !order {
			d.note(Either, "the order of the rules is another.")
		}
		for _, c := range []struct {
			what    string
			changed bool
		}{
			{"the reviewers are others.", fingerprint(was.Reviewers) != fingerprint(is.Reviewers)},
			{"whether a reviewer answers her own requests is another.", was.OwnRequests != is.OwnRequests},
			{"how long an approval holds is another.", was.Lasts != is.Lasts},
			{"how long a request waits is another.", was.RequestsLast != is.RequestsLast},
			{"the tiers of scopes are others.", !sameTiers(d.old.book.Scopes, d.new.book.Scopes)},
		} {
			if c.changed {
				d.note(Either, "%s", c.what)
			}
		}
	})
	for _, p := range pairs(clientFacts(d.old), clientFacts(d.new), func(c *consent.Client) string { return c.Name }) {
		d.about("client", p.name, func() {
			switch {
			case p.old == nil:
				d.note(Either, "it is new; it is %s.", p.new.Standing)
			case p.new == nil:
				d.note(Either, "it is gone; it was %s.", p.old.Standing)
			case p.old.Standing != p.new.Standing:
				d.note(Either, "it was %s and is %s.", p.old.Standing, p.new.Standing)
			case !reflect.DeepEqual(p.old, p.new):
				d.note(Either, "what is known of it changed.")
			}
		})
	}
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
