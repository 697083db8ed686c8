package book_test

import (
	"io/fs"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/directory"
)

// TestEachWordHasAnExample: the example book is right, and each word of the language stands
// in it and says what it means.
func TestEachWordHasAnExample(t *testing.T) {
	files := fstest.MapFS{"places.mmdb": {Data: []byte("x")}}
	for _, name := range []string{"book.yaml", "people.csv"} {
		text, err := fs.ReadFile(book.ExampleBook(), name)
		require.NoError(t, err)
		files[name] = &fstest.MapFile{Data: text}
	}
	b, err := book.OpenFS(files, book.WithDatabase(func([]byte) (directory.Locator, error) { return nil, nil }))
	require.NoError(t, err)
	_, _, err = b.CompileBoth()
	require.NoError(t, err)
	require.Empty(t, b.Imported[0].Skipped)
	words := book.Language()
	require.Greater(t, len(words), 200)
	seen := map[string]bool{}
	for _, w := range words {
		t.Run(w.In+"/"+w.Name, func(t *testing.T) {
			require.Contains(t, w.Example, w.Name)
			require.NotEmpty(t, w.Means)
			require.NotEmpty(t, w.Values)
			require.True(t, w.Required == (w.Default == ""), w.Default)
			require.False(t, seen[w.In+"/"+w.Name])
			seen[w.In+"/"+w.Name] = true
		})
	}
}
