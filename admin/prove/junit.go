package prove

import (
	"io"

	"github.com/briskwarden/briskwarden/internal/junit"
)

// WriteJUnit writes the report as JUnit XML. What is open failed.
func (r *Report) WriteJUnit(w io.Writer) error {
	var cases []junit.Case
	for i := range r.Results {
		result := &r.Results[i]
		c := junit.Case{Name: result.Name}
		if result.State != Proven {
			c.Failure = &junit.Failure{
				Message: result.State.String(),
				Type:    "guarantee",
				Text:    result.At.String() + "\n" + result.Claim + "\n" + result.Why,
			}
		}
		cases = append(cases, c)
	}
	return junit.Write(w, "guarantees", cases)
}
