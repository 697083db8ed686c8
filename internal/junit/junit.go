// Package junit writes results of tests as the JUnit XML that CI systems read.
package junit

import (
	"encoding/xml"
	"io"
)

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
		Failure *Failure `xml:"failure"`
	}
)

// Case is a test.
type Case struct {
	Name string
	// Failure is nil where it passed.
	Failure *Failure
}

// Failure says why a test failed.
type Failure struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr"`
	Text    string `xml:",chardata"`
}

// Write writes tests as one suite of that name. It keeps to the schema that CI systems publish, which has no
// attribute for a place: the text of a failure begins with it.
func Write(w io.Writer, name string, cases []Case) error {
	s := suite{Name: name, Tests: len(cases)}
	for _, c := range cases {
		if c.Failure != nil {
			s.Failures++
		}
		s.Cases = append(s.Cases, xcase{Name: c.Name, Class: name, Failure: c.Failure})
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
