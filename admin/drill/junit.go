package drill

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
)

// The elements of JUnit XML that CI systems read.
type (
	suites struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []suite  `xml:"testsuite"`
	}
	suite struct {
		Name     string  `xml:"name,attr"`
		Tests    int     `xml:"tests,attr"`
		Failures int     `xml:"failures,attr"`
		Errors   int     `xml:"errors,attr"`
		Skipped  int     `xml:"skipped,attr"`
		Cases    []xcase `xml:"testcase"`
	}
	xcase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Failure *failure `xml:"failure"`
	}
	failure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// WriteJUnit writes the report as JUnit XML. It keeps to the schema that CI systems
// publish, which has no attribute for a place; the text of a failure begins with it.
func (r *Report) WriteJUnit(w io.Writer) error {
	s := suite{Name: "drills", Tests: len(r.Results), Failures: r.Failed()}
	for _, result := range r.Results {
		c := xcase{Name: result.Name, Class: "drills"}
		if !result.Passed {
			c.Failure = &failure{
				Message: fmt.Sprintf("wanted %s, got %s", result.Wanted, result.Got),
				Type:    "decision",
				Text:    result.At.String() + "\n" + strings.Join(result.Why, "\n"),
			}
		}
		s.Cases = append(s.Cases, c)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(suites{Suites: []suite{s}}); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
