package engine_test

import (
	"context"
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// A rulebook can be made in Go as well as read from files.
func ExampleCompile() {
	judge, err := engine.Compile(decide.Rulebook{
		Directory: directory.Contents{
			Accounts: []directory.Account{{Name: "ingrid@kestrelsound.example", Methods: []string{"password", "otp-app"}}},
			Apps:     []directory.App{{Name: "mail"}},
		},
		Otherwise:  decide.Outcome{},
		Assurances: []decide.Assurance{{Name: "held", Prove: []decide.Prove{{AnyOf: []string{"otp-app"}, Within: decide.Now}}}},
		Policies: []decide.Policy{{
			Name: "mail", Stage: decide.Live,
			Who:   condition.Is("anyone"),
			Apps:  condition.Is("names", "mail"),
			Rules: []decide.Rule{{Name: "all", Then: decide.Require("held")}},
		}},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	a := attempt.Attempt{At: time.Date(2026, time.November, 23, 8, 0, 0, 0, time.UTC), Account: "ingrid@kestrelsound.example", App: "mail"}
	fmt.Println(judge.Verdict(context.Background(), &a))
	a.Proofs = []attempt.Proof{{Method: "otp-app"}}
	fmt.Println(judge.Verdict(context.Background(), &a))
	// Output:
	// step_up
	// grant
}
