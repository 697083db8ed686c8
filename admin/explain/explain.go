// Package explain explains the language of books word by word: what each word means, what may
// stand there, what holds where it is left out, and an example. It goes by the definitions
// that the reader and the schema go by.
package explain

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Report is what is said of one word.
type Report struct {
	// Asked is the word that was asked for, "" for all sections.
	Asked string `json:"asked,omitzero" doc:"the word that was asked for; absent for the sections"`
	// Words are those of the name: several where it stands in several places.
	Words []book.Word `json:"words" doc:"the words of that name, one for each place where it stands"`
	// Inside are the words that stand in it, directly and deeper.
	Inside []book.Word `json:"inside" doc:"the words that stand in it, directly and deeper"`
}

// gathered are the words that stand in many places, by the name to ask for them.
var gathered = map[string]string{
	"conditions": "tests of who, what, where, when and how; all keys that stand together must hold",
	"outcomes":   "what a rule, or the settings' otherwise, comes to",
}

// Names returns the words that can be asked for.
func Names() []string {
	var names []string
	for _, w := range book.Language() {
		names = append(names, w.Name)
	}
	names = append(names, slices.Sorted(maps.Keys(gathered))...)
	slices.Sort(names)
	return slices.Compact(names)
}

// Of explains a word: a section, a key such as fallback, a key of conditions such as during, or
// conditions or outcomes for all that stand in them. "" lists the sections. The error suggests
// the nearest word.
func Of(word string) (*Report, error) {
	r := &Report{Asked: word, Words: []book.Word{}, Inside: []book.Word{}}
	all := book.Language()
	if word == "" {
		r.Words = sections(all)
		return r, nil
	}
	if means, is := gathered[word]; is {
		r.Words = append(r.Words, book.Word{Name: word, Means: means, Values: "the words below"})
	}
	for _, w := range all {
		if w.Name == word {
			r.Words = append(r.Words, w)
		}
	}
	for _, w := range all {
		if slices.Contains(strings.Split(w.In, " / "), word) {
			r.Inside = append(r.Inside, w)
		}
	}
	if len(r.Words) == 0 {
		return nil, fmt.Errorf("no word of a book is %q%s", word, nearest.DidYouMean(word, Names()))
	}
	return r, nil
}

func sections(all []book.Word) []book.Word {
	found := slices.DeleteFunc(slices.Clone(all), func(w book.Word) bool { return w.In != "" })
	for _, name := range slices.Sorted(maps.Keys(gathered)) {
		found = append(found, book.Word{Name: name, Means: gathered[name], Values: "in many places"})
	}
	return found
}

// Left says what holds where a word is left out, or that it may not be.
func Left(w book.Word) string {
	if w.Required {
		return "it may not be"
	}
	return w.Default
}

// Reference returns the whole language as Markdown: a page for those who write books.
func Reference() string {
	var b strings.Builder
	b.WriteString("# The language of books, word by word\n\nMade by `briskwarden explain --format markdown`; the same is said at a " +
		"terminal by `briskwarden explain WORD`.\nEach example is a piece of [book/examples](../book/examples/book.yaml), which loads.\n\n" +
		"A book is a folder of YAML files. Each begins with `briskwarden: 1`, and has any of these sections:\n\n" +
		"| section | what it holds |\n|---|---|\n")
	all := book.Language()
	for _, w := range sections(all) {
		fmt.Fprintf(&b, "| [`%s`](#%s) | %s |\n", w.Name, w.Name, words.Markdown(w.Means))
	}
	for _, section := range sections(all) {
		fmt.Fprintf(&b, "\n## %s\n\n%s.\n", section.Name, capital(words.Markdown(section.Means)))
		if section.Example != "" {
			fmt.Fprintf(&b, "Values: %s.\n\n```yaml\n%s```\n", words.Markdown(section.Values), section.Example)
		}
		place := section.Name
		for _, w := range all {
			if w.In != section.Name && !strings.HasPrefix(w.In, section.Name+" / ") {
				continue
			}
			if w.In != place {
				place = w.In
				fmt.Fprintf(&b, "\n### %s\n", place)
			}
			fmt.Fprintf(
				&b,
				"\n**`%s`**: %s. Values: %s. Left out: %s.\n\n```yaml\n%s```\n",
				w.Name,
				words.Markdown(w.Means),
				words.Markdown(w.Values),
				words.Markdown(Left(w)),
				w.Example,
			)
		}
	}
	return b.String()
}

func capital(text string) string { return strings.ToUpper(text[:1]) + text[1:] }
