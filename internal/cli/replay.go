package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/render"
)

// replayFlags are what a replay is told beside its files.
type replayFlags struct {
	historyFlags
	set string
}

func (env *environment) replayCommand() *cobra.Command {
	var flags replayFlags
	cmd := &cobra.Command{
		Use:   "replay FILE...",
		Short: "Judge a recorded history",
		Long: "replay judges a history of attempts and adds up what came of it. A history is attempts as JSON, or\n" +
			"OCSF authentication events, one a line, or tables in CSV with a header; plain or packed (gzip,\n" +
			"zstd), from files or from standard input (-). What an attempt lacks and the history itself knows is\n" +
			"filled in: the sign-in before, whether the device was seen, the failures before. Lines that cannot\n" +
			"be read are counted and told, and stop nothing. Interrupted, it reports what it has.\n" +
			"Where no attempt could be judged, or more lines are left out than --bad-lines allows, nothing can be\n" +
			"concluded, and the exit status is 2.\n\n" +
			"A column of a table can hold one of\n  " + inLines(replay.ColumnKeys(), 9) + ";\n" +
			"where the header names one otherwise, --columns says how. Of an OCSF event that failed the factors are\n" +
			"proofs that were refused, else proofs.",
		Example: "  briskwarden replay --book kestrel october.jsonl.gz november.jsonl\n" +
			"  zcat history/*.gz | briskwarden replay --book kestrel -\n" +
			"  briskwarden replay --book kestrel --set risk.levels.medium=20,40,60 month.jsonl\n" +
			"  briskwarden replay --book kestrel --columns at=when,account=user,app=service sign-ons.csv",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return fmt.Errorf("name the files of the history, or - for standard input")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, files []string) error {
			flags.files = files
			return env.replay(flags)
		},
	}
	flags.addTo(cmd)
	cmd.Flags().
		StringVar(&flags.set, "set", "", "replay once for each of these values of something in the book, such as risk.levels.medium=20,40")
	env.peopleFlag(cmd.Flags())
	return cmd
}

// inLines lists words, so many on a line.
func inLines(words []string, each int) string {
	var lines []string
	for line := range slices.Chunk(words, each) {
		lines = append(lines, strings.Join(line, ", "))
	}
	return strings.Join(lines, ",\n  ")
}

func (env *environment) replay(flags replayFlags) error {
	if flags.set != "" {
		return env.replayTrials(flags)
	}
	_, judge, err := env.compile()
	if err != nil {
		return err
	}
	var report *replay.Report
	return env.readHistory(&flags.historyFlags, func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
		report, err = replay.Run(ctx, judge, sources, o)
		return &report.Basis, err
	}, func() error { return env.show(report, func(p *render.Page) { p.Replay(report) }) })
}

// replayTrials replays with one value after the other.
func (env *environment) replayTrials(flags replayFlags) error {
	changes, err := book.ParseChanges(flags.set)
	if err != nil {
		return fmt.Errorf("--set: %w", err)
	}
	var judges []*decide.Judge
	trials := &replay.Trials{Setting: changes[0].Path}
	for _, c := range changes {
		changed, err := env.open(env.book, book.WithChanges(c))
		if err != nil {
			return fmt.Errorf("--set, value %s: %w", c.Value, err)
		}
		judge, err := changed.Compile()
		if err != nil {
			return fmt.Errorf("--set, value %s: %w", c.Value, err)
		}
		judges = append(judges, judge)
		trials.Trials = append(trials.Trials, replay.Trial{Value: c.Value})
	}
	return env.readHistory(&flags.historyFlags, func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
		reports, err := replay.Each(ctx, judges, sources, o)
		for i, r := range reports {
			trials.Trials[i].Report = r
		}
		return &reports[0].Basis, err
	}, func() error { return env.show(trials, func(p *render.Page) { p.Trials(trials) }) })
}
