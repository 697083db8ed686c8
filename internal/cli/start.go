package cli

import (
	"crypto/rand"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/start"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/internal/newfile"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/wholefile"
)

func (env *environment) startCommand() *cobra.Command {
	request := start.Request{}
	var file string
	cmd := &cobra.Command{
		Use:   "start",
		Short: "Lay out a new book with comments",
		Long: "start lays a new book into the folder that --book names: an emergency account with a policy of\n" +
			"its own, everyone let in as until now, and a second factor in shadow, in force for a pilot group\n" +
			"first. It passes inspect, and comments say what to put in.\n\n" +
			"With --people it takes accounts and groups from a file: a SCIM 2.0 ListResponse (RFC 7644), or CSV\n" +
			"with a header. The columns name (or account, userName, email), kind, groups, methods, joined,\n" +
			"disabled, active, account_risk, account_risk_because, account_risk_since, asked_at and\n" +
			"password_changed_at are taken by their meaning; every other one becomes an attribute. What was\n" +
			"left out is listed with its line, and makes the exit status 1. Nothing is ever overwritten.",
		Example: "  briskwarden start --book harbour --zone Europe/Oslo\n" +
			"  briskwarden start --book harbour --people people.csv --administrator ragna@kestrelsound.example",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error { return env.start(request, file) },
	}
	f := cmd.Flags()
	f.StringVar(&file, "people", "", "take accounts and groups from this file: SCIM 2.0 or CSV")
	f.StringVar(&request.Zone, "zone", "UTC", "IANA time zone for windows and dates, such as Europe/Oslo")
	f.StringVar(
		&request.Administrator,
		"administrator",
		"",
		"the account that looks after the systems, first of the pilot group (the first person)",
	)
	return cmd
}

func (env *environment) start(request start.Request, file string) error {
	if others, _ := fs.Glob(os.DirFS(env.book), "*.yaml"); len(others) > 0 {
		return fmt.Errorf("%s holds a book already (%s), and nothing is overwritten; name a new folder with --book", env.book, others[0])
	}
	request.Today, request.ShareKey = env.now(), rand.Text()
	if file != "" {
		text, err := wholefile.ReadPath(file, book.MaxFileSize)
		if err != nil {
			return fmt.Errorf("--people %s: %w", file, err)
		}
		request.People, request.PeopleFile = text, filepath.Base(file)
	}
	layout, err := start.New(request)
	if err != nil {
		if file != "" {
			return fmt.Errorf("--people %s: %w", file, err)
		}
		return err
	}
	written, err := newfile.WriteAll(env.book, layout.Files, newfile.Private)
	if err != nil {
		return err
	}
	report, err := env.inspectBook(env.book, inspectFlags{})
	if err != nil {
		return err
	}
	started := &start.Report{Folder: env.book, Files: written, Layout: layout, Inspection: report}
	err = env.show(started, func(p *render.Page) { p.Started(started) })
	return foundIf(started.Amiss(), err)
}
