// Package book reads a book: a folder of YAML files that says everything. All
// that is wrong is reported at once, each with its place.
//
//	b, err := book.Open("kestrel")
//	judge, err := b.Compile()
//	decision := judge.Decide(ctx, attempt)
package book

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/watch"
)

// MaxFileSize is how large one file of a book may be, in bytes.
const MaxFileSize = 32 << 20

// Book is what the files say.
type Book struct {
	Sections
	// Digest is "sha256:" and a hash of the files: of those in YAML by their contents,
	// whatever their names, and of imports by their names too.
	Digest string
	// DatabaseDigest is the hash of the file that knows addresses, "" without one.
	DatabaseDigest string
	// Files are the names of the YAML files that were read, sorted, and NotRead all that
	// stands beside them.
	Files   []string
	NotRead []NotRead
	// Imported are the files that accounts and groups were read from.
	Imported []Imported

	places  map[definition]condition.Position
	locator directory.Locator
	// isListed says that the accounts of an outside directory are among Accounts.
	isListed bool
}

// Sections are the parts of a book. Any may stand in any file.
type Sections struct {
	Settings   Settings            `book:"settings" doc:"what holds for the whole book"`
	Networks   []directory.Network `book:"networks" of:"network" doc:"named sets of address ranges"`
	Regions    []directory.Region  `book:"regions" of:"region" doc:"named sets of countries"`
	Windows    []directory.Window  `book:"windows" of:"window" doc:"named stretches of time"`
	Postures   []directory.Posture `book:"postures" of:"posture" doc:"named lists of checks that a device must pass"`
	Risk       risk.Scheme         `book:"risk" doc:"what is noticed about an attempt, and how much it weighs"`
	Methods    []directory.Method  `book:"methods" of:"method" doc:"methods beside the built-in ones, or what is other about those"`
	Assurances []decide.Assurance  `book:"assurances" of:"assurance" doc:"named bundles of demands"`
	Policies   []decide.Policy     `book:"policies" of:"policy" doc:"who may sign on to what under which circumstances"`
	Exemptions []decide.Exemption  `book:"exemptions" of:"exemption" doc:"accounts excused from assurances, everywhere at once"`
	Rollouts   []decide.Rollout    `book:"rollouts" of:"rollout" doc:"dated campaigns by which people enrol a method"`
	Accounts   []directory.Account `book:"accounts" of:"account" doc:"who signs on"`
	Groups     []directory.Group   `book:"groups" of:"group" doc:"named sets of accounts"`
	Apps       []directory.App     `book:"apps" of:"app" doc:"what people sign on to"`
	Devices    []directory.Device  `book:"devices" of:"device" doc:"devices that the organisation knows"`
	Imports    []Import            `book:"imports" of:"import" doc:"files of the folder that accounts and groups are read from"`
	Scopes     []consent.Tier      `book:"scopes" of:"tier" doc:"tiers of what outside programs ask for, from mild to grave"`
	Clients    []consent.Client    `book:"clients" of:"client" doc:"outside programs"`
	Consent    consent.Scheme      `book:"consent" doc:"which outside programs people may let in, and what a reviewer looks at"`
	Drills     []Drill             `book:"drills" of:"drill" doc:"attempts and requests with the decision expected of them"`
	Guarantees []Guarantee         `book:"guarantees" of:"guarantee" doc:"what must hold in all circumstances; prove reports whether it does"`
	Watch      watch.Scheme        `book:"watch" doc:"who hears what of the decisions that are made"`
	Accepted   []Acceptance        `book:"accepted" of:"acceptance" doc:"findings of inspect that are lived with for a time"`
}

// Settings hold for the whole book.
type Settings struct {
	Zone      *time.Location `book:"zone" doc:"IANA time zone for windows and dates that state none" default:"UTC"`
	Otherwise decide.Outcome `book:"otherwise" doc:"what holds where no live policy surely speaks" default:"block"`
	// Directory says whether there are accounts that the book does not list.
	Directory DirectoryPlace `book:"directory" doc:"inside where the book lists all accounts, else outside" default:"inside"`
	// ShareKey decides which accounts fall into a share.
	ShareKey string `book:"share_key" doc:"a text that outsiders do not know" default:"who chooses a name chooses its side of a share"`
	// IPDatabase is the name of an MMDB file in the book's folder.
	IPDatabase string `book:"ip_database" doc:"an MMDB file in the book's folder that knows where addresses are" default:"none"`
	// Administrators have no effect on decisions; inspect makes sure that they get
	// in and that nobody sends them text messages.
	Administrators condition.Node `book:"administrators" about:"account" doc:"accounts that look after the systems" default:"nobody"`
}

// DirectoryPlace says where accounts are listed.
type DirectoryPlace uint8

// Where accounts are listed.
const (
	// Inside says that the book lists all accounts: one that it names and does not
	// list is an error.
	Inside DirectoryPlace = iota
	// Outside says that others are supplied while decisions are made.
	Outside
)

var directoryPlaces = []string{"inside", "outside"}

// DirectoryPlaces returns the words for where accounts are listed.
func DirectoryPlaces() []string { return slices.Clone(directoryPlaces) }

// UnmarshalText reads inside or outside.
func (p *DirectoryPlace) UnmarshalText(text []byte) error {
	return words.Parse(p, "a place of the directory", string(text), directoryPlaces, Inside)
}

// Acceptance says that a finding of inspect is lived with. It has no effect on
// decisions.
type Acceptance struct {
	At         condition.Position `book:"-"`
	Name       string             `book:"name,required" doc:"the finding as inspect names it, such as wide-range:pier-office"`
	Because    string             `book:"because,required" doc:"the reason"`
	ApprovedBy string             `book:"approved_by" ref:"account" doc:"who approved it"`
	Until      *directory.Date    `book:"until,required" doc:"last day on which it is accepted"`
}

// Option changes how a book is opened.
type Option func(*options)

type options struct {
	changes  []Change
	database func(file []byte) (directory.Locator, error)
	name     string
}

// WithName names the folder in messages and positions otherwise than it is called: a copy is told of as the folder that it is of.
func WithName(dir string) Option { return func(o *options) { o.name = dir } }

// WithChanges opens the book with other values for some of what its files say.
func WithChanges(changes ...Change) Option {
	return func(o *options) { o.changes = append(o.changes, changes...) }
}

// WithDatabase says how the file is read that settings.ip_database names, such as
// mmdb.Locator of package directory/mmdb. A book that names such a file is not
// opened without it, so that a program links only what it uses.
func WithDatabase(read func(file []byte) (directory.Locator, error)) Option {
	return func(o *options) { o.database = read }
}

// Open reads the YAML files of a folder, and of the folders in it, as one book: those whose
// names end in .yaml or .yml. What is hidden, or a link, is not read. What is wrong with them
// is returned as [Errors], all at once. No link in the folder leads out of it.
func Open(dir string, options ...Option) (*Book, error) {
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("there is no folder %s", dir)
	case err != nil:
		return nil, err
	case !info.IsDir():
		return nil, fmt.Errorf("%s is a file; a book is the folder that it is in", dir)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return open(root.FS(), dir, options)
}

// OpenFS is Open for a file system.
func OpenFS(files fs.FS, options ...Option) (*Book, error) { return open(files, ".", options) }

func open(files fs.FS, dir string, chosen []Option) (*Book, error) {
	var o options
	for _, option := range chosen {
		option(&o)
	}
	if o.name != "" {
		dir = o.name
	}
	names, others, err := findFiles(files)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read as a book: %w", dir, err)
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("%s holds no book: it has no file that ends in .yaml or .yml", dir)
	}
	r := newReader()
	r.keeps = len(o.changes) > 0
	var sums []string
	for _, name := range names {
		label := labelOf(dir, name)
		text, err := readFile(files, name)
		if err != nil {
			r.add(condition.Position{File: label, Line: 1, Column: 1}, "%v", err)
			r.unread = label
			continue
		}
		sums = append(sums, sumOf("file", text))
		r.parse(label, text)
	}
	for _, c := range o.changes {
		if err := r.change(c); err != nil {
			return nil, err
		}
		sums = append(sums, sumOf("change "+c.Path, []byte(c.Value)))
	}
	r.readFiles()
	sums = append(sums, r.readImports(files, dir)...)
	r.resolve()
	r.check()
	locator, sum := r.openDatabase(files, o.database)
	if sum != "" {
		sums = append(sums, sumOf("ip_database", []byte(sum)))
	}
	if err := r.err(); err != nil {
		return nil, err
	}
	slices.Sort(sums)
	digest := sha256.Sum256([]byte(strings.Join(sums, "\n")))
	b := &Book{
		Sections:       r.sections,
		Digest:         "sha256:" + hex.EncodeToString(digest[:]),
		DatabaseDigest: sum,
		Files:          names,
		Imported:       r.imported,
		places:         r.definitions,
		NotRead:        others,
		locator:        locator,
	}
	b.noteRead()
	return b, nil
}

// sumOf is the hash of something with its name, so that two files whose contents
// are exchanged are not the same book.
func sumOf(name string, content []byte) string {
	sum := sha256.Sum256(content)
	named := sha256.Sum256(append([]byte(name+"\x00"), sum[:]...))
	return hex.EncodeToString(named[:])
}

// labelOf names a file of a folder in diagnostics.
func labelOf(dir, name string) string {
	if dir == "." {
		return name
	}
	return filepath.ToSlash(filepath.Join(dir, name))
}

// openDatabase opens the file that knows addresses, where the book names one,
// and returns the hash of its contents.
func (r *reader) openDatabase(files fs.FS, read func([]byte) (directory.Locator, error)) (directory.Locator, string) {
	name := r.sections.Settings.IPDatabase
	if name == "" {
		return nil, ""
	}
	at := r.definitions[definition{"setting", "ip_database"}]
	if !fs.ValidPath(name) {
		r.add(at, "ip_database names a file in the book's folder, such as places.mmdb, not %q", name)
		return nil, ""
	}
	if read == nil {
		r.add(at, "ip_database: this program reads no such file; it was opened without WithDatabase")
		return nil, ""
	}
	text, err := wholefile.Read(files, name, maxDatabaseSize)
	if err != nil {
		r.add(at, "ip_database: %v", err)
		return nil, ""
	}
	locator, err := read(text)
	if err != nil {
		r.add(at, "ip_database: %s: %v", name, err)
		return nil, ""
	}
	sum := sha256.Sum256(text)
	return locator, hex.EncodeToString(sum[:])
}

// maxDatabaseSize is how large the file that knows addresses may be, in bytes.
const maxDatabaseSize = 512 << 20

// readFile reads a whole file, unless it is too large or no text.
func readFile(files fs.FS, name string) ([]byte, error) {
	text, err := wholefile.Read(files, name, MaxFileSize)
	switch {
	case err != nil:
		return nil, err
	case !utf8.Valid(text):
		return nil, fmt.Errorf("the file is not UTF-8 text: %s; save it as UTF-8", firstBadByte(text))
	}
	return text, nil
}

func firstBadByte(text []byte) string {
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRune(text[i:])
		if r == utf8.RuneError && size == 1 {
			line := bytes.Count(text[:i], []byte("\n")) + 1
			return fmt.Sprintf("line %d, column %d has the byte 0x%02X", line, i-bytes.LastIndexByte(text[:i], '\n'), text[i])
		}
		i += size
	}
	return ""
}

// Where returns the place at which something is defined. What is its kind in
// the singular, such as "policy".
func (b *Book) Where(what, name string) condition.Position { return b.places[definition{what, name}] }

// Rulebook returns the book as the values that engine.Compile takes. They are the
// book's own: a caller that changes one copies it first.
func (b *Book) Rulebook() decide.Rulebook {
	rules := b.Sections.rulebook()
	rules.Digest, rules.Locator = b.Digest, b.locator
	return rules
}

// rulebook returns what the sections say of decisions.
func (b *Sections) rulebook() decide.Rulebook {
	var watched []condition.Node
	for i := range b.Watch.Alerts {
		watched = append(watched, b.Watch.Alerts[i].When)
	}
	for i := range b.Guarantees {
		watched = append(watched, b.Guarantees[i].Where)
	}
	return decide.Rulebook{
		Directory: directory.Contents{
			Outside: b.Settings.Directory == Outside, ShareKey: b.Settings.ShareKey,
			Zone: b.Settings.Zone, Networks: b.Networks, Regions: b.Regions, Windows: b.Windows,
			Accounts: b.Accounts, Groups: b.Groups, Apps: b.Apps, Devices: b.Devices, Postures: b.Postures, Methods: b.Methods,
		},
		Otherwise:  b.Settings.Otherwise,
		Risk:       b.Risk,
		Assurances: b.Assurances,
		Policies:   b.Policies,
		Exemptions: b.Exemptions,
		Rollouts:   b.Rollouts,
		Watched:    watched,
	}
}

// CompileConsent makes the judge that decides by the book what outside programs
// may have. It decides on the facts of the other judge.
func (b *Book) CompileConsent(judge *engine.Judge) (*consent.Judge, error) {
	return consent.Compile(judge, b.Consent, b.Scopes, b.Clients)
}

// CompileBoth is Compile and CompileConsent.
func (b *Book) CompileBoth() (*engine.Judge, *consent.Judge, error) {
	judge, err := b.Compile()
	if err != nil {
		return nil, nil, err
	}
	consents, err := b.CompileConsent(judge)
	return judge, consents, err
}

// Compile makes the judge that decides by the book.
func (b *Book) Compile() (*engine.Judge, error) { return engine.Compile(b.Rulebook()) }
