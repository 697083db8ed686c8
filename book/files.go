package book

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// mostFiles is how many files and folders a book may lie among. A folder with more is
// none that was laid out for a book.
const mostFiles = 10_000

// NotRead is a file or folder in a book's folder that was not read, and why.
type NotRead struct {
	Name string `json:"name" doc:"the file or folder, as a path from the book's folder"`
	Why  string `json:"why" doc:"why it was not read"`
}

// isYAML reports whether a file is one of a book, by its name.
func isYAML(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".yaml", ".yml":
		return true
	}
	return false
}

// findFiles lists the YAML files of a folder and of those below it, and what else there
// is.
func findFiles(files fs.FS) (names []string, others []NotRead, err error) {
	seen := 0
	err = fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
		if seen++; seen > mostFiles {
			return fmt.Errorf("it holds more than %d files and folders; a book is in a folder of its own", mostFiles)
		}
		switch {
		case err != nil:
			return fmt.Errorf("%s: %w", name, err)
		case name == ".":
		case strings.HasPrefix(path.Base(name), "."):
			others = append(others, NotRead{name, "it is hidden"})
			if entry.IsDir() {
				return fs.SkipDir
			}
		case entry.IsDir():
		case isYAML(name):
			names = append(names, name)
		case entry.Type()&fs.ModeSymlink != 0:
			others = append(others, NotRead{name, "it is a link, and no link is followed"})
		default:
			others = append(others, NotRead{name, "its name does not end in .yaml or .yml"})
		}
		return nil
	})
	slices.Sort(names)
	return names, others, err
}

// noteRead takes out of what was not read the files that the sections name.
func (b *Book) noteRead() {
	read := []string{b.Settings.IPDatabase}
	for _, i := range b.Imported {
		read = append(read, i.File)
	}
	b.NotRead = slices.DeleteFunc(b.NotRead, func(n NotRead) bool { return slices.Contains(read, n.Name) })
}
