package consent_test

import (
	"context"
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/demo"
)

// Each scope is judged by itself, and the strictest answer stands.
func ExampleJudge_Decide() {
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
	d, err := consents.Decide(context.Background(), &consent.Request{
		At: time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC), Account: "ingrid@kestrelsound.example", Client: "tide-table",
		Scopes: []string{"mail.read", "tides.read", "calendar.read"}, RedirectURI: "https://tidewise.example/answer",
	}, consent.Known{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, s := range d.Scopes {
		fmt.Println(s.Scope, s.Tier, s.Outcome)
	}
	fmt.Println(d.Outcome, d.Causes[0].Text)
	// Output:
	// tides.read harmless allow
	// calendar.read personal allow
	// mail.read grave review
	// review No rule speaks of mail.read, so a reviewer looks.
}
