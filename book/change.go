package book

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"github.com/briskwarden/briskwarden/internal/nearest"
)

// Change is another value for something that a book says, to be tried.
type Change struct {
	// Path leads to it by keys and names: risk.levels.medium, or
	// policies.card-till.stage.
	Path string
	// Value is the new value, as YAML.
	Value string
}

// ParseChanges reads path=value,value: one change for each value. Commas inside
// brackets, braces and quotes do not part values.
func ParseChanges(text string) ([]Change, error) {
	path, values, found := strings.Cut(text, "=")
	if path = strings.TrimSpace(path); !found || path == "" {
		return nil, fmt.Errorf("write path=value,value, such as risk.levels.medium=20,40; found %q", text)
	}
	var changes []Change
	depth, quote, start := 0, rune(0), 0
	add := func(value string) { changes = append(changes, Change{path, strings.TrimSpace(value)}) }
	for i, c := range values {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth--
		case c == ',' && depth == 0:
			add(values[start:i])
			start = i + 1
		}
	}
	add(values[start:])
	for _, c := range changes {
		if c.Value == "" {
			return nil, fmt.Errorf("%s: one of the values is empty", text)
		}
	}
	return changes, nil
}

// change puts another value in the place that the path leads to. A last key that
// is missing is added, and so is all of a path that has a default.
func (r *reader) change(c Change) error {
	var value yaml.Node
	if err := yaml.Unmarshal([]byte(c.Value), &value); err != nil || len(value.Content) != 1 {
		return fmt.Errorf("%s: %q is no YAML value", c.Path, c.Value)
	}
	// The file wins that has the longest part of the path.
	var best found
	var known []string
	for _, f := range r.files {
		at := find(f.root, c.Path)
		if best.in == nil || len(at.rest) < len(best.rest) {
			best, known = at, nil
		}
		if len(at.rest) == len(best.rest) {
			known = append(known, names(at.in)...)
		}
	}
	if best.in == nil {
		return fmt.Errorf("%s: the book says nothing", c.Path)
	}
	put := value.Content[0]
	switch {
	case best.rest == "":
		put.Line, put.Column = best.in.Line, best.in.Column
		*best.in = *put
	case best.in.Kind == yaml.MappingNode && best.rest != c.Path && !strings.Contains(best.rest, "."), hasDefault(c.Path):
		place(best.in, best.rest, put)
	default:
		next, _, _ := strings.Cut(best.rest, ".")
		slices.Sort(known)
		known = slices.DeleteFunc(slices.Compact(known), func(name string) bool { return name == "briskwarden" })
		return fmt.Errorf("%s: the book has no %s%s", c.Path, strings.TrimSuffix(c.Path, best.rest)+next, nearest.DidYouMean(next, known))
	}
	return nil
}

// hasDefault reports whether a path leads to something that holds where the book does
// not say it.
func hasDefault(path string) bool {
	return strings.HasPrefix(path, "settings.") || strings.HasPrefix(path, "risk.levels")
}

// place puts a value under keys that are missing.
func place(in *yaml.Node, keys string, value *yaml.Node) {
	key, rest, deeper := strings.Cut(keys, ".")
	value.Line, value.Column = in.Line, in.Column
	if deeper {
		within := &yaml.Node{Kind: yaml.MappingNode, Line: in.Line, Column: in.Column}
		place(within, rest, value)
		value = within
	}
	in.Content = append(in.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key, Line: in.Line, Column: in.Column}, value)
}

// found is how far a path led: to a node, with the rest of the path that it does
// not have.
type found struct {
	in   *yaml.Node
	rest string
}

// find follows a path as far as it leads. Names may have dots in them.
func find(in *yaml.Node, path string) found {
	best := found{in, path}
	follow := func(name string, to *yaml.Node) {
		if to.Kind == yaml.AliasNode {
			to = to.Alias
		}
		rest, ok := strings.CutPrefix(path, name)
		if !ok || name == "" || rest != "" && rest[0] != '.' {
			return
		}
		if at := find(to, strings.TrimPrefix(rest, ".")); len(at.rest) < len(best.rest) {
			best = at
		}
	}
	if path == "" {
		return best
	}
	each(in, follow)
	return best
}

// each visits what a path can go on to: the values of keys, and the items of a
// list by their names.
func each(in *yaml.Node, visit func(name string, to *yaml.Node)) {
	switch in.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(in.Content); i += 2 {
			visit(in.Content[i].Value, in.Content[i+1])
		}
	case yaml.SequenceNode:
		for _, item := range in.Content {
			if item.Kind != yaml.MappingNode {
				continue
			}
			for i := 0; i+1 < len(item.Content); i += 2 {
				if item.Content[i].Value == "name" {
					visit(item.Content[i+1].Value, item)
				}
			}
		}
	}
}

func names(in *yaml.Node) []string {
	var list []string
	each(in, func(name string, _ *yaml.Node) { list = append(list, name) })
	return list
}
