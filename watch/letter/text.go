package letter

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/briskwarden/briskwarden/internal/terminal"
)

// lineWidth is how many characters a line of text has (RFC 5322 §2.1.1 asks for 78 at most).
const lineWidth = 76

// text writes the body as plain text. Commands and links stand on lines of their own, unbroken.
func (b *body) text(w io.Writer) {
	paragraph := func(text string) {
		for _, line := range terminal.Wrap(text, lineWidth) {
			fmt.Fprintln(w, line)
		}
		fmt.Fprintln(w)
	}
	paragraph(b.Title)
	for _, lead := range b.Lead {
		paragraph(lead)
	}
	for i := range b.Blocks {
		k := &b.Blocks[i]
		if k.Title != "" {
			fmt.Fprintln(w, k.Title)
			fmt.Fprintf(w, "%s\n\n", strings.Repeat("-", min(lineWidth, len([]rune(k.Title)))))
		}
		for _, text := range k.Text {
			paragraph(text)
		}
		if len(k.Rows) > 0 {
			table := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
			for _, row := range append([][]string{k.Head}, k.Rows...) {
				fmt.Fprintln(table, strings.Join(row, "\t"))
			}
			table.Flush() // the writer is memory
			fmt.Fprintln(w)
		}
		for _, l := range k.Look {
			fmt.Fprintf(w, "%s:\n  %s\n\n", l.Name, l.Link+l.Command)
		}
	}
	fmt.Fprintln(w, "--")
	paragraph(b.Foot)
}
