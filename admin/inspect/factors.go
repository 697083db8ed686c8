package inspect

import (
	"context"
	"slices"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicFactors = "factors"

var factorChecks = []Check{
	{"sms-for-administrators", topicFactors, Warning, "a text message counts for an administrator",
		"Text messages can be read by anyone who talks a telephone shop into a second card. Nobody is worth that trouble more than an " +
			"administrator.",
		"Bar the method for them, such as `sms-code: {barred_for: {groups: [shore-it]}}`.", smsForAdministrators},
	{"demanded-method-barred", topicFactors, Error, "a demanded method that is barred for those it is asked of",
		"What is barred counts for nothing, so these accounts can never meet the demand and are asked to enrol something that they may not.",
		"Ask something else of them, or lift the bar.", demandedMethodBarred},
	{"demanded-method-unenrolled", topicFactors, Warning, "a demanded method that none of those asked has enrolled",
		"On the day the policy is live they are all asked to enrol, and anyone who cannot is locked out.",
		"Begin a rollout that eases the assurance, and put the policy in force when it is over.", demandedMethodUnenrolled},
	{"lonely-password-change", topicFactors, Warning, "a changed password asked for without a second factor",
		"Anyone who stole the password can change it. The new one is then known to the thief alone.",
		"Ask for a method that is held beside it.", lonelyPasswordChange},
	{"weaker-fallback", topicFactors, Note, "a fallback weaker than what it stands for",
		"Anyone who attacks an account will see to it that the preferred method times out.",
		"Take the fallback out, or accept the finding with the reason for which people need it.", weakerFallback},
	{"open-enrolment", topicFactors, Warning, "an enrolment that nothing confines",
		"Somebody who knows a password alone can enrol a method of their own, from anywhere and on any device, and then is who they say.",
		"Confine the action `enrol` to an own network, a fit device, or a `desk-pass` from the help desk.", openEnrolment},
	{"unpromptable-let-past", topicFactors, Warning, "an unpromptable sign-in is let past a second factor",
		"Programs that can show no question are let in with a password alone where a browser is asked for more. Anyone who stole a password " +
			"signs on as such a program.",
		"Block `through: [unpromptable]`, or confine it to a network.", unpromptableLetPast},
	{"second-factor-optional", topicFactors, Warning, "a second factor for those alone who have one",
		"Anyone who has enrolled nothing is let in with a password. A thief of passwords looks for just these accounts, and enrols for them.",
		"Ask it of everyone, with a rollout for those who have none yet, and block or confine the rest.", secondFactorOptional},
	{"long-remembered", topicFactors, Warning, "a device that is remembered for a very long time",
		"A device is sold, lent and stolen. As long as it is remembered, what is asked for is asked nowhere on it.",
		"Remember devices for 90 days at most, such as `remember: 30d`.", longRemembered},
	{"idle-outlasts-session", topicFactors, Note, "a session that may rest for as long as it lasts",
		"The limit on rest never matters: the session has ended by then.",
		"Shorten `idle`, or take it out.", idleOutlastsSession},
	{"limits-outlast-proofs", topicFactors, Note, "a session that outlasts the proofs it rests on",
		"The rule asks for a proof no older than so long, and then lets the session go on for longer without asking again.",
		"Shorten `lasts`, or ask for the proof less often.", limitsOutlastProofs},
}

// isText reports whether a method is a text message (RFC 8176 §2, sms).
func isText(m directory.Method) bool { return slices.Contains(m.AMR, "sms") }

func smsForAdministrators(in *Pass) {
	for n := range in.Administrators.All() {
		for i, m := range in.Directory.Methods() {
			if !isText(m) || !in.Directory.Profile(n).Enrolled().Has(i) || !in.countsFor(n, i) {
				continue
			}
			name := in.Directory.Accounts[n].Name
			in.ReportWith(
				in.barForAdministrators(m.Name),
				name,
				in.where("account", name),
				"%s is an administrator, and %s counts for them.",
				name,
				m.Name,
			)
		}
	}
}

// countsFor reports whether a method would meet something that is asked of an
// account, as a fallback or not.
func (in *Pass) countsFor(account, method int) bool {
	counts := false
	for i := range in.Policies {
		s := &in.Policies[i]
		if !s.active() || !s.Audience.Meets(in.Accounts.Only(account)) {
			continue
		}
		for _, r := range s.Rules {
			in.eachProve(r.Then, func(_ *decide.Assurance, p decide.Prove) {
				preferred, fallback := in.Judge.Methods(p.AnyOf, p.Traits, p.Fallback)
				counts = counts || (preferred | fallback).Has(method)
			})
		}
	}
	return counts
}

// eachMethodDemand visits each method that a rule asks for without a choice, of
// those it is asked of.
func (in *Pass) eachMethodDemand(visit func(s *Policy, r decide.Rule, assurance string, methods engine.MethodSet)) {
	for i := range in.Policies {
		s := &in.Policies[i]
		if !s.active() || s.Audience.IsEmpty() {
			continue
		}
		for _, r := range s.Rules {
			for _, name := range singly(r.Then) {
				for _, p := range in.Judge.FindAssurance(name).Prove {
					preferred, fallback := in.Judge.Methods(p.AnyOf, p.Traits, p.Fallback)
					visit(s, r, name, preferred|fallback)
				}
			}
		}
	}
}

func demandedMethodBarred(in *Pass) {
	in.eachMethodDemand(func(s *Policy, r decide.Rule, assurance string, methods engine.MethodSet) {
		barred := in.Accounts.Nobody()
		for n := range s.Audience.Surely().All() {
			if methods&^in.Directory.Profile(n).Barred() == 0 {
				barred = barred.Or(in.Accounts.Only(n))
				break // one is enough to tell
			}
		}
		if !barred.IsEmpty() {
			in.Report(
				s.Name+"/"+r.Name+"/"+assurance,
				r.At,
				"%s / %s asks for %s, and all that would meet it (%s) is barred for %s.",
				s.Name,
				r.Name,
				assurance,
				words.List(in.Judge.MethodNames(methods), "and"),
				in.accountNames(barred),
			)
		}
	})
}

func demandedMethodUnenrolled(in *Pass) {
	in.eachMethodDemand(func(s *Policy, r decide.Rule, assurance string, methods engine.MethodSet) {
		for n := range s.Audience.All() {
			if in.Directory.Profile(n).Enrolled()&methods != 0 || in.Directory.Profile(n).Disabled() ||
				methods&^in.Directory.Profile(n).Barred() == 0 ||
				in.inTime(assurance, n) {
				return
			}
		}
		in.Report(
			s.Name+"/"+r.Name+"/"+assurance,
			r.At,
			"%s / %s asks for %s, and none of those it is for has enrolled %s.",
			s.Name,
			r.Name,
			assurance,
			words.List(in.Judge.MethodNames(methods), "and"),
		)
	})
}

// inTime reports whether a rollout that is not enforced yet eases an assurance for
// an account.
func (in *Pass) inTime(assurance string, account int) bool {
	return slices.ContainsFunc(in.Judge.Rollouts(), func(r decide.Rollout) bool {
		return slices.Contains(r.Eases, assurance) && in.today.Before(r.Enforced) && in.Accounts.Of(r.Who).Meets(in.Accounts.Only(account))
	})
}

func lonelyPasswordChange(in *Pass) {
	held := in.secondFactors()
	for i := range in.Policies {
		s := &in.Policies[i]
		for _, r := range s.Rules {
			changes, beside := "", false
			for _, name := range singly(r.Then) {
				if in.Judge.FindAssurance(name).ChangePassword {
					changes = name
				}
			}
			in.eachProve(r.Then, func(_ *decide.Assurance, p decide.Prove) {
				if methods, _ := in.Judge.Methods(p.AnyOf, p.Traits, p.Fallback); methods&^held == 0 {
					beside = true
				}
			})
			if changes != "" && !beside && s.active() {
				in.Report(
					s.Name+"/"+r.Name,
					r.At,
					"%s / %s asks for a changed password (%s), and for nothing that is held.",
					s.Name,
					r.Name,
					changes,
				)
			}
		}
	}
}

// strength orders methods by what they withstand: what is known least, then
// messages over the telephone network, which NIST SP 800-63B-4 §3.1.3.3
// restricts, then what is held, and most what resists phishing.
func strength(m directory.Method) int {
	switch {
	case slices.Contains(m.Traits, directory.PhishingResistant):
		return 4
	case isText(m):
		return 2
	case m.Kind == directory.Knowledge:
		return 1
	}
	return 3
}

func weakerFallback(in *Pass) {
	methods := in.Directory.Methods()
	for _, a := range in.Judge.Assurances() {
		for _, p := range a.Prove {
			preferred, _ := in.Judge.Methods(p.AnyOf, p.Traits, p.Fallback)
			least := 5
			for i, m := range methods {
				if preferred.Has(i) {
					least = min(least, strength(m))
				}
			}
			for _, name := range p.Fallback {
				if n, ok := in.Directory.FindMethod(name); ok && strength(methods[n]) < least {
					in.Report(
						a.Name+"/"+name,
						a.At,
						"%s takes %s in place of %s, and it withstands less than each of them.",
						a.Name,
						name,
						words.List(in.Judge.MethodNames(preferred), "and"),
					)
				}
			}
		}
	}
}

// strange makes an attempt with a known password alone, from an address and on
// a device that nobody knows.
func (in *Pass) strange(account, app int, action attempt.Action) *attempt.Attempt {
	a := in.attempt(account, app, 0)
	a.Action, a.IP, a.Device, a.Accepted, a.External = action, in.stranger, strangeDevice(), nil, nil
	a.Proofs = []attempt.Proof{{Method: in.knowing(account), At: a.At}}
	return a
}

// mostLater bounds the attempts on later days that are tried for an enrolment that nothing confines.
const mostLater = 500_000

func openEnrolment(in *Pass) {
	knowing := in.persons(func(n int) bool { return in.knowing(n) != "" })
	later := 0
	for _, at := range in.daysAhead() { // what is so now comes first
		for app := range in.Directory.Apps {
			if in.Directory.Apps[app].Public {
				continue
			}
			for _, n := range knowing {
				if at.After(in.At) {
					if later++; later > mostLater {
						return
					}
				}
				if in.enrolsOpenly(n, app, at) {
					break
				}
			}
		}
	}
}

// enrolsOpenly reports whether an account can enrol with a password alone at a moment, and notes it.
func (in *Pass) enrolsOpenly(account, app int, at time.Time) bool {
	a := in.strange(account, app, attempt.Enrol)
	a.At, a.Proofs[0].At = at, at
	if in.Judge.Verdict(context.Background(), a) != decide.Grant {
		return false
	}
	// Where the password alone signs on as well, there is no second factor to
	// get around.
	a.Action = attempt.SignIn
	if in.Judge.Verdict(context.Background(), a) == decide.Grant {
		return false
	}
	a.Action = attempt.Enrol
	since := ""
	if at.After(in.At) {
		since = ", from " + at.In(in.Directory.Zone).Format(time.DateOnly) + " on"
	}
	in.findPassed(
		in.confinedEnrolment(),
		a,
		"%s can enrol a method at %s with %s alone, from anywhere%s",
		in.Directory.Accounts[account].Name,
		in.Directory.Apps[app].Name,
		in.knowing(account),
		since,
	)
	return true
}

// findPassed notes an attempt that should not be granted, at the rule that lets
// it pass.
func (in *Pass) findPassed(paste *Paste, a *attempt.Attempt, format string, args ...any) {
	about, at := "otherwise", in.where("setting", "otherwise")
	for _, t := range in.Judge.Decide(context.Background(), a).Policies {
		if t.Applies == condition.True && t.Rule != "" && t.SilencedBy == "" && t.Stage == decide.Live {
			about, at = t.Name+"/"+t.Rule, in.Judge.RulePosition(t.Name, t.Rule)
		}
	}
	in.ReportWith(paste, about, at, format+"; %s lets it pass.", append(args, about)...)
}

func unpromptableLetPast(in *Pass) {
	both := in.persons(func(n int) bool {
		return in.knowing(n) != "" && in.Directory.Profile(n).Enrolled()&in.secondFactors() != 0
	})
	for app := range in.Directory.Apps {
		for _, n := range both {
			a := in.strange(n, app, attempt.SignIn)
			asked := in.Judge.Verdict(context.Background(), a) == decide.StepUp
			a.Through = attempt.Known(attempt.Unpromptable)
			if !asked || in.Judge.Verdict(context.Background(), a) != decide.Grant {
				continue
			}
			in.findPassed(
				in.noUnpromptable(),
				a,
				"%s is let in to %s with %s alone through an unpromptable program, and asked for more in a browser",
				in.Directory.Accounts[n].Name,
				in.Directory.Apps[app].Name,
				in.knowing(n),
			)
			break
		}
	}
}

func secondFactorOptional(in *Pass) {
	held := in.secondFactors()
	for _, s := range in.Live() {
		asks := false
		look := func(t *condition.Test) { asks = asks || t.Key == engine.KeyEnrolled }
		in.eachTest(s.Who, look)
		for k := range s.Rules {
			in.eachTest(s.Rules[k].When, look)
		}
		if !asks || s.Actions != nil && !slices.Contains(s.Actions, attempt.SignIn) {
			continue
		}
		// Whom a rollout leaves time is let in for that alone.
		without := in.persons(func(n int) bool {
			return in.knowing(n) != "" && in.Directory.Profile(n).Enrolled()&held == 0 && !slices.ContainsFunc(in.Judge.Assurances(),
				func(a decide.Assurance) bool { return in.inTime(a.Name, n) })
		})
		with := in.persons(func(n int) bool { return in.knowing(n) != "" && in.Directory.Profile(n).Enrolled()&held != 0 })
		for _, app := range s.AimedAt {
			let := func(n int) bool {
				return in.Directory.IsOpenTo(app, in.Directory.Profile(n)) &&
					in.Judge.Verdict(context.Background(), in.strange(n, app, attempt.SignIn)) == decide.Grant
			}
			past := slices.IndexFunc(without, let)
			if past >= 0 && !in.Directory.Apps[app].Public && slices.ContainsFunc(with, func(n int) bool { return !let(n) }) {
				in.Report(
					s.Name,
					s.At,
					"%s asks at %s those who have enrolled something; %s, who has not, is let in with %s alone.",
					s.Name,
					in.Directory.Apps[app].Name,
					in.Directory.Accounts[without[past]].Name,
					in.knowing(without[past]),
				)
				break
			}
		}
	}
}

// longest is how long a device should be remembered at most.
const longest = 90 * 24 * time.Hour

func longRemembered(in *Pass) {
	for _, a := range in.Judge.Assurances() {
		for _, p := range a.Prove {
			if time.Duration(p.Remember) > longest {
				in.Report(a.Name, a.At, "For %s a device is remembered for %s.", a.Name, p.Remember.Words())
			}
		}
	}
}

func idleOutlastsSession(in *Pass) {
	check := func(about string, at condition.Position, what string, l directory.Limits) {
		if l.Lasts > 0 && l.Idle >= l.Lasts {
			in.Report(about, at, "A session by %s lasts %s and may rest for %s.", what, l.Lasts, l.Idle)
		}
	}
	for i := range in.Policies {
		s := &in.Policies[i]
		for _, r := range s.Rules {
			check(s.Name+"/"+r.Name, r.At, s.Name+" / "+r.Name, r.Limits)
		}
	}
	for _, a := range in.Book.Apps {
		check(a.Name, in.where("app", a.Name), "the app "+a.Name, a.Limits)
	}
}

func limitsOutlastProofs(in *Pass) {
	for i := range in.Policies {
		s := &in.Policies[i]
		for _, r := range s.Rules {
			if r.Limits.Lasts == 0 || !s.active() {
				continue
			}
			in.eachProve(r.Then, func(a *decide.Assurance, p decide.Prove) {
				if p.Within > 0 && time.Duration(r.Limits.Lasts) > time.Duration(p.Within) {
					in.Report(
						s.Name+"/"+r.Name,
						r.At,
						"A session by %s / %s lasts %s, on a proof that %s asks for every %s.",
						s.Name,
						r.Name,
						r.Limits.Lasts,
						a.Name,
						p.Within,
					)
				}
			})
		}
	}
}
