package service

import (
	"context"
	"io/fs"
	"log/slog"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

// quiet is how long a folder must rest before what changed in it is read: an editor or a
// checkout writes several files, and a copy over a slow line takes its time between two of them.
const quiet = 2 * time.Second

// folder hears of changes in a folder and those below it.
type folder struct {
	dir     string
	log     *slog.Logger
	watcher *fsnotify.Watcher
}

// watchFolder begins to hear of changes. Where that is not possible it says so, and hears none.
func watchFolder(dir string, log *slog.Logger) *folder {
	f := &folder{dir: dir, log: log}
	var err error
	if f.watcher, err = fsnotify.NewWatcher(); err != nil {
		log.Warn("changes of the book's folder are not seen; send SIGHUP after a change", "error", err)
		return f
	}
	f.add(dir)
	return f
}

// add hears of a folder and those below it, but not of hidden ones, which are no part of a book.
func (f *folder) add(from string) {
	filepath.WalkDir(from, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.IsDir() {
			return nil // what cannot be read is told when the book is opened
		}
		if path != f.dir && strings.HasPrefix(entry.Name(), ".") {
			return fs.SkipDir
		}
		if err := f.watcher.Add(path); err != nil {
			f.log.Warn("changes of a folder are not seen; send SIGHUP after a change", "folder", path, "error", err)
		}
		return nil
	})
}

// tell tells of changes until the context ends.
func (f *folder) tell(ctx context.Context, changed chan<- struct{}) {
	if f.watcher == nil {
		return
	}
	defer f.watcher.Close()
	rest := time.NewTimer(quiet)
	rest.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case event := <-f.watcher.Events:
			if event.Op == fsnotify.Chmod {
				continue
			}
			if event.Has(fsnotify.Create) {
				f.add(event.Name)
			}
			rest.Reset(quiet)
		case err := <-f.watcher.Errors:
			f.log.Warn("changes of the book's folder may have been missed", "error", err)
			rest.Reset(quiet)
		case <-rest.C:
			select {
			case changed <- struct{}{}:
			default: // it will be read anyway
			}
		}
	}
}
