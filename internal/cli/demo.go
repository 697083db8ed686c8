package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/rehearse"
)

func (env *environment) demoCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Show six attempts on the book of a made-up ferry line",
		Long: "demo rehearses six attempts on the book of Kestrel Sound Ferries, which is built into the\n" +
			"program. It needs no files and no network. With --out it lays that book into a folder for\n" +
			"you to change; it never overwrites anything.",
		Example: "  briskwarden demo\n  briskwarden demo --out kestrel",
		Args:    noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flags().Changed("book") {
				return errors.New("demo has its own book; leave --book out, or use rehearse")
			}
			if cmd.Flags().Changed("out") {
				return env.writeDemo(out)
			}
			return env.showDemo()
		},
	}
	cmd.Flags().StringVar(&out, "out", "", "lay the book into this folder instead")
	return cmd
}

func (env *environment) writeDemo(dir string) error {
	if dir == "" {
		return errors.New("--out: name a folder")
	}
	paths, err := newfile.WriteAll(dir, demo.Files())
	if err != nil {
		return err
	}
	if env.json {
		return env.printJSON(map[string]any{"folder": dir, "files": paths})
	}
	page := render.NewPage(env.out)
	page.DemoWritten(dir, paths)
	return page.Err()
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
	if env.json {
		return env.printJSON(map[string]any{"scenes": reports})
	}
	page := render.NewPage(env.out)
	page.Demo(b, reports, judge.Estate().Zone)
	return page.Err()
}
