package render

import (
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/rehearse"
)

// mostMerged is how many values a merged row or column names.
const mostMerged = 4

// grid writes an attempt under varied circumstances: the last one across, the
// others down. Values of which the same becomes are written together.
func (p *Page) grid(g *rehearse.Grid) {
	last := g.Axes[len(g.Axes)-1]
	down := g.Axes[:len(g.Axes)-1]
	rows := len(g.Verdicts) / len(last.Values)
	verdict := func(row, column int) decide.Verdict { return g.Verdicts[row*len(last.Values)+column] }

	// Merge the values across: those whose columns are alike.
	across := merge(len(last.Values), last.Name == "hour" || last.Name == "day", func(a, b int) bool {
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
		groups := merge(inner, len(down) > 0 && (down[len(down)-1].Name == "hour" || down[len(down)-1].Name == "day"), func(a, b int) bool {
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

// merge groups the numbers from 0 to n-1 of which the same becomes: neighbours
// only where they are in order.
func merge(n int, ordered bool, same func(a, b int) bool) [][]int {
	var groups [][]int
	for i := range n {
		at := slices.IndexFunc(groups, func(g []int) bool { return same(g[0], i) && (!ordered || g[len(g)-1] == i-1) })
		if at < 0 {
			groups = append(groups, []int{i})
		} else {
			groups[at] = append(groups[at], i)
		}
	}
	return groups
}

// labels names the values of a group: hours and days as a stretch, others one by
// one, up to so many.
func labels(axis rehearse.Axis, group []int) []string {
	first, last := axis.Values[group[0]], axis.Values[group[len(group)-1]]
	if axis.Name == "hour" {
		return []string{first + ":00-" + last + ":59"}
	}
	if axis.Name == "day" && len(group) > 1 {
		return []string{first + "-" + last}
	}
	var words []string
	for i, n := range group {
		if i == mostMerged && len(group) > mostMerged+1 {
			return append(words, count(len(group)-i, "more value"))
		}
		words = append(words, axis.Values[n])
	}
	return words
}

// headLines puts the values of a merged column one below the other.
func headLines(values []string) []string {
	for i := range values[:len(values)-1] {
		values[i] += ","
	}
	return values
}
