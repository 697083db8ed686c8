package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/replay"
)

func (env *environment) replayCommand() *cobra.Command {
	var options replay.Options
	cmd := &cobra.Command{
		Use:   "replay FILE...",
		Short: "Judge a recorded history",
		Long: "replay judges a history of attempts, as JSON one a line, plain or packed (gzip, zstd), from files or\n" +
			"from standard input (-), and adds up what came of it. What an attempt lacks and the history itself\n" +
			"knows is filled in: the sign-in before, whether the device was seen, the failures before. Lines that\n" +
			"cannot be read are counted and told, and stop nothing. Interrupted, it tells what it has.",
		Example: "  briskwarden replay --book kestrel october.jsonl.gz november.jsonl\n" +
			"  zcat history/*.gz | briskwarden replay --book kestrel -",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return fmt.Errorf("name the files of the history, or - for standard input")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, files []string) error { return env.replay(files, options) },
	}
	cmd.Flags().BoolVar(&options.AsRecorded, "as-recorded", false, "fill nothing in; what an attempt lacks is unknown")
	cmd.Flags().IntVar(&options.Workers, "workers", 0, "how many processors to use (all)")
	return cmd
}

func (env *environment) replay(files []string, options replay.Options) error {
	_, judge, err := env.compile()
	if err != nil {
		return err
	}
	var sources []replay.Source
	var seen progress
	for _, name := range files {
		if name == "-" {
			seen.endless = true
			sources = append(sources, replay.Source{Name: "standard input", Open: func() (io.ReadCloser, error) { return io.NopCloser(env.in), nil }})
			continue
		}
		about, err := os.Stat(name)
		if err != nil {
			return err
		}
		seen.size += about.Size()
		sources = append(sources, replay.Source{Name: name, Open: func() (io.ReadCloser, error) {
			file, err := os.Open(name)
			return &counted{file, &seen.read}, err
		}})
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	finish := env.showProgress(&seen, &options)
	report, failed := replay.Run(ctx, judge, sources, options)
	finish()
	if err := env.show(report, func(p *render.Page) { p.Replay(report) }); err != nil {
		return err
	}
	if failed == nil && report.Cut {
		return errors.New("the replay was interrupted")
	}
	return failed
}

// progress is how far a replay has come: attempts that were judged, and bytes of
// the files that were read, as packed as they are.
type progress struct {
	judged, read atomic.Int64
	size         int64
	// endless says that nobody knows how much there is.
	endless bool
}

// counted counts what is read of a file.
type counted struct {
	*os.File
	read *atomic.Int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.File.Read(p)
	c.read.Add(int64(n))
	return n, err
}

// showProgress tells a person at a terminal how far a replay has come. What it
// returns ends that.
func (env *environment) showProgress(seen *progress, options *replay.Options) (finish func()) {
	out, ok := env.err.(*os.File)
	if !ok || !term.IsTerminal(int(out.Fd())) {
		return func() {}
	}
	options.Progress = func(attempts int64) { seen.judged.Add(attempts) }
	begun, done := time.Now(), make(chan struct{})
	go func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(time.Second):
				fmt.Fprintf(out, "\r%s\x1b[K", seen.tell(time.Since(begun)))
			}
		}
	}()
	return func() {
		close(done)
		fmt.Fprint(out, "\r\x1b[K")
	}
}

// tell says how far a replay has come after some time, and how long it will yet
// take as far as the files tell.
func (p *progress) tell(since time.Duration) string {
	judged, read := p.judged.Load(), p.read.Load()
	text := fmt.Sprintf("%d attempts judged, %.0f a second", judged, float64(judged)/since.Seconds())
	if p.endless || read == 0 {
		return text
	}
	left := time.Duration(float64(since) * float64(max(0, p.size-read)) / float64(read))
	return fmt.Sprintf("%s, %s left", text, left.Round(time.Second))
}
