package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
)

func (env *environment) drillCommand() *cobra.Command {
	var format string
	var mutate bool
	cmd := &cobra.Command{
		Use:   "drill",
		Short: "Run the book's own tests",
		Long: "drill decides each attempt and each request for consent that the book keeps under `drills`, and\n" +
			"tells where the decision is another than expected. It reports which rules no drill reaches; with\n" +
			"--mutate it changes each rule and each network on trial, and lists the changes that no drill notices.\n\n" +
			"The exit status is 1 where a drill failed.",
		Example: "  briskwarden drill --book kestrel\n" +
			"  briskwarden drill --book kestrel --mutate\n" +
			"  briskwarden drill --book kestrel --format junit > drills.xml\n" +
			"  briskwarden rehearse --book kestrel --account ingrid@kestrelsound.example --app mail --keep-as ingrid-reads-mail",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error {
			if err := env.checkFormat(format, "junit"); err != nil {
				return err
			}
			return env.drill(format, mutate)
		},
	}
	cmd.Flags().StringVar(&format, "format", "text", "text, or junit for JUnit XML")
	cmd.Flags().BoolVar(&mutate, "mutate", false, "change each rule and each network on trial, and list what no drill notices")
	env.peopleFlag(cmd.Flags())
	return cmd
}

func (env *environment) drill(format string, mutate bool) error {
	b, judge, consents, err := env.compileConsent()
	if err != nil {
		return err
	}
	if len(b.Drills) == 0 {
		return fmt.Errorf("the book has no drills; rehearse an attempt and keep it with --keep-as NAME")
	}
	report := drill.Run(judge, consents, b.Drills)
	if mutate {
		report.Mutations, err = drill.Mutate(
			drill.Book{Rulebook: b.Rulebook(), Consent: b.Consent, Tiers: b.Scopes, Clients: b.Clients},
			b.Drills,
		)
		if err != nil {
			return err
		}
	}
	if format == "junit" {
		err = report.WriteJUnit(env.gated())
	} else {
		err = env.show(report, func(p *render.Page) { p.Drills(report) })
	}
	return foundIf(report.Failed() > 0, err)
}

// drillFile is the file of a drill that is kept.
func (env *environment) drillFile(name string) string {
	return filepath.Join(env.book, "drill-"+name+".yaml")
}

// checkKeeping reports what would keep an attempt from being kept as a drill.
func (env *environment) checkKeeping(b *book.Book, name string) error {
	if err := drill.CheckName(name, b.Drills); err != nil {
		return fmt.Errorf("--keep-as: %w", err)
	}
	if err := newfile.CheckFile(env.drillFile(name)); err != nil {
		return fmt.Errorf("--keep-as: %w; give the drill another name", err)
	}
	return nil
}

// keep writes a rehearsed attempt with its verdict into the book as a drill, in a
// new file of its own.
func (env *environment) keep(b *book.Book, name string, report *rehearse.Report, unlisted bool) error {
	text, err := drill.Keep(name, report.Rehearsal.Attempt, report.Verdict, unlisted, b.Drills)
	if err != nil {
		return fmt.Errorf("--keep-as: %w", err)
	}
	path := env.drillFile(name)
	switch err := newfile.Write(path, text, newfile.Private); {
	case errors.Is(err, fs.ErrExist):
		return fmt.Errorf("--keep-as: %s exists already, and nothing is overwritten; give the drill another name", path)
	case err != nil:
		return fmt.Errorf("--keep-as: %w", err)
	}
	fmt.Fprintf(env.err, "kept as the drill %s in %s\n", name, path)
	return nil
}
