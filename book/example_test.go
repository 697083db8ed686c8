package book_test

import (
	"context"
	"fmt"
	"testing/fstest"
	"time"

	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
)

// Open a book, compile it, decide, read the reasons.
func Example() {
	b, err := demo.Open() // or book.Open("kestrel")
	if err != nil {
		fmt.Println(err)
		return
	}
	judge, err := b.Compile()
	if err != nil {
		fmt.Println(err)
		return
	}
	a := new(attempt.Attempt)
	err = attempt.Parse([]byte(`{
		"at": "2026-11-23T13:10:00Z", "account": "ingrid@kestrelsound.example", "app": "card-till",
		"ip": "198.51.100.200", "country": "BR", "through": "browser", "proofs": [{"method": "password"}]}`), a, attempt.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	decision := judge.Decide(context.Background(), a)
	fmt.Println(decision.Verdict)
	for _, cause := range decision.Causes {
		fmt.Println(cause.Text)
	}
	fmt.Println(decision.ToPerson.Say)
	// Output:
	// block
	// card-till / far-away blocks; countries: wants not home-waters (DK, NO, SE), saw BR.
	// The till opens in home waters only.
}

// All that is wrong with a book comes at once, each with its place.
func ExampleOpenFS() {
	_, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(`briskwarden: 1
networks:
  pier: {ranges: [203.0.113.5/24]}
policies:
  - {name: base, stage: live, who: {groups: [crw]}, apps: every, rules: [{name: all, then: block}]}
groups: [{name: crew}]
`)}})
	fmt.Println(err)
	// Output:
	// book.yaml:3:19: "203.0.113.5/24" has bits set behind the /24; write 203.0.113.0/24 for the block or 203.0.113.5 for the one address
	// book.yaml:5:46: group "crw" is not defined; did you mean "crew"?
}

// What looks at everybody takes the accounts of an outside directory as a sequence, here
// from a table in memory; one of a database yields its errors too.
func ExampleBook_Listing() {
	b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(`briskwarden: 1
settings: {directory: outside}
groups: [{name: crew}]
apps: [{name: mail}]
assurances: {two: {prove: [{any_of: [password]}, {any_of: [push]}]}}
policies: [{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [two]}}]}]
rollouts: [{name: second-factor, who: {groups: [crew]}, methods: [push], eases: [two], opens: 2026-11-01, enforced: 2026-12-01}]
`)}})
	if err != nil {
		fmt.Println(err)
		return
	}
	staff := []directory.Account{
		{Name: "liv", Groups: []string{"crew"}, Methods: []string{"password", "push"}},
		{Name: "jonas", Groups: []string{"crew"}, Methods: []string{"password"}},
	}
	listed, err := b.Listing(func(yield func(directory.Account, error) bool) {
		for _, a := range staff {
			if !yield(a, nil) {
				return
			}
		}
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	judge, err := listed.Compile()
	if err != nil {
		fmt.Println(err)
		return
	}
	report, err := readiness.Of(judge, "", nil, time.Date(2026, time.November, 23, 9, 0, 0, 0, time.UTC))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(report.LockedOut(), "of", len(staff))
	// Output:
	// 1 of 2
}
