package condition_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/condition"
)

// define makes a key for the tests of this package, which has none of its own.
func define(name string, shape condition.Shape) condition.Key {
	return family.Define(
		condition.Definition{
			Name:     name,
			Doc:      "made up",
			About:    condition.AboutApp,
			Shape:    shape,
			Meaning:  condition.MeansWords,
			Explored: condition.NoCircumstance,
			Bind: func(condition.Vocabulary, *condition.Test, string) (condition.Binding, error) {
				return condition.Binding{}, nil
			},
			Says: func(*condition.Test, bool) string { return name },
		}, letters.answer, letters.saw,
	)
}

// family are the keys that letters answer.
var family condition.Family[letters]

var (
	tags, groups, countries = define("tags", condition.List), define("groups", condition.List), define("countries", condition.List)
	networks, attributes    = define("networks", condition.List), define("attributes", condition.Named)
	anyone, scoreAtLeast    = define("anyone", condition.Marker), define("score_at_least", condition.Number)
)

// letters is a vocabulary in which each word is its first letter, and facts that
// hold the upper-case letters, fail the lower-case ones and do not know the digits.
type letters struct{}

func (letters) Bind(_ *condition.Test, value string) (condition.Binding, error) {
	if value == "" {
		return condition.Binding{}, errors.New("a word is missing")
	}
	return condition.Binding{Numbers: []int32{int32(value[0])}, Words: "the letter " + value}, nil
}

func (letters) answer(t *condition.Test) condition.Truth {
	holds := condition.False
	for _, n := range t.Numbers() {
		switch {
		case n < 'A':
			holds = max(holds, condition.Unknown)
		case n < 'a':
			holds = condition.True
		}
	}
	return holds
}

func (f letters) saw(t *condition.Test) string {
	if f.answer(t) == condition.Unknown {
		return ""
	}
	return "letters"
}

func (f letters) Holds(t *condition.Test) condition.Truth { return family.Holds(f, t) }
func (f letters) Saw(t *condition.Test) string            { return family.Saw(f, t) }

func test(values ...string) condition.Node {
	return &condition.Test{At: condition.Position{File: "x.yaml", Line: 3, Column: 7}, Key: tags, Values: values}
}
func all(of ...condition.Node) condition.Node   { return &condition.All{Of: of} }
func anyOf(of ...condition.Node) condition.Node { return &condition.Any{Of: of} }
func not(of condition.Node) condition.Node      { return &condition.Not{Of: of} }

// TestReasons holds the truth of conditions, why they do not hold and because of
// what they do.
func TestReasons(t *testing.T) {
	yes, no, maybe := test("A"), test("b"), test("1")
	for i, c := range []struct {
		node         condition.Node
		want         condition.Truth
		why, because []string
	}{
		{nil, condition.True, nil, nil},
		{all(), condition.True, nil, nil},
		{anyOf(), condition.False, nil, nil},
		{yes, condition.True, nil, []string{"tags: wants the letter A, saw letters"}},
		{no, condition.False, []string{"tags: wants the letter b, saw letters"}, nil},
		{maybe, condition.Unknown, []string{"tags: wants the letter 1, saw nothing (unknown)"}, nil},
		{test("b", "1", "A"), condition.True, nil, []string{"tags: wants the letter b or the letter 1 or the letter A, saw letters"}},
		{all(yes, maybe), condition.Unknown, []string{"tags: wants the letter 1, saw nothing (unknown)"}, nil},
		{all(maybe, test("2"), yes), condition.Unknown, []string{"tags: wants the letter 1, saw nothing (unknown)",
			"tags: wants the letter 2, saw nothing (unknown)"}, nil},
		{all(maybe, no, test("c")), condition.False, []string{"tags: wants the letter b, saw letters"}, nil},
		{anyOf(no, maybe), condition.Unknown, []string{"tags: wants the letter 1, saw nothing (unknown)"}, nil},
		{anyOf(no, test("c")), condition.False, []string{"tags: wants the letter b, saw letters", "tags: wants the letter c, saw letters"}, nil},
		{anyOf(no, yes, test("D")), condition.True, nil, []string{"tags: wants the letter A, saw letters"}},
		{all(yes, test("D")), condition.True, nil, []string{"tags: wants the letter A, saw letters", "tags: wants the letter D, saw letters"}},
		{not(yes), condition.False, []string{"tags: wants not the letter A, saw letters"}, nil},
		{not(no), condition.True, nil, []string{"tags: wants not the letter b, saw letters"}},
		{not(maybe), condition.Unknown, []string{"tags: wants not the letter 1, saw nothing (unknown)"}, nil},
		{not(anyOf(no, yes)), condition.False, []string{"tags: wants not the letter A, saw letters"}, nil},
		{not(all(yes, no)), condition.True, nil, []string{"tags: wants not the letter b, saw letters"}},
		{not(not(no)), condition.False, []string{"tags: wants the letter b, saw letters"}, nil},
	} {
		t.Run(fmt.Sprint(i, " ", condition.Text(c.node)), func(t *testing.T) {
			bound, err := condition.Bind(c.node, letters{})
			require.NoError(t, err)
			require.Equal(t, c.want, condition.Eval(bound, letters{}))
			conjoined := condition.Conjoin(bound)
			require.Equal(t, c.want, conjoined.Eval(letters{}), "laid out as a list it comes to the same")
			require.Equal(t, c.why, words(condition.Why(bound, letters{})))
			text, ends := conjoined.WriteWhy([]byte("before"), nil, "lead: ", letters{})
			var written []string
			for start := len("before"); len(ends) > 0; start, ends = ends[0], ends[1:] {
				written = append(written, strings.TrimPrefix(string(text[start:ends[0]]), "lead: "))
			}
			require.Equal(t, c.why, written)
			because := words(condition.Because(bound, letters{}))
			require.Equal(t, c.because, because)
			require.Equal(t, strings.Join(append([]string{"before"}, because...), "; "), string(conjoined.WriteBecause([]byte("before"), "; ", letters{})))
		})
	}
}

func TestOfNoConjunctionAnythingIsKnown(t *testing.T) {
	none, nothing := condition.Conjunction{}, condition.Conjoin(nil)
	require.Equal(t, []condition.Truth{condition.Unknown, condition.True}, []condition.Truth{none.Eval(letters{}), nothing.Eval(letters{})})
	require.Equal(t, condition.Unknown, (&condition.Test{}).Holds(letters{}), "nor of a test that is not bound")
}

func words(reasons []condition.Reason) (list []string) {
	for _, r := range reasons {
		list = append(list, r.String())
	}
	return list
}

func TestBindTellsWhere(t *testing.T) {
	for _, node := range []condition.Node{test(""), all(test("A"), test("")), anyOf(test("")), not(test(""))} {
		_, err := condition.Bind(node, letters{})
		require.EqualError(t, err, "x.yaml:3:7: tags: a word is missing")
	}
}

func TestTruthText(t *testing.T) {
	for _, truth := range []condition.Truth{condition.False, condition.Unknown, condition.True} {
		text, err := truth.MarshalText()
		require.NoError(t, err)
		var again condition.Truth
		require.NoError(t, again.UnmarshalText(text))
		require.Equal(t, truth, again)
		require.Equal(t, truth, truth.Not().Not())
	}
	require.Error(t, new(condition.Truth).UnmarshalText([]byte("perhaps")))
}
