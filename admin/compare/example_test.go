package compare_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
)

// A program that takes over a new book can tell what it changes, and refuse one that
// locks somebody out.
func Example() {
	older, err := demo.Open() // book.Open reads a folder
	if err != nil {
		fmt.Println(err)
		return
	}
	newer, err := book.OpenFS(demo.ProposedFiles(), book.WithDatabase(mmdb.Locator))
	if err != nil {
		fmt.Println(err)
		return
	}
	report, err := compare.Books(older, newer, demo.Moment())
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, changed := range report.Changed {
		for _, change := range changed.Changes {
			fmt.Printf("%s %s: %s\n", changed.Title(), change.Effect, change.Text)
		}
	}
	month := replay.Source{Name: "month", Open: func() (io.ReadCloser, error) { return recorded(), nil }}
	if err := report.AddHistory(context.Background(), []replay.Source{month}, replay.Options{}); err != nil {
		fmt.Println(err)
		return
	}
	for _, happening := range report.History.Happenings() {
		fmt.Println(happening.Title, happening.Attempts, happening.Most[0].Account)
	}
	fmt.Println("locks somebody out:", report.HoldTo([]string{compare.LockedOutGate}))
	// Output:
	// policy card-till loosens: Rule shut is gone: where the time is outside sailing-hours (05:00-23:00), they are blocked.
	// policy machines tightens: Rule from-the-depot: it spoke where they come from depot or pier-office and the sign-on is made through unattended, and speaks where they come from depot and the sign-on is made through unattended.
	// locked out 300 kiosk-pier-2
	// unattended, and breaks 300 kiosk-pier-2
	// newly blocked 300 kiosk-pier-2
	// newly let in 9 oskar@kestrelsound.example
	// locks somebody out: true
}

// recorded is the demo's month, one attempt a line.
func recorded() io.ReadCloser {
	var lines bytes.Buffer
	for _, a := range demo.History() {
		if err := json.NewEncoder(&lines).Encode(a); err != nil {
			panic(err)
		}
	}
	return io.NopCloser(&lines)
}

// A book compared with itself has no changes, and a history tells what its shadow
// policies would do.
func ExampleReport_AddHistory() {
	b, err := demo.Open()
	if err != nil {
		fmt.Println(err)
		return
	}
	report, err := compare.Books(b, b, time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC))
	if err != nil {
		fmt.Println(err)
		return
	}
	month := replay.Source{Name: "month", Open: func() (io.ReadCloser, error) { return recorded(), nil }}
	if err := report.AddHistory(context.Background(), []replay.Source{month}, replay.Options{}); err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(report.Summary(), len(report.History.Happenings()))
	for _, happening := range report.Shadow.Happenings() {
		fmt.Println(happening.Title, happening.Most[0])
	}
	// Output:
	// The books are the same. 0
	// locked out astrid@kestrelsound.example at board-papers (21)
	// newly blocked astrid@kestrelsound.example (21)
}
