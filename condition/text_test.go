package condition_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/condition"
)

func TestTexts(t *testing.T) {
	of := func(key condition.Key, values ...string) condition.Node {
		return &condition.Test{Key: key, Values: values}
	}
	for want, node := range map[string]condition.Node{
		"":                                      nil,
		"{groups: [deck, 'a b']}":               of(groups, "deck", "a b"),
		"{countries: ['NO', SE]}":               of(countries, "NO", "SE"),
		"{score_at_least: 50}":                  of(scoreAtLeast, "50"),
		"{networks: ['198.51.100.0/24', ':x']}": of(networks, "198.51.100.0/24", ":x"),
		"{attributes: {floor: ['3', 'it''s']}}": &condition.Test{Key: attributes, Attribute: "floor", Values: []string{"3", "it's"}},
		"{not: {anyone: true}}":                 not(of(anyone, "true")),
		"{all: [{any: []}, {tags: ['']}]}":      all(anyOf(), of(tags, "")),
	} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			require.Equal(t, want, condition.Text(node))
			if node != nil {
				require.Equal(t, want, node.(interface{ String() string }).String())
			}
			require.Equal(t, node, condition.Copy(node))
		})
	}
}

// TestKeysAndPlaces holds the table of keys together, and positions in order.
func TestKeysAndPlaces(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range condition.Keys() {
		found, ok := condition.ParseKey(k.String())
		require.True(t, ok && found == k && k.IsValid() && !seen[k.String()], k)
		require.True(t, k.Doc() != "" && k.About() != 0 && k.Shape() <= condition.Number, k)
		seen[k.String()] = true
	}
	require.PanicsWithValue(t, `condition: the key "tags" is defined twice`,
		func() { family.Define(*tags.Definition(), letters.answer, letters.saw) })
	for part, lack := range map[string]func(d *condition.Definition){
		"a doc": func(d *condition.Definition) { d.Doc = "" }, "a subject": func(d *condition.Definition) { d.About = 0 },
		"a way to be explored": func(d *condition.Definition) { d.Explored = 0 },
		"a meaning":            func(d *condition.Definition) { d.Meaning = 0 }, "Bind": func(d *condition.Definition) { d.Bind = nil },
		"Says": func(d *condition.Definition) { d.Says = nil },
	} {
		d := *tags.Definition()
		d.Name = "new"
		lack(&d)
		require.PanicsWithValue(t, `condition: the key "new" lacks `+part, func() { family.Define(d, letters.answer, letters.saw) })
	}
	unanswered := *tags.Definition()
	unanswered.Name = "new"
	const lacks = `condition: the key "new" lacks its answers`
	require.PanicsWithValue(t, lacks, func() { family.Define(unanswered, nil, letters.saw) })
	require.PanicsWithValue(t, lacks, func() { family.Define(unanswered, letters.answer, nil) })
	_, ok := condition.ParseKey("country")
	require.False(t, ok)
	require.Equal(t, "Key(250)", condition.Key(250).String())

	first, second := condition.Position{File: "a.yaml", Line: 2, Column: 9}, condition.Position{File: "a.yaml", Line: 3, Column: 1}
	require.Negative(t, first.Compare(second))
	require.Positive(t, second.Compare(first))
	require.Negative(t, first.Compare(condition.Position{File: "b.yaml"}))
	require.Positive(t, condition.Position{File: "b.yaml"}.Compare(first))
	require.Negative(t, first.Compare(condition.Position{File: "a.yaml", Line: 2, Column: 10}))
	require.Equal(t, "a.yaml:2:9 -", first.String()+" "+condition.Position{}.String())
	for _, node := range []condition.Node{&condition.All{At: first}, &condition.Any{At: first}, &condition.Not{At: first}, &condition.Test{
		At: first}} {
		require.Equal(t, first, node.Pos())
	}
}

// TestBindingsAddUp binds a test of several alternatives.
func TestBindingsAddUp(t *testing.T) {
	bound, err := condition.Bind(test("B", "A", "B"), letters{})
	require.NoError(t, err)
	b := bound.(*condition.Test)
	require.Equal(t, []int32{'A', 'B'}, b.Numbers(), "ascending, each once")
	require.Equal(t, "the letter B or the letter A or the letter B", b.Wants())
	require.Equal(t, condition.AboutApp, b.About())
	require.Zero(t, b.Limit())
	require.Zero(t, b.Salt())
	require.Empty(t, b.Texts())
	for name, node := range map[string]condition.Node{"no value": &condition.Test{Key: tags}, "no key": &condition.Test{Key: 250,
		Values: []string{"x"}}, "another type": stranger{}} {
		t.Run(fmt.Sprint(name), func(t *testing.T) {
			_, err := condition.Bind(all(node), letters{})
			require.Error(t, err, name)
		})
	}
	require.Equal(t, condition.Unknown, condition.Eval(stranger{}, letters{}), "of a node that nobody knows, nothing is known")
	require.Equal(t, []condition.Truth{condition.True, condition.False, condition.Unknown, condition.False},
		[]condition.Truth{condition.Of(true), condition.Of(false), condition.FalseUnless(true), condition.FalseUnless(false)})
	require.Equal(t, "Truth(9)", condition.Truth(9).String())
}

// stranger is a node of a type that the package does not have.
type stranger struct{ condition.Node }

func TestWalkGoesNoDeeperThanItIsTold(t *testing.T) {
	var met []string
	tree := all(test("A"), not(test("b")), anyOf(test("C")))
	condition.Walk(tree, func(n condition.Node) bool {
		if leaf, ok := n.(*condition.Test); ok {
			met = append(met, leaf.Values[0])
		}
		_, isNot := n.(*condition.Not)
		return !isNot
	})
	require.Equal(t, []string{"A", "C"}, met)
	condition.Walk(nil, func(condition.Node) bool { t.Error("nothing is visited"); return true })
}
