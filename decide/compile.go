package decide

import (
	"cmp"
	"fmt"
	"slices"
	"sync"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/estate"
)

// Judge decides attempts by one rulebook. It does not change and is safe for
// concurrent use.
type Judge struct {
	estate *estate.Estate
	digest string
	// policies are in order of name, so that no other order can matter.
	policies  []policy
	otherwise outcome
	demands   []methodDemand
	// heard lists for each app, by number, the policies that are aimed at it and
	// are not drafts.
	heard [][]int32
	// openers are the methods that anybody may be offered before any proof.
	openers  []string
	sittings sync.Pool
}

// policy is a Policy made ready.
type policy struct {
	Policy
	who, apps condition.Node
	// namesEmergencies says that `who` names emergency accounts as a kind, and
	// named lists the accounts that it names, both outside any not and except.
	namesEmergencies bool
	named            []int32
	replaces         []int32
	rules            []rule
}

type rule struct {
	when condition.Node
	then outcome
}

// outcome is an Outcome made ready.
type outcome struct {
	block   bool
	demands []sourcedDemand
}

// sourcedDemand is a demand, by number, and the assurance that it is from.
type sourcedDemand struct {
	demand    int32
	assurance string
}

// methodDemand asks for one of some methods, proven recently enough. Two that
// ask the same are one.
type methodDemand struct {
	methods estate.MethodSet
	within  Within
}

// Compile makes a Judge from a rulebook. The error names what is wrong with it:
// something undefined, a name that stands twice, a circle of groups or of
// policies that replace each other.
func Compile(book Rulebook) (*Judge, error) {
	contents := book.Estate
	contents.Literals = literals(book)
	facts, err := estate.New(contents)
	if err != nil {
		return nil, err
	}
	j := &Judge{estate: facts, digest: book.Digest}
	assurances := make(map[string]Assurance, len(book.Assurances))
	for _, a := range book.Assurances {
		if _, twice := assurances[a.Name]; twice {
			return nil, fmt.Errorf("assurance %q is defined twice", a.Name)
		}
		assurances[a.Name] = a
	}
	if j.otherwise, err = j.compileOutcome(book.Otherwise, assurances); err != nil {
		return nil, fmt.Errorf("otherwise: %w", err)
	}
	sorted := slices.SortedFunc(slices.Values(book.Policies), func(a, b Policy) int { return cmp.Compare(a.Name, b.Name) })
	for i, p := range sorted {
		if i > 0 && sorted[i-1].Name == p.Name {
			return nil, fmt.Errorf("policy %q is defined twice", p.Name)
		}
		compiled, err := j.compilePolicy(p, sorted, assurances)
		if err != nil {
			return nil, fmt.Errorf("policy %s: %w", p.Name, err)
		}
		j.policies = append(j.policies, compiled)
	}
	if err := j.checkReplaces(); err != nil {
		return nil, err
	}
	j.indexApps()
	j.chooseOpeners()
	j.sittings.New = func() any { return &sitting{judge: j, slots: make([]int32, len(j.policies))} }
	return j, nil
}

// Estate returns the facts that the judge decides on.
func (j *Judge) Estate() *estate.Estate { return j.estate }

// literals collects the ranges that conditions name without a network.
func literals(book Rulebook) []estate.Range {
	var found []estate.Range
	collect := func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key == condition.Networks {
			for _, value := range t.Values {
				if r, err := estate.ParseRange(value); err == nil && !slices.Contains(found, r) {
					found = append(found, r)
				}
			}
		}
		return true
	}
	for _, p := range book.Policies {
		for _, r := range p.Rules {
			condition.Walk(r.When, collect)
		}
	}
	return found
}

func (j *Judge) compilePolicy(p Policy, sorted []Policy, assurances map[string]Assurance) (policy, error) {
	compiled := policy{Policy: p}
	var err error
	if compiled.who, err = condition.Bind(p.Who, j.estate); err != nil {
		return compiled, fmt.Errorf("who: %w", err)
	}
	if compiled.apps, err = condition.Bind(p.Apps, j.estate); err != nil {
		return compiled, fmt.Errorf("apps: %w", err)
	}
	compiled.noteNames()
	for _, name := range p.Replaces {
		i, ok := slices.BinarySearchFunc(sorted, name, func(p Policy, name string) int { return cmp.Compare(p.Name, name) })
		if !ok {
			return compiled, fmt.Errorf("replaces: policy %q is not defined", name)
		}
		compiled.replaces = append(compiled.replaces, int32(i))
	}
	for _, r := range p.Rules {
		when, err := condition.Bind(r.When, j.estate)
		if err != nil {
			return compiled, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		then, err := j.compileOutcome(r.Then, assurances)
		if err != nil {
			return compiled, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		compiled.rules = append(compiled.rules, rule{when, then})
	}
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
			case condition.Kinds:
				p.namesEmergencies = p.namesEmergencies || slices.Contains(n.Numbers(), int32(estate.Emergency))
			case condition.Accounts:
				p.named = append(p.named, n.Numbers()...)
			}
		}
		return true
	})
}

func (j *Judge) compileOutcome(o Outcome, assurances map[string]Assurance) (outcome, error) {
	compiled := outcome{block: o.Block}
	for _, name := range o.Require {
		assurance, ok := assurances[name]
		if !ok {
			return compiled, fmt.Errorf("assurance %q is not defined", name)
		}
		for _, prove := range assurance.Prove {
			demand, err := j.compileProve(prove)
			if err != nil {
				return compiled, fmt.Errorf("assurance %s: %w", name, err)
			}
			compiled.demands = append(compiled.demands, sourcedDemand{j.intern(demand), name})
		}
	}
	return compiled, nil
}

func (j *Judge) compileProve(p Prove) (methodDemand, error) {
	d := methodDemand{within: p.Within}
	for _, name := range p.AnyOf {
		m, ok := j.estate.FindMethod(name)
		if !ok {
			return d, fmt.Errorf("method %q is not defined", name)
		}
		d.methods = d.methods.Add(m)
	}
	if len(p.Traits) > 0 {
		for i, m := range j.estate.Methods() {
			if m.HasAll(p.Traits) {
				d.methods = d.methods.Add(i)
			}
		}
	}
	if d.methods == 0 {
		return d, fmt.Errorf("no method would do")
	}
	return d, nil
}

func (j *Judge) intern(d methodDemand) int32 {
	if i := slices.Index(j.demands, d); i >= 0 {
		return int32(i)
	}
	j.demands = append(j.demands, d)
	return int32(len(j.demands) - 1)
}

// checkReplaces refuses a circle: no policy may silence itself by way of others.
func (j *Judge) checkReplaces() error {
	const (
		untouched = iota
		open
		done
	)
	state := make([]int, len(j.policies))
	var visit func(i int32) error
	visit = func(i int32) error {
		switch state[i] {
		case open:
			return fmt.Errorf("policy %s replaces itself by way of others", j.policies[i].Name)
		case done:
			return nil
		}
		state[i] = open
		for _, next := range j.policies[i].replaces {
			if err := visit(next); err != nil {
				return err
			}
		}
		state[i] = done
		return nil
	}
	for i := range j.policies {
		if err := visit(int32(i)); err != nil {
			return err
		}
	}
	return nil
}

// appFacts answers tests about one app and nothing else.
type appFacts struct {
	estate *estate.Estate
	app    int
}

func (f appFacts) Holds(t *condition.Test) condition.Truth { return f.estate.AppHolds(f.app, t) }

// indexApps notes which policies are aimed at which app. Nothing about an app
// changes after compilation, so this need not be asked again.
func (j *Judge) indexApps() {
	j.heard = make([][]int32, len(j.estate.Apps))
	for app := range j.heard {
		for i := range j.policies {
			if j.policies[i].Stage != Draft && condition.Eval(j.policies[i].apps, appFacts{j.estate, app}) != condition.False {
				j.heard[app] = append(j.heard[app], int32(i))
			}
		}
	}
}

// chooseOpeners picks the methods that are offered to whoever has proven
// nothing yet: those that some rule asks for and that reach out to no phone. The
// list hangs on the book alone, so it tells nobody whether an account exists.
func (j *Judge) chooseOpeners() {
	var asked estate.MethodSet
	for _, d := range j.demands {
		asked |= d.methods
	}
	var inBand []string
	for i, m := range j.estate.Methods() {
		if slices.Contains(m.Traits, estate.OutOfBand) {
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

// Values returns what the conditions of the policies name under a key, sorted.
func (j *Judge) Values(key condition.Key) []string {
	var values []string
	collect := func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key == key {
			values = append(values, t.Values...)
		}
		return true
	}
	for i := range j.policies {
		condition.Walk(j.policies[i].who, collect)
		condition.Walk(j.policies[i].apps, collect)
		for _, r := range j.policies[i].rules {
			condition.Walk(r.when, collect)
		}
	}
	slices.Sort(values)
	return slices.Compact(values)
}
