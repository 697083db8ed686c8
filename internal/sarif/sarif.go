// Package sarif writes the findings of an inspection in the Static Analysis Results
// Interchange Format, which code hosts show beside the lines of a change.
package sarif

import (
	"net/url"
	"path"
	"slices"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/prove"
)

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
	Level inspect.Severity `json:"level"`
}

// Message is a text (§3.11).
type Message struct {
	Text string `json:"text"`
}

// Result is a finding (§3.27).
type Result struct {
	RuleID       string            `json:"ruleId"`
	RuleIndex    int               `json:"ruleIndex"`
	Level        inspect.Severity  `json:"level"`
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

// Of returns what an inspection found as a SARIF log. Findings that the book accepts
// are in it as suppressed ones.
func Of(r *inspect.Report) *Log {
	driver := Driver{Name: "Brisk Warden"}
	index := map[string]int{}
	for i, c := range append(inspect.Checks(), inspect.ErrorInBook()) {
		index[c.Name] = i
		driver.Rules = append(driver.Rules, Rule{c.Name, Message{c.Title}, Message{c.Why}, Message{c.WayOut}, Default{c.Severity}})
	}
	run := Run{Tool: Tool{driver}, ColumnKind: "unicodeCodePoints", Results: []Result{}}
	for _, f := range slices.Concat(r.Findings, r.Accepted) {
		result := Result{
			RuleID:       f.Check,
			RuleIndex:    index[f.Check],
			Level:        f.Severity,
			Message:      Message{f.Text},
			Fingerprints: map[string]string{"finding/v1": f.Name},
		}
		if f.At.IsValid() {
			result.Locations = []Location{{PhysicalLocation{Artifact{uriOf(f.At.File)}, Region{f.At.Line, f.At.Column}}}}
		}
		if f.Accepted != nil {
			result.Suppressions = []Suppression{{"external", "accepted", f.Accepted.Because}}
		}
		run.Results = append(run.Results, result)
	}
	return logOf(run)
}

func logOf(run Run) *Log {
	return &Log{
		Schema:  "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		Version: "2.1.0",
		Runs:    []Run{run},
	}
}

// uriOf writes the name of a file as a relative reference (RFC 3986 §4.2).
func uriOf(file string) string { return (&url.URL{Path: path.Clean(file)}).String() }

// OfProof returns what came of guarantees as a SARIF log: those that fail, and those that are open.
func OfProof(r *prove.Report) *Log {
	rules := []Rule{
		{
			"guarantee-fails",
			Message{"a guarantee that does not hold"},
			Message{"There are circumstances in which the book does not do what it is to do."},
			Message{"Mend the rules behind it, or say of which circumstances it is in its where."},
			Default{inspect.Error},
		},
		{"guarantee-open", Message{"a guarantee that may or may not hold"}, Message{"What is open may fail."},
			Message{"Give prove more time."}, Default{inspect.Warning}},
	}
	run := Run{Tool: Tool{Driver{Name: "Brisk Warden", Rules: rules}}, ColumnKind: "unicodeCodePoints", Results: []Result{}}
	for i := range r.Results {
		g := &r.Results[i]
		n := map[prove.State]int{prove.Fails: 0, prove.Open: 1}[g.State]
		if g.State == prove.Proven {
			continue
		}
		result := Result{
			RuleID:       rules[n].ID,
			RuleIndex:    n,
			Level:        rules[n].Default.Level,
			Message:      Message{g.Name + ": " + g.Claim + ". " + g.Why},
			Fingerprints: map[string]string{"finding/v1": rules[n].ID + ":" + g.Name},
		}
		if g.At.IsValid() {
			result.Locations = []Location{{PhysicalLocation{Artifact{uriOf(g.At.File)}, Region{g.At.Line, g.At.Column}}}}
		}
		run.Results = append(run.Results, result)
	}
	return logOf(run)
}
