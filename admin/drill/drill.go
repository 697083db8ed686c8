// Package drill runs a book's own tests: attempts and requests for consent, each
// with the decision that is expected of it.
package drill

import (
	"context"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// Report is what came of the drills.
type Report struct {
	Results  []Result `json:"results" doc:"each drill, those that failed first"`
	Coverage Coverage `json:"coverage" doc:"which rules the drills reach"`
	// Mutations is nil where the book was not changed on trial.
	Mutations *Mutations `json:"mutations,omitempty" doc:"what became of changing each rule on trial, where asked for"`
}

// Failed counts the drills that failed.
func (r *Report) Failed() int {
	n := 0
	for i := range r.Results {
		if !r.Results[i].Passed {
			n++
		}
	}
	return n
}

// Result is what came of one drill.
type Result struct {
	Name   string             `json:"name" doc:"the drill"`
	About  string             `json:"about,omitzero" doc:"what it is to make sure of"`
	At     condition.Position `json:"at" doc:"where it stands in the book"`
	Passed bool               `json:"passed" doc:"true where the decision was as expected"`
	Wanted string             `json:"wanted" doc:"what was expected"`
	Got    string             `json:"got" doc:"what was decided"`
	// Why are the causes of the decision, in sentences.
	Why []string `json:"why" doc:"the causes of the decision"`
}

// Coverage reports which rules the drills reach.
type Coverage struct {
	Rules   int `json:"rules" doc:"how many rules there are, drafts left out"`
	Reached int `json:"reached" doc:"how many spoke, or may have, in some drill"`
	// Unreached names the others as policy/rule, and consent/rule.
	Unreached []string `json:"unreached" doc:"the rules that no drill reached, as policy/rule, and consent/rule"`
}

// outcome is what a drill came to.
type outcome struct {
	decided, withShadow string
	by, reached, why    []string
	// unlisted is what it names and the book does not have.
	unlisted []string
}

// run decides one drill.
func run(judge *engine.Judge, consents *consent.Judge, d *book.Drill) outcome {
	if d.Attempt != nil {
		decision := judge.Decide(context.Background(), d.Attempt)
		o := outcome{decided: decision.Verdict.String(), withShadow: decision.WithShadow.Verdict.String(),
			unlisted: Unlisted(judge, d.Attempt, decision)}
		for _, c := range decision.Causes {
			o.why = append(o.why, c.Text)
			if c.Policy != "" {
				o.by = append(o.by, c.Policy+"/"+c.Rule)
			}
		}
		for _, p := range decision.Policies {
			for _, rule := range append(p.Rules, p.Rule) {
				if rule != "" && p.Applies != condition.False {
					o.reached = append(o.reached, p.Name+"/"+rule)
				}
			}
		}
		return o
	}
	decision, err := consents.Decide(context.Background(), d.Request, consent.Known{})
	if err != nil {
		return outcome{decided: "error", why: []string{err.Error()}} // Check has refused it before
	}
	o := outcome{decided: decision.Outcome.String(), unlisted: unlistedRequest(judge, consents, d.Request, decision)}
	for _, c := range decision.Causes {
		o.why = append(o.why, c.Text)
		o.by = append(o.by, c.Rule)
	}
	for _, s := range decision.Scopes {
		for _, rule := range append(s.Rules, s.Rule) {
			if rule != "" {
				o.reached = append(o.reached, "consent/"+rule)
			}
		}
	}
	return o
}

// misnames says why the names in a drill keep it from passing, nothing where they do not.
func misnames(d *book.Drill, o outcome) []string {
	switch {
	case d.Unlisted && len(o.unlisted) == 0:
		return []string{"It says `unlisted: true`, and the book has all that it names."}
	case !d.Unlisted && len(o.unlisted) > 0:
		return append(o.unlisted, "Where that is meant, the drill says `unlisted: true`.")
	}
	return nil
}

// passes reports whether an outcome is the one expected.
func passes(d *book.Drill, o outcome) bool {
	return misnames(d, o) == nil && o.decided == d.Expect &&
		(d.WithShadow == "" || o.withShadow == d.WithShadow) && (d.By == "" || slices.Contains(o.by, d.By))
}

// words says what was expected, and what was got, as far as it was asked for.
func words(d *book.Drill, o outcome) (wanted, got string) {
	wanted, got = d.Expect, o.decided
	if d.By != "" {
		wanted += " by " + d.By
		got += " by " + strings.Join(slices.DeleteFunc(slices.Clone(o.by), func(s string) bool { return s == "" }), ", ")
	}
	if d.WithShadow != "" {
		wanted += ", with shadows " + d.WithShadow
		got += ", with shadows " + o.withShadow
	}
	return wanted, strings.TrimSuffix(got, " by ")
}

// Run runs drills by the judges of one book.
func Run(judge *engine.Judge, consents *consent.Judge, drills []book.Drill) *Report {
	r := &Report{Results: []Result{}, Coverage: Coverage{Unreached: []string{}}}
	reached := map[string]bool{}
	for i := range drills {
		d := &drills[i]
		o := run(judge, consents, d)
		for _, rule := range o.reached {
			reached[rule] = true
		}
		result := Result{Name: d.Name, About: d.About, At: d.At, Passed: passes(d, o), Why: append(misnames(d, o), o.why...)}
		result.Wanted, result.Got = words(d, o)
		r.Results = append(r.Results, result)
	}
	slices.SortStableFunc(r.Results, func(a, b Result) int {
		switch {
		case a.Passed == b.Passed:
			return 0
		case b.Passed:
			return -1
		}
		return 1
	})
	count := func(name string) {
		r.Coverage.Rules++
		if reached[name] {
			r.Coverage.Reached++
		} else {
			r.Coverage.Unreached = append(r.Coverage.Unreached, name)
		}
	}
	for _, p := range judge.Policies() {
		if p.Stage != decide.Draft {
			for _, rule := range p.Rules {
				count(p.Name + "/" + rule.Name)
			}
		}
	}
	for _, rule := range consents.Scheme().Rules {
		count("consent/" + rule.Name)
	}
	return r
}
