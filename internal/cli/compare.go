package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/tools/txtar"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/terminal"
)

// compareFlags are what a comparison is told beside the books.
type compareFlags struct {
	historyFlags
	failOn           []string
	format           string
	exact            bool
	at, ahead, limit string
}

func (env *environment) compareCommand() *cobra.Command {
	var flags compareFlags
	cmd := &cobra.Command{
		Use:   "compare OLD NEW",
		Short: "Tell what changed between two books, and what that would have changed",
		Long: "compare tells in sentences what changed between two books, definition by definition, what loosens\n" +
			"first. With --exact it finds all circumstances in which a sign-in is asked for something else: each kind of\n" +
			"case with what was and is asked, whom it concerns, and an attempt that shows it.\n\n" +
			"With --history it judges a recorded history by both, and tells what would have changed: who is locked\n" +
			"out, newly asked or let in, who has no method to answer with, and which unattended accounts break;\n" +
			"where the newer book has shadow policies, also what these would do were they live.\n\n" +
			"With --fail-on it is a gate for CI: the exit status is 1 where some change loosens, or may (loosened;\n" +
			"with --exact, where some sign-in is asked for less), or where by the history somebody is locked out\n" +
			"(locked-out): can get in nowhere at an app that could be opened before, is asked for what there is no\n" +
			"method for, or breaks unattended. A gate that cannot be judged, because the history holds nothing or\n" +
			"too much of it cannot be read, or because the time was up, ends with 2.",
		Example: "  briskwarden compare kestrel kestrel-next\n" +
			"  briskwarden compare kestrel kestrel-next --exact --fail-on loosened\n" +
			"  briskwarden compare kestrel kestrel-next --history october.jsonl.gz --examples stopped\n" +
			"  briskwarden compare main/book branch/book --history month.jsonl --fail-on loosened,locked-out --format markdown",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 2 {
				return errors.New("name two folders, the older book and the newer")
			}
			if cmd.Flags().Changed("book") {
				return errors.New("compare takes its two books as words; leave --book out")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, name := range []string{"at", "ahead", "limit"} {
				if cmd.Flags().Changed(name) && !flags.exact {
					return fmt.Errorf("--%s goes with --exact", name)
				}
			}
			return env.compare(args[0], args[1], flags)
		},
	}
	cmd.Flags().
		StringSliceVar(&flags.files, "history", nil, "a recorded history to judge by both books, as replay reads it; may be given again")
	cmd.Flags().StringSliceVar(&flags.failOn, "fail-on", nil, "end with 1 on these: "+strings.Join(compare.Gates(), ", "))
	cmd.Flags().StringVar(&flags.format, "format", "text", "text, or markdown for a pull request")
	cmd.Flags().StringVar(&flags.examples, "examples", "", "lay the examples into this new folder, one attempt a file, to be rehearsed")
	cmd.Flags().BoolVar(&flags.exact, "exact", false, "find all circumstances in which a sign-in is asked for something else")
	cmd.Flags().StringVar(&flags.at, "at", "", "for --exact: the first moment that is looked at (now)")
	cmd.Flags().StringVar(&flags.ahead, "ahead", "400d", "for --exact: how far ahead is looked")
	cmd.Flags().StringVar(&flags.limit, "limit", "10m", "for --exact: how long it may take; what is not settled then is open")
	flags.addTo(cmd)
	env.peopleFlag(cmd.Flags())
	return cmd
}

// check refuses flags that do not go together.
func (f *compareFlags) check() error {
	for _, gate := range f.failOn {
		if !slices.Contains(compare.Gates(), gate) {
			return fmt.Errorf("--fail-on: %q is no gate%s", gate, nearest.DidYouMean(gate, compare.Gates()))
		}
		if gate == compare.LockedOutGate && len(f.files) == 0 {
			return fmt.Errorf("--fail-on %s needs a --history to judge", gate)
		}
	}
	if f.examples != "" && len(f.files) == 0 && !f.exact {
		return errors.New("--examples are those of a --history, or of --exact")
	}
	if f.examples != "" {
		if err := newfile.CheckFolder(f.examples); err != nil {
			return fmt.Errorf("--examples: %w", err)
		}
	}
	return nil
}

func (env *environment) compare(oldDir, newDir string, flags compareFlags) error {
	if err := env.checkFormat(flags.format, "markdown"); err != nil {
		return err
	}
	if err := flags.check(); err != nil {
		return err
	}
	older, err := env.open(oldDir)
	if err != nil {
		return err
	}
	newer, err := env.open(newDir)
	if err != nil {
		return err
	}
	for _, b := range []*book.Book{older, newer} {
		if err := allAccounts(b); err != nil {
			return err
		}
	}
	report, err := compare.Books(older, newer, env.now())
	if err != nil {
		return err
	}
	if flags.exact {
		if err := env.compareExactly(newer, report, flags); err != nil {
			return err
		}
	}
	if len(flags.files) == 0 {
		shut := report.HoldTo(flags.failOn)
		next := terminal.Command("briskwarden compare %s %s --exact", oldDir, newDir)
		if flags.exact {
			if next, err = flags.keepExamples(report, oldDir, newDir); err != nil {
				return err
			}
		}
		if err := env.showComparison(report, flags, next); err != nil {
			return err
		}
		if report.Unjudged() {
			return unjudged("a gate could not be judged")
		}
		return foundIf(shut, nil)
	}
	shut := false
	err = env.readHistory(&flags.historyFlags, func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
		if err := report.AddHistory(ctx, sources, o); report.History == nil {
			return nil, err
		} else {
			return &report.History.Basis, err
		}
	}, func() error {
		shut = report.HoldTo(flags.failOn)
		next, err := flags.keepExamples(report, oldDir, newDir)
		if err != nil {
			return err
		}
		return env.showComparison(report, flags, next)
	})
	return foundIf(shut, err)
}

// compareExactly adds all circumstances in which the books ask for something else.
func (env *environment) compareExactly(newer *book.Book, r *compare.Report, flags compareFlags) error {
	ahead, limit, err := aheadAndLimit(flags.ahead, flags.limit)
	if err != nil {
		return err
	}
	from, err := env.moment(newer, flags.at)
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	progress, finish := env.showSteps()
	defer finish()
	return r.AddExact(ctx, compare.ExactOptions{From: from, For: ahead, Progress: progress})
}

// keepExamples lays the examples into the folder that was asked for, and returns the command to go on with.
func (f *compareFlags) keepExamples(r *compare.Report, oldDir, newDir string) (next []string, err error) {
	words := terminal.Command("briskwarden compare %s %s", oldDir, newDir)
	if f.exact {
		words = append(words, "--exact")
	}
	if len(f.files) > 0 {
		words = append(words, terminal.Command("--history %s", strings.Join(f.files, ","))...)
	}
	if f.examples == "" {
		return append(words, "--examples", "FOLDER"), nil
	}
	first, err := writeExamples(f.examples, r)
	if err != nil {
		return nil, fmt.Errorf("--examples: %w", err)
	}
	if first == "" {
		return nil, nil
	}
	return terminal.Command("briskwarden rehearse --book %s --attempt %s", newDir, filepath.Join(f.examples, first)), nil
}

func (env *environment) showComparison(r *compare.Report, flags compareFlags, next []string) error {
	if flags.format == "markdown" {
		_, err := fmt.Fprint(env.gated(), r.Markdown())
		return err
	}
	return env.show(r, func(p *render.Page) { p.Compare(r, next) })
}

// writeExamples lays the examples into a folder and returns the name of the first.
func writeExamples(dir string, r *compare.Report) (first string, err error) {
	archive := new(txtar.Archive)
	for name, a := range r.Examples() {
		text, err := json.MarshalIndent(a, "", "  ")
		if err != nil {
			return "", err
		}
		archive.Files = append(archive.Files, txtar.File{Name: name + ".json", Data: append(text, '\n')})
		first = cmp.Or(first, name+".json")
	}
	files, err := txtar.FS(archive)
	if err != nil {
		return "", err
	}
	_, err = newfile.WriteAll(dir, files, newfile.Private)
	return first, err
}
