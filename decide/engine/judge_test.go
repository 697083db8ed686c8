package engine_test

import (
	"context"
	"encoding/json"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/decide/risk"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
)

// world is the directory that the cases below are judged in; a case adds policies.
const world = `briskwarden: 1
settings: {zone: Europe/Oslo}
networks: {pier: {ranges: [203.0.113.0/24], ours: true, country: NO}}
regions: {home: [NO, SE]}
windows: {day: {from: "06:00", to: "18:00"}}
assurances:
  known: {prove: [{any_of: [password], within: session}]}
  held: {prove: [{any_of: [push, otp-app], within: 12h}]}
  fresh: {prove: [{any_of: [password, otp-app], within: now}]}
  strong: {prove: [{traits: [phishing_resistant], within: session}]}
accounts:
  - {name: ann, groups: [crew], methods: [password, otp-app, push]}
  - {name: bob, methods: [password]}
  - {name: gone, methods: [password], disabled: true}
  - {name: key, kind: emergency, methods: [security-key]}
groups: [{name: crew}]
apps: [{name: mail}, {name: till, open_to: [crew]}, {name: map, public: true}]
`

func judgeOf(t *testing.T, policies string) *engine.Judge {
	t.Helper()
	b, err := book.OpenFS(
		fstest.MapFS{"world.yaml": {Data: []byte(world)}, "p.yaml": {Data: []byte("briskwarden: 1\npolicies:\n" + policies)}},
	)
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	return judge
}

// read makes an attempt by ann on mail on a Monday noon; more adds to it, or
// says otherwise.
func read(t *testing.T, more string) *attempt.Attempt {
	t.Helper()
	fields := map[string]any{}
	require.NoError(t, json.Unmarshal([]byte(`{"at":"2026-11-23T11:00:00Z","account":"ann","app":"mail","through":"browser"}`), &fields))
	require.NoError(t, json.Unmarshal([]byte("{"+more+"}"), &fields))
	text, err := json.Marshal(fields)
	require.NoError(t, err)
	a := new(attempt.Attempt)
	require.NoError(t, attempt.Parse(text, a, attempt.Options{}))
	return a
}

const (
	passwordNow   = `"proofs":[{"method":"password"}]`
	basePolicy    = "  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [known]}}]}\n"
	grantPolicy   = "  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: grant}]}\n"
	countryPolicy = "  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: far, when: {not: {countries: [home]}}, then: " +
		"block, say: Too far.}, {name: near, then: {require: [known]}}]}\n"
)

// TestDecisions goes through section 4 of the design step by step. What is
// wanted is written as "verdict: causes: demands still open".
func TestDecisions(t *testing.T) {
	for _, c := range []struct{ name, policies, attempt, want string }{
		{"unknown account", basePolicy, `"account":"eve"`, "block: account_unknown: "},
		{"disabled account", basePolicy, `"account":"gone",` + passwordNow, "block: account_disabled: "},
		{"unknown app", basePolicy, `"app":"nothing",` + passwordNow, "block: app_unknown: "},
		{"app not open", basePolicy, `"account":"bob","app":"till",` + passwordNow, "block: app_not_open: "},
		{"app open", basePolicy, `"app":"till",` + passwordNow, "grant: demands_met: "},

		{"nobody speaks", "  - {name: base, stage: live, who: {groups: [crew]}, apps: every, rules: [{name: all, then: grant}]}\n",
			`"account":"bob",` + passwordNow, "block: otherwise_blocks: "},
		{"a draft is never evaluated", strings.Replace(basePolicy, "live", "draft", 1), passwordNow, "block: otherwise_blocks: "},
		{"a shadow has no effect", strings.Replace(basePolicy, "live", "shadow", 1), passwordNow, "block: otherwise_blocks: "},

		{"open demand", basePolicy, ``, "step_up: demand_open: password proven in this session"},
		{"a grant wants a proof", grantPolicy, ``, "step_up: demand_open: one of otp-app, password, push proven in this session"},
		{"any proof will do", grantPolicy, `"session":{"proofs":[{"method":"sms-code"}]}`, "grant: demands_met: "},
		{"but of a method the book has", grantPolicy, `"proofs":[{"method":"smoke"}]`,
			"step_up: demand_open: one of otp-app, password, push proven in this session"},
		{"a public app wants none", grantPolicy, `"app":"map"`, "grant: public_app: "},
		{"but what a rule asks", basePolicy, `"app":"map"`, "step_up: demand_open: password proven in this session"},

		{"first rule that matches", countryPolicy, `"country":"SE",` + passwordNow, "grant: demands_met: "},
		{"the network's country wins", countryPolicy, `"country":"BR","ip":"203.0.113.9",` + passwordNow, "grant: demands_met: "},
		{"a mapped address is the IPv4 one", countryPolicy, `"ip":"::ffff:203.0.113.9",` + passwordNow, "grant: demands_met: "},
		{"blocked from abroad", countryPolicy, `"country":"BR",` + passwordNow, "block: rule_may_block: "},
		{"and surely with an address", countryPolicy, `"country":"BR","ip":"192.0.2.1",` + passwordNow, "block: rule_blocks: "},
		{"unknown country: both worlds", countryPolicy, passwordNow, "block: rule_may_block: "},
		{"null is as good as missing", countryPolicy, `"country":null,"ip":null,` + passwordNow, "block: rule_may_block: "},
		{"null is no address outside all networks",
			"  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: in, when: {our_network: true}, then: block}, {name: out, " +
				"then: grant}]}\n", `"ip":null,` + passwordNow, "block: rule_may_block: "},
		{"a rule that may speak does not settle it",
			"  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: near, when: {countries: [home]}, then: grant}]}\n", passwordNow,
			"block: otherwise_blocks: "},

		{"the strictest stands", basePolicy +
			"  - {name: more, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [held]}}]}\n", passwordNow,
			"step_up: demand_open: one of otp-app, push proven in the last 12h"},
		{"replaced", basePolicy +
			"  - {name: more, stage: live, who: anyone, apps: every, replaces: [base], rules: [{name: all, then: {require: [held]}}]}\n", ``,
			"step_up: demand_open: one of otp-app, push proven in the last 12h"},
		{"a policy that only may speak replaces nothing", basePolicy +
			"  - {name: more, stage: live, who: anyone, apps: every, replaces: [base], rules: [{name: all, when: {countries: [NO]}, then: " +
			"grant}]}\n", ``, "step_up: demand_open demand_open: password proven in this session"},
		{"the silenced still silences", basePolicy +
			"  - {name: c, stage: live, who: anyone, apps: every, replaces: [b], rules: [{name: all, then: {require: [held]}}]}\n  - {name: b, " +
			"stage: live, who: anyone, apps: every, replaces: [base], rules: [{name: all, then: block}]}\n", ``,
			"step_up: demand_open: one of otp-app, push proven in the last 12h"},
		{"a shadow replaces nothing", basePolicy +
			"  - {name: more, stage: shadow, who: anyone, apps: every, replaces: [base], rules: [{name: all, then: block}]}\n", passwordNow,
			"grant: demands_met: "},

		{"an emergency account that is named inside a not is not named",
			"  - {name: base, stage: live, who: {any: [{anyone: true}, {not: {kinds: [emergency]}}]}, apps: every, " +
				"rules: [{name: all, then: grant}]}\n",
			`"account":"key","proofs":[{"method":"security-key"}]`, "block: otherwise_blocks: "},
		{"an emergency account is not anyone", basePolicy, `"account":"key","proofs":[{"method":"security-key"}]`, "block: otherwise_blocks: "},
		{"named by kind", basePolicy +
			"  - {name: k, stage: live, who: {kinds: [emergency, person]}, apps: every, rules: [{name: all, then: {require: [strong]}}]}\n",
			`"account":"key","proofs":[{"method":"security-key"}]`, "grant: demands_met: "},
		{"named itself, and not held back by open_to", basePolicy +
			"  - {name: k, stage: live, who: {accounts: [key]}, apps: every, rules: [{name: all, then: {require: [strong]}}]}\n",
			`"account":"key","app":"till"`, "step_up: demand_open: one of certificate, passkey, security-key proven in this session"},
		{"named in a not only", basePolicy +
			"  - {name: k, stage: live, who: {not: {kinds: [person, service]}}, apps: every, rules: [{name: all, then: {require: [strong]}}]}\n",
			`"account":"key","proofs":[{"method":"security-key"}]`, "block: otherwise_blocks: "},

		{"proven too long ago", strings.Replace(basePolicy, "known", "held", 1),
			`"session":{"proofs":[{"method":"push","at":"2026-11-22T22:59:59Z"}]}`,
			"step_up: demand_open: one of otp-app, push proven in the last 12h"},
		{"proven just in time", strings.Replace(basePolicy, "known", "held", 1),
			`"session":{"proofs":[{"method":"push","at":"2026-11-22T23:00:00Z"}]}`, "grant: demands_met: "},
		{"proven nobody knows when", strings.Replace(basePolicy, "known", "held", 1), `"session":{"proofs":[{"method":"push"}]}`,
			"step_up: demand_open: one of otp-app, push proven in the last 12h"},
		{"as of ten minutes later", strings.Replace(basePolicy, "known", "fresh", 1),
			`"session":{"as_of":"2026-11-23T09:10:00Z","proofs":[{"method":"password","at":"2026-11-23T09:00:00Z"}]}`, "grant: demands_met: "},
		{"as of later than that", strings.Replace(basePolicy, "known", "fresh", 1),
			`"session":{"as_of":"2026-11-23T09:10:01Z","proofs":[{"method":"password","at":"2026-11-23T09:00:00Z"}]}`,
			"step_up: demand_open: one of otp-app, password proven in this very attempt"},
		{"as of before it was proven", strings.Replace(basePolicy, "known", "fresh", 1),
			`"session":{"as_of":"2026-11-23T09:00:00Z","proofs":[{"method":"password","at":"2026-11-23T10:00:00Z"}]}`, "grant: demands_met: "},
		{"as of a moment that is to come", strings.Replace(basePolicy, "known", "fresh", 1),
			`"session":{"as_of":"2026-11-23T11:01:01Z","proofs":[{"method":"password","at":"2026-11-23T11:00:00Z"}]}`,
			"step_up: demand_open: one of otp-app, password proven in this very attempt"},
		{"as of then, and before the session", strings.Replace(basePolicy, "known", "fresh", 1),
			`"session":{"started":"2026-11-23T10:00:00Z","as_of":"2026-11-23T10:00:00Z",
				"proofs":[{"method":"password","at":"2026-11-23T09:58:00Z"}]}`,
			"step_up: demand_open: one of otp-app, password proven in this very attempt"},
		{"as of then, and nobody knows when", strings.Replace(basePolicy, "known", "fresh", 1),
			`"session":{"as_of":"2026-11-23T10:00:00Z","proofs":[{"method":"password"}]}`,
			"step_up: demand_open: one of otp-app, password proven in this very attempt"},
		{"now is not the session", strings.Replace(basePolicy, "known", "fresh", 1),
			`"session":{"proofs":[{"method":"password","at":"2026-11-23T11:00:00Z"}]}`,
			"step_up: demand_open: one of otp-app, password proven in this very attempt"},
		{"now", strings.Replace(basePolicy, "known", "fresh", 1), passwordNow, "grant: demands_met: "},
		{"nothing enrolled that would do", strings.Replace(basePolicy, "known", "held", 1), `"account":"bob",` + passwordNow,
			"step_up: demand_open: one of otp-app, push enrolled and proven"},
		{"a proof counts though not enrolled", strings.Replace(basePolicy, "known", "held", 1), `"account":"bob","proofs":[{"method":"push"}]`,
			"grant: demands_met: "},
		{"implied demands are left out",
			"  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: grant}]}\n  - {name: more, stage: live, who: " +
				"anyone, apps: every, rules: [{name: all, then: {require: [known, fresh]}}]}\n", ``,
			"step_up: demand_open demand_open: one of otp-app, password proven in this very attempt, password proven in this session"},

		{"an unattended device cannot be asked", basePolicy, `"through":"unattended"`, "block: cannot_be_asked: password proven in this session"},
		{"nor an unpromptable program", basePolicy, `"through":"unpromptable"`, "block: cannot_be_asked: password proven in this session"},
		{"anyone who is not known to be unaskable can be asked", basePolicy, `"through":null`,
			"step_up: demand_open: password proven in this session"},
		{"during",
			"  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: day, when: {during: [day]}, then: {require: [known]}}, " +
				"{name: night, then: block}]}\n", `"at":"2026-11-23T17:00:00Z",` + passwordNow, "block: rule_blocks: "},
	} {
		t.Run(c.name, func(t *testing.T) {
			judge := judgeOf(t, c.policies)
			a := read(t, c.attempt)
			d := judge.Decide(context.Background(), a)
			var causes, open []string
			for _, cause := range d.Causes {
				causes = append(causes, string(cause.Code))
			}
			for _, demand := range d.Demands {
				if !demand.Met {
					open = append(open, demand.String())
				}
			}
			require.Equal(t, c.want, d.Verdict.String()+": "+strings.Join(causes, " ")+": "+strings.Join(open, ", "), c.name)
			require.Equal(t, d.Verdict, judge.Verdict(context.Background(), a), c.name)
		})
	}
}

func TestTheTraceSaysWhatWasWantedAndSeen(t *testing.T) {
	judge := judgeOf(t, countryPolicy+
		"  - {name: crew-only, stage: live, who: {groups: [crew], except: {accounts: [ann]}}, apps: every, rules: [{name: all, then: block}]}\n"+
		"  - {name: other-app, stage: live, who: anyone, apps: {names: [till]}, rules: [{name: all, then: block}]}\n"+
		"  - {name: never, stage: live, who: anyone, apps: every, rules: [{name: x, when: {any: [{networks: [pier]}, {through: [native, "+
		"unattended]}]}, then: block}]}\n"+
		"  - {name: unready, stage: draft, who: anyone, apps: every, rules: [{name: all, then: block}]}\n")
	d := judge.Decide(context.Background(), read(t, `"country":"BR","ip":"192.0.2.1",`+passwordNow))
	got := map[string]string{}
	for _, p := range d.Policies {
		got[p.Name] = strings.Join(append([]string{p.Applies.String(), p.Rule, p.Outcome.String()}, p.Why...), " | ")
	}
	require.Equal(t, map[string]string{
		"base":      "true | far | block",
		"crew-only": "false |  |  | accounts: wants not ann, saw ann",
		"other-app": "false |  |  | names: wants till, saw mail",
		"never": "true |  |  | rule x: networks: wants pier, saw 192.0.2.1 (in no network) | rule x: through: wants native or unattended, " +
			"saw browser",
		"unready": "false |  |  | stage: a draft is never evaluated",
	}, got)
	require.Equal(t, "base / far blocks; countries: wants not home (NO, SE), saw BR.", d.Causes[0].Text)

	d = judge.Decide(context.Background(), read(t, passwordNow))
	require.Equal(t, []string{"far", "near"}, d.Policies[0].Rules)
	require.Equal(t, []string{"rule far: countries: wants not home (NO, SE), saw nothing (unknown)"}, d.Policies[0].Why)
}

func TestWhatThePersonIsTold(t *testing.T) {
	shadow := "  - {name: soon, stage: shadow, who: anyone, apps: every, replaces: [base], rules: [{name: all, then: {require: [strong]}}]}\n"
	for _, c := range []struct{ name, attempt, want string }{
		{"nothing before a proof", `"country":"BR","ip":"192.0.2.1"`, "step_up  [] [certificate otp-app passkey password security-key]"},
		{"nor of an unknown account", `"account":"eve"`, "step_up  [] [certificate otp-app passkey password security-key]"},
		{"nor where nobody can be asked", `"account":"eve","through":"unattended"`, "block  [Sign in where you can be asked for a proof.] []"},
		{"the say after one", `"country":"BR","ip":"192.0.2.1",` + passwordNow, "block Too far. [] []"},
		{"granted", `"country":"NO","ip":"192.0.2.1",` + passwordNow, "grant  [] []"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := judgeOf(t, countryPolicy+shadow).Decide(context.Background(), read(t, c.attempt))
			told := d.ToPerson
			require.Equal(
				t,
				c.want,
				told.Verdict.String()+" "+told.Say+" ["+strings.Join(told.Repairs, " ")+"] ["+strings.Join(told.Offer, " ")+"]",
				c.name,
			)
		})
	}
	d := judgeOf(t, countryPolicy+shadow).Decide(context.Background(), read(t, `"country":"NO","ip":"192.0.2.1",`+passwordNow))
	require.Equal(t, decide.StepUp, d.WithShadow.Verdict)
	d = judgeOf(t, strings.Replace(basePolicy, "known", "held", 1)).Decide(context.Background(), read(t, ``))
	require.Equal(t, []string{"otp-app"}, d.Demands[0].Offer, "a push is offered only after another proof")
	d = judgeOf(t, strings.Replace(basePolicy, "known", "held", 1)).Decide(context.Background(), read(t, passwordNow))
	require.Equal(t, []string{"otp-app", "push"}, d.ToPerson.Offer)
}

func TestConcurrentDecisionsAgree(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	scenes := demo.Scenes()
	want := make([]string, len(scenes))
	for i := range scenes {
		want[i] = answer(t, judge, &scenes[i].Attempt)
	}
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for n := range 300 {
				i := n % len(scenes)
				if got := answer(t, judge, &scenes[i].Attempt); got != want[i] {
					t.Errorf("scene %d: %s, not %s", i, got, want[i])
				}
				judge.Verdict(context.Background(), &scenes[i].Attempt)
			}
		})
	}
	group.Wait()
}

// TestCompileRefuses holds a rulebook made in Go against the list of problems that
// one read from files gets.
func TestCompileRefuses(t *testing.T) {
	for _, c := range []struct {
		name  string
		wrong string
		set   func(r *decide.Rulebook)
	}{
		{"a policy twice", `policy "base" is defined twice`, func(r *decide.Rulebook) { r.Policies[1].Name = "base" }},
		{"a policy without a name", `policy "": a name cannot be empty`, func(r *decide.Rulebook) { r.Policies[0].Name = "" }},
		{"a policy without rules", "policy base has no rules", func(r *decide.Rulebook) { r.Policies[0].Rules = nil }},
		{"a policy for nobody knows whom", "policy base does not say whom it is for", func(r *decide.Rulebook) { r.Policies[0].Who = nil }},
		{"a policy for nobody knows what", "policy base does not say which apps it is for", func(r *decide.Rulebook) {
			r.Policies[0].Apps = nil
		}},
		{"a stage that there is not", "policy base has no stage that there is", func(r *decide.Rulebook) { r.Policies[0].Stage = 9 }},
		{"a policy that replaces what is not there", `policy base: policy "ghost" is not defined`, func(r *decide.Rulebook) {
			r.Policies[0].Replaces = []string{"ghost"}
		}},
		{"a circle", "policy base replaces itself: base > office > base", func(r *decide.Rulebook) {
			r.Policies[0].Replaces, r.Policies[1].Replaces = []string{"office"}, []string{"base"}
		}},
		{"a signal that asks for signals", "the key signals makes no sense here", func(r *decide.Rulebook) {
			r.Risk.Signals = append(r.Risk.Signals, risk.Signal{Name: "echo", Points: 1, When: condition.Is("signals", "echo")})
		}},
		{"a firm policy", "policy base cannot replace office, which is firm", func(r *decide.Rulebook) {
			r.Policies[0].Replaces, r.Policies[1].Firm = []string{"office"}, true
		}},
		{"two rules of one name", `policy base has two rules named "odd"`, func(r *decide.Rulebook) { r.Policies[0].Rules[1].Name = "odd" }},
		{"a test without values", "the test on countries names no value", func(r *decide.Rulebook) {
			r.Policies[0].Rules[1].When = &condition.Test{Key: engine.KeyCountries}
		}},
		{"a key that is misspelt", `there is no such key: gruops; did you mean "groups"?`, func(r *decide.Rulebook) {
			r.Policies[0].Who = condition.Is("gruops", "crew")
		}},
		{"a key that there is not", "there is no such key: Key(200)", func(r *decide.Rulebook) {
			r.Policies[0].Rules[1].When = &condition.Test{Key: 200, Values: []string{"x"}}
		}},
		{"a key out of place", "the key countries makes no sense here", func(r *decide.Rulebook) {
			r.Policies[0].Who = r.Policies[0].Rules[1].When
		}},
		{"a not of nothing", "a `not` has nothing in it", func(r *decide.Rulebook) { r.Policies[0].Who = &condition.Not{} }},
		{"an outcome that grants and requires", "an outcome grants or requires, not both", func(r *decide.Rulebook) {
			r.Policies[0].Rules[2].Then.Grant = true
		}},
		{"a requirement of nothing", "a requirement names no assurance", func(r *decide.Rulebook) {
			r.Policies[0].Rules[2].Then = decide.Outcome{Require: []decide.Requirement{{}}}
		}},
		{"an assurance that is not there", `setting otherwise: assurance "s" is not defined`, func(r *decide.Rulebook) {
			r.Otherwise = decide.Require("s")
		}},
		{"an assurance twice", `assurance "own" is defined twice`, func(r *decide.Rulebook) { r.Assurances[1].Name = "own" }},
		{"an assurance of nothing", "assurance own demands nothing", func(r *decide.Rulebook) { r.Assurances[0].Prove = nil }},
		{"a method that is not there", `assurance own: method "m" is not defined`, func(r *decide.Rulebook) {
			r.Assurances[0].Prove[0].AnyOf = []string{"m"}
		}},
		{"an account twice", `account "ann" is defined twice`, func(r *decide.Rulebook) {
			r.Directory.Accounts = append(r.Directory.Accounts,
				r.Directory.Accounts[0])
		}},
		{"an account whose name hides something", "format characters", func(r *decide.Rulebook) { r.Directory.Accounts[0].Name = "an\u200bn" }},
		{"a range without ends", "the zero Range has none", func(r *decide.Rulebook) {
			r.Directory.Networks = []directory.Network{{Name: "n", Ranges: []directory.Range{{}}}}
		}},
		{"a range in reverse", "ends before it begins", func(r *decide.Rulebook) {
			r.Directory.Networks = []directory.Network{{Name: "n", Ranges: []directory.Range{{From: netip.MustParseAddr("192.0.2.9"),
				To: netip.MustParseAddr("192.0.2.1")}}}}
		}},
		{"a country that there is not", `"UK" is no assigned ISO 3166-1 code`, func(r *decide.Rulebook) {
			r.Directory.Regions = []directory.Region{{Name: "isles", Countries: []directory.Country{"UK"}}}
		}},
		{"a signal twice", `signal "odd" is defined twice`, func(r *decide.Rulebook) {
			r.Risk.Signals = append(r.Risk.Signals,
				r.Risk.Signals[0])
		}},
		{"an exemption of nobody knows whom", "exemption x does not say whom it excuses", func(r *decide.Rulebook) {
			r.Exemptions = []decide.Exemption{{Name: "x", From: []string{"own"}}}
		}},
		{"a rollout without a day", "rollout x does not say from which day", func(r *decide.Rulebook) {
			r.Rollouts = []decide.Rollout{{Name: "x", Methods: []string{"push"}, Eases: []string{"held"}}}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := rulebook()
			c.set(&r)
			_, err := engine.Compile(r)
			require.ErrorContains(t, err, c.wrong)
			var problems directory.Problems
			require.ErrorAs(t, err, &problems)
			reported := 0
			engine.Check(&r, func(directory.Problem) { reported++ })
			require.Len(t, problems, reported, "Compile refuses with all that Check reports")
		})
	}
	r := rulebook()
	engine.Check(&r, func(p directory.Problem) { t.Errorf("a sound rulebook: %s", p) })
}
