package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"regexp"
	"runtime/debug"
	"sync/atomic"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"github.com/briskwarden/briskwarden/admin/replay"
)

// historyFlags say where a history is and how it is read.
type historyFlags struct {
	files   []string
	columns map[string]string
	aside   string
	options replay.Options
}

func (f *historyFlags) addTo(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.options.AsRecorded, "as-recorded", false, "fill nothing in; what an attempt lacks is unknown")
	cmd.Flags().IntVar(&f.options.Workers, "workers", 0, "how many processors to use (all)")
	cmd.Flags().
		StringToStringVar(&f.columns, "columns", nil, "the history is CSV, and these columns hold what: at=when,account=user,device.id=device")
	cmd.Flags().StringVar(&f.aside, "aside", "", "put the lines that cannot be read into this new file")
}

// table tells from the name of a file that it is a table.
var table = regexp.MustCompile(`(?i)\.csv(\.gz|\.zst)?$`)

// prepare finds how many bytes there are to read, -1 where nobody knows, and
// whether they are tables.
func (f *historyFlags) prepare() (size int64, err error) {
	tables := 0
	for _, name := range f.files {
		if table.MatchString(name) {
			tables++
		}
		if name == "-" {
			size = -1
			continue
		}
		about, err := os.Stat(name)
		switch {
		case err != nil:
			return 0, err
		case about.Mode().Type() == fs.ModeNamedPipe:
			size = -1
		case !about.Mode().IsRegular(): // a device might never end
			return 0, fmt.Errorf("%s is neither a regular file nor a pipe", name)
		case size >= 0:
			size += about.Size()
		}
	}
	switch {
	case f.columns != nil:
		f.options.Columns = f.columns
	case tables == len(f.files):
		f.options.Columns = replay.Columns{}
	case tables > 0:
		return 0, errors.New("CSV and JSON cannot be read together; replay them one after the other")
	}
	return size, nil
}

// readHistory lets read go through a history with progress on standard error, and
// then shows what came of it, also where reading failed in the middle or was
// interrupted.
func (env *environment) readHistory(
	f *historyFlags,
	read func(context.Context, []replay.Source, replay.Options) (cut bool, err error),
	show func() error,
) error {
	if err := f.options.Check(); err != nil {
		return fmt.Errorf("--workers: %w", err)
	}
	size, err := f.prepare()
	if err != nil {
		return err
	}
	aside := &asideFile{name: f.aside}
	if f.aside != "" {
		f.options.Aside = aside.put
	}
	bar := env.showProgress(size, &f.options)
	var sources []replay.Source
	for _, name := range f.files {
		sources = append(sources, replay.Source{Name: name, Open: func() (io.ReadCloser, error) {
			if name == "-" {
				return io.NopCloser(io.TeeReader(env.in, bar)), nil
			}
			file, err := os.Open(name)
			return struct {
				io.Reader
				io.Closer
			}{io.TeeReader(file, bar), file}, err
		}})
	}
	// A history leaves much behind and keeps little: to sweep half as often costs little
	// memory and spares time.
	defer debug.SetGCPercent(debug.SetGCPercent(200))
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	cut, failed := read(ctx, sources, f.options)
	if err := errors.Join(bar.Finish(), aside.close()); err != nil {
		return err
	}
	shown := show()
	switch {
	case failed != nil:
		return failed
	case cut:
		return errors.New("the replay was interrupted")
	}
	return shown
}

// asideFile is a new file for lines that cannot be read, made when there is one.
type asideFile struct {
	name string
	file *os.File
	err  error
}

func (a *asideFile) put(_ replay.BadLine, text []byte) {
	if a.file == nil && a.err == nil {
		a.file, a.err = os.OpenFile(a.name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	}
	if a.err == nil {
		_, a.err = a.file.Write(append(text, '\n'))
	}
}

func (a *asideFile) close() error {
	if a.file != nil {
		a.err = errors.Join(a.err, a.file.Close())
	}
	if a.err != nil {
		return fmt.Errorf("--aside: %w", a.err)
	}
	return nil
}

// showProgress returns a bar over so many bytes of files, -1 where nobody knows how
// many, that tells a person at a terminal how far a replay has come.
func (env *environment) showProgress(size int64, options *replay.Options) *progressbar.ProgressBar {
	out, ok := env.err.(*os.File)
	bar := progressbar.NewOptions64(
		size,
		progressbar.OptionSetWriter(env.err),
		progressbar.OptionSetVisibility(ok && term.IsTerminal(int(out.Fd()))),
		progressbar.OptionThrottle(time.Second),
		progressbar.OptionClearOnFinish(),
	)
	var judged atomic.Int64
	begun := time.Now()
	options.Progress = func(attempts int64) {
		n := judged.Add(attempts)
		bar.Describe(fmt.Sprintf("%d attempts judged, %.0f a second", n, float64(n)/time.Since(begun).Seconds()))
	}
	return bar
}
