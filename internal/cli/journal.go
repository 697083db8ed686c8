package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/evidence"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/typed"
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
	cmd.AddCommand(env.journalListCommand(flags), env.journalShowCommand(flags), env.journalVerifyCommand(flags),
		env.journalPruneCommand(flags), env.journalKeyCommand())
	return cmd
}

// names returns the flags that name the store, to be suggested again.
func (f *journalFlags) names() []string {
	if f.file != "" {
		return []string{"--file", f.file}
	}
	return []string{"--config", f.config}
}

// doorConfig returns the configuration that names the store.
func (f *journalFlags) doorConfig() (*door.Config, error) {
	if f.file != "" {
		return &door.Config{Store: door.StoreConfig{File: f.file}}, nil
	}
	return service.ReadConfig(f.config)
}

// withStore calls do with the store that the flags name.
func (f *journalFlags) withStore(do func(ctx context.Context, s store.Store) error) error {
	ctx := context.Background()
	config, err := f.doorConfig()
	if err != nil {
		return err
	}
	s, err := service.ReadStore(ctx, config)
	if err != nil {
		return err
	}
	return errors.Join(do(ctx, s), s.Close())
}

// listFlags are those of journal list.
type listFlags struct {
	historyFlags
	stretchFlags
	evidence.Filter
	words  evidence.Words
	format string
	most   int
}

func (env *environment) journalListCommand(flags *journalFlags) *cobra.Command {
	list := &listFlags{}
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List entries, the latest first",
		Long: "journal list lists what was recorded, the latest first. Filters add up. With --history it lists the attempts\n" +
			"of a history as the book of --book judges them.\n\n" +
			"As jsonl each entry is written whole, as it was recorded; as ocsf the sign-ins are, as authentication events\n" +
			"(class 3002). replay reads both back.",
		Example: "  briskwarden journal list --config door.yaml --verdict block --last 7d\n" +
			"  briskwarden journal list --config door.yaml --country BR --ip 198.51.100.0/24 --format csv > brazil.csv\n" +
			"  briskwarden journal list --book kestrel --history month.jsonl.zst --policy card-till",
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error { return env.journalList(flags, list, cmd) },
	}
	f := cmd.Flags()
	f.StringVar(&list.Account, "account", "", "those about this account")
	f.StringVar(&list.words.Kind, "kind", "", "those of a kind: "+strings.Join(journal.Kinds(), ", "))
	f.StringSliceVar(&list.words.Verdicts, "verdict", nil, "decisions with one of these verdicts: "+strings.Join(decide.Verdicts(), ", "))
	f.StringVar(&list.App, "app", "", "decisions on this app")
	f.StringVar(&list.Policy, "policy", "", "decisions that this policy is behind")
	f.StringVar(&list.Rule, "rule", "", "decisions that a rule of this name is behind")
	f.StringVar(&list.words.Cause, "cause", "", "decisions with this code among their causes, such as app_not_open")
	f.StringVar(&list.words.Country, "country", "", "decisions on what came from this country, as it was judged")
	f.StringSliceVar(&list.words.Ranges, "ip", nil, "decisions on what came from one of these addresses or ranges")
	list.stretchFlags.addTo(f)
	f.StringVar(&list.format, "format", "text", "text, csv, jsonl for JSON, one entry a line, or ocsf")
	f.IntVar(&list.most, "most", 50, "how many are listed at most; all where it is left out and the format is jsonl or ocsf")
	f.StringSliceVar(&list.files, "history", nil, "files of attempts, in place of a journal")
	list.historyFlags.addTo(cmd)
	return cmd
}

// read reads the filter.
func (f *listFlags) read(zone *time.Location, now time.Time) (err error) {
	if err := f.Take(&f.words); err != nil {
		return fmt.Errorf("--%w", err)
	}
	if f.From, f.To, err = f.stretch(zone, now); err != nil {
		return err
	}
	switch {
	case f.most < 1:
		return errors.New("--most is at least 1")
	case !slices.Contains([]string{"text", "csv", "jsonl", "ocsf"}, f.format):
		return fmt.Errorf("--format: %q is not text, csv, jsonl or ocsf", f.format)
	}
	return nil
}

func (env *environment) journalList(flags *journalFlags, list *listFlags, cmd *cobra.Command) error {
	if len(list.files) > 0 {
		return env.historyList(list)
	}
	if err := list.read(time.UTC, env.now()); err != nil {
		return err
	}
	all := 0
	if cmd.Flags().Changed("most") {
		all = list.most
	}
	return flags.withStore(func(ctx context.Context, s store.Store) error {
		entries := s.Entries(ctx, list.Of())
		switch list.format {
		case "jsonl":
			return evidence.WriteLines(env.gated(), list.Matching(entries), all)
		case "ocsf":
			return evidence.WriteOCSF(env.gated(), list.Matching(entries), all)
		}
		found, err := list.ListOf(entries, list.most)
		if err != nil {
			return err
		}
		if list.format == "csv" {
			return found.WriteCSV(env.gated())
		}
		return env.show(found, func(p *render.Page) { p.Journal(found, time.UTC, flags.names()...) })
	})
}

// historyList lists a history as a book judges it.
func (env *environment) historyList(list *listFlags) error {
	b, judge, err := env.compile()
	if err != nil {
		return err
	}
	if err := list.read(b.Settings.Zone, env.now()); err != nil {
		return err
	}
	if list.format != "text" && list.format != "csv" {
		return errors.New("--format: a history is listed as text or csv; jsonl and ocsf are those of a journal")
	}
	if err := checkNames(b, list.App, list.Policy); err != nil {
		return err
	}
	var found *evidence.HistoryList
	return env.readHistory(&list.historyFlags, func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
		if found, err = list.ListHistory(ctx, judge, sources, o, list.most); found == nil {
			return nil, err
		}
		return &found.Basis, err
	}, func() error {
		if list.format == "csv" {
			return found.WriteCSV(env.gated())
		}
		return env.show(found, func(p *render.Page) {
			p.Journal(&found.List, b.Settings.Zone, "--history", strings.Join(list.files, ","))
		})
	})
}

func (env *environment) journalShowCommand(flags *journalFlags) *cobra.Command {
	history := &historyFlags{}
	cmd := &cobra.Command{
		Use:   "show ID",
		Short: "Explain one decision, and tell what today's book would say",
		Long: "journal show explains a decision as rehearse does: with the attempt as it was judged, where each fact came\n" +
			"from, and every policy. Where --book holds a book, it is asked about the same attempt with the same facts.\n" +
			"With --history it explains what the book says of the attempt of that id.",
		Example: "  briskwarden journal show --config door.yaml --book kestrel 019aafc2-5e0c-7b6e-9d3e-6a2f4c1b8e77",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return errors.New("name one decision: briskwarden journal show ID; journal list shows their ids")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(history.files) > 0 {
				return env.historyShow(history, args[0])
			}
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
	cmd.Flags().StringSliceVar(&history.files, "history", nil, "files of attempts, in place of a journal")
	history.addTo(cmd)
	return cmd
}

// historyShow explains an attempt of a history.
func (env *environment) historyShow(flags *historyFlags, id string) error {
	_, judge, err := env.compile()
	if err != nil {
		return err
	}
	var found *evidence.Decision
	return env.readHistory(flags, func(ctx context.Context, sources []replay.Source, o replay.Options) (*replay.Basis, error) {
		if found, err = evidence.FindInHistory(ctx, judge, sources, o, id); err != nil {
			return nil, err
		}
		return new(replay.Basis), nil
	}, func() error { return env.show(found, func(p *render.Page) { p.JournalDecision(found) }) })
}

func (env *environment) journalPruneCommand(flags *journalFlags) *cobra.Command {
	var before, by string
	var yes bool
	cmd := &cobra.Command{
		Use:   "prune",
		Short: "Take out what old entries say, and keep their hashes",
		Long: "journal prune takes out what entries before a moment say, and whom they are about. Their hashes stay, so that\n" +
			"journal verify still finds every later entry as it was. That it was done is an entry itself. A door does it\n" +
			"by itself with journal: {keep: 400d} in its configuration.",
		Example: "  briskwarden journal prune --config door.yaml --before 2025-11-01 --as ragna@kestrelsound.example",
		Args:    noArguments,
		RunE: func(*cobra.Command, []string) error {
			if before == "" || by == "" {
				return errors.New("say what goes and who wants it: --before 2025-11-01 --as ragna@kestrelsound.example")
			}
			moment, err := typed.ParseTime(before, time.UTC, env.now())
			if err != nil {
				return fmt.Errorf("--before: %w", err)
			}
			config, err := flags.doorConfig()
			if err != nil {
				return err
			}
			text := fmt.Sprintf(
				"What was recorded before %s is taken out of the journal, and cannot be read again.",
				moment.Format("2006-01-02 15:04 MST"),
			)
			if err := env.confirmed(yes, text); err != nil {
				return err
			}
			entries, err := service.Prune(context.Background(), config, moment, by, env.now())
			if err != nil {
				return err
			}
			done := &journal.Pruning{Before: moment.UTC(), By: by, Entries: entries}
			return env.show(done, func(p *render.Page) { p.JournalPruned(done) })
		},
	}
	cmd.Flags().StringVar(&before, "before", "", "entries before this time, such as 2025-11-01 (UTC)")
	cmd.Flags().StringVar(&by, "as", "", "who wants it")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return cmd
}

func (env *environment) journalVerifyCommand(flags *journalFlags) *cobra.Command {
	var checkpoint, public string
	cmd := &cobra.Command{
		Use:   "verify",
		Short: "Verify that every entry is as it was recorded, and none is missing",
		Long: "journal verify holds the entries of each log against the tree that they are the leaves of: each door has a log,\n" +
			"and those of doors that are gone are verified too. That somebody rewrote all of it only a checkpoint shows\n" +
			"that was kept elsewhere: give it with the public key of its signer.\n\n" +
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
				progress, finish := env.showEntries()
				v, err := evidence.Verify(ctx, s, journal.Verification{Checkpoint: signed, PublicKey: string(key), Progress: progress})
				finish()
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

// writeKeys makes a key pair to sign checkpoints of a name with, and writes the private key to a new file and the public one
// beside it, with `.pub` behind its name.
func writeKeys(out, name string) (public string, err error) {
	for _, path := range []string{out, out + ".pub"} {
		if err := newfile.CheckFile(path); err != nil {
			return "", fmt.Errorf("--out: %w", err)
		}
	}
	private, public, err := journal.NewKey(name)
	if err != nil {
		return "", fmt.Errorf("--name: %w", err)
	}
	if err := newfile.Write(out, []byte(private+"\n"), newfile.Private); err != nil {
		return "", fmt.Errorf("--out: %w", err)
	}
	return public, newfile.Write(out+".pub", []byte(public+"\n"), newfile.Shared)
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
			public, err := writeKeys(out, name)
			if err != nil {
				return err
			}
			return env.show(map[string]string{"public_key": public}, func(p *render.Page) { p.JournalKey(public, out) })
		},
	}
	cmd.Flags().StringVar(&out, "out", "", "the new file of the private key; the public one gets `.pub` behind it")
	cmd.Flags().StringVar(&name, "name", "", "name of the journal, such as kestrelsound.example/door")
	return cmd
}
