package words_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/words"
)

func TestCount(t *testing.T) {
	for want, got := range map[string]string{
		"0 days": words.Count(0, "day"), "1 day": words.Count(1, "day"), "2 days": words.Count(2, "day"), "1 policy": words.Count(1, "policy"),
		"12 policies": words.Count(12, "policy"),
	} {
		t.Run(want, func(t *testing.T) {
			require.Equal(t, want, got)
		})
	}
}

func TestLists(t *testing.T) {
	for want, got := range map[string]string{
		"nothing": words.List(nil, "and"), "a": words.List([]string{"a"}, "and"), "a or b": words.List([]string{"a", "b"}, "or"),
		"a, b and c":      words.List([]string{"a", "b", "c"}, "and"),
		"a, b and 2 more": words.UpTo(2, []string{"a", "b", "c", "d"}), "a and b": words.UpTo(2, []string{"a", "b"}),
	} {
		t.Run(want, func(t *testing.T) {
			require.Equal(t, want, got)
		})
	}
}

func TestTextForOtherFormats(t *testing.T) {
	for text, want := range map[string]string{
		"# Heading":          `\# Heading`,
		"- item":             `\- item`,
		"12. item":           `12\. item`,
		"> quoted":           `\> quoted`,
		"===":                `\===`,
		"```\n# x\n```":      "\\`\\`\\` \\# x \\`\\`\\`",
		"~~~":                `\~\~\~`,
		"a &lt; <b> [c](d)":  `a \&lt; \<b> \[c\](d)`,
		"fleet-baseline - x": "fleet-baseline - x",
	} {
		t.Run(text, func(t *testing.T) { require.Equal(t, want, words.Markdown(text)) })
	}
	for text, want := range map[string]string{
		"=1+1": "'=1+1", "+47 1": "'+47 1", "-x": "'-x", "@SUM(A1)": "'@SUM(A1)", "\tx": "'\tx", "ann@x.example": "ann@x.example", "": "",
	} {
		t.Run("cell "+text, func(t *testing.T) { require.Equal(t, want, words.Cell(text)) })
	}
}
