package rehearse_test

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/attempt"
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
	a := &attempt.Attempt{
		Account: "ingrid@kestrelsound.example",
		App:     "card-till",
		At:      time.Date(2026, time.November, 23, 2, 0, 0, 0, time.UTC),
		IP:      attempt.Known(netip.MustParseAddr("203.0.113.20")),
		Through: attempt.Known(attempt.Browser),
		Device: attempt.Known(attempt.Device{
			ID:         attempt.Known("laptop-ingrid"),
			ReportedAt: attempt.Known(time.Date(2026, time.November, 23, 1, 0, 0, 0, time.UTC)),
		}),
		Previous: attempt.None[attempt.Previous](), // a first sign-in, without failed ones before
		Failures: attempt.None[[]time.Time](),
	}
	fmt.Println(judge.Verdict(context.Background(), a))
	ways, err := rehearse.UntilGranted(judge, a)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(ways)
	// Output:
	// block
	// Wait until Mon 2026-11-23 05:00, and prove password.
}
