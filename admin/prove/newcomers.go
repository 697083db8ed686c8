package prove

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// What holds of today's accounts may hold because nobody happens to be in two groups, or without a method. So what is
// proven is looked at once more with persons whom the book does not have: in no group, in each, and in each beside one
// that a guarantee names, with every method and with none.

// Newcomer is a person whom the book does not have, and for whom a guarantee does not hold.
type Newcomer struct {
	Groups  []string `json:"groups,omitempty" doc:"the groups that the person would be in"`
	Domain  string   `json:"domain" doc:"the domain of the name"`
	Methods []string `json:"methods,omitempty" doc:"the methods that the person would have enrolled"`
	// Attempt is one on which the guarantee would not hold.
	Attempt *attempt.Attempt `json:"attempt" doc:"an attempt on which it would not hold"`
	Why     string           `json:"why" doc:"what the book would ask for"`
}

// String says who it is.
func (n *Newcomer) String() string {
	text := "somebody new"
	if len(n.Groups) > 0 {
		text += " in " + strings.Join(n.Groups, " and ")
	}
	if len(n.Methods) == 0 {
		return text + " without a method"
	}
	return text
}

// mostNewcomers is how many persons are looked at; of a book with more groups those of some groups only.
const mostNewcomers = 600

// groupsNamed returns the groups that a condition names.
func groupsNamed(where condition.Node) (named []string) {
	condition.Walk(where, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && t.Key == engine.KeyGroups {
			named = append(named, t.Values...)
		}
		return true
	})
	slices.Sort(named)
	return slices.Compact(named)
}

// newcomers returns persons whom the book does not have, in groups that matter beside those that are named.
func newcomers(judge *engine.Judge, named []string, at time.Time) (list []directory.Account) {
	d := judge.Directory()
	domains := sortedValues(judge, engine.KeyDomains)
	if len(d.Accounts) > 0 {
		_, own, _ := strings.Cut(d.Accounts[0].Name, "@")
		domains = append([]string{own}, domains...)
	}
	groups := sortedValues(judge, engine.KeyGroups)
	for i := range d.Apps {
		groups = append(groups, d.Apps[i].OpenTo...)
	}
	slices.Sort(groups)
	sets := [][]string{nil}
	for _, g := range slices.Compact(groups) {
		sets = append(sets, []string{g})
		for _, n := range named {
			if n != g {
				sets = append(sets, []string{n, g})
			}
		}
	}
	var methods []string
	for _, m := range d.Methods() {
		if m.Name != directory.DeskPass {
			methods = append(methods, m.Name)
		}
	}
	joined := directory.DateOf(at.In(d.Zone))
	for i, domain := range slices.Compact(domains) {
		for _, set := range sets {
			if i > 0 && len(set) > 1 {
				continue // of another domain in one group at a time
			}
			for _, has := range [][]string{nil, methods} {
				if len(list) == mostNewcomers {
					return list
				}
				name := fmt.Sprintf("somebody-new-%d", len(list)+1)
				if domain != "" {
					name += "@" + domain
				}
				list = append(list, directory.Account{Name: name, Kind: directory.Person, Groups: set, Methods: has, Joined: &joined})
			}
		}
	}
	return list
}

func sortedValues(judge *engine.Judge, key condition.Key) []string {
	values := judge.Values(key)
	slices.Sort(values)
	return slices.Compact(values)
}

// lookAtNewcomers looks at what is proven once more, with persons whom the book does not have.
func lookAtNewcomers(
	ctx context.Context, judge *engine.Judge, from, to time.Time, proofs []*proof, progress func(done, more int),
) error {
	var named []string
	var trial []*book.Guarantee
	var proven []*proof
	for _, p := range proofs {
		if p.State == Proven {
			proven, named = append(proven, p), append(named, groupsNamed(p.g.Where)...)
		}
	}
	slices.Sort(named)
	made := newcomers(judge, slices.Compact(named), from)
	rules := judge.Rulebook()
	rules.Directory.Accounts = append(slices.Clone(rules.Directory.Accounts), made...)
	byName := map[string]*directory.Account{}
	for i := range made {
		byName[made[i].Name] = &made[i]
	}
	for _, p := range proven {
		own := groupsNamed(p.g.Where)
		names := &condition.Test{Key: engine.KeyAccounts}
		for i := range made {
			if groups := made[i].Groups; len(groups) < 2 || slices.Contains(own, groups[0]) {
				names.Values = append(names.Values, made[i].Name)
			}
		}
		g := *p.g
		g.Where = &condition.All{Of: []condition.Node{names, p.g.Where}}
		trial = append(trial, &g)
		rules.Watched = append(slices.Clone(rules.Watched), g.Where)
	}
	extended, err := engine.Compile(rules)
	if err != nil {
		return err
	}
	again, err := proveEach(ctx, extended, from, to, trial, progress)
	if err != nil {
		return err
	}
	for i, p := range again {
		if p.Attempt == nil {
			proven[i].Newcomers = p.State == Proven || p.Empty
			continue
		}
		p.explain(extended)
		who := byName[p.Attempt.Account]
		_, domain, _ := strings.Cut(who.Name, "@")
		proven[i].Newcomer = &Newcomer{Groups: who.Groups, Domain: domain, Methods: who.Methods, Attempt: p.Attempt, Why: p.Why}
	}
	return nil
}
