package cli

import (
	"fmt"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/nearest"
)

// namesOf returns the names of things.
func namesOf[T any](things []T, nameOf func(*T) string) []string {
	names := make([]string, len(things))
	for i := range things {
		names[i] = nameOf(&things[i])
	}
	return names
}

func accountNames(b *book.Book) []string {
	return namesOf(b.Accounts, func(a *directory.Account) string { return a.Name })
}

func methodNames(b *book.Book) []string {
	return append(namesOf(directory.BuiltInMethods(), func(m *directory.Method) string { return m.Name }),
		namesOf(b.Methods, func(m *directory.Method) string { return m.Name })...)
}

// fromBook are the flags whose values a shell completes with names of the book.
var fromBook = map[string]func(b *book.Book) []string{
	"account": accountNames, "as": accountNames, "proved": methodNames, "failed": methodNames,
	"app": func(b *book.Book) []string { return namesOf(b.Apps, func(a *directory.App) string { return a.Name }) },
	"device": func(b *book.Book) []string {
		return namesOf(b.Devices, func(d *directory.Device) string { return d.Name })
	},
	"group": func(b *book.Book) []string {
		return namesOf(b.Groups, func(g *directory.Group) string { return g.Name })
	},
	"policy": func(b *book.Book) []string {
		return namesOf(b.Policies, func(p *decide.Policy) string { return p.Name })
	},
	"rollout": func(b *book.Book) []string {
		return namesOf(b.Rollouts, func(r *decide.Rollout) string { return r.Name })
	},
	"client": func(b *book.Book) []string {
		return namesOf(b.Clients, func(c *consent.Client) string { return c.Name })
	},
	"signal": func(b *book.Book) []string {
		return namesOf(b.Risk.Signals, func(s *risk.Signal) string { return s.Name })
	},
	"resource": func(b *book.Book) []string {
		return append(namesOf(b.Groups, func(g *directory.Group) string { return "group:" + g.Name }), "own")
	},
}

// fromWords are those that are completed with a closed list of words.
var fromWords = map[string]func() []string{
	"action": attempt.Actions, "through": attempt.Throughs, "expect": decide.Verdicts, "fail-on": compare.Gates,
	"explain": func() []string {
		return append(namesOf(inspect.Checks(), func(c *inspect.Check) string { return c.Name }), "all")
	},
}

// complete lets a shell complete the flags of all commands.
func (env *environment) complete(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		env.complete(c)
	}
	if cmd.ValidArgsFunction == nil && cmd.Name() != "replay" && cmd.Name() != "compare" && cmd.Name() != "schema" {
		cmd.ValidArgsFunction = cobra.NoFileCompletions
	}
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		var names func() []string
		if list := fromBook[f.Name]; list != nil {
			names = func() []string {
				b, err := env.open(env.book)
				if err != nil {
					return nil // a book that cannot be read has no names to offer
				}
				return list(b)
			}
		} else if names = fromWords[f.Name]; names == nil {
			return
		}
		// The error is that there is a function already.
		_ = cmd.RegisterFlagCompletionFunc(f.Name,
			func(_ *cobra.Command, _ []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
				found := slices.DeleteFunc(names(), func(name string) bool { return !strings.HasPrefix(name, begun) })
				slices.Sort(found)
				return slices.Compact(found), cobra.ShellCompDirectiveNoFileComp
			})
	})
}

// version names the build of the program.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "of an unknown build"
	}
	text := info.Main.Version
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision" && !strings.Contains(text, s.Value[:min(12, len(s.Value))]):
			text += ", revision " + s.Value[:min(12, len(s.Value))]
		case s.Key == "vcs.modified" && s.Value == "true" && !strings.Contains(text, "dirty"):
			text += ", changed since"
		}
	}
	return fmt.Sprintf("%s, %s", strings.TrimSpace(text), info.GoVersion)
}

// helpCommand is cobra's with an error for a command that there is not.
func helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "help [command]", Short: "Help about a command", Hidden: true,
		RunE: func(_ *cobra.Command, args []string) error {
			cmd := root
			for _, word := range args {
				var names []string
				var next *cobra.Command
				for _, c := range cmd.Commands() {
					names = append(names, c.Name())
					if c.Name() == word {
						next = c
					}
				}
				if next == nil {
					return fmt.Errorf("there is no command %q%s", word, nearest.DidYouMean(word, names))
				}
				cmd = next
			}
			return cmd.Help()
		},
	}
}
