package describe

import (
	"fmt"
	"strings"

	"github.com/briskwarden/briskwarden/internal/words"
)

// Markdown returns the document in CommonMark.
func (doc *Document) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", words.Markdown(doc.Title))
	for _, line := range doc.Summary {
		fmt.Fprintf(&b, "\n%s\n", words.Markdown(line))
	}
	for _, s := range doc.Sections {
		fmt.Fprintf(&b, "\n## %s\n", words.Markdown(s.Heading))
		for _, line := range s.Lines {
			fmt.Fprintf(&b, "\n%s\n", words.Markdown(line))
		}
		for _, entry := range s.Entries {
			if entry.Lead != "" {
				fmt.Fprintf(&b, "\n**%s**\n", words.Markdown(entry.Lead))
			}
			if len(entry.Rules) > 0 {
				b.WriteString("\n")
			}
			for i, rule := range entry.Rules {
				fmt.Fprintf(&b, "%d. %s\n", i+1, words.Markdown(rule))
			}
		}
	}
	return b.String()
}
