package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/tools/txtar"

	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/sarif"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
)

// proveFlags are those of prove.
type proveFlags struct {
	at, ahead, limit, format, examples, keepAs string
	suggest, newcomers                         bool
}

func (env *environment) proveCommand() *cobra.Command {
	flags := &proveFlags{}
	cmd := &cobra.Command{
		Use:   "prove [GUARANTEE...]",
		Short: "Tell whether the guarantees of the book hold in all circumstances",
		Long: "prove decides each of the book's guarantees over all that can come about: every account and app of the book,\n" +
			"every action, address, country, moment until the horizon, device and signal, each known or missing. A guarantee\n" +
			"is proven, or fails with an attempt that shows it. Without names it looks at all of them. With --suggest it\n" +
			"proposes guarantees that hold today and that the book does not have, to be pasted into it. With --newcomers it\n" +
			"tells what holds by accident of today's accounts: it looks once more with somebody new in each group, with and\n" +
			"without methods.\n\n" +
			"The exit status is 1 where one fails, and 2 where one is open because the time was up.",
		Example: "  briskwarden prove --book kestrel\n" +
			"  briskwarden prove --book kestrel till-stays-home --examples shown\n" +
			"  briskwarden prove --book kestrel --format sarif > guarantees.sarif",
		RunE: func(_ *cobra.Command, names []string) error { return env.prove(flags, names) },
	}
	f := cmd.Flags()
	f.StringVar(&flags.at, "at", "", "the first moment that is looked at (now)")
	f.StringVar(&flags.ahead, "ahead", "400d", "how far ahead is looked")
	f.StringVar(&flags.limit, "limit", "10m", "how long it may take; what is not decided then is open")
	f.StringVar(&flags.format, "format", "text", "text, junit for JUnit XML, or sarif for SARIF 2.1.0")
	f.StringVar(&flags.examples, "examples", "", "a new folder to lay the attempts into that show what fails, for rehearse --attempt")
	f.StringVar(
		&flags.keepAs,
		"keep-as",
		"",
		"keep the attempt on which one `always: block` fails as a drill of this name, which expects a block",
	)
	f.BoolVar(&flags.newcomers, "newcomers", false, "look at what is proven once more with persons whom the book does not have")
	f.BoolVar(&flags.suggest, "suggest", false, "propose guarantees that hold today, and that the book does not have")
	env.peopleFlag(f)
	return cmd
}

func (env *environment) prove(flags *proveFlags, names []string) error {
	if flags.suggest {
		return env.suggestGuarantees(flags, names)
	}
	if !slices.Contains([]string{"text", "junit", "sarif"}, flags.format) {
		return fmt.Errorf("--format: %q is not text, junit or sarif", flags.format)
	}
	if env.json && flags.format != "text" {
		return errors.New("give --json or --format, and one of them only")
	}
	if flags.examples != "" {
		if err := newfile.CheckFile(flags.examples); err != nil {
			return fmt.Errorf("--examples: %w", err)
		}
	}
	b, judge, err := env.compile()
	if err != nil {
		return err
	}
	o, limit, err := flags.options(env, b, names)
	if err != nil {
		return err
	}
	if flags.keepAs != "" {
		if err := env.checkKeeping(b, flags.keepAs); err != nil {
			return err
		}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	progress, finish := env.showSteps()
	o.Progress = progress
	r, err := prove.Prove(ctx, b, judge, o)
	finish()
	if err != nil {
		return err
	}
	next, err := env.keepShown(flags, b, r)
	if err != nil {
		return err
	}
	if next == nil && !flags.newcomers && r.Count(prove.Proven) > 0 {
		next = terminal.Command("briskwarden prove --book %s --newcomers", env.book)
	}
	switch flags.format {
	case "junit":
		err = r.WriteJUnit(env.gated())
	case "sarif":
		err = env.printJSON(sarif.OfProof(r))
	default:
		err = env.show(r, func(p *render.Page) { p.Proof(r, next) })
	}
	if open := r.Count(prove.Open); err == nil && open > 0 {
		return unjudged(words.Count(open, "guarantee") + " could not be decided")
	}
	return foundIf(r.Count(prove.Fails) > 0, err)
}

// suggestGuarantees proposes guarantees.
func (env *environment) suggestGuarantees(flags *proveFlags, names []string) error {
	if len(names) > 0 || flags.format != "text" || flags.examples != "" || flags.keepAs != "" || flags.newcomers {
		return errors.New("--suggest proposes for the whole book, as text or --json; leave the other words and flags out")
	}
	b, judge, err := env.compile()
	if err != nil {
		return err
	}
	if !b.ListsAll() {
		return errors.New("--suggest needs all accounts, and those of this book are outside it; list them with --people")
	}
	ahead, limit, err := aheadAndLimit(flags.ahead, flags.limit)
	if err != nil {
		return err
	}
	from, err := env.moment(b, flags.at)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	progress, finish := env.showSteps()
	list, err := prove.Suggest(ctx, b, judge, prove.Options{From: from, For: ahead, Progress: progress})
	finish()
	if err != nil {
		return err
	}
	return env.show(list, func(p *render.Page) { p.Suggestions(list) })
}

// options says what is looked at, and how long it may take.
func (f *proveFlags) options(env *environment, b *book.Book, names []string) (o prove.Options, limit time.Duration, err error) {
	var known []string
	for i := range b.Guarantees {
		known = append(known, b.Guarantees[i].Name)
	}
	if len(known) == 0 {
		return o, 0, errors.New("the book has no guarantees; its section `guarantees` says what must hold in all circumstances")
	}
	for _, name := range names {
		if !slices.Contains(known, name) {
			return o, 0, fmt.Errorf("the book has no guarantee %q%s", name, nearest.DidYouMean(name, known))
		}
	}
	if f.keepAs != "" && len(names) != 1 {
		return o, 0, errors.New("--keep-as goes with the name of one guarantee")
	}
	o.Names, o.Newcomers = names, f.newcomers
	if o.For, limit, err = aheadAndLimit(f.ahead, f.limit); err != nil {
		return o, 0, err
	}
	o.From, err = env.moment(b, f.at)
	return o, limit, err
}

// aheadAndLimit reads how far ahead is looked, and how long that may take.
func aheadAndLimit(ahead, limit string) (time.Duration, time.Duration, error) {
	var spans [2]directory.Span
	for i, x := range []struct{ flag, text string }{{"--ahead", ahead}, {"--limit", limit}} {
		if err := spans[i].UnmarshalText([]byte(x.text)); err != nil {
			return 0, 0, fmt.Errorf("%s: %w", x.flag, err)
		}
	}
	return time.Duration(spans[0]), time.Duration(spans[1]), nil
}

// keepShown writes the attempts that refute guarantees, and returns the command that looks at one.
func (env *environment) keepShown(flags *proveFlags, b *book.Book, r *prove.Report) (next []string, err error) {
	archive := new(txtar.Archive)
	for i := range r.Results {
		x := &r.Results[i]
		if x.Attempt == nil {
			continue
		}
		text, err := json.MarshalIndent(x.Attempt, "", "  ")
		if err != nil {
			return nil, err
		}
		name := x.Name + ".json"
		archive.Files = append(archive.Files, txtar.File{Name: name, Data: append(text, '\n')})
		if next == nil {
			next = terminal.Command("briskwarden prove --book %s %s --examples FOLDER", env.book, x.Name)
			if flags.examples != "" {
				next = terminal.Command("briskwarden rehearse --book %s --attempt %s", env.book, filepath.Join(flags.examples, name))
			}
		}
		if flags.keepAs != "" {
			if err := env.keepRefuted(flags.keepAs, b, x); err != nil {
				return nil, err
			}
		}
	}
	if flags.keepAs != "" && len(archive.Files) == 0 {
		return nil, fmt.Errorf("--keep-as: %s does not fail, so there is no attempt to keep", r.Results[0].Name)
	}
	if flags.examples == "" || len(archive.Files) == 0 {
		return next, nil
	}
	files, err := txtar.FS(archive)
	if err != nil {
		return nil, err
	}
	if _, err := newfile.WriteAll(flags.examples, files, newfile.Private); err != nil {
		return nil, fmt.Errorf("--examples: %w", err)
	}
	return next, nil
}

// keepRefuted keeps the attempt on which a guarantee of blocks fails as a drill, which expects a block.
func (env *environment) keepRefuted(name string, b *book.Book, x *prove.Result) error {
	i := slices.IndexFunc(b.Guarantees, func(g book.Guarantee) bool { return g.Name == x.Name })
	if b.Guarantees[i].Always != book.AlwaysBlock {
		return fmt.Errorf("--keep-as: what is to become of the attempt only `always: block` says; give %s --examples and rehearse it", x.Name)
	}
	text, err := drill.Keep(name, x.Attempt, decide.Block, false, b.Drills)
	if err != nil {
		return fmt.Errorf("--keep-as: %w", err)
	}
	if err := newfile.Write(env.drillFile(name), text, newfile.Private); err != nil {
		return fmt.Errorf("--keep-as: %w", err)
	}
	return nil
}
