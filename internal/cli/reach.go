package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"github.com/briskwarden/briskwarden/admin/reach"
	"github.com/briskwarden/briskwarden/internal/render"
	"github.com/briskwarden/briskwarden/internal/typed"
)

func (env *environment) reachCommand() *cobra.Command {
	var request typed.Attempt
	cmd := &cobra.Command{
		Use:   "reach",
		Short: "Tell which apps an account can open, and who can open an app",
		Long: "reach judges an attempt of each account at each app and reports which of them can be opened, and\n" +
			"under what demands: the apps of one account, the accounts of one app, or else a matrix of groups\n" +
			"by apps. The flags say under which circumstances; what they leave open is the ordinary case, which\n" +
			"for reach is an own network and a device of one's own. Service accounts sign on unattended, with\n" +
			"what they have enrolled just proven.",
		Example: "  briskwarden reach --book kestrel\n" +
			"  briskwarden reach --book kestrel --account ingrid@kestrelsound.example\n" +
			"  briskwarden reach --book kestrel --app card-till --ip 192.0.2.70",
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if request.Account != "" && request.App != "" {
				return errors.New("give --account or --app; rehearse judges one account at one app")
			}
			return env.reach(cmd.Flags(), request)
		},
	}
	f := cmd.Flags()
	f.StringVar(&request.Account, "account", "", "the apps that this account can open")
	f.StringVar(&request.App, "app", "", "the accounts that can open this app")
	circumstanceFlags(f, &request)
	env.peopleFlag(f)
	return cmd
}

func (env *environment) reach(flags *pflag.FlagSet, request typed.Attempt) error {
	b, err := env.open(env.book)
	if err != nil {
		return err
	}
	if err := allAccounts(b); err != nil {
		return err
	}
	judge, supposed, err := compileSupposing(b, &request)
	if err != nil {
		return err
	}
	account, app := request.Account, request.App
	request.Account, request.App = "", ""
	circumstances, assumed, err := request.Circumstances(judge, env.now())
	if err != nil {
		return err
	}
	assumed = append(supposed, assumed...)
	switch {
	case account != "":
		r, err := reach.OfAccount(judge, circumstances, assumed, account)
		if err != nil {
			return fmt.Errorf("--account: %w", err)
		}
		return env.show(r, func(p *render.Page) { p.AccountReach(r) })
	case app != "":
		r, err := reach.OfApp(judge, circumstances, assumed, app)
		if err != nil {
			return fmt.Errorf("--app: %w", err)
		}
		return env.show(r, func(p *render.Page) { p.AppReach(r) })
	}
	r := reach.OfGroups(judge, circumstances, assumed)
	return env.show(r, func(p *render.Page) { p.Matrix(r) })
}
