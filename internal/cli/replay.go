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

	"github.com/schollz/progressbar/v3"
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
	size := int64(0)
	for _, name := range files {
		if name == "-" {
			size = -1
			break
		}
		about, err := os.Stat(name)
		if err != nil {
			return err
		}
		size += about.Size()
	}
	bar := env.showProgress(size, &options)
	var sources []replay.Source
	for _, name := range files {
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
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	report, failed := replay.Run(ctx, judge, sources, options)
	if err := bar.Finish(); err != nil {
		return err
	}
	if err := env.show(report, func(p *render.Page) { p.Replay(report) }); err != nil {
		return err
	}
	if failed == nil && report.Cut {
		return errors.New("the replay was interrupted")
	}
	return failed
}

// showProgress returns a bar over so many bytes of files, -1 where nobody knows how
// many, that tells a person at a terminal how far a replay has come.
func (env *environment) showProgress(size int64, options *replay.Options) *progressbar.ProgressBar {
	out, ok := env.err.(*os.File)
	bar := progressbar.NewOptions64(size, progressbar.OptionSetWriter(env.err), progressbar.OptionSetVisibility(ok && term.IsTerminal(int(out.Fd()))),
		progressbar.OptionThrottle(time.Second), progressbar.OptionClearOnFinish())
	var judged atomic.Int64
	begun := time.Now()
	options.Progress = func(attempts int64) {
		n := judged.Add(attempts)
		bar.Describe(fmt.Sprintf("%d attempts judged, %.0f a second", n, float64(n)/time.Since(begun).Seconds()))
	}
	return bar
}
