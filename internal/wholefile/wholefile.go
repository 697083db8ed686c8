// Package wholefile reads files that are held in memory whole.
package wholefile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Read reads a regular file of at most so many bytes. What is a pipe, a device or a
// folder is not opened: it could hang or never end. Errors leave out the path, which
// the caller states.
func Read(files fs.FS, name string, most int64) ([]byte, error) {
	if info, err := fs.Stat(files, name); err != nil {
		return nil, withoutPath(err)
	} else if !info.Mode().IsRegular() {
		return nil, errors.New("the file cannot be read: it is no regular file")
	}
	f, err := files.Open(name)
	if err != nil {
		return nil, withoutPath(err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	switch {
	case err != nil:
		return nil, withoutPath(err)
	case int64(len(text)) > most:
		return nil, fmt.Errorf("the file is larger than %d MiB; spread it over several files", most>>20)
	}
	return text, nil
}

// ReadPath is Read for a path as a user states it.
func ReadPath(path string, most int64) ([]byte, error) {
	return Read(os.DirFS(filepath.Dir(path)), filepath.Base(path), most)
}

func withoutPath(err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return fmt.Errorf("the file cannot be read: %w", pathError.Err)
	}
	return err
}
