package book

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// connectives are the keys that combine conditions.
var connectives = []string{"all", "any", "not", "except"}

// condition reads a condition on the given subjects. It returns nil where
// nothing could be made of it, which has been reported then.
func (r *reader) condition(n *yaml.Node, about condition.Subject) condition.Node {
	if n.Kind == yaml.ScalarNode {
		return r.marker(n, about)
	}
	if n.Kind != yaml.MappingNode {
		r.add(r.at(n), "expected a condition with keys such as %s, found %s", strings.Join(keysAbout(about)[:3], ", "), describe(n))
		return nil
	}
	all := &condition.All{At: r.at(n)}
	r.pairs(n, func(key, value *yaml.Node) {
		r.follow(value, func(value *yaml.Node) {
			if c := r.conditionKey(key, value, about); c != nil {
				all.Of = append(all.Of, c)
			}
		})
	})
	switch {
	case len(n.Content) == 0:
		r.add(r.at(n), "the condition is empty; expected keys such as %s", strings.Join(keysAbout(about)[:3], ", "))
	case len(all.Of) == 1:
		if not, ok := all.Of[0].(*condition.Not); ok && not.Except {
			r.add(not.At, "`except` takes away from what stands beside it, and nothing does")
		}
		return all.Of[0]
	}
	return all
}

// marker reads the short form of a condition, `who: anyone`.
func (r *reader) marker(n *yaml.Node, about condition.Subject) condition.Node {
	var markers []string
	for _, k := range condition.Keys() {
		if k.Shape() == condition.Marker && k.About()&about != 0 {
			if n.Value == k.String() {
				return &condition.Test{At: r.at(n), Key: k, Values: []string{"true"}}
			}
			markers = append(markers, k.String())
		}
	}
	r.add(
		r.at(n),
		"expected %s or a condition with keys such as %s, found %s",
		strings.Join(markers, " or "),
		strings.Join(keysAbout(about)[:3], ", "),
		describe(n),
	)
	return nil
}

// keysAbout returns the keys that a place on these subjects allows.
func keysAbout(about condition.Subject) []string {
	var names []string
	for _, k := range condition.Keys() {
		if k.About()&about != 0 {
			names = append(names, k.String())
		}
	}
	return append(names, connectives...)
}

func (r *reader) conditionKey(key, value *yaml.Node, about condition.Subject) condition.Node {
	switch key.Value {
	case "all":
		return &condition.All{At: r.at(key), Of: r.conditions(key, value, about)}
	case "any":
		return &condition.Any{At: r.at(key), Of: r.conditions(key, value, about)}
	case "not", "except":
		if c := r.condition(value, about); c != nil {
			return &condition.Not{At: r.at(key), Of: c, Except: key.Value == "except"}
		}
		return nil
	}
	k, known := condition.ParseKey(key.Value)
	switch {
	case !known:
		r.add(r.at(key), "a condition has no key %q%s", key.Value, nearest.DidYouMean(key.Value, keysAbout(about)))
		return nil
	case k.About()&about == 0:
		r.add(r.at(key), "%q makes no sense here; the keys are %s", key.Value, strings.Join(keysAbout(about), ", "))
		return nil
	}
	return r.test(key, value, k)
}

// test reads the value of a key in the shape that the key has.
func (r *reader) test(key, value *yaml.Node, k condition.Key) condition.Node {
	test := &condition.Test{At: r.at(key), Key: k}
	single := func(check func(text string) error) condition.Node {
		r.scalar(value, "a value for "+k.String(), func(text string) error {
			test.Values = []string{text}
			return check(text)
		})
		return test
	}
	switch k.Shape() {
	case condition.Flag:
		return single(oneOfWords(k, "true", "false"))
	case condition.Marker:
		return single(oneOfWords(k, "true"))
	case condition.Level:
		return single(func(text string) error {
			_, err := directory.ParseLevel(text)
			return err
		})
	case condition.Length:
		return single(func(text string) error { return new(directory.Span).UnmarshalText([]byte(text)) })
	case condition.Number:
		return single(func(text string) error {
			_, err := engine.Percent(text)
			return err
		})
	case condition.Named:
		return r.attributes(key, value, k)
	}
	r.eachText(key, value, func(n *yaml.Node, text string) {
		test.Values = append(test.Values, text)
		r.checkValue(n, k, text)
	})
	return test
}

func oneOfWords(k condition.Key, words ...string) func(string) error {
	return func(text string) error {
		if !slices.Contains(words, text) {
			return fmt.Errorf("expected %s for %s, found %q", strings.Join(words, " or "), k, text)
		}
		return nil
	}
}

// attributes reads a mapping from attributes to their alternatives: a test each,
// that must all hold.
func (r *reader) attributes(key, value *yaml.Node, k condition.Key) condition.Node {
	all := &condition.All{At: r.at(key)}
	if value.Kind != yaml.MappingNode || len(value.Content) == 0 {
		r.add(r.at(value), "expected a mapping from attributes to values for %s, found %s", key.Value, describe(value))
		return all
	}
	r.pairs(value, func(name, alternatives *yaml.Node) {
		r.follow(alternatives, func(alternatives *yaml.Node) {
			test := &condition.Test{At: r.at(name), Key: k, Attribute: name.Value}
			r.eachText(name, alternatives, func(_ *yaml.Node, text string) { test.Values = append(test.Values, text) })
			all.Of = append(all.Of, test)
		})
	})
	if len(all.Of) == 1 {
		return all.Of[0]
	}
	return all
}

func (r *reader) conditions(key, value *yaml.Node, about condition.Subject) []condition.Node {
	if value.Kind != yaml.SequenceNode || len(value.Content) == 0 {
		r.add(r.at(value), "expected a list of conditions for %s, found %s", key.Value, describe(value))
		return nil
	}
	var of []condition.Node
	for _, item := range value.Content {
		r.follow(item, func(item *yaml.Node) {
			if c := r.condition(item, about); c != nil {
				of = append(of, c)
			}
		})
	}
	return of
}

// eachText visits the texts of a list that is not empty, or a text alone.
func (r *reader) eachText(key, value *yaml.Node, visit func(n *yaml.Node, text string)) {
	items := value.Content
	switch {
	case value.Kind == yaml.ScalarNode:
		items = []*yaml.Node{value}
	case value.Kind != yaml.SequenceNode:
		r.add(r.at(value), "expected a list for %s, found %s", key.Value, describe(value))
		return
	case len(items) == 0:
		r.add(r.at(value), "the list of %s is empty; name at least one", key.Value)
	}
	for _, item := range items {
		r.follow(item, func(item *yaml.Node) {
			r.scalar(item, "a name", func(text string) error {
				visit(item, text)
				return nil
			})
		})
	}
}

// checkValue checks one alternative of a test, or notes what it refers to.
func (r *reader) checkValue(n *yaml.Node, k condition.Key, text string) {
	var err error
	switch d := k.Definition(); {
	case d.Check != nil && d.Check(text) != nil:
		err = d.Check(text)
	case len(d.Words) > 0 && !slices.Contains(d.Words, text):
		err = fmt.Errorf("%q is no value of %s%s", text, k, nearest.DidYouMean(text, d.Words))
	case d.Names != "" && (d.Literal == nil || !d.Literal(text)):
		r.refer(n, d.Names, text)
	}
	if err != nil {
		r.add(r.at(n), "%v", err)
	}
}

// outcome reads grant, block, or {require: [assurances]}.
func (r *reader) outcome(n *yaml.Node) decide.Outcome {
	if n.Kind == yaml.ScalarNode {
		switch n.Value {
		case "grant":
			return decide.Outcome{Grant: true}
		case "block":
			return decide.Outcome{}
		}
		r.add(
			r.at(n),
			"expected grant, block or {require: [assurances]}, found %s%s",
			describe(n),
			nearest.DidYouMean(n.Value, []string{"grant", "block"}),
		)
		return decide.Outcome{}
	}
	if n.Kind != yaml.MappingNode || len(n.Content) == 0 {
		r.add(r.at(n), "expected grant, block or {require: [assurances]}, found %s", describe(n))
	}
	var o decide.Outcome
	r.pairs(n, func(key, value *yaml.Node) {
		if key.Value != "require" {
			r.add(r.at(key), "an outcome has no key %q%s", key.Value, nearest.DidYouMean(key.Value, []string{"require"}))
			return
		}
		r.follow(value, func(value *yaml.Node) {
			items := value.Content
			if value.Kind == yaml.ScalarNode {
				items = []*yaml.Node{value}
			}
			if len(items) == 0 || value.Kind == yaml.MappingNode {
				r.add(r.at(value), "expected a list of assurances for require, found %s", describe(value))
				return
			}
			for _, item := range items {
				r.follow(item, func(item *yaml.Node) { o.Require = append(o.Require, r.requirement(item)) })
			}
		})
	})
	return o
}

// requirement reads the name of an assurance, or {one_of: [assurances]}.
func (r *reader) requirement(n *yaml.Node) decide.Requirement {
	var required decide.Requirement
	note := func(n *yaml.Node, text string) {
		r.refer(n, "assurance", text)
		if !slices.Contains(required.OneOf, text) {
			required.OneOf = append(required.OneOf, text)
		}
	}
	if n.Kind != yaml.MappingNode {
		r.scalar(n, "an assurance or {one_of: [assurances]}", func(text string) error {
			note(n, text)
			return nil
		})
		return required
	}
	if len(n.Content) == 0 {
		r.add(r.at(n), "expected an assurance or {one_of: [assurances]}, found nothing")
	}
	r.pairs(n, func(key, value *yaml.Node) {
		if key.Value != "one_of" {
			r.add(r.at(key), "a requirement has no key %q%s", key.Value, nearest.DidYouMean(key.Value, []string{"one_of"}))
			return
		}
		r.follow(value, func(value *yaml.Node) { r.eachText(key, value, note) })
	})
	return required
}
