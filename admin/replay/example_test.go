package replay_test

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
)

// A history may come from anywhere; here it is a table with headings of its own.
func ExampleRun() {
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
	const table = `when,user,service,address,proofs
2026-11-23 14:10,ingrid@kestrelsound.example,mail,203.0.113.20,password push
2026-11-23 14:12,ingrid@kestrelsound.example,mail,192.0.2.70,password
soon,ingrid@kestrelsound.example,mail,192.0.2.70,password
`
	source := replay.Source{
		Name: "sign-ons.csv",
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(table)), nil },
	}
	columns := replay.Columns{"at": "when", "account": "user", "app": "service", "ip": "address"}
	report, err := replay.Run(context.Background(), judge, []replay.Source{source}, replay.Options{Columns: columns})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(report.Verdicts.Grant, "granted,", report.Verdicts.StepUp, "asked for more")
	for _, bad := range report.Bad {
		fmt.Printf("%s:%d: %s\n", bad.File, bad.Line, bad.Text)
	}
	// Output:
	// 1 granted, 1 asked for more
	// sign-ons.csv:4: column 1: "soon" is no time; write one such as 2026-11-23T21:14:00Z or 2026-11-23 21:14:00
}

// Walk shows each attempt, filled in from what the history knows, to anyone who counts
// something else than a report does.
func ExampleWalk() {
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
	const line = `{"at": "2026-11-23T13:1%d:00Z", "account": "ingrid@kestrelsound.example", "app": "mail", "proofs": [{"method": "password"}]}` +
		"\n"
	history := replay.Source{Name: "history", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(fmt.Sprintf(line, 0) + fmt.Sprintf(line, 5))), nil
	}}
	visitor := func() replay.Visit {
		return func(_ context.Context, number int64, filled []*attempt.Attempt) {
			before, known := filled[0].Previous.Get()
			fmt.Println(number, known, before.At.Format("15:04"))
		}
	}
	if _, err := replay.Walk(context.Background(), []*engine.Judge{judge}, []replay.Source{history}, replay.Options{Workers: 1},
		visitor); err != nil {
		fmt.Println(err)
	}
	// Output:
	// 0 false 00:00
	// 1 true 13:10
}
