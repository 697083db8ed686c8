// Package inspect looks a book over before anybody is judged by it: whether
// somebody can always get back in, whether each policy reaches those it is
// meant for, whether an exception was forgotten elsewhere, and so on.
//
// A [Check] is a value with a name, a reason and a way out. What it finds is a
// [Finding], which the book can accept for a time. Inspecting computes and does
// nothing else; the moment for which it is done is given.
package inspect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Severity says how bad a finding is, in the words of SARIF 2.1.0 §3.27.10.
type Severity uint8

// The severities, from mild to bad.
const (
	// Note is advice.
	Note Severity = iota
	// Warning is likely to do what nobody wanted.
	Warning
	// Error locks somebody out, lets somebody in, or has no effect at all.
	Error
)

var severities = []string{"note", "warning", "error"}

// Severities returns the words for the severities.
func Severities() []string { return slices.Clone(severities) }

// String returns note, warning or error.
func (s Severity) String() string { return words.Of(s, severities, 0) }

// MarshalText writes String.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads note, warning or error.
func (s *Severity) UnmarshalText(text []byte) error {
	return words.Parse(s, "a severity", string(text), severities, Note)
}

// points is what a check is worth in the score.
func (s Severity) points() int { return [...]int{Note: 2, Warning: 5, Error: 10}[s] }

// Check is one thing to look for.
type Check struct {
	Name     string   `json:"name" doc:"name of the check"`
	Topic    string   `json:"topic" doc:"what the check is about"`
	Severity Severity `json:"severity" doc:"how bad its findings are"`
	// Title says in a few words what is wrong where it finds something.
	Title  string `json:"title" doc:"what is wrong where it finds something"`
	Why    string `json:"why" doc:"why that matters"`
	WayOut string `json:"way_out" doc:"what to do about it"`
	// Run looks the book over and reports what it finds.
	Run func(*Pass) `json:"-"`
}

// Finding is something that a check found.
type Finding struct {
	// Name is the name of the check and what it found something about. It is what
	// `accepted` names.
	Name     string             `json:"name" doc:"the finding's name, by which the book can accept it"`
	Check    string             `json:"check" doc:"name of the check"`
	Severity Severity           `json:"severity" doc:"how bad it is"`
	At       condition.Position `json:"at" doc:"where it stands in the book"`
	Text     string             `json:"text" doc:"what was found"`
	WayOut   string             `json:"way_out" doc:"what to do about it"`
	// Paste is a piece of YAML that makes the finding go away; nil where only the author
	// knows what is right.
	Paste *Paste `json:"paste,omitempty" doc:"a piece of YAML that makes the finding go away; absent where there is none"`
	// Accepted is nil for a finding that is open.
	Accepted *Accepted `json:"accepted,omitempty" doc:"why it is lived with; absent where the finding is open"`
}

// Paste is a piece of YAML to paste into a book.
type Paste struct {
	// Into names the definition that gets the line, such as "policy till", or "settings". It
	// stands in the place of what the definition says under that key. "" is a file of its own
	// in the book's folder.
	Into string `json:"into,omitzero" doc:"the definition that gets the line, such as policy till; absent for a file of its own"`
	YAML string `json:"yaml" doc:"what to paste"`
}

// Accepted says why a finding is lived with.
type Accepted struct {
	Because    string         `json:"because" doc:"the reason"`
	ApprovedBy string         `json:"approved_by,omitzero" doc:"who approved it"`
	Until      directory.Date `json:"until" doc:"last day on which it is accepted"`
}

// Score says how much of what can be reached a book reaches. A check that finds
// nothing, or nothing that is not accepted, reaches its points: 10 for an
// error, 5 for a warning, 2 for a note.
type Score struct {
	Reached  int `json:"reached" doc:"points reached"`
	Possible int `json:"possible" doc:"points possible"`
	// Open are the checks that cost points, those that bring most first.
	Open []OpenItem `json:"open" doc:"the checks with open findings, those that bring most first"`
}

// OpenItem is a check with open findings.
type OpenItem struct {
	Check    string `json:"check" doc:"name of the check"`
	Worth    int    `json:"worth" doc:"points that its last finding brings when it is gone"`
	Findings int    `json:"findings" doc:"how many of its findings are open"`
}

// Import is how old an import is.
type Import struct {
	Name     string        `json:"name" doc:"name of the import"`
	File     string        `json:"file" doc:"the file"`
	TakenAt  time.Time     `json:"taken_at,omitzero" doc:"when the file was made, as far as is known"`
	Days     int           `json:"days" doc:"whole days since then"`
	Accounts int           `json:"accounts" doc:"how many accounts came of it"`
	Groups   int           `json:"groups" doc:"how many groups it names"`
	Skipped  []SkippedLine `json:"skipped" doc:"what was left out"`
}

// SkippedLine is a line of an import that was left out.
type SkippedLine struct {
	Line int    `json:"line" doc:"line of the file, counted from 1"`
	Text string `json:"text" doc:"what was left out, and why"`
}

// Report is what an inspection found.
type Report struct {
	// Findings are the open ones, the worst first; Accepted those that the book
	// accepts.
	Findings []Finding `json:"findings" doc:"the open findings, the worst first"`
	Accepted []Finding `json:"accepted" doc:"the findings that the book accepts for a time"`
	Score    Score     `json:"score" doc:"what the book reaches of what can be reached"`
	Imports  []Import  `json:"imports" doc:"how old the imports are"`
	// NotRead are the files and folders that stand beside the book's and say nothing.
	NotRead []book.NotRead `json:"not_read" doc:"what stands in the book's folder and was not read"`
	// Since is nil where nothing was compared.
	Since *Movement `json:"since,omitempty" doc:"how the score moved against an older book"`
}

// Movement is how the score moved against an older book.
type Movement struct {
	Reached  int `json:"reached" doc:"points that the older book reaches"`
	Possible int `json:"possible" doc:"points possible then"`
	// New and Gone name findings that are open in one of the books only.
	New  []string `json:"new" doc:"findings that the older book does not have"`
	Gone []string `json:"gone" doc:"findings of the older book that are gone"`
}

// Open counts the open findings that are at least so bad.
func (r *Report) Open(least Severity) int {
	n := 0
	for _, f := range r.Findings {
		if f.Severity >= least {
			n++
		}
	}
	return n
}

// Checks returns all checks, by topic.
func Checks() []Check {
	return slices.Concat(
		accessChecks,
		aimChecks,
		wordChecks,
		machineChecks,
		orderChecks,
		exemptionChecks,
		placeChecks,
		timeChecks,
		factorChecks,
		placeholderChecks,
		riskChecks,
		consentChecks,
		watchChecks,
		upkeepChecks,
	)
}

// Pass is a book under inspection, as checks see it: those of this package and a program's own alike. A check must not change
// what it is given. Numbers of accounts, groups, apps and policies are those of the Judge.
type Pass struct {
	// Context ends the inspection. A check that takes long stops when it ends; what it found until then is dropped.
	Context context.Context
	// Book is what the files say, and Judge decides by them. At is the moment of the inspection.
	Book  *book.Book
	Judge *engine.Judge
	At    time.Time
	// Consent decides on outside programs. Usage is how they are used, by name, where Options told it.
	Consent *consent.Judge
	Usage   map[string]consent.Usage
	// Directory is what the judge decides on, with names found fast.
	Directory *engine.Directory
	// Accounts tells for which of the listed accounts a bound condition holds, at the moment of the inspection.
	Accounts *engine.Gathering
	// Administrators are those that settings.administrators names, nobody where it is left out.
	Administrators engine.Audience
	// Policies are all policies in order of name, drafts among them; Live returns those that count.
	Policies []Policy
	// Ordinary is an attempt with nothing odd about it, which a check copies and changes: it lacks the account and the app.
	Ordinary attempt.Attempt

	today directory.Date
	// ahead is all that can come about, nil until a check asks for it.
	ahead *ahead
	// silent is what of each policy never comes about, nil until a check asks for it.
	silent []silence
	// stranger is the address of one who belongs nowhere, and hours are those of the coming week that windows tell apart.
	stranger attempt.Fact[netip.Addr]
	hours    []int
	checks   []Check
	check    *Check
	found    []Finding
	names    map[string]bool
}

// Policy is a policy with those it is about.
type Policy struct {
	// Policy is what the book says, its conditions bound.
	decide.Policy
	// Number is its place in the judge's list.
	Number int
	// Audience are the accounts that it is for, and AimedAt the numbers of the apps that it is aimed at.
	Audience engine.Audience
	AimedAt  []int
	// aimed has a bit for each of the apps.
	aimed []uint64
	// always are the assurances that each rule that does not block asks for.
	always []string
	// replaced says that a policy that is no draft replaces it.
	replaced bool
}

// active reports whether the policy is evaluated at all.
func (s *Policy) active() bool { return s.Stage != decide.Draft }

// Options are what is known beside the book, and what is looked for.
type Options struct {
	// Checks are those that are made; nil is all of Checks().
	Checks []Check
	// Usage is how clients are used, by name, as the acts on consent have it.
	Usage map[string]consent.Usage
}

// Inspect looks over a book at a moment. The error is that of compiling it, or that of a context that ended before all
// checks were made.
func Inspect(ctx context.Context, b *book.Book, at time.Time) (*Report, error) {
	return InspectWith(ctx, b, at, Options{})
}

// InspectWith is Inspect with what is known beside the book, and with a chosen set of
// checks: fewer than there are, or some of one's own beside them. The error is also
// one for a check that has no name of its own, or nothing to run.
func InspectWith(ctx context.Context, b *book.Book, at time.Time, o Options) (*Report, error) {
	checks := o.Checks
	switch {
	case checks == nil:
		checks = Checks()
	case len(checks) == 0:
		return nil, errors.New("there is no check to run; leave them out for all")
	}
	named := map[string]bool{}
	for _, c := range checks {
		switch {
		case directory.CheckName(c.Name) != nil || named[c.Name]:
			return nil, fmt.Errorf("a check needs a name of its own, not %q", c.Name)
		case c.Run == nil:
			return nil, fmt.Errorf("the check %s has nothing to run", c.Name)
		case c.Severity > Error:
			return nil, fmt.Errorf("the check %s has no severity that there is", c.Name)
		}
		named[c.Name] = true
	}
	judge, consents, err := b.CompileBoth()
	if err != nil {
		return nil, err
	}
	e := judge.Directory()
	in := &Pass{
		Context:   ctx,
		Book:      b,
		Judge:     judge,
		Consent:   consents,
		Usage:     o.Usage,
		Directory: e,
		At:        at,
		today:     directory.DateOf(at.In(e.Zone)),
		Accounts:  e.Gather(at),
		names:     map[string]bool{},
	}
	in.Administrators = in.Accounts.Nobody()
	if b.Settings.Administrators != nil {
		bound, err := condition.Bind(b.Settings.Administrators, e.Vocabulary("administrators"))
		if err != nil {
			return nil, fmt.Errorf("administrators: %w", err)
		}
		in.Administrators = in.Accounts.Of(bound)
	}
	in.gatherPolicies()
	in.prepareAttempts()
	in.checks = checks
	for i := range in.checks {
		in.check = &in.checks[i]
		in.check.Run(in)
		if err := ctx.Err(); err != nil {
			return nil, fmt.Errorf("not all checks were made: %w", err)
		}
	}
	return in.report(), nil
}

func (in *Pass) gatherPolicies() {
	for i, p := range in.Judge.Policies() {
		s := Policy{
			Policy:   p,
			Number:   i,
			Audience: in.Judge.Audience(i, in.Accounts),
			AimedAt:  in.Judge.Apps(i),
			aimed:    make([]uint64, (len(in.Directory.Apps)+63)/64),
		}
		for _, app := range s.AimedAt {
			s.aimed[app/64] |= 1 << (app % 64)
		}
		s.always = alwaysAsked(p)
		in.Policies = append(in.Policies, s)
	}
	replaced := map[string]bool{}
	for i := range in.Policies {
		if s := &in.Policies[i]; s.active() {
			for _, name := range s.Replaces {
				replaced[name] = true
			}
		}
	}
	for i := range in.Policies {
		s := &in.Policies[i]
		s.replaced = replaced[s.Name]
	}
}

// alwaysAsked returns the assurances that each rule that does not block asks for.
func alwaysAsked(p decide.Policy) []string {
	var always []string
	first := true
	for _, r := range p.Rules {
		if r.Then.Blocks() {
			continue
		}
		asks := singly(r.Then)
		if first {
			always, first = asks, false
			continue
		}
		always = slices.DeleteFunc(always, func(name string) bool { return !slices.Contains(asks, name) })
	}
	return always
}

// singly returns the assurances that an outcome asks for without a choice.
func singly(o decide.Outcome) []string {
	var names []string
	for _, r := range o.Require {
		if len(r.OneOf) == 1 {
			names = append(names, r.OneOf[0])
		}
	}
	return names
}

// sharesApps reports whether two policies are aimed at a common app.
func (s *Policy) sharesApps(t *Policy) bool {
	for i := range s.aimed {
		if s.aimed[i]&t.aimed[i] != 0 {
			return true
		}
	}
	return false
}

// appsWithin reports whether each app of the policy is one of the other's too.
func (s *Policy) appsWithin(t *Policy) bool {
	for i := range s.aimed {
		if s.aimed[i]&^t.aimed[i] != 0 {
			return false
		}
	}
	return true
}

// Live returns the policies that count: live ones within their dates.
func (in *Pass) Live() []*Policy {
	var live []*Policy
	for i := range in.Policies {
		if s := &in.Policies[i]; s.Stage == decide.Live && in.Judge.InForceAt(s.Number, in.At) {
			live = append(live, s)
		}
	}
	return live
}

// Report reports a finding. About names what was found something about, such as the
// name of a policy: it becomes part of the finding's name, by which the book can
// accept it, and a second report about the same is left out. At is where it stands,
// which Book.Where tells.
func (in *Pass) Report(about string, at condition.Position, format string, args ...any) {
	in.ReportWith(nil, about, at, format, args...)
}

// ReportWith is Report with a piece of YAML that makes the finding go away; nil is none.
func (in *Pass) ReportWith(paste *Paste, about string, at condition.Position, format string, args ...any) {
	name := in.check.Name + ":" + about
	if in.names[name] {
		return
	}
	in.names[name] = true
	in.found = append(in.found, Finding{Name: name, Check: in.check.Name, Severity: in.check.Severity, At: at,
		Text: fmt.Sprintf(format, args...), WayOut: in.check.WayOut, Paste: paste})
}

// where returns the place of a definition.
func (in *Pass) where(what, name string) condition.Position { return in.Book.Where(what, name) }

func (in *Pass) report() *Report {
	r := &Report{Findings: []Finding{}, Accepted: []Finding{}, Score: Score{Open: []OpenItem{}}, Imports: in.imports(),
		NotRead: append([]book.NotRead{}, in.Book.NotRead...)}
	accepted := map[string]book.Acceptance{}
	for _, a := range in.Book.Accepted {
		accepted[a.Name] = a
	}
	open := map[string]int{}
	for _, f := range in.found {
		a, is := accepted[f.Name]
		switch {
		case is && !a.Until.Before(in.today):
			f.Accepted = &Accepted{a.Because, a.ApprovedBy, *a.Until}
			r.Accepted = append(r.Accepted, f)
			continue
		case is:
			f.Text += fmt.Sprintf(" It was accepted until %s.", a.Until)
		}
		open[f.Check]++
		r.Findings = append(r.Findings, f)
	}
	for _, list := range [][]Finding{r.Findings, r.Accepted} {
		slices.SortStableFunc(list, func(a, b Finding) int {
			return cmp.Or(cmp.Compare(b.Severity, a.Severity), a.At.Compare(b.At), strings.Compare(a.Name, b.Name))
		})
	}
	for _, c := range in.checks {
		r.Score.Possible += c.Severity.points()
		if open[c.Name] == 0 {
			r.Score.Reached += c.Severity.points()
		} else {
			r.Score.Open = append(r.Score.Open, OpenItem{c.Name, c.Severity.points(), open[c.Name]})
		}
	}
	slices.SortStableFunc(r.Score.Open, func(a, b OpenItem) int {
		return cmp.Or(cmp.Compare(b.Worth, a.Worth), cmp.Compare(a.Findings, b.Findings), strings.Compare(a.Check, b.Check))
	})
	return r
}

// Against tells how the score moved since an older report.
func (r *Report) Against(older *Report) {
	m := &Movement{Reached: older.Score.Reached, Possible: older.Score.Possible, New: []string{}, Gone: []string{}}
	has := func(list []Finding, name string) bool {
		return slices.ContainsFunc(list, func(f Finding) bool { return f.Name == name })
	}
	for _, f := range r.Findings {
		if !has(older.Findings, f.Name) {
			m.New = append(m.New, f.Name)
		}
	}
	for _, f := range older.Findings {
		if !has(r.Findings, f.Name) {
			m.Gone = append(m.Gone, f.Name)
		}
	}
	r.Since = m
}

func (in *Pass) imports() []Import {
	imports := []Import{}
	for _, i := range in.Book.Imported {
		told := Import{
			Name:     i.Name,
			File:     i.File,
			TakenAt:  i.TakenAt,
			Days:     in.daysSince(i.TakenAt),
			Accounts: i.Accounts,
			Groups:   i.Groups,
			Skipped:  []SkippedLine{},
		}
		for _, s := range i.Skipped {
			told.Skipped = append(told.Skipped, SkippedLine{s.Line, s.Text})
		}
		imports = append(imports, told)
	}
	return imports
}

// daysSince returns how many whole days have passed, none for the zero time.
func (in *Pass) daysSince(t time.Time) int {
	if t.IsZero() || t.After(in.At) {
		return 0
	}
	return int(in.At.Sub(t) / (24 * time.Hour))
}

// daysBetween returns how many days lie between two dates.
func daysBetween(from, to directory.Date) int {
	return int(to.Start(time.UTC).Sub(from.Start(time.UTC)) / (24 * time.Hour))
}

// mostNames is how many names a finding lists.
const mostNames = 3

// accountNames names the accounts of an audience.
func (in *Pass) accountNames(a engine.Audience) string {
	var names []string
	for n := range a.All() {
		names = append(names, in.Directory.Accounts[n].Name)
	}
	return words.UpTo(mostNames, names)
}

// appNames names apps by number.
func (in *Pass) appNames(apps []int) string {
	var names []string
	for _, n := range apps {
		names = append(names, in.Directory.Apps[n].Name)
	}
	return words.UpTo(mostNames, names)
}
