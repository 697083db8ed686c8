package inspect

import (
	"slices"

	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/explore"
	"github.com/briskwarden/briskwarden/internal/words"
)

const topicExemptions = "exemptions"

// wideShare is above which share of the accounts an exemption is wide.
const wideShare = 5 // a fifth

var exemptionChecks = []Check{
	{"endless-exemption", topicExemptions, Warning, "an exemption without an end",
		"The reason passes and the exemption stays, until somebody finds it who was not meant to.",
		"Give it an `until`; it can be renewed.", endlessExemption},
	{"ended-exemption", topicExemptions, Warning, "an exemption that has ended",
		"It excuses nobody any more. Those whom it excused are asked again, and may not know.",
		"Take it out, or renew it with its approver.", endedExemption},
	{"wide-exemption", topicExemptions, Warning, "an exemption for many",
		"What is asked of most people is no demand if a good part of them is excused from it.",
		"Name those in it who need it, or ask for less from everyone.", wideExemption},
	{"loose-service-exemption", topicExemptions, Warning, "a service account excused wherever it signs on from",
		"A service account cannot be asked, so what it proves is all there is, and what it is excused from is missing from anywhere in the " +
			"world.",
		"Confine the exemption with `when`, such as `{networks: [depot]}`.", looseServiceExemption},
	{"idle-exemption", topicExemptions, Warning, "an exemption that excuses from nothing",
		"Nothing asks these accounts for what they are excused from, or its condition never holds. Anyone who relies on it is asked all " +
			"the same.",
		"Name in `from` what is asked of them, correct `when`, or take it out.", idleExemption},
	{"exempt-still-asked", topicExemptions, Note, "an exempt account that another policy still asks",
		"An exemption takes away the assurances in its `from` and no others. Another assurance asks these accounts for the same methods, so " +
			"they are asked all the same.",
		"Add that assurance to `from`, or take the exemption out.", exemptStillAsked},
}

func endlessExemption(in *Pass) {
	for _, x := range in.Judge.Exemptions() {
		if x.Until == nil {
			in.ReportWith(
				line("exemption", x.Name, "until: %s", in.day(exemptionFor)),
				x.Name,
				x.At,
				"The exemption %s from %s has no end.",
				x.Name,
				words.List(x.From, "and"),
			)
		}
	}
}

func endedExemption(in *Pass) {
	for _, x := range in.Judge.Exemptions() {
		if x.Until != nil && x.Until.Before(in.today) {
			in.Report(
				x.Name,
				x.At,
				"The exemption %s ended on %s, %s ago.",
				x.Name,
				x.Until,
				words.Count(daysBetween(*x.Until, in.today), "day"),
			)
		}
	}
}

func wideExemption(in *Pass) {
	for _, x := range in.Judge.Exemptions() {
		if _, may := in.Accounts.Of(x.Who).Len(); may > 1 && may*wideShare > len(in.Directory.Accounts) {
			in.Report(
				x.Name,
				x.At,
				"The exemption %s excuses %d of %d accounts from %s.",
				x.Name,
				may,
				len(in.Directory.Accounts),
				words.List(x.From, "and"),
			)
		}
	}
}

func looseServiceExemption(in *Pass) {
	for _, x := range in.Judge.Exemptions() {
		if x.When != nil && confines(x.When) {
			continue
		}
		for n := range in.Accounts.Of(x.Who).All() {
			if in.Directory.Profile(n).Kind() == directory.Service {
				in.ReportWith(
					in.atHome(x),
					x.Name,
					x.At,
					"The exemption %s excuses the service account %s from %s, wherever it signs on from.",
					x.Name,
					in.Directory.Accounts[n].Name,
					words.List(x.From, "and"),
				)
			}
		}
	}
}

// confines reports whether a condition asks for a place or a device.
func confines(node condition.Node) bool {
	return condition.Asks(node, engine.KeyNetworks, engine.KeyOurNetwork, engine.KeyDevice, engine.KeyDeviceTags, engine.KeyPosture,
		engine.KeyCountries)
}

func idleExemption(in *Pass) {
	for _, x := range in.Judge.Exemptions() {
		if x.Until != nil && x.Until.Before(in.today) {
			continue // there is another finding for that
		}
		who := in.Accounts.Of(x.Who)
		asked := slices.ContainsFunc(x.From, func(name string) bool {
			return in.asksOf(name, who) || slices.ContainsFunc(in.Judge.Otherwise().Require, func(r decide.Requirement) bool {
				return slices.Contains(r.OneOf, name)
			})
		})
		switch {
		case who.IsEmpty():
			if !passes(x.Who) {
				in.Report(x.Name, x.At, "The exemption %s is for nobody.", x.Name)
			}
		case !asked:
			in.Report(x.Name, x.At, "The exemption %s excuses %s from %s, which nothing asks of them.", x.Name, in.accountNames(who),
				words.List(x.From, "and"))
		case !in.canExcuse(&x, who):
			in.Report(x.Name, x.At, "The condition of the exemption %s never holds any more.", x.Name)
		}
	}
}

// canExcuse reports whether the condition of an exemption can come to hold for those it is for, before it ends.
func (in *Pass) canExcuse(x *decide.Exemption, who engine.Audience) bool {
	ahead, err := in.lookAhead()
	if err != nil {
		return true // the judge was compiled from the same
	}
	when, err := ahead.space.Bind(x.Name, x.When)
	if err != nil {
		return true
	}
	q := explore.Question{Accounts: who, Holds: []condition.Node{when}}
	for app := range in.Directory.Apps {
		q.Apps = append(q.Apps, app)
	}
	if x.Until != nil {
		end := x.Until.End(in.Directory.Zone)
		q.Until = &end
	}
	return ahead.space.IsPossible(in.Context, &q)
}

func exemptStillAsked(in *Pass) {
	for _, x := range in.Judge.Exemptions() {
		if x.Until != nil && x.Until.Before(in.today) {
			continue
		}
		excused := engine.MethodSet(0)
		for _, name := range x.From {
			excused |= in.methodsOf(name)
		}
		excused &= in.secondFactors()
		exempt := in.Accounts.Of(x.Who).Surely()
		for _, s := range in.Live() {
			if !s.Audience.Surely().Meets(exempt) {
				continue
			}
			for _, r := range s.Rules {
				for _, name := range singly(r.Then) {
					if !slices.Contains(x.From, name) && !slices.Contains(x.Instead, name) && in.methodsOf(name)&excused != 0 {
						in.Report(x.Name+"/"+s.Name, x.At, "%s excuses %s from %s, but %s / %s asks for %s, which wants the same methods.",
							x.Name, in.accountNames(exempt.And(s.Audience)), words.List(x.From, "and"), s.Name, r.Name, name)
					}
				}
			}
		}
	}
}

// methodsOf returns the methods that an assurance can be met with, fallbacks left
// out.
func (in *Pass) methodsOf(assurance string) engine.MethodSet {
	var set engine.MethodSet
	if a := in.Judge.FindAssurance(assurance); a != nil {
		for _, p := range a.Prove {
			preferred, _ := in.Judge.Methods(p.AnyOf, p.Traits, p.Fallback)
			set |= preferred
		}
	}
	return set
}

// eachProve visits what the assurances of an outcome ask to be proven.
func (in *Pass) eachProve(o decide.Outcome, visit func(assurance *decide.Assurance, p decide.Prove)) {
	for _, r := range o.Require {
		for _, name := range r.OneOf {
			assurance := in.Judge.FindAssurance(name)
			for _, p := range assurance.Prove {
				visit(assurance, p)
			}
		}
	}
}
