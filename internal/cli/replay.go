package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/render"
)

// replayFlags are what a replay is told beside its files.
type replayFlags struct {
	historyFlags
	set, format string
	list        []string
	filter      replay.Filter
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
			"  briskwarden replay --book kestrel --list block,step_up --app card-till month.jsonl\n" +
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
	cmd.Flags().StringSliceVar(&flags.list, "list", nil,
		"list the attempts that came to one of these, with who, where from and why: "+strings.Join(decide.Verdicts(), ", "))
	cmd.Flags().StringVar(&flags.filter.Account, "account", "", "list those of this account alone")
	cmd.Flags().StringVar(&flags.filter.App, "app", "", "list those at this app alone")
	cmd.Flags().StringVar(&flags.filter.Policy, "policy", "", "list those that this policy is behind")
	cmd.Flags().StringVar(&flags.filter.Rule, "rule", "", "list those that a rule of this name is behind")
	cmd.Flags().StringVar(&flags.format, "format", "text", "of a list: text, csv, or jsonl for JSON, one attempt a line")
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

// listing reports whether a list is asked for, and reads what it is to hold.
func (f *replayFlags) listing() (bool, error) {
	if len(f.list) == 0 {
		if f.filter.Account+f.filter.App+f.filter.Policy+f.filter.Rule != "" || f.format != "text" {
			return false, errors.New("--account, --app, --policy, --rule and --format are those of a list; say which with --list block")
		}
		return false, nil
	}
	for _, word := range f.list {
		var v decide.Verdict
		if err := v.UnmarshalText([]byte(word)); err != nil {
			return false, fmt.Errorf("--list: %w", err)
		}
		f.filter.Verdicts = append(f.filter.Verdicts, v)
	}
	switch {
	case f.set != "":
		return false, errors.New("give --list or --set, and one of them only")
	case !slices.Contains([]string{"text", "csv", "jsonl"}, f.format):
		return false, fmt.Errorf("--format: %q is not text, csv or jsonl", f.format)
	}
	return true, nil
}

// checkNames refuses an app or a policy that the book does not have: a list of nothing would reassure.
func checkNames(b *book.Book, app, policy string) error {
	for _, x := range []struct {
		flag, name string
		known      []string
	}{{"app", app, fromBook["app"](b)}, {"policy", policy, fromBook["policy"](b)}} {
		if x.name != "" && !slices.Contains(x.known, x.name) {
			return fmt.Errorf("--%s: the book has no %[1]s %q%s", x.flag, x.name, nearest.DidYouMean(x.name, x.known))
		}
	}
	return nil
}

func (env *environment) replayList(flags replayFlags) error {
	b, judge, err := env.compile()
	if err != nil {
		return err
	}
	if err := checkNames(b, flags.filter.App, flags.filter.Policy); err != nil {
		return err
	}
	var list *replay.List
	return env.readHistory(
		&flags.historyFlags,
		func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
			list, err = replay.ListOf(ctx, judge, sources, o, flags.filter)
			return &list.Basis, err
		},
		func() error {
			known := fromBook["account"](b)
			if account := flags.filter.Account; len(list.Listed) == 0 && account != "" && !slices.Contains(known, account) {
				return fmt.Errorf("--account: neither the book nor the history has %q%s", account, nearest.DidYouMean(account, known))
			}
			switch flags.format {
			case "csv":
				return list.WriteCSV(env.gated())
			case "jsonl":
				return list.WriteLines(env.gated())
			}
			return env.show(list, func(p *render.Page) { p.List(list, b.Settings.Zone) })
		},
	)
}

func (env *environment) replay(flags replayFlags) error {
	switch listing, err := flags.listing(); {
	case err != nil:
		return err
	case listing:
		return env.replayList(flags)
	}
	if flags.set != "" {
		return env.replayTrials(flags)
	}
	_, judge, err := env.compile()
	if err != nil {
		return err
	}
	var report *replay.Report
	return env.readHistory(
		&flags.historyFlags,
		func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
			report, err = replay.Run(ctx, judge, sources, o)
			return &report.Basis, err
		},
		func() error { return env.show(report, func(p *render.Page) { p.Replay(report) }) },
	)
}

// replayTrials replays with one value after the other.
func (env *environment) replayTrials(flags replayFlags) error {
	changes, err := book.ParseChanges(flags.set)
	if err != nil {
		return fmt.Errorf("--set: %w", err)
	}
	if _, _, err := env.compile(); err != nil {
		return err
	}
	var judges []*engine.Judge
	trials := &replay.Trials{Setting: changes[0].Path}
	for _, c := range changes {
		changed, err := env.open(env.book, book.WithChanges(c))
		var wrong book.Errors
		if errors.As(err, &wrong) { // the book is in order: what is wrong is the value, not the file
			return fmt.Errorf("--set %s=%s: %s", c.Path, c.Value, wrong[0].Text)
		}
		if err != nil {
			return fmt.Errorf("--set %s=%s: %w", c.Path, c.Value, err)
		}
		judge, err := changed.Compile()
		if err != nil {
			return fmt.Errorf("--set, value %s: %w", c.Value, err)
		}
		judges = append(judges, judge)
		trials.Trials = append(trials.Trials, replay.Trial{Value: c.Value})
	}
	return env.readHistory(
		&flags.historyFlags,
		func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
			reports, err := replay.Each(ctx, judges, sources, o)
			for i, r := range reports {
				trials.Trials[i].Report = r
			}
			return &reports[0].Basis, err
		},
		func() error { return env.show(trials, func(p *render.Page) { p.Trials(trials) }) },
	)
}
