package engine_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
)

// keyWorld adds to the world of the decisions what the keys below ask for.
const keyWorld = `briskwarden: 1
postures: {fit: {checks: [{fact: firewall, is: true}]}}
risk: {signals: [{name: hidden, detect: new-device, points: 50}, {name: told, points: 45}]}
devices:
  - {name: laptop, platform: windows, managed: true, owner: ann, tags: [red], facts: {firewall: true}}
  - {name: hub, platform: linux, facts: {firewall: false}}
assurances:
  papers: {accept: {document: rules, version: 2}}
  carded: {prove: [{any_of: [odd-card]}]}
  kept: {prove: [{any_of: [push], within: 12h, remember: 30d}]}
methods: {odd-card: {kind: possession, barred_for: {attributes: {team: red}}}}
accounts:
  - {name: dee, groups: [crew], attributes: {team: red}, joined: 2026-11-01, methods: [push], account_risk: {level: medium}}
  - {name: eli, attributes: {team: blue}, joined: 2020-01-01, methods: [password]}
  - {name: fay@far.example, kind: service, methods: [certificate]}
groups: [{name: reds, where: {attributes: {team: red}}}]
`

// TestEveryKey tests each key where it holds, fails and is unknown. It fails when
// a key is added without its row.
func TestEveryKey(t *testing.T) {
	const rememberedPush = `"remembered":[{"account":"ann","method":"push","at":"2026-11-20T10:00:00Z"}]`
	const never = "" // the directory is closed, or the attempt always says
	rows := map[condition.Key][]struct{ when, holds, fails, unknown string }{
		engine.KeyAnyone:   {{"{anyone: true}", `"account":"ann"`, never, never}},
		engine.KeyAccounts: {{"{accounts: [ann, bob]}", `"account":"bob"`, `"account":"eli"`, never}},
		engine.KeyGroups: {
			{"{groups: [crew]}", `"account":"ann"`, `"account":"bob"`, never},
			{"{groups: [reds]}", `"account":"dee"`, `"account":"eli"`, `"account":"ann"`},
		},
		engine.KeyDomains:    {{"{domains: [FAR.example]}", `"account":"fay@far.example"`, `"account":"ann"`, never}},
		engine.KeyKinds:      {{"{kinds: [service]}", `"account":"fay@far.example"`, `"account":"ann"`, never}},
		engine.KeyAttributes: {{"{attributes: {team: [red, green]}}", `"account":"dee"`, `"account":"eli"`, `"account":"ann"`}},
		engine.KeyEnrolled:   {{"{enrolled: [push]}", `"account":"ann"`, `"account":"bob"`, never}},
		engine.KeyJoinedWithin: {
			{"{joined_within: 30d}", `"account":"dee"`, `"account":"eli"`, `"account":"ann"`},
			{"{joined_within: 22d}", `"account":"dee","at":"2026-11-22T22:59:59Z"`, `"account":"dee","at":"2026-11-22T23:00:00Z"`, never},
		},
		engine.KeyAccountRiskAtLeast: {
			{"{account_risk_at_least: medium}", `"account":"dee"`, `"account":"ann"`, never},
			{"{account_risk_at_least: high}", never, `"account":"dee"`, never},
		},
		engine.KeyShare: {
			{"{share: 100}", `"account":"ann"`, never, never},
			{"{share: 1}", never, `"account":"ann"`, never},
		},
		engine.KeyEvery: {{"{every: true}", `"app":"mail"`, never, never}},
		engine.KeyNames: {{"{names: [mail]}", `"app":"mail"`, `"app":"map"`, never}},
		engine.KeyTags:  {{"{tags: [chart]}", never, `"app":"mail"`, never}},
		engine.KeyNetworks: {
			{"{networks: [pier, 198.51.100.7]}", `"ip":"203.0.113.1"`, `"ip":"192.0.2.1"`, `"account":"ann"`},
			{"{networks: [pier, 198.51.100.7]}", `"ip":"198.51.100.7"`, `"ip":"198.51.100.8"`, `"ip":null`},
		},
		engine.KeyOurNetwork: {
			{"{our_network: true}", `"ip":"203.0.113.1"`, `"ip":"192.0.2.1"`, `"account":"ann"`},
			{"{our_network: false}", `"ip":"192.0.2.1"`, `"ip":"203.0.113.1"`, `"ip":null`},
		},
		engine.KeyAddressKinds: {
			{"{address_kinds: [ipv6]}", `"ip":"2001:db8::1"`, `"ip":"203.0.113.1"`, `"ip":null`},
			{"{address_kinds: [ipv4]}", `"ip":"::ffff:203.0.113.1"`, `"ip":"2001:db8::1"`, `"account":"ann"`},
			{"{address_kinds: ipv4}", `"ip":"64:ff9b::203.0.113.1"`, never, never},
		},
		engine.KeyCountries: {
			{"{countries: [home]}", `"ip":"192.0.2.1","country":"SE"`, `"ip":"192.0.2.1","country":"BR"`, `"ip":"192.0.2.1"`},
			{
				"{countries: [BR]}",
				`"ip":"192.0.2.1","country":"BR"`,
				`"ip":"203.0.113.1","country":"BR"`,
				`"ip":null,"country":"BR"`,
			},
			{"{countries: [home]}", `"country":"NO"`, never, `"country":"BR"`},
			{"{countries: [home]}", never, never, `"ip":"192.0.2.1","country":"ZZ"`},
		},
		engine.KeyDuring: {{"{during: [day]}", `"at":"2026-11-23T11:00:00Z"`, `"at":"2026-11-23T17:00:00Z"`, never}},
		engine.KeyPlatforms: {
			{
				"{platforms: [windows, ios]}",
				`"device":{"id":"laptop"}`,
				`"device":{"id":"laptop","platform":"linux"}`,
				`"device":{"id":"new"}`,
			},
			{"{platforms: [linux]}", `"device":{"platform":"linux"}`, `"device":{"platform":"ios"}`, `"device":null`},
		},
		engine.KeyDevice: {
			{"{device: [managed]}", `"device":{"id":"laptop"}`, `"device":{"id":"hub"}`, `"device":{"id":"new"}`},
			{"{device: [known]}", `"device":{"id":"hub"}`, `"device":{"known":false}`, `"device":{}`},
			{"{device: [own]}", `"device":{"id":"laptop"}`, `"account":"bob","device":{"id":"laptop"}`, `"account":"ann"`},
			{"{device: [shared]}", `"device":{"shared":true}`, `"device":{"shared":false}`, `"device":null`},
		},
		engine.KeyDeviceTags: {
			{"{device_tags: [red]}", `"device":{"id":"laptop"}`, `"device":{"id":"laptop","tags":[]}`, `"device":{"id":"new"}`},
		},
		engine.KeyPosture: {
			{"{posture: [fit]}", `"device":{"id":"laptop"}`, `"device":{"id":"hub"}`, `"device":{"id":"new"}`},
			{"{posture: [fit]}", never, never, `"device":{"id":null}`},
		},
		engine.KeyThrough: {{"{through: [browser]}", `"through":"browser"`, `"through":"native"`, `"through":"?"`}},
		engine.KeyActions: {{"{actions: [enrol]}", `"action":"enrol"`, `"action":"sign-in"`, never}},
		engine.KeySignals: {
			{"{signals: [hidden]}", `"device":{"known":false}`, `"device":{"known":true}`, `"device":{}`},
			{"{signals: [told]}", `"signals":["told"]`, `"signals":[]`, never},
		},
		engine.KeyRiskAtLeast: {
			{
				"{risk_at_least: high}",
				`"device":{"known":false},"signals":["told"]`,
				`"device":{},"signals":[]`,
				`"device":{},"signals":["told"]`,
			},
		},
		engine.KeyScoreAtLeast: {
			{"{score_at_least: 50}", `"device":{"known":false}`, `"device":{"known":true},"signals":["told"]`, `"device":{}`},
		},
		engine.KeyProved: {
			{"{proved: [known]}", passwordNow, `"account":"ann"`, never},
			{"{proved: [papers]}", `"accepted":[{"document":"rules","version":3}]`, `"accepted":[{"document":"rules","version":1}]`, never},
			// Whether a method is barred, and which device it is, may be missing facts.
			{
				"{proved: [carded]}",
				`"account":"eli","proofs":[{"method":"odd-card"}]`,
				`"account":"dee","proofs":[{"method":"odd-card"}]`,
				`"account":"ann","proofs":[{"method":"odd-card"}]`,
			},
			{
				"{proved: [kept]}",
				`"device":{"id":"laptop",` + rememberedPush + `}`,
				`"device":{"id":"laptop"}`,
				`"device":{` + rememberedPush + `}`,
			},
		},
	}
	for _, key := range condition.Keys() {
		if key.About()&^(condition.AboutConsent|condition.AboutDecision) == 0 {
			continue // packages consent and watch have those
		}
		require.NotEmpty(t, rows[key], "the key %s has no row", key)
		require.NotEmpty(t, key.Doc(), key.String())
		for _, row := range rows[key] {
			b, err := book.OpenFS(fstest.MapFS{"a.yaml": {Data: []byte(world)}, "b.yaml": {Data: []byte(keyWorld)},
				"p.yaml": {
					Data: []byte(
						"briskwarden: 1\npolicies: [{name: p, stage: live, who: anyone, apps: every, rules: [{name: r, then: block, when: " + row.when +
							"}]}]\n",
					),
				}})
			require.NoError(t, err)
			judge, err := b.Compile()
			require.NoError(t, err)
			for want, more := range map[string]string{"holds": row.holds, "fails": row.fails, "unknown": row.unknown} {
				if more == never {
					continue
				}
				a := read(t, strings.Replace(more, `"through":"?"`, `"ip":null`, 1))
				if strings.Contains(more, `"?"`) {
					a.Through = missing()
				}
				trace := judge.Decide(context.Background(), a).Policies[0]
				got := "fails"
				if trace.Rule != "" && len(trace.Why) == 0 {
					got = "holds"
				} else if trace.Rule != "" {
					got = "unknown"
					require.Contains(t, trace.Why[0], "unknown", "%s %s", row.when, more)
				} else {
					require.Contains(t, trace.Why[0], ", saw ", "%s %s", row.when, more)
					if key.About()&condition.AboutRisk == 0 { // a score may fall short for certain and still be a span
						require.NotContains(t, trace.Why[0], "unknown", "%s %s", row.when, more)
					}
				}
				require.Equal(t, want, got, "%s with %s: %v", row.when, more, trace.Why)
			}
		}
	}
}

// TestEveryDemand tests each kind of demand where it is met, where it is open and
// where it cannot be met.
func TestEveryDemand(t *testing.T) {
	const never = ""
	rows := map[decide.DemandKind][]struct{ require, met, open, impossible string }{
		decide.DemandMethod: {
			{
				"s: {prove: [{any_of: [push], within: 12h, fallback: [sms-code]}]}",
				`"proofs":[{"method":"push"}]`,
				`"proofs":[{"method":"sms-code"}]`,
				never,
			},
			{
				"s: {prove: [{any_of: [push], within: 12h, fallback: [sms-code]}]}",
				`"proofs":[{"method":"sms-code"}],"failed":[{"method":"push","reason":"unreachable"}]`,
				`"proofs":[{"method":"sms-code"}],"failed":[{"method":"push","reason":"refused"}]`,
				never,
			},
			{
				"s: {prove: [{any_of: [push], fallback: [sms-code]}]}",
				`"session":{"proofs":[{"method":"sms-code","fallback":true}]}`,
				`"session":{"proofs":[{"method":"sms-code"}]}`,
				never,
			},
			{
				"s: {prove: [{any_of: [push], remember: 30d}]}",
				passwordNow + `,"device":{"id":"laptop","remembered":[{"account":"ann","method":"push","at":"2026-10-24T11:00:00Z"}]}`,
				passwordNow + `,"device":{"id":"laptop","remembered":[{"account":"ann","method":"push","at":"2026-10-24T10:59:59Z"}]}`,
				never,
			},
			{
				"s: {prove: [{any_of: [push], remember: 30d}]}",
				never,
				passwordNow + `,"device":{"remembered":[{"account":"ann","method":"push","at":"2026-11-22T11:00:00Z"}]}`,
				never,
			},
		},
		decide.DemandPosture: {
			{"s: {posture: fit}", `"device":{"id":"laptop"}`, `"device":{"id":"new"}`, `"device":{"id":"hub"}`},
			{"s: {posture: fit}", `"device":{"id":"new","facts":{"firewall":true}}`, never, `"device":null`},
		},
		decide.DemandChangePassword: {
			{
				"s: {change_password: true}",
				`"account":"new-pass","session":{"started":"2026-11-23T09:00:00Z"}`,
				`"account":"new-pass","session":{"started":"2026-11-23T10:30:00Z"}`,
				never,
			},
			{"s: {change_password: true}", `"account":"was-risky"`, `"account":"ann","session":{"started":"2026-11-23T09:00:00Z"}`, never},
		},
		decide.DemandAccept: {
			{
				"s: {accept: {document: rules, version: 2, every: 30d}}",
				`"accepted":[{"document":"rules","version":2,"at":"2026-10-24T11:00:00Z"}]`,
				`"accepted":[{"document":"rules","version":2,"at":"2026-10-24T10:00:00Z"},` +
					`{"document":"rules","version":1,"at":"2026-11-23T10:00:00Z"}]`,
				never,
			},
		},
		decide.DemandExternal: {
			{"s: {external: yard}", `"external":{"yard":"passed"}`, `"external":{"yard":"unreachable"}`, `"external":{"yard":"failed"}`},
		},
		decide.DemandConsent: {
			{
				"s: {consent: true}",
				`"client":{"id":"tides","scopes":["a"],"consented":["a","b"]}`,
				`"client":{"id":"tides","scopes":["a","c"],"consented":["a","b"]}`,
				never,
			},
			{"s: {consent: true}", `"client":null`, `"account":"ann"`, never},
		},
		decide.DemandEnrol: {{"s: {enrol: [push, passkey]}", `"account":"ann"`, `"account":"bob"`, never}},
		decide.DemandOneOf: {
			{
				"s: {prove: [{any_of: [push]}], external: yard}\n  u: {posture: fit}",
				`"device":{"id":"laptop"}`,
				`"device":null,"external":{"yard":"passed"}`,
				`"device":null,"external":{"yard":"failed"}`,
			},
		},
	}
	require.Len(t, decide.DemandKinds(), int(decide.DemandOneOf))
	for kind := decide.DemandMethod; kind <= decide.DemandOneOf; kind++ {
		require.NotEmpty(t, rows[kind], "the demand %s has no row", kind)
		for _, row := range rows[kind] {
			then := "{require: [s]}"
			if kind == decide.DemandOneOf {
				then = "{require: [{one_of: [s, u]}]}"
			}
			b, err := book.OpenFS(
				fstest.MapFS{
					"a.yaml": {Data: []byte(world)},
					"b.yaml": {Data: []byte(keyWorld)},
					"p.yaml": {Data: []byte("briskwarden: 1\nassurances:\n  " + row.require +
						"\naccounts:\n- {name: new-pass, methods: [password], password_changed_at: 2026-11-23T10:00:00Z}\n- {name: was-risky, methods: " +
						"[password], account_risk: {level: high, since: 2026-11-01T00:00:00Z}, password_changed_at: 2026-11-02T10:00:00Z}" +
						"\npolicies: [{name: p, stage: live, who: anyone, apps: every, rules: [{name: r, then: " + then + "}]}]\n")},
				},
			)
			require.NoError(t, err)
			judge, err := b.Compile()
			require.NoError(t, err)
			for want, more := range map[string]string{"met": row.met, "open": row.open, "impossible": row.impossible} {
				if more == never {
					continue
				}
				d := judge.Decide(context.Background(), read(t, more))
				at := slices.IndexFunc(d.Demands, func(d decide.Demand) bool { return d.Kind == kind })
				require.GreaterOrEqual(t, at, 0, "%s with %s: %v", row.require, more, d.Demands)
				got := map[bool]string{true: "met", false: "open"}[d.Demands[at].Met]
				if d.Demands[at].Impossible {
					got = "impossible"
					require.Equal(t, decide.Block, d.Verdict)
				}
				require.Equal(t, want, got, "%s with %s", row.require, more)
				require.NotEmpty(t, d.Demands[at].String())
			}
		}
	}
}

// missing is a fact that nothing is known of.
func missing() (through attempt.Fact[attempt.Through]) { return through }
