package compare

import (
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/facts"
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
	listed := func(c *directory.Check) []attempt.Scalar {
		if c.Is != nil {
			return []attempt.Scalar{*c.Is}
		}
		return c.In
	}
	switch {
	case listed(a) != nil && listed(b) != nil:
		return compareSets(listed(a), listed(b))
	case a.AtMost != nil && b.AtMost != nil:
		return compareOrdered(*a.AtMost, *b.AtMost)
	case a.AtLeast != nil && b.AtLeast != nil && (a.AtLeast.ByPlatform == nil) == (b.AtLeast.ByPlatform == nil):
		all := same
		if a.AtLeast.ByPlatform == nil {
			return relateVersions(a.AtLeast.All, b.AtLeast.All)
		}
		for platform, least := range a.AtLeast.ByPlatform {
			if now, listed := b.AtLeast.ByPlatform[platform]; listed {
				all |= relateVersions(least, now)
			} else {
				all |= narrows // a platform that is not listed fails
			}
		}
		for platform := range b.AtLeast.ByPlatform {
			if _, listed := a.AtLeast.ByPlatform[platform]; !listed {
				all |= widens
			}
		}
		return all
	}
	return both
}

// relateVersions is narrows where the later of two least versions asks for more.
func relateVersions(a, b string) direction {
	var d direction
	if !facts.VersionAtLeast(attempt.TextScalar(a), b) {
		d |= narrows
	}
	if !facts.VersionAtLeast(attempt.TextScalar(b), a) {
		d |= widens
	}
	return d
}
