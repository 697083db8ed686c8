// Package newfile writes files that must not exist yet, whole or not at all.
package newfile

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
)

// Who may read a new file. The umask takes away from it.
const (
	// Private is for what holds people, their addresses and their sign-ins.
	Private fs.FileMode = 0o600
	// Shared is for what anyone may read.
	Shared fs.FileMode = 0o666
)

// Write puts text into a new file. Where the file exists already it is left as
// it is and the error is an fs.ErrExist. No reader ever sees half of it.
func Write(path string, text []byte, readers fs.FileMode) error {
	name := filepath.Join(filepath.Dir(path), fmt.Sprintf(".new-%016x", rand.Uint64()))
	draft, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, readers)
	if err != nil {
		return err
	}
	defer os.Remove(draft.Name())
	_, err = draft.Write(text)
	err = errors.Join(err, draft.Close())
	if err != nil {
		return err
	}
	// A link, unlike a rename, fails where the name is taken.
	return os.Link(draft.Name(), path)
}

// CheckFile reports what would keep a new file from being written.
func CheckFile(path string) error {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s exists already, and nothing is overwritten", path)
	}
	switch about, err := os.Stat(filepath.Dir(path)); {
	case err != nil:
		return err
	case !about.IsDir():
		return fmt.Errorf("%s is no folder", filepath.Dir(path))
	}
	return nil
}

// CheckFolder reports what would keep files from being laid into a new folder, or an
// empty one.
func CheckFolder(dir string) error {
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case len(entries) > 0:
		return fmt.Errorf("the folder %s is not empty, and nothing is overwritten; name a new one", dir)
	}
	return nil
}

// WriteAll lays the files at the root of a file system into a folder, which is
// made where it is missing. Where one of them exists already nothing is written.
// It returns the paths of the new files.
func WriteAll(dir string, files fs.FS, readers fs.FileMode) ([]string, error) {
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
		if err := Write(path, text, readers); err != nil {
			return written, err
		}
		written = append(written, path)
	}
	return written, nil
}
