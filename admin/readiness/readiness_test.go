package readiness_test

import (
	"context"
	"encoding/csv"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/readiness"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/synth"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

const world = `briskwarden: 1
settings: {zone: Europe/Oslo}
groups: [{name: crew}, {name: office}]
assurances: {twice: {prove: [{any_of: [password]}, {any_of: [push, otp-app, sms-code]}]}, once: {prove: [{any_of: [password]}]}}
accounts:
  - {name: both, groups: [crew], methods: [password, push, otp-app]}
  - {name: one, groups: [crew], methods: [password, otp-app]}
  - {name: text, groups: [crew], methods: [password, sms-code]}
  - {name: none, groups: [crew, office], methods: [password]}
  - {name: new, groups: [crew], methods: [password], joined: 2026-11-20}
  - {name: asked, groups: [crew], methods: [password], asked_at: 2026-11-23T08:00:00Z}
  - {name: risky, groups: [crew], methods: [password], joined: 2026-11-20, account_risk: {level: high}}
  - {name: gone, groups: [crew], disabled: true}
  - {name: clerk, groups: [office], methods: [password]}
  - {name: free, groups: [office], methods: [password]}
apps: [{name: mail}]
policies:
  - {name: crew, stage: live, who: {groups: [crew]}, apps: every,
     rules: [{name: all, then: {require: [twice]}}]}
  - {name: office, stage: shadow, live_for: {accounts: [clerk]}, who: {groups: [office]}, apps: every,
     rules: [{name: all, then: {require: [twice]}}]}
  - {name: rest, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [once]}}]}
rollouts:
  - {name: second, who: anyone, methods: [push, otp-app, sms-code], eases: [twice], enforced: 2026-12-01, newcomers: 30d}
  - {name: late, who: {groups: [crew]}, methods: [push, otp-app], eases: [twice], enforced: 2026-12-01, grace: 14d}
`

func compile(t *testing.T, text string) *engine.Judge {
	b, err := book.OpenFS(fstest.MapFS{"x.yaml": {Data: []byte(text)}})
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	return judge
}

func statuses(r readiness.Rollout) map[string]readiness.Status {
	found := map[string]readiness.Status{}
	for _, a := range r.Accounts {
		found[a.Name] = a.Status
	}
	return found
}

func TestReadiness(t *testing.T) {
	judge := compile(t, world)
	r, err := readiness.Of(judge, "", nil, monday)
	require.NoError(t, err)
	require.Equal(t, []string{"late", "second"}, []string{r.Rollouts[0].Name, r.Rollouts[1].Name})
	second := r.Rollouts[1]
	require.Equal(t, map[string]readiness.Status{
		"one": readiness.Single, "text": readiness.Weak, "none": readiness.LockedOut, "new": readiness.InGrace,
		"asked": readiness.InGrace, // for another rollout still gives it time
		"risky": readiness.LockedOut,
		"clerk": readiness.LockedOut, // for whom the shadow is in force
		"free":  readiness.InGrace,   // of whom nothing is demanded yet
	}, statuses(second))
	require.Equal(t, readiness.Counts{People: 9, Ready: 1, Single: 1, Weak: 1, InGrace: 3, LockedOut: 3}, second.Counts)
	require.Equal(t, readiness.LockedOut, second.Accounts[0].Status, "the worst first")
	require.Equal(
		t,
		[]readiness.Group{{Name: "crew", Counts: readiness.Counts{People: 7, Ready: 1, Single: 1, Weak: 1, InGrace: 2, LockedOut: 2}},
			{Name: "office", Counts: readiness.Counts{People: 3, InGrace: 1, LockedOut: 2}}},
		second.Groups,
	)
	late := statuses(r.Rollouts[0])
	require.Equal(
		t,
		[]readiness.Status{readiness.LockedOut, readiness.InGrace, readiness.LockedOut},
		[]readiness.Status{late["none"], late["asked"], late["risky"]},
		"who is known to have been asked late has two weeks",
	)
	require.Equal(t, 5, r.LockedOut())

	far, err := readiness.Of(judge, "late", &directory.Date{Year: 2026, Month: time.December, Day: 24}, monday)
	require.NoError(t, err)
	require.Equal(t, readiness.LockedOut, statuses(far.Rollouts[0])["asked"])
	for _, a := range far.Rollouts[0].Accounts {
		if a.Name == "asked" {
			require.Equal(t, []any{"2026-12-07", 14, true}, []any{a.Until.Format(time.DateOnly), a.DaysLeft, a.Asked})
			require.Equal(t, "Please enrol push or otp-app by 2026-12-07: from then on you cannot sign on without it.", a.Reminder)
		}
	}
	_, err = readiness.Of(judge, "secnod", nil, monday)
	require.ErrorContains(t, err, `the book has no rollout "secnod"; did you mean "second"?`)

	var out strings.Builder
	require.NoError(t, r.WriteCSV(&out))
	rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 1+len(r.Rollouts[0].Accounts)+len(second.Accounts))
	require.Equal(t, []string{"rollout", "account", "status", "groups", "has", "until", "days_left", "reminder"}, rows[0])

	formula, err := readiness.Of(compile(t, strings.Replace(world, "{name: none,", `{name: "=cmd|A1",`, 1)), "second", nil, monday)
	require.NoError(t, err)
	out.Reset()
	require.NoError(t, formula.WriteCSV(&out))
	require.Contains(t, out.String(), "second,'=cmd|A1,locked_out")
}

// TestWhoIsLockedOutIsRefused holds the report against decisions: with all it has
// proven, anyone who is locked out is let in today and not on the day, and anyone who is
// in grace is let in on the day too.
func TestWhoIsLockedOutIsRefused(t *testing.T) {
	judge := compile(
		t,
		strings.Replace(
			world,
			"  - {name: late, who: {groups: [crew]}, methods: [push, otp-app], eases: [twice], enforced: 2026-12-01, grace: 14d}\n",
			"",
			1,
		),
	)
	r, err := readiness.Of(judge, "second", nil, monday)
	require.NoError(t, err)
	day := r.Rollouts[0].On.Start(judge.Directory().Zone).Add(9 * time.Hour)
	signsOn := func(account string, at time.Time) bool {
		a := &attempt.Attempt{
			At:       at,
			Account:  account,
			App:      "mail",
			Through:  attempt.Known(attempt.Browser),
			Previous: attempt.None[attempt.Previous](),
			Failures: attempt.None[[]time.Time](),
		}
		n, _ := judge.Directory().FindAccount(account)
		for _, m := range judge.MethodNames(judge.Directory().Profile(n).Enrolled()) {
			a.Proofs = append(a.Proofs, attempt.Proof{Method: m, At: at})
		}
		return judge.Verdict(context.Background(), a) == decide.Grant
	}
	for _, a := range r.Rollouts[0].Accounts {
		require.Equal(t, a.Status != readiness.LockedOut, signsOn(a.Name, day), "%s (%s) on the day", a.Name, a.Status)
		require.Equal(t, a.Name != "risky", signsOn(a.Name, monday), "%s today: a rollout eases nothing for an account at risk", a.Name)
	}
}

// TestTheDayIsJudged: what lets somebody in on the day after all, and what does not.
func TestTheDayIsJudged(t *testing.T) {
	const text = `briskwarden: 1
settings: {zone: Europe/Oslo}
networks: {pier: {ranges: [203.0.113.0/24], ours: true, country: NO}}
assurances: {twice: {prove: [{any_of: [password]}, {any_of: [push, otp-app]}]}, once: {prove: [{any_of: [password]}]},
	key: {prove: [{traits: ` +
		`[phishing_resistant]}]}}
accounts: [{name: ann, methods: [password]}]
apps: [{name: mail}]
policies:
  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [once]}}]}
  - {name: more, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [twice]}}]}
rollouts: [{name: second, who: anyone, methods: [push, otp-app, security-key], eases: [twice], enforced: 2026-12-01}]
`
	for name, c := range map[string]struct {
		old, new string
		want     readiness.Status
		app      string
		away     bool
	}{
		"nothing is enrolled":           {"", "", readiness.LockedOut, "mail", false},
		"what is enrolled is not taken": {"methods: [password]}", "methods: [password, security-key]}", readiness.LockedOut, "mail", false},
		"what is enrolled is taken":     {"methods: [password]}", "methods: [password, push]}", readiness.Single, "", false},
		"a fallback": {"any_of: [push, otp-app]}", "any_of: [push, otp-app], fallback: [password]}", readiness.InGrace,
			"", false},
		"another way":  {"{require: [twice]}", "{require: [{one_of: [twice, once]}]}", readiness.InGrace, "", false},
		"no other way": {"{require: [twice]}", "{require: [{one_of: [twice, key]}]}", readiness.LockedOut, "mail", false},
		"an exemption": {"rollouts:", "exemptions: [{name: x, who: {accounts: [ann]}, from: [twice], because: So., until: 2026-12-31}]\nrollouts:",
			readiness.InGrace, "", false},
		"an exemption that is over": {"rollouts:", "exemptions: [{name: x, who: {accounts: [ann]}, from: [twice], because: So., until: " +
			"2026-11-30}]\nrollouts:", readiness.LockedOut, "mail", false},
		"a policy that has ended":     {"more, stage: live,", "more, stage: live, until: 2026-11-30,", readiness.InGrace, "", false},
		"a policy that has not begun": {"more, stage: live,", "more, stage: live, from: 2026-12-02,", readiness.InGrace, "", false},
		"a policy that is silenced":   {"base, stage: live,", "base, stage: live, replaces: [more],", readiness.InGrace, "", false},
		"a shadow":                    {"more, stage: live,", "more, stage: shadow,", readiness.InGrace, "", false},
		"away only": {"rules: [{name: all, then: {require: [twice]}}]",
			"rules: [{name: home, when: {our_network: true}, then: {require: [once]}}, " +
				"{name: all, then: {require: [twice]}}]", readiness.LockedOut, "mail", true},
		"an app that is not given": {"apps: [{name: mail}]", "groups: [{name: crew}]\napps: [{name: mail, open_to: [crew]}]",
			readiness.InGrace, "", false},
		"by night only": {"rules: [{name: all, then: {require: [twice]}}]",
			"rules: [{name: night, when: {during: [night]}, then: {require: [twice]}}, " +
				"{name: all, then: {require: [once]}}]\nwindows: {night: {from: \"20:00\", to: \"06:00\"}}", readiness.LockedOut, "mail", false},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, text, c.old)
			edited := strings.Replace(text, c.old, c.new, 1)
			if i := strings.Index(edited, "\nwindows:"); i > 0 { // which belongs behind the list
				line, rest, _ := strings.Cut(edited[i+1:], "}\n")
				edited = edited[:i] + "}\n" + rest + line + "\n"
			}
			r, err := readiness.Of(compile(t, edited), "", nil, monday)
			require.NoError(t, err)
			require.Len(t, r.Rollouts[0].Accounts, 1)
			a := r.Rollouts[0].Accounts[0]
			require.Equal(t, []any{c.want, c.app, c.away}, []any{a.Status, a.App, a.Away})
		})
	}
}

// TestCountsAddUp: on generated books everybody stands somehow, once.
func TestCountsAddUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		_, judge := synth.Open(rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1)), 5)
		at := time.Date(2026, time.March, 28, 10, 0, 0, 0, time.UTC)
		r, err := readiness.Of(judge, "", nil, at)
		require.NoError(t, err)
		for _, rollout := range r.Rollouts {
			c := rollout.Counts
			require.Equal(t, c.People, c.Ready+c.Single+c.Weak+c.InGrace+c.LockedOut)
			require.Len(t, rollout.Accounts, c.People-c.Ready)
			for _, a := range rollout.Accounts {
				require.NotEmpty(t, a.Reminder)
				require.Equal(t, a.App != "", a.Status == readiness.LockedOut)
				require.True(t, a.Status != readiness.InGrace || len(a.Has) == 0)
			}
		}
	})
}

// TestRemindersInOnesOwnWords: what people are written can be worded, and translated.
func TestRemindersInOnesOwnWords(t *testing.T) {
	say := func(text string) string { return strings.Replace(world, "enforced: 2026-12-01, grace: 14d", text, 1) }
	const german = "enforced: 2026-12-01, say: {enrol: 'Bitte {methods} bis {day} einrichten.', stronger: 'Zusätzlich {methods}, " +
		"{account}.', " +
		"another: 'Nur {has}.'}"
	r, err := readiness.Of(compile(t, say(german)), "late", nil, monday)
	require.NoError(t, err)
	told := map[string]string{}
	for _, a := range r.Rollouts[0].Accounts {
		told[a.Name] = a.Reminder
	}
	require.Equal(t, "Bitte push, otp-app bis 2026-12-01 einrichten.", told["none"])
	require.Equal(t, "Nur otp-app.", told["one"])
	_, err = book.OpenFS(fstest.MapFS{"x.yaml": {Data: []byte(say("enforced: 2026-12-01, say: {enrol: 'Bis {dya}.'}"))}})
	require.ErrorContains(t, err, "rollout late: say: nothing is put in for {dya}; the words are {account}, {methods}, {has} and {day}")
}
