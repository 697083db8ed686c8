package book

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/people"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Import names a file that accounts and groups are read from, so that they need
// not be typed: SCIM 2.0 resources, or CSV with a header.
type Import struct {
	At      condition.Position `book:"-"`
	Name    string             `book:"name,required" doc:"name of the import"`
	File    string             `book:"file,required" doc:"a file in the book's folder: a SCIM 2.0 ListResponse, or CSV with a header"`
	Taken   *directory.Date    `book:"taken" doc:"day on which the file was made" default:"when the file was last changed"`
	Fresh   directory.Span     `book:"fresh" doc:"how old it may grow before inspect says so, such as 30d" default:"90d"`
	Methods []string           `book:"methods" ref:"method" doc:"what its accounts have enrolled where the file does not say"`
}

// Imported is an import with what came of it.
type Imported struct {
	Import
	// TakenAt is when the file was made, as far as is known; zero where it is not.
	TakenAt time.Time
	// Accounts and Groups count what was taken over.
	Accounts, Groups int
	// Skipped is what was left out.
	Skipped []people.Skipped
}

// readImports adds what the imports say, and returns the hashes of their files.
func (r *reader) readImports(files fs.FS, dir string) (sums []string) {
	for _, imp := range r.sections.Imports {
		if r.broken[definition{"import", imp.Name}] {
			continue
		}
		if !fs.ValidPath(imp.File) {
			r.add(imp.At, "import %s: file names a file in the book's folder, such as people.csv, not %q", imp.Name, imp.File)
			continue
		}
		text, err := readFile(files, imp.File)
		if err != nil {
			r.add(imp.At, "import %s: %s: %v", imp.Name, imp.File, err)
			continue
		}
		read, err := people.Read(text)
		if err != nil {
			r.add(condition.Position{File: labelOf(dir, imp.File), Line: 1, Column: 1}, "import %s: %v", imp.Name, err)
			continue
		}
		done := Imported{Import: imp, Accounts: len(read.Accounts), Groups: len(read.Groups), Skipped: read.Skipped}
		if imp.Taken != nil {
			done.TakenAt = imp.Taken.Start(r.sections.Settings.Zone)
		} else if info, err := fs.Stat(files, imp.File); err == nil {
			done.TakenAt = info.ModTime()
		}
		r.takeOver(&done, read, labelOf(dir, imp.File))
		r.imported = append(r.imported, done)
		sums = append(sums, sumOf("import "+imp.Name, text))
	}
	return sums
}

// takeOver adds the accounts and groups of a file to those of the book. A group
// that both name is one group.
func (r *reader) takeOver(done *Imported, read *people.Import, label string) {
	known := map[string]bool{}
	var names []string
	for _, m := range directory.Catalogue(r.sections.Methods) {
		known[m.Name] = m.Name != directory.DeskPass
		names = append(names, m.Name)
	}
	listed := make(map[string]int, len(r.sections.Accounts))
	for i := range r.sections.Accounts {
		listed[r.sections.Accounts[i].Name] = i
	}
	r.sections.Accounts = slices.Grow(r.sections.Accounts, len(read.Accounts))
	for _, a := range read.Accounts {
		if !a.Proves {
			a.Methods = done.Methods
		}
		unknown := func(m string) bool { return !known[m] }
		if slices.ContainsFunc(a.Methods, unknown) {
			for _, m := range a.Methods {
				if unknown(m) {
					done.Skipped = append(done.Skipped, people.Skipped{Line: a.Line,
						Text: fmt.Sprintf("the account %s: method %q is not defined%s", a.Name, m, nearest.DidYouMean(m, names))})
				}
			}
			a.Methods = slices.DeleteFunc(slices.Clone(a.Methods), unknown)
		}
		if i, there := listed[a.Name]; there && !r.completed[a.Name] {
			// The book completes the account of the file, and wins key by key.
			r.sections.Accounts[i].CompleteFrom(&a.Account)
			r.completed[a.Name] = true
			continue
		}
		r.define("account", a.Name, condition.Position{File: label, Line: a.Line, Column: 1})
		r.sections.Accounts = append(r.sections.Accounts, a.Account)
	}
	slices.SortStableFunc(done.Skipped, func(a, b people.Skipped) int { return a.Line - b.Line })
	places := map[string]int{}
	for i := range r.sections.Groups {
		places[r.sections.Groups[i].Name] = i
	}
	for _, g := range read.Groups {
		if i, there := places[g.Name]; there {
			r.sections.Groups[i].Includes = append(slices.Clone(r.sections.Groups[i].Includes), g.Includes...)
			continue
		}
		if err := directory.CheckName(g.Name); err != nil {
			r.add(condition.Position{File: label, Line: 1, Column: 1}, "group %q: %v", g.Name, strings.TrimSpace(err.Error()))
		}
		r.define("group", g.Name, condition.Position{File: label, Line: 1, Column: 1})
		r.sections.Groups = append(r.sections.Groups, g)
	}
}
