package inspect

import (
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicAccess = "getting back in"

var accessChecks = []Check{
	{"no-emergency-account", topicAccess, Error, "no account gets in when all else fails",
		"A policy that locks everybody out also locks out those who could mend it. An emergency account is touched by no policy that does not " +
			"name it, so it still gets in.",
		"Add an account with `kind: emergency` and a security key, keep the key in a safe, and give it a policy of its own with `who: {kinds: " +
			"[emergency]}`.",
		noEmergencyAccount},
	{"weak-emergency-account", topicAccess, Error, "an emergency account without a method that resists phishing",
		"The emergency account passes by the policies for everyone, so its own proof is all that protects it. A password or a code can be " +
			"asked of its keeper by a stranger; a security key or a passkey cannot.",
		"Enrol a security-key, a passkey or a certificate for it.", weakEmergencyAccount},
	{"unnamed-emergency-account", topicAccess, Error, "an emergency account that no policy names",
		"No policy applies to an emergency account but those that name it. Where none does, what the book says `otherwise` decides, and that " +
			"is mostly a block.",
		"Give it a live policy with `who: {kinds: [emergency]}`, or with its name in `accounts`, for every app.", unnamedEmergencyAccount},
	{"everyday-emergency-account", topicAccess, Warning, "an emergency account that is used day by day",
		"An account that works on ordinary days is watched by nobody on the day that counts, and its proofs lie about on desks.",
		"Take it out of its groups and give its devices back; anyone who used it gets an account of their own.", everydayEmergencyAccount},
	{"no-administrators", topicAccess, Note, "the book does not say who looks after the systems",
		"Those who can mend a mistake must never be locked out by it, and nobody can see to that without knowing who they are.",
		"Name them in the settings, such as `administrators: {groups: [shore-it]}`.", noAdministrators},
	{"emergency-account-locked-out", topicAccess, Error, "an emergency account that gets in nowhere",
		"For more than a week, now or in the coming year, this emergency account gets in at no app, wherever it comes from, not even on a fit " +
			"device, with all that it has enrolled. It is there for the day on which nobody else gets in.",
		"Ask of it what it has enrolled, in a live policy of its own that does not end.", emergencyAccountLockedOut},
	{"administrator-locked-out", topicAccess, Error, "an administrator who is granted nothing",
		"For more than a week, now or in the coming year, this administrator gets in at no app, not even from an own network, on a fit " +
			"device and with every enrolled method. Who cannot get in cannot mend the book.",
		"Rehearse the attempt to see which policy stands in the way, enrol the methods that it asks for, or leave administrators a way in.",
		administratorLockedOut},
}

func (in *Pass) emergencies(visit func(number int, a *directory.Account)) {
	for _, n := range in.Accounts.Emergencies() {
		if a := &in.Directory.Accounts[n]; !a.Disabled {
			visit(n, a)
		}
	}
}

func noEmergencyAccount(in *Pass) {
	any := false
	in.emergencies(func(int, *directory.Account) { any = true })
	if !any {
		in.ReportWith(
			in.wayBackIn(true),
			"book",
			in.where("setting", "otherwise"),
			"None of the %d accounts is an emergency account that is not disabled.",
			len(in.Directory.Accounts),
		)
	}
}

func weakEmergencyAccount(in *Pass) {
	in.emergencies(func(n int, a *directory.Account) {
		for m, method := range in.Directory.Methods() {
			if in.Directory.Profile(n).Enrolled().Has(m) && slices.Contains(method.Traits, directory.PhishingResistant) {
				return
			}
		}
		in.Report(
			a.Name,
			in.where("account", a.Name),
			"The emergency account %s has enrolled %s, and nothing that resists phishing.",
			a.Name,
			words.List(a.Methods, "and"),
		)
	})
}

func unnamedEmergencyAccount(in *Pass) {
	in.emergencies(func(n int, a *directory.Account) {
		named := slices.ContainsFunc(in.Live(), func(s *Policy) bool { return s.Audience.Holds(n) != condition.False && len(s.AimedAt) > 0 })
		if !named {
			in.ReportWith(
				in.wayBackIn(false),
				a.Name,
				in.where("account", a.Name),
				"No live policy names the emergency account %s, so the book's `otherwise` alone decides.",
				a.Name,
			)
		}
	})
}

func emergencyAccountLockedOut(in *Pass) {
	in.emergencies(func(n int, a *directory.Account) {
		if when, shut := in.shutOut(a, func(a *ahead) condition.Node { return a.anyhow }); shut {
			in.Report(a.Name, in.where("account", a.Name), "The emergency account %s, with %s, gets in at no app %s, whatever is proven.",
				a.Name, words.List(a.Methods, "and"), when)
		}
	})
}

func everydayEmergencyAccount(in *Pass) {
	in.emergencies(func(n int, a *directory.Account) {
		if groups := in.Directory.Profile(n).Groups(); len(groups) > 0 {
			in.Report(
				a.Name,
				in.where("account", a.Name),
				"The emergency account %s is in %s, like an account for daily work.",
				a.Name,
				words.List(groups, "and"),
			)
		}
		for _, d := range in.Directory.Devices {
			if d.Owner == a.Name {
				in.Report(
					a.Name,
					in.where("account", a.Name),
					"The emergency account %s owns the device %s, like an account for daily work.",
					a.Name,
					d.Name,
				)
			}
		}
	})
}

func noAdministrators(in *Pass) {
	switch {
	case in.Book.Settings.Administrators == nil:
		in.Report("book", condition.Position{}, "The settings name no administrators.")
	case in.Administrators.IsEmpty():
		in.Report("book", in.where("setting", "administrators"), "The administrators that the settings name are nobody.")
	}
}

func administratorLockedOut(in *Pass) {
	for n := range in.Administrators.All() {
		a := &in.Directory.Accounts[n]
		if a.Disabled || a.Kind == directory.Service {
			continue
		}
		if when, shut := in.shutOut(a, func(a *ahead) condition.Node { return a.atHome }); shut {
			where := "from an own network"
			if !in.hasOwnNetwork() {
				where = "from anywhere (the book has no own network)"
			}
			in.Report(a.Name, in.where("account", a.Name), "%s is an administrator with %s, and gets in at no app %s %s, on no device.",
				a.Name, words.List(a.Methods, "and"), where, when)
		}
	}
}
