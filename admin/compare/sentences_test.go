package compare_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/admin/replay"
	"github.com/briskwarden/briskwarden/book"
)

// world is the older book; each case below edits it.
const world = `briskwarden: 1
settings: {zone: Europe/Oslo, otherwise: block}
networks:
  pier:  {ranges: [203.0.113.0/24], ours: true}
  relay: {ranges: [192.0.2.128/25], anonymous: true}
  yard:  {ranges: [192.0.2.0/27, 192.0.2.32/27], country: PL}
regions: {home: [NO, SE]}
windows: {day: {days: [mon, tue], from: "05:00", to: "23:00"}}
postures: {fit: {fresh: 24h, checks: [{fact: firewall, is: true, fix: Turn it on.}, {fact: patch_age_days, at_most: 30}]}}
methods:
  sms-code: {barred_for: {groups: [shore]}}
risk:
  levels: {low: 1, medium: 40, high: 80}
  signals: [{name: hidden, detect: anonymous-network, points: 60}, {name: fast, detect: travel, faster_than: 900, points: 80}]
assurances:
  once: {prove: [{any_of: [password], within: session}]}
  twice:
    acr: two
    prove: [{any_of: [push, otp-app], within: 12h, fallback: [sms-code], remember: 30d}]
  unused: {prove: [{any_of: [passkey], within: now}]}
  fit: {posture: fit}
  rules: {accept: {document: handbook, version: 3, every: 365d}}
groups: [{name: crew}, {name: office}, {name: shore}]
apps:
  - {name: till, tags: [cards], open_to: [office]}
  - {name: mail, hosts: [mail.example]}
accounts:
  - {name: ann, groups: [crew], methods: [password, push]}
  - {name: bo, groups: [office, crew], methods: [password]}
  - {name: cy, groups: [shore], methods: [password, security-key]}
  - {name: key, kind: emergency, methods: [security-key]}
devices: [{name: laptop, owner: ann, managed: true}]
clients: [{name: log, standing: approved}]
scopes: {mild: {gravity: 1, scopes: [openid]}}
consent: {rules: [{name: mild, when: {scopes_within: [mild]}, then: allow}, {name: rest, then: review}]}
policies:
  - {name: base, about: All., owner: shore, stage: live, who: anyone, apps: every,
     rules: [{name: pier, when: {our_network: true}, then: {require: [once]}}, {name: rest, then: {require: [twice]}}]}
  - name: till
    stage: live
    who: {groups: [office]}
    apps: {tags: [cards]}
    rules:
      - {name: night, when: {not: {during: [day]}}, then: block, say: Closed.}
      - {name: far, when: {countries: [home], except: {networks: [yard]}}, then: {require: [twice, fit]}, limits: {lasts: 4h}}
      - {name: odd, when: {risk_at_least: medium}, then: block}
      - {name: open, then: {require: [once]}}
  - {name: trial, stage: shadow, who: {groups: [crew]}, apps: every, rules: [{name: all, then: {require: [rules]}}]}
exemptions: [{name: bo-rests, who: {accounts: [bo]}, from: [twice], because: No phone., until: 2026-12-31}]
rollouts: [{name: phones, who: {groups: [crew]}, methods: [push], eases: [rules], opens: 2026-10-01, enforced: 2026-12-01}]
drills: [{name: d, expect: block, attempt: {at: 2026-11-23T13:10:00Z, account: nobody, app: mail}}]
`

// TestSentences: what each change of a book is told as, and what it does.
func TestSentences(t *testing.T) {
	older := open(t, world)
	for _, c := range []struct{ edit, want string }{
		// Policies.
		{"stage: shadow, who => stage: live, who", "policy trial: tightens: It was a shadow and is live."},
		{"stage: shadow, who => stage: shadow, live_for: {accounts: [ann]}, who",
			"policy trial: tightens: It is in force for 1 account more (ann)."},
		{"stage: live, who: anyone, apps: every,\n     rules: [{name: pier => stage: shadow, live_for: {groups: [crew]}, who: anyone, apps: every,\n     rules: [{name: pier",
			"policy base: either: It was live and is a shadow (in force for members of crew)."},
		{"stage: shadow, who => stage: draft, who", "policy trial: neither: It was a shadow and is a draft."},
		{"name: base, about: All., owner: shore, stage: live => name: base, about: All., owner: shore, stage: draft",
			"policy base: either: It was live and is a draft."},
		{"    who: {groups: [office]} => \u00a0   who: {groups: [office, crew]}",
			"policy till: tightens: It was for members of office and is for members of office or crew: 1 account more (ann)."},
		{"who: anyone, apps: every => who: {groups: [office, shore]}, apps: every",
			"policy base: either: It was for everyone and is for members of office or shore: 1 account fewer (ann)."},
		{"apps: {tags: [cards]} => apps: every", "policy till: tightens: It was at apps tagged cards and is at every app."},
		{"    apps: {tags: [cards]} => \u00a0   apps: {tags: [cards]}\n    replaces: [base]",
			"policy till: loosens: It silenced nothing and silences base."},
		{"    apps: {tags: [cards]} => \u00a0   apps: {tags: [cards]}\n    actions: [sign-in]",
			"policy till: loosens: It was for the actions of every kind and is for sign-in."},
		{"    apps: {tags: [cards]} => \u00a0   apps: {tags: [cards]}\n    until: 2026-12-31",
			"policy till: loosens: It was in force without an end and is until 2026-12-31."},
		{"    apps: {tags: [cards]} => \u00a0   apps: {tags: [cards]}\n    firm: true",
			"policy till: neither: No other policy can silence it any more."},
		{"owner: shore => owner: office", "policy base: neither: Its owner was shore and is office."},
		{"about: All. => about: Everyone.", "policy base: neither: What it is about is worded again."},
		{"  - {name: trial, => \u00a0 - {name: new, stage: live, who: anyone, apps: every, rules: [{name: r, then: block}]}\n  - {name: trial,",
			"policy new: tightens: It is new, live. It is for everyone, at every app."},
		{"  - {name: trial, stage: shadow, who: {groups: [crew]}, apps: every, rules: [{name: all, then: {require: [rules]}}]}\n => ",
			"policy trial: neither: It is gone; it was a shadow, for members of crew, at every app."},
		// Rules.
		{"      - {name: night, when: {not: {during: [day]}}, then: block, say: Closed.}\n => ",
			"policy till: loosens: Rule night is gone: where the time is outside day (mon, tue 05:00-23:00), they are blocked."},
		{"      - {name: open => \u00a0     - {name: shut, when: {our_network: true}, then: block}\n      - {name: open",
			"policy till: tightens: Rule shut is new: where they come from an own network, they are blocked."},
		{"then: {require: [once]}}\n  - {name: trial => then: {require: [once, twice]}}\n  - {name: trial",
			"policy till: tightens: Rule open: where it speaks, it was that they must meet once; now they must meet once and twice."},
		{"then: {require: [once]}}\n  - {name: trial => then: {require: [{one_of: [once, twice]}]}}\n  - {name: trial",
			"policy till: loosens: Rule open: where it speaks, it was that they must meet once; now they must meet either once or twice."},
		{"then: {require: [once]}}\n  - {name: trial => then: grant}\n  - {name: trial",
			"policy till: loosens: Rule open: where it speaks, it was that they must meet once; now they are let in with any one proof."},
		{"limits: {lasts: 4h} => limits: {lasts: 2h, shared: false}",
			"policy till: tightens: Rule far: the limits of its session were at most 4 hours and are at most 2 hours and with proofs made for " +
				"the app alone."},
		{"say: Closed. => say: Come back.", `policy till: neither: Rule night: what the person is told was "Closed." and is "Come back.".`},
		{"{risk_at_least: medium} => {risk_at_least: high}",
			"policy till: loosens: Rule odd: it spoke where the risk of the sign-on is at least medium, and speaks where the risk of the sign-on " +
				"is at least high."},
		{"{not: {during: [day]}} => {not: {during: [day]}, our_network: false}",
			"policy till: loosens: Rule night: it spoke where the time is outside day (mon, tue 05:00-23:00), and speaks where the time is " +
				"outside day (mon, tue 05:00-23:00) and they come from no own network."},
		{"{risk_at_least: medium} => {any: [{risk_at_least: medium}, {countries: [BR]}]}",
			"policy till: tightens: Rule odd: it spoke where the risk of the sign-on is at least medium, and speaks where the risk of the " +
				"sign-on is at least medium or they are in BR."},
		{"{not: {during: [day]}} => {not: {any: [{during: [day]}, {our_network: true}]}}",
			"policy till: loosens: Rule night: it spoke where the time is outside day (mon, tue 05:00-23:00), and speaks where the time is " +
				"outside day (mon, tue 05:00-23:00) and they come from no own network."},
		// What conditions name.
		{"ranges: [203.0.113.0/24] => ranges: [203.0.112.0/23]",
			"network pier: either: It reaches 203.0.112.0/24 besides. What depends on it: base / pier."},
		{"ranges: [203.0.113.0/24], ours: true => ranges: [203.0.113.0/24]",
			"network pier: either: It does not count as one's own any more. What depends on it: base / pier."},
		{"192.0.2.128/25], anonymous: true => 192.0.2.128/26], anonymous: true",
			"network relay: loosens: It does not reach 192.0.2.192/26 any more. What depends on it: till / odd."},
		{"country: PL => country: NO", `network yard: either: Its country was PL and is NO. What depends on it: till / far and till / odd.`},
		{"home: [NO, SE] => home: [NO]", "region home: either: It was NO and SE and is NO. What depends on it: till / far."},
		{"days: [mon, tue] => days: [mon]",
			"window day: tightens: It was mon, tue 05:00-23:00 and is mon 05:00-23:00. What depends on it: till / night."},
		{`to: "23:00"} => to: "23:30"}`,
			"window day: loosens: It was mon, tue 05:00-23:00 and is mon, tue 05:00-23:30. What depends on it: till / night."},
		{"{fact: firewall, is: true, fix: Turn it on.}, => ",
			"posture fit: loosens: It does not check any more that firewall is true. What depends on it: till / far."},
		{"at_most: 30} => at_most: 14}",
			"posture fit: tightens: It checked that patch_age_days is at most 30, and checks that it is at most 14. What depends on it: till / " +
				"far."},
		{"at_most: 30} => at_most: 30}, {fact: patch_age_days, at_least: 1}",
			"posture fit: tightens: It checks besides that patch_age_days is at least 1. What depends on it: till / far."},
		{"fix: Turn it on. => fix: Turn it on again.", ""},
		{"fresh: 24h => fresh: 12h", "posture fit: either: A report could be 24 hours old and can be 12 hours old. What depends on it: till " +
			"/ far."},
		{"signals: [ => signals: [{name: late, when: {during: [day]}, points: 5}, ",
			"risk: tightens: The signal late is new, with 5 points. What depends on it: till / odd."},
		{"fallback: [sms-code], remember: 30d}] => fallback: [sms-code], remember: 30d}, {any_of: [passkey]}]\n    posture: fit",
			"assurance twice: tightens: It asks besides for passkey proven in this session. Besides proofs it asked for nothing; now for a " +
				"device that passes fit. What depends on it: base / rest and till / far."},
		{"medium: 40 => medium: 61",
			"risk: loosens: The levels were low 1, medium 40, high 80 and are low 1, medium 61, high 80. What depends on it: till / odd."},
		{"medium: 40 => medium: 30", "risk: tightens: Rollouts ease nothing where the risk may be medium, so fewer attempts are eased."},
		{"anonymous-network, points: 60 => anonymous-network, points: 30",
			"risk: loosens: The signal hidden had 60 points and has 30. What depends on it: till / odd."},
		{"faster_than: 900 => faster_than: 500", "risk: tightens: The signal fast: its speed was 900 km/h and is 500 km/h. What depends on " +
			"it: till / odd."},
		// Assurances.
		{
			"any_of: [push, otp-app], within: 12h, fallback: [sms-code], remember: 30d => any_of: [push, otp-app], within: 12h, fallback: " +
				"[sms-code]",
			"assurance twice: tightens: Where it took otp-app or push: a device was remembered for 30 days and is for no time. What depends on " +
				"it: base / rest and till / far."},
		{"fallback: [sms-code], => fallback: [sms-code, recovery-code],",
			"assurance twice: loosens: Where it took otp-app or push: now recovery-code can stand in. What depends on it: base / rest and till / " +
				"far."},
		{"within: 12h => within: 4h",
			"assurance twice: tightens: Where it took otp-app or push: the proof was to be within 12h and is to be within 4h. What depends on " +
				"it: base / rest and till / far."},
		{"within: now}] => within: session}]",
			"assurance unused: neither: Where it took passkey: the proof was to be within now and is to be within session. Nothing in force " +
				"depends on it."},
		{"once: {prove: [{any_of: [password], within: session}]} => once: {prove: [{any_of: [password], within: session}, {any_of: [push]}]}",
			"assurance once: tightens: It asks besides for push proven in this session. What depends on it: base / pier and till / open."},
		{"acr: two => acr: three", "assurance twice: neither: Tokens stated two for it and state three. What depends on it: base / rest and " +
			"till / far."},
		// Exemptions and rollouts.
		{"until: 2026-12-31}] => until: 2027-12-31}]", "exemption bo-rests: loosens: It held until 2026-12-31 and holds until 2027-12-31."},
		{"accounts: [bo]}, from => accounts: [bo, ann]}, from",
			"exemption bo-rests: loosens: It was for bo and is for bo and ann: 1 account more (ann)."},
		{"from: [twice] => from: [twice, once]", "exemption bo-rests: loosens: It excused from twice and excuses from twice and once."},
		{"enforced: 2026-12-01 => enforced: 2026-11-01", "rollout phones: tightens: It was enforced from 2026-12-01 and is from 2026-11-01."},
		{"enforced: 2026-12-01 => enforced: 2026-12-01, newcomers: 30d",
			"rollout phones: loosens: The time of newcomers was not stated and is 30 days."},
		// Who and what there is.
		{"- {name: cy, => - {name: di}\n  - {name: cy,", "accounts: loosens: 1 account is new, and can sign on: di."},
		{"- {name: cy, => - {name: cy, disabled: true,", "accounts: tightens: 1 account is disabled: cy."},
		{"methods: [password, push] => methods: [password]", "accounts: either: 1 account is not enrolled with push any more: ann."},
		{"kind: emergency => kind: service",
			"accounts: either: The kind of 1 account was emergency and is service: key."},
		{"name: ann, groups: [crew] => name: ann, groups: [crew, office]", "app till: loosens: It is open to 1 account more: ann."},
		{"name: ann, groups: [crew] => name: ann, groups: [crew, office]", "policy till: tightens: It is for 1 account more (ann)."},
		{"name: ann, groups: [crew] => name: ann, groups: [crew, shore]", "accounts: tightens: 1 account is barred from sms-code besides: ann."},
		{"tags: [cards], open_to: [office] => tags: [cards], public: true", "app till: loosens: It is public now: where no policy asks for " +
			"anything, it opens without any proof."},
		{"hosts: [mail.example] => hosts: [post.example]", "app mail: tightens: What comes in by mail.example was of mail, and is of no app."},
		{"{name: laptop, owner: ann, managed: true} => {name: laptop, owner: ann}",
			"devices: either: 1 device is not managed any more: laptop."},
		// The rest.
		{"otherwise: block => otherwise: grant",
			"settings: loosens: Where no live policy surely speaks, it was that they are blocked; now they are let in with any one proof."},
		{"zone: Europe/Oslo => zone: Europe/Warsaw", "settings: either: The zone was Europe/Oslo and is Europe/Warsaw."},
		{"barred_for: {groups: [shore]} => barred_for: {groups: [crew]}", "method sms-code: either: It was barred for members of shore and " +
			"is for members of crew."},
		{"then: allow => then: review", "consent: tightens: Rule mild said allow and says review."},
		{"standing: approved => standing: barred", "client log: either: Its standing was approved and is barred."},
		{"settings: {zone => settings: {directory: outside, zone", "settings: loosens: Accounts that the book does not list can be supplied " +
			"now."},
		{"settings: {zone => settings: {share_key: gale, zone", "settings: neither: The key of shares is another: other accounts fall into " +
			"each " +
			"share."},
		{"consent: {rules: => consent: {own_requests: true, rules:", "consent: loosens: A reviewer may answer her own requests now."},
		{"consent: {rules: => consent: {reviewers: {groups: [shore]}, rules:", "consent: either: Its reviewers were nobody and are members " +
			"of shore."},
		{"gravity: 1, scopes: [openid] => gravity: 2, scopes: [openid]", "tier mild: either: Its gravity was 1 and is 2."},
		{"{name: laptop, owner: ann, managed: true} => {name: laptop, owner: bo, managed: true, facts: {firewall: true}}",
			"devices: either: The owner of 1 device was ann and is bo: laptop."},
		{"drills: [{name: d, expect: block => drills: [{name: d, expect: grant", "drills: neither: 1 drill is changed: d."},
		// New and gone, and what is left.
		{"networks:\n => networks:\n  quay: {ranges: [198.51.100.0/24]}\n", "network quay: neither: It is new. Nothing in force depends on it."},
		{"windows: {day: => windows: {week: {days: [sat]}, day:", "window week: neither: It is new. Nothing in force depends on it."},
		{"  unused: {prove: [{any_of: [passkey], within: now}]}\n => ", "assurance unused: neither: It is gone. Nothing in force depends on it."},
		{"postures: {fit: => postures: {hale: {checks: [{fact: disk, is: true}]}, fit:",
			"posture hale: neither: It is new. Nothing in force depends on it."},
		{"{fact: patch_age_days, at_most: 30}] => {fact: patch_age_days, at_most: 30}, {fact: disk, is: true}]",
			"posture fit: tightens: It checks besides that disk is true. What depends on it: till / far."},
		{"methods:\n => methods:\n  card: {kind: possession}\n", "method card: either: It is new: possession."},
		{
			"  sms-code: {barred_for: {groups: [shore]}} => \u00a0 sms-code: {kind: possession, traits: [device_bound], barred_for: {groups: " +
				"[shore]}}", "method sms-code: either: Its traits were out_of_band and are device_bound and out_of_band."},
		{"signals: [ => signals: [{name: new, detect: new-device, points: 10}, ",
			"risk: tightens: The signal new is new, with 10 points. What depends on it: till / odd."},
		{"{name: hidden, detect: anonymous-network, points: 60}, => ",
			"risk: loosens: The signal hidden is gone; it had 60 points. What depends on it: till / odd."},
		{"{name: crew}, => {name: crew}, {name: deck, members: [ann]},", "group deck: neither: It is new, with 1 account more (ann)."},
		{"{name: crew}, => {name: crew, members: [cy]},",
			"group crew: neither: It has 1 account more (cy), which is told with the policies and apps that it touches."},
		{"{name: office}, => {name: office, owners: [bo]},",
			"group office: either: Its owners were nobody and are bo, and rules on consent may ask who owns it."},
		{"stage: live, who: anyone => stage: live, since: 2026-11-01, who: anyone",
			"policy base: neither: The day on which it came to its stage was not stated and is 2026-11-01."},
		{"stage: live, who: anyone => stage: live, review_by: 2027-01-01, who: anyone",
			"policy base: neither: The day to look at it again was not stated and is 2027-01-01."},
		{"  - {name: mail, hosts: [mail.example]}\n => ", "app mail: tightens: It is gone; nobody can open it any more."},
		{"apps:\n => apps:\n  - {name: post}\n", "app post: loosens: It is new."},
		{"tags: [cards], open_to: [office] => tags: [cards, money], open_to: [office]",
			"app till: neither: Its tags were cards and are cards and money; what that does is told with the policies."},
		{"tags: [cards], open_to: [office] => tags: [money], open_to: [office]",
			"policy till: loosens: It is at other apps, since their tags changed."},
		{"tags: [cards], open_to: [office] => tags: [cards], open_to: [office], limits: {idle: 15m}",
			"app till: tightens: The limits of its sessions were nothing and are at rest for 15 minutes."},
		{"tags: [cards], open_to: [office] => tags: [cards], open_to: [crew]", "app till: loosens: It is open to 1 account more: ann."},
		{"  - {name: key, kind: emergency, methods: [security-key]}\n => ", "accounts: tightens: 1 account is gone, and cannot sign on: key."},
		{"devices: [ => devices: [{name: tablet}, ", "devices: either: 1 device is known besides: tablet."},
		{"devices: [{name: laptop, owner: ann, managed: true}]\n => ", "devices: either: 1 device is not known any more: laptop."},
		{"clients: [{name: log => clients: [{name: swap}, {name: log", "client swap: either: It is new; it is unreviewed."},
		{"clients: [{name: log, standing: approved}]\n => ", "client log: either: It is gone; it was approved."},
		{"{name: log, standing: approved} => {name: log, standing: approved, tags: [crew]}", "client log: either: Its tags were none and " +
			"are crew."},
		{"scopes: [openid] => scopes: [openid, profile]", "tier mild: either: Its scopes were openid and are openid and profile."},
		{", {name: rest, then: review}] => , {name: odd, when: {clients: [log]}, then: refuse}, {name: rest, then: review}]",
			"consent: either: Rule odd is new: where the program is log, refuse."},
		{"{name: mild, when: {scopes_within: [mild]}, then: allow}, => ",
			"consent: either: Rule mild is gone: where the scope is mild or milder, allow."},
		{"consent: {rules: => consent: {lasts: 30d, own_requests: true, rules:", "consent: either: An approval held as long as nobody " +
			"withdraws it and holds 30 days."},
		// Rules in another order, and the outcomes of exemptions and rollouts.
		{
			"[{name: pier, when: {our_network: true}, then: {require: [once]}}, {name: rest, then: {require: [twice]}}] => [{name: rest, when: " +
				"{countries: [NO]}, then: {require: [twice]}}, {name: pier, when: {our_network: true}, then: {require: [once]}}]",
			"policy base: either: Rule rest comes before pier now, and speaks where both match."},
		{"from: [twice], because => from: [twice], instead: [once], because",
			"exemption bo-rests: tightens: It asked for nothing instead, and asks for once."},
		{"from: [twice], because => from: [twice], when: {our_network: true}, because",
			"exemption bo-rests: tightens: It held in every case, and holds where they come from an own network."},
		{"exemptions: [ => exemptions: [{name: ann-rests, who: {accounts: [ann]}, from: [twice], because: New.}, ",
			"exemption ann-rests: loosens: It is new: ann need not meet twice without an end."},
		{"exemptions: [{name: bo-rests, who: {accounts: [bo]}, from: [twice], because: No phone., until: 2026-12-31}]\n => ",
			"exemption bo-rests: tightens: It is gone: bo must meet twice again. It held until 2026-12-31."},
		{"because: No phone. => because: Lost phone.", `exemption bo-rests: neither: The reason was "No phone." and is "Lost phone.".`},
		{"methods: [push], eases => methods: [push, otp-app], eases", "rollout phones: loosens: Its methods were push and are push and otp-app."},
		{"eases: [rules] => eases: [rules, twice]", "rollout phones: loosens: It eased rules and eases rules and twice."},
		{"opens: 2026-10-01 => opens: 2026-11-01", "rollout phones: neither: The day on which it opens was 2026-10-01 and is 2026-11-01."},
		{"rollouts: [{name: phones, who: {groups: [crew]}, methods: [push], eases: [rules], opens: 2026-10-01, enforced: 2026-12-01}]\n => ",
			"rollout phones: tightens: It is gone: members of crew are held to rules at once."},
		{"version: 3, every: 365d => version: 4, every: 365d",
			"assurance rules: neither: Besides proofs it asked for version 3 of handbook accepted, again every 365 days; now for version 4 of " +
				"handbook accepted, again every 365 days. Nothing in force depends on it."},
		{"  fit: {posture: fit}\n => \u00a0 fit: {posture: fit, external: yard}\n",
			"assurance fit: tightens: Besides proofs it asked for a device that passes fit; now for a device that passes fit; and the outside " +
				"check yard passed. What depends on it: till / far."},
		// What changes nothing is no loosening: findings F7 and F9.
		{"regions: {home: [NO, SE]} => regions: {home: [SE, NO]}", ""},
		{"[192.0.2.0/27, 192.0.2.32/27] => [192.0.2.32/27, 192.0.2.0/27]", ""},
		{"patch_age_days, at_most: 30}] => patch_age_days, at_most: 30, fix: Patch it.}]", ""},
		{"{name: ann, groups: [crew], methods: [password, push]} => {name: ann, groups: [crew], methods: [push, password]}", ""},
		{"when: {scopes_within: [mild]}, then: allow => when: {all: [{scopes_within: [mild]}]}, then: allow", ""},
		{"groups: [{name: crew}, => groups: [{name: crew, where: {kinds: [service]}},",
			"group crew: neither: Its condition was none and is service accounts; its members are the same today."},
		{"name: trial, stage: shadow, who: {groups: [crew]} => name: trial, stage: shadow, live_for: {groups: [office, shore]}, who: " +
			"{groups: [crew]}",
			"policy trial: tightens: It is in force for 1 account more (bo)."},
		{"exemptions: [ => exemptions: [{name: ann-rests, who: {accounts: [ann]}, from: [twice], when: {our_network: true}, instead: [once], " +
			"because: New., until: 2026-12-01}, ",
			"exemption ann-rests: either: It is new: ann need not meet twice until 2026-12-01, where they come from an own network; once in " +
				"place of that."},
		{"then: block, say: Closed. => then: block", `policy till: neither: Rule night: what the person is told was "Closed." and is nothing.`},
		// Directions: finding F8.
		{"{fact: firewall, is: true, fix: Turn it on.} => {fact: firewall, in: [true, managed], fix: Turn it on.}",
			"posture fit: loosens: It checked that firewall is true, and checks that it is one of true, managed. What depends on it: till / far."},
		{"at_most: 30} => at_most: 120}",
			"posture fit: loosens: It checked that patch_age_days is at most 30, and checks that it is at most 120. What depends on it: till / " +
				"far."},
		{`from: "05:00", to: "23:00" => from: "05:00", to: "02:00"`,
			"window day: loosens: It was mon, tue 05:00-23:00 and is mon, tue 05:00-02:00. What depends on it: till / night."},
		{"fresh: 24h, checks => checks",
			"posture fit: either: A report could be 24 hours old and can be of any age. What depends on it: till / far."},
		{"methods: [password]}\n  - {name: cy => methods: [password, passkey]}\n  - {name: cy",
			"accounts: loosens: 1 account is enrolled with passkey besides: bo."},
		{"methods:\n  sms-code: {barred_for: {groups: [shore]}}\nrisk => methods:\n  push: {barred_for: {groups: [shore]}}\nrisk",
			"method push: either: It was barred for nobody and is for members of shore."},
		{"# => ", ""},
	} {
		t.Run(c.edit, func(t *testing.T) {
			was, is, _ := strings.Cut(c.edit, " => ")
			is = strings.Replace(is, "\u00a0", " ", 1)
			require.Contains(t, world+"#", was)
			newer := open(t, strings.Replace(world, was, is, 1))
			r, err := compare.Books(older, newer, time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC))
			require.NoError(t, err)
			var told []string
			for _, changed := range r.Changed {
				for _, change := range changed.Changes {
					told = append(told, changed.Title()+": "+change.Effect.String()+": "+change.Text)
				}
			}
			if c.want == "" {
				require.Empty(t, told)
				return
			}
			assert.Contains(t, told, c.want, "%s", c.edit)
		})
	}
}

func open(t *testing.T, text string) *book.Book {
	b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(text)}})
	require.NoError(t, err)
	return b
}

// TestWhatHappens: each thing that can happen to an account is told where it does,
// and nowhere else.
func TestWhatHappens(t *testing.T) {
	attempts := func(one string, n int) string {
		var lines strings.Builder
		for i := range n {
			fmt.Fprintf(&lines, `{"at": "2026-11-23T13:%02d:00Z", %s}`+"\n", i, one)
		}
		return lines.String()
	}
	const ann, bo, cy = `"account": "ann", "app": "mail", "ip": "203.0.113.9", "proofs": [{"method": "password"}]`,
		`"account": "bo", "app": "till", "ip": "203.0.113.9", "country": "PL", "previous": null, "proofs": [{"method": "password"}, ` +
			`{"method": "push"}]`,
		`"account": "cy", "app": "mail", "ip": "203.0.113.9", "through": "unattended", "proofs": [{"method": "password"}]`
	for _, c := range []struct {
		name, edit, history string
		want                []string
		locksOut            bool
	}{
		{"nothing", "about: All. => about: Everyone.", attempts(ann, 3), nil, false},
		{"asked", "ranges: [203.0.113.0/24] => ranges: [203.0.113.0/29]", attempts(ann, 3), []string{"newly asked 3 1 ann (3)"}, false},
		{"no method", "ranges: [203.0.113.0/24], ours: true => ranges: [203.0.113.0/29], ours: true", attempts(strings.Replace(ann, "ann", "cy",
			1), 2),
			[]string{"locked out 2 1 cy at mail (2)", "no method to answer with 2 1 cy (2)", "newly asked 2 1 cy (2)"}, true},
		{"unattended", "ranges: [203.0.113.0/24] => ranges: [203.0.113.0/29]", attempts(cy, 2),
			[]string{"locked out 2 1 cy at mail (2)", "unattended, and breaks 2 1 cy (2)", "newly blocked 2 1 cy (2)"}, true},
		{"let in", "name: ann, groups: [crew] => name: ann, groups: [crew, office]", attempts(strings.Replace(strings.Replace(bo, "bo", "ann", 1),
			`"till"`, `"till", "action": "sign-in"`, 1), 2),
			[]string{"newly let in 2 1 ann (2)"}, false},
		{"spared", "ranges: [203.0.113.0/24] => ranges: [203.0.113.0/24, 198.51.100.0/24]", attempts(strings.Replace(ann, "203.0.113.9",
			"198.51.100.9", 1), 4), []string{"not asked any more 4 1 ann (4)"}, false},
		{"one of two ways", "then: {require: [once]}}, {name: rest => then: block}, {name: rest", attempts(ann, 2) + attempts(strings.Replace(ann,
			"203.0.113.9", "198.51.100.9", 1), 1),
			[]string{"newly blocked 2 1 ann (2)"}, false},
		{"who gets in another way is not locked out", "ranges: [203.0.113.0/24] => ranges: [198.51.100.0/24]",
			attempts(strings.Replace(ann, "ann", "cy", 1), 2) +
				attempts(strings.Replace(strings.Replace(ann, "ann", "cy", 1), "203.0.113.9", "198.51.100.9", 1), 1),
			[]string{"no method to answer with 2 1 cy (2)", "newly asked 2 1 cy (2)", "not asked any more 1 1 cy (1)"}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			was, is, _ := strings.Cut(c.edit, " => ")
			require.Contains(t, world, was)
			older, newer := open(t, world), open(t, strings.Replace(world, was, is, 1))
			r, err := compare.Books(older, newer, time.Date(2026, time.November, 23, 12, 0, 0, 0, time.UTC))
			require.NoError(t, err)
			source := replay.Source{
				Name: "h",
				Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(c.history)), nil },
			}
			require.NoError(t, r.AddHistory(context.Background(), []replay.Source{source}, replay.Options{}))
			var told []string
			for _, x := range r.History.Happenings() {
				told = append(told, fmt.Sprintf("%s %d %d %s", x.Title, x.Attempts, x.Accounts, x.Most[0]))
				require.NotEmpty(t, x.Examples)
				require.Equal(t, x.Most[0].Account, x.Examples[0].Attempt.Account)
			}
			assert.Equal(t, c.want, told, c.name)
			assert.Equal(t, c.locksOut, r.HoldTo([]string{compare.LockedOutGate}), c.name)
		})
	}
}

// TestWhatHangsOnASignal: a definition that only the condition of a signal names is told
// with the rules that ask for risk.
func TestWhatHangsOnASignal(t *testing.T) {
	const signal = "signals: [{name: late, when: {during: [dusk]}, points: 50}, "
	text := strings.Replace(
		strings.Replace(world, "signals: [", signal, 1),
		"windows: {",
		`windows: {dusk: {from: "20:00", to: "22:00"}, `,
		1,
	)
	r, err := compare.Books(open(t, text), open(t, strings.Replace(text, `to: "22:00"`, `to: "23:00"`, 1)), monday)
	require.NoError(t, err)
	told := map[string]string{}
	for _, c := range r.Changed {
		told[c.Title()] = c.Effect.String() + ": " + c.Changes[0].Text
	}
	require.Equal(t, map[string]string{
		"risk":        "tightens: Rollouts ease nothing where the risk may be medium, so fewer attempts are eased.",
		"window dusk": "tightens: It was 20:00-22:00 and is 20:00-23:00. What depends on it: till / odd.",
	}, told)
}

// TestSummaries: the first line of a comparison.
func TestSummaries(t *testing.T) {
	older := open(t, world)
	for edit, want := range map[string]string{
		" => ":          "The books are the same.",
		"\n => \n# a\n": "The books differ in comments, order or descriptions only.",
		"regions: {home: [NO, SE]}\nwindows => regions: {home: [SE, NO]}\nwindows": "The books differ in comments, order or descriptions only.",
		"about: All. => about: Everyone.":                                          "The books differ in 1 definition: 1 without effect.",
		"until: 2026-12-31}] => until: 2027-12-31}]":                               "The books differ in 1 definition: 1 loosening.",
		"zone: Europe/Oslo => zone: Europe/Warsaw":                                 "The books differ in 1 definition: 1 that may do either.",
		"owner: shore => owner: office, firm: true":                                "The books differ in 1 definition: 1 without effect.",
		"medium: 40 => medium: 61":                                                 "The books differ in 1 definition: 1 loosening.",
	} {
		t.Run(edit, func(t *testing.T) {
			was, is, _ := strings.Cut(edit, " => ")
			r, err := compare.Books(older, open(t, strings.Replace(world, was, is, 1)), monday)
			require.NoError(t, err)
			assert.Equal(t, want, r.Summary(), edit)
			assert.Equal(
				t,
				strings.Contains(want, "loosening") || strings.Contains(want, "either"),
				r.HoldTo([]string{compare.LoosenedGate}),
				edit,
			)
			loosened := r.Gates[0]
			assert.False(t, r.Unjudged())
			assert.True(t, r.HoldTo([]string{"loosened", "locked-out", "none"}), "what cannot be judged is shut")
			assert.Equal(t, []compare.Gate{
				loosened,
				{Name: "locked-out", Shut: true, Unjudged: "it is judged by a history, and there is none"},
				{Name: "none", Shut: true, Unjudged: "there is no gate of this name"},
			}, r.Gates)
			assert.True(t, r.Unjudged())
			assert.Contains(t, r.Markdown(), "Gate `loosened`: ")
			for _, c := range r.Changed {
				assert.NotEmpty(t, c.Changes)
				assert.True(t, c.At.IsValid() || c.Name == "", c.Title())
			}
		})
	}
}

// TestLongSummaries: a pull request is not flooded.
func TestLongSummaries(t *testing.T) {
	var groups strings.Builder
	for i := range 80 {
		fmt.Fprintf(&groups, "{name: team-%d}, ", i)
	}
	r, err := compare.Books(
		open(t, world),
		open(t, strings.Replace(world, "groups: [{name: crew}", "groups: ["+groups.String()+"{name: crew}", 1)),
		monday,
	)
	require.NoError(t, err)
	require.Len(t, r.Changed, 80)
	require.Equal(t, 50, strings.Count(r.Markdown(), "### "))
	require.Contains(t, r.Markdown(), "… and 30 definitions more, which `--json` has.")
}

// TestASourceThatFails: what was read before it is told, with the error.
func TestASourceThatFails(t *testing.T) {
	b := open(t, world)
	r, err := compare.Books(b, b, monday)
	require.NoError(t, err)
	good := replay.Source{Name: "good", Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(`{"at": "2026-11-23T13:00:00Z", "account": "ann", "app": "mail"}` + "\n{}\n")), nil
	}}
	gone := replay.Source{Name: "gone", Open: func() (io.ReadCloser, error) { return nil, errors.New("no such file") }}
	require.ErrorContains(t, r.AddHistory(context.Background(), []replay.Source{good, gone}, replay.Options{}), "gone: no such file")
	require.Equal(t, []int64{1, 1}, []int64{r.History.Attempts, r.History.BadAll})
	require.Contains(t, r.Markdown(), "**Nothing can be concluded from the history**: it could not be read to the end: gone: no such file.")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.NoError(t, r.AddHistory(ctx, []replay.Source{good}, replay.Options{}))
	require.True(t, r.History.Cut)
	require.Contains(t, r.Markdown(), "it was interrupted before the end")
}

// TestAddressesThatAnotherAppTakesOver: an app that goes or comes may leave its addresses to
// a milder one, so that what was blocked is granted.
func TestAddressesThatAnotherAppTakesOver(t *testing.T) {
	const plant = "{name: plant, hosts: [plant.example], known_as: [\"urn:plant\"]}"
	const tanks = "{name: tanks, tags: [cards], open_to: [office], hosts: [\"plant.example/tanks/*\", \"*.tanks.example\"]}"
	with := func(apps ...string) *book.Book {
		text := world
		for _, app := range apps {
			text = strings.Replace(text, "accounts:\n", "  - "+app+"\naccounts:\n", 1)
		}
		return open(t, text)
	}
	moved := strings.Replace(plant, "[plant.example]", "[plant.example, \"*.tanks.example\"]", 1)
	for name, c := range map[string]struct {
		was, is *book.Book
		want    map[string]string
	}{
		"it goes": {with(plant, tanks), with(plant), map[string]string{
			"app tanks": "either: It is gone, and others take over what was its: plant.example/tanks/* was of tanks and is of plant."}},
		"it comes": {with(plant), with(plant, tanks), map[string]string{
			"app tanks": "either: It is new, and takes over what was another's: plant.example/tanks/* was of plant and is of tanks."}},
		"it goes, and nothing takes over": {with(tanks), with(),
			map[string]string{"app tanks": "tightens: It is gone; nobody can open it any more."}},
		"a host changes hands": {with(plant, tanks), with(moved, strings.Replace(tanks, ", \"*.tanks.example\"", "", 1)), map[string]string{
			"app plant": "either: What comes in by *.tanks.example was of tanks, and is of plant.",
			"app tanks": "either: What comes in by *.tanks.example was of tanks, and is of plant."}},
		"an identifier more": {with(strings.Replace(plant, ", known_as: [\"urn:plant\"]", "", 1)), with(plant), map[string]string{
			"app plant": "loosens: What comes in by urn:plant was of no app, and is of plant."}},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := compare.Books(c.was, c.is, monday)
			require.NoError(t, err)
			told := map[string]string{}
			for _, changed := range r.Changed {
				if strings.HasPrefix(changed.Title(), "app ") {
					told[changed.Title()] = changed.Changes[0].Effect.String() + ": " + changed.Changes[0].Text
				}
			}
			require.Equal(t, c.want, told)
			require.Equal(t, !strings.HasPrefix(c.want["app tanks"], "tightens"), r.Loosened())
		})
	}
}

// TestWhatIsCalledOtherwise: a definition that is only called otherwise, wherever it is named,
// is told as that and changes nothing.
func TestWhatIsCalledOtherwise(t *testing.T) {
	const named = `
groups: [{name: crew}, {name: office}, {name: shore}]
consent: {reviewers: {groups: [office]}, rules: [{name: staff, when: {groups: [crew]}, then: allow}, {name: rest, then: review}]}
`
	text := strings.Replace(strings.Replace(world, "groups: [{name: crew}, {name: office}, {name: shore}]\n", "", 1),
		"consent: {rules: [{name: mild, when: {scopes_within: [mild]}, then: allow}, {name: rest, then: review}]}\n", named[1:], 1)
	for name, c := range map[string]struct {
		edits []string
		want  []string
	}{
		"a group":  {[]string{"crew => sailors"}, []string{"group sailors: neither: It was called crew."}},
		"a window": {[]string{"{day: => {shift:", "[day] => [shift]"}, []string{"window shift: neither: It was called day."}},
		"an assurance": {[]string{"  twice: => \u00a0 second:", "[twice => [second"}, []string{"assurance second: neither: It was called " +
			"twice."}},
		"a posture": {[]string{"postures: {fit: => postures: {hale:", "posture: fit => posture: hale"}, []string{"posture hale: neither: " +
			"It was called fit."}},
		"a network":    {[]string{"  yard: => \u00a0 dock:", "[yard] => [dock]"}, []string{"network dock: neither: It was called yard."}},
		"a region":     {[]string{"{home: => {north:", "[home] => [north]"}, []string{"region north: neither: It was called home."}},
		"a policy":     {[]string{"name: base => name: ground"}, []string{"policy ground: neither: It was called base."}},
		"an exemption": {[]string{"name: bo-rests => name: bo-at-rest"}, []string{"exemption bo-at-rest: neither: It was called bo-rests."}},
		"a rollout":    {[]string{"name: phones => name: telephones"}, []string{"rollout telephones: neither: It was called phones."}},
		"a rule":       {[]string{"name: odd => name: strange"}, []string{"policy till: neither: Rule strange was called odd."}},
		"a policy, and what it names": {[]string{"name: trial => name: test", "crew => sailors"},
			[]string{"group sailors: neither: It was called crew.", "policy test: neither: It was called trial."}},
		"a group that is not the same": {[]string{"{name: crew} => {name: sailors, owners: [bo]}", "[crew => [sailors", "crew] => sailors]"},
			[]string{"group crew: neither: It is gone, with 2 accounts fewer (ann and bo).",
				"group sailors: neither: It is new, with 2 accounts more (ann and bo)."}},
	} {
		t.Run(name, func(t *testing.T) {
			fresh := text
			for _, edit := range c.edits {
				was, is, _ := strings.Cut(edit, " => ")
				require.Contains(t, fresh, was)
				fresh = strings.ReplaceAll(fresh, was, strings.Replace(is, "\u00a0", " ", 1))
			}
			r, err := compare.Books(open(t, text), open(t, fresh), monday)
			require.NoError(t, err)
			var told []string
			for _, changed := range r.Changed {
				for _, change := range changed.Changes {
					told = append(told, changed.Title()+": "+change.Effect.String()+": "+change.Text)
				}
			}
			slices.Sort(told)
			if strings.Contains(name, "not the same") {
				require.Subset(t, told, c.want)
				return
			}
			require.Equal(t, c.want, told)
			require.False(t, r.HoldTo([]string{compare.LoosenedGate}), "a rename opens nothing")
		})
	}
}
