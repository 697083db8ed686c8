package inspect_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/internal/synth"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// sound is a book in which no check finds anything.
const sound = `briskwarden: 1
settings: {zone: Europe/Oslo, administrators: {accounts: [ragna]}}
networks:
  pier: {ranges: [203.0.113.0/24, "2001:db8:51::/48"], ours: true, country: NO}
  yard: {ranges: [192.0.2.16/28, "2001:db8:53::/48"], country: PL}
methods: {text: {kind: possession, amr: [sms]}}
regions: {home: [NO, SE, PL]}
windows: {day: {from: "05:00", to: "23:00"}}
postures: {fit: {fresh: 24h, checks: [{fact: firewall, is: true}]}}
watch: {recipients: {duty: {mail: [duty@x.example]}}, alerts: [{name: blocked, when: {verdicts: [block]}, to: [duty]}],
  digests: [{name: daily, every: day, to: [duty]}]}
risk: {signals: [{name: listed, points: 50}, {name: refused, detect: proof-refused, points: 40}]}
assurances:
  password-once: {prove: [{any_of: [password], within: session}]}
  two-factors: {prove: [{any_of: [password], within: session}, {any_of: [push, otp-app, text], within: 12h, fallback: [recovery-code]}]}
  no-phishing: {prove: [{traits: [phishing_resistant]}]}
  new-password: {change_password: true}
  fit-device: {posture: fit}
  key-now: {prove: [{any_of: [certificate], within: now}]}
groups: [{name: crew}, {name: office}]
accounts:
  - {name: ragna, groups: [office], methods: [password, otp-app]}
  - {name: liv, groups: [crew], methods: [password, push]}
  - {name: per, groups: [crew], methods: [password, push, otp-app]}
  - {name: gauge, kind: service, methods: [certificate]}
  - {name: key, kind: emergency, methods: [security-key]}
devices: [{name: laptop, platform: linux, facts: {firewall: true}}]
apps: [{name: mail}, {name: till, tags: [cards], open_to: [office, crew]}]
policies:
  - {name: way-back-in, owner: ragna, stage: live, who: {kinds: [emergency]}, apps: every,
     rules: [{name: key, then: {require: [no-phishing]}}]}
  - name: baseline
    owner: ragna
    review_by: 2027-01-01
    stage: live
    who: {kinds: [person]}
    apps: {names: [mail, till]}
    rules:
      - {name: at-the-pier, when: {our_network: true, during: [day]}, then: {require: [password-once]}}
      - {name: elsewhere, then: {require: [two-factors]}, limits: {lasts: 12h}}
  - name: till
    owner: ragna
    stage: live
    who: {groups: [crew], except: {groups: [office]}}
    apps: {tags: [cards]}
    rules:
      - {name: abroad, when: {not: {countries: [home]}}, then: block}
      - {name: yard, when: {networks: [yard]}, then: block}
      - {name: doubtful, when: {risk_at_least: medium}, then: {require: [new-password, two-factors]}}
      - {name: open, then: {require: [fit-device]}}
  - {name: gauges, owner: ragna, stage: live, who: {kinds: [service]}, apps: {names: [mail]}, rules: [{name: in, then: {require: [key-now]}}]}
exemptions:
  - {name: gauge, who: {accounts: [gauge]}, from: [key-now], instead: [password-once], when: {our_network: true}, because: Slow., until: 2027-01-01}
scopes:
  harmless: {gravity: 1, scopes: [openid, tides.read]}
  grave: {gravity: 2, scopes: [offline_access, "mail.*"], lasting: true}
clients:
  - {name: tides, publisher: {title: Tidewise, domain: tidewise.example, vetted: true}, standing: approved}
  - {name: voyages, publisher: {title: Fjordscribe}, tags: [log]}
consent:
  reviewers: {accounts: [ragna, liv]}
  rules:
    - {name: vetted, when: {publisher_vetted: true, scopes_within: [harmless], resource: [own]}, then: allow}
    - {name: own-group, when: {owns_group: true, groups: [crew], scopes: [tides.read]}, then: allow}
    - {name: no-mail, when: {scopes: ["mail.*"], client_tags: [log]}, then: refuse}
    - {name: groups, when: {resource: [group]}, then: review}
rollouts:
  - {name: second, who: {groups: [crew]}, methods: [push, otp-app], eases: [two-factors], ask_by: 2026-11-20, enforced: 2026-12-01}
`

// fault is a change of the sound book, or several that ¦ parts, that makes a check find
// something; where nothing is wanted it is a change like a fault that the check lets pass.
type fault struct{ old, new, want string }

// faults has at least one fault for each check, by name.
var faults = map[string][]fault{
	"attribute-nobody-has": {
		{"{name: crew}, ", "{name: crew, where: {attributes: {teem: deck}}}, ", "No account has the attribute teem."},
		{"{name: crew}, ¦{name: liv,", "{name: crew, where: {attributes: {team: dekc}}}, ¦{name: liv, attributes: {team: deck},",
			"No account has the value dekc of team; some have deck."},
		{"{name: crew}, ¦{name: liv,", "{name: crew, where: {attributes: {team: bridge}}}, ¦{name: liv, attributes: {team: deck},", ""},
	},
	"device-word-nobody-bears": {
		{"when: {networks: [yard]}", "when: {device_tags: [bridge]}", "No registered device bears the tag bridge."},
		{"when: {networks: [yard]}", "when: {platforms: [linx]}", `No registered device has the platform linx; did you mean "linux"?`},
	},
	"odd-zone": {
		{"zone: Europe/Oslo", "zone: Etc/GMT+1", "The zone Etc/GMT+1 is not that of a place: it is 1 hour west of UTC all the year."},
		{`to: "23:00"}`, `to: "23:00", zone: EST}`, "The zone EST is not that of a place: it is 5 hours west of UTC all the year."},
	},
	"account-twice": {
		{
			"- {name: key, kind",
			"- {name: Liv, kind: person, methods: [password, push]}\n  - {name: key, kind",
			"Liv and liv differ in capitals alone.",
		},
	},
	"risk-reason-misspelt": {
		{"{name: liv, groups: [crew],", "{name: liv, account_risk: {level: high, because: leaked-pasword}, groups: [crew],",
			"The risk of liv is because of leaked-pasword, which no new password puts right."},
	},
	"service-locked-out": {
		{
			"kind: service, methods: [certificate]}",
			"kind: service, methods: [certificate]}\n  - {name: pump, kind: service, methods: [password]}",
			"The service account pump, with password, gets in at no app from 2026-11-23 on, from any address",
		},
		{"- {name: gauges, owner: ragna,", "- {name: gauges, until: 2027-01-31, owner: ragna,",
			"gets in at no app from 2027-02-01 on, from any address"},
	},
	"posture-of-machines": {
		{"rules: [{name: in, then: {require: [key-now]}}]}", "rules: [{name: in, then: {require: [key-now, fit-device]}}]}",
			"gauges / in asks for a fit device (fit-device), also of the service account gauge."},
	},
	"rollout-for-machines": {
		{"{name: second, who: {groups: [crew]},", "{name: second, who: anyone,", ""},
		{"from: [key-now], instead¦{name: second, who: {groups: [crew]}, methods: [push, otp-app], eases: [two-factors],",
			"from: [no-phishing], instead¦{name: second, who: anyone, methods: [push, otp-app, certificate], eases: [two-factors, key-now],",
			"second is for the service account gauge too."},
	},
	"imported-emergency-account": {
		{
			"rollouts:\n",
			"imports: [{name: people, file: people.csv, taken: 2026-11-20}]\nrollouts:\n",
			"The emergency account glass comes from an import.",
		},
	},
	"except-takes-nobody": {
		{"who: {kinds: [person]}", "who: {kinds: [person], except: {groups: [office], enrolled: [push]}}",
			"The `except` of baseline takes away nobody whom it is for."},
		{"who: {kinds: [person]}", "who: {kinds: [person], except: {groups: [office], enrolled: [otp-app]}}", ""},
	},
	"out-of-force": {
		{"review_by: 2027-01-01", "until: 2026-11-22", "baseline is live, and ended on 2026-11-22."},
		{"review_by: 2027-01-01", "from: 2072-11-22", "baseline is live, and begins on 2072-11-22."},
	},
	"app-open-to-nobody": {
		{
			"open_to: [office, crew]}]\n",
			"open_to: [office, crew, empty]}]\ngroups: [{name: empty}]\n",
			"till is open to empty, which has no members.",
		},
	},
	"public-and-guarded": {
		{"{name: till, tags: [cards],", "{name: till, public: true, tags: [cards],", "till is public, and baseline is aimed at it."},
		{"{name: till, tags: [cards],", "{name: times, public: true}, {name: till, tags: [cards],", ""},
	},
	"replaces-draft": {
		{
			"- {name: gauges, owner: ragna, stage: live,",
			"- {name: later, owner: ragna, stage: draft, since: 2026-11-20, who: {kinds: [service]}, " +
				"apps: every, rules: [{name: r, then: block}]}\n  - {name: gauges, replaces: [later], owner: ragna, stage: live,",
			"gauges replaces later, which is a draft.",
		},
	},
	"rollout-dates-reversed": {
		{"ask_by: 2026-11-20", "ask_by: 2026-12-20", "second: ask_by (2026-12-20) is after enforced (2026-12-01)."},
		{"ask_by: 2026-11-20", "opens: 2026-12-20, ask_by: 2026-11-20", "second: opens (2026-12-20) is after ask_by (2026-11-20)."},
	},
	"rollout-method-unmet": {
		{
			"methods: [push, otp-app], eases",
			"methods: [push, otp-app, passkey], eases",
			"second has people enrol passkey, which meets none of two-factors.",
		},
	},
	"future-date": {
		{"{name: liv, groups: [crew],", "{name: liv, password_changed_at: 2062-11-01T10:00:00Z, groups: [crew],",
			"The last change of the password of liv is 2062-11-01T10:00:00Z, which lies ahead."},
		{
			"{name: liv, groups: [crew],",
			"{name: liv, account_risk: {level: low, because: odd, since: 2027-11-01T10:00:00Z}, groups: [crew],",
			"The beginning of the risk of liv is",
		},
		{"platform: linux, facts: {firewall: true}}", "platform: linux, facts: {firewall: true}, reported_at: 2027-01-01T00:00:00Z}",
			"The last report of laptop is"},
		{"review_by: 2027-01-01", "since: 2027-01-01", "The day on which baseline came to its stage is"},
	},
	"night-only": {
		{
			`from: "05:00", to: "23:00"¦- {name: yard,`,
			`from: "23:00", to: "05:00"¦- {name: shut, when: {not: {during: [day]}}, then: block}` +
				"\n      - {name: yard,",
			"till / shut blocks outside day, which is open at night only (23:00-05:00).",
		},
		{`- {name: yard,`, "- {name: shut, when: {not: {during: [day]}}, then: block}\n      - {name: yard,", ""},
		{`from: "05:00", to: "23:00"`, `from: "23:00", to: "05:00"`, ""},
	},
	"second-factor-optional": {
		{
			"- {name: key, kind¦- {name: elsewhere, then",
			"- {name: bo, groups: [office], methods: [password]}\n  - {name: key, kind¦- {name: first, when: " +
				"{not: {enrolled: [push, otp-app]}}, then: {require: [password-once]}}\n      - {name: elsewhere, when: {enrolled: [push, " +
				"otp-app]}, then",
			"baseline asks at mail those who have enrolled something; bo, who has not, is let in with password alone.",
		},
		{"- {name: elsewhere, then", "- {name: elsewhere, when: {enrolled: [push, otp-app]}, then", ""},
	},
	"long-remembered": {
		{"within: 12h, fallback: [recovery-code]", "within: 12h, remember: 3650d, fallback: [recovery-code]",
			"For two-factors a device is remembered for 3650 days."},
	},
	"idle-outlasts-session": {
		{"limits: {lasts: 12h}", "limits: {lasts: 12h, idle: 24h}", "A session by baseline / elsewhere lasts 12h and may rest for 24h."},
		{
			"apps: [{name: mail}",
			"apps: [{name: mail, limits: {lasts: 1h, idle: 1h}}",
			"A session by the app mail lasts 1h and may rest for 1h.",
		},
	},
	"idle-exemption": {
		{
			"from: [key-now], instead",
			"from: [no-phishing], instead",
			"The exemption gauge excuses gauge from no-phishing, which nothing asks of them.",
		},
		{"who: {accounts: [gauge]}, from", "who: {accounts: [gauge], kinds: [person]}, from", "The exemption gauge is for nobody."},
		{"instead: [password-once], when: {our_network: true}", "instead: [password-once], when: {networks: [yard], our_network: true}",
			"The condition of the exemption gauge never holds any more."},
	},
	"own-network-hides": {
		{
			"ours: true, country: NO}",
			"ours: true, anonymous: true, country: NO}",
			"pier is one's own, and is said to hide where people come from.",
		},
	},
	"country-disagrees": {
		{
			"zone: Europe/Oslo,",
			"zone: Europe/Oslo, ip_database: places.mmdb,",
			"yard states PL, and its range 192.0.2.16/28 is in SE by places.mmdb.",
		},
	},
	"home-blocked": {
		{
			"    rules:\n      - {name: at-the-pier,",
			"    rules:\n      - {name: odd, when: {our_network: true}, then: block}\n      - {name: at-the-pier,",
			"ragna is blocked at mail from each own network at all hours, and granted from an address in no network.",
		},
	},
	"double-not": {
		{"{not: {countries: [home]}}", "{not: {not: {countries: [home]}}}", "says the same as without its two `not`s."},
	},
	"one-signal-is-high": {
		{"{name: listed, points: 50}", "{name: listed, points: 50}, {name: fresh, detect: new-device, points: 90}",
			"fresh (new-device) has 90 points, and high begins at"},
	},
	"unreached-value": {
		{"{name: yard, when: {networks: [yard]}, then: block}", "{name: yard, when: {countries: [SE, US]}, then: block}",
			"US in countries of till / yard never matters: abroad matches before it."},
	},
	"group-data-unasked": {
		{
			"scopes_within: [harmless], resource: [own]}",
			"scopes_within: [harmless]}",
			"The rule vetted allows what is asked of a group's data too.",
		},
	},
	"no-emergency-account": {
		{"kind: emergency, methods: [security-key]",
			"methods: [security-key]",
			"None of the 5 accounts is an emergency account"},
	},
	"weak-emergency-account": {
		{"methods: [security-key]",
			"methods: [password, otp-app]",
			"has enrolled password and otp-app, and nothing that resists phishing"},
	},
	"emergency-account-locked-out": {
		{"methods: [security-key]", "methods: [password, otp-app]",
			"The emergency account key, with password and otp-app, gets in at no app from 2026-11-23 on, whatever is proven."},
		{"- {name: way-back-in, owner: ragna,", "- {name: way-back-in, until: 2027-06-30, owner: ragna,", "from 2027-07-01 on"},
		{"who: {kinds: [emergency]}, apps: every,", "from: 2026-11-26, who: {kinds: [emergency]}, apps: every,", ""}, // not for a week
		{"who: {kinds: [emergency]}, apps: every,", "from: 2027-02-01, who: {kinds: [emergency]}, apps: every,",
			"from 2026-11-23 until 2027-02-01"},
	},
	"unnamed-emergency-account": {
		{"who: {kinds: [emergency]}",
			"who: {kinds: [person]}",
			"No live policy names the emergency account key"},
	},
	"everyday-emergency-account": {
		{"methods: [security-key]",
			"methods: [security-key], groups: [office]",
			"is in office, like an account for daily work"},
		{"name: laptop,",
			"name: laptop, owner: key,",
			"owns the device laptop"},
	},
	"no-administrators": {
		{", administrators: {accounts: [ragna]}",
			"",
			"The settings name no administrators."},
		{"administrators: {accounts: [ragna]}",
			"administrators: {domains: [nowhere]}",
			"are nobody"},
	},
	"administrator-locked-out": {
		{"- {name: at-the-pier, when: {our_network: true, during: [day]}, then",
			"- {name: shut, when: {not: {networks: [yard]}}, then: block}\n      - {name: at-the-pier, when: {our_network: true, during: [day]}, " +
				"then",
			"ragna is an administrator with password and otp-app, and gets in at no app from an own network from 2026-11-23 on, on no device"},
		{"ragna, groups: [office], methods: [password, otp-app]",
			"ragna, groups: [office], methods: [otp-app]",
			"ragna is an administrator with otp-app, and gets in at no app from an own network from 2026-11-23 on"},
		{"  - name: baseline\n", "  - name: baseline\n    until: 2027-03-31\n",
			"ragna is an administrator with password and otp-app, and gets in at no app from an own network from 2027-04-01 on"},
		{"  - name: baseline\n", "  - {name: refit, owner: ragna, stage: live, from: 2027-05-01, until: 2027-05-20, " +
			"who: {groups: [office]}, apps: every, rules: [{name: shut, then: block}]}\n  - name: baseline\n", "from 2027-05-01 until 2027-05-21"},
	},
	"aims-at-empty-group": {
		{"{groups: [crew], except: {groups: [office]}}",
			"{groups: [crew, empty]}\ngroups: [{name: empty}]",
			"till is aimed at the group empty, which has no members"},
	},
	"aims-at-nobody": {
		{"who: {groups: [crew], except: {groups: [office]}}", "who: {account_risk_at_least: medium}", ""},
		{"who: {groups: [crew], except: {groups: [office]}}", "who: {joined_within: 14d}", ""},
		{"{groups: [crew], except: {groups: [office]}}",
			"{domains: [example]}",
			"The `who` of till holds for none of the 5 accounts."},
		{"who: {kinds: [emergency]}",
			"who: {anyone: true, except: {kinds: [person, service]}}",
			"way-back-in"},
	},
	"aims-at-no-app": {
		{"apps: {tags: [cards]}",
			"apps: {tags: [crads]}",
			"The `apps` of till hold for none of the 2 apps."},
	},
	"uncovered-app": {
		{"apps: [{name: mail}",
			"apps: [{name: spare}, {name: mail}",
			"No live policy covers sign-ins at spare."},
	},
	"review-overdue": {
		{"review_by: 2027-01-01",
			"review_by: 2026-11-01",
			"baseline was to be looked at by 2026-11-01, 22 days ago."},
	},
	"no-owner": {
		{"owner: ragna, stage: live, who: {kinds: [service]}",
			"stage: live, who: {kinds: [service]}",
			"Nobody owns gauges."},
	},
	"accounts-unlisted": {
		{"zone: Europe/Oslo",
			"zone: Europe/Oslo, directory: outside",
			"that it names itself were looked at."},
	},
	"otherwise-grants": {
		{"zone: Europe/Oslo",
			"zone: Europe/Oslo, otherwise: grant",
			"`otherwise: grant` lets in"},
	},
	"told-to-nobody": {
		{"when: {verdicts: [block]}, to: [duty]", "when: {verdicts: [block]}", "The alert blocked names nobody in `to`."},
		{"every: day, to: [duty]", "every: day", "The digest daily names nobody in `to`."},
		{"duty: {mail: [duty@x.example]}", "duty: {}", "The alert blocked goes to duty, without a mail address or a web hook."},
		{"duty: {mail: [duty@x.example]}", "duty: {hook: \"https://x.example/warden\"}", ""},
	},
	"recipient-without-letters": {
		{
			"duty: {mail: [duty@x.example]}",
			"duty: {mail: [duty@x.example]}, office: {mail: [o@x.example]}",
			"No alert and no digest goes to office.",
		},
	},
	"unused-definition": {
		{"regions: {home: [NO, SE, PL]}",
			"regions: {home: [NO, SE, PL], far: [BR]}",
			"Nothing uses the region far."},
		{"windows: {day:",
			"windows: {night: {from: \"23:00\", to: \"05:00\"}, day:",
			"the window night"},
		{"groups: [{name: crew}",
			"groups: [{name: spare}, {name: crew}",
			"the group spare"},
	},
	"forgotten-stage": {
		{"name: gauges, owner: ragna, stage: live",
			"name: gauges, owner: ragna, stage: shadow, since: 2026-06-01",
			"gauges has been a shadow since 2026-06-01, for 175 days."},
	},
	"undated-stage": {
		{"name: gauges, owner: ragna, stage: live",
			"name: gauges, owner: ragna, stage: draft",
			"gauges is a draft, and does not say since when."},
	},
	"unreached-rule": {
		{"- {name: yard, when",
			"- {name: rest, then: block}\n      - {name: yard, when",
			"till / yard never speaks: whatever it would match, rest matches before it."},
		{"- {name: doubtful, when: {risk_at_least: medium}",
			"- {name: calm, when: {not: {score_at_least: 60}}, then: block}\n      - {name: calmer, when: {not: {score_at_least: 30}}",
			"till / calmer never speaks"},
		{"- {name: elsewhere,",
			"- {name: not-here, when: {any: [{during: [day]}, {not: {during: [day]}}]}, then: block}\n      - {name: elsewhere,",
			"baseline / elsewhere never speaks"},
		{"- {name: elsewhere,", // which speaks where no address is known
			"- {name: not-here, when: {any: [{our_network: false}, {not: {during: [day]}}]}, then: block}\n      - {name: elsewhere,", ""},
	},
	"impossible-rule": {
		{"when: {networks: [yard]}",
			"when: {networks: [yard], our_network: true}",
			"The condition of till / yard can never hold"},
		{"when: {networks: [yard]}",
			"when: {networks: [yard], countries: [SE]}",
			"till / yard"},
		{"when: {networks: [yard]}",
			"when: {groups: [office]}",
			"till / yard"},
		{"when: {networks: [yard]}",
			"when: {through: [browser], not: {through: [browser, native]}}",
			"till / yard"},
		{"when: {networks: [yard]}",
			"when: {device: [managed], not: {device: [managed, known]}}",
			"till / yard"},
		{"when: {risk_at_least: medium}",
			"when: {score_at_least: 91}",
			"till / doubtful"},
		{"when: {networks: [yard]}",
			"when: {during: [day], not: {during: [day]}}",
			"till / yard"},
	},
	"same-demand-twice": {
		{"- {name: open, then: {require: [fit-device]}}\n  - {name: gauges",
			"- {name: open, then: {require: [fit-device]}}\n  - {name: fitter, owner: ragna, stage: live, who: {accounts: [liv]}, apps: {names: " +
				"[till]}, rules: [{name: all, then: {require: [no-phishing]}}]}\n  - {name: all-fitter, owner: ragna, stage: live, who: {groups: " +
				"[crew]}, apps: {names: [till]}, rules: [{name: all, then: {require: [no-phishing]}}]}\n  - {name: gauges",
			"fitter asks for no-phishing, which all-fitter asks of the same accounts"},
	},
	"except-in-one-place": {
		{"who: {kinds: [service]}, apps: {names: [mail]}, rules: [{name: in",
			"who: {kinds: [service], except: {accounts: [gauge]}}, apps: {names: [mail]}, rules: [{name: in, then: {require: [key-now]}}]}\n  - " +
				"{name: more, owner: ragna, stage: live, who: {kinds: [service]}, apps: every, rules: [{name: in",
			"gauges excepts gauge, but more still asks key-now of them at mail."},
	},
	"always-silenced": {
		{"name: baseline\n",
			"name: baseline\n    replaces: [till]\n",
			"till never has its say: baseline silences it"},
	},
	"endless-exemption": {
		{"because: Slow., until: 2027-01-01",
			"because: Slow.",
			"The exemption gauge from key-now has no end."},
	},
	"ended-exemption": {
		{"because: Slow., until: 2027-01-01",
			"because: Slow., until: 2026-11-22",
			"ended on 2026-11-22, 1 day ago"},
	},
	"wide-exemption": {
		{"who: {accounts: [gauge]}, from",
			"who: anyone, from",
			"excuses 5 of 5 accounts from key-now"},
	},
	"loose-service-exemption": {
		{"when: {our_network: true}, because",
			"because",
			"wherever it signs on from"},
	},
	"exempt-still-asked": {
		{"[{name: in, then: {require: [key-now]}}]",
			"[{name: in, then: {require: [key-now, no-phishing]}}]",
			"gauge excuses gauge from key-now, but gauges / in asks for no-phishing, which wants the same methods."},
	},
	"ipv6-forgotten": {
		{`192.0.2.16/28, "2001:db8:53::/48"`,
			"192.0.2.16/28",
			"yard has IPv4 ranges only; till / yard asks for it"},
	},
	"overlapping-ranges": {
		{"192.0.2.16/28,",
			"192.0.2.16/28, 203.0.113.64/28,",
			"203.0.113.64/28 of yard lies across 203.0.113.0/24 of pier."},
		{"192.0.2.16/28,",
			"192.0.2.16/28, 192.0.2.20,",
			"Two ranges of yard overlap"},
	},
	"wide-range": {
		{"192.0.2.16/28",
			"192.0.0.0/8",
			"192.0.0.0/8 of yard holds a /8."},
		{"192.0.2.16/28",
			"64.0.0.0/6",
			"64.0.0.0/6 of yard holds a /6."},
		{`"2001:db8:53::/48"`,
			`"2600::/12"`,
			"holds a /12"},
	},
	"private-range": {
		{"192.0.2.16/28",
			"10.1.0.0/16",
			"10.1.0.0/16 of yard is not seen from outside."},
		{"192.0.2.16/28",
			"100.64.1.0/24",
			"100.64.1.0/24"},
	},
	"own-network-without-country": {
		{"ours: true, country: NO",
			"ours: true",
			"The own network pier does not say in which country it is."},
	},
	"reserved-country": {
		{"[NO, SE, PL]",
			"[NO, SE, PL, XK]",
			"The region home names XK"},
		{"country: PL",
			"country: XK",
			"The network yard states XK"},
	},
	"empty-window": {
		{`day: {from: "05:00", to: "23:00"}`,
			"day: {days: [sat], dates: [2027-01-04..2027-01-08]}",
			"None of the dates of day falls on one of its days"},
	},
	"past-window": {
		{`day: {from: "05:00", to: "23:00"}`,
			"day: {dates: [2026-01-01..2026-03-01]}",
			"day was open for the last time on 2026-03-01."},
	},
	"clock-change": {
		{`from: "05:00", to: "23:00"`,
			`from: "02:30", to: "23:00"`,
			"The edge 02:30 of day falls into the clock change of 2027-03-28"},
		{`from: "05:00", to: "23:00"`,
			`days: [sat], from: "22:00", to: "02:15"`,
			"The edge 02:15"},
	},
	"rollout-without-margin": {
		{"ask_by: 2026-11-20",
			"ask_by: 2026-11-28",
			"asks people by 2026-11-28 and is enforced on 2026-12-01, 3 days later"},
		{"ask_by: 2026-11-20, ",
			"",
			"does not say by when"},
	},
	"rollout-eases-nothing": {
		{"  fit-device: {posture: fit}¦then: {require: [fit-device]}¦eases: [two-factors]",
			"  fit-device: {posture: fit}\n  enrolled: {enrol: [push]}¦then: {require: [fit-device, enrolled]}¦eases: [enrolled]", ""},
		{"eases: [two-factors]",
			"eases: [no-phishing]",
			"none of its methods would meet"},
		{"who: {groups: [crew]}, methods",
			"who: {domains: [nowhere]}, methods",
			"asks of anybody: it is for nobody"},
	},
	"sms-for-administrators": {
		{"name: ragna, groups: [office], methods: [password, otp-app]}",
			"name: ragna, groups: [office], methods: [password, otp-app, text]}",
			"ragna is an administrator, and text counts for them."},
	},
	"demanded-method-barred": {
		{"methods: {text: {kind: possession, amr: [sms]}}",
			"methods: {text: {kind: possession, amr: [sms], barred_for: {accounts: [per]}}, push: {barred_for: {accounts: [per]}}, otp-app: " +
				"{barred_for: {accounts: [per]}}, recovery-code: {barred_for: {accounts: [per]}}}",
			"all that would meet it (otp-app, push, recovery-code and text) is barred for per."},
	},
	"demanded-method-unenrolled": {
		{"- {name: open, then: {require: [fit-device]}}",
			"- {name: open, then: {require: [no-phishing, fit-device]}}",
			"till / open asks for no-phishing, and none of those it is for has enrolled certificate, passkey and security-key."},
	},
	"lonely-password-change": {
		{"[new-password, two-factors]",
			"[new-password, password-once]",
			"till / doubtful asks for a changed password (new-password), and for nothing that is held."},
	},
	"weaker-fallback": {
		{"fallback: [recovery-code]",
			"fallback: [password]",
			"two-factors takes password in place of otp-app, push and text"},
	},
	"open-enrolment": {
		{"name: ragna, groups: [office], methods: [password, otp-app]",
			"name: ragna, groups: [office], methods: [password]",
			"ragna can enrol a method at mail with password alone, from anywhere; baseline/elsewhere lets it pass."},
		{"name: ragna, groups: [office], methods: [password, otp-app]¦  - name: baseline\n",
			"name: ragna, groups: [office], methods: [password]¦  - {name: guard, owner: ragna, stage: live, until: 2027-01-31, who: anyone, " +
				"apps: every, actions: [enrol], rules: [{name: away, when: {our_network: false}, then: block}, {name: near, then: grant}]}\n" +
				"  - name: baseline\n",
			"with password alone, from anywhere, from 2027-02-01 on; baseline/elsewhere lets it pass."},
	},
	"unpromptable-let-past": {
		{"- {name: elsewhere, then",
			"- {name: old-programs, when: {through: [unpromptable]}, then: {require: [password-once]}}\n      - {name: elsewhere, then",
			"ragna is let in to mail with password alone through an unpromptable program, and asked for more in a browser; baseline/old-programs " +
				"lets it pass."},
	},
	"limits-outlast-proofs": {
		{"limits: {lasts: 12h}",
			"limits: {lasts: 168h}",
			"A session by baseline / elsewhere lasts 168h, on a proof that two-factors asks for every 12h."},
	},
	"unreachable-level": {
		{"name: listed, points: 50",
			"name: listed, points: 10",
			"The level high begins at 80, and all signals together come to 50."},
	},
	"risk-in-two-places": {
		{"- {name: at-the-pier",
			"- {name: odd, when: {score_at_least: 30}, then: {require: [two-factors]}}\n      - {name: at-the-pier",
			"baseline asks for more from a score of 30, till from 40"},
	},
	"posture-without-fresh": {
		{"fit: {fresh: 24h, checks",
			"fit: {checks",
			"fit takes a report of any age."},
	},
	"posture-nobody-passes": {
		{"facts: {firewall: true}",
			"facts: {firewall: false}",
			"None of the 1 registered devices passes fit: laptop fails firewall."},
	},
	"consent-open-to-all": {
		{"when: {resource: [group]}, then: review",
			"when: {resource: [own]}, then: allow",
			"The rule groups allows whatever any program asks for."},
	},
	"group-owners-unrestricted": {
		{"owns_group: true, groups: [crew], scopes",
			"owns_group: true, scopes",
			"The rule own-group lets the owner of any group"},
		{"groups: [crew], scopes: [tides.read]",
			"groups: [crew]",
			"or for any scope"},
	},
	"lasting-scope-mild": {
		{"[openid, tides.read]",
			"[openid, tides.read], lasting: true",
			"The mildest tier, harmless"},
		{"[openid, tides.read]}\n  grave: {gravity: 2, scopes: [offline_access",
			"[openid, tides.read, \"offline*\"]}\n  grave: {gravity: 2, scopes: [directory.read",
			"The mildest tier, harmless"},
	},
	"approved-unvetted": {
		{"domain: tidewise.example, vetted: true",
			"domain: tidewise.example",
			"tides is approved, and nobody vetted its publisher."},
	},
	"many-scopes-few-users": {
		{"tags: [log]}",
			"tags: [log, logs]}",
			"voyages holds 6 scopes and is used by 2 accounts."},
	},
	"no-reviewer": {
		{"reviewers: {accounts: [ragna, liv]}",
			"own_requests: true",
			"Nobody may answer"},
		{"reviewers: {accounts: [ragna, liv]}",
			"reviewers: {domains: [nowhere]}",
			"Nobody may answer"},
	},
	"one-reviewer": {
		{"{accounts: [ragna, liv]}",
			"{accounts: [ragna]}",
			"One account alone may answer"},
	},
	"unreached-consent-rule": {
		{"{name: no-mail, when: {scopes: [\"mail.*\"], client_tags: [log]}",
			"{name: no-mail, when: {scopes: [\"mail.*\"], scopes_within: [harmless]}",
			"Nothing reaches the rule no-mail."},
		{"when: {resource: [group]}",
			"when: {resource: [own], owns_group: true}",
			"Nothing reaches the rule groups."},
		{"when: {resource: [group]}",
			"when: {clients: [tides], client_tags: [log]}",
			"Nothing reaches the rule groups."},
		{"when: {resource: [group]}",
			"when: {publisher_vetted: true, scopes: [openid], resource: [own]}",
			"Nothing reaches the rule groups."},
		{"when: {resource: [group]}",
			"when: {standing: [approved], not: {standing: [approved, unreviewed]}}",
			"Nothing reaches the rule groups."},
	},
	"unlisted-scope": {
		{"scopes: [\"mail.*\"], client_tags",
			"scopes: [\"mail.*\", chat.send], client_tags",
			"No tier lists chat.send, which the rule no-mail names."},
		{"tags: [log]}",
			"tags: [log, logs]}",
			"No tier lists chat.read, which voyages holds or asks for."},
	},
	"placeholder": {
		{"{name: mail}",
			"{name: mail, hosts: [mail.example.org/inbox]}",
			"The host mail.example.org/inbox of mail is for documentation."},
		{"{name: mail}",
			"{name: mail, hosts: [mail.fjordline.no]}",
			"The range 203.0.113.0/24 of the own network pier is for documentation."},
		{"{name: per, groups",
			"{name: ida@example.com, groups: [crew], methods: [password, push]}\n  - {name: per, groups",
			"The account ida@example.com is of a domain for documentation."},
	},
	"stale-import": {
		{"groups: [{name: crew}",
			"imports: [{name: hands, file: hands.csv, taken: 2026-08-01, methods: [password, push]}]\ngroups: [{name: crew}",
			"The import hands (hands.csv) is 114 days old, and 90 days is what it may be."},
		{"groups: [{name: crew}",
			"imports: [{name: hands, file: hands.csv, taken: 2026-11-01, fresh: 7d, methods: [password, push]}]\ngroups: [{name: crew}",
			"is 22 days old, and 7 days is"},
	},
	"skipped-in-import": {
		{"groups: [{name: crew}",
			"imports: [{name: hands, file: torn.csv, taken: 2026-11-20, methods: [password, push]}]\ngroups: [{name: crew}",
			"Of torn.csv something was left out in 1 place; the first is line 3"},
	},
	"accepted-in-vain": {
		{"groups: [{name: crew}",
			"accepted: [{name: \"wide-range:pier\", because: So., until: 2027-01-01}]\ngroups: [{name: crew}",
			"wide-range:pier is accepted, and does not occur."},
		{"groups: [{name: crew}",
			"accepted: [{name: \"wide-rage:pier\", because: So., until: 2027-01-01}]\ngroups: [{name: crew}",
			"is the finding of no check"},
	},
}

// opened opens a book that is one file, beside the files that it may import.
func opened(t require.TestingT, text string) *book.Book {
	b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(text)},
		"hands.csv": {Data: []byte("name,groups\nolav,crew\n")}, "torn.csv": {Data: []byte("name,groups\nolav,crew\nodd name,crew\n")},
		"people.csv":  {Data: []byte("name,kind,methods\nglass,emergency,security-key\n")},
		"places.mmdb": {Data: []byte("the yard is in Sweden")},
	}, book.WithDatabase(func([]byte) (directory.Locator, error) { return swedish{}, nil }))
	require.NoError(t, err)
	return b
}

// swedish knows that each address is in Sweden, but for those of the pier.
type swedish struct{}

func (swedish) Locate(_ context.Context, address netip.Addr) (directory.Whereabouts, error) {
	if netip.MustParsePrefix("192.0.2.0/24").Contains(address) {
		return directory.Whereabouts{Country: "SE"}, nil
	}
	return directory.Whereabouts{}, nil
}

func inspected(t require.TestingT, text string) *inspect.Report {
	// A record of consent stands beside the books that say so.
	var facts inspect.Options
	if strings.Contains(text, "tags: [log, logs]") {
		facts.Usage = map[string]consent.Usage{
			"voyages": {
				Holds: []string{"openid", "tides.read", "mail.a", "mail.b", "mail.c", "mail.d"},
				Wants: []string{"chat.read"},
				Users: 2,
			},
			"tides": {Holds: []string{"openid"}, Users: 1},
		}
	}
	r, err := inspect.InspectWith(context.Background(), opened(t, text), monday, facts)
	require.NoError(t, err)
	return r
}

func TestTheSoundBook(t *testing.T) {
	r := inspected(t, sound)
	require.Empty(t, r.Findings)
	require.Equal(t, r.Score.Possible, r.Score.Reached)
}

// TestAnyYear: the checks end in years that no file of clock changes lists, and on
// the last day of a leap year.
func TestAnyYear(t *testing.T) {
	for at, change := range map[string]string{"2037-12-17": "2038-03-28", "2040-01-15": "2040-03-25", "2040-12-31": "2041-03-31"} {
		t.Run(at, func(t *testing.T) {
			day, err := time.Parse(time.DateOnly, at)
			require.NoError(t, err)
			text := strings.Replace(sound, `from: "05:00", to: "23:00"`, `from: "02:30", to: "23:00"`, 1)
			r, err := inspect.Inspect(t.Context(), opened(t, text), day.Add(12*time.Hour))
			require.NoError(t, err)
			require.True(
				t,
				slices.ContainsFunc(
					r.Findings,
					func(f inspect.Finding) bool { return strings.Contains(f.Text, "clock change of "+change) },
				),
				"%v",
				r.Findings,
			)
		})
	}
}

func TestEachCheckFindsItsFault(t *testing.T) {
	for _, c := range inspect.Checks() {
		require.NotEmpty(t, faults[c.Name], "no faulty book for %s", c.Name)
		require.NotEmpty(t, c.Why+c.WayOut+c.Title)
	}
	for name, list := range faults {
		for _, f := range list {
			t.Run(name+"/"+f.want, func(t *testing.T) {
				text := f.in(t)
				r := inspected(t, text)
				if f.want == "" {
					require.False(
						t,
						slices.ContainsFunc(r.Findings, func(found inspect.Finding) bool { return found.Check == name }),
						"%s: %s",
						name,
						f.new,
					)
					return
				}
				i := slices.IndexFunc(
					r.Findings,
					func(found inspect.Finding) bool { return found.Check == name && strings.Contains(found.Text, f.want) },
				)
				require.GreaterOrEqual(t, i, 0, "%s: %q among %v", name, f.want, r.Findings)
				found := r.Findings[i]
				require.True(t, strings.HasPrefix(found.Name, name+":"))
				require.Less(t, r.Score.Reached, r.Score.Possible)
				if name != "no-administrators" && name != "no-emergency-account" && name != "accepted-in-vain" {
					require.True(t, found.At.IsValid(), name)
				}
				if name == "accepted-in-vain" {
					return
				}
				// Accepted, it costs nothing; its day over, it is open again.
				accept := func(until string) *inspect.Report {
					return inspected(t, text+fmt.Sprintf("\naccepted: [{name: %q, because: We know., until: %s}]\n", found.Name, until))
				}
				accepted := accept("2026-11-23")
				require.False(t, slices.ContainsFunc(accepted.Findings, func(f inspect.Finding) bool { return f.Name == found.Name }), name)
				require.Equal(t, "We know.", accepted.Accepted[0].Accepted.Because)
				ended := accept("2026-11-22")
				k := slices.IndexFunc(ended.Findings, func(f inspect.Finding) bool { return f.Name == found.Name })
				require.Contains(t, ended.Findings[k].Text, "It was accepted until 2026-11-22.")
			})
		}
	}
}

// TestPiecesToPaste: pasted as they are, they make the finding go away, and nothing worse
// comes of it.
func TestPiecesToPaste(t *testing.T) {
	pasted := map[string]bool{}
	for name, list := range faults {
		for _, f := range list {
			text := f.in(t)
			findings, before := inspected(t, text).Findings, map[string]bool{}
			for _, found := range findings {
				before[found.Name] = true
			}
			for _, found := range findings {
				if found.Paste == nil || found.Check != name {
					continue
				}
				t.Run(found.Name, func(t *testing.T) {
					pasted[name] = true
					files := fstest.MapFS{"book.yaml": {Data: []byte(text)}}
					if found.Paste.Into == "" {
						files["more.yaml"] = &fstest.MapFile{Data: []byte(found.Paste.YAML)}
					} else {
						files["book.yaml"] = &fstest.MapFile{Data: []byte(pasteInto(t, text, found.Paste))}
					}
					b, err := book.OpenFS(files, book.WithDatabase(func([]byte) (directory.Locator, error) { return swedish{}, nil }))
					require.NoError(t, err, found.Paste.YAML)
					after, err := inspect.Inspect(t.Context(), b, monday)
					require.NoError(t, err)
					for _, left := range after.Findings {
						require.NotEqual(t, found.Name, left.Name, "%s\n%s", left.Text, found.Paste.YAML)
						require.True(t, left.Severity < inspect.Error || before[left.Name], "%s\n%s", left.Text, found.Paste.YAML)
					}
				})
			}
		}
	}
	require.GreaterOrEqual(t, len(pasted), 10, "%v", pasted)
}

// pasteInto puts a line into a definition of a book, in the place of what stands under its
// key.
func pasteInto(t *testing.T, text string, p *inspect.Paste) string {
	key, _, _ := strings.Cut(p.YAML, ":")
	what, name, _ := strings.Cut(p.Into, " ")
	begins := map[string]string{"settings": "settings: {", "posture": name + ": {", "method": name + ": {"}[what]
	if begins == "" {
		begins = "{name: " + name + ","
	}
	if i := strings.Index(text, "- name: "+name+"\n"); i >= 0 && what == "policy" {
		rest := regexp.MustCompile(`(?m)^    `+key+`: .*\n`).ReplaceAllString(text[i:], "")
		return text[:i] + strings.Replace(rest, "\n", "\n    "+p.YAML+"\n", 1)
	}
	if what == "consent" {
		rest := regexp.MustCompile(`(?m)^  `+key+`: .*\n`).ReplaceAllString(text[strings.Index(text, "\nconsent:"):], "")
		return text[:strings.Index(text, "\nconsent:")] + strings.Replace(rest, "\nconsent:\n", "\nconsent:\n  "+p.YAML+"\n", 1)
	}
	from := max(0, strings.Index(text, "\n"+what+"s:"))
	i := from + strings.Index(text[from:], begins)
	require.GreaterOrEqual(t, i, from, "%s in\n%s", begins, text)
	end := i + strings.Index(text[i:], "\n")
	definition := regexp.MustCompile(` `+key+`: (\{[^{}]*\}|[^,{}]*)(,|}$)`).ReplaceAllString(text[i:end], "")
	return text[:i] + begins + " " + strings.TrimSuffix(p.YAML, ",") + "," + strings.TrimPrefix(definition, begins) + text[end:]
}

// in returns the sound book with the fault.
func (f *fault) in(t *testing.T) string {
	text := sound
	fresh := strings.Split(f.new, "¦")
	for i, old := range strings.Split(f.old, "¦") {
		require.Contains(t, text, old)
		text = strings.Replace(text, old, fresh[i], 1)
	}
	return merged(text)
}

// merged makes one section of two of the same name, so that a fault can add a
// definition where it stands.
func merged(text string) string {
	if strings.Count(text, "\ngroups: ") == 2 {
		text = strings.Replace(text, "\ngroups: [{name: empty}]", "", 1)
		text = strings.Replace(text, "\ngroups: [", "\ngroups: [{name: empty}, ", 1)
	}
	return text
}

// TestRulesThatAreSaidToBeSilentNeverSpeak holds the search for conditions that
// can hold against the decision, on generated books.
func TestRulesThatAreSaidToBeSilentNeverSpeak(t *testing.T) {
	said := 0
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		b, judge := synth.Open(chance, 8)
		r, err := inspect.Inspect(t.Context(), b, monday)
		require.NoError(t, err)
		silent := map[string]bool{}
		for _, f := range r.Findings {
			if f.Check == "unreached-rule" || f.Check == "impossible-rule" {
				_, rule, _ := strings.Cut(f.Name, ":")
				silent[rule] = true
				said++
			}
		}
		for range 200 {
			a := synth.Complete(chance, synth.Attempt(chance))
			if a.At.Before(monday) {
				a.At = monday.Add(time.Duration(chance.IntN(400*24)) * time.Hour) // windows of the past do not open again
			}
			for _, p := range judge.Decide(context.Background(), a).Policies {
				// A rule that depends on a missing fact is followed all the same.
				surely := p.Applies == condition.True &&
					!slices.ContainsFunc(p.Why, func(why string) bool { return strings.HasPrefix(why, "rule ") })
				require.False(t, surely && silent[p.Name+"/"+p.Rule], "%s/%s speaks at %s", p.Name, p.Rule, a.At)
			}
		}
	})
	require.Positive(t, said, "no book had a silent rule, so nothing was tested")
}

// TestSilentInAllThereIs: on tiny books just those rules are said to be silent that nothing, of all that can be tried, brings
// to speak.
func TestSilentInAllThereIs(t *testing.T) {
	said := 0
	for seed := range uint64(16) {
		b, judge := synth.Tiny(rand.New(rand.NewPCG(seed, 21)), 3).Open(rand.New(rand.NewPCG(seed, 22)))
		r, err := inspect.Inspect(t.Context(), b, synth.TinyDay)
		require.NoError(t, err)
		silent := append(about(r, "unreached-rule"), about(r, "impossible-rule")...)
		said += len(silent)
		for number, p := range judge.Policies() {
			var before []condition.Node
			for _, rule := range p.Rules {
				name := p.Name + "/" + rule.Name
				applies, speaks := false, false
				for a := range synth.Grid() {
					app, _ := judge.Directory().FindApp(a.App)
					if !slices.Contains(judge.Apps(number), app) || p.Actions != nil && !slices.Contains(p.Actions, a.Action) ||
						!judge.Fulfils(t.Context(), a, nil, []condition.Node{&condition.Not{Of: p.Who}}) {
						continue
					}
					applies = true
					if speaks = judge.Fulfils(t.Context(), a, []condition.Node{rule.When}, before); speaks {
						break
					}
				}
				if applies {
					require.Equal(t, !speaks, slices.Contains(silent, name), "%d: %s, %v", seed, name, p)
				}
				before = append(before, rule.When)
			}
		}
	}
	require.Greater(t, said, 5)
}

// An inspection that was ended says so, and reports nothing that would pass for the whole.
func TestAnInspectionIsEnded(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	for _, c := range inspect.Checks() {
		ctx, end := context.WithCancel(t.Context())
		whole := c.Run
		c.Run = func(in *inspect.Pass) {
			end()
			whole(in)
		}
		next := inspect.Check{Name: "next", Run: func(*inspect.Pass) { t.Error(c.Name, "is followed by another") }}
		r, err := inspect.InspectWith(ctx, b, monday, inspect.Options{Checks: []inspect.Check{c, next}})
		require.Nil(t, r, c.Name)
		require.ErrorIs(t, err, context.Canceled, c.Name)
	}
}

func TestTheFaultyDemo(t *testing.T) {
	right, err := demo.Open()
	require.NoError(t, err)
	wrong, err := book.OpenFS(demo.FaultyFiles(), book.WithDatabase(mmdb.Locator))
	require.NoError(t, err)
	before, err := inspect.Inspect(t.Context(), right, monday)
	require.NoError(t, err)
	after, err := inspect.Inspect(t.Context(), wrong, monday)
	require.NoError(t, err)
	after.Against(before)
	require.Len(t, demo.Faults(), 6)
	for _, fault := range demo.Faults() {
		require.Contains(t, after.Since.New, fault.Finding)
	}
	require.Greater(t, after.Since.Reached, after.Score.Reached)
	require.Empty(t, after.Since.Gone)
	require.Len(t, before.Accepted, 2)
}
