package directory_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/directory"
)

func TestAPushReachesOutWhateverABookLists(t *testing.T) {
	for _, m := range directory.Catalogue([]directory.Method{{Name: "push", Traits: []directory.Trait{directory.DeviceBound}}, {
		Name: "sms-code", Traits: []directory.Trait{}}}) {
		if m.Name == "push" || m.Name == "sms-code" {
			require.Contains(t, m.Traits, directory.OutOfBand, m.Name)
		}
	}
}

func TestNamesThatNobodyCouldTellApart(t *testing.T) {
	for name, wrong := range map[string]string{
		"ingrid@kestrelsound.example": "", "bücher": "", "naïve": "", "": "cannot be empty", "a b": "a space", "a\tb": "U+0009",
		"a\u200bb": "U+200B", "a\u202eb": "U+202E",
		"a\u00a0b": "U+00A0", "\u212aate": "write \"Kate\"", "nai\u0308ve": "composed form", "a\x1b[2Jb": "U+001B", "\ufeffa": "U+FEFF",
		"a\xffb": "UTF-8",
	} {
		t.Run(name, func(t *testing.T) {
			if err := directory.CheckName(name); wrong == "" {
				require.NoError(t, err, name)
			} else {
				require.ErrorContains(t, err, wrong, "%+q", name)
			}
		})
	}
}
