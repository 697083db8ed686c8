package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
)

// Judge decides attempts by one rulebook. It does not change and is safe for
// concurrent use.
type Judge struct {
	// book is what was compiled.
	book      decide.Rulebook
	directory *Directory
	digest    string
	// fingerprint is the digest of what was compiled.
	fingerprint string
	locator     directory.Locator
	accounts    directory.Accounts
	devices     directory.Devices
	reports     decide.Reports
	// asking says that tests are answered by the one who asks the judge, where the context is an Asker.
	asking bool
	// postureTests ask of each posture whether the device passes it, where the judge is asking.
	postureTests []*condition.Test
	model        *riskModel
	// policies are in order of name, so that no other order can matter.
	policies []policy
	// blank is what every trace begins as: the names and stages of the policies.
	blank     []decide.PolicyTrace
	otherwise *outcome
	// outcomes are all outcomes, each once.
	outcomes []*outcome
	// demands are all demands, each once; assurances refer to them by number.
	demands         []demand
	methodWords     []string   // of each demand for methods, what an open one is in words
	methodNames     [][]string // and the names of the methods
	assurances      []assurance
	classed         []int32 // assurances that have a class, for tokens
	assuranceNumber map[string]int32
	exemptions      []exemption
	rollouts        []rollout
	index           index
	deskPass        int
	// password is the set of the method of that name alone, and outOfBand those that reach
	// out to a phone.
	password, outOfBand MethodSet
	// methodOrder are the numbers of the methods in order of name.
	methodOrder []int
	// openers are the methods that anybody may be offered before any proof.
	openers []string
	pool    sync.Pool
	// replaces says that some policy replaces another.
	replaces bool
	// timely are the tests in signals, exemptions and rollouts that depend on the time.
	timely []*condition.Test
}

// policy is a Policy made ready. What each verdict looks at comes first and lies
// close together.
type policy struct {
	// What each verdict looks at comes first, so that it stands in the same lines of the
	// processor's caches.
	stage decide.Stage
	// replaced says that some policy replaces it, so that it may have no effect.
	replaced bool
	// forAnyone says that `who` is anyone, which need not be asked.
	forAnyone bool
	// bounded says that it is for some actions or for a time only.
	bounded bool
	// namesEmergencies says that `who` names emergency accounts as a kind, and
	// named lists the accounts that it names, both outside any not and except.
	namesEmergencies bool
	// asks is `who` laid out for evaluation, asksLive `live_for` and asksApps `apps`.
	asks               condition.Conjunction
	rules              []rule
	replaces           []int32
	asksLive, asksApps condition.Conjunction
	named              []int32
	who, apps, liveFor condition.Node
	// timely are the tests in who and live_for that depend on the time, and
	// timelyRules those in its rules.
	timely, timelyRules []*condition.Test
	// from and until bound the time in which it is in force, until not included;
	// zero does not limit.
	from, until time.Time
	*decide.Policy
}

type rule struct {
	// blocks is whether its outcome is a block.
	blocks bool
	then   *outcome
	// limits is nil where the rule sets none.
	limits *limits
	// asks is the condition laid out for evaluation.
	asks condition.Conjunction
	when condition.Node
	// title is what a cause calls it, and lead what its reasons begin with.
	title, lead string
}

// outcome is an Outcome made ready. Rules of the same outcome share one, so that
// it is weighed once for them all.
type outcome struct {
	number   int32
	block    bool
	requires []requirement
}

// requirement asks for one of some assurances, by number.
type requirement struct{ ways []int32 }

// assurance is an Assurance made ready.
type assurance struct {
	name, acr string
	demands   []int32
	// exemptions and rollouts are those that excuse from it or ease it.
	exemptions, rollouts []int32
}

type exemption struct {
	decide.Exemption
	who, when     condition.Node
	from, instead []int32
	until         time.Time
}

type rollout struct {
	decide.Rollout
	who             condition.Node
	methods         MethodSet
	opens, enforced time.Time
}

// Compile makes a Judge from a rulebook. The error is directory.Problems, all that
// Check reports, or names a condition that cannot be bound.
func Compile(book decide.Rulebook) (*Judge, error) { return compile(book, false) }

// compile is Compile, also for a judge whose tests are answered by those who ask it.
func compile(book decide.Rulebook, asking bool) (*Judge, error) {
	digest := fingerprint(&book) // before what follows from others is filled in
	contents, mentioned := book.Directory, Mentioned{Literals: literals(book)}
	contents.Outside = contents.Outside || book.Accounts != nil
	if contents.Outside {
		mentioned.Accounts = namedAccounts(book)
	}
	book.Directory = contents
	known, err := NewDirectory(contents, mentioned)
	var problems directory.Problems
	if err != nil && !errors.As(err, &problems) {
		return nil, err
	}
	checkRules(&book, func(p directory.Problem) { problems = append(problems, p) })
	if len(problems) > 0 {
		return nil, problems
	}
	j := &Judge{
		book:            book,
		directory:       known,
		digest:          book.Digest,
		fingerprint:     digest,
		locator:         book.Locator,
		accounts:        book.Accounts,
		devices:         book.Devices,
		reports:         book.Reports,
		asking:          asking,
		assuranceNumber: make(map[string]int32),
	}
	j.deskPass, _ = known.FindMethod(directory.DeskPass)
	if m, ok := known.FindMethod("password"); ok {
		j.password = j.password.Add(m)
	}
	for i := range known.Methods() {
		j.methodOrder = append(j.methodOrder, i)
	}
	slices.SortFunc(j.methodOrder, func(a, b int) int { return cmp.Compare(known.Methods()[a].Name, known.Methods()[b].Name) })
	if err := j.compileAssurances(book.Assurances); err != nil {
		return nil, err
	}
	if j.model, err = compileModel(book.Risk, j.vocabulary("risk")); err != nil {
		return nil, err
	}
	if err := j.compileExemptions(book.Exemptions); err != nil {
		return nil, err
	}
	if err := j.compileRollouts(book.Rollouts); err != nil {
		return nil, err
	}
	if j.otherwise, err = j.compileOutcome(book.Otherwise); err != nil {
		return nil, fmt.Errorf("otherwise: %w", err)
	}
	if err := j.compilePolicies(book.Policies); err != nil {
		return nil, err
	}
	for i := range j.demands {
		d, words := &j.demands[i], ""
		names := j.appendMethodNames(nil, d.methods)
		if d.kind == decide.DemandMethod {
			words = decide.Demand{Kind: decide.DemandMethod, AnyOf: names, Within: &d.within}.String()
		}
		j.methodWords, j.methodNames = append(j.methodWords, words), append(j.methodNames, names)
	}
	for i := range j.model.Signals {
		j.timely = append(j.timely, timelyTests(j.model.when[i])...)
	}
	for _, x := range j.exemptions {
		j.timely = append(j.timely, timelyTests(x.who, x.when)...)
	}
	for _, r := range j.rollouts {
		j.timely = append(j.timely, timelyTests(r.who)...)
	}
	for i := range j.policies {
		j.blank = append(j.blank, decide.PolicyTrace{Name: j.policies[i].Name, Stage: j.policies[i].stage, Why: []string{}})
	}
	for i, m := range j.directory.Methods() {
		if slices.Contains(m.Traits, directory.OutOfBand) {
			j.outOfBand = j.outOfBand.Add(i)
		}
	}
	for i := range known.Postures {
		if !asking {
			break
		}
		bound, err := condition.Bind(&condition.Test{Key: KeyPosture, Values: []string{known.Postures[i].Name}}, j.vocabulary("posture"))
		if err != nil {
			return nil, err
		}
		j.postureTests = append(j.postureTests, bound.(*condition.Test))
	}
	j.index = newIndex(j)
	j.chooseOpeners()
	j.pool.New = func() any {
		e := &evaluation{judge: j, slots: make([]int32, len(j.policies)), signals: make([]condition.Truth, len(j.model.Signals)),
			weighings: make([]weighing, len(j.outcomes)), shownIn: make([]shownIn, len(j.demands))}
		e.Facts = Facts{Directory: known, HasProfile: true, HasApp: true, evaluation: e, Device: &e.view}
		return e
	}
	return j, nil
}

// Rules returns the digest of what was compiled, as JudgedBy.Rules has it.
func (j *Judge) Rules() string { return j.fingerprint }

// Accounts returns what supplies accounts while decisions are made, nil where the
// book has them all.
func (j *Judge) Accounts() directory.Accounts { return j.accounts }

// Whereabouts returns where an attempt comes from, as it is judged: the country by
// a network, the attempt itself or the look-up of its address, and the location as
// the attempt says or by the look-up. What is not known is "", or unknown.
func (j *Judge) Whereabouts(ctx context.Context, a *attempt.Attempt) directory.Whereabouts {
	var w whereabouts
	w.find(j, a)
	w.lookUp(ctx, j)
	return directory.Whereabouts{Country: w.country, Location: w.location}
}

// Risk returns what is noticed and how much it weighs, with the levels that hold and the
// signals in order of name, their conditions bound.
func (j *Judge) Risk() risk.Scheme { return j.model.Scheme() }

// eachCondition calls visit for each node of each condition of the rulebook.
func eachCondition(book *decide.Rulebook, visit func(condition.Node) bool) {
	for i := range book.Policies {
		p := &book.Policies[i]
		for _, n := range []condition.Node{p.Who, p.Apps, p.LiveFor} {
			condition.Walk(n, visit)
		}
		for k := range p.Rules {
			condition.Walk(p.Rules[k].When, visit)
		}
	}
	for i := range book.Risk.Signals {
		condition.Walk(book.Risk.Signals[i].When, visit)
	}
	for i := range book.Exemptions {
		condition.Walk(book.Exemptions[i].Who, visit)
		condition.Walk(book.Exemptions[i].When, visit)
	}
	for i := range book.Rollouts {
		condition.Walk(book.Rollouts[i].Who, visit)
	}
	for i := range book.Directory.Groups {
		condition.Walk(book.Directory.Groups[i].Where, visit)
	}
	for i := range book.Directory.Methods {
		condition.Walk(book.Directory.Methods[i].BarredFor, visit)
	}
	for _, n := range book.Watched {
		condition.Walk(n, visit)
	}
}

// literals collects the ranges that conditions name without a network.
func literals(book decide.Rulebook) []directory.Range {
	var found []directory.Range
	eachCondition(&book, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key == KeyNetworks {
			for _, value := range t.Values {
				if r, err := directory.ParseRange(value); err == nil && !slices.Contains(found, r) {
					found = append(found, r)
				}
			}
		}
		return true
	})
	return found
}

// namedAccounts collects the accounts that conditions name.
func namedAccounts(book decide.Rulebook) []string {
	var names []string
	eachCondition(&book, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key == KeyAccounts {
			names = append(names, t.Values...)
		}
		return true
	})
	return names
}

// vocabulary knows the names of the directory, and those of signals and assurances.
type vocabulary struct {
	Vocabulary
	judge *Judge
}

// vocabulary returns the names for the conditions of an owner, such as a policy.
func (j *Judge) vocabulary(owner string) vocabulary {
	return vocabulary{j.directory.Vocabulary(owner), j}
}

// Bind implements condition.Vocabulary.
func (v vocabulary) Bind(t *condition.Test, value string) (condition.Binding, error) {
	return t.Key.Definition().Bind(v, t, value)
}

// Defines reports whether the book has a policy, an exemption or a rollout of a name, or a rule that is named
// as policy/rule.
func (v vocabulary) Defines(what, name string) bool {
	b := &v.judge.book
	switch what {
	case "policy":
		return slices.ContainsFunc(b.Policies, func(p decide.Policy) bool { return p.Name == name })
	case "rule":
		return slices.ContainsFunc(b.Policies, func(p decide.Policy) bool {
			rule, of := strings.CutPrefix(name, p.Name+"/")
			return of && slices.ContainsFunc(p.Rules, func(r decide.Rule) bool { return r.Name == rule })
		})
	case "exemption":
		return slices.ContainsFunc(b.Exemptions, func(x decide.Exemption) bool { return x.Name == name })
	case "rollout":
		return slices.ContainsFunc(b.Rollouts, func(r decide.Rollout) bool { return r.Name == name })
	}
	return false
}

func (j *Judge) compileAssurances(assurances []decide.Assurance) error {
	for _, a := range assurances {
		demands, err := j.compileDemands(a)
		if err != nil {
			return fmt.Errorf("assurance %s: %w", a.Name, err)
		}
		j.assuranceNumber[a.Name] = int32(len(j.assurances))
		if a.ACR != "" {
			j.classed = append(j.classed, int32(len(j.assurances)))
		}
		j.assurances = append(j.assurances, assurance{name: a.Name, acr: a.ACR, demands: demands})
	}
	return nil
}

// assuranceNumbers finds assurances by name, each once.
func (j *Judge) assuranceNumbers(names []string) ([]int32, error) {
	var numbers []int32
	for _, name := range names {
		n, ok := j.assuranceNumber[name]
		if !ok {
			return nil, fmt.Errorf("assurance %q is not defined", name)
		}
		if !slices.Contains(numbers, n) {
			numbers = append(numbers, n)
		}
	}
	return numbers, nil
}

// endOf returns the end of a day that is included, zero where none is given.
func (j *Judge) endOf(day *directory.Date) time.Time {
	if day == nil {
		return time.Time{}
	}
	return day.End(j.directory.Zone)
}

// startOf returns the beginning of a day, zero where none is given.
func (j *Judge) startOf(day *directory.Date) time.Time {
	if day == nil {
		return time.Time{}
	}
	return day.Start(j.directory.Zone)
}

func (j *Judge) compileExemptions(exemptions []decide.Exemption) error {
	byName := func(a, b decide.Exemption) int { return cmp.Compare(a.Name, b.Name) }
	for _, x := range slices.SortedFunc(slices.Values(exemptions), byName) {
		names := j.vocabulary("exemption " + x.Name)
		who, err := condition.Bind(x.Who, names)
		if err != nil {
			return fmt.Errorf("exemption %s: who: %w", x.Name, err)
		}
		when, err := condition.Bind(x.When, names)
		if err != nil {
			return fmt.Errorf("exemption %s: when: %w", x.Name, err)
		}
		from, err := j.assuranceNumbers(x.From)
		if err != nil {
			return fmt.Errorf("exemption %s: from: %w", x.Name, err)
		}
		instead, err := j.assuranceNumbers(x.Instead)
		if err != nil {
			return fmt.Errorf("exemption %s: instead: %w", x.Name, err)
		}
		for _, a := range from {
			j.assurances[a].exemptions = append(j.assurances[a].exemptions, int32(len(j.exemptions)))
		}
		j.exemptions = append(j.exemptions, exemption{x, who, when, from, instead, j.endOf(x.Until)})
	}
	return nil
}

func (j *Judge) compileRollouts(rollouts []decide.Rollout) error {
	byName := func(a, b decide.Rollout) int { return cmp.Compare(a.Name, b.Name) }
	for _, r := range slices.SortedFunc(slices.Values(rollouts), byName) {
		who, err := condition.Bind(r.Who, j.vocabulary("rollout "+r.Name))
		if err != nil {
			return fmt.Errorf("rollout %s: who: %w", r.Name, err)
		}
		methods, err := j.methodSet(r.Methods)
		if err != nil {
			return fmt.Errorf("rollout %s: %w", r.Name, err)
		}
		eases, err := j.assuranceNumbers(r.Eases)
		if err != nil {
			return fmt.Errorf("rollout %s: eases: %w", r.Name, err)
		}
		for _, a := range eases {
			j.assurances[a].rollouts = append(j.assurances[a].rollouts, int32(len(j.rollouts)))
		}
		j.rollouts = append(j.rollouts, rollout{r, who, methods, j.startOf(r.Opens), j.startOf(&r.Enforced)})
	}
	return nil
}

func (j *Judge) compilePolicies(policies []decide.Policy) error {
	sorted := slices.SortedFunc(slices.Values(policies), func(a, b decide.Policy) int { return cmp.Compare(a.Name, b.Name) })
	for _, p := range sorted {
		compiled, err := j.compilePolicy(p, sorted)
		if err != nil {
			return fmt.Errorf("policy %s: %w", p.Name, err)
		}
		j.policies = append(j.policies, compiled)
	}
	for i := range j.policies {
		for _, replaced := range j.policies[i].replaces {
			j.replaces, j.policies[replaced].replaced = true, true
		}
	}
	return nil
}

func (j *Judge) compilePolicy(p decide.Policy, sorted []decide.Policy) (policy, error) {
	compiled := policy{Policy: &p, stage: p.Stage, from: j.startOf(p.From), until: j.endOf(p.Until)}
	names := j.vocabulary(p.Name)
	var err error
	if compiled.who, err = condition.Bind(p.Who, names); err != nil {
		return compiled, fmt.Errorf("who: %w", err)
	}
	if compiled.apps, err = condition.Bind(p.Apps, names); err != nil {
		return compiled, fmt.Errorf("apps: %w", err)
	}
	if p.LiveFor != nil {
		if compiled.liveFor, err = condition.Bind(p.LiveFor, names); err != nil {
			return compiled, fmt.Errorf("live_for: %w", err)
		}
	}
	compiled.asks, compiled.asksApps = condition.Conjoin(compiled.who), condition.Conjoin(compiled.apps)
	compiled.asksLive = condition.Conjoin(compiled.liveFor)
	compiled.noteNames()
	test, isTest := compiled.who.(*condition.Test)
	compiled.bounded = p.Actions != nil || p.From != nil || p.Until != nil
	compiled.forAnyone = isTest && test.Key == KeyAnyone
	for _, name := range p.Replaces {
		i, ok := slices.BinarySearchFunc(sorted, name, func(p decide.Policy, name string) int { return cmp.Compare(p.Name, name) })
		if !ok {
			return compiled, fmt.Errorf("replaces: policy %q is not defined", name)
		}
		compiled.replaces = append(compiled.replaces, int32(i))
	}
	for _, r := range p.Rules {
		when, err := condition.Bind(r.When, names)
		if err != nil {
			return compiled, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		then, err := j.compileOutcome(r.Then)
		if err != nil {
			return compiled, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		ready := rule{blocks: then.block, then: then, asks: condition.Conjoin(when), when: when,
			title: p.Name + " / " + r.Name, lead: "rule " + r.Name + ": "}
		if l := limitsOf(r.Limits); l != (limits{}) {
			ready.limits = &l
		}
		compiled.rules = append(compiled.rules, ready)
		compiled.timelyRules = append(compiled.timelyRules, timelyTests(when)...)
	}
	compiled.timely = timelyTests(compiled.who, compiled.liveFor)
	return compiled, nil
}

// noteNames finds the emergency accounts that `who` names outside any not.
func (p *policy) noteNames() {
	condition.Walk(p.who, func(n condition.Node) bool {
		switch n := n.(type) {
		case *condition.Not:
			return false
		case *condition.Test:
			switch n.Key {
			case KeyKinds:
				p.namesEmergencies = p.namesEmergencies || slices.Contains(n.Numbers(), int32(directory.Emergency))
			case KeyAccounts:
				p.named = append(p.named, n.Numbers()...)
			}
		}
		return true
	})
}

// compileOutcome makes an outcome ready, or returns the one like it that is.
func (j *Judge) compileOutcome(o decide.Outcome) (*outcome, error) {
	compiled := &outcome{number: int32(len(j.outcomes)), block: o.Blocks()}
	for _, r := range o.Require {
		ways, err := j.assuranceNumbers(r.OneOf)
		if err != nil {
			return nil, err
		}
		compiled.requires = append(compiled.requires, requirement{ways})
	}
	for _, known := range j.outcomes {
		if known.block == compiled.block &&
			slices.EqualFunc(known.requires, compiled.requires, func(a, b requirement) bool { return slices.Equal(a.ways, b.ways) }) {
			return known, nil
		}
	}
	j.outcomes = append(j.outcomes, compiled)
	return compiled, nil
}

// chooseOpeners picks the methods that are offered to anyone who has proven
// nothing yet: those that some assurance asks for and that reach out to no phone.
// The list depends on the book alone, so it tells nobody whether an account exists.
func (j *Judge) chooseOpeners() {
	var asked MethodSet
	for _, d := range j.demands {
		asked |= d.methods
	}
	var inBand []string
	for i, m := range j.directory.Methods() {
		if i == j.deskPass || slices.Contains(m.Traits, directory.OutOfBand) {
			continue
		}
		inBand = append(inBand, m.Name)
		if asked.Has(i) {
			j.openers = append(j.openers, m.Name)
		}
	}
	if len(j.openers) == 0 { // a book may ask for nothing, or for pushes alone
		j.openers = inBand
	}
	slices.Sort(j.openers)
}

// RulePosition returns where a rule stands in the book, by the names of its
// policy and itself; the zero Position where there is none.
func (j *Judge) RulePosition(policyName, ruleName string) condition.Position {
	i, ok := slices.BinarySearchFunc(j.policies, policyName, func(p policy, name string) int { return cmp.Compare(p.Name, name) })
	if ok {
		for _, r := range j.policies[i].Rules {
			if r.Name == ruleName {
				return r.At
			}
		}
	}
	return condition.Position{}
}

// Values returns what the conditions of the rulebook name under a key, sorted.
func (j *Judge) Values(key condition.Key) []string {
	var values []string
	collect := func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key == key {
			values = append(values, t.Values...)
		}
		return true
	}
	for i := range j.policies {
		p := &j.policies[i]
		condition.Walk(p.who, collect)
		condition.Walk(p.apps, collect)
		for _, r := range p.rules {
			condition.Walk(r.when, collect)
		}
	}
	for i := range j.model.Signals {
		condition.Walk(j.model.when[i], collect)
	}
	for _, x := range j.exemptions {
		condition.Walk(x.when, collect)
	}
	slices.Sort(values)
	return slices.Compact(values)
}

// appliesTo reports whether a policy is for an action.
func (p *policy) isFor(action attempt.Action) bool {
	return p.Actions == nil || slices.Contains(p.Actions, action)
}
