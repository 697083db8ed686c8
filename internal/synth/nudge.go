package synth

import (
	"regexp"
	"slices"
	"strings"
)

// vocabularies are the words that a small change puts in each other's place.
var vocabularies = [][]string{
	accounts, groups, apps, networks, regions, windows, methods, countries, postures, assurances, signals, platforms, deviceTags, tagNames,
	days, {"grant", "block"}, {"live", "shadow", "draft"}, {"true", "false"}, {"30d", "28d", "7d", "90d"}, {"12h", "24h", "30m"},
	{"2026-03-01", "2024-01-01", "2026-04-20"}, {"sign-in", "enrol", "change-password", "recover"}, {"person", "service", "emergency"},
	{
		"p0.one.example",
		"p1.one.example",
		"p2.one.example",
		"p9.one.example",
	}, {"alias-of-p0", "alias-of-p1", "alias-of-p2", "alias-of-none"},
	{"low", "medium", "high"}, {"red", "blue", "green"}, {"4h", "6h", "10h"},
}

// word is what a vocabulary may have, alone or as an item of a list.
var word = regexp.MustCompile(`"?[a-zA-Z0-9@.-]+"?`)

// Nudged returns the book with one small change of one definition: a word put in the place
// of another, or an item of a list taken out or put in. The changed book may not be in
// order; false is returned where no change was found.
func (b Book) Nudged(chance Chance) (Book, bool) {
	m := maker{chance}
	for range 20 {
		defs := slices.Clone(b.Definitions)
		d := &defs[m.IntN(len(defs))]
		places := word.FindAllStringIndex(d.Text, -1)
		place := places[m.IntN(len(places))]
		before, old, after := d.Text[:place[0]], strings.Trim(d.Text[place[0]:place[1]], `"`), d.Text[place[1]:]
		if before == "" || strings.HasSuffix(before, "{name: ") {
			continue // it names the definition
		}
		i := slices.IndexFunc(vocabularies, func(words []string) bool { return slices.Contains(words, old) })
		if i < 0 {
			continue
		}
		fresh := m.one(vocabularies[i])
		inList := strings.HasSuffix(before, "[") ||
			strings.HasSuffix(before, ", ") && strings.LastIndex(before, "[") > strings.LastIndex(before, ":")
		switch {
		case inList && m.odds(3) && strings.HasPrefix(after, ", "):
			d.Text = before + after[len(", "):]
		case inList && m.odds(2):
			d.Text = before + `"` + fresh + `", "` + old + `"` + after
		case fresh != old:
			d.Text = before + `"` + fresh + `"` + after
			if !strings.Contains(fresh, "@") {
				d.Text = before + fresh + after
			}
		default:
			continue
		}
		return Book{defs}, true
	}
	return b, false
}

// Called returns the book with one definition called otherwise, wherever it is named.
func (b Book) Called(chance Chance) Book {
	m := maker{chance}
	old := m.one(slices.Concat(groups, networks, regions, windows, postures, assurances, []string{"q0", "q1", "q2", "x0", "l0"}))
	name := regexp.MustCompile(`\b` + old + `\b`)
	fresh := Book{slices.Clone(b.Definitions)}
	for i := range fresh.Definitions {
		d := &fresh.Definitions[i]
		d.Text = name.ReplaceAllString(d.Text, old+"-renamed")
	}
	return fresh
}
