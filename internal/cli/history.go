package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"regexp"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/service"
)

// historyFlags say where a history is and how it is read.
type historyFlags struct {
	files   []string
	columns map[string]string
	aside   string
	options replay.Options
	// in is standard input, once it was looked at, and stores are the files that are stores of a door.
	in     *bufio.Reader
	stores map[string]bool
	// examples is a folder that must not be there yet, "" where none is to be made.
	examples string
}

func (f *historyFlags) addTo(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.options.AsRecorded, "as-recorded", false, "fill nothing in; what an attempt lacks is unknown")
	cmd.Flags().IntVar(&f.options.Workers, "workers", 0, "how many processors to use (all)")
	cmd.Flags().
		StringToStringVar(&f.columns, "columns", nil, "the history is CSV, and these columns hold what: at=when,account=user,device.id=device")
	cmd.Flags().Float64Var(&f.options.MostBad, "bad-lines", 1,
		"how many of a hundred lines may be left out as unreadable before nothing can be concluded from the rest")
	cmd.Flags().StringVar(&f.aside, "aside", "", "put the lines that cannot be read into this new file")
}

// table tells from the name of a file that it is a table.
var table = regexp.MustCompile(`(?i)\.csv(\.gz|\.zst)?$`)

// prepare finds how many bytes there are to read, -1 where nobody knows, and
// whether they are tables.
func (f *historyFlags) prepare(in io.Reader) (size int64, err error) {
	tables := 0
	for _, name := range f.files {
		if table.MatchString(name) {
			tables++
		}
		if name == "-" {
			size = -1
			f.in = bufio.NewReaderSize(in, peeked)
			beginning, _ := f.in.Peek(peeked) // what cannot be read is told when it is read
			f.options.Recorded = f.options.Recorded || replay.MayBeRecorded(beginning)
			continue
		}
		about, err := os.Stat(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return 0, fmt.Errorf("%s: no such file", name)
		case err != nil:
			return 0, err
		case about.Mode().Type() == fs.ModeNamedPipe:
			size = -1
		case !about.Mode().IsRegular(): // a device might never end
			return 0, fmt.Errorf("%s is neither a regular file nor a pipe", name)
		case size >= 0:
			size += about.Size()
		}
		if err == nil && about.Mode().IsRegular() {
			if err := f.begins(name); err != nil {
				return 0, err
			}
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

// peeked is how much of a file is looked at to see what it is: more than one line of a journal.
const peeked = 256 << 10

// packed tells from the name of a file that it is compressed, so that what it holds is not seen.
var packed = regexp.MustCompile(`(?i)\.(gz|zst)$`)

// begins looks at the beginning of a file: whether it is a door's store, or lines of a journal.
func (f *historyFlags) begins(name string) error {
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	beginning := make([]byte, peeked)
	n, err := io.ReadFull(file, beginning)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	if err := errors.Join(err, file.Close()); err != nil {
		return err
	}
	beginning = beginning[:n]
	if bytes.HasPrefix(beginning, []byte("SQLite format 3\x00")) {
		if f.stores == nil {
			f.stores = map[string]bool{}
		}
		f.stores[name] = true
	}
	f.options.Recorded = f.options.Recorded || f.stores[name] || packed.MatchString(name) || replay.MayBeRecorded(beginning)
	return nil
}

// check refuses what can be known to be wrong before anything is read.
func (f *historyFlags) check() error {
	if err := f.options.Check(); err != nil {
		return fmt.Errorf("--workers: %w", err)
	}
	if !(f.options.MostBad >= 0 && f.options.MostBad < 100) {
		return fmt.Errorf("--bad-lines is a part of a hundred, from 0 to less than 100, not %g", f.options.MostBad)
	}
	if f.aside != "" {
		if err := newfile.CheckFile(f.aside); err != nil {
			return fmt.Errorf("--aside: %w", err)
		}
	}
	if f.examples != "" {
		if err := newfile.CheckFolder(f.examples); err != nil {
			return fmt.Errorf("--examples: %w", err)
		}
	}
	return nil
}

// readHistory lets read go through a history with progress on standard error, and
// then shows what came of it, also where reading failed in the middle or was
// interrupted. Where nothing can be concluded from it, that is the error.
func (env *environment) readHistory(
	f *historyFlags,
	read func(context.Context, []replay.Source, replay.Options) (*replay.Basis, error),
	show func() error,
) error {
	if err := f.check(); err != nil {
		return err
	}
	size, err := f.prepare(env.in)
	if err != nil {
		return err
	}
	aside := &asideFile{name: f.aside}
	if f.aside != "" {
		f.options.Aside, f.options.AsideHeader = aside.put, aside.begin
	}
	bar := env.showProgress(size, &f.options)
	var sources []replay.Source
	for _, name := range f.files {
		sources = append(sources, replay.Source{Name: name, Open: func() (io.ReadCloser, error) {
			if name == "-" {
				return io.NopCloser(io.TeeReader(f.in, bar)), nil
			}
			if f.stores[name] {
				return service.Lines(name)
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
	basis, failed := read(ctx, sources, f.options)
	late := errors.Join(bar.Finish(), aside.close())
	if basis == nil {
		return errors.Join(failed, late)
	}
	shown := show()
	if basis.Unjudged != "" {
		return unjudged("nothing can be concluded from the history: " + basis.Unjudged)
	}
	return cmp.Or(failed, late, shown)
}

// asideFile is a new file for lines that cannot be read, made when there is one.
type asideFile struct {
	name string
	file *os.File
	// header is that of the table that the last line is of.
	header []byte
	err    error
}

// begin puts the header of a table before its first line, so that the file is a table.
func (a *asideFile) begin(header []byte) {
	if !bytes.Equal(a.header, header) {
		a.header = header
		a.put(replay.BadLine{}, header)
	}
}

func (a *asideFile) put(_ replay.BadLine, text []byte) {
	if a.file == nil && a.err == nil {
		a.file, a.err = os.OpenFile(a.name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	}
	if a.err == nil {
		_, a.err = a.file.Write(append(slices.Clip(text), '\n'))
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

// newBar returns a bar on standard error, which is seen at a terminal alone.
func (env *environment) newBar(size int64) *progressbar.ProgressBar {
	out, ok := env.progress.(*os.File)
	return progressbar.NewOptions64(
		size,
		progressbar.OptionSetWriter(env.progress),
		progressbar.OptionSetVisibility(ok && term.IsTerminal(int(out.Fd()))),
		progressbar.OptionThrottle(time.Second),
		progressbar.OptionClearOnFinish(),
	)
}

// showSteps returns what is told of steps that are done and of more that there are, and shows a person at a terminal how
// far they have come and how much time is left. Finish ends it.
func (env *environment) showSteps() (progress func(done, more int), finish func()) {
	bar := env.newBar(0)
	var mu sync.Mutex
	done, all := 0, 0
	progress = func(finished, more int) {
		mu.Lock()
		defer mu.Unlock()
		done, all = done+finished, all+more
		bar.ChangeMax(all)
		_ = bar.Set(done) // a bar that cannot be drawn is no reason to stop
	}
	return progress, func() { _ = bar.Finish() }
}

// showEntries returns what is told how many entries of a journal were looked at, of how many, and shows a person at a
// terminal how far that has come. Finish ends it.
func (env *environment) showEntries() (progress func(done, of int64), finish func()) {
	bar := env.newBar(0)
	return func(done, of int64) {
		bar.Describe(fmt.Sprintf("%d of %d entries", done, of))
		bar.ChangeMax64(of)
		_ = bar.Set64(done) // a bar that cannot be drawn is no reason to stop
	}, func() { _ = bar.Finish() }
}

// showProgress returns a bar over so many bytes of files, -1 where nobody knows how
// many, that tells a person at a terminal how far a replay has come.
func (env *environment) showProgress(size int64, options *replay.Options) *progressbar.ProgressBar {
	bar := env.newBar(size)
	var judged atomic.Int64
	begun := time.Now()
	options.Progress = func(attempts int64) {
		n := judged.Add(attempts)
		bar.Describe(fmt.Sprintf("%d attempts judged, %.0f a second", n, float64(n)/time.Since(begun).Seconds()))
	}
	return bar
}
