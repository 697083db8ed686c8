package prove

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Suggestion is a guarantee that holds, and that the book does not have.
type Suggestion struct {
	Name string `json:"name" doc:"a name for it"`
	// Claim is what it says, in words.
	Claim string `json:"claim" doc:"what it says, in words"`
	// Because is what it would keep.
	Because string `json:"because" doc:"what of the book it would keep"`
	// YAML is the guarantee as an item of the section guarantees.
	YAML string `json:"yaml" doc:"the guarantee, to be pasted into the section guarantees"`
}

// candidate is a guarantee that may hold.
type candidate struct {
	book.Guarantee
	because string
	// app and assurance are of those that say what an app is never opened without.
	app, assurance string
}

// Suggest returns guarantees that hold and that the book does not have: that what its rules block stays blocked, what its
// apps are never opened without, and how emergency accounts get in. It costs what proving all of them does; where the
// context ends before, what was not proven is left out. Options say how far is looked; their names are not used.
func Suggest(ctx context.Context, b *book.Book, judge *engine.Judge, o Options) ([]Suggestion, error) {
	all := append(append(blocked(b), openedWith(b, judge)...), waysBackIn(b)...)
	trial := *b
	trial.Guarantees = nil
	for i := range all {
		all[i].Name = fmt.Sprint(i)
		trial.Guarantees = append(trial.Guarantees, all[i].Guarantee)
	}
	o.Names = nil
	r, err := Prove(ctx, &trial, judge, o)
	if err != nil {
		return nil, err
	}
	var proven []candidate
	for i := range r.Results {
		if r.Results[i].State == Proven {
			proven = append(proven, all[i])
		}
	}
	return written(b, judge, mildest(b, judge, together(judge, proven)))
}

// onlyPeople is a condition on persons who sign in.
func onlyPeople() []condition.Node {
	return []condition.Node{&condition.Test{Key: engine.KeyKinds, Values: []string{directory.Person.String()}},
		&condition.Test{Key: engine.KeyActions, Values: []string{attempt.SignIn.String()}}}
}

// blocked are guarantees that what rules of live policies block is blocked.
func blocked(b *book.Book) (list []candidate) {
	for i := range b.Policies {
		p := &b.Policies[i]
		if p.Stage != decide.Live {
			continue
		}
		for k := range p.Rules {
			r := &p.Rules[k]
			if !r.Then.Blocks() {
				continue
			}
			where := parts(p.Who, p.Apps, r.When)
			if condition.Asks(p.Who, engine.KeyKinds) {
				list = append(list, block(where, p.Name, r.Name))
				continue
			}
			// A policy passes by emergency accounts that it does not name.
			daily := &condition.Test{Key: engine.KeyKinds, Values: []string{directory.Person.String(), directory.Service.String()}}
			list = append(list, block(append(where, daily), p.Name, r.Name))
		}
	}
	return list
}

func block(where []condition.Node, policy, rule string) candidate {
	return candidate{Guarantee: book.Guarantee{Where: &condition.All{Of: where}, Always: book.AlwaysBlock},
		because: fmt.Sprintf("what %s / %s blocks", policy, rule)}
}

// parts are conditions that must all hold, without those that always do.
func parts(nodes ...condition.Node) (list []condition.Node) {
	for _, n := range nodes {
		switch x := n.(type) {
		case nil:
			continue
		case *condition.Test:
			if x.Key == engine.KeyAnyone || x.Key == engine.KeyEvery {
				continue
			}
		case *condition.All:
			list = append(list, parts(x.Of...)...)
			continue
		}
		list = append(list, n)
	}
	return list
}

// openedWith are guarantees that persons never get into an app without an assurance.
func openedWith(b *book.Book, judge *engine.Judge) (list []candidate) {
	for i := range b.Apps {
		for _, a := range judge.Assurances() {
			where := append([]condition.Node{&condition.Test{Key: engine.KeyNames, Values: []string{b.Apps[i].Name}}}, onlyPeople()...)
			list = append(list, candidate{Guarantee: book.Guarantee{Where: &condition.All{Of: where}, NeverWithout: []string{a.Name}},
				because: "what an app is opened with", app: b.Apps[i].Name, assurance: a.Name})
		}
	}
	return list
}

// waysBackIn are guarantees that an assurance lets emergency accounts in.
func waysBackIn(b *book.Book) (list []candidate) {
	for _, a := range b.Assurances {
		where := &condition.Test{Key: engine.KeyKinds, Values: []string{directory.Emergency.String()}}
		list = append(list, candidate{Guarantee: book.Guarantee{Where: where, Enough: []string{a.Name}},
			because: "the way back in"})
	}
	return list
}

// together makes one of what is proven of an app: without the assurances that others imply, and of apps with the same.
func together(judge *engine.Judge, proven []candidate) (list []candidate) {
	byApp := map[string][]string{}
	var apps []string
	for i := range proven {
		c := &proven[i]
		if c.app == "" {
			list = append(list, *c)
			continue
		}
		if byApp[c.app] == nil {
			apps = append(apps, c.app)
		}
		byApp[c.app] = append(byApp[c.app], c.assurance)
	}
	named := map[string][]string{}
	var keys []string
	for _, app := range apps {
		all := byApp[app]
		strongest := slices.DeleteFunc(slices.Clone(all), func(name string) bool {
			return slices.ContainsFunc(all, func(other string) bool {
				return other != name && judge.AssuranceImplies(other, name) && (!judge.AssuranceImplies(name, other) || other < name)
			})
		})
		key := strings.Join(strongest, " ")
		if named[key] == nil {
			keys = append(keys, key)
		}
		named[key] = append(named[key], app)
	}
	for _, key := range keys {
		assurances := strings.Fields(key)
		where := append([]condition.Node{&condition.Test{Key: engine.KeyNames, Values: named[key]}}, onlyPeople()...)
		list = append(list, candidate{Guarantee: book.Guarantee{Where: &condition.All{Of: where}, NeverWithout: assurances},
			because: "what an app is opened with", app: named[key][0], assurance: assurances[0]})
	}
	return list
}

// mildest leaves out which assurance is enough where one that it implies is, by the book's own guarantees too.
func mildest(b *book.Book, judge *engine.Judge, proven []candidate) []candidate {
	enough := func(g *book.Guarantee, by string, where condition.Node) bool {
		return len(g.Enough) == 1 && g.Enough[0] != by && whereText(g.Where) == whereText(where) && judge.AssuranceImplies(by, g.Enough[0])
	}
	return slices.DeleteFunc(slices.Clone(proven), func(c candidate) bool {
		if len(c.Enough) == 0 {
			return false
		}
		by := c.Enough[0]
		return slices.ContainsFunc(b.Guarantees, func(g book.Guarantee) bool { return enough(&g, by, c.Where) }) ||
			slices.ContainsFunc(proven, func(o candidate) bool {
				return enough(&o.Guarantee, by, c.Where) && (!judge.AssuranceImplies(o.Enough[0], by) || o.Enough[0] < by)
			})
	})
}

// written gives proven guarantees names and writes them, without those that the book has.
func written(b *book.Book, judge *engine.Judge, proven []candidate) ([]Suggestion, error) {
	list := []Suggestion{}
	has, taken := map[string]bool{}, map[string]bool{}
	for i := range b.Guarantees {
		has[claimOf(&b.Guarantees[i])], taken[b.Guarantees[i].Name] = true, true
	}
	for i := range proven {
		c := &proven[i]
		claim := claimOf(&c.Guarantee)
		if has[claim] {
			continue
		}
		has[claim] = true
		stem := "way-back-in"
		switch {
		case c.app != "":
			stem = c.app + "-" + c.assurance
		case c.Always != 0:
			stem = strings.Join(strings.FieldsFunc(strings.TrimPrefix(strings.TrimSuffix(c.because, " blocks"), "what "),
				func(r rune) bool { return r == ' ' || r == '/' }), "-")
		}
		name := stem
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s-%d", stem, n)
		}
		taken[name] = true
		where, err := judge.Bind("guarantee", c.Where)
		if err != nil {
			return nil, err
		}
		list = append(list, Suggestion{Name: name, Claim: claimWords(&c.Guarantee, where), Because: c.because,
			YAML: fmt.Sprintf("- {name: %s, %s}", name, claim)})
	}
	return list, nil
}

// claimOf is a guarantee without its name and what it is for, as the book has it.
func claimOf(g *book.Guarantee) string {
	text := "where: " + whereText(g.Where)
	switch {
	case g.Always != 0:
		return text + ", always: block"
	case len(g.NeverWithout) > 0:
		return text + ", never_without: [" + strings.Join(g.NeverWithout, ", ") + "]"
	case len(g.Enough) > 0:
		return text + ", enough: [" + strings.Join(g.Enough, ", ") + "]"
	}
	return text + ", at_most: [" + strings.Join(g.AtMost, ", ") + "]"
}

// whereText writes a condition as the book has it: its parts side by side, where no two have the same key.
func whereText(where condition.Node) string {
	var texts []string
	keys := map[string]bool{}
	for _, n := range parts(where) {
		text := strings.TrimSuffix(strings.TrimPrefix(condition.Text(n), "{"), "}")
		key, _, _ := strings.Cut(text, ":")
		if keys[key] {
			return condition.Text(where)
		}
		keys[key], texts = true, append(texts, text)
	}
	return "{" + strings.Join(texts, ", ") + "}"
}
