package wholefile_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/wholefile"
)

func TestWhatIsNoRegularFile(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o700))
	for name, want := range map[string]string{"pipe": "it is no regular file", "folder": "it is no regular file", "none": "no such file",
		"/dev/zero": "it is no regular file"} {
		t.Run(name, func(t *testing.T) {
			path := name
			if !filepath.IsAbs(name) {
				path = filepath.Join(dir, name)
			}
			_, err := wholefile.ReadPath(path, 10)
			require.ErrorContains(t, err, want)
			require.NotContains(t, err.Error(), dir, "the caller states the path")
		})
	}
}

// FuzzRead: a file is read whole, or not at all.
func FuzzRead(f *testing.F) {
	f.Add([]byte("text"), int64(4))
	f.Add([]byte("text"), int64(3))
	f.Fuzz(func(t *testing.T, text []byte, most int64) {
		most &= 1<<20 - 1
		read, err := wholefile.Read(fstest.MapFS{"x": {Data: text}}, "x", most)
		if int64(len(text)) > most {
			require.ErrorContains(t, err, "the file is larger than")
			require.Nil(t, read)
			return
		}
		require.NoError(t, err)
		require.Equal(t, string(text), string(read))
	})
}
