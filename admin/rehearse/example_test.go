package rehearse_test

import (
	"context"
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/demo"
)

// The nearest way in is told to anyone who is stopped.
func ExampleUntilGranted() {
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
	q := rehearse.Request{
		Account: "ingrid@kestrelsound.example",
		App:     "card-till",
		At:      "2026-11-23 03:00",
		IP:      "203.0.113.20",
		Device:  "laptop-ingrid",
	}
	a, _, err := q.Attempt(judge, time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(judge.Verdict(context.Background(), a))
	fmt.Println(rehearse.UntilGranted(judge, a))
	// Output:
	// block
	// Wait until Mon 2026-11-23 05:00, and prove password.
}
