package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/internal/render"
)

// describeFlags are the flags of describe.
type describeFlags struct {
	by, policy, account, at, format string
}

func (env *environment) describeCommand() *cobra.Command {
	var flags describeFlags
	cmd := &cobra.Command{
		Use:   "describe",
		Short: "Tell in plain sentences what a book says",
		Long: "describe puts the book into sentences that an auditor can read: the whole of it by policy, by app\n" +
			"or by group, one policy, or what is asked of one account, and where. The sentences are made from\n" +
			"the compiled conditions, so that what is read is what is judged.",
		Example: "  briskwarden describe --book kestrel\n" +
			"  briskwarden describe --book kestrel --account ingrid@kestrelsound.example\n" +
			"  briskwarden describe --book kestrel --policy card-till\n" +
			"  briskwarden describe --book kestrel --by app --format markdown > policies.md",
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flags().Changed("policy") && cmd.Flags().Changed("account") ||
				cmd.Flags().Changed("by") && (flags.policy != "" || flags.account != "") {
				return errors.New("give one of --by, --policy and --account")
			}
			return env.describe(flags)
		},
	}
	f := cmd.Flags()
	f.StringVar(&flags.by, "by", "policy", "what the book is described by: "+strings.Join(describe.Groupings(), ", "))
	f.StringVar(&flags.policy, "policy", "", "describe this policy alone")
	f.StringVar(&flags.account, "account", "", "describe what is asked of this account, and where")
	f.StringVar(&flags.at, "at", "", "describe it as of this day or time, such as 2026-12-01 (now)")
	f.StringVar(&flags.format, "format", "text", "text or markdown")
	env.peopleFlag(f)
	return cmd
}

func (env *environment) describe(flags describeFlags) error {
	var by describe.Grouping
	if err := by.UnmarshalText([]byte(flags.by)); err != nil {
		return fmt.Errorf("--by: %w", err)
	}
	if err := env.checkFormat(flags.format, "markdown"); err != nil {
		return err
	}
	b, judge, consents, err := env.compileConsent()
	if err != nil {
		return err
	}
	if flags.account != "" {
		if err := allAccounts(b); err != nil {
			return err
		}
	}
	at, err := env.moment(b, flags.at)
	if err != nil {
		return err
	}
	var doc *describe.Document
	switch {
	case flags.policy != "":
		doc, err = describe.Policy(judge, flags.policy, at)
	case flags.account != "":
		if doc, err = describe.Account(judge, flags.account, at); err == nil {
			err = doc.AddExtremes(judge, flags.account, at)
		}
	default:
		doc = describe.Book(judge, by, at)
		doc.AddConsent(consents)
	}
	if err != nil {
		return err
	}
	if flags.format == "markdown" {
		_, err := io.WriteString(env.gated(), doc.Markdown())
		return err
	}
	return env.show(doc, func(p *render.Page) { p.Document(doc) })
}
