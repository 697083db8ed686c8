package describe

import (
	"fmt"
	"strings"
)

// escapes are what Markdown (CommonMark 0.31 §2.4) would take for its own.
var escapes = strings.NewReplacer(`\`, `\\`, "*", `\*`, "_", `\_`, "`", "\\`", "<", `\<`, "[", `\[`, "]", `\]`, "#", `\#`, "|", `\|`)

// Markdown returns the document in CommonMark.
func (doc *Document) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", escapes.Replace(doc.Title))
	for _, line := range doc.Summary {
		fmt.Fprintf(&b, "\n%s\n", escapes.Replace(line))
	}
	for _, s := range doc.Sections {
		fmt.Fprintf(&b, "\n## %s\n", escapes.Replace(s.Heading))
		for _, line := range s.Lines {
			fmt.Fprintf(&b, "\n%s\n", escapes.Replace(line))
		}
		for _, entry := range s.Entries {
			if entry.Lead != "" {
				fmt.Fprintf(&b, "\n**%s**\n", escapes.Replace(entry.Lead))
			}
			if len(entry.Rules) > 0 {
				b.WriteString("\n")
			}
			for i, rule := range entry.Rules {
				fmt.Fprintf(&b, "%d. %s\n", i+1, escapes.Replace(rule))
			}
		}
	}
	return b.String()
}
