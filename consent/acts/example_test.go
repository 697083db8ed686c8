package acts_test

import (
	"context"
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/store"
)

// An authorization server asks before it lets a program in. What the rules do
// not settle waits for a reviewer.
func Example() {
	b, err := demo.Open()
	if err != nil {
		fmt.Println(err)
		return
	}
	judge, err := b.Compile()
	if err != nil {
		fmt.Println(err)
		return
	}
	consents, err := b.CompileConsent(judge)
	if err != nil {
		fmt.Println(err)
		return
	}
	d := acts.New(consents, new(store.Memory), "door") // store/sqlite keeps it in a file
	now := time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)
	answer, err := d.Ask(context.Background(), consent.Request{
		At: now, Account: "ingrid@kestrelsound.example", Client: "voyage-log", Scopes: []string{"openid", "mail.read"},
		RedirectURI: "https://app.fjordscribe.example/answer",
	}, "To sum up the log.")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(answer.Outcome, "as request", answer.Request, "until", answer.Expires.Format(time.DateOnly))
	done, err := d.Approve(
		context.Background(),
		acts.Approval{By: "ragna@kestrelsound.example", At: now, Request: answer.Request, Scopes: []string{"openid"}, Because: "No mail."},
	)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, a := range done {
		fmt.Println(a.Number, a.By, a.Kind, a.Client, a.Scopes, a.Account)
	}
	// Output:
	// review as request 1 until 2026-12-07
	// 2 ragna@kestrelsound.example approved voyage-log [openid] ingrid@kestrelsound.example
	// 3 ragna@kestrelsound.example granted voyage-log [openid] ingrid@kestrelsound.example
}
