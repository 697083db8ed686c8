package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// journalFlags are those of the commands about the journal.
type journalFlags struct {
	doorFlags
	file string
}

func (env *environment) journalCommand() *cobra.Command {
	flags := new(journalFlags)
	cmd := &cobra.Command{
		Use:   "journal",
		Short: "Read what the door decided and did, and verify that it is as it was",
		Long: "journal reads the record that the door keeps beside its facts, also while the door runs. It is the one\n" +
			"of the store that --config names, or of a SQLite file, such as a backup, with --file.",
		Example: "  briskwarden journal list --config door.yaml --account ingrid@kestrelsound.example\n" +
			"  briskwarden journal show --config door.yaml --book kestrel 019aafc2-5e0c-7b6e-9d3e-6a2f4c1b8e77\n" +
			"  briskwarden journal verify --config door.yaml --checkpoint door.checkpoint --public-key door.pub",
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	flags.add(cmd)
	cmd.PersistentFlags().StringVar(&flags.file, "file", "", "a store in a SQLite file, in place of that of --config")
	cmd.AddCommand(env.journalListCommand(flags), env.journalShowCommand(flags), env.journalVerifyCommand(flags), env.journalKeyCommand())
	return cmd
}

// names returns the flags that name the store, to be suggested again.
func (f *journalFlags) names() []string {
	if f.file != "" {
		return []string{"--file", f.file}
	}
	return []string{"--config", f.config}
}

// withStore calls do with the store that the flags name.
func (f *journalFlags) withStore(do func(ctx context.Context, s store.Store) error) error {
	ctx := context.Background()
	config := &door.Config{Store: door.StoreConfig{File: f.file}}
	if f.file == "" {
		var err error
		if config, err = service.ReadConfig(f.config); err != nil {
			return err
		}
	}
	s, err := service.ReadStore(ctx, config)
	if err != nil {
		return err
	}
	return errors.Join(do(ctx, s), s.Close())
}

func (env *environment) journalListCommand(flags *journalFlags) *cobra.Command {
	var filter journal.Filter
	var kind, from, to, verdict string
	most := 50
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List entries, the latest first",
		Long:  "journal list lists what was recorded, the latest first. Filters add up.",
		Example: "  briskwarden journal list --config door.yaml --verdict block\n" +
			"  briskwarden journal list --config door.yaml --kind session_end --from 2026-11-23T00:00:00Z",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error {
			if kind != "" {
				if err := filter.Kind.UnmarshalText([]byte(kind)); err != nil {
					return fmt.Errorf("--kind: %w", err)
				}
			}
			for flag, text := range map[string]string{"--from": from, "--to": to} {
				if text == "" {
					continue
				}
				moment, err := time.Parse(time.RFC3339, text)
				if err != nil {
					return fmt.Errorf("%s: %q is no time such as 2026-11-23T13:10:00Z", flag, text)
				}
				if flag == "--from" {
					filter.From = moment
				} else {
					filter.To = moment
				}
			}
			if most < 1 {
				return errors.New("--most is at least 1")
			}
			wanted, err := evidence.VerdictNamed(verdict)
			if err != nil {
				return fmt.Errorf("--verdict: %w", err)
			}
			filter.Latest = true
			return flags.withStore(func(ctx context.Context, s store.Store) error {
				list, err := evidence.ListOf(evidence.Of(s.Entries(ctx, filter), wanted), most)
				if err != nil {
					return err
				}
				return env.show(list, func(p *render.Page) { p.Journal(list, flags.names()...) })
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&filter.Account, "account", "", "those about this account")
	f.StringVar(&kind, "kind", "", "decision, reload, report, event, people or session_end")
	f.StringVar(&verdict, "verdict", "", "decisions with this verdict: grant, step_up or block")
	f.StringVar(&from, "from", "", "those since this time, such as 2026-11-23T00:00:00Z")
	f.StringVar(&to, "to", "", "those before this time")
	f.IntVar(&most, "most", most, "how many are listed at most")
	return cmd
}

func (env *environment) journalShowCommand(flags *journalFlags) *cobra.Command {
	return &cobra.Command{
		Use:   "show ID",
		Short: "Explain one decision, and tell what today's book would say",
		Long: "journal show explains a decision as rehearse does: with the attempt as it was judged, where each fact came\n" +
			"from, and every policy. Where --book holds a book, it is asked about the same attempt with the same facts.",
		Example: "  briskwarden journal show --config door.yaml --book kestrel 019aafc2-5e0c-7b6e-9d3e-6a2f4c1b8e77",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return errors.New("name one decision: briskwarden journal show ID; journal list shows their ids")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return flags.withStore(func(ctx context.Context, s store.Store) error {
				e, err := evidence.Find(ctx, s, args[0])
				if err != nil {
					return err
				}
				d, err := evidence.Read(e)
				if err != nil {
					return err
				}
				if cmd.Flags().Changed("book") {
					b, err := env.open(env.book)
					if err == nil {
						err = d.Compare(b)
					}
					if err != nil {
						return err
					}
				}
				return env.show(d, func(p *render.Page) { p.JournalDecision(d) })
			})
		},
	}
}

func (env *environment) journalVerifyCommand(flags *journalFlags) *cobra.Command {
	var checkpoint, public string
	cmd := &cobra.Command{
		Use:   "verify",
		Short: "Verify that every entry is as it was recorded, and none is missing",
		Long: "journal verify holds all entries against the tree that they are the leaves of. That somebody rewrote all of\n" +
			"it only a checkpoint shows that was kept elsewhere: give it with the public key of its signer.\n\n" +
			"The exit status is 1 where an entry is not as it was.",
		Example: "  briskwarden journal verify --config door.yaml --checkpoint door.checkpoint --public-key door.pub",
		Args:    noArguments,
		RunE: func(*cobra.Command, []string) error {
			if (checkpoint == "") != (public == "") {
				return errors.New("a checkpoint is trusted for its signature: give both --checkpoint FILE and --public-key FILE")
			}
			var signed, key []byte
			if checkpoint != "" {
				var err error
				if signed, err = wholefile.ReadPath(checkpoint, maxCheckpoint); err != nil {
					return fmt.Errorf("--checkpoint %s: %w", checkpoint, err)
				}
				if key, err = wholefile.ReadPath(public, maxCheckpoint); err != nil {
					return fmt.Errorf("--public-key %s: %w", public, err)
				}
			}
			return flags.withStore(func(ctx context.Context, s store.Store) error {
				v, err := evidence.Verify(ctx, s, signed, string(key))
				if err != nil {
					return err
				}
				err = env.show(v, func(p *render.Page) { p.JournalVerified(v) })
				return foundIf(v.Wrong != "", err)
			})
		},
	}
	cmd.Flags().StringVar(&checkpoint, "checkpoint", "", "a checkpoint that was kept elsewhere")
	cmd.Flags().StringVar(&public, "public-key", "", "the file of the public key whose owner signed it")
	return cmd
}

func (env *environment) journalKeyCommand() *cobra.Command {
	var out, name string
	cmd := &cobra.Command{
		Use:   "key",
		Short: "Make a key pair to sign checkpoints with",
		Long: "journal key writes a private key (Ed25519) for journal.key of the configuration, and beside it the public one,\n" +
			"which anybody may have.",
		Example: "  briskwarden journal key --out door.key --name kestrelsound.example/door",
		Args:    noArguments,
		RunE: func(*cobra.Command, []string) error {
			if out == "" || name == "" {
				return errors.New("say where the key goes and what it is for: --out FILE --name ferries.example/door")
			}
			for _, path := range []string{out, out + ".pub"} {
				if err := newfile.CheckFile(path); err != nil {
					return err
				}
			}
			private, public, err := journal.NewKey(name)
			if err != nil {
				return fmt.Errorf("--name: %w", err)
			}
			if err := newfile.Write(out, []byte(private+"\n"), newfile.Private); err != nil {
				return err
			}
			if err := newfile.Write(out+".pub", []byte(public+"\n"), newfile.Shared); err != nil {
				return err
			}
			return env.show(map[string]string{"public_key": public}, func(p *render.Page) { p.JournalKey(public, out) })
		},
	}
	cmd.Flags().StringVar(&out, "out", "", "the new file of the private key; the public one gets `.pub` behind it")
	cmd.Flags().StringVar(&name, "name", "", "name of the journal, such as kestrelsound.example/door")
	return cmd
}
