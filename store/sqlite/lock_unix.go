//go:build unix

package sqlite

import (
	"errors"
	"os"
	"syscall"
)

// lockFile takes a lock that ends with the process, however that ends.
func lockFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(errors.New("another door has this store open; a store that several share is one in PostgreSQL"), f.Close())
	}
	return f, nil
}
