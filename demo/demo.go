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

//go:generate go run ./places book/places.mmdb

//go:embed book/*.yaml book/places.mmdb
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
			IP: address("203.0.113.20"), Through: attempt.Known(attempt.Browser),
			Device:   attempt.Known(attempt.Device{ID: attempt.Known("laptop-ingrid")}),
			Proofs:   []attempt.Proof{{Method: "password", At: at}},
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
