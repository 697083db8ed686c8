// Package demo holds the book of Kestrel Sound Ferries, a made-up ferry line,
// and the attempts by which it is shown.
package demo

import (
	"bytes"
	"embed"
	"io/fs"
	"net/netip"
	"time"

	"golang.org/x/tools/txtar"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/directory/mmdb"
)

//go:generate go run ./places book/places.mmdb

//go:embed book/*.yaml book/seasonal.csv book/grants.csv book/places.mmdb
var embedded embed.FS

// Files are the files of the book.
func Files() fs.FS {
	files, err := fs.Sub(embedded, "book")
	if err != nil {
		panic(err) // the name is fixed when the program is built
	}
	return files
}

// Fault is a mistake in the faulty copy of the book, of the kind that people
// make.
type Fault struct {
	// Title says what went wrong.
	Title string
	// Finding is the finding of inspect that reports it.
	Finding string

	file, right, wrong string
}

// Faults are the mistakes in the faulty copy of the book.
func Faults() []Fault {
	return []Fault{
		{
			"the key in the harbour master's safe was lost, and a password took its place",
			"weak-emergency-account:harbour-key@kestrelsound.example",
			"people.yaml",
			"kind: emergency, methods: [security-key]",
			"kind: emergency, methods: [password]",
		},
		{"the contractors' domain is mistyped", "aims-at-nobody:yard-hands", "policies.yaml",
			"who: {domains: [gdansk-yard.example]}", "who: {domains: [gdansk-yards.example]}"},
		{"a rule of the till slipped below the one that matches everything", "unreached-rule:card-till/doubtful", "policies.yaml",
			"- {name: doubtful, when: {risk_at_least: medium}",
			"- {name: any-device, then: {require: [password-once, fit-device]}}\n      - {name: doubtful, when: {risk_at_least: medium}"},
		{"the yard's IPv6 range was forgotten", "ipv6-forgotten:gdansk-yard", "places.yaml",
			`, "2001:db8:53::/48"`, ""},
		{"the tide gauge's exemption lost its end", "endless-exemption:tide-gauge", "policies.yaml",
			"    approved_by: ragna@kestrelsound.example\n    until: 2027-03-31\n", "    approved_by: ragna@kestrelsound.example\n"},
		{"nobody bars text messages for administrators any more", "sms-for-administrators:ragna@kestrelsound.example", "policies.yaml",
			"  sms-code: {barred_for: {groups: [shore-it]}}\n", ""},
	}
}

// FaultyFiles are the files of a copy of the book with the Faults in it.
func FaultyFiles() fs.FS {
	var edits []edit
	for _, f := range Faults() {
		edits = append(edits, edit{f.file, f.right, f.wrong})
	}
	return edited(edits)
}

// ProposedFiles are the files of a copy of the book with changes that somebody
// proposes: the till opens at all hours, and machines are let in from the depot
// alone. The first loosens, and the second locks the kiosk at the pier out.
func ProposedFiles() fs.FS {
	return edited([]edit{
		{
			"policies.yaml",
			"      - {name: shut, when: {not: {during: [sailing-hours]}}, then: block, say: The till is closed from 23:00 to 05:00.}\n",
			"",
		},
		{"policies.yaml", "networks: [depot, pier-office], through", "networks: [depot], through"},
	})
}

// edit puts a text in the place of another in a file.
type edit struct{ file, old, new string }

// edited returns the files of a copy of the book with edits.
func edited(edits []edit) fs.FS {
	files := Files()
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		panic(err) // they are built into the program
	}
	copied := new(txtar.Archive)
	for _, entry := range entries {
		text, err := fs.ReadFile(files, entry.Name())
		if err != nil {
			panic(err)
		}
		for _, e := range edits {
			if e.file == entry.Name() {
				text = bytes.Replace(text, []byte(e.old), []byte(e.new), 1)
			}
		}
		copied.Files = append(copied.Files, txtar.File{Name: entry.Name(), Data: text})
	}
	other, err := txtar.FS(copied)
	if err != nil {
		panic(err)
	}
	return other
}

// Open reads the book that is built into the program.
func Open() (*book.Book, error) { return book.OpenFS(Files(), book.WithDatabase(mmdb.Locator)) }

// Scene is one attempt of the demo.
type Scene struct {
	// Title names the circumstance, Differs says what is other than in the first.
	Title, Differs string
	Attempt        attempt.Attempt
}

// Scenes are six attempts on the card till. All but the first differ from it in
// one thing each.
func Scenes() []Scene {
	oslo := time.FixedZone("CET", 60*60) // in November
	pier := func() attempt.Attempt {
		at := time.Date(2026, time.November, 23, 14, 10, 0, 0, oslo)
		return attempt.Attempt{
			At: at, Account: "ingrid@kestrelsound.example", App: "card-till",
			IP: address("203.0.113.20"), Through: attempt.Known(attempt.Browser),
			Device:   attempt.Known(attempt.Device{ID: attempt.Known("laptop-ingrid")}),
			Proofs:   []attempt.Proof{{Method: "password", At: at}},
			Client:   attempt.None[attempt.ClientAsk](),
			Previous: attempt.None[attempt.Previous](), Failures: attempt.None[[]time.Time](),
		}
	}
	scene := func(title, differs string, change func(*attempt.Attempt)) Scene {
		a := pier()
		change(&a)
		return Scene{title, differs, a}
	}
	return []Scene{
		scene("pier", "Ingrid opens the till at the pier on Monday at 14:10, password proven", func(*attempt.Attempt) {}),
		scene("home", "from home in Norway", func(a *attempt.Attempt) { a.IP = address("192.0.2.70") }),
		scene("abroad", "from an address in Brazil", func(a *attempt.Attempt) { a.IP = address("192.0.2.150") }),
		scene("night", "at 02:10", func(a *attempt.Attempt) {
			a.At = a.At.Add(-12 * time.Hour)
			a.Proofs = []attempt.Proof{{Method: "password", At: a.At}}
		}),
		scene("unknown country", "from an address of no known country", func(a *attempt.Attempt) { a.IP = address("198.51.100.200") }),
		scene("emergency account", "with the account from the harbour master's safe", func(a *attempt.Attempt) {
			a.Account = "harbour-key@kestrelsound.example"
		}),
	}
}

func address(text string) attempt.Fact[netip.Addr] { return attempt.Known(netip.MustParseAddr(text)) }
