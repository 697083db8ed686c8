package synth

import (
	"fmt"

	"golang.org/x/tools/txtar"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
)

// Open reads and compiles a small book with so many policies. What is made up is
// always in order, so it panics where it is not.
func Open(chance Chance, policies int) (*book.Book, *decide.Judge) {
	archive := new(txtar.Archive)
	texts := Small(chance, policies).Files(chance, 1)
	for name, text := range texts {
		archive.Files = append(archive.Files, txtar.File{Name: name, Data: []byte(text)})
	}
	files, err := txtar.FS(archive)
	if err != nil {
		panic(err)
	}
	b, err := book.OpenFS(files)
	if err != nil {
		panic(fmt.Sprintf("%v in %v", err, texts))
	}
	judge, err := b.Compile()
	if err != nil {
		panic(fmt.Sprintf("%v in %v", err, texts))
	}
	return b, judge
}
