package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/explain"
	"github.com/briskwarden/briskwarden/internal/render"
)

func (env *environment) explainCommand() *cobra.Command {
	var format string
	cmd := &cobra.Command{
		Use:   "explain [WORD]",
		Short: "Explain the language of books, word by word",
		Long: "explain says of each word of a book what it means, what may stand there, what holds where it is\n" +
			"left out, and shows an example. Without a word it lists the sections; a section is explained with\n" +
			"all that stands in it, conditions and outcomes with all their words. docs/reference.md is the whole\n" +
			"of it, made by --format markdown.",
		Example: "  briskwarden explain\n" +
			"  briskwarden explain policies\n" +
			"  briskwarden explain during\n" +
			"  briskwarden explain fallback",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return fmt.Errorf("explain takes one word, found %s", strings.Join(args, ", "))
			}
			return nil
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return explain.Names(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error { return env.explainWord(strings.Join(args, ""), format) },
	}
	cmd.Flags().StringVar(&format, "format", "text", "text, or markdown for the whole language as a page")
	return cmd
}

func (env *environment) explainWord(word, format string) error {
	if err := env.checkFormat(format, "markdown"); err != nil {
		return err
	}
	if format == "markdown" {
		if word != "" {
			return fmt.Errorf("--format markdown is the whole language; leave out %s", word)
		}
		_, err := fmt.Fprint(env.out, explain.Reference())
		return err
	}
	report, err := explain.Of(word)
	if err != nil {
		return err
	}
	return env.show(report, func(p *render.Page) { p.Explained(report) })
}
