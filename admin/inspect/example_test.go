package inspect_test

import (
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
)

// A program can refuse to take over a book that is not in order.
func ExampleInspect() {
	b, err := book.OpenFS(demo.FaultyFiles(), book.WithDatabase(mmdb.Locator)) // book.Open reads a folder
	if err != nil {
		fmt.Println(err)
		return
	}
	report, err := inspect.Inspect(b, time.Date(2026, time.November, 23, 14, 10, 0, 0, time.UTC))
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, f := range report.Findings {
		if f.Severity == inspect.Error {
			fmt.Printf("%s: %s\n", f.At, f.Text)
		}
	}
	fmt.Println("score", report.Score.Reached, "of", report.Score.Possible)
	// Output:
	// people.yaml:59:5: The emergency account harbour-key@kestrelsound.example has enrolled password, and nothing that resists phishing.
	// policies.yaml:56:9: card-till / doubtful never speaks: whatever it would match, shut or far-away or any-device matches before it.
	// policies.yaml:58:9: card-till / open never speaks: whatever it would match, shut or far-away or any-device or doubtful matches before it.
	// policies.yaml:80:5: The `who` of yard-hands holds for none of the 19 accounts.
	// score 270 of 325
}
