package compare

import (
	"cmp"
	"fmt"
	"net/netip"

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
				changes = append(changes, fmt.Sprintf("its country was %q and is %q.", was.Country, is.Country))
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
						"a report could be %s old and can be %s.",
						cmp.Or(statedSpan(was.Fresh), "however"),
						cmp.Or(statedSpan(is.Fresh), "however"),
					),
				)
			}
			before, after := checksOf(was), checksOf(is)
			for _, check := range except(before, after) {
				changes = append(changes, "it does not check any more that "+check+".")
			}
			for _, check := range except(after, before) {
				changes = append(changes, "it checks besides that "+check+".")
			}
			return changes
		},
	)
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
			case p.old.Points != p.new.Points:
				d.noteUse(def, "the signal %s had %s and has %d.", p.name, words.Count(p.old.Points, "point"), p.new.Points)
			case d.signal(p.name) != same:
				d.noteUse(def, "the signal %s holds in other cases.", p.name)
			}
		}
		easing := Effect(compareOrdered(was.Levels.Medium, is.Levels.Medium))
		if d.score != same {
			easing = Either
		}
		if easing != Neither && len(d.old.book.Rollouts)+len(d.new.book.Rollouts) > 0 {
			d.note(
				easing,
				"rollouts ease nothing where the risk may be medium, so %s attempts are eased.",
				map[Effect]string{Loosens: "more", Tightens: "fewer", Either: "other"}[easing],
			)
		}
	})
}
