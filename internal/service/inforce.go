package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// A door keeps the files of the book in force, so that it goes on with that book when it starts again, whatever is in the folder by then.
// They lie in a folder of their own in its state, named by their digest; a file beside it names the folder, and is replaced in one step.

// mostBookFile is how large a file of a book may be, in bytes: one that knows addresses is large.
const mostBookFile = 1 << 30

// keeper keeps what a door has of its own as files in its state.
type keeper struct{ dir, door string }

// keeperOf returns the keeper of a configuration, nil where it keeps nothing.
func keeperOf(c *door.Config) *keeper {
	if c.State == "" {
		return nil
	}
	return &keeper{c.State, c.Journal.Door}
}

func (k *keeper) path(name string) string { return filepath.Join(k.dir, k.door+"."+name) }

// Keep implements door.Keeper.
func (k *keeper) Keep(name string, text []byte) error {
	if err := os.MkdirAll(k.dir, 0o700); err != nil {
		return err
	}
	return replace(k.path(name), text)
}

// Kept implements door.Keeper.
func (k *keeper) Kept(name string) ([]byte, time.Time, error) {
	info, err := os.Stat(k.path(name))
	if err != nil {
		return nil, time.Time{}, err
	}
	text, err := wholefile.ReadPath(k.path(name), mostConfig)
	return text, info.ModTime(), err
}

// pointer is the file that names the folder of the book in force.
const pointer = "book"

// inForce returns the folder with the files of the book in force, "" where none is kept.
func (k *keeper) inForce() (string, error) {
	if k == nil {
		return "", nil
	}
	text, _, err := k.Kept(pointer)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", nil
	case err != nil:
		return "", fmt.Errorf("state: %w", err)
	}
	return k.path(pointer + "-" + strings.TrimSpace(string(text))), nil
}

// keepBook keeps the files of a book that came into force from a folder. It fails where the folder holds another by now.
func (k *keeper) keepBook(dir string, b *briskwarden.Book) error {
	was, err := k.inForce()
	if err != nil {
		return err
	}
	sum := sha256.Sum256([]byte(b.Digest()))
	name := hex.EncodeToString(sum[:8])
	into := k.path(pointer + "-" + name)
	if into != was {
		if err := copyBook(dir, into, b); err != nil {
			return errors.Join(err, os.RemoveAll(into))
		}
	}
	if err := k.Keep(pointer, []byte(name+"\n")); err != nil {
		return err
	}
	if was != "" && was != into {
		return os.RemoveAll(was)
	}
	return nil
}

// copyBook copies the files of a book into a folder, where they are to be the same book.
func copyBook(dir, into string, b *briskwarden.Book) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	source := b.Source()
	names := append([]string{}, source.Files...)
	for _, i := range source.Imports {
		names = append(names, i.File)
	}
	if source.Settings.IPDatabase != "" {
		names = append(names, source.Settings.IPDatabase)
	}
	if err := os.RemoveAll(into); err != nil {
		return err
	}
	for _, name := range names {
		text, err := wholefile.Read(root.FS(), name, mostBookFile)
		if err != nil {
			return err
		}
		to := filepath.Join(into, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		if err := writeSynced(to, text); err != nil {
			return err
		}
		if info, err := fs.Stat(root.FS(), name); err == nil { // by which an import says when it was made
			if err := os.Chtimes(to, time.Time{}, info.ModTime()); err != nil {
				return err
			}
		}
	}
	copied, err := book.Open(into, book.WithDatabase(mmdb.Locator))
	switch {
	case err != nil:
		return err
	case copied.Digest != b.Digest():
		return errors.New("the folder holds another book by now")
	}
	return nil
}

// writeSynced writes a file so that it is there after a crash.
func writeSynced(path string, text []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Sync(), f.Close())
}

// opens are how a door opens the book in its folder, and the one that was in force when it last ran, nil where there is none.
func (s *Service) opens(k *keeper) (load, inForce door.Loader, err error) {
	kept, err := k.inForce()
	if err != nil || kept == "" {
		return Loader(s.Dir), nil, err
	}
	return Loader(s.Dir), func(options ...briskwarden.Option) (*briskwarden.Book, error) {
		return Loader(kept)(append(options, briskwarden.WithName(s.Dir))...)
	}, nil
}

// tellOfOthers tells at a first start where another door that runs on the store has another book in force.
func (s *Service) tellOfOthers(ctx context.Context, kept store.Store, d *door.Door) error {
	heads, err := kept.Heads(ctx)
	if err != nil {
		return err
	}
	for i := range heads {
		log := heads[i].Log
		if log == s.Config.Journal.Door || !store.IsOfDoor(log) {
			continue
		}
		switch runs, err := kept.Held(ctx, log); {
		case err != nil:
			return err
		case !runs:
			continue
		}
		for e, err := range kept.Entries(ctx, journal.Filter{Log: log, Kind: journal.Reload, Latest: true}) {
			if err != nil {
				return err
			}
			said, is := new(door.Reloaded), false
			if content, err := e.Content(); err == nil {
				is = json.Unmarshal(content.Reload, said) == nil && said.Taken
			}
			if !is {
				continue
			}
			if said.Book != d.Book().Digest() {
				s.Log.Warn("another door of the store has another book in force", "door", log, "its", said.Book, "own", d.Book().Digest())
			}
			break
		}
	}
	return nil
}

// tellOfAnother tells at a start that the folder holds another book than the one in force, which goes on.
func (s *Service) tellOfAnother(d *door.Door) (differs bool) {
	found, err := book.Open(s.Dir, book.WithDatabase(mmdb.Locator))
	switch {
	case err != nil:
		s.Log.Warn("the book in force goes on: that of the folder cannot be opened", "folder", s.Dir, "in_force", d.Book().Digest(),
			"error", err)
		return true
	case found.Digest != d.Book().Digest():
		s.Log.Warn("the book in force goes on: the folder holds another, which SIGHUP takes", "folder", s.Dir,
			"in_force", d.Book().Digest(), "in_folder", found.Digest)
		return true
	}
	return false
}
