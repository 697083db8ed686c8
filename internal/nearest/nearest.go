// Package nearest finds the known name that a misspelt one was probably meant
// to be.
package nearest

import (
	"fmt"
	"sort"
	"strings"
)

// Names returns up to most of the known names that are near enough to wrong to
// be worth suggesting, nearest first. A name is near where at most a third of
// its letters were mistyped, or where it continues what was typed.
func Names(wrong string, known []string, most int) []string {
	type candidate struct {
		name     string
		distance int
	}
	lower := strings.ToLower(wrong)
	typed := []rune(lower)
	limit := max(1, min(len(typed)/3, 3))
	var near []candidate
	for _, name := range known {
		other := strings.ToLower(name)
		d := distance(typed, []rune(other), limit)
		if d > limit && sameBeginning(lower, other) {
			d = limit
		}
		if d <= limit {
			near = append(near, candidate{name, d})
		}
	}
	sort.Slice(near, func(i, j int) bool {
		if near[i].distance != near[j].distance {
			return near[i].distance < near[j].distance
		}
		return near[i].name < near[j].name
	})
	var names []string
	for _, c := range near[:min(most, len(near))] {
		names = append(names, c.name)
	}
	return names
}

// sameBeginning reports whether two words share at least two thirds of the first,
// and no less than three letters.
func sameBeginning(a, b string) bool {
	shared := 0
	for shared < min(len(a), len(b)) && a[shared] == b[shared] {
		shared++
	}
	return shared >= 3 && shared*3 >= len(a)*2
}

// DidYouMean is the end of an error about wrong: "; did you mean "when"?", or
// "; it is one of a, b, c" where nothing is near and the list is short, or "".
func DidYouMean(wrong string, known []string) string {
	if near := Names(wrong, known, 1); len(near) > 0 {
		return fmt.Sprintf("; did you mean %q?", near[0])
	}
	if len(known) > 0 && len(known) <= 16 {
		return "; it is one of " + strings.Join(known, ", ")
	}
	return ""
}

// distance is the optimal string alignment distance of a and b (insertions,
// deletions, substitutions and swaps of neighbours); any value above limit
// means only "more than limit".
func distance(a, b []rune, limit int) int {
	if d := len(a) - len(b); d > limit || -d > limit {
		return limit + 1
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		least := i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
			least = min(least, row[j])
		}
		if least > limit {
			return limit + 1
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}

// End ends a sentence about a wrong name with what DidYouMean says of the names of things.
func End[T any](wrong string, things []T, nameOf func(T) string) string {
	known := make([]string, len(things))
	for i, thing := range things {
		known[i] = nameOf(thing)
	}
	end := DidYouMean(wrong, known)
	if strings.HasSuffix(end, "?") {
		return end
	}
	return end + "."
}
