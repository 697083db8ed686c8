// Package cli is the command line of briskwarden: one file a command, which
// reads flags, calls a library package, and hands what it found to render.
package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/directory/people"
	"github.com/briskwarden/briskwarden/internal/nearest"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/wholefile"
)

// The exit statuses.
const (
	// Fine says that the command did its work and found nothing amiss.
	Fine = 0
	// Found says that it did its work and found something.
	Found = 1
	// CouldNotRun says that it could not do its work.
	CouldNotRun = 2
)

// errFound ends a command that found something, which it has told already.
var errFound = errors.New("found something")

// unjudged ends a command whose answer rests on too little, which it has told first of
// all.
type unjudged string

// Error implements error.
func (u unjudged) Error() string { return string(u) }

// environment is what a command gets from outside.
type environment struct {
	in io.Reader
	// out is standard output, which pages and gated write to; err is standard error, behind
	// the gate, and progress the same without it, for what moves the cursor.
	out, err, progress io.Writer
	now                func() time.Time
	// json is set where the command is asked for JSON, and answered once that is printed:
	// an error that comes later is told on standard error alone.
	json, answered bool
	book           string
	// people is a file with the accounts of an outside directory, "" without one.
	people string
	// record are the flags that name where acts on consent are kept, nil where that is the book's folder.
	record []string
}

// Run runs the program with these arguments and returns its exit status; now is its
// clock.
func Run(args []string, in io.Reader, out, errOut io.Writer, now func() time.Time) (status int) {
	env := &environment{in: in, out: out, err: terminal.Gate(errOut), progress: errOut, now: now}
	defer func() {
		if failure := recover(); failure != nil {
			fmt.Fprintf(env.err, "briskwarden: this is a fault of the program, please report it: %v\n%s", failure, debug.Stack())
			status = CouldNotRun
		}
	}()
	root := env.root()
	root.SetArgs(args)
	err := root.Execute()
	switch {
	case err == nil:
		return Fine
	case errors.Is(err, errFound):
		return Found
	}
	if told := unjudged(""); errors.As(err, &told) && !env.json {
		return CouldNotRun
	}
	env.tell(err)
	return CouldNotRun
}

func (env *environment) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "briskwarden",
		Short: "Write, rehearse and explain conditional sign-on policies",
		Long: "Brisk Warden judges who may sign on to which application under which circumstances,\n" +
			"and reports what a policy will do before it does it.\n\n" +
			"Begin with `briskwarden demo`. `briskwarden completion SHELL --help` tells how a shell completes\n" +
			"commands, and names of the book.",
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          knownCommand,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetIn(env.in)
	root.SetOut(env.gated())
	root.SetErr(env.err)
	root.CompletionOptions.HiddenDefaultCmd = true
	root.Version = version()
	root.SetVersionTemplate("briskwarden {{.Version}}\n")
	root.SetHelpCommand(helpCommand(root))
	root.PersistentFlags().BoolVar(&env.json, "json", false, "print JSON for a program to read")
	root.PersistentFlags().StringVar(&env.book, "book", ".", "the folder of the book")
	cobra.EnableCommandSorting = false // the order is the one in which an administrator works
	for _, group := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Learn:", []*cobra.Command{env.demoCommand()}},
		{"Write a book:", []*cobra.Command{
			env.startCommand(), env.inspectCommand(), env.describeCommand(), env.explainCommand(), env.schemaCommand(),
		}},
		{"Predict what it does:", []*cobra.Command{env.rehearseCommand(), env.reachCommand(), env.drillCommand(), env.proveCommand()}},
		{"Change it:", []*cobra.Command{env.replayCommand(), env.compareCommand(), env.readinessCommand()}},
		{"Run it:", []*cobra.Command{env.serveCommand(), env.journalCommand(), env.reportCommand()}},
		{"Outside programs:", []*cobra.Command{env.consentCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: group.title, Title: group.title})
		for _, c := range group.commands {
			c.GroupID = group.title
			root.AddCommand(c)
		}
	}
	root.SetFlagErrorFunc(flagError)
	env.complete(root)
	return root
}

// knownCommand refuses a word that is no command.
func knownCommand(root *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, c := range root.Commands() {
		names = append(names, c.Name())
	}
	return fmt.Errorf("there is no command %q%s", args[0], nearest.DidYouMean(args[0], names))
}

// noArguments refuses words that belong to no flag.
func noArguments(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	return fmt.Errorf("%s takes flags only, found %q; see briskwarden %[1]s --help", cmd.Name(), args[0])
}

// invalidArgument is how the library of flags words a value that it cannot read.
var invalidArgument = regexp.MustCompile(`(?s)^invalid argument "(.*)" for "(?:-\w, )?(--[a-z-]+)" flag: `)

// flagError says what a flag takes where its value cannot be read, and adds the nearest flag
// to the error about one that does not exist.
func flagError(cmd *cobra.Command, err error) error {
	if said := invalidArgument.FindStringSubmatch(err.Error()); said != nil {
		value, name := said[1], said[2]
		kind := ""
		if f := cmd.Flags().Lookup(strings.TrimPrefix(name, "--")); f != nil {
			kind = f.Value.Type()
		}
		wants := map[string]string{"int": "a whole number such as 3", "float64": "a number such as 1.5", "bool": "true or false",
			"stringToString": "key=column, with commas between several"}[kind]
		if wants != "" {
			return fmt.Errorf("%s: %q is not %s", name, value, wants)
		}
		return err
	}
	if name, missing := strings.CutPrefix(err.Error(), "flag needs an argument: "); missing {
		return fmt.Errorf("%s: a value is to follow it", name)
	}
	wrong, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return err
	}
	var names []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, "--"+f.Name) })
	return fmt.Errorf("%s has no flag --%s%s", cmd.Name(), wrong, nearest.DidYouMean("--"+wrong, names))
}

// open reads the book in a folder. Where --people names a file, the book lists the
// accounts in it.
func (env *environment) open(dir string, options ...book.Option) (*book.Book, error) {
	b, err := book.Open(dir, append(options, book.WithDatabase(mmdb.Locator))...)
	if err != nil || env.people == "" {
		return b, err
	}
	if b.Settings.Directory == book.Inside {
		return nil, fmt.Errorf(
			"--people: the book in %s lists its accounts itself; it takes others with `settings: {directory: outside}`",
			dir,
		)
	}
	text, err := wholefile.ReadPath(env.people, book.MaxFileSize)
	if err != nil {
		return nil, fmt.Errorf("--people %s: %w", env.people, err)
	}
	read, err := people.Read(text)
	if err == nil && len(read.Skipped) > 0 {
		err = fmt.Errorf("line %d: %s", read.Skipped[0].Line, read.Skipped[0].Text)
	}
	if err != nil {
		return nil, fmt.Errorf("--people %s: %w", env.people, err)
	}
	listed, err := b.Listing(read.All())
	if err != nil {
		return nil, fmt.Errorf("--people %s: %w", env.people, err)
	}
	return listed, nil
}

// peopleFlag adds --people to a command that looks at all accounts.
func (env *environment) peopleFlag(f *pflag.FlagSet) {
	f.StringVar(&env.people, "people", "", "the accounts of an outside directory, in this file: SCIM 2.0 or CSV")
}

// allAccounts refuses a book whose accounts are not all known: what is said of
// everybody would be said of a few.
func allAccounts(b *book.Book) error {
	if b.ListsAll() {
		return nil
	}
	return errors.New("the accounts of this book are outside it (settings.directory); list them with --people FILE")
}

// compile reads and compiles the book that --book names.
func (env *environment) compile() (*book.Book, *engine.Judge, error) {
	b, err := env.open(env.book)
	if err != nil {
		return nil, nil, err
	}
	judge, err := b.Compile()
	return b, judge, err
}

// compileConsent is compile with the judge of consent.
func (env *environment) compileConsent() (*book.Book, *engine.Judge, *consent.Judge, error) {
	b, judge, err := env.compile()
	if err != nil {
		return nil, nil, nil, err
	}
	consents, err := b.CompileConsent(judge)
	return b, judge, consents, err
}

// checkFormat refuses a --format that is neither text nor the other one that a
// command has, and --json beside that other one.
func (env *environment) checkFormat(format, other string) error {
	switch {
	case format == other && env.json:
		return fmt.Errorf("give --json or --format %s, and one of them only", other)
	case format != "text" && format != other:
		return fmt.Errorf("--format: %q is not text or %s", format, other)
	}
	return nil
}

// foundIf ends a command that has told what it found, or failed to.
func foundIf(found bool, err error) error {
	if err == nil && found {
		return errFound
	}
	return err
}

// gated returns standard output for text that is laid out elsewhere.
func (env *environment) gated() io.Writer { return terminal.Gate(env.out) }

// printJSON writes v, indented.
func (env *environment) printJSON(v any) error {
	env.answered = true
	return env.writeJSON(env.gated(), v)
}

func (env *environment) writeJSON(w io.Writer, v any) error {
	encoder := json.NewEncoder(w)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

// show prints what a command found: as JSON or on a page.
func (env *environment) show(found any, write func(*render.Page)) error {
	if env.json {
		return env.printJSON(found)
	}
	page := render.NewPage(env.out, env.book)
	page.SetRecord(env.record)
	write(page)
	return page.Err()
}

// failure is what --json prints of an error.
type failure struct {
	File   string `json:"file,omitzero"`
	Line   int    `json:"line,omitzero"`
	Column int    `json:"column,omitzero"`
	Text   string `json:"text"`
}

// tell reports why the command could not run: on standard error for a person, on
// standard output for a program.
func (env *environment) tell(err error) {
	var wrong book.Errors
	isBook := errors.As(err, &wrong)
	if env.json && !env.answered {
		failures := []failure{}
		for _, d := range wrong {
			failures = append(failures, failure{d.At.File, d.At.Line, d.At.Column, d.Text})
		}
		if !isBook {
			failures = append(failures, failure{Text: err.Error()})
		}
		if env.printJSON(map[string]any{"errors": failures}) == nil {
			return
		}
	}
	if !isBook {
		fmt.Fprintf(env.err, "briskwarden: %v\n", err)
		return
	}
	for _, d := range wrong {
		fmt.Fprintln(env.err, d)
	}
	things := "1 thing is"
	if len(wrong) > 1 {
		things = fmt.Sprintf("%d things are", len(wrong))
	}
	fmt.Fprintf(env.err, "briskwarden: %s wrong with the book; nothing was judged\n", things)
}
