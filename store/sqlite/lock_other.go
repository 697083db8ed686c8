//go:build !unix

package sqlite

import (
	"errors"
	"os"
)

// lockFile takes a file that nobody else can have open to write. A crash leaves it behind, and
// the error says what to do then.
func lockFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if errors.Is(err, os.ErrExist) {
		return nil, errors.New("another door has this store open; where none runs, delete " + path)
	}
	return f, err
}
