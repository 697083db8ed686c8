package drill

import (
	"fmt"
	"io"
	"strings"

	"github.com/briskwarden/briskwarden/internal/junit"
)

// WriteJUnit writes the report as JUnit XML.
func (r *Report) WriteJUnit(w io.Writer) error {
	var cases []junit.Case
	for _, result := range r.Results {
		c := junit.Case{Name: result.Name}
		if !result.Passed {
			c.Failure = &junit.Failure{
				Message: fmt.Sprintf("wanted %s, got %s", result.Wanted, result.Got),
				Type:    "decision",
				Text:    result.At.String() + "\n" + strings.Join(result.Why, "\n"),
			}
		}
		cases = append(cases, c)
	}
	return junit.Write(w, "drills", cases)
}
