package cli

import (
	"encoding/json"
	"errors"
	"io/fs"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/inspect"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/rehearse"
)

func (env *environment) demoCommand() *cobra.Command {
	var out string
	var faulty, history bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Show six attempts on the book of a made-up ferry line",
		Long: "demo rehearses six attempts on the book of Kestrel Sound Ferries, which is built into the\n" +
			"program. It needs no files and no network. With --out it lays that book into a folder for\n" +
			"you to change; it never overwrites anything. With --faulty it shows a copy of the book with six\n" +
			"mistakes in it, of the kind that people make, and what inspect says of each. With --history it\n" +
			"prints a month of attempts with six troubles in it, one a line, for replay.",
		Example: "  briskwarden demo\n  briskwarden demo --out kestrel\n  briskwarden demo --faulty --out kestrel-faulty\n" +
			"  briskwarden demo --history | briskwarden replay --book kestrel -",
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flags().Changed("book") {
				return errors.New("demo has its own book; leave --book out, or use rehearse")
			}
			switch {
			case history && (faulty || out != ""):
				return errors.New("--history goes with nothing else; it prints attempts")
			case history:
				return env.printHistory()
			case cmd.Flags().Changed("out") && faulty:
				return env.writeDemo(out, demo.FaultyFiles(), "inspect")
			case cmd.Flags().Changed("out"):
				return env.writeDemo(out, demo.Files(), "rehearse")
			case faulty:
				return env.showFaulty()
			}
			return env.showDemo()
		},
	}
	cmd.Flags().StringVar(&out, "out", "", "lay the book into this folder instead")
	cmd.Flags().BoolVar(&faulty, "faulty", false, "show, or lay out, a copy of the book with six mistakes in it")
	cmd.Flags().BoolVar(&history, "history", false, "print a month of attempts as JSON, one a line")
	return cmd
}

// printHistory prints the demo's month, as replay reads it.
func (env *environment) printHistory() error {
	out := json.NewEncoder(env.out)
	for _, a := range demo.History() {
		if err := out.Encode(a); err != nil {
			return err
		}
	}
	return nil
}

// writeDemo lays a book into a folder, to go on with a command.
func (env *environment) writeDemo(dir string, files fs.FS, next string) error {
	if dir == "" {
		return errors.New("--out: name a folder")
	}
	paths, err := newfile.WriteAll(dir, files)
	if err != nil {
		return err
	}
	return env.show(map[string]any{"folder": dir, "files": paths}, func(p *render.Page) { p.DemoWritten(dir, paths, next) })
}

// showFaulty inspects the faulty copy of the book.
func (env *environment) showFaulty() error {
	b, err := book.OpenFS(demo.FaultyFiles())
	if err != nil {
		return err
	}
	report, err := inspect.Inspect(b, env.now())
	if err != nil {
		return err
	}
	return env.show(report, func(p *render.Page) { p.DemoFaulty(demo.Faults(), report) })
}

func (env *environment) showDemo() error {
	b, err := demo.Open()
	if err != nil {
		return err
	}
	judge, err := b.Compile()
	if err != nil {
		return err
	}
	var reports []render.SceneReport
	for _, scene := range demo.Scenes() {
		reports = append(reports, render.SceneReport{Title: scene.Title, Differs: scene.Differs,
			Report: rehearse.Rehearse(judge, &scene.Attempt, nil)})
	}
	return env.show(map[string]any{"scenes": reports}, func(p *render.Page) { p.Demo(b, reports, judge.Estate().Zone) })
}
