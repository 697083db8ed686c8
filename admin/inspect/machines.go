package inspect

import (
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

// Service accounts sign on unattended: nobody is there to enrol, to answer, or to mend a
// device.

const topicMachines = "machines"

var machineChecks = []Check{
	{"service-locked-out", topicMachines, Error, "a service account that gets in nowhere",
		"It is asked for what it cannot prove, now or later in the coming year, and nobody is there to answer for it: what it does stops, " +
			"mostly at night.",
		"Give it the method, or a policy of its own with what it can prove, confined to its network.", serviceLockedOut},
	{"posture-of-machines", topicMachines, Warning, "a posture asked of a service account",
		"A machine that signs on with a certificate reports no firewall and no patch level. What it is asked for is never shown.",
		"Take service accounts out of the policy, or write an exemption that is confined to their network.", postureOfMachines},
	{"rollout-for-machines", topicMachines, Warning, "a rollout that is for a service account",
		"It asks people to enrol. A service account reads no mail and enrols nothing, and is locked out on the day.",
		"Confine the rollout with `kinds: [person]`.", rolloutForMachines},
	{"imported-emergency-account", topicMachines, Warning, "an emergency account that comes from an import",
		"Anyone who can write the imported file can make an emergency account, which is excepted from what holds for everyone.",
		"List emergency accounts in the book, and leave their kind out of the file.", importedEmergencyAccount},
}

// services visits the service accounts that are not disabled, mostTried at most.
func (in *Pass) services(visit func(number int, a *directory.Account)) {
	tried := 0
	for n := range in.Directory.Accounts {
		a := &in.Directory.Accounts[n]
		if in.Directory.Profile(n).Kind() == directory.Service && !a.Disabled && tried < mostTried {
			tried++
			visit(n, a)
		}
	}
}

func serviceLockedOut(in *Pass) {
	in.services(func(_ int, a *directory.Account) {
		if when, shut := in.shutOut(a, func(a *ahead) condition.Node { return a.unattended }); shut {
			in.Report(a.Name, in.where("account", a.Name), "The service account %s, with %s, gets in at no app %s, from any address.",
				a.Name, words.List(a.Methods, "and"), when)
		}
	})
}

func postureOfMachines(in *Pass) {
	ahead, err := in.lookAhead()
	if err != nil {
		return // the judge was compiled from the same
	}
	in.services(func(n int, a *directory.Account) {
		for i := range in.Policies {
			s := &in.Policies[i]
			if !s.active() || s.Audience.Holds(n) == condition.False || len(s.AimedAt) == 0 {
				continue
			}
			for k, r := range s.Rules {
				for _, name := range singly(r.Then) {
					if in.Judge.FindAssurance(name).Posture != "" && !in.excused(n, name) && !in.asksDevice(r.When) &&
						in.speaksTo(ahead, s, k, n) {
						in.Report(
							s.Name+"/"+r.Name,
							r.At,
							"%s / %s asks for a fit device (%s), also of the service account %s.",
							s.Name,
							r.Name,
							name,
							a.Name,
						)
					}
				}
			}
		}
	})
}

// speaksTo reports whether a rule can come to speak to a service account that signs on unattended.
func (in *Pass) speaksTo(ahead *ahead, s *Policy, rule, account int) bool {
	q := in.applying(ahead.space, s)
	q.Accounts = in.Accounts.Only(account)
	q.Holds = append(q.Holds, ahead.unattended)
	for k := range rule + 1 {
		when, err := ahead.space.Bind(s.Name, s.Rules[k].When)
		switch {
		case err != nil:
			return false // the judge was compiled with the same
		case k == rule:
			q.Holds = append(q.Holds, when)
		default:
			q.Unless = append(q.Unless, when)
		}
	}
	return ahead.space.IsPossible(in.Context, &q)
}

// asksDevice reports whether a condition holds on some devices alone, so that what is asked
// there is asked of devices that report.
func (in *Pass) asksDevice(node condition.Node) bool {
	asks := false
	in.eachTest(node, func(t *condition.Test) {
		asks = asks || t.Key == engine.KeyDevice || t.Key == engine.KeyDeviceTags || t.Key == engine.KeyPosture
	})
	return asks
}

// excused reports whether some exemption that has not ended excuses an account from an
// assurance.
func (in *Pass) excused(account int, assurance string) bool {
	return slices.ContainsFunc(in.Judge.Exemptions(), func(x decide.Exemption) bool {
		return slices.Contains(x.From, assurance) && (x.Until == nil || !x.Until.Before(in.today)) &&
			in.Accounts.Of(x.Who).Holds(account) != condition.False
	})
}

func rolloutForMachines(in *Pass) {
	for _, r := range in.Judge.Rollouts() {
		who := in.Accounts.Of(r.Who)
		in.services(func(n int, a *directory.Account) {
			asked := slices.ContainsFunc(
				r.Eases,
				func(name string) bool { return in.asksOf(name, in.Accounts.Only(n)) && !in.excused(n, name) },
			)
			if who.Holds(n) != condition.False && asked {
				in.ReportWith(personsOnly(r), r.Name, r.At, "%s is for the service account %s too.", r.Name, a.Name)
			}
		})
	}
}

func importedEmergencyAccount(in *Pass) {
	in.emergencies(func(_ int, a *directory.Account) {
		if in.isImported("account", a.Name) {
			in.Report(a.Name, in.where("account", a.Name), "The emergency account %s comes from an import.", a.Name)
		}
	})
}
