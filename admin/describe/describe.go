package describe

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Document is a description in sections.
type Document struct {
	Title    string    `json:"title" doc:"what is described"`
	Summary  []string  `json:"summary" doc:"the first thing to know, in sentences"`
	Sections []Section `json:"sections" doc:"the rest, in order"`
	// Statements are the rules of the description, for a program.
	Statements []Statement `json:"statements" doc:"the rules that the description reports"`
}

// Section is a part of a document.
type Section struct {
	Heading string   `json:"heading" doc:"what the section is about"`
	Lines   []string `json:"lines" doc:"what is said of it, in sentences"`
	Entries []Entry  `json:"entries" doc:"policies with their rules"`
}

// Entry is a policy with its rules.
type Entry struct {
	// Lead is "" where the section is about this policy.
	Lead  string   `json:"lead" doc:"the policy, and what stands out of it; empty where the section is about it"`
	Rules []string `json:"rules" doc:"its rules in their order; the first that matches speaks"`
}

// Statement is what one rule says at some apps.
type Statement struct {
	Apps   []string `json:"apps" doc:"the apps at which the rule is asked"`
	Policy string   `json:"policy" doc:"the policy"`
	Rule   string   `json:"rule" doc:"the rule"`
	// Blocked says that the sentence says "blocked".
	Blocked  bool   `json:"blocked" doc:"true where the rule blocks those it speaks for"`
	Sentence string `json:"sentence" doc:"the rule in words"`
}

// describer makes documents of one judge at one moment.
type describer struct {
	judge     *engine.Judge
	directory *engine.Directory
	at        time.Time
	crowd     *engine.Gathering
	policies  []decide.Policy
	// apps and audiences are those of each policy.
	apps      [][]int
	audiences []engine.Audience
}

func newDescriber(judge *engine.Judge, at time.Time) *describer {
	e := judge.Directory()
	d := &describer{judge: judge, directory: e, at: at, crowd: e.Gather(at), policies: judge.Policies()}
	for i := range d.policies {
		d.apps = append(d.apps, judge.Apps(i))
		d.audiences = append(d.audiences, judge.Audience(i, d.crowd))
	}
	return d
}

// appNames returns the names of apps by their numbers, sorted.
func (d *describer) appNames(apps []int) []string {
	var names []string
	for _, app := range apps {
		names = append(names, d.directory.Apps[app].Name)
	}
	return sorted(names)
}

// mostNames is how many names a line lists.
const mostNames = 8

// Grouping is what a description of a whole book goes by.
type Grouping uint8

// The groupings.
const (
	ByPolicy Grouping = iota
	ByApp
	ByGroup
)

var groupings = []string{"policy", "app", "group"}

// Groupings returns the words for the groupings.
func Groupings() []string { return slices.Clone(groupings) }

// UnmarshalText reads policy, app or group.
func (g *Grouping) UnmarshalText(text []byte) error {
	return words.Parse(g, "what a description goes by", string(text), groupings, ByPolicy)
}

// Book describes a whole book as it is at a moment.
func Book(judge *engine.Judge, by Grouping, at time.Time) *Document {
	d := newDescriber(judge, at)
	doc := &Document{Title: "What the book says", Statements: []Statement{}}
	stages := map[decide.Stage]int{}
	for _, p := range d.policies {
		stages[p.Stage]++
	}
	doc.Summary = []string{
		fmt.Sprintf(
			"%s: %d live, %d in shadow, %s; %s and %s.",
			words.Count(len(d.policies), "policy"),
			stages[decide.Live],
			stages[decide.Shadow],
			words.Count(stages[decide.Draft], "draft"),
			words.Count(len(d.directory.Accounts), "account"),
			words.Count(len(d.directory.Apps), "app"),
		),
		"Every policy that applies has its say, and the strictest stands. Where no live policy surely speaks, " + Outcome(
			judge.Otherwise(),
		) + ".",
		"What is not known never helps: a rule that may block does.",
	}
	switch by {
	case ByPolicy:
		for i := range d.policies {
			doc.add(d.policy(i, false))
		}
	case ByApp:
		for app := range d.directory.Apps {
			doc.add(d.app(app))
		}
	case ByGroup:
		d.byGroup(doc)
	}
	doc.add(d.assurances(nil), nil)
	doc.add(d.exemptions(nil), nil)
	doc.add(d.rollouts(nil), nil)
	return doc
}

func (doc *Document) add(s Section, statements []Statement) {
	if len(s.Lines)+len(s.Entries) == 0 {
		return
	}
	if s.Lines == nil {
		s.Lines = []string{}
	}
	if s.Entries == nil {
		s.Entries = []Entry{}
	}
	doc.Sections = append(doc.Sections, s)
	doc.Statements = append(doc.Statements, statements...)
}

// Policy describes one policy. The error suggests the nearest name.
func Policy(judge *engine.Judge, name string, at time.Time) (*Document, error) {
	d := newDescriber(judge, at)
	i := slices.IndexFunc(d.policies, func(p decide.Policy) bool { return p.Name == name })
	if i < 0 {
		var names []string
		for _, p := range d.policies {
			names = append(names, p.Name)
		}
		return nil, fmt.Errorf("the book has no policy %q%s", name, nearest.DidYouMean(name, names))
	}
	doc := &Document{Title: "The policy " + name, Summary: []string{}, Statements: []Statement{}}
	doc.add(d.policy(i, true))
	doc.add(d.assurances([]decide.Policy{d.policies[i]}), nil)
	return doc, nil
}

// policy describes policy number i.
func (d *describer) policy(i int, names bool) (Section, []Statement) {
	p := &d.policies[i]
	s := Section{Heading: p.Name}
	if p.About != "" {
		s.Lines = append(s.Lines, p.About)
	}
	s.Lines = append(s.Lines, fmt.Sprintf("It %s. It is for %s, at %s%s.", stands(p), People(p.Who), Apps(p.Apps), d.reach(i, names)))
	if p.Actions != nil {
		s.Lines = append(s.Lines, "It is asked only where somebody wants to "+actions(p)+".")
	}
	if len(p.Replaces) > 0 {
		s.Lines = append(s.Lines, "Where it surely speaks it silences "+words.List(p.Replaces, "and")+".")
	}
	if p.Firm {
		s.Lines = append(s.Lines, "No other policy can silence it.")
	}
	if p.Owner != "" {
		owner := "It is owned by " + p.Owner
		if p.ReviewBy != nil {
			owner += ", who looks at it again by " + p.ReviewBy.String()
		}
		s.Lines = append(s.Lines, owner+".")
	}
	statements := d.brief(i, "", d.appNames(d.apps[i]), &s)
	return s, statements
}

// reach says how many accounts and apps a policy is for, or names them.
func (d *describer) reach(i int, names bool) string {
	audience, apps := d.audiences[i], d.apps[i]
	_, may := audience.Len()
	if !names {
		return fmt.Sprintf(" (%s, %s)", words.Count(may, "account"), words.Count(len(apps), "app"))
	}
	var who []string
	for n := range audience.All() {
		who = append(who, d.directory.Accounts[n].Name)
	}
	return fmt.Sprintf(". Today these are %s at %s", words.UpTo(mostNames, sorted(who)), words.UpTo(mostNames, d.appNames(apps)))
}

// app describes what is asked at an app.
func (d *describer) app(app int) (Section, []Statement) {
	a := &d.directory.Apps[app]
	s := Section{Heading: a.Name}
	if a.About != "" {
		s.Lines = append(s.Lines, a.About)
	}
	s.Lines = append(s.Lines, d.openTo(app))
	if more := limits(a.Limits); more != "" {
		s.Lines = append(s.Lines, more)
	}
	var statements []Statement
	for i := range d.policies {
		if d.policies[i].Stage == decide.Draft || !slices.Contains(d.apps[i], app) {
			continue
		}
		statements = append(statements, d.brief(i, d.leadFor(i), []string{a.Name}, &s)...)
	}
	if len(statements) == 0 {
		s.Lines = append(s.Lines, "No policy covers it, so "+Outcome(d.judge.Otherwise())+".")
	}
	return s, statements
}

func (d *describer) openTo(app int) string {
	a := &d.directory.Apps[app]
	switch {
	case a.Public:
		return "It is public: nobody needs to prove anything, unless a policy asks."
	case a.OpenTo == nil:
		return "It is open to every account."
	}
	return "It is open to members of " + words.List(a.OpenTo, "or") + ", and to emergency accounts."
}

// leadFor introduces a policy to a reader of something else.
func (d *describer) leadFor(i int) string {
	p := &d.policies[i]
	lead := fmt.Sprintf("%s, for %s", p.Name, People(p.Who))
	if p.Stage != decide.Live || p.From != nil || p.Until != nil {
		lead += ", " + stands(p)
	}
	if p.Actions != nil {
		lead += ", to " + actions(p)
	}
	if len(p.Replaces) > 0 {
		lead += ", silences " + words.List(p.Replaces, "and")
	}
	return lead
}

// brief adds a policy to a section, behind a lead where the section is about
// something else.
func (d *describer) brief(i int, lead string, apps []string, s *Section) []Statement {
	p := &d.policies[i]
	entry := Entry{Lead: lead}
	var statements []Statement
	for k, r := range p.Rules {
		sentence := rule(r, k)
		entry.Rules = append(entry.Rules, r.Name+": "+sentence)
		statements = append(statements, Statement{apps, p.Name, r.Name, r.Then.Blocks(), sentence})
	}
	s.Entries = append(s.Entries, entry)
	return statements
}

// actions names what a policy is for.
func actions(p *decide.Policy) string {
	var names []string
	for _, a := range p.Actions {
		names = append(names, a.String())
	}
	return words.List(names, "or")
}

// byGroup describes what is asked of the members of each group; first what is
// asked of those of all groups.
func (d *describer) byGroup(doc *Document) {
	members := make([]engine.Audience, len(d.directory.Groups))
	for group := range members {
		members[group] = d.crowd.InGroup(group).Surely()
	}
	common := Section{Heading: "Every group"}
	var statements []Statement
	ofAll := make([]bool, len(d.policies))
	for i := range d.policies {
		ofAll[i] = d.policies[i].Stage != decide.Draft &&
			!slices.ContainsFunc(members, func(m engine.Audience) bool { return !d.audiences[i].Covers(m) })
		if ofAll[i] {
			statements = append(statements, d.briefAt(i, &common)...)
		}
	}
	doc.add(common, statements)
	for group := range d.directory.Groups {
		doc.add(d.group(group, members[group], ofAll))
	}
}

// briefAt adds a policy to a section with the apps that it is aimed at.
func (d *describer) briefAt(i int, s *Section) []Statement {
	apps := d.appNames(d.apps[i])
	return d.brief(i, d.leadFor(i)+", at "+Apps(d.policies[i].Apps), apps, s)
}

// group describes what is asked of the members of a group beside what is asked
// of all.
func (d *describer) group(group int, members engine.Audience, ofAll []bool) (Section, []Statement) {
	g := &d.directory.Groups[group]
	s := Section{Heading: g.Name}
	if g.About != "" {
		s.Lines = append(s.Lines, g.About)
	}
	var names []string
	for n := range members.All() {
		names = append(names, d.directory.Accounts[n].Name)
	}
	if len(names) == 0 {
		s.Lines = append(s.Lines, "It has no members.")
		return s, nil
	}
	s.Lines = append(s.Lines, fmt.Sprintf("It has %s: %s.", words.Count(len(names), "member"), words.UpTo(mostNames, sorted(names))))
	var statements []Statement
	var ofSome []string
	for i := range d.policies {
		switch {
		case ofAll[i] || d.policies[i].Stage == decide.Draft || !d.audiences[i].Meets(members):
		case d.audiences[i].Covers(members):
			statements = append(statements, d.briefAt(i, &s)...)
		default:
			ofSome = append(ofSome, d.policies[i].Name)
		}
	}
	if len(ofSome) > 0 {
		s.Lines = append(s.Lines, "Some of its members are also asked, or may be, by "+words.UpTo(mostNames, ofSome)+".")
	}
	return s, statements
}

// assurances describes those that the policies ask for and those that are named
// beside, or all where policies is nil.
func (d *describer) assurances(policies []decide.Policy, beside ...string) Section {
	asked := map[string]bool{}
	for _, name := range beside {
		asked[name] = true
	}
	for _, p := range policies {
		for _, r := range p.Rules {
			for _, q := range r.Then.Require {
				for _, name := range q.OneOf {
					asked[name] = true
				}
			}
		}
	}
	s := Section{Heading: "What the assurances ask for"}
	for i := range d.judge.Assurances() {
		if a := &d.judge.Assurances()[i]; policies == nil || asked[a.Name] {
			s.Lines = append(s.Lines, a.Name+": "+Assurance(d.judge, a)+".")
		}
	}
	return s
}

// exemptions describes those that are for an account, or all where it is nil.
func (d *describer) exemptions(account *int) Section {
	s := Section{Heading: "Exemptions"}
	for _, x := range d.judge.Exemptions() {
		if account != nil && d.crowd.Of(x.Who).Holds(*account) == condition.False {
			continue
		}
		text := fmt.Sprintf("%s: %s need not meet %s", x.Name, People(x.Who), words.List(x.From, "or"))
		if len(x.Instead) > 0 {
			text += ", but " + words.List(x.Instead, "and") + " instead"
		}
		if x.When != nil {
			text += ", where " + When(x.When)
		}
		s.Lines = append(s.Lines, fmt.Sprintf("%s, %s. %s", text, day(x.Until), x.Because))
	}
	return s
}

// rollouts describes those that are for an account, or all where it is nil.
func (d *describer) rollouts(account *int) Section {
	s := Section{Heading: "Rollouts"}
	for _, r := range d.judge.Rollouts() {
		if account != nil && d.crowd.Of(r.Who).Holds(*account) == condition.False {
			continue
		}
		text := fmt.Sprintf(
			"%s: %s enrol %s; until %s begins they are let in without %s where they have nothing to meet it with",
			r.Name,
			People(r.Who),
			words.List(r.Methods, "or"),
			r.Enforced,
			words.List(r.Eases, "and"),
		)
		if r.Newcomers > 0 {
			text += ", and anyone who joins for " + r.Newcomers.Words() + " after joining"
		}
		if r.Grace > 0 {
			text += ", and anyone who is asked late for " + r.Grace.Words() + " after being asked"
		}
		s.Lines = append(s.Lines, text+".")
	}
	return s
}

// Account describes what is asked of an account, and where. The error suggests
// the nearest names.
func Account(judge *engine.Judge, name string, at time.Time) (*Document, error) {
	d := newDescriber(judge, at)
	n, ok := d.directory.FindAccount(name)
	if !ok {
		hint := ""
		if near := d.directory.NearestAccounts(name, 3); len(near) > 0 {
			hint = "; did you mean " + words.List(near, "or") + "?"
		}
		return nil, fmt.Errorf("the book has no account %q%s", name, hint)
	}
	a := &d.directory.Accounts[n]
	doc := &Document{Title: "What is asked of " + name, Statements: []Statement{}}
	groups := "in no group"
	if in := d.directory.ProfileAt(n, d.at).Groups(); len(in) > 0 {
		groups = "in " + words.List(in, "and")
	}
	doc.Summary = append(doc.Summary, fmt.Sprintf(
		"%s is %s, %s, with %s enrolled.",
		name,
		map[directory.Kind]string{directory.Person: "a person", directory.Service: "a service account",
			directory.Emergency: "an emergency account"}[d.directory.ProfileAt(n, d.at).Kind()],
		groups,
		words.List(a.Methods, "and"),
	))
	if a.RiskAt(at) != directory.NoRisk {
		doc.Summary = append(doc.Summary, fmt.Sprintf("The standing risk of the account is %s.", a.RiskAt(at)))
	}
	if barred := judge.MethodNames(d.directory.ProfileAt(n, d.at).Barred()); len(barred) > 0 {
		doc.Summary = append(doc.Summary, words.List(barred, "and")+" is barred for it and counts for nothing.")
	}
	if a.Disabled {
		doc.Summary = append(doc.Summary, "The account is disabled: it is blocked at every app, whatever the policies say.")
		return doc, nil
	}
	doc.Summary = append(doc.Summary, "Where several policies have their say, all of it must be met, and a block stands.")
	asking := d.accountApps(n, doc)
	var instead []string
	for _, x := range d.judge.Exemptions() {
		if d.crowd.Of(x.Who).Holds(n) != condition.False {
			instead = append(instead, x.Instead...)
		}
	}
	doc.add(d.assurances(asking, instead...), nil)
	doc.add(d.exemptions(&n), nil)
	doc.add(d.rollouts(&n), nil)
	return doc, nil
}

// accountApps adds a section for each set of apps at which the same policies are
// for the account, and returns those policies.
func (d *describer) accountApps(n int, doc *Document) []decide.Policy {
	only := d.crowd.Only(n)
	var isFor []int
	for i := range d.policies {
		p := &d.policies[i]
		inForce := p.Stage == decide.Live || p.Stage == decide.Shadow && p.LiveFor != nil && d.crowd.Of(p.LiveFor).Meets(only)
		if inForce && d.audiences[i].Meets(only) &&
			(p.Until == nil || d.judge.InForceAt(i, d.at) || p.From != nil && p.From.Start(d.directory.Zone).After(d.at)) {
			isFor = append(isFor, i)
		}
	}
	byPolicies := map[string][]int{}
	var order []string
	var shut []string
	for app := range d.directory.Apps {
		if d.directory.ProfileAt(n, d.at).Kind() != directory.Emergency && !d.directory.IsOpenTo(app, d.directory.ProfileAt(n, d.at)) {
			shut = append(shut, d.directory.Apps[app].Name)
			continue
		}
		key := ""
		for _, i := range isFor {
			if slices.Contains(d.apps[i], app) {
				key += fmt.Sprintf("%d ", i)
			}
		}
		if byPolicies[key] == nil {
			order = append(order, key)
		}
		byPolicies[key] = append(byPolicies[key], app)
	}
	asking := []decide.Policy{}
	told := map[int]bool{}
	for _, key := range order {
		names := d.appNames(byPolicies[key])
		s := Section{Heading: "At " + words.List(names, "and")}
		var statements []Statement
		for _, i := range isFor {
			if slices.Contains(d.apps[i], byPolicies[key][0]) {
				statements = append(statements, d.brief(i, d.leadForAccount(i, n), names, &s)...)
				if told[i] {
					s.Entries[len(s.Entries)-1] = Entry{Lead: d.policies[i].Name + ", as above", Rules: []string{}}
					continue
				}
				told[i] = true
				asking = append(asking, d.policies[i])
			}
		}
		if key == "" {
			s.Lines = append(s.Lines, "No policy is for the account here, so "+Outcome(d.judge.Otherwise())+".")
		}
		doc.add(s, statements)
	}
	if len(shut) > 0 {
		doc.add(
			Section{
				Heading: "Not open to it",
				Lines: []string{
					words.List(sorted(shut), "and") + ": the account is in none of the groups that these are given to, so it is blocked.",
				},
			},
			nil,
		)
	}
	return asking
}

// leadForAccount introduces a policy to whom it is asked of.
func (d *describer) leadForAccount(i, n int) string {
	p := &d.policies[i]
	lead := p.Name
	if p.Stage == decide.Shadow {
		lead += " (a shadow, in force for this account)"
	}
	if d.audiences[i].Holds(n) == condition.Unknown {
		lead += " (perhaps: it is for " + People(p.Who) + ")"
	}
	if p.From != nil || p.Until != nil {
		lead += " (" + strings.TrimPrefix(stands(p), "is ") + ")"
	}
	if p.Actions != nil {
		lead += " (to " + actions(p) + ")"
	}
	if len(p.Replaces) > 0 {
		lead += " (silences " + words.List(p.Replaces, "and") + ")"
	}
	return lead
}
