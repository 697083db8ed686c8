package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/admin/rehearse"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/typed"
	"github.com/briskwarden/briskwarden/internal/wholefile"
)

func (env *environment) rehearseCommand() *cobra.Command {
	var request typed.Attempt
	var file, expect string
	var more extras
	cmd := &cobra.Command{
		Use:   "rehearse",
		Short: "Judge one imagined attempt and explain the verdict",
		Long: "rehearse judges one attempt that you describe with flags, or give as JSON with --attempt, and\n" +
			"tells the verdict, why, what to do about it, what was assumed, which missing facts would\n" +
			"change it, and what became of every policy. With --vary it shows the attempt over a grid of\n" +
			"circumstances, so that corners show themselves; with --until-granted it tells the smallest set of\n" +
			"changes to the attempt that would turn it into a grant.\n\n" +
			"The exit status is 0 whatever the verdict, unless --expect names another: then it is 1. A name that\n" +
			"the book does not have is no evidence of anything, so beside --expect it ends with 2, unless\n" +
			"--unlisted says that it is meant.",
		Example: "  briskwarden rehearse --account ingrid@kestrelsound.example --app card-till \\\n" +
			"      --ip 198.51.100.200 --country BR --at \"2026-11-23 14:10\" --proved password\n" +
			"  briskwarden rehearse --account ingrid@kestrelsound.example --app mail --unknown ip --expect step_up\n" +
			"  briskwarden rehearse --account ingrid@kestrelsound.example --app card-till --vary country,hour\n" +
			"  briskwarden rehearse --account ingrid@kestrelsound.example --app card-till --until-granted\n" +
			"  briskwarden rehearse --attempt attempt.json --json",
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var wanted *decide.Verdict
			if cmd.Flags().Changed("expect") {
				wanted = new(decide.Verdict)
				if err := wanted.UnmarshalText([]byte(expect)); err != nil {
					return fmt.Errorf("--expect: %w", err)
				}
			}
			return env.rehearse(cmd.Flags(), request, file, wanted, more)
		},
	}
	f := cmd.Flags()
	f.StringVar(&request.Account, "account", "", "the account that signs on")
	f.StringVar(&request.App, "app", "", "the app that it signs on to")
	circumstanceFlags(f, &request)
	f.StringVar(&request.AccountRisk, "account-risk", "",
		"the standing risk of the account, LEVEL or LEVEL:REASON, such as high:leaked-password")
	f.StringVar(&more.save, "save", "", "write the attempt as JSON into this new file, for --attempt and for other programs")
	f.StringVar(&file, "attempt", "", "read the attempt as JSON from this file, or from standard input with -")
	f.StringSliceVar(
		&more.vary,
		"vary",
		nil,
		"show the attempt over a grid of circumstances, such as country,hour: "+strings.Join(rehearse.Circumstances(), ", "),
	)
	f.BoolVar(&more.untilGranted, "until-granted", false, "tell the smallest set of changes to the attempt that would turn it into a grant")
	f.StringVar(&more.keepAs, "keep-as", "", "keep the attempt and its verdict in the book as a drill of this name")
	f.StringVar(&expect, "expect", "", "end with status 1 unless this is the verdict: "+strings.Join(decide.Verdicts(), ", "))
	f.BoolVar(&more.unlisted, "unlisted", false, "names that the book does not have are meant, beside --expect and --keep-as")
	env.peopleFlag(f)
	return cmd
}

// extras are what a rehearsal tells beside the decision.
type extras struct {
	keepAs, save string
	vary         []string
	untilGranted bool
	// unlisted says that names which the book does not have are meant.
	unlisted bool
}

// circumstanceFlags are the flags that describe an attempt beside who signs on to
// what.
func circumstanceFlags(f *pflag.FlagSet, request *typed.Attempt) {
	f.StringVar(&request.Action, "action", "", "what is attempted: "+strings.Join(attempt.Actions(), ", "))
	f.StringVar(&request.IP, "ip", "", "the address that the attempt comes from")
	f.StringVar(&request.Country, "country", "", "the country that it comes from, such as NO")
	f.StringVar(&request.At, "at", "", "when: \"2026-11-23 14:10\" or 14:10 in the book's zone, or RFC 3339 (now)")
	f.StringVar(&request.Through, "through", "", "what it is made through: "+strings.Join(attempt.Throughs(), ", ")+" (browser)")
	f.StringArrayVar(&request.Proved, "proved", nil, "a method proven just now, or METHOD:AGE earlier in the session, such as push:3h")
	f.StringVar(&request.Device, "device", "", "the identity that the device states")
	f.BoolVar(&request.Seen.New, "new-device", false, "the device has not been seen before")
	f.BoolVar(&request.Seen.Managed, "managed", false, "the device is looked after by the organisation")
	f.StringVar(&request.Seen.Platform, "platform", "", "the platform of the device, such as windows")
	f.StringArrayVar(&request.Seen.Facts, "fact", nil, "a fact that the device reported just now, NAME=VALUE, such as firewall=false")
	f.StringArrayVar(&request.Seen.Remembered, "remembered", nil, "a method remembered on the device, METHOD:AGE, such as push:72h")
	f.StringVar(&request.Previous, "previous", "", "the sign-in before, AGE or AGE:COUNTRY, such as 3h:NO (none)")
	f.IntVar(&request.Failures, "failures", 0, "so many failed sign-ins in the minute before")
	f.StringArrayVar(&request.Signals, "signal", nil, "a signal that was noticed, by name; also one that the book detects itself")
	f.StringArrayVar(&request.Failed, "failed", nil, "a proof that failed, METHOD:REASON; the reasons are timed_out, unreachable, refused")
	f.StringArrayVar(&request.Checked, "checked", nil, "an outside check, CHECK:RESULT; the results are passed, failed, unreachable")
	f.StringArrayVar(&request.Accepted, "accepted", nil, "a document accepted just now, DOCUMENT:VERSION")
	f.StringVar(&request.Client, "client", "", "the outside program that the sign-on is made for")
	f.StringArrayVar(&request.Asks, "asks", nil, "a scope that the program asks for")
	f.StringArrayVar(&request.Consented, "consented", nil, "a scope that the program was given")
	f.StringArrayVar(&request.Unknown, "unknown", nil, "leave a fact unknown: "+strings.Join(typed.Facts, ", "))
}

func (env *environment) rehearse(flags *pflag.FlagSet, request typed.Attempt, file string, wanted *decide.Verdict, more extras) error {
	if file != "" {
		if err := refuseBeside(flags); err != nil {
			return err
		}
	} else if request.Account == "" || request.App == "" {
		return errors.New("say who signs on to what: --account NAME and --app NAME, or --attempt FILE")
	}
	b, err := env.open(env.book)
	if err != nil {
		return err
	}
	if more.keepAs != "" {
		if err := env.checkKeeping(b, more.keepAs); err != nil {
			return err
		}
	}
	if more.save != "" {
		if err := newfile.CheckFile(more.save); err != nil {
			return fmt.Errorf("--save: %w", err)
		}
	}
	judge, supposed, err := compileSupposing(b, &request)
	switch {
	case err != nil:
		return err
	case len(supposed) > 0 && more.keepAs+more.save != "":
		return fmt.Errorf("--keep-as and --save keep the attempt, and it does not hold what is supposed here: %s", supposed[0])
	}
	var a *attempt.Attempt
	var assumed []string
	if file != "" {
		a, err = env.readAttempt(file)
	} else {
		a, assumed, err = request.Make(judge, env.now())
	}
	if err != nil {
		return err
	}
	report := rehearse.Rehearse(judge, a, append(supposed, assumed...))
	if wanted != nil || more.keepAs != "" {
		if err := checkListed(drill.Unlisted(judge, a, report.Decision), more.unlisted); err != nil {
			return err
		}
	}
	if len(more.vary) > 0 {
		if report.Rehearsal.Grid, err = rehearse.Vary(judge, a, more.vary); err != nil {
			return fmt.Errorf("--vary: %w", err)
		}
	}
	if more.untilGranted {
		if report.Rehearsal.UntilGranted, err = rehearse.UntilGranted(judge, a); err != nil {
			return err
		}
	}
	err = env.show(report, func(p *render.Page) { p.Rehearsal(report, judge.Directory().Zone) })
	if err == nil && more.keepAs != "" {
		err = env.keep(b, more.keepAs, report, more.unlisted)
	}
	if err == nil && more.save != "" {
		err = save(more.save, a)
	}
	if err == nil && wanted != nil && report.Verdict != *wanted {
		fmt.Fprintf(env.err, "briskwarden: expected %s, the verdict is %s\n", *wanted, report.Verdict)
		return errFound
	}
	return err
}

// compileSupposing compiles a book as if signals that it detects itself had been noticed,
// and the account were at risk, as far as a request says so, and says that in sentences.
func compileSupposing(b *book.Book, request *typed.Attempt) (*engine.Judge, []string, error) {
	rules, noticed := typed.Noticing(b.Rulebook(), request.Signals)
	rules, atRisk, err := request.AtRisk(rules)
	if err != nil {
		return nil, nil, err
	}
	judge, err := engine.Compile(rules)
	return judge, append(noticed, atRisk...), err
}

// save writes an attempt into a new file.
func save(path string, a *attempt.Attempt) error {
	text, err := json.MarshalIndent(a, "", "  ")
	if err == nil {
		err = newfile.Write(path, append(text, '\n'), newfile.Private)
	}
	if err != nil {
		return fmt.Errorf("--save: %w", err)
	}
	return nil
}

// checkListed refuses names that the book does not have, unless they are meant, and that
// they are meant where there are none.
func checkListed(unlisted []string, meant bool) error {
	switch {
	case len(unlisted) > 0 && !meant:
		return fmt.Errorf("%s The verdict would say nothing of the policies; --unlisted says that it is meant", strings.Join(unlisted, " "))
	case len(unlisted) == 0 && meant:
		return errors.New("--unlisted: the book has all that the attempt names")
	}
	return nil
}

// refuseBeside reports a flag that describes an attempt beside one that is
// given whole.
func refuseBeside(flags *pflag.FlagSet) error {
	var err error
	flags.Visit(func(f *pflag.Flag) {
		switch f.Name {
		case "attempt", "expect", "book", "json", "vary", "until-granted", "keep-as", "unlisted", "people", "save":
		default:
			err = fmt.Errorf("--attempt is taken as it stands; leave --%s out, or write it into the attempt", f.Name)
		}
	})
	return err
}

// readAttempt reads an attempt from a file, or from standard input where that is "-".
func (env *environment) readAttempt(file string) (*attempt.Attempt, error) {
	read := func() ([]byte, error) { return wholefile.ReadPath(file, attempt.MaxSize) }
	if file == "-" {
		read = func() ([]byte, error) { return io.ReadAll(io.LimitReader(env.in, attempt.MaxSize+1)) } // which Parse refuses
	}
	a := new(attempt.Attempt)
	text, err := read()
	if err == nil {
		err = attempt.Parse(text, a, attempt.Options{})
	}
	if err != nil {
		return nil, fmt.Errorf("--attempt %s: %w", file, err)
	}
	return a, nil
}
