// Package newfile writes files that must not exist yet, whole or not at all.
package newfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Write puts text into a new file. Where the file exists already it is left as
// it is and the error is an fs.ErrExist. No reader ever sees half of it.
func Write(path string, text []byte) error {
	draft, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(draft.Name())
	_, err = draft.Write(text)
	err = errors.Join(err, draft.Chmod(0o644), draft.Close())
	if err != nil {
		return err
	}
	// A link, unlike a rename, fails where the name is taken.
	return os.Link(draft.Name(), path)
}

// WriteAll lays the files at the root of a file system into a folder, which is
// made where it is missing. Where one of them exists already nothing is written.
// It returns the paths of the new files.
func WriteAll(dir string, files fs.FS) ([]string, error) {
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		path := filepath.Join(dir, entry.Name())
		if _, err := os.Lstat(path); err == nil {
			return nil, fmt.Errorf("%s exists already, and nothing is overwritten; name a new folder", path)
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	var written []string
	for _, entry := range entries {
		text, err := fs.ReadFile(files, entry.Name())
		if err != nil {
			return written, err
		}
		path := filepath.Join(dir, entry.Name())
		if err := Write(path, text); err != nil {
			return written, err
		}
		written = append(written, path)
	}
	return written, nil
}
