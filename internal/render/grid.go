package render

import (
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/words"
)

// mostMerged is how many values a merged row or column names.
const mostMerged = 4

// grid writes an attempt under varied circumstances: the last one across, the
// others down. Values with the same verdict are written together.
func (p *Page) grid(g *rehearse.Grid) {
	last := g.Axes[len(g.Axes)-1]
	down := g.Axes[:len(g.Axes)-1]
	rows := len(g.Verdicts) / len(last.Values)
	verdict := func(row, column int) decide.Verdict { return g.Verdicts[row*len(last.Values)+column] }

	// Merge the values across: those whose columns are alike.
	across := merge(len(last.Values), func(a, b int) bool {
		for row := range rows {
			if verdict(row, a) != verdict(row, b) {
				return false
			}
		}
		return true
	})
	// Merge the values of the last circumstance down, within each value of those
	// before it.
	inner := 1
	if len(down) > 0 {
		inner = len(down[len(down)-1].Values)
	}
	var leads []column
	for _, axis := range down {
		leads = append(leads, column{head: []string{axis.Name}})
	}
	var columns []column
	for _, group := range across {
		columns = append(columns, column{head: headLines(labels(last, group))})
	}
	for outer := range rows / inner {
		groups := merge(inner, func(a, b int) bool {
			for c := range last.Values {
				if verdict(outer*inner+a, c) != verdict(outer*inner+b, c) {
					return false
				}
			}
			return true
		})
		for k, group := range groups {
			rest := outer
			for i := len(down) - 2; i >= 0; i-- {
				value := down[i].Values[rest%len(down[i].Values)]
				rest /= len(down[i].Values)
				if k > 0 {
					value = ""
				}
				leads[i].cells = append(leads[i].cells, value)
			}
			if len(down) > 0 {
				leads[len(down)-1].cells = append(leads[len(down)-1].cells, strings.Join(labels(down[len(down)-1], group), ", "))
			}
			for i, c := range across {
				columns[i].cells = append(columns[i].cells, p.verdict(verdict(outer*inner+group[0], c[0])))
			}
		}
	}
	p.line("%s", p.bold.Render("By "+names(g.Axes)))
	if len(down) == 0 { // one circumstance alone reads better down than across
		lead := column{head: []string{last.Name}}
		only := column{head: []string{"verdict"}}
		for i, group := range across {
			lead.cells = append(lead.cells, strings.Join(labels(last, group), ", "))
			only.cells = append(only.cells, columns[i].cells[0])
		}
		p.tableOf([]column{lead, only})
		return
	}
	p.table(leads, columns)
}

func names(axes []rehearse.Axis) string {
	var words []string
	for _, a := range axes {
		words = append(words, a.Name)
	}
	return strings.Join(words, ", ")
}

// merge groups the numbers from 0 to n-1 with the same result.
func merge(n int, same func(a, b int) bool) [][]int {
	var groups [][]int
	for i := range n {
		at := slices.IndexFunc(groups, func(g []int) bool { return same(g[0], i) })
		if at < 0 {
			groups = append(groups, []int{i})
		} else {
			groups[at] = append(groups[at], i)
		}
	}
	return groups
}

// labels names the values of a group: hours and days as stretches, others one by
// one, up to so many.
func labels(axis rehearse.Axis, group []int) []string {
	switch {
	case len(group) == len(axis.Values) && len(group) > 1:
		return []string{"any"}
	case axis.Name == "hour":
		return stretches(axis, group, func(first, last string) string { return first + ":00-" + last + ":59" })
	case axis.Name == "day":
		return stretches(axis, group, func(first, last string) string {
			if first == last {
				return first
			}
			return first + "-" + last
		})
	}
	var values []string
	for i, n := range group {
		if i == mostMerged && len(group) > mostMerged+1 {
			return append(values, words.Count(len(group)-i, "more value"))
		}
		values = append(values, axis.Values[n])
	}
	return values
}

// stretches names runs of neighbouring values; the last value is the neighbour of
// the first.
func stretches(axis rehearse.Axis, group []int, words func(first, last string) string) []string {
	in := make([]bool, len(axis.Values))
	for _, n := range group {
		in[n] = true
	}
	var found []string
	for first := range in {
		if !in[first] || in[(first+len(in)-1)%len(in)] {
			continue
		}
		last := first
		for in[(last+1)%len(in)] {
			last++
		}
		found = append(found, words(axis.Values[first], axis.Values[last%len(in)]))
	}
	return found
}

// headLines puts the values of a merged column one below the other.
func headLines(values []string) []string {
	for i := range values[:len(values)-1] {
		values[i] += ","
	}
	return values
}
