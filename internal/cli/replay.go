package cli

import (
	"context"
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
		Long: "replay judges a history of attempts, as JSON one a line, plain or packed with gzip, from files or\n" +
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
	for _, name := range files {
		if name == "-" {
			sources = append(sources, replay.Source{Name: "standard input", Open: func() (io.ReadCloser, error) { return io.NopCloser(env.in), nil }})
			continue
		}
		if _, err := os.Stat(name); err != nil {
			return err
		}
		sources = append(sources, replay.Source{Name: name, Open: func() (io.ReadCloser, error) { return os.Open(name) }})
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	finish := env.showProgress(&options)
	report, failed := replay.Run(ctx, judge, sources, options)
	finish()
	if err := env.show(report, func(p *render.Page) { p.Replay(report) }); err != nil {
		return err
	}
	return failed
}

// showProgress tells a person at a terminal how far a replay has come. What it
// returns ends that.
func (env *environment) showProgress(options *replay.Options) (finish func()) {
	out, ok := env.err.(*os.File)
	if !ok || !term.IsTerminal(int(out.Fd())) {
		return func() {}
	}
	var judged atomic.Int64
	options.Progress = func(lines, _ int64) { judged.Add(lines) }
	begun, done := time.Now(), make(chan struct{})
	go func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(time.Second):
				n := judged.Load()
				fmt.Fprintf(out, "\r%d attempts judged, %.0f a second ", n, float64(n)/time.Since(begun).Seconds())
			}
		}
	}()
	return func() {
		close(done)
		fmt.Fprintln(out)
	}
}
