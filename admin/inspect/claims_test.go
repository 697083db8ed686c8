package inspect_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/synth"
)

var (
	anyone = &condition.Test{Key: engine.KeyAnyone, Values: []string{"true"}}
	every  = &condition.Test{Key: engine.KeyEvery, Values: []string{"true"}}
)

// about returns what the findings of a check are about.
func about(r *inspect.Report, check string) []string {
	var names []string
	for _, f := range r.Findings {
		if name, ok := strings.CutPrefix(f.Name, check+":"); ok {
			names = append(names, name)
		}
	}
	return names
}

// later moves an attempt behind the moment of the inspection.
func later(chance synth.Chance, a *attempt.Attempt) *attempt.Attempt {
	if a.At.Before(monday) {
		a.At = monday.Add(time.Duration(chance.IntN(300*24)) * time.Hour)
	}
	return a
}

// TestClaimsAreTrue holds what findings claim of policies against decisions on
// generated books: who is aimed at nobody never applies, and who is always
// silenced never has a say.
func TestClaimsAreTrue(t *testing.T) {
	silenced, aimless := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		b, _ := synth.Open(chance, 10)
		// One that silences the first for everyone, and one for nobody, make sure that
		// there is something to claim.
		b.Policies[0].Stage, b.Policies[0].LiveFor, b.Policies[0].Firm = decide.Live, nil, false
		b.Policies = append(
			b.Policies,
			decide.Policy{
				Name:     "loud",
				Stage:    decide.Live,
				Who:      anyone,
				Apps:     every,
				Replaces: []string{b.Policies[0].Name},
				Rules:    []decide.Rule{{Name: "r"}},
			},
			decide.Policy{
				Name:  "lost",
				Stage: decide.Live,
				Who:   &condition.Not{Of: anyone},
				Apps:  every,
				Rules: []decide.Rule{{Name: "r"}},
			},
		)
		judge, err := b.Compile()
		require.NoError(t, err)
		r, err := inspect.Inspect(t.Context(), b, monday)
		require.NoError(t, err)
		never := append(about(r, "aims-at-nobody"), about(r, "aims-at-no-app")...)
		quiet := about(r, "always-silenced")
		silenced += len(quiet)
		aimless += len(never)
		for range 60 {
			a := later(chance, synth.Attempt(chance))
			// Who joined within a span is in no audience later on, so only the moment
			// of the inspection reports who is aimed at nobody.
			now := *a
			now.At = monday
			d := judge.Decide(context.Background(), &now)
			if len(d.Causes) > 0 && d.Causes[0].Policy == "" && d.Causes[0].Code != decide.OtherwiseBlocks {
				continue // it was stopped before any policy was asked
			}
			for _, p := range d.Policies {
				require.False(t, slices.Contains(never, p.Name) && p.Applies != condition.False, "%s applies", p.Name)
				speaks := p.Rule != "" || len(p.Rules) > 0
				require.False(
					t,
					slices.Contains(quiet, p.Name) && p.Applies != condition.False && speaks && p.SilencedBy == "",
					"%s has a say",
					p.Name,
				)
			}
		}
	})
	require.Positive(t, silenced)
	require.Positive(t, aimless)
}

// TestARepeatedDemandChangesNothing: where a policy is said to ask for what
// another asks anyway, the decision without that demand has the same verdict.
func TestARepeatedDemandChangesNothing(t *testing.T) {
	repeated := 0
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		b, _ := synth.Open(chance, 6)
		// Two policies that ask everyone for the same make sure that there is one.
		assurance := b.Assurances[chance.IntN(len(b.Assurances))].Name
		b.Policies = append(
			b.Policies,
			decide.Policy{
				Name:  "twin",
				Stage: decide.Live,
				Who:   anyone,
				Apps:  every,
				Rules: []decide.Rule{{Name: "r", Then: decide.Require(assurance)}},
			},
		)
		b.Policies[0].Stage, b.Policies[0].LiveFor, b.Policies[0].Actions, b.Policies[0].Until = decide.Live, nil, nil, nil
		for k := range b.Policies[0].Rules {
			b.Policies[0].Rules[k].Then = decide.Require(assurance, b.Assurances[0].Name)
		}
		judge, err := b.Compile()
		require.NoError(t, err)
		r, err := inspect.Inspect(t.Context(), b, monday)
		require.NoError(t, err)
		for _, name := range about(r, "same-demand-twice") {
			policy, assurance, _ := strings.Cut(name, "/")
			rulebook := b.Rulebook()
			rulebook.Policies = slices.Clone(rulebook.Policies)
			i := slices.IndexFunc(rulebook.Policies, func(p decide.Policy) bool { return p.Name == policy })
			rules := slices.Clone(rulebook.Policies[i].Rules)
			for k := range rules {
				rules[k].Then.Require = slices.DeleteFunc(slices.Clone(rules[k].Then.Require), func(q decide.Requirement) bool {
					return len(q.OneOf) == 1 && q.OneOf[0] == assurance
				})
				rules[k].Then.Grant = len(rules[k].Then.Require) == 0 && !b.Policies[i].Rules[k].Then.Blocks()
			}
			rulebook.Policies[i].Rules = rules
			without, err := engine.Compile(rulebook)
			require.NoError(t, err)
			repeated++
			for range 60 {
				a := synth.Attempt(chance)
				a.At = monday
				require.Equal(t, judge.Verdict(context.Background(), a), without.Verdict(context.Background(), a), "%s on %+v", name, a)
			}
		}
	})
	require.Positive(t, repeated)
}

// TestWhoIsLockedOut tells administrators who have a way in apart from those who
// have none, by the one rule that lets them pass.
func TestWhoIsLockedOut(t *testing.T) {
	for when, locked := range map[string]bool{
		"{our_network: true}":                                       false,
		"{networks: [pier], countries: [NO]}":                       false,
		"{during: [night]}":                                         false, // for an hour a week
		"{device: [own, managed], posture: [fit]}":                  false,
		"{device: [shared], device_tags: [bridge]}":                 false, // a registered one
		"{proved: [two-factors]}":                                   false,
		"{not: {risk_at_least: low}}":                               false,
		"{networks: [yard]}":                                        true, // which is not ours
		"{our_network: true, countries: [SE]}":                      true, // but the pier is in Norway
		"{through: [unattended]}":                                   true,
		"{groups: [crew]}":                                          true,
		"{device: [shared], device_tags: [bridge], posture: [fit]}": true, // it has no firewall
		"{signals: [listed]}":                                       true,
		"{actions: [enrol]}":                                        true,
	} {
		t.Run(fmt.Sprint(when), func(t *testing.T) {
			text := strings.Replace(
				sound,
				"- {name: at-the-pier, when: {our_network: true, during: [day]}, then: {require: [password-once]}}\n      - {name: elsewhere, then: "+
					"{require: [two-factors]}, limits: {lasts: 12h}}",
				"- {name: in, when: "+when+", then: {require: [two-factors]}}\n      - {name: out, then: block}",
				1,
			)
			require.NotEqual(t, sound, text)
			text = strings.Replace(text, "windows: {day:", `windows: {night: {days: [sat], from: "03:00", to: "04:00"}, day:`, 1)
			text = strings.Replace(
				text,
				"devices: [",
				"devices: [{name: bridge, shared: true, tags: [bridge], facts: {firewall: false}}, ",
				1,
			)
			require.Equal(t, locked, slices.Contains(about(inspected(t, text), "administrator-locked-out"), "ragna"), when)
		})
	}
}
