package engine

import (
	"slices"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// SamePosture reports whether two postures check the same. What they are called, and what a person is told to do, is
// no part of it.
func SamePosture(a, b *directory.Posture) bool { return postureImplies(a, b) && postureImplies(b, a) }

// postureImplies reports whether each device that passes one posture passes another.
func postureImplies(x, y *directory.Posture) bool {
	if y.Fresh > 0 && (x.Fresh == 0 || x.Fresh > y.Fresh) {
		return false
	}
	for i := range y.Checks {
		if !slices.ContainsFunc(x.Checks, func(c directory.Check) bool { return c.Fact == y.Checks[i].Fact && CheckImplies(&c, &y.Checks[i]) }) {
			return false
		}
	}
	return true
}

// CheckImplies reports whether each value that passes one check of a fact passes another.
func CheckImplies(x, y *directory.Check) bool {
	listed := func(c *directory.Check) []attempt.Scalar {
		if c.Is != nil {
			return []attempt.Scalar{*c.Is}
		}
		return c.In
	}
	switch {
	case listed(x) != nil && listed(y) != nil:
		return !slices.ContainsFunc(listed(x), func(v attempt.Scalar) bool { return !slices.Contains(listed(y), v) })
	case x.AtMost != nil && y.AtMost != nil:
		return *x.AtMost <= *y.AtMost
	case x.AtLeast != nil && y.AtLeast != nil:
		return minimumImplies(x.AtLeast, y.AtLeast)
	}
	return false
}

// minimumImplies reports whether what reaches one minimum reaches another. A platform that one does not list fails.
func minimumImplies(x, y *directory.Minimum) bool {
	reaches := func(least, bar string) bool { return versionAtLeast(attempt.TextScalar(least), bar) }
	if x.ByPlatform == nil {
		return y.ByPlatform == nil && reaches(x.All, y.All)
	}
	for platform, least := range x.ByPlatform {
		bar, listed := y.ByPlatform[platform]
		if y.ByPlatform == nil {
			bar, listed = y.All, true
		}
		if !listed || !reaches(least, bar) {
			return false
		}
	}
	return true
}
