package compare

import (
	"slices"

	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// checkPair is a check of a posture as both books have it; one of them may not.
type checkPair struct{ was, is *directory.Check }

// matchChecks matches the checks of the same fact in two postures, those that ask for the
// same first.
func matchChecks(was, is []directory.Check) []checkPair {
	var pairs []checkPair
	free := slices.Clone(is)
	match := func(c *directory.Check, like func(a, b *directory.Check) bool) bool {
		i := slices.IndexFunc(free, func(x directory.Check) bool { return x.Fact == c.Fact && like(c, &x) })
		if i < 0 {
			return false
		}
		now := free[i]
		pairs, free = append(pairs, checkPair{c, &now}), slices.Delete(free, i, i+1)
		return true
	}
	var rest []*directory.Check
	for i := range was {
		if !match(&was[i], func(a, b *directory.Check) bool { return relateChecks(a, b) == same }) {
			rest = append(rest, &was[i])
		}
	}
	for _, c := range rest {
		if !match(c, func(a, b *directory.Check) bool { return relateChecks(a, b) != both }) &&
			!match(c, func(a, b *directory.Check) bool { return true }) {
			pairs = append(pairs, checkPair{c, nil})
		}
	}
	for i := range free {
		pairs = append(pairs, checkPair{nil, &free[i]})
	}
	return pairs
}

func (p checkPair) relation() direction {
	switch {
	case p.was == nil:
		return narrows
	case p.is == nil:
		return widens
	}
	return relateChecks(p.was, p.is)
}

// relateChecks compares two checks of one fact by the values that pass.
func relateChecks(a, b *directory.Check) direction {
	var d direction
	if !engine.CheckImplies(a, b) {
		d |= narrows
	}
	if !engine.CheckImplies(b, a) {
		d |= widens
	}
	return d
}
