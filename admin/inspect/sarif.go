package inspect

import (
	"path"
	"slices"

	"github.com/briskwarden/briskwarden/book"
)

// errorInBook is what the findings of a book that cannot be read are called.
var errorInBook = Check{Name: "error-in-book", Topic: "the book itself", Severity: Error, Title: "the book cannot be read as it stands",
	Why:    "A book with an error in it judges nobody: anyone who loads it keeps to the one before. All errors are told at once; other checks are made when they are gone.",
	WayOut: "Correct the place; the message says what would be right."}

// FindCheck returns the check of that name, and false where there is none.
func FindCheck(name string) (Check, bool) {
	for _, c := range append(Checks(), errorInBook) {
		if c.Name == name {
			return c, true
		}
	}
	return Check{}, false
}

// Unreadable reports what is wrong with a book that cannot be read, as findings.
func Unreadable(errors book.Errors) *Report {
	r := &Report{Findings: []Finding{}, Accepted: []Finding{}, Imports: []Import{}, Score: Score{Open: []OpenItem{}}}
	for _, d := range errors {
		r.Findings = append(r.Findings, Finding{Name: errorInBook.Name + ":" + d.At.String(), Check: errorInBook.Name, Severity: Error,
			At: d.At, Text: d.Text, WayOut: errorInBook.WayOut})
	}
	return r
}

// Log is a SARIF 2.1.0 log (OASIS Standard, 27 March 2020) with what an
// inspection says of a book.
type Log struct {
	Schema  string `json:"$schema"`
	Version string `json:"version"`
	Runs    []Run  `json:"runs"`
}

// Run is one inspection (SARIF §3.14).
type Run struct {
	Tool       Tool     `json:"tool"`
	ColumnKind string   `json:"columnKind"`
	Results    []Result `json:"results"`
}

// Tool says what inspected (§3.18).
type Tool struct {
	Driver Driver `json:"driver"`
}

// Driver describes the program and its checks (§3.19).
type Driver struct {
	Name  string `json:"name"`
	Rules []Rule `json:"rules"`
}

// Rule is a check (§3.49).
type Rule struct {
	ID               string  `json:"id"`
	ShortDescription Message `json:"shortDescription"`
	FullDescription  Message `json:"fullDescription"`
	Help             Message `json:"help"`
	Default          Default `json:"defaultConfiguration"`
}

// Default is the severity that a check mostly has (§3.50).
type Default struct {
	Level Severity `json:"level"`
}

// Message is a text (§3.11).
type Message struct {
	Text string `json:"text"`
}

// Result is a finding (§3.27).
type Result struct {
	RuleID       string            `json:"ruleId"`
	RuleIndex    int               `json:"ruleIndex"`
	Level        Severity          `json:"level"`
	Message      Message           `json:"message"`
	Locations    []Location        `json:"locations,omitempty"`
	Fingerprints map[string]string `json:"partialFingerprints"`
	Suppressions []Suppression     `json:"suppressions,omitempty"`
}

// Location is where a finding stands (§3.28).
type Location struct {
	Physical PhysicalLocation `json:"physicalLocation"`
}

// PhysicalLocation is a place in a file (§3.29).
type PhysicalLocation struct {
	Artifact Artifact `json:"artifactLocation"`
	Region   Region   `json:"region"`
}

// Artifact names a file (§3.4).
type Artifact struct {
	URI string `json:"uri"`
}

// Region is a line and a column, counted from 1 (§3.30).
type Region struct {
	StartLine   int `json:"startLine"`
	StartColumn int `json:"startColumn"`
}

// Suppression says that a finding is accepted, and why (§3.35).
type Suppression struct {
	Kind          string `json:"kind"`
	Status        string `json:"status"`
	Justification string `json:"justification"`
}

// SARIF returns the report as a SARIF log. Findings that the book accepts are in
// it as suppressed ones.
func (r *Report) SARIF() *Log {
	driver := Driver{Name: "Brisk Warden"}
	index := map[string]int{}
	for i, c := range append(Checks(), errorInBook) {
		index[c.Name] = i
		driver.Rules = append(driver.Rules, Rule{c.Name, Message{c.Title}, Message{c.Why}, Message{c.WayOut}, Default{c.Severity}})
	}
	run := Run{Tool: Tool{driver}, ColumnKind: "unicodeCodePoints", Results: []Result{}}
	for _, f := range slices.Concat(r.Findings, r.Accepted) {
		result := Result{RuleID: f.Check, RuleIndex: index[f.Check], Level: f.Severity, Message: Message{f.Text}, Fingerprints: map[string]string{"finding/v1": f.Name}}
		if f.At.IsValid() {
			result.Locations = []Location{{PhysicalLocation{Artifact{path.Clean(f.At.File)}, Region{f.At.Line, f.At.Column}}}}
		}
		if f.Accepted != nil {
			result.Suppressions = []Suppression{{"external", "accepted", f.Accepted.Because}}
		}
		run.Results = append(run.Results, result)
	}
	return &Log{Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", Version: "2.1.0", Runs: []Run{run}}
}
