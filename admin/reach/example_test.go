package reach_test

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/briskwarden/briskwarden/admin/reach"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/demo"
)

// A start page shows the apps that can be opened from where somebody is.
func ExampleOfAccount() {
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
	atThePier := reach.Circumstances{OwnDevice: true, Attempt: attempt.Attempt{
		At:      time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC),
		IP:      attempt.Known(netip.MustParseAddr("203.0.113.20")),
		Through: attempt.Known(attempt.Browser), Previous: attempt.None[attempt.Previous](), Failures: attempt.None[[]time.Time](),
	}}
	found, err := reach.OfAccount(judge, atThePier, nil, "ingrid@kestrelsound.example")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, a := range found.Apps[:found.Opens()] {
		fmt.Println(a.App, a.Verdict, a.Asks)
	}
	// Output:
	// account-page step_up [password proven in this session]
	// card-till step_up [password proven in this session]
	// crew-roster step_up [password proven in this session]
	// mail step_up [password proven in this session]
	// timetable step_up [password proven in this session]
}
