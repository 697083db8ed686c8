package newfile_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/newfile"
)

func TestNothingIsOverwritten(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new", "folder")
	files := fstest.MapFS{"a.yaml": {Data: []byte("a")}, "b.yaml": {Data: []byte("b")}}
	written, err := newfile.WriteAll(dir, files, newfile.Shared)
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(dir, "a.yaml"), filepath.Join(dir, "b.yaml")}, written)
	text, err := os.ReadFile(written[1])
	require.NoError(t, err)
	require.Equal(t, "b", string(text))

	// One of them stands in the way: none is written.
	other := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "b.yaml"), []byte("mine"), 0o600))
	_, err = newfile.WriteAll(other, files, newfile.Shared)
	require.ErrorContains(t, err, "b.yaml exists already, and nothing is overwritten")
	entries, err := os.ReadDir(other)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	require.ErrorIs(t, newfile.Write(filepath.Join(other, "b.yaml"), []byte("x"), newfile.Shared), fs.ErrExist)
	text, err = os.ReadFile(filepath.Join(other, "b.yaml"))
	require.NoError(t, err)
	require.Equal(t, "mine", string(text))
	entries, err = os.ReadDir(other)
	require.NoError(t, err)
	require.Len(t, entries, 1, "no draft is left behind")

	require.Error(t, newfile.Write(filepath.Join(other, "none", "c.yaml"), nil, newfile.Shared))
}
