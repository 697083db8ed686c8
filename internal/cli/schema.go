package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/schema"
)

func (env *environment) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema [NAME]",
		Short: "Print the JSON Schema of a book, an attempt or a decision",
		Long: "schema prints a JSON Schema (draft 2020-12), made from the types that read and write: of a book,\n" +
			"by which an editor completes and checks its files, of an attempt, of a decision, and of what each\n" +
			"command prints with --json. Without a name it lists them.",
		Example: "  briskwarden schema\n  briskwarden schema book > book.schema.json",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return fmt.Errorf("schema takes one name, found %s", strings.Join(args, ", "))
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				text, err := schema.Of(args[0])
				if err == nil {
					_, err = env.out.Write(text)
				}
				return err
			}
			return env.show(map[string]any{"schemas": schema.Documents()}, func(p *render.Page) { p.Schemas(schema.Documents()) })
		},
	}
}
