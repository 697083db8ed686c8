package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/render"
)

func (env *environment) readinessCommand() *cobra.Command {
	var rollout, on, at, format string
	cmd := &cobra.Command{
		Use:   "readiness",
		Short: "Report who has not enrolled, and who would be locked out on the day",
		Long: "readiness reports for each rollout who has enrolled a method, who has one or a weak one only, who has\n" +
			"none and how long they have yet, and who would be locked out on the day on which it is enforced, or\n" +
			"on another (--on). --format csv is a table for a mail merge, with the reminder for each person.\n\n" +
			"The exit status is 1 where somebody would be locked out.",
		Example: "  briskwarden readiness --book kestrel\n" +
			"  briskwarden readiness --book kestrel --rollout crew-second-factor --on 2026-12-12\n" +
			"  briskwarden readiness --book kestrel --format csv > reminders.csv",
		Args: noArguments,
		RunE: func(*cobra.Command, []string) error {
			if err := env.checkFormat(format, "csv"); err != nil {
				return err
			}
			b, judge, err := env.compile()
			if err != nil {
				return err
			}
			if err := allAccounts(b); err != nil {
				return err
			}
			moment, err := env.moment(b, at)
			if err != nil {
				return err
			}
			if len(b.Rollouts) == 0 {
				return errors.New("the book has no rollout, so there is nothing to be ready for; write one under `rollouts`")
			}
			var day *directory.Date
			if on != "" {
				day = new(directory.Date)
				if err := day.UnmarshalText([]byte(on)); err != nil {
					return fmt.Errorf("--on: %w", err)
				}
			}
			report, err := readiness.Of(judge, rollout, day, moment)
			if err != nil {
				return err
			}
			if format == "csv" {
				err = report.WriteCSV(env.gated())
			} else {
				err = env.show(report, func(p *render.Page) { p.Readiness(report, b.Settings.Zone) })
			}
			return foundIf(report.LockedOut() > 0, err)
		},
	}
	f := cmd.Flags()
	f.StringVar(&rollout, "rollout", "", "report this rollout alone")
	f.StringVar(&on, "on", "", "the day that is asked about (the day on which each rollout is enforced)")
	f.StringVar(&at, "at", "", "as of this day or time (now)")
	f.StringVar(&format, "format", "text", "text or csv")
	env.peopleFlag(f)
	return cmd
}
