package synth

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/tools/txtar"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// Open reads and compiles a small book with so many policies.
func Open(chance Chance, policies int) (*book.Book, *engine.Judge) {
	return Small(chance, policies).Open(chance)
}

// Open reads and compiles a book. What is made up is always in order, so it panics
// where it is not.
func (b Book) Open(chance Chance) (*book.Book, *engine.Judge) {
	opened, judge, err := b.Try(chance)
	if err != nil {
		panic(fmt.Sprintf("%v in %v", err, b.Files(chance, 1)))
	}
	return opened, judge
}

// Try reads and compiles a book that may not be in order.
func (b Book) Try(chance Chance) (*book.Book, *engine.Judge, error) {
	archive := new(txtar.Archive)
	for name, text := range b.Files(chance, 1) {
		archive.Files = append(archive.Files, txtar.File{Name: name, Data: []byte(text)})
	}
	files, err := txtar.FS(archive)
	if err != nil {
		panic(err)
	}
	opened, err := book.OpenFS(files)
	if err != nil {
		return nil, nil, err
	}
	judge, err := opened.Compile()
	return opened, judge, err
}

// Redrawn returns the book with so many of its definitions as they stand in another
// book that was drawn in the same way.
func (b Book) Redrawn(chance Chance, other Book, n int) Book {
	defs := slices.Clone(b.Definitions)
	for range n {
		i := chance.IntN(len(defs))
		for _, d := range other.Definitions {
			if d.key() == defs[i].key() {
				defs[i] = d
			}
		}
	}
	return Book{defs}
}

// key names what is defined: the section, and the text up to the first comma or
// colon behind the name.
func (d Definition) key() string {
	text := strings.TrimPrefix(d.Text, "{name: ")
	if i := strings.IndexAny(text, ",:}"); i >= 0 {
		text = text[:i]
	}
	return d.Section + " " + text
}
