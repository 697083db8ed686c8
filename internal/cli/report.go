package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/service"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/store"
)

// reportFlags are those of report.
type reportFlags struct {
	journalFlags
	historyFlags
	stretchFlags
	at, format, out, mail string
}

// reportFormats are the formats of a report, by the endings of files that have them.
var reportFormats = map[string]string{".html": "html", ".htm": "html", ".md": "markdown", ".json": "json", ".txt": "text"}

func (env *environment) reportCommand() *cobra.Command {
	flags := &reportFlags{}
	cmd := &cobra.Command{
		Use:   "report",
		Short: "Sum up a stretch of time: who was stopped, what looks wrong, what to do first",
		Long: "report counts what the door decided, or with --history what the book says of a history, and begins with what\n" +
			"happened, what is wrong and what to do first. Each number has the command that shows what is behind it.\n\n" +
			"As HTML it is one page with its plots, which needs no network and no scripts: to be read, mailed or printed.",
		Example: "  briskwarden report --book kestrel --config door.yaml --last 7d\n" +
			"  briskwarden report --book kestrel --config door.yaml --from 2026-10-01 --to 2026-11-01 --out october.html\n" +
			"  briskwarden report --book kestrel --history month.jsonl --format markdown\n" +
			"  briskwarden report --book kestrel --history month.jsonl --as-mail monday --at 2026-11-23",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error { return env.report(flags) },
	}
	flags.journalFlags.add(cmd)
	f := cmd.Flags()
	f.StringVar(&flags.file, "file", "", "a store in a SQLite file, in place of that of --config")
	f.StringSliceVar(&flags.files, "history", nil, "files of attempts, in place of a journal")
	flags.stretchFlags.addTo(f)
	f.StringVar(&flags.at, "at", "", "the moment for which enrolment, exemptions and the score are told (now)")
	f.StringVar(&flags.format, "format", "", "text, html, markdown or json (by the ending of --out, else text)")
	f.StringVar(&flags.out, "out", "", "the new file that it is written to, in place of standard output")
	f.StringVar(&flags.mail, "as-mail", "", "show the mail of this digest or alert of the book, as it would be sent")
	flags.historyFlags.addTo(cmd)
	return cmd
}

func (env *environment) report(flags *reportFlags) error {
	usual := "text"
	if env.json {
		usual = "json"
		if flags.format != "" && flags.format != "json" {
			return errors.New("give --json or --format, and one of them only")
		}
	}
	var err error
	if flags.format, err = flags.formatOf(usual); err != nil {
		return err
	}
	b, err := env.open(env.book)
	if err != nil {
		return err
	}
	o, err := flags.options(env, b)
	if err != nil {
		return err
	}
	if flags.mail != "" {
		return env.asMail(flags, b, o)
	}
	return env.makeReport(flags, b, o, func(made *report.Report) error { return env.writeReport(made, flags) })
}

// makeReport reports on the history or the journal that the flags name, and shows it.
func (env *environment) makeReport(flags *reportFlags, b *book.Book, o report.Options, show func(*report.Report) error) error {
	var made *report.Report
	return env.overEither(flags, func(ctx context.Context, sources []replay.Source, ro replay.Options) (basis *replay.Basis, err error) {
		if made, err = report.OfHistory(ctx, b, sources, ro, o); made == nil {
			return nil, err
		}
		return made.Basis, err
	}, func(ctx context.Context, s store.Store) error {
		d, err := deskOf(ctx, b, s)
		if err != nil {
			return err
		}
		if d != nil { // else programs are those of the book's folder
			if o.Programs, err = d.Register(ctx, o.At); err != nil {
				return err
			}
		}
		made, err = report.OfJournal(ctx, b, s, o)
		return err
	}, func() error { return show(made) })
}

// overEither goes through the history or the journal that the flags name, and shows what came of it.
func (env *environment) overEither(flags *reportFlags,
	history func(context.Context, []replay.Source, replay.Options) (*replay.Basis, error),
	journal func(context.Context, store.Store) error, show func() error) error {
	if len(flags.files) > 0 {
		return env.readHistory(&flags.historyFlags, history, show)
	}
	if err := flags.withStore(journal); err != nil {
		return err
	}
	return show()
}

// formatOf returns the format to be written, once it is known that it can be.
func (f *reportFlags) formatOf(usual string) (string, error) {
	if f.out != "" {
		if err := newfile.CheckFile(f.out); err != nil {
			return "", err
		}
	}
	format := cmp.Or(f.format, reportFormats[strings.ToLower(filepath.Ext(f.out))], usual)
	if !slices.Contains([]string{"text", "html", "markdown", "json"}, format) {
		return "", fmt.Errorf("--format: %q is not text, html, markdown or json", format)
	}
	return format, nil
}

// options says what the report is of.
func (f *reportFlags) options(env *environment, b *book.Book) (o report.Options, err error) {
	if o.At, err = env.moment(b, f.at); err != nil {
		return o, err
	}
	if o.From, o.To, err = f.stretch(b.Settings.Zone, env.now()); err != nil {
		return o, err
	}
	o.Source = report.Source{Book: env.book}
	if len(f.files) > 0 {
		o.Source.Flags = append(terminal.Command("--book %s", env.book), terminal.Command("--history %s", strings.Join(f.files, ","))...)
	} else {
		names := f.names()
		o.Source.Flags = terminal.Command(names[0]+" %s", names[1])
	}
	o.Programs, err = env.programs(b, o.At)
	return o, err
}

// deskOf returns a desk on the acts on consent of a store, nil where that has none.
func deskOf(ctx context.Context, b *book.Book, s store.Store) (*acts.Desk, error) {
	known, err := s.List(ctx, store.Query{Kind: store.Clients, Limit: 1})
	if err != nil || len(known) == 0 {
		return nil, err
	}
	_, consents, err := b.CompileBoth()
	return acts.New(consents, s, store.TerminalLog), err
}

// programs returns the register of the acts on consent in the book's folder, where there are any.
func (env *environment) programs(b *book.Book, at time.Time) ([]acts.Entry, error) {
	path := filepath.Join(env.book, recordName)
	if _, err := os.Stat(path); err != nil {
		return nil, nil
	}
	_, consents, err := b.CompileBoth()
	if err != nil {
		return nil, err
	}
	record, _, err := service.OpenRecord(context.Background(), path, true)
	if err != nil {
		return nil, err
	}
	entries, err := acts.New(consents, record, store.TerminalLog).Register(context.Background(), at)
	return entries, errors.Join(err, record.Close())
}

// writeReport writes a report in the format of the flags.
func (env *environment) writeReport(r *report.Report, flags *reportFlags) error {
	if flags.out == "" {
		return env.writeFormat(env.gated(), r, flags.format)
	}
	var text bytes.Buffer
	if err := env.writeFormat(terminal.Gate(&text), r, flags.format); err != nil {
		return err
	}
	if err := newfile.Write(flags.out, text.Bytes(), newfile.Private); err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	page := render.NewPage(env.out, env.book)
	page.ReportWritten(r, flags.out)
	return page.Err()
}

func (env *environment) writeFormat(w io.Writer, r *report.Report, format string) error {
	switch format {
	case "html":
		return r.WriteHTML(w)
	case "markdown":
		return r.WriteMarkdown(w)
	case "json":
		return env.writeJSON(w, r)
	}
	page := render.NewPage(w, env.book)
	page.Report(r)
	return page.Err()
}
