// Package render writes what the commands found for a person at a terminal.
package render

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/terminal"
)

// plainWidth is how wide a page is that goes to no terminal.
const plainWidth = 100

// Page lays out lines for a terminal, or for a file. Colour comes only on a
// terminal, not where NO_COLOR is set, and never carries a meaning alone.
type Page struct {
	w     io.Writer
	width int
	// folder is the book's, for the commands that are suggested.
	folder string
	// record are the flags that name where acts on consent are kept, for the commands of consent that are suggested.
	record []string

	bold, dim, heading   lipgloss.Style
	good, careful, grave lipgloss.Style
	err                  error
}

// NewPage makes a page on w about the book in a folder.
func NewPage(w io.Writer, folder string) *Page {
	r := lipgloss.NewRenderer(w)
	colour := func(c string) lipgloss.Style { return r.NewStyle().Bold(true).Foreground(lipgloss.Color(c)) }
	p := &Page{
		w: terminal.Gate(w), width: plainWidth, folder: folder,
		bold: r.NewStyle().Bold(true), dim: r.NewStyle().Faint(true), heading: r.NewStyle().Bold(true).Underline(true),
		good: colour("10"), careful: colour("11"), grave: colour("9"),
	}
	if f, ok := w.(*os.File); ok {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
			p.width = max(60, min(width, 140))
		}
	}
	return p
}

// SetRecord says by which flags commands of consent find the acts that the page is about; none are those of the book's folder.
func (p *Page) SetRecord(flags []string) { p.record = flags }

// consent returns a command of consent, as terminal.Command does, on the book and the acts of the page.
func (p *Page) consent(format string, args ...any) []string {
	words := terminal.Command("briskwarden consent "+format, args...)
	return slices.Insert(words, 3, append(terminal.Command("--book %s", p.folder), p.record...)...)
}

// Err returns the first error of writing.
func (p *Page) Err() error { return p.err }

func (p *Page) line(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintln(p.w, strings.TrimRight(fmt.Sprintf(format, args...), " "))
	}
}

// headings writes the heads of columns side by side.
func (p *Page) headings(heads ...string) {
	for i, head := range heads {
		heads[i] = p.heading.Render(head)
	}
	p.line("%s", strings.Join(heads, "  "))
}

// verdict returns the verdict in capitals.
func (p *Page) verdict(v decide.Verdict) string {
	return p.ofVerdict(v).Render(strings.ToUpper(rehearse.Words(v)))
}

// ofVerdict returns the style for what comes of an attempt.
func (p *Page) ofVerdict(v decide.Verdict) lipgloss.Style {
	switch v {
	case decide.Grant:
		return p.good
	case decide.StepUp:
		return p.careful
	default:
		return p.grave
	}
}

// hang writes a text behind a lead, wrapped so that the text keeps its column.
func (p *Page) hang(lead string, column int, text string) {
	for i, l := range terminal.Wrap(text, max(20, p.width-column-1)) {
		if i > 0 {
			lead = ""
		}
		p.line("%s%s%s", lead, strings.Repeat(" ", max(0, column-ansi.StringWidth(lead))), l)
	}
}

// labelled writes texts behind a label, one below the other.
func (p *Page) labelled(label string, texts ...string) {
	for i, text := range texts {
		if i > 0 {
			label = ""
		}
		p.hang(p.bold.Render(label), labelColumn, text)
	}
}

// labelColumn is where the text behind a label begins.
const labelColumn = 10

// pad fills a cell up to a width.
func pad(text string, width int) string {
	return text + strings.Repeat(" ", max(0, width-ansi.StringWidth(text)))
}

// commands writes commands behind a label, ready for copying, on the page's book
// where they name none. Where one is too long for a line it goes on behind a
// backslash.
func (p *Page) commands(label string, commands ...[]string) {
	lead := pad(p.bold.Render(label), labelColumn)
	for _, words := range commands {
		names := slices.Contains(words, "--book") || slices.Contains(words, "--out")
		if i := slices.IndexFunc(words, isOption); i >= 0 && p.folder != "." && !names {
			words = slices.Insert(slices.Clone(words), i, "--book", terminal.Quote(p.folder))
		}
		line := lead
		for i := 0; i < len(words); {
			last := i + 1
			for last < len(words) && !isOption(words[last]) {
				last++
			}
			option, behind := strings.Join(words[i:last], " "), len(" \\") // with its value
			if last < len(words) {
				behind++ // the backslash stands behind a space
			}
			if ansi.StringWidth(line)+len(option)+behind > p.width {
				p.line("%s \\", line)
				line = strings.Repeat(" ", labelColumn+4)
			} else if i > 0 {
				line += " "
			}
			line += option
			i = last
		}
		p.line("%s", line)
		lead = strings.Repeat(" ", labelColumn)
	}
}

func isOption(word string) bool { return strings.HasPrefix(word, "--") }
