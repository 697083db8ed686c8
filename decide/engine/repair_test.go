package engine_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

// repairWorld is the directory for the actions by which an account is put right, for
// exemptions, rollouts and limits.
const repairWorld = `briskwarden: 1
settings: {zone: Europe/Oslo}
networks: {pier: {ranges: [203.0.113.0/24], ours: true}}
windows: {day: {from: "06:00", to: "18:00"}}
postures: {fit: {fresh: 24h, checks: [{fact: firewall, is: true, fix: Turn it on.}]}}
risk: {signals: [{name: told, points: 45}]}
assurances:
  known: {prove: [{any_of: [password], within: session}]}
  held: {acr: "urn:held", prove: [{any_of: [push, otp-app], within: 12h}]}
  strong: {prove: [{traits: [phishing_resistant], within: session}]}
  changed: {change_password: true}
  fit: {posture: fit}
accounts:
  - {name: ann, methods: [password, otp-app, push]}
  - {name: bob, methods: [password], joined: 2026-11-20, asked_at: 2026-11-01T11:00:00Z}
  - {name: new, joined: 2026-11-22, asked_at: 2026-11-22T11:00:00Z}
  - {name: unasked, methods: [password], joined: 2020-01-01}
  - {name: late, methods: [password], joined: 2020-01-01, asked_at: 2026-11-20T11:00:00Z}
  - {name: old, methods: [password], joined: 2020-01-01, asked_at: 2026-10-01T11:00:00Z}
  - {name: gauge, kind: service, methods: [certificate]}
apps: [{name: mail}, {name: till, limits: {lasts: 2h}}]
exemptions:
  - {name: gauge, who: {accounts: [gauge]}, from: [held], instead: [strong], when: {networks: [pier]},
     because: It has no hands., until: 2026-11-30}
rollouts:
  - {name: factor, who: {not: {kinds: [service]}}, methods: [push], eases: [held],
     opens: 2026-10-01, enforced: 2026-11-01, newcomers: 10d, grace: 14d}
`

const (
	heldPolicy   = "{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [held]}}]}"
	bothPolicy   = "{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [known, held]}}]}"
	choicePolicy = "{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [{one_of: [strong, known]}]}}]}"
	eitherPolicy = "{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, " +
		"then: {require: [known, {one_of: [strong, held]}]}}]}"
	changedPolicy = "{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [known, changed]}}]}"
	fitPolicy     = "{name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [known, fit]}, say: 'Look " +
		"after it.'}]}"
	dayPolicy = "{name: base, stage: live, who: anyone, apps: every, until: 2026-11-25, rules: [{name: day, when: {during: [day]}, " +
		"then: {require: [known]}, limits: {idle: 10m, shared: false}}, {name: night, then: block}]}"
	datedPolicy = "{name: base, stage: live, who: anyone, apps: every, until: 2026-11-25, rules: [{name: all, then: {require: [known]}}]}"
)

// TestRepairs goes through the steps 6 to 11 of section 4. What is wanted is
// written as the verdict, the demands that are open, the notices, what the person
// can do, and the limits, as far as there are any.
func TestRepairs(t *testing.T) {
	for _, c := range []struct{ name, policy, attempt, want string }{
		{"an exemption puts another demand in the place", heldPolicy, `"account":"gauge","ip":"203.0.113.9","proofs":[{"method":"certificate"}]`,
			"grant | exempted | until 2026-11-30T23:00:00Z"},
		{"and only there", heldPolicy, `"account":"gauge","ip":"192.0.2.9","proofs":[{"method":"certificate"}]`,
			"step_up | one of otp-app, push enrolled and proven | Enrol otp-app or push."},
		{"where it may hold both are asked", heldPolicy, `"account":"gauge","session":{"proofs":[{"method":"certificate"}]}`,
			"step_up | one of otp-app, push enrolled and proven | Enrol otp-app or push."},
		{"its last day is included", heldPolicy,
			`"account":"gauge","ip":"203.0.113.9","at":"2026-11-30T22:59:59Z","proofs":[{"method":"certificate"}]`,
			"grant | exempted | until 2026-11-30T23:00:00Z"},
		{"and the next is not", heldPolicy,
			`"account":"gauge","ip":"203.0.113.9","at":"2026-11-30T23:00:00Z","proofs":[{"method":"certificate"}]`,
			"step_up | one of otp-app, push enrolled and proven | Enrol otp-app or push."},

		{"a newcomer has time", bothPolicy, `"account":"bob",` + passwordNow, "grant | 7 days left | until 2026-11-29T23:00:00Z"},
		{"so has who was asked late", bothPolicy, `"account":"late",` + passwordNow, "grant | 11 days left | until 2026-12-04T11:00:00Z"},
		{"but of whom nobody knows when has the day alone", bothPolicy, `"account":"unasked",` + passwordNow,
			"step_up | one of otp-app, push enrolled and proven | Enrol otp-app or push."},
		{"but not for ever", bothPolicy, `"account":"old",` + passwordNow, "step_up | one of otp-app, push enrolled and proven | Enrol " +
			"otp-app or push."},
		{"nor at a risk", bothPolicy, `"account":"bob","signals":["told"],` + passwordNow,
			"step_up | one of otp-app, push enrolled and proven | Enrol otp-app or push."},
		{"one way that is eased will do", eitherPolicy, `"account":"late",` + passwordNow, "grant | 11 days left | until 2026-12-04T11:00:00Z"},
		{"who has another way needs no time for it", eitherPolicy, `"account":"late","session":{"proofs":[{"method":"passkey"}]},` + passwordNow,
			"grant | proof_not_enrolled"},
		{"an eased demand leaves no account unproven", heldPolicy, `"account":"bob"`, "step_up | password proven in this session | 7 days left"},

		{"to enrol is not held up by what is to be enrolled", bothPolicy, `"account":"old","action":"enrol",` + passwordNow, "grant"},
		{"but by the rest", bothPolicy, `"account":"old","action":"enrol"`,
			"step_up | password proven in this session | offer password desk-pass"},
		{"anyone who has nothing wants a pass from the help desk", heldPolicy, `"account":"new","at":"2026-12-20T11:00:00Z","action":"enrol"`,
			"step_up | desk-pass proven in this session"},
		{"which serves", heldPolicy, `"account":"new","at":"2026-12-20T11:00:00Z","action":"enrol","proofs":[{"method":"desk-pass"}]`, "grant"},
		{"but once", heldPolicy, `"account":"new","at":"2026-12-20T11:00:00Z","action":"enrol","session":{"proofs":[{"method":"desk-pass"}]}`,
			"step_up | desk-pass proven in this session | proof_ignored"},
		{"and for nothing else", bothPolicy, `"account":"ann","proofs":[{"method":"desk-pass"}]`,
			"step_up | one of otp-app, push proven in the last 12h | password proven in this session | proof_ignored"},
		{"where another way can be met it is to be met", choicePolicy, `"account":"bob","action":"enrol"`,
			"step_up | either one of certificate, passkey, security-key enrolled and proven, or password proven in this session"},
		{"of several ways the easiest is told", choicePolicy, `"account":"bob","session":{"proofs":[{"method":"otp-app"}]}`,
			"step_up | either one of certificate, passkey, security-key enrolled and proven, or password proven in this session | " +
				"proof_not_enrolled | " +
				"offered password"},
		{"a forgotten password", bothPolicy, `"action":"recover","proofs":[{"method":"otp-app"}]`, "grant"},
		{"with nothing else proven now", bothPolicy, `"action":"recover","session":{"proofs":[{"method":"otp-app","at":"2026-11-23T10:00:00Z"}]}`,
			"step_up | password proven in this session | offer password desk-pass"},
		{"a password to be changed", changedPolicy, passwordNow, "step_up | a changed password | Change your password."},
		{"can be changed", changedPolicy, `"action":"change-password",` + passwordNow, "grant"},

		{"a device that nothing identifies", fitPolicy, `"device":null,` + passwordNow,
			"block | a device that passes fit | Look after it. | Use a browser or an app that says which device you are on."},
		{"one without a report", fitPolicy, `"device":{"id":"x","facts":{"firewall":true}},` + passwordNow,
			"step_up | a device that passes fit | Look after it. | Let the device report its state, and sign in again."},
		{"an old report", fitPolicy, `"device":{"id":"x","facts":{"firewall":true},"reported_at":"2026-11-22T10:59:59Z"},` + passwordNow,
			"step_up | a device that passes fit | Look after it. | Let the device report its state, and sign in again."},
		{"an unfit one", fitPolicy, `"device":{"id":"x","facts":{"firewall":false},"reported_at":"2026-11-22T11:00:00Z"},` + passwordNow,
			"block | a device that passes fit | Look after it. | Turn it on."},
		{"a fit one", fitPolicy, `"device":{"id":"x","facts":{"firewall":true},"reported_at":"2026-11-22T11:00:00Z"},` + passwordNow, "grant"},

		{"the window ends the session", dayPolicy, passwordNow, "grant | idle 10m | for this app alone | until 2026-11-23T17:00:00Z"},
		{"unless its own length does", dayPolicy, `"app":"till",` + passwordNow, "grant | lasts 2h | idle 10m | for this app alone"},
		{"a proof for another app does not count then", dayPolicy, `"session":{"proofs":[{"method":"password","app":"till"}]}`,
			"step_up | password proven in this session | idle 10m | for this app alone"},
		{"one for this app does", dayPolicy, `"session":{"proofs":[{"method":"password","app":"mail"}]}`,
			"grant | idle 10m | for this app alone | until 2026-11-23T17:00:00Z"},
		{"the last day of a policy ends it too", datedPolicy, passwordNow, "grant | until 2026-11-25T23:00:00Z"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, err := book.OpenFS(
				fstest.MapFS{
					"world.yaml": {Data: []byte(repairWorld)},
					"p.yaml":     {Data: []byte("briskwarden: 1\npolicies: [" + c.policy + "]\n")},
				},
			)
			require.NoError(t, err)
			judge, err := b.Compile()
			require.NoError(t, err)
			a := read(t, c.attempt)
			d := judge.Decide(context.Background(), a)
			assert.Equal(t, c.want, repairWords(d), c.name)
			require.Equal(t, d.Verdict, judge.Verdict(context.Background(), a), c.name)
		})
	}
}

// repairWords puts a decision in the words of the table.
func repairWords(d *decide.Decision) string {
	words := []string{d.Verdict.String()}
	add := func(is bool, text string) {
		if is {
			words = append(words, text)
		}
	}
	for _, demand := range d.Demands {
		add(!demand.Met, demand.String())
		add(slices.Contains(demand.Offer, directory.DeskPass) && len(demand.Offer) > 1, "offer "+strings.Join(demand.Offer, " "))
	}
	for _, n := range d.Notices {
		if n.Code == decide.EnrolmentDue {
			add(true, fmt.Sprintf("%d days left", n.DaysLeft))
			continue
		}
		add(true, string(n.Code))
	}
	add(d.ToPerson.Say != "", d.ToPerson.Say)
	words = append(words, d.ToPerson.Repairs...)
	add(len(d.Demands) == 1 && d.Demands[0].Kind == decide.DemandOneOf && len(d.AMR) > 0, "offered "+strings.Join(d.ToPerson.Offer, " "))
	add(d.Limits.Lasts > 0, "lasts "+d.Limits.Lasts.String())
	add(d.Limits.Idle > 0, "idle "+d.Limits.Idle.String())
	add(!d.Limits.Shared, "for this app alone")
	add(!d.Limits.Until.IsZero(), "until "+d.Limits.Until.UTC().Format("2006-01-02T15:04:05Z"))
	return strings.Join(words, " | ")
}
