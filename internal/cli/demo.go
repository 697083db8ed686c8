package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/attempt/ocsf"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/terminal"
)

func (env *environment) demoCommand() *cobra.Command {
	var out, page string
	var faulty, proposed, history, events bool
	var step int
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Walk through the program on the book of a made-up ferry line",
		Long: "demo walks through the commands in the order in which an administrator works, on the book of\n" +
			"Kestrel Sound Ferries, which is built into the program. It shows the beginning of what each prints\n" +
			"and the command that shows more; it needs no files and no network. With --out it lays that book\n" +
			"into a folder for you to change; it never overwrites anything. With --faulty it shows a copy of the\n" +
			"book with six mistakes in it, of the kind that people make, and what inspect says of each; with\n" +
			"--proposed --out it lays out a copy with two changes, to be compared. With --history it prints a\n" +
			"month of attempts with six troubles in it, one a line, for replay; with --ocsf too, as events.\n" +
			"With --report it writes what came of that month into a page for a browser.",
		Example: "  briskwarden demo\n  briskwarden demo --step 4\n  briskwarden demo --out kestrel\n  briskwarden demo --faulty --out " +
			"kestrel-faulty\n" +
			"  briskwarden demo --proposed --out kestrel-next\n" +
			"  briskwarden demo --history | briskwarden replay --book kestrel -\n" +
			"  briskwarden demo --report month.html",
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flags().Changed("book") {
				return errors.New("demo has its own book; leave --book out, or use rehearse")
			}
			switch {
			case page != "" && (history || faulty || proposed || events || cmd.Flags().Changed("out")):
				return errors.New("--report goes by itself: it writes what came of the demo's month")
			case page != "":
				return env.reportDemo(page)
			case history && (faulty || proposed || out != ""):
				return errors.New("--history goes with --ocsf and with nothing else; it prints attempts")
			case history:
				return writeHistory(env.out, events)
			case events:
				return errors.New("--ocsf says how --history is printed")
			case proposed && (faulty || !cmd.Flags().Changed("out")):
				return errors.New("--proposed goes with --out, which names a folder for it")
			case proposed:
				return env.writeDemo(out, demo.ProposedFiles(), "compare")
			case cmd.Flags().Changed("out") && faulty:
				return env.writeDemo(out, demo.FaultyFiles(), "inspect")
			case cmd.Flags().Changed("out"):
				return env.writeDemo(out, demo.Files(), "rehearse")
			case faulty:
				return env.showFaulty()
			}
			if last := len(demo.Walk()); cmd.Flags().Changed("step") && (step < 1 || step > last) {
				return fmt.Errorf("--step: the walk has steps 1 to %d, not %d", last, step)
			}
			return env.walk(step)
		},
	}
	cmd.Flags().StringVar(&out, "out", "", "lay the book into this folder instead")
	cmd.Flags().IntVar(&step, "step", 0, "show one step of the walk alone, with all that its command prints")
	cmd.Flags().BoolVar(&faulty, "faulty", false, "show, or lay out, a copy of the book with six mistakes in it")
	cmd.Flags().BoolVar(&proposed, "proposed", false, "lay out a copy of the book with two changes that somebody proposes")
	cmd.Flags().BoolVar(&history, "history", false, "print a month of attempts as JSON, one a line")
	cmd.Flags().BoolVar(&events, "ocsf", false, "print the month as OCSF authentication events")
	cmd.Flags().StringVar(&page, "report", "", "write a report on the month into this new file, as HTML or by its ending")
	return cmd
}

// reportDemo writes a report on the demo's month, as of the day after it.
func (env *environment) reportDemo(path string) error {
	b, err := demo.Open()
	if err != nil {
		return err
	}
	month := replay.Source{Name: "month.jsonl", Open: func() (io.ReadCloser, error) {
		var text bytes.Buffer
		return io.NopCloser(&text), writeHistory(&text, false)
	}}
	flags := &reportFlags{out: path}
	if flags.format, err = flags.formatOf("html"); err != nil {
		return err
	}
	made, err := report.OfHistory(context.Background(), b, []replay.Source{month}, replay.Options{}, report.Options{
		At:     demo.Scenes()[0].Attempt.At,
		Source: report.Source{Book: "kestrel", Flags: terminal.Command("--book kestrel --history month.jsonl")},
	})
	if err != nil {
		return err
	}
	if err := env.writeReport(made, flags); err != nil || env.json {
		return err
	}
	p := render.NewPage(env.out, env.book)
	p.DemoReported()
	return p.Err()
}

// writeHistory writes the demo's month, as replay reads it.
func writeHistory(to io.Writer, asEvents bool) error {
	out := bufio.NewWriter(to)
	for _, a := range demo.History() {
		line, err := json.Marshal(a)
		if asEvents {
			line, err = ocsf.Event(a)
		}
		if err != nil {
			return err
		}
		if _, err := out.Write(append(line, '\n')); err != nil {
			return err
		}
	}
	return out.Flush()
}

// writeDemo lays a book into a folder, to go on with a command.
func (env *environment) writeDemo(dir string, files fs.FS, next string) error {
	if dir == "" {
		return errors.New("--out: name a folder")
	}
	paths, err := newfile.WriteAll(dir, files, newfile.Shared)
	if err != nil {
		return err
	}
	return env.show(map[string]any{"folder": dir, "files": paths}, func(p *render.Page) { p.DemoWritten(dir, paths, next) })
}

// showFaulty inspects the faulty copy of the book.
func (env *environment) showFaulty() error {
	b, err := book.OpenFS(demo.FaultyFiles(), book.WithDatabase(mmdb.Locator))
	if err != nil {
		return err
	}
	found, err := inspect.Inspect(context.Background(), b, env.now())
	if err != nil {
		return err
	}
	return env.show(found, func(p *render.Page) { p.DemoFaulty(demo.Faults(), found) })
}

// rehearseScenes rehearses the six attempts.
func rehearseScenes(judge *engine.Judge) []render.SceneReport {
	var reports []render.SceneReport
	for _, scene := range demo.Scenes() {
		reports = append(reports, render.SceneReport{Title: scene.Title, Differs: scene.Differs,
			Report: rehearse.Rehearse(judge, &scene.Attempt, nil)})
	}
	return reports
}

// walk goes through the commands on the demo's book, or one of them, counted from 1.
// Each is the real command with its real output.
func (env *environment) walk(only int) error {
	b, err := demo.Open()
	if err != nil {
		return err
	}
	judge, err := b.Compile()
	if err != nil {
		return err
	}
	steps, err := env.takeSteps(only)
	if err != nil {
		return err
	}
	scenes := rehearseScenes(judge)
	if env.json {
		shown := map[string]any{"steps": stepsJSON(steps)}
		if only == 0 || steps[0].Scenes {
			shown["scenes"] = scenes
		}
		return env.printJSON(shown)
	}
	return env.show(nil, func(p *render.Page) {
		if only > 0 {
			p.Step(steps[0], scenes)
			return
		}
		p.Walk(b, steps, scenes)
	})
}

// takeSteps runs the commands of the walk in a folder that is gone before anything
// is printed, for the reader may break off.
func (env *environment) takeSteps(only int) ([]render.StepReport, error) {
	// Interrupted, it ends with the step that is on, and takes the folder away.
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	dir, err := os.MkdirTemp("", "briskwarden-demo-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	w := &walker{environment: env, dir: dir}
	if err := w.layOut(); err != nil {
		return nil, err
	}
	var steps []render.StepReport
	for i, step := range demo.Walk() {
		if ctx.Err() != nil {
			return nil, errInterrupted
		}
		if only > 0 && i+1 != only {
			continue
		}
		report := render.StepReport{Number: i + 1, Step: step}
		if !step.Scenes {
			if report.Output, err = w.run(step.Command); err != nil {
				return nil, fmt.Errorf("%s: %w", strings.Join(step.Command, " "), err)
			}
		}
		steps = append(steps, report)
	}
	if ctx.Err() != nil {
		return nil, errInterrupted
	}
	return steps, nil
}

var errInterrupted = errors.New("interrupted; nothing was left behind")

// stepsJSON returns the steps for a program; what a command printed is JSON too.
func stepsJSON(steps []render.StepReport) []any {
	list := []any{}
	for _, s := range steps {
		step := map[string]any{"number": s.Number, "title": s.Title, "why": s.Why, "more": s.More}
		if !s.Scenes {
			step["command"] = "briskwarden " + strings.Join(s.Command, " ")
			step["report"] = json.RawMessage(s.Output)
		}
		list = append(list, step)
	}
	return list
}

// walker runs the commands of the walk.
type walker struct {
	*environment
	dir string
}

// layOut lays out what the walk goes by.
func (w *walker) layOut() error {
	for name, files := range map[string]fs.FS{demo.Folder: demo.Files(), demo.ProposedFolder: demo.ProposedFiles()} {
		if _, err := newfile.WriteAll(filepath.Join(w.dir, name), files, newfile.Shared); err != nil {
			return err
		}
	}
	history, err := os.Create(filepath.Join(w.dir, demo.HistoryFile))
	if err != nil {
		return err
	}
	if err := errors.Join(writeHistory(history, false), history.Close()); err != nil {
		return err
	}
	grants := filepath.Join(demo.Folder, "grants.csv")
	_, err = w.run([]string{"consent", "import", "--book", demo.Folder, "--file", grants, "--as", "ragna@kestrelsound.example", "--yes"})
	return err
}

// run runs a command as of the demo's day and returns what it prints, with the paths
// that somebody in the folder would see.
func (w *walker) run(args []string) (string, error) {
	var out, errOut strings.Builder
	inside := make([]string, len(args))
	for i, arg := range args {
		if inside[i] = arg; strings.HasPrefix(arg, demo.Folder) || arg == demo.HistoryFile {
			inside[i] = filepath.Join(w.dir, arg)
		}
	}
	if w.json {
		inside = append(inside, "--json")
	}
	if Run(inside, strings.NewReader(""), &out, &errOut, demo.Moment) == CouldNotRun {
		return "", errors.New(errOut.String())
	}
	return strings.ReplaceAll(out.String(), w.dir+string(filepath.Separator), ""), nil
}
