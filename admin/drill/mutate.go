package drill

import (
	"fmt"
	"iter"
	"slices"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
)

// Book is what drills are run by, in a form that can be changed on trial.
type Book struct {
	Rulebook decide.Rulebook
	Consent  consent.Scheme
	Tiers    []consent.Tier
	Clients  []consent.Client
}

// compile makes the judges of the book.
func (b *Book) compile() (*engine.Judge, *consent.Judge, error) {
	judge, err := engine.Compile(b.Rulebook)
	if err != nil {
		return nil, nil, err
	}
	consents, err := consent.Compile(judge, b.Consent, b.Tiers, b.Clients)
	return judge, consents, err
}

// Mutations tell what became of changing the book on trial: each change should
// make a drill fail.
type Mutations struct {
	Tried    int        `json:"tried" doc:"how many changes were tried"`
	Noticed  int        `json:"noticed" doc:"how many some drill noticed"`
	Survived []Mutation `json:"survived" doc:"the changes that no drill noticed"`
	Caught   []Catch    `json:"caught" doc:"the others, each with a drill that fails by it"`
}

// Catch is a change that a drill noticed.
type Catch struct {
	Mutation Mutation `json:"mutation" doc:"the change"`
	// Drill is the first drill that decides otherwise by the changed book.
	Drill string `json:"drill" doc:"the first drill that fails by it"`
}

// Mutation is one change on trial.
type Mutation struct {
	// Of is what was changed: policy/rule, consent/rule or a network.
	Of   string             `json:"of" doc:"what was changed: policy/rule, consent/rule or a network"`
	At   condition.Position `json:"at" doc:"where it stands in the book"`
	Text string             `json:"text" doc:"the change"`

	apply func(b *Book)
}

// Mutate changes each rule that counts in turn, and each network, and runs the
// drills by the changed book. Only drills that pass can notice anything. The
// error is that of compiling.
func Mutate(b Book, drills []book.Drill) (*Mutations, error) {
	judge, consents, err := b.compile()
	if err != nil {
		return nil, err
	}
	passing := slices.DeleteFunc(slices.Clone(drills), func(d book.Drill) bool { return !passes(&d, run(judge, consents, &d)) })
	m := &Mutations{Survived: []Mutation{}, Caught: []Catch{}}
	for mutation, changed := range Changes(b) {
		judge, consents, err := changed.compile()
		if err != nil {
			continue // a change that no book could have is none
		}
		m.Tried++
		if i := slices.IndexFunc(passing, func(d book.Drill) bool { return !passes(&d, run(judge, consents, &d)) }); i >= 0 {
			m.Noticed++
			m.Caught = append(m.Caught, Catch{mutation, passing[i].Name})
			continue
		}
		m.Survived = append(m.Survived, mutation)
	}
	return m, nil
}

// Changes yields each change on trial with the book that it makes; a book may be one that cannot be compiled. The
// book itself stays as it is.
func Changes(b Book) iter.Seq2[Mutation, Book] {
	return func(yield func(Mutation, Book) bool) {
		for _, mutation := range mutations(&b) {
			changed := b
			mutation.apply(&changed)
			if !yield(mutation, changed) {
				return
			}
		}
	}
}

// mutations lists the changes of a book. A change replaces what it changes and
// leaves the book itself alone.
func mutations(b *Book) []Mutation {
	var list []Mutation
	for i, p := range b.Rulebook.Policies {
		if p.Stage == decide.Draft {
			continue
		}
		rules := func(b *Book, change func(rules []decide.Rule)) {
			b.Rulebook.Policies = slices.Clone(b.Rulebook.Policies)
			b.Rulebook.Policies[i].Rules = slices.Clone(b.Rulebook.Policies[i].Rules)
			change(b.Rulebook.Policies[i].Rules)
		}
		for k, r := range p.Rules {
			of := p.Name + "/" + r.Name
			add := func(text string, change func(rules []decide.Rule)) {
				list = append(list, Mutation{Of: of, At: r.At, Text: text, apply: func(b *Book) { rules(b, change) }})
			}
			for _, d := range dropped(r.When) {
				add("without "+d.words, func(rules []decide.Rule) { rules[k].When = d.rest })
			}
			if r.Then.Blocks() {
				add("grants instead of blocking", func(rules []decide.Rule) { rules[k].Then = decide.Outcome{Grant: true} })
			} else {
				add("blocks instead of asking", func(rules []decide.Rule) { rules[k].Then = decide.Outcome{} })
				for n := range r.Then.Require {
					add(fmt.Sprintf("does not ask for %s", r.Then.Require[n].OneOf[0]), func(rules []decide.Rule) {
						rest := slices.Delete(slices.Clone(rules[k].Then.Require), n, n+1)
						rules[k].Then = decide.Outcome{Grant: len(rest) == 0, Require: rest}
					})
				}
			}
			if k+1 < len(p.Rules) {
				add("comes after "+p.Rules[k+1].Name, func(rules []decide.Rule) { rules[k], rules[k+1] = rules[k+1], rules[k] })
			}
		}
	}
	for i, r := range b.Consent.Rules {
		add := func(text string, change func(rules []consent.Rule)) {
			list = append(list, Mutation{Of: "consent/" + r.Name, At: r.At, Text: text, apply: func(b *Book) {
				b.Consent.Rules = slices.Clone(b.Consent.Rules)
				change(b.Consent.Rules)
			}})
		}
		for _, d := range dropped(r.When) {
			add("without "+d.words, func(rules []consent.Rule) { rules[i].When = d.rest })
		}
		other := consent.Allow
		if r.Then == consent.Allow {
			other = consent.Refuse
		}
		add(fmt.Sprintf("%ss instead", other), func(rules []consent.Rule) { rules[i].Then = other })
		if i+1 < len(b.Consent.Rules) {
			add("comes after "+b.Consent.Rules[i+1].Name, func(rules []consent.Rule) { rules[i], rules[i+1] = rules[i+1], rules[i] })
		}
	}
	for i, n := range b.Rulebook.Directory.Networks {
		if wider, ok := widened(n); ok {
			list = append(list, Mutation{Of: n.Name, Text: "reaches to " + wider.Ranges[0].String(), apply: func(b *Book) {
				b.Rulebook.Directory.Networks = slices.Clone(b.Rulebook.Directory.Networks)
				b.Rulebook.Directory.Networks[i] = wider
			}})
		}
	}
	return list
}

// widening is how many bits a network is widened by.
const widening = 2

// widened returns a network whose first range is four times as wide.
func widened(n directory.Network) (directory.Network, bool) {
	if len(n.Ranges) == 0 {
		return n, false
	}
	p := n.Ranges[0].Prefixes()[0]
	wide, err := p.Addr().Prefix(p.Bits() - widening)
	if err != nil {
		return n, false
	}
	r, err := directory.ParseRange(wide.String())
	if err != nil {
		return n, false
	}
	n.Ranges = append([]directory.Range{r}, n.Ranges[1:]...)
	return n, true
}

// drop is a condition without one of its parts.
type drop struct {
	rest  condition.Node
	words string
}

// dropped returns a condition without each of the parts that must hold in turn;
// of one that has no parts, nothing is left.
func dropped(node condition.Node) []drop {
	if node == nil {
		return nil
	}
	all, ok := node.(*condition.All)
	if !ok || len(all.Of) < 2 {
		return []drop{{nil, "its condition"}}
	}
	var list []drop
	for i, part := range all.Of {
		rest := &condition.All{At: all.At, Of: slices.Delete(slices.Clone(all.Of), i, i+1)}
		list = append(list, drop{rest, partWords(part)})
	}
	return list
}

// partWords names a part of a condition by its first key.
func partWords(node condition.Node) string {
	words := "a part of its condition"
	condition.Walk(node, func(n condition.Node) bool {
		if t, ok := n.(*condition.Test); ok && words == "a part of its condition" {
			words = t.Key.String()
		}
		return true
	})
	return words
}
