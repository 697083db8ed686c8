package compare

import (
	"cmp"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"go4.org/netipx"

	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

func (d *differ) comparePlaces() {
	compareNamedThings(
		d,
		"network",
		d.old.book.Networks,
		d.new.book.Networks,
		func(n *directory.Network) string { return n.Name },
		func(was, is *directory.Network) []string {
			var changes []string
			before, after := d.old.ranges([]string{was.Name}), d.new.ranges([]string{is.Name})
			if more := without(after, before); len(more) > 0 {
				changes = append(changes, "it reaches "+rangeWords(more)+" besides.")
			}
			if fewer := without(before, after); len(fewer) > 0 {
				changes = append(changes, "it does not reach "+rangeWords(fewer)+" any more.")
			}
			if was.Ours != is.Ours {
				changes = append(
					changes,
					map[bool]string{true: "it counts as one's own now.", false: "it does not count as one's own any more."}[is.Ours],
				)
			}
			if was.Anonymous != is.Anonymous {
				changes = append(
					changes,
					map[bool]string{true: "it is said to hide where people come from now.",
						false: "it is not said any more to hide where people come from."}[is.Anonymous],
				)
			}
			if was.Country != is.Country {
				changes = append(
					changes,
					fmt.Sprintf(
						"its country was %s and is %s.",
						cmp.Or(string(was.Country), "not stated"),
						cmp.Or(string(is.Country), "not stated"),
					),
				)
			}
			return changes
		},
	)
	compareNamedThings(
		d,
		"region",
		d.old.book.Regions,
		d.new.book.Regions,
		func(r *directory.Region) string { return r.Name },
		func(was, is *directory.Region) []string {
			if compareSets(was.Countries, is.Countries) == same {
				return nil
			}
			return []string{fmt.Sprintf("it was %s and is %s.", countryWords(was.Countries), countryWords(is.Countries))}
		},
	)
}

func countryWords(codes []directory.Country) string {
	var names []string
	for _, c := range codes {
		names = append(names, string(c))
	}
	return words.List(names, "and")
}

// rangeWords names ranges of addresses.
func rangeWords(ranges []netipx.IPRange) string {
	var names []string
	for _, r := range ranges {
		switch p, ok := r.Prefix(); {
		case r.From() == r.To():
			names = append(names, r.From().String())
		case ok:
			names = append(names, netip.Prefix.String(p))
		default:
			names = append(names, r.String())
		}
	}
	return words.UpTo(mostNames, names)
}

func (d *differ) compareTimes() {
	compareNamedThings(
		d,
		"window",
		d.old.book.Windows,
		d.new.book.Windows,
		func(w *directory.Window) string { return w.Name },
		func(was, is *directory.Window) []string {
			if before, after := was.String(), is.String(); before != after {
				return []string{fmt.Sprintf("it was %s and is %s.", before, after)}
			}
			return nil
		},
	)
}

func (d *differ) comparePostures() {
	compareNamedThings(
		d,
		"posture",
		d.old.book.Postures,
		d.new.book.Postures,
		func(p *directory.Posture) string { return p.Name },
		func(was, is *directory.Posture) []string {
			var changes []string
			if was.Fresh != is.Fresh {
				changes = append(
					changes,
					fmt.Sprintf(
						"a report could be %s and can be %s.",
						ageWords(was.Fresh),
						ageWords(is.Fresh),
					),
				)
			}
			for _, c := range matchChecks(was.Checks, is.Checks) {
				switch {
				case c.is == nil:
					changes = append(changes, "it does not check any more that "+c.was.Fact+" is "+c.was.Wants()+".")
				case c.was == nil:
					changes = append(changes, "it checks besides that "+c.is.Fact+" is "+c.is.Wants()+".")
				case relateChecks(c.was, c.is) != same:
					changes = append(
						changes,
						fmt.Sprintf("it checked that %s is %s, and checks that it is %s.", c.is.Fact, c.was.Wants(), c.is.Wants()),
					)
				}
			}
			return changes
		},
	)
}

func ageWords(s directory.Span) string {
	if s == 0 {
		return "of any age"
	}
	return s.Words() + " old"
}

func (d *differ) compareRisk() {
	d.about("risk", "", func() {
		was, is := d.old.judge.Risk(), d.new.judge.Risk()
		def := definition{"risk", ""}
		if was.Levels != is.Levels {
			d.noteUse(
				def,
				"the levels were low %d, medium %d, high %d and are low %d, medium %d, high %d.",
				was.Levels.Low,
				was.Levels.Medium,
				was.Levels.High,
				is.Levels.Low,
				is.Levels.Medium,
				is.Levels.High,
			)
		}
		for _, p := range pairs(was.Signals, is.Signals, func(s *risk.Signal) string { return s.Name }) {
			switch {
			case p.old == nil:
				d.noteUse(def, "the signal %s is new, with %s.", p.name, words.Count(p.new.Points, "point"))
			case p.new == nil:
				d.noteUse(def, "the signal %s is gone; it had %s.", p.name, words.Count(p.old.Points, "point"))
			default:
				d.compareSignal(def, p.old, p.new)
			}
		}
		// Where the score is lower, or the level begins higher, more attempts are eased.
		easing := Effect(compareOrdered(was.Levels.Medium, is.Levels.Medium) | d.score.flip())
		if easing != Neither && len(d.old.book.Rollouts)+len(d.new.book.Rollouts) > 0 {
			d.note(
				easing,
				"rollouts ease nothing where the risk may be medium, so %s attempts are eased.",
				map[Effect]string{Loosens: "more", Tightens: "fewer", Either: "other"}[easing],
			)
		}
	})
}

// compareSignal tells what is other about a signal: what the book says of it or, where that
// is the same, what it looks at.
func (d *differ) compareSignal(def definition, was, is *risk.Signal) {
	if was.Points != is.Points {
		d.noteUse(def, "the signal %s had %s and has %d.", is.Name, words.Count(was.Points, "point"), is.Points)
	}
	count := func(n int) string { return strings.TrimPrefix(strconv.Itoa(n), "0") }
	told := false
	for _, stated := range []struct{ what, was, is string }{
		{"detector", was.Detect.String(), is.Detect.String()},
		{"speed", speedWords(was.FasterThan), speedWords(is.FasterThan)},
		{"number of failures", count(was.Failures), count(is.Failures)},
		{"time for them", statedSpan(was.Within), statedSpan(is.Within)},
		{"time without a sign-in", statedSpan(was.After), statedSpan(is.After)},
	} {
		if stated.was != stated.is {
			told = true
			d.noteUse(def, "the signal %s: its %s was %s and is %s.", is.Name, stated.what, cmp.Or(stated.was, "not stated"),
				cmp.Or(stated.is, "not stated"))
		}
	}
	switch {
	case fingerprint(was.When) != fingerprint(is.When):
		d.noteUse(def, "the signal %s held %s, and holds %s.", is.Name, signalWhen(was), signalWhen(is))
	case told || d.signal(is.Name) == same:
	case is.When != nil:
		d.suspect(d.uses[def].effect, d.new.signalCondition(is.Name), "the signal "+is.Name+" holds in other cases")
	default:
		looksAt := map[risk.Detector]string{
			risk.Travel:           "the places of networks and addresses are others",
			risk.CountryChange:    "the places of networks and addresses are others",
			risk.AnonymousNetwork: "the networks that hide where people come from are others",
			risk.NewDevice:        "the known devices are others",
		}[is.Detect]
		d.noteUse(def, "the signal %s holds in other cases: %s.", is.Name, looksAt)
	}
}

func signalWhen(s *risk.Signal) string {
	if s.When == nil {
		return "where its detector finds it, or an attempt names it"
	}
	return caseWords(s.When)
}

func speedWords(kmh float64) string {
	if kmh == 0 {
		return ""
	}
	return strconv.FormatFloat(kmh, 'f', -1, 64) + " km/h"
}
