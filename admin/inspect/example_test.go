package inspect_test

import (
	"context"
	"fmt"
	"testing/fstest"
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
	report, err := inspect.Inspect(context.Background(), b, time.Date(2026, time.November, 23, 14, 10, 0, 0, time.UTC))
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
	// people.yaml:59:5: The emergency account harbour-key@kestrelsound.example, with password, gets in at no app from 2026-11-23 on, whatever is proven.
	// people.yaml:59:5: The emergency account harbour-key@kestrelsound.example has enrolled password, and nothing that resists phishing.
	// policies.yaml:56:9: card-till / doubtful never speaks: whatever it would match, any-device matches before it.
	// policies.yaml:58:9: card-till / open never speaks: whatever it would match, any-device matches before it.
	// policies.yaml:80:5: The `who` of yard-hands holds for none of the 19 accounts.
	// score 440 of 505
}

// A house has rules of its own: here each live policy names an owner. The check is
// made beside all others, and the book can accept what it finds.
func ExampleInspectWith() {
	owned := inspect.Check{
		Name:     "policy-without-owner",
		Topic:    "who answers",
		Severity: inspect.Warning,
		Title:    "a live policy has no owner",
		Why:      "Nobody answers for it.",
		WayOut:   "Name an owner.",
		Run: func(p *inspect.Pass) {
			for _, policy := range p.Live() {
				if _, may := policy.Audience.Len(); may > 0 && policy.Owner == "" {
					p.Report(policy.Name, p.Book.Where("policy", policy.Name), "Nobody is named as the owner of %s, which is for up to %d accounts.",
						policy.Name, may)
				}
			}
		},
	}
	b, err := book.OpenFS(fstest.MapFS{"b.yaml": {Data: []byte("briskwarden: 1\napps: [{name: mail}]\n" +
		"accounts: [{name: ingrid, methods: [password]}, {name: oskar, methods: [password]}]\n" +
		"policies: [{name: all, stage: live, who: anyone, apps: every, rules: [{name: r, then: grant}]}]\n")}})
	if err != nil {
		fmt.Println(err)
		return
	}
	report, err := inspect.InspectWith(
		context.Background(),
		b,
		time.Date(2026, time.November, 23, 14, 10, 0, 0, time.UTC),
		inspect.Options{Checks: append(inspect.Checks(), owned)},
	)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, f := range report.Findings {
		if f.Check == owned.Name {
			fmt.Printf("%s: %s: %s\n", f.At, f.Name, f.Text)
		}
	}
	// Output: b.yaml:4:12: policy-without-owner:all: Nobody is named as the owner of all, which is for up to 2 accounts.
}
