package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/sarif"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/typed"
	"github.com/briskwarden/briskwarden/store"
)

// inspectFlags are the flags of inspect.
type inspectFlags struct {
	at, explain, format, failOn, since string
	// config is the configuration of a door, whose store is looked at too; "" for none.
	config string
	historyFlags
	// use is what the history shows, nil where none was given.
	use *inspect.Use
}

func (env *environment) inspectCommand() *cobra.Command {
	var flags inspectFlags
	cmd := &cobra.Command{
		Use:   "inspect",
		Short: "Find errors in a book, and give advice",
		Long: "inspect looks the book over before anybody is judged by it: whether somebody can always get\n" +
			"back in, whether each policy reaches those it is meant for, which rules never speak, which\n" +
			"exceptions were forgotten elsewhere, and more. Each finding says where it stands and what to do,\n" +
			"and the book can accept it for a time. The score says how much is in order, and what brings most.\n\n" +
			"The exit status is 1 where an error or a warning is open; --fail-on says from which severity on.",
		Example: "  briskwarden inspect --book kestrel\n" +
			"  briskwarden inspect --explain all\n" +
			"  briskwarden inspect --explain open-enrolment\n" +
			"  briskwarden inspect --book kestrel --explain open-enrolment:own-account/from-elsewhere\n" +
			"  briskwarden inspect --book kestrel --since last-month/kestrel\n" +
			"  briskwarden inspect --book kestrel --history door.db\n" +
			"  briskwarden inspect --book kestrel --format sarif > kestrel.sarif",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error {
			if flags.explain != "" {
				return env.explain(flags)
			}
			if len(flags.files) > 0 {
				return env.inspectWithHistory(flags)
			}
			return env.inspect(flags)
		},
	}
	f := cmd.Flags()
	f.StringVar(&flags.at, "at", "", "inspect as of this day or time, such as 2026-12-01 (now)")
	f.StringVar(&flags.config, "config", "", "the configuration of a door: groups that are pushed to it are looked at too")
	f.StringVar(&flags.explain, "explain", "", "explain the check, or the finding, of this name instead; `all` lists the checks")
	f.StringVar(&flags.format, "format", "text", "text, or sarif for SARIF 2.1.0")
	f.StringVar(
		&flags.failOn,
		"fail-on",
		"warning",
		"the least severity that makes the exit status 1: "+strings.Join(inspect.Severities(), ", "),
	)
	f.StringVar(&flags.since, "since", "", "tell how the score moved against the older book in this folder")
	f.StringSliceVar(&flags.files, "history", nil, "look at what this history, or a door's store, shows of the book's use too")
	flags.historyFlags.addTo(cmd)
	env.peopleFlag(f)
	return cmd
}

// explain explains a check, or what would make a finding in the book go away.
func (env *environment) explain(flags inspectFlags) error {
	check, _, isFinding := strings.Cut(flags.explain, ":")
	if !isFinding {
		return env.explainCheck(flags.explain)
	}
	if _, ok := inspect.FindCheck(check); !ok {
		return env.explainCheck(check)
	}
	report, err := env.inspectBook(env.book, flags)
	if err != nil {
		return err
	}
	var names []string
	for _, f := range slices.Concat(report.Findings, report.Accepted) {
		if f.Name == flags.explain {
			return env.show(f, func(p *render.Page) { p.Finding(f, os.ReadFile) })
		}
		names = append(names, f.Name)
	}
	return fmt.Errorf("--explain: the book has no finding %q%s", flags.explain, nearest.DidYouMean(flags.explain, names))
}

func (env *environment) explainCheck(name string) error {
	if name == "all" {
		return env.show(map[string]any{"checks": inspect.Checks()}, func(p *render.Page) { p.Checks(inspect.Checks()) })
	}
	check, ok := inspect.FindCheck(name)
	if !ok {
		var names []string
		for _, c := range inspect.Checks() {
			names = append(names, c.Name)
		}
		return fmt.Errorf("--explain: there is no check %q%s", name, nearest.DidYouMean(name, names))
	}
	return env.show(check, func(p *render.Page) { p.Check(check) })
}

// inspectWithHistory inspects a book with what a history shows of its use.
func (env *environment) inspectWithHistory(flags inspectFlags) error {
	b, err := env.open(env.book)
	if err != nil {
		return err
	}
	return env.readHistory(&flags.historyFlags, func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
		if flags.use, err = inspect.UseOf(ctx, b, sources, o); flags.use == nil {
			return nil, err
		}
		return &flags.use.Basis, err
	}, func() error {
		if !flags.use.IsEnough() {
			fmt.Fprintln(env.err, "The history is too short to say what nobody does: that takes a week and 200 attempts.")
		}
		return env.inspect(flags)
	})
}

func (env *environment) inspect(flags inspectFlags) error {
	var least inspect.Severity
	if err := least.UnmarshalText([]byte(flags.failOn)); err != nil {
		return fmt.Errorf("--fail-on: %w", err)
	}
	if err := env.checkFormat(flags.format, "sarif"); err != nil {
		return err
	}
	report, err := env.inspectBook(env.book, flags)
	if err != nil {
		return err
	}
	if flags.since != "" {
		older, err := env.inspectBook(flags.since, inspectFlags{at: flags.at, config: flags.config, use: flags.use})
		if err != nil {
			return fmt.Errorf("--since: %w", err)
		}
		report.Against(older)
	}
	if flags.format == "sarif" {
		err = env.printJSON(sarif.Of(report))
	} else {
		err = env.show(report, func(p *render.Page) { p.Inspection(report, os.ReadFile) })
	}
	return foundIf(report.Open(least) > 0, err)
}

// inspectBook inspects the book in a folder. What is wrong with one that cannot
// be read is reported too.
func (env *environment) inspectBook(dir string, flags inspectFlags) (*inspect.Report, error) {
	b, err := env.open(dir)
	var wrong book.Errors
	switch {
	case errors.As(err, &wrong):
		return inspect.Unreadable(wrong), nil
	case err != nil:
		return nil, err
	}
	moment, err := env.moment(b, flags.at)
	if err != nil {
		return nil, err
	}
	facts, err := env.recorded(b, dir, moment)
	if err != nil {
		return nil, err
	}
	facts.Checks = inspect.Checks()
	if flags.config != "" {
		if err := ofDoor(flags.config, b, moment, &facts); err != nil {
			return nil, fmt.Errorf("--config: %w", err)
		}
	}
	if flags.use != nil {
		facts.Checks = append(facts.Checks, flags.use.Checks()...)
	}
	return inspect.InspectWith(context.Background(), b, moment, facts)
}

// ofDoor fills in what the store of a door knows: groups that were pushed, and how outside programs are used.
func ofDoor(path string, b *book.Book, at time.Time, facts *inspect.Options) error {
	ctx := context.Background()
	config, err := service.ReadConfig(path)
	if err != nil {
		return err
	}
	s, err := service.ReadStore(ctx, config)
	if err != nil {
		return err
	}
	pushed, err := service.PushedGroups(ctx, s)
	if err == nil {
		facts.Checks = append(facts.Checks, inspect.PushedGroups(pushed))
		var d *acts.Desk
		if d, err = deskOf(ctx, b, s); d != nil {
			facts.Usage, err = d.Usage(ctx, at)
		}
	}
	return errors.Join(err, s.Close())
}

// recorded returns what the acts on consent in a book's folder come to, where there are any.
func (env *environment) recorded(b *book.Book, dir string, at time.Time) (inspect.Options, error) {
	path := filepath.Join(dir, recordName)
	if _, err := os.Stat(path); err != nil {
		return inspect.Options{}, nil
	}
	_, consents, err := b.CompileBoth()
	if err != nil {
		return inspect.Options{}, err
	}
	record, _, err := service.OpenRecord(context.Background(), path, true)
	if err != nil {
		return inspect.Options{}, err
	}
	usage, err := acts.New(consents, record, store.TerminalLog).Usage(context.Background(), at)
	return inspect.Options{Usage: usage}, errors.Join(err, record.Close())
}

// moment reads --at in the zone of a book; now where it is left out.
func (env *environment) moment(b *book.Book, at string) (time.Time, error) {
	moment, err := typed.ParseTime(at, b.Settings.Zone, env.now())
	if err != nil {
		return moment, fmt.Errorf("--at: %w", err)
	}
	return moment, nil
}
