// Package start lays out a new book: a small and careful beginning with
// comments, which passes inspect and locks nobody out.
package start

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"text/template"
	"time"

	"golang.org/x/tools/txtar"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/people"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

//go:embed layout/*.yaml
var layouts embed.FS

var templates = template.Must(template.New("").Funcs(template.FuncMap{"yaml": quoted}).ParseFS(layouts, "layout/*.yaml"))

// Request says what a new book begins with.
type Request struct {
	// Zone is an IANA time zone; "" is UTC.
	Zone string
	// People is a file with accounts and groups (SCIM 2.0 or CSV), which the book
	// imports under the name PeopleFile; nil where there is none.
	People     []byte
	PeopleFile string
	// Administrator is an account that looks after the systems and is the first of
	// the pilot group; "" is the first person in the file.
	Administrator string
	// Today is the day from which the dates in the book count.
	Today time.Time
	// ShareKey is a text that outsiders cannot guess, which the book then keeps as
	// its share_key; "" writes none.
	ShareKey string
}

// Report is what became of laying out a new book.
type Report struct {
	Folder string   `json:"folder" doc:"the folder of the book"`
	Files  []string `json:"files" doc:"the files that were written"`
	*Layout
	Inspection *inspect.Report `json:"inspection" doc:"what inspect says of the new book"`
}

// Amiss reports whether something in the new book wants looking at, beyond what it lays out
// to be replaced.
func (r *Report) Amiss() bool {
	return slices.ContainsFunc(r.Inspection.Findings, func(f inspect.Finding) bool {
		return f.Severity >= inspect.Warning && f.Check != inspect.PlaceholderCheck
	})
}

// Layout is a new book.
type Layout struct {
	// Files are to be laid into a folder of their own.
	Files fs.FS `json:"-"`
	// Administrator is who looks after the systems, as the book has it.
	Administrator string `json:"administrator" doc:"the account that looks after the systems and is the first of the pilot group"`
	// Accounts and Groups count what was read from the file of people.
	Accounts int              `json:"accounts" doc:"how many accounts were read"`
	Groups   int              `json:"groups" doc:"how many groups they are in"`
	Skipped  []people.Skipped `json:"skipped" doc:"what was left out, with its line"`
	// Taken says what in a table was taken for what.
	Taken []string `json:"taken,omitempty" doc:"what in a table was taken for what, in sentences"`
}

// placeholder is the administrator of a book that begins without people.
const placeholder = "you@example.org"

// values are what the layouts ask for.
type values struct {
	Zone, Administrator, File, ShareKey string
	// Imported says that there are people to import, Pilot that the name of the
	// pilot group is free.
	Imported, Pilot bool
	// HasEmergency says that an account for emergencies is among the people, Machines that
	// a service account is, and MachineMethods lists what those prove themselves with.
	HasEmergency                   bool
	Machines                       bool
	MachineMethods                 string
	Today, Asked, Enforced, Review string
}

// New makes a new book. The error says what is wrong with the request.
func New(q Request) (*Layout, error) {
	if q.Zone == "" {
		q.Zone = "UTC"
	}
	if _, err := time.LoadLocation(q.Zone); err != nil || q.Zone == "Local" {
		return nil, fmt.Errorf("%q is no IANA time zone such as Europe/Oslo", q.Zone)
	}
	switch strings.ToLower(path.Ext(q.PeopleFile)) {
	case ".yaml", ".yml":
		return nil, fmt.Errorf("the file would be read as a part of the book; give it a name that does not end in .yaml or .yml")
	}
	l := &Layout{Administrator: q.Administrator, Skipped: []people.Skipped{}}
	day := func(days int) string { return directory.DateOf(q.Today.AddDate(0, 0, days)).String() }
	v := values{Zone: q.Zone, ShareKey: q.ShareKey, File: q.PeopleFile, Imported: q.People != nil,
		Today: day(0), Asked: day(28), Enforced: day(60), Review: day(180)}
	archive := new(txtar.Archive)
	machines := []string{}
	if q.People != nil {
		read, err := people.Read(q.People)
		if err != nil {
			return nil, err
		}
		if err := l.choose(read); err != nil {
			return nil, err
		}
		l.Accounts, l.Groups, l.Skipped, l.Taken = len(read.Accounts), len(read.Groups), append(l.Skipped, read.Skipped...), read.Taken
		archive.Files = append(archive.Files, txtar.File{Name: q.PeopleFile, Data: q.People})
		for _, a := range read.Accounts {
			v.HasEmergency = v.HasEmergency || a.Kind == directory.Emergency && !a.Disabled
			if a.Kind == directory.Service {
				v.Machines = true
				machines = append(machines, a.Methods...)
			}
		}
		v.Pilot = !slices.ContainsFunc(read.Groups, func(g directory.Group) bool { return g.Name == "pilot" })
	} else {
		if l.Administrator == "" {
			l.Administrator = placeholder
		}
		v.Pilot = true
	}
	v.Administrator = l.Administrator
	if len(machines) == 0 {
		machines = []string{"certificate", "password"}
	}
	slices.Sort(machines)
	for i, m := range machines {
		machines[i] = quoted(m)
	}
	v.MachineMethods = strings.Join(slices.Compact(machines), ", ")
	for _, t := range templates.Templates() {
		if !strings.HasSuffix(t.Name(), ".yaml") {
			continue
		}
		var text bytes.Buffer
		if err := t.Execute(&text, v); err != nil {
			return nil, err
		}
		archive.Files = append(archive.Files, txtar.File{Name: t.Name(), Data: text.Bytes()})
	}
	slices.SortFunc(archive.Files, func(a, b txtar.File) int { return strings.Compare(a.Name, b.Name) })
	var err error
	l.Files, err = txtar.FS(archive)
	return l, err
}

// choose settles who is the administrator.
func (l *Layout) choose(read *people.Import) error {
	var names []string
	for _, a := range read.Accounts {
		if a.Kind != directory.Service && a.Kind != directory.Emergency && !a.Disabled {
			names = append(names, a.Name)
		}
	}
	switch {
	case len(names) == 0:
		return fmt.Errorf("the file has no account of a person that is not disabled, and so nobody to look after the systems")
	case l.Administrator == "":
		l.Administrator = names[0]
	case !slices.Contains(names, l.Administrator):
		return fmt.Errorf("the file has no person %q%s", l.Administrator, nearest.DidYouMean(l.Administrator, names))
	}
	return nil
}

// quoted writes a text as YAML that means just this text.
func quoted(text string) string {
	if strings.ContainsAny(text, "\"\\:#{}[],&*!|>'%@`") && !plainAddress(text) {
		return fmt.Sprintf("%q", text)
	}
	return text
}

// plainAddress reports whether a text is a mail address that needs no quotes.
func plainAddress(text string) bool {
	local, domain, found := strings.Cut(text, "@")
	return found && local != "" && domain != "" && !strings.ContainsFunc(text, func(r rune) bool {
		return r != '@' && r != '.' && r != '-' && r != '_' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	})
}
