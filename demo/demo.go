// Package demo holds the book of Kestrel Sound Ferries, a made-up ferry line,
// and the attempts by which it is shown.
package demo

import (
	"embed"
	"io/fs"
	"net/netip"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
)

//go:embed book/*.yaml
var embedded embed.FS

// Files are the files of the book.
func Files() fs.FS {
	files, err := fs.Sub(embedded, "book")
	if err != nil {
		panic(err) // the name is fixed when the program is built
	}
	return files
}

// Open reads the book that is built into the program.
func Open() (*book.Book, error) { return book.OpenFS(Files()) }

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
			IP: attempt.Known(netip.MustParseAddr("203.0.113.20")), Through: attempt.Known(attempt.Browser),
			Country: attempt.Known[attempt.CountryCode]("NO"),
			Proofs:  []attempt.Proof{{Method: "password", At: at}},
		}
	}
	elsewhere := attempt.Known(netip.MustParseAddr("198.51.100.200"))
	scene := func(title, differs string, change func(*attempt.Attempt)) Scene {
		a := pier()
		change(&a)
		return Scene{title, differs, a}
	}
	return []Scene{
		scene("pier", "Ingrid opens the till at the pier on Monday at 14:10, password proven", func(*attempt.Attempt) {}),
		scene("home", "from home in Norway", func(a *attempt.Attempt) { a.IP = elsewhere }),
		scene("abroad", "from an address in Brazil", func(a *attempt.Attempt) {
			a.IP, a.Country = elsewhere, attempt.Known[attempt.CountryCode]("BR")
		}),
		scene("night", "at 02:10", func(a *attempt.Attempt) {
			a.At = a.At.Add(-12 * time.Hour)
			a.Proofs = []attempt.Proof{{Method: "password", At: a.At}}
		}),
		scene("unknown country", "from an address of no known country", func(a *attempt.Attempt) {
			a.IP, a.Country = elsewhere, attempt.Fact[attempt.CountryCode]{}
		}),
		scene("emergency account", "with the account from the harbour master's safe", func(a *attempt.Attempt) {
			a.Account = "harbour-key@kestrelsound.example"
		}),
	}
}
