package describe_test

import (
	"fmt"
	"time"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/demo"
)

// A policy is put into sentences, from what was compiled.
func ExamplePolicy() {
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
	doc, err := describe.Policy(judge, "board-papers", time.Date(2026, time.November, 23, 14, 10, 0, 0, time.UTC))
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, s := range doc.Statements {
		fmt.Printf("%s / %s: %s\n", s.Policy, s.Rule, s.Sentence)
	}
	// Output:
	// board-papers / phones: Where the device runs ios or android, they are blocked. They are told: "Board papers are read on a computer."
	// board-papers / no-phishing: Otherwise they must meet no-phishing.
}
