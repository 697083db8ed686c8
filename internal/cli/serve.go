package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/store"
)

// doorFlags are those that the commands about the door share.
type doorFlags struct {
	config string
}

func (f *doorFlags) add(cmd *cobra.Command) {
	cmd.PersistentFlags().StringVar(&f.config, "config", "door.yaml", "the configuration of the door")
}

func (env *environment) serveCommand() *cobra.Command {
	flags, checkpoint := new(doorFlags), ""
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Put the book in force: answer decisions over HTTP",
		Long: "serve answers decisions by the book for identity providers, gateways and reverse proxies, on facts\n" +
			"that it keeps in a store, and records each in its journal. A newer book is taken into force on\n" +
			"SIGHUP (or, with reload: on_change, when its folder changes), if it has no errors, its drills pass and\n" +
			"its guarantees hold; callers, tokens, keys and certificates are read again then. The book in force goes\n" +
			"on when the door starts again. It stops on SIGINT and SIGTERM, when what it accepted has been answered.\n" +
			"The configuration is YAML: `briskwarden schema door` has its form.",
		Example: "  briskwarden serve check --book kestrel --config door.yaml\n" +
			"  briskwarden serve --book kestrel --config door.yaml\n" +
			"  briskwarden serve token --for gateway --may decide",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error { return env.serve(flags, checkpoint) },
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&checkpoint, "checkpoint", "",
		"a checkpoint that was kept elsewhere, which vouches for the store where the door kept no state of it")
	cmd.AddCommand(env.serveCheckCommand(flags), env.serveTokenCommand(), env.serveBackupCommand(flags),
		env.serveFactsCommand(flags), env.serveCarryOverCommand(flags), env.serveRestoredCommand(flags))
	return cmd
}

func (env *environment) serve(flags *doorFlags, checkpoint string) error {
	config, err := service.ReadConfig(flags.config)
	if err != nil {
		return err
	}
	var vouching []byte
	if checkpoint != "" {
		if vouching, err = wholefile.ReadPath(checkpoint, maxCheckpoint); err != nil {
			return fmt.Errorf("--checkpoint %s: %w", checkpoint, err)
		}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	reload := make(chan os.Signal, 1)
	signal.Notify(reload, syscall.SIGHUP)
	defer signal.Stop(reload)
	s := &service.Service{Dir: env.book, Config: config, Now: env.now, Reload: reload,
		Again: func() (*door.Config, error) { return service.ReadConfig(flags.config) }, Journal: terminal.Command("--config %s", flags.config),
		Checkpoint: vouching, Log: slog.New(slog.NewJSONHandler(env.err, nil))}
	return s.Run(ctx)
}

func (env *environment) serveCheckCommand(flags *doorFlags) *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Tell what would keep the door from starting, or a book from being taken into force",
		Long: "serve check opens the book, runs its drills, and looks at the configuration with the files and the\n" +
			"store that it names. It starts nothing and changes nothing.\n\n" +
			"The exit status is 1 where something would keep the door from starting.",
		Example: "  briskwarden serve check --book kestrel-next --config door.yaml",
		Args:    noArguments,
		RunE: func(*cobra.Command, []string) error {
			config, err := service.ReadConfig(flags.config)
			if err != nil {
				return err
			}
			found := service.Check(context.Background(), env.book, config)
			err = env.show(found, func(p *render.Page) { p.ServeChecked(found, flags.config) })
			return foundIf(len(found.Wrong) > 0, err)
		},
	}
}

func (env *environment) serveTokenCommand() *cobra.Command {
	var name string
	var may []string
	cmd := &cobra.Command{
		Use:   "token",
		Short: "Make a token for a caller, and print it once",
		Long: "serve token makes a token and prints it, with the lines for the configuration that let its bearer in.\n" +
			"They have its digest alone, so the token cannot be read from them: keep it where the caller reads it.",
		Example: "  briskwarden serve token --for gateway --may decide",
		Args:    noArguments,
		RunE: func(*cobra.Command, []string) error {
			if name == "" || len(may) == 0 {
				return fmt.Errorf("say who gets it and what it lets do: --for NAME --may %s", strings.Join(door.Rights(), ","))
			}
			made, err := service.NewToken(name, may)
			if err != nil {
				return err
			}
			return env.show(made, func(p *render.Page) { p.ServeToken(made.Token, made.Config) })
		},
	}
	cmd.Flags().StringVar(&name, "for", "", "name of the caller")
	cmd.Flags().StringSliceVar(&may, "may", nil, "what it may do, with commas between several: "+strings.Join(door.Rights(), ", "))
	return cmd
}

func (env *environment) serveCarryOverCommand(flags *doorFlags) *cobra.Command {
	return &cobra.Command{
		Use:   "carry-over",
		Short: "Bring the store of the version before to this one, before a door starts on it",
		Long: "serve carry-over does what a door does at its first start on a store of the version before: it makes a new\n" +
			"store with all that was kept, and takes over the acts of the record of consent. The store as it was is kept:\n" +
			"a file beside it as FILE.before, tables in PostgreSQL as they are. No door may run meanwhile. What is of\n" +
			"this version already is left as it is.",
		Example: "  briskwarden serve carry-over --config door.yaml",
		Args:    noArguments,
		RunE: func(*cobra.Command, []string) error {
			config, err := service.ReadConfig(flags.config)
			if err != nil {
				return err
			}
			did, err := service.CarryOver(context.Background(), config, env.now())
			if err != nil {
				return err
			}
			return env.show(&carriedOver{Did: did}, func(p *render.Page) { p.ServeCarriedOver(did) })
		},
	}
}

func (env *environment) serveRestoredCommand(flags *doorFlags) *cobra.Command {
	var by, because, resynced string
	cmd := &cobra.Command{
		Use:   "restored",
		Short: "Say that a store was put back to an older copy and that this is meant, or is resynced with a source",
		Long: "A door whose store does not go on from what it wrote last lets emergency accounts alone in: the store was\n" +
			"put back to an older copy, or another is in its place. serve restored enters in the journal that this is\n" +
			"meant, with how many entries are lost, and holds for all doors of the store. What was authenticated before\n" +
			"counts no more. Nobody else is let in until the store is resynced with each source that states facts: a feed\n" +
			"by a full push, an issuer of events by its current state, and administrators by doing again what they\n" +
			"ended, disabled or barred since the copy was made. Say so of each by --resynced.\n\n" +
			"The exit status is 1 while the store is not resynced with every source.",
		Example: "  briskwarden serve restored --config door.yaml --as ragna@kestrelsound.example --because \"The disk failed.\"\n" +
			"  briskwarden serve restored --config door.yaml --resynced administrators --as ragna@kestrelsound.example \\\n" +
			"      --because \"The acts of May were done again.\"",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error {
			config, err := service.ReadConfig(flags.config)
			if err != nil {
				return err
			}
			var done *service.Restored
			if resynced != "" {
				done, err = service.Resynced(context.Background(), config, resynced, by, because, env.now())
			} else {
				done, err = service.Restore(context.Background(), config, by, because, env.now())
			}
			if err != nil {
				return err
			}
			err = env.show(done, func(p *render.Page) { p.ServeRestored(done, flags.config) })
			return foundIf(len(done.Owed) > 0, err)
		},
	}
	cmd.Flags().StringVar(&by, "as", "", "who says so")
	cmd.Flags().StringVar(&because, "because", "", "why")
	cmd.Flags().StringVar(&resynced, "resynced", "", "the source with which the store is resynced, as this command lists it")
	return cmd
}

// carriedOver is what serve carry-over prints as JSON.
type carriedOver struct {
	Did []string `json:"did"`
}

// onlyNamed is the value of --withdraw without one.
const onlyNamed = "="

func (env *environment) serveFactsCommand(flags *doorFlags) *cobra.Command {
	var w service.Withdrawal
	var of string
	cmd := &cobra.Command{
		Use:   "facts ACCOUNT",
		Short: "Show what each source states of an account, or take a statement back",
		Long: "serve facts shows what holds of an account for the door, and what each source states of it: the book,\n" +
			"feeds, issuers of events, administrators. Each source takes back only what it stated itself; with\n" +
			"--withdraw FACT --of SOURCE an administrator does. --anew makes the account another person's: what was\n" +
			"shown, reported or consented before counts no more. --group NAME --withdraw --of SOURCE gives a group\n" +
			"back to the book. Each is entered in the journal, and holds at once, also while doors run.",
		Example: "  briskwarden serve facts ingrid@kestrelsound.example --book kestrel --config door.yaml\n" +
			"  briskwarden serve facts ingrid@kestrelsound.example --withdraw disabled --of \"issuer https://feed.example\" \\\n" +
			"      --as ragna --because \"the alarm was false\"",
		Args: func(_ *cobra.Command, args []string) error {
			// What follows --withdraw is among them, since with --group nothing does.
			if i := slices.IndexFunc(args, store.IsLabel); w.Fact == onlyNamed && len(args) > 1-min(1, len(w.Group)) && i >= 0 {
				w.Fact, args = args[i], slices.Delete(slices.Clone(args), i, i+1)
			}
			if len(args) > 1 || len(args) == 0 && w.Group == "" {
				return errors.New("name one account: briskwarden serve facts ACCOUNT")
			}
			if len(args) > 0 {
				w.Account = args[0]
			}
			w.Fact = strings.TrimSuffix(w.Fact, onlyNamed)
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			config, err := service.ReadConfig(flags.config)
			if err != nil {
				return err
			}
			w.Of = store.Source(of)
			if !cmd.Flags().Changed("withdraw") && !w.Anew {
				known, err := service.Facts(cmd.Context(), env.book, config, w.Account, env.now())
				if err != nil {
					return err
				}
				return env.show(known, func(p *render.Page) { p.ServeFacts(known, flags.config) })
			}
			done, err := service.Withdraw(cmd.Context(), env.book, config, &w, env.now())
			if err != nil {
				return err
			}
			return env.show(map[string][]string{"done": done}, func(p *render.Page) { p.ServeWithdrawn(done) })
		},
	}
	cmd.Flags().StringVar(&w.Fact, "withdraw", "", "the fact to be taken back, as the list names it, such as disabled or \"group deck\"")
	cmd.Flags().Lookup("withdraw").NoOptDefVal = onlyNamed
	cmd.Flags().StringVar(&of, "of", "", "the source that states it, as the list names it")
	cmd.Flags().BoolVar(&w.Anew, "anew", false, "make the account another person's")
	cmd.Flags().StringVar(&w.Group, "group", "", "the group to be given back to the book")
	cmd.Flags().StringVar(&w.As, "as", "", "who does it, for the record")
	cmd.Flags().StringVar(&w.Because, "because", "", "why, for the record")
	return cmd
}

func (env *environment) serveBackupCommand(flags *doorFlags) *cobra.Command {
	return &cobra.Command{
		Use:   "backup FILE",
		Short: "Write a copy of the store, also while the door runs",
		Long: "serve backup writes the facts and the journal, as they are at this moment, into a new file. The door\n" +
			"goes on meanwhile. To go back to a copy, stop the door, remove the store with the files -wal and -shm beside\n" +
			"it, which a door that was killed leaves there, and put the copy in its place.",
		Example: "  briskwarden serve backup --config door.yaml door-2026-11-23.db",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return errors.New("name the new file: briskwarden serve backup FILE")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			config, err := service.ReadConfig(flags.config)
			if err != nil {
				return err
			}
			if err := service.Backup(context.Background(), config, args[0]); err != nil {
				return err
			}
			return env.show(map[string]string{"backup": args[0]}, func(p *render.Page) { p.ServeBackedUp(args[0]) })
		},
	}
}
