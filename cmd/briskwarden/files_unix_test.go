//go:build unix

package main_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
)

// TestFilesThatNeverEnd: what is no regular file is not read, and a large one not
// whole; a history may be a pipe.
func TestFilesThatNeverEnd(t *testing.T) {
	dir := t.TempDir()
	in(t, dir, 0, "demo", "--out", "kestrel")
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	large, err := os.Create(filepath.Join(dir, "large"))
	require.NoError(t, err)
	require.NoError(t, large.Truncate(33<<20))
	require.NoError(t, large.Close())
	people := []string{"start", "--book", "harbour", "--people"}
	grants := []string{"consent", "import", "--book", "kestrel", "--as", "ragna@kestrelsound.example", "--yes", "--file"}
	rehearse := []string{"rehearse", "--book", "kestrel", "--attempt"}
	replay := []string{"replay", "--book", "kestrel"}
	const irregular = "it is no regular file"
	for name, c := range map[string]struct {
		args []string
		file string
		want string
	}{
		"people of a pipe":      {people, "pipe", irregular},
		"people of a device":    {people, "/dev/zero", irregular},
		"too many people":       {people, "large", "larger than 32 MiB"},
		"grants of a pipe":      {grants, "pipe", irregular},
		"too many grants":       {grants, "large", "larger than 32 MiB"},
		"an attempt of a pipe":  {rehearse, "pipe", irregular},
		"too large an attempt":  {rehearse, "large", "larger than 1 MiB"},
		"a history of a device": {replay, "/dev/zero", "neither a regular file nor a pipe"},
		"a history of a folder": {replay, "kestrel", "neither a regular file nor a pipe"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, in(t, dir, 2, append(c.args[:len(c.args):len(c.args)], c.file)...), c.want)
		})
	}
	t.Run("an attempt without end", func(t *testing.T) {
		status, _, errOut := run(
			t,
			strings.Repeat(" ", attempt.MaxSize+1),
			"rehearse",
			"--book",
			filepath.Join(dir, "kestrel"),
			"--attempt",
			"-",
		)
		require.Equal(t, 2, status)
		require.Contains(t, errOut, "at most 1 MiB")
	})
	t.Run("a history of a pipe", func(t *testing.T) {
		go func() {
			_ = os.WriteFile(
				filepath.Join(dir, "pipe"),
				[]byte(`{"at":"2026-11-23T13:10:00Z","account":"ingrid@kestrelsound.example","app":"mail"}`+"\n"),
				0o600,
			)
		}()
		require.Contains(t, in(t, dir, 0, append(replay, "pipe")...), "1 attempt")
	})
}
