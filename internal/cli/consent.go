package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/wholefile"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// recordName is the file of the record in the book's folder, where --record names
// no other.
const recordName = "consent.db"

// consentFlags are the flags of consent's subcommands.
type consentFlags struct {
	record, config, at, as, because  string
	account, client, resource, group string
	redirect, why, file              string
	scopes                           []string
	verify, publicKey, key, out      string
	request                          int64
	requests                         []int64
	last                             int
	everyone, yes                    bool
}

func (env *environment) consentCommand() *cobra.Command {
	flags := &consentFlags{}
	cmd := &cobra.Command{
		Use:   "consent",
		Short: "Guard which outside programs people let in to their data",
		Long: "consent answers what outside programs (OAuth 2.0 clients) ask of people: the book's rules allow\n" +
			"what is harmless and refuse what is not, and everything between waits for a reviewer. What was asked\n" +
			"and answered is kept in a file (--record), or in the store of a door (--config), whose doors then answer by\n" +
			"it at once, also while they run. Each act is an entry of the journal there.",
		Example: "  briskwarden consent rehearse --book kestrel --account ingrid@kestrelsound.example --client voyage-log --scope mail.read\n" +
			"  briskwarden consent queue --book kestrel\n" +
			"  briskwarden consent approve --book kestrel --request 7 --scope roster.read --as ragna@kestrelsound.example --because \"Roster " +
			"only.\"\n" +
			"  briskwarden consent register --book kestrel",
		Args: knownCommand,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.PersistentFlags().StringVar(&flags.record, "record", "", "the file of the record (consent.db in the book's folder)")
	cmd.PersistentFlags().StringVar(&flags.config, "config", "", "the configuration of a door, whose store has the record")
	cmd.PersistentFlags().StringVar(&flags.at, "at", "", "as of this day or time (now)")
	sub := func(name, short, long, example string, setUp func(f *pflag.FlagSet), run func() error) {
		c := &cobra.Command{Use: name, Short: short, Long: long, Example: "  briskwarden consent " + example, Args: noArguments,
			RunE: func(*cobra.Command, []string) error { return run() }}
		setUp(c.Flags())
		cmd.AddCommand(c)
	}
	none := func(*pflag.FlagSet) {}
	asked := func(f *pflag.FlagSet) {
		f.StringVar(&flags.account, "account", "", "who is asked to let the program in")
		f.StringVar(&flags.client, "client", "", "the client_id of the program")
		f.StringArrayVar(&flags.scopes, "scope", nil, "a scope that it asks for")
		f.StringVar(&flags.resource, "resource", "own", "whose data it is about: own or group:NAME")
		f.StringVar(&flags.redirect, "redirect", "", "where the program wants to be answered (where it is registered)")
	}
	acting := func(f *pflag.FlagSet) {
		f.StringVar(&flags.as, "as", "", "who acts")
		f.StringVar(&flags.because, "because", "", "the reason")
		f.BoolVar(&flags.yes, "yes", false, "do not ask for confirmation")
	}
	sub(
		"rehearse",
		"Decide one request and record nothing",
		"consent rehearse tells what the rules say of each scope that a program asks for.",
		"rehearse --account ingrid@kestrelsound.example --client voyage-log --scope mail.read",
		asked,
		func() error { return env.consentRehearse(flags) },
	)
	sub(
		"ask",
		"Make a request: it is granted, refused, or waits",
		"consent ask records what a person lets a program have, or puts it into the queue for a reviewer.",
		"ask --account ingrid@kestrelsound.example --client voyage-log --scope mail.read --why \"To sum up the log.\"",
		func(f *pflag.FlagSet) {
			asked(f)
			f.StringVar(&flags.why, "why", "", "why the person needs it")
		},
		func() error { return env.consentAsk(flags) },
	)
	sub(
		"queue",
		"Show what waits for a reviewer",
		"consent queue shows what waits, the most dangerous programs first; who asked for the same stands together.",
		"queue --book kestrel",
		none,
		func() error { return env.consentQueue(flags) },
	)
	sub(
		"approve",
		"Approve what was asked for, or less",
		"consent approve approves a request (--request), or scopes of a program without one (--client, --scope).\n"+
			"It is for the one who asked, for --group, or for --everyone; --scope narrows it. All who wait for no more are answered with it.",
		"approve --request 7 --scope roster.read --as ragna@kestrelsound.example",
		func(f *pflag.FlagSet) {
			acting(f)
			f.Int64Var(&flags.request, "request", 0, "number of the request")
			f.StringVar(&flags.client, "client", "", "the program, where no request is answered")
			f.StringArrayVar(&flags.scopes, "scope", nil, "a scope that is approved (all that was asked for)")
			f.StringVar(&flags.account, "account", "", "approve for this account")
			f.StringVar(&flags.group, "group", "", "approve for this group")
			f.BoolVar(&flags.everyone, "everyone", false, "approve for everyone")
			f.StringVar(&flags.redirect, "redirect", "", "where a program is answered that the book does not have, where no request is answered")
			f.StringVar(&flags.resource, "resource", "own", "whose data it is about, where no request is answered: own or group:NAME")
		},
		func() error { return env.consentApprove(flags) },
	)
	sub(
		"refuse",
		"Refuse requests and all that ask for the same",
		"consent refuse refuses requests with a reason, each with all that ask for the same; with --client all that a program\n"+
			"waits for. What came of a request before is taken back.",
		"refuse --request 7 --because \"It reads others' mail.\" --as ragna@kestrelsound.example",
		func(f *pflag.FlagSet) {
			acting(f)
			f.Int64SliceVar(&flags.requests, "request", nil, "number of the request; give it again for several")
			f.StringVar(&flags.client, "client", "", "refuse all that this program waits for")
		},
		func() error { return env.consentRefuse(flags) },
	)
	sub("bar", "Bar a program at once", "consent bar bars a program: what it was given ends, and what it waits for is refused.",
		"bar --client crew-swap --because \"It changed hands.\" --as ragna@kestrelsound.example", func(f *pflag.FlagSet) {
			acting(f)
			f.StringVar(&flags.client, "client", "", "the program")
		}, func() error { return env.consentBar(flags, true) })
	sub("lift-bar", "Let a barred program ask again", "consent lift-bar lifts a bar. What the program had does not come back.",
		"lift-bar --client crew-swap --because \"Vetted again.\" --as ragna@kestrelsound.example", func(f *pflag.FlagSet) {
			acting(f)
			f.StringVar(&flags.client, "client", "", "the program")
		}, func() error { return env.consentBar(flags, false) })
	sub(
		"register",
		"Show all programs, graded by danger",
		"consent register shows each program with what it was given, by how many, and why it is dangerous;\n"+
			"with --client one of them, with all who let it in.",
		"register --book kestrel --client crew-swap",
		func(f *pflag.FlagSet) {
			f.StringVar(&flags.client, "client", "", "show this program alone, with all who let it in")
		},
		func() error { return env.consentRegister(flags) },
	)
	sub("withdraw", "Take back what somebody let a program have",
		"consent withdraw takes a grant back. Each takes back what they let in themselves, and a reviewer what\n"+
			"anybody did. What was approved stays approved.",
		"withdraw --account liv@kestrelsound.example --client crew-swap --as liv@kestrelsound.example", func(f *pflag.FlagSet) {
			acting(f)
			f.StringVar(&flags.account, "account", "", "the account that let it in")
			f.StringVar(&flags.client, "client", "", "the program")
			f.StringVar(&flags.resource, "resource", "own", "whose data it is about: own or group:NAME")
		}, func() error { return env.consentWithdraw(flags) })
	sub(
		"strays",
		"Show grants that today's rules would not allow",
		"consent strays shows what people let programs have that the rules would not allow today; the exit status is 1 where there is any.",
		"strays --book kestrel",
		none,
		func() error { return env.consentStrays(flags) },
	)
	sub(
		"import",
		"Take over clients and grants of another system",
		"consent import reads client metadata (RFC 7591) and grants as JSON, or CSV with the same names; `demo --out` lays out an example.",
		"import --file grants.csv --as ragna@kestrelsound.example",
		func(f *pflag.FlagSet) {
			acting(f)
			f.StringVar(&flags.file, "file", "", "the file to read")
		},
		func() error { return env.consentImport(flags) },
	)
	sub("acts", "Show the record of acts, once it has been verified",
		"consent acts shows who did what and when, once the record has been verified: each act is as it was recorded, and none\n"+
			"is missing. That somebody wrote all of it again only a checkpoint shows that was kept elsewhere (--verify).",
		"acts --book kestrel --verify march.checkpoint --public-key consent.pub", func(f *pflag.FlagSet) {
			f.StringVar(&flags.verify, "verify", "", "hold the record against this file, which `consent checkpoint` wrote")
			f.StringVar(&flags.publicKey, "public-key", "", "the file of the public key whose owner signed the checkpoint")
			f.IntVar(&flags.last, "last", 200, "show this many, the last; 0 shows all, as --json does")
		}, func() error { return env.consentActs(flags) })
	sub("checkpoint", "Sign how the record stands",
		"consent checkpoint verifies the record and signs how many acts it has and the root of their tree. Keep what it prints\n"+
			"where nobody who writes the record can change it: a mail, another machine, paper.",
		"checkpoint --book kestrel --private-key consent.key > march.checkpoint", func(f *pflag.FlagSet) {
			f.StringVar(&flags.key, "private-key", "", "the file of the private key, which `consent key` made")
		}, func() error { return env.consentCheckpoint(flags) })
	sub("key", "Make a key pair to sign checkpoints with",
		"consent key writes a private key (Ed25519), and beside it the public one, which anybody may have.",
		"key --out consent.key --name kestrelsound.example/consent", func(f *pflag.FlagSet) {
			f.StringVar(&flags.out, "out", "", "the new file of the private key; the public one gets `.pub` behind it")
			f.StringVar(&flags.as, "name", "", "name of the record, which stands in each checkpoint")
		}, func() error { return env.consentKey(flags) })
	return cmd
}

// withRecord opens what keeps the acts and calls work with it. A command that only looks makes no file.
func (env *environment) withRecord(flags *consentFlags, looks bool, work func(ctx context.Context, s store.Store) error) error {
	ctx := context.Background()
	if flags.config != "" {
		if flags.record != "" {
			return errors.New("give one of --config, for the store of a door, and --record, for a file")
		}
		env.record = terminal.Command("--config %s", flags.config)
		config, err := service.ReadConfig(flags.config)
		if err != nil {
			return err
		}
		open := service.JoinStore
		if looks {
			open = service.ReadStore
		}
		s, err := open(ctx, config)
		if err != nil {
			return err
		}
		return errors.Join(work(ctx, s), s.Close())
	}
	path := filepath.Join(env.book, recordName)
	if flags.record != "" {
		path, env.record = flags.record, terminal.Command("--record %s", flags.record)
	}
	s, kept, err := service.OpenRecord(ctx, path, looks)
	if err != nil {
		return err
	}
	if kept != "" {
		fmt.Fprintf(env.err, "briskwarden: the record was carried over from the version before; the file as it was is %s\n", kept)
	}
	return errors.Join(work(ctx, s), s.Close())
}

// withDesk opens the book and what keeps the acts, and calls work with the moment of --at.
func (env *environment) withDesk(flags *consentFlags, looks bool, work func(ctx context.Context, d *acts.Desk, at time.Time) error) error {
	b, _, consents, err := env.compileConsent()
	if err != nil {
		return err
	}
	at, err := env.moment(b, flags.at)
	if err != nil {
		return err
	}
	return env.withRecord(flags, looks, func(ctx context.Context, s store.Store) error {
		return work(ctx, acts.New(consents, s, store.TerminalLog), at)
	})
}

// asked makes a request of the flags.
func (f *consentFlags) asked(d *acts.Desk, at time.Time) (consent.Request, error) {
	r := consent.Request{At: at, Account: f.account, Client: f.client, Scopes: f.scopes, RedirectURI: f.redirect}
	if f.account == "" || f.client == "" || len(f.scopes) == 0 {
		return r, errors.New("say who lets what have which: --account NAME, --client NAME and --scope NAME")
	}
	if err := r.Resource.UnmarshalText([]byte(f.resource)); err != nil {
		return r, fmt.Errorf("--resource: %w", err)
	}
	if f.redirect == "" {
		r.RedirectURI = d.RegisteredAt(f.client)
	}
	return r, nil
}

func (env *environment) consentRehearse(flags *consentFlags) error {
	return env.withDesk(flags, true, func(ctx context.Context, d *acts.Desk, at time.Time) error {
		r, err := flags.asked(d, at)
		if err != nil {
			return err
		}
		decision, err := d.Rehearse(ctx, r)
		if err != nil {
			return err
		}
		return env.show(decision, func(p *render.Page) { p.ConsentDecision(r, decision) })
	})
}

func (env *environment) consentAsk(flags *consentFlags) error {
	return env.withDesk(flags, false, func(ctx context.Context, d *acts.Desk, at time.Time) error {
		r, err := flags.asked(d, at)
		if err != nil {
			return err
		}
		answer, err := d.Ask(ctx, r, flags.why)
		if err != nil {
			return err
		}
		return env.show(answer, func(p *render.Page) { p.ConsentAnswer(r, answer) })
	})
}

func (env *environment) consentQueue(flags *consentFlags) error {
	return env.withDesk(flags, true, func(ctx context.Context, d *acts.Desk, at time.Time) error {
		batches, err := d.Queue(ctx, at)
		if err != nil {
			return err
		}
		return env.show(&acts.Queued{Batches: batches}, func(p *render.Page) { p.ConsentQueue(batches, at) })
	})
}

func (env *environment) consentRegister(flags *consentFlags) error {
	return env.withDesk(flags, true, func(ctx context.Context, d *acts.Desk, at time.Time) error {
		entries, err := d.Register(ctx, at)
		if err != nil {
			return err
		}
		registered := &acts.Registered{Clients: entries}
		if flags.client != "" {
			if registered.Grants, err = d.Holds(ctx, flags.client, at); err != nil {
				return err
			}
			registered.Clients = slices.DeleteFunc(entries, func(e acts.Entry) bool { return e.Client != flags.client })
		}
		return env.show(registered, func(p *render.Page) {
			p.ConsentRegister(registered.Clients, at)
			if flags.client != "" {
				p.ConsentHolders(flags.client, registered.Grants, d.Zone())
			}
		})
	})
}

func (env *environment) consentWithdraw(flags *consentFlags) error {
	w := acts.Withdrawal{By: flags.as, Account: flags.account, Client: flags.client, Because: flags.because}
	if w.Account == "" || w.Client == "" {
		return errors.New("say what is taken back: --account NAME and --client NAME")
	}
	if err := w.Resource.UnmarshalText([]byte(flags.resource)); err != nil {
		return fmt.Errorf("--resource: %w", err)
	}
	return env.act(
		flags,
		fmt.Sprintf("%s takes back what %s let %s have.", w.By, w.Account, w.Client),
		func(ctx context.Context, d *acts.Desk, at time.Time) ([]acts.Act, error) {
			w.At = at
			return d.Withdraw(ctx, w)
		},
	)
}

func (env *environment) consentStrays(flags *consentFlags) error {
	return env.withDesk(flags, true, func(ctx context.Context, d *acts.Desk, at time.Time) error {
		strays, err := d.Strays(ctx, at)
		if err != nil {
			return err
		}
		err = env.show(&acts.Strayed{Grants: strays}, func(p *render.Page) { p.ConsentStrays(strays) })
		return foundIf(len(strays) > 0, err)
	})
}

func (env *environment) consentActs(flags *consentFlags) error {
	var checkpoint, key []byte
	if flags.last < 0 {
		return fmt.Errorf("--last is how many acts are shown, 0 or more, not %d", flags.last)
	}
	if (flags.verify == "") != (flags.publicKey == "") {
		return errors.New("a checkpoint is trusted for its signature: give both --verify CHECKPOINT and --public-key FILE")
	}
	if flags.verify != "" {
		var err error
		if checkpoint, err = wholefile.ReadPath(flags.verify, maxCheckpoint); err != nil {
			return fmt.Errorf("--verify %s: %w", flags.verify, err)
		}
		if key, err = wholefile.ReadPath(flags.publicKey, maxCheckpoint); err != nil {
			return fmt.Errorf("--public-key %s: %w", flags.publicKey, err)
		}
	}
	return env.withDesk(flags, true, func(ctx context.Context, d *acts.Desk, _ time.Time) error {
		record, err := d.Acts(ctx, journal.Verification{Checkpoint: checkpoint, PublicKey: string(key)})
		if err != nil && flags.verify != "" {
			err = fmt.Errorf("--verify %s: %w", flags.verify, err)
		}
		if err != nil {
			return err
		}
		return env.show(record, func(p *render.Page) { p.ConsentActs(record, flags.last, d.Zone()) })
	})
}

// maxCheckpoint is how large a file of a checkpoint or of a key may be.
const maxCheckpoint = 64 << 10

func (env *environment) consentCheckpoint(flags *consentFlags) error {
	if flags.key == "" {
		return errors.New("say what signs: --private-key FILE; `briskwarden consent key` makes one")
	}
	key, err := wholefile.ReadPath(flags.key, maxCheckpoint)
	if err != nil {
		return fmt.Errorf("--private-key %s: %w", flags.key, err)
	}
	return env.withRecord(flags, true, func(ctx context.Context, s store.Store) error {
		if _, err := journal.Verify(ctx, s, journal.Verification{}); err != nil {
			return err
		}
		heads, err := s.Heads(ctx)
		if err != nil {
			return err
		}
		signed, err := journal.Checkpoint(heads, string(key))
		if err != nil {
			return fmt.Errorf("--private-key %s: %w", flags.key, err)
		}
		if env.json {
			return env.printJSON(&acts.Signed{Checkpoint: string(signed)})
		}
		_, err = env.out.Write(signed)
		return err
	})
}

func (env *environment) consentKey(flags *consentFlags) error {
	if flags.out == "" || flags.as == "" {
		return errors.New("say where the key goes and which record it is for: --out FILE and --name NAME, " +
			"such as --name kestrelsound.example/consent")
	}
	public, err := writeKeys(flags.out, flags.as)
	if err != nil {
		return err
	}
	return env.show(&acts.PublicKey{Public: public}, func(p *render.Page) { p.ConsentKey(flags.out, flags.out+".pub", public) })
}

// confirmed asks a person at a terminal whether to do what the text says. A
// script says --yes.
func (env *environment) confirmed(yes bool, text string) error {
	if yes {
		return nil
	}
	in, isFile := env.in.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) {
		return errors.New("nobody can be asked for confirmation here; add --yes to do it")
	}
	fmt.Fprintf(env.err, "%s [yes/no] ", text)
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil {
		return fmt.Errorf("no answer: %w", err)
	}
	if answer := strings.ToLower(strings.TrimSpace(line)); answer != "yes" && answer != "y" {
		return errors.New("not confirmed; nothing was done")
	}
	return nil
}

// act asks for confirmation, acts, and tells what was recorded. An act that was
// overruled is told too, and found.
func (env *environment) act(
	flags *consentFlags,
	text string,
	do func(ctx context.Context, d *acts.Desk, at time.Time) ([]acts.Act, error),
) error {
	if flags.as == "" {
		return errors.New("say who acts: --as ACCOUNT")
	}
	if err := env.confirmed(flags.yes, text); err != nil {
		return err
	}
	return env.withDesk(flags, false, func(ctx context.Context, d *acts.Desk, at time.Time) error {
		done, err := do(ctx, d, at)
		overruled := errors.Is(err, acts.ErrOverruled)
		if err != nil && !overruled {
			return err
		}
		if err := env.show(&acts.Record{Acts: done}, func(p *render.Page) { p.ConsentActed(done, d.Zone()) }); err != nil {
			return err
		}
		if overruled {
			fmt.Fprintf(env.err, "briskwarden: %v\n", err)
			return errFound
		}
		return nil
	})
}

func (env *environment) consentApprove(flags *consentFlags) error {
	a := acts.Approval{
		By:       flags.as,
		Request:  flags.request,
		Client:   flags.client,
		Scopes:   flags.scopes,
		Everyone: flags.everyone,
		Group:    flags.group,
		Account:  flags.account,
		Redirect: flags.redirect,
		Because:  flags.because,
	}
	if err := a.Resource.UnmarshalText([]byte(flags.resource)); err != nil {
		return fmt.Errorf("--resource: %w", err)
	}
	switch {
	case flags.request != 0 && (flags.client != "" || flags.redirect != "" || flags.resource != "own"):
		return errors.New("--request says which client it is of, whose data it is about and where it is answered; leave --client, " +
			"--redirect and --resource out")
	case flags.everyone && (flags.group != "" || flags.account != ""), flags.group != "" && flags.account != "":
		return errors.New("give one of --everyone, --group and --account")
	}
	what := fmt.Sprintf("%s of %s", strings.Join(flags.scopes, ", "), flags.client)
	switch {
	case flags.request == 0 && (flags.client == "" || len(flags.scopes) == 0):
		return errors.New("say what is approved: --request NUMBER, or --client NAME with --scope NAME")
	case flags.request != 0:
		what = fmt.Sprintf("request %d", flags.request)
	}
	return env.act(
		flags,
		fmt.Sprintf("%s approves %s.", flags.as, what),
		func(ctx context.Context, d *acts.Desk, at time.Time) ([]acts.Act, error) {
			a.At = at
			return d.Approve(ctx, a)
		},
	)
}

func (env *environment) consentRefuse(flags *consentFlags) error {
	r := acts.Refusal{By: flags.as, Requests: flags.requests, Client: flags.client, Because: flags.because}
	what := "all that " + r.Client + " waits for"
	switch {
	case (len(r.Requests) == 0) == (r.Client == ""):
		return errors.New("say what is refused: --request NUMBER, again for several, or --client NAME for all that it waits for")
	case len(r.Requests) > 0:
		what = "request " + strings.Trim(fmt.Sprint(r.Requests), "[]")
	}
	return env.act(
		flags,
		fmt.Sprintf("%s refuses %s.", r.By, what),
		func(ctx context.Context, d *acts.Desk, at time.Time) ([]acts.Act, error) {
			r.At = at
			return d.Refuse(ctx, r)
		},
	)
}

func (env *environment) consentBar(flags *consentFlags, bar bool) error {
	if flags.client == "" {
		return errors.New("say which program: --client NAME")
	}
	if !bar {
		return env.act(
			flags,
			fmt.Sprintf("%s lifts the bar of %s.", flags.as, flags.client),
			func(ctx context.Context, d *acts.Desk, at time.Time) ([]acts.Act, error) {
				return d.LiftBar(ctx, flags.as, flags.client, flags.because, at)
			},
		)
	}
	return env.act(
		flags,
		fmt.Sprintf("%s bars %s; all that it was given ends.", flags.as, flags.client),
		func(ctx context.Context, d *acts.Desk, at time.Time) ([]acts.Act, error) {
			return d.Bar(ctx, flags.as, flags.client, flags.because, at)
		},
	)
}

func (env *environment) consentImport(flags *consentFlags) error {
	text, err := wholefile.ReadPath(flags.file, book.MaxFileSize)
	if err != nil {
		return fmt.Errorf("--file %s: %w", flags.file, err)
	}
	found, err := acts.ReadImport(text)
	if err != nil {
		return fmt.Errorf("--file %s: %w", flags.file, err)
	}
	for _, s := range found.Skipped {
		fmt.Fprintf(env.err, "%s:%d: left out: %s\n", flags.file, s.Line, s.Text)
	}
	err = env.act(flags, fmt.Sprintf("%s takes over %d clients and %d grants.", flags.as, len(found.Clients), len(found.Grants)),
		func(ctx context.Context, d *acts.Desk, at time.Time) ([]acts.Act, error) {
			return d.Import(ctx, flags.as, found, at)
		})
	return foundIf(len(found.Skipped) > 0, err)
}
