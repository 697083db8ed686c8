package compare_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/compare"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/internal/synth"
)

// TestExactIsWhole: wherever an attempt comes to something else by the newer version of a generated book, the exact
// comparison has a difference of that effect for the account, the app and the action; and on the attempt of each
// difference the books do differ.
func TestExactIsWhole(t *testing.T) {
	at := time.Date(2026, time.March, 29, 12, 0, 0, 0, time.UTC)
	var moved atomic.Int64
	t.Run("books", func(t *testing.T) { againstAttempts(t, at, &moved) })
	require.Greater(t, moved.Load(), int64(100))
}

func againstAttempts(t *testing.T, at time.Time, moved *atomic.Int64) {
	for seed := range uint64(40) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			chance := rand.New(rand.NewPCG(seed, 17))
			older, newer, was, is, _ := versions(chance)
			if newer == nil {
				t.Skip("the change broke the book")
			}
			r, err := compare.Books(older, newer, at)
			require.NoError(t, err)
			require.NoError(t, r.AddExact(t.Context(), compare.ExactOptions{From: at, For: 91 * 24 * time.Hour}))
			if slices.ContainsFunc(r.Changed, func(c compare.Changed) bool { return c.What == "devices" }) {
				t.Skip("what is registered of devices is no part of it")
			}
			for i := range r.Exact.Differences {
				d := &r.Exact.Differences[i]
				require.NotNil(t, d.Attempt)
				terms := is.Terms(context.Background(), d.Attempt)
				require.True(t, strings.HasPrefix(d.Is, terms.String()) || strings.HasPrefix(d.Is, terms.InFull()), "%s: %s", d.Is, terms.String())
				require.NotEqual(t, d.Was, d.Is)
			}
			for range 1500 {
				a := provenAttempt(chance, at, was, is)
				if a == nil {
					continue
				}
				before, after := was.Verdict(context.Background(), a), is.Verdict(context.Background(), a)
				if before == after {
					continue
				}
				moved.Add(1)
				effect := compare.Loosens
				if after < before {
					effect = compare.Tightens
				}
				found := func(app string) (names [2]string) {
					for i, judge := range []*engine.Judge{was, is} {
						if n, has := judge.Directory().FindApp(app); has {
							names[i] = judge.Directory().Apps[n].Name
						}
					}
					return names
				}
				require.True(t, slices.ContainsFunc(r.Exact.Differences, func(d compare.Difference) bool {
					return d.Effect&effect != 0 && slices.Contains(d.Actions, a.Action) &&
						slices.ContainsFunc(d.Apps, func(app string) bool { return found(app) == found(a.App) })
				}), "%+v: %s became %s\n%+v\n%v\n%v", *a, before, after, r.Exact, was.Decide(context.Background(), a).Causes,
					is.Decide(context.Background(), a).Causes)
			}
		})
	}
}

// TestExactGate: what only says the same in other words opens the gate, and what loosens in one corner shuts it.
func TestExactGate(t *testing.T) {
	const world = `briskwarden: 1
settings: {zone: Europe/Oslo}
networks: {pier: {ranges: [203.0.113.0/24], ours: true, country: NO}, yard: {ranges: [198.51.100.0/28]}}
regions: {home: [NO, SE]}
windows: {day: {from: "08:00", to: "16:00"}}
risk: {signals: [{name: abroad, detect: country-change, points: 50}]}
postures: {fit: {fresh: 24h, checks: [{fact: firewall, is: true}, {fact: patch_age_days, at_most: 30}]}}
assurances:
  once: {prove: [{any_of: [password], within: session}]}
  twice: {prove: [{any_of: [password], within: session}, {any_of: [push], within: 12h, fallback: [sms-code]}]}
  fit: {posture: fit}
groups: [{name: crew}, {name: deck}]
accounts: [{name: liv, groups: [crew], methods: [password, push]}, {name: oskar, groups: [deck], methods: [password]}]
apps: [{name: till, hosts: [till.one.example]}, {name: mail, hosts: ["*.one.example"]}]
rollouts: [{name: second, who: {groups: [deck]}, methods: [push], eases: [twice], enforced: 2026-12-01}]
policies:
  - {name: till, stage: live, who: anyone, apps: {names: [till]}, rules: [
      {name: away, when: {not: {countries: [home]}}, then: block}, {name: odd, when: {risk_at_least: medium}, then: block},
      {name: rest, then: {require: [twice, fit]}, limits: {lasts: 4h}}]}
  - {name: base, stage: live, who: anyone, apps: every, rules: [
      {name: night, when: {not: {during: [day]}}, then: {require: [twice]}}, {name: all, then: {require: [once]}}]}
`
	open := func(t *testing.T, text string) *book.Book {
		b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(text)}})
		require.NoError(t, err)
		return b
	}
	for name, c := range map[string]struct {
		was, is string
		effect  compare.Effect
		says    []string
	}{
		"a rule in two": {"{name: all, then: {require: [once]}}",
			"{name: crew, when: {groups: [crew]}, then: {require: [once]}}, {name: others, then: {require: [once]}}", compare.Neither, nil},
		"a country by its code": {"countries: [home]", "countries: [SE, NO]", compare.Neither, nil},
		"a rule that another one covers": {
			"{name: odd,", "{name: more, when: {countries: [BR]}, then: block}, {name: odd,", compare.Neither, nil,
		},
		"an hour": {`to: "16:00"`, `to: "17:00"`, compare.Loosens, []string{"at 16:00 CET", "mail", "once", "Everybody"}},
		"a country": {
			"home: [NO, SE]", "home: [NO, SE, BR]", compare.Loosens,
			[]string{"not sure that they are in home (NO, SE), they are in home (BR, NO, SE); block"},
		},
		"a check":                  {"at_most: 30", "at_most: 120", compare.Loosens, []string{"till", "fit"}},
		"a report's age":           {"fresh: 24h", "fresh: 12h", compare.Tightens, []string{"fit"}},
		"a session":                {"lasts: 4h", "lasts: 8h", compare.Loosens, []string{"for at most 8 hours"}},
		"a fallback":               {", fallback: [sms-code]", "", compare.Tightens, []string{"push"}},
		"how recent":               {"within: 12h", "within: 1h", compare.Tightens, []string{"1h"}},
		"another method":           {"any_of: [push]", "any_of: [push, otp-app]", compare.Loosens, []string{"otp-app"}},
		"a day of a rollout":       {"enforced: 2026-12-01", "enforced: 2026-12-09", compare.Loosens, []string{"2026-12-01 at 00:00 CET"}},
		"a signal's points":        {"points: 50", "points: 30", compare.Loosens, []string{"risk of the sign-on"}},
		"the country of a network": {"ours: true, country: NO", "ours: true, country: BR", compare.Tightens, []string{"203.0.113"}},
		"an app by another host": {
			`["*.one.example"]`, `["*.one.example", "till.one.example/x/*"]`, compare.Loosens, []string{"till.one.example/x/compared"},
		},
		"a group": {"name: oskar, groups: [deck]", "name: oskar, groups: [deck, crew]", compare.Neither, nil},
		"a method of somebody": {
			"name: oskar, groups: [deck], methods: [password]", "name: oskar, groups: [deck], methods: [password, push]", compare.Tightens,
			[]string{"Members of deck", "met otherwise by what the account has"},
		},
		"somebody new": {
			"accounts: [", "accounts: [{name: nina, methods: [password, push]}, ", compare.Loosens, []string{"nina", "account unknown"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			require.Equal(t, 1, strings.Count(world, c.was))
			r, err := compare.Books(open(t, world), open(t, strings.Replace(world, c.was, c.is, 1)), monday)
			require.NoError(t, err)
			require.NoError(t, r.AddExact(t.Context(), compare.ExactOptions{From: monday}))
			require.Empty(t, r.Exact.Open)
			effect, all := compare.Neither, ""
			for i := range r.Exact.Differences {
				d := &r.Exact.Differences[i]
				effect |= d.Effect
				ip, _ := d.Attempt.IP.Get()
				all += fmt.Sprintf("%s: %s; %s; %s; %s\n", d.Effect, d.Title(r.Exact), d.Was, d.Is, ip)
			}
			require.Equal(t, c.effect, effect, all)
			for _, text := range c.says {
				require.Contains(t, all, text)
			}
			require.Equal(t, effect&compare.Loosens != 0, r.HoldTo([]string{compare.LoosenedGate}))
		})
	}
	t.Run("no time", func(t *testing.T) {
		r, err := compare.Books(open(t, world), open(t, strings.Replace(world, `to: "16:00"`, `to: "17:00"`, 1)), monday)
		require.NoError(t, err)
		stopped, stop := context.WithCancel(t.Context())
		stop()
		require.NoError(t, r.AddExact(stopped, compare.ExactOptions{From: monday}))
		require.True(t, r.HoldTo([]string{compare.LoosenedGate}), "what was not looked at is not said to be the same")
		require.True(t, r.Unjudged())
	})
	t.Run("what else loosens", func(t *testing.T) {
		r, err := compare.Books(open(t, world), open(t, world+"devices: [{name: v1, managed: true}]\n"), monday)
		require.NoError(t, err)
		require.NoError(t, r.AddExact(t.Context(), compare.ExactOptions{From: monday}))
		require.Empty(t, r.Exact.Differences)
		require.True(t, r.HoldTo([]string{compare.LoosenedGate}), "it is no question of sign-ins")
	})
}

var books = flag.Int("books", 24, "how many changes of tiny books are tried with all that can be tried on them")

// TestExactOnAllThereIs: of all that can be tried on two versions of a tiny book, whatever has other terms by the newer one is
// in a difference with those terms; and on the attempt of each difference they are so.
func TestExactOnAllThereIs(t *testing.T) {
	var moved atomic.Int64
	t.Run("changes", func(t *testing.T) {
		for seed := range uint64(*books) {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				chance := rand.New(rand.NewPCG(seed, 20))
				made := synth.Tiny(chance, 2)
				older, was := made.Open(chance)
				newer, is := made.Redrawn(chance, synth.Tiny(chance, 2), 1+chance.IntN(2)).Open(chance)
				r, err := compare.Books(older, newer, synth.TinyDay)
				require.NoError(t, err)
				require.NoError(t, r.AddExact(t.Context(), compare.ExactOptions{From: synth.TinyDay, For: 24 * time.Hour}))
				require.Empty(t, r.Exact.Open)
				told := func(text string, terms engine.Terms) bool {
					return strings.HasPrefix(text, terms.String()) || strings.HasPrefix(text, terms.InFull())
				}
				for i := range r.Exact.Differences {
					d := &r.Exact.Differences[i]
					before, after := was.Terms(context.Background(), d.Attempt), is.Terms(context.Background(), d.Attempt)
					require.True(t, told(d.Was, before) && told(d.Is, after) && d.Was != d.Is, "%+v", d)
				}
				for a := range synth.Grid() {
					before, after := was.Terms(context.Background(), a), is.Terms(context.Background(), a)
					if before.Block && after.Block || before.String() == after.String() { // for whatever reason
						continue
					}
					moved.Add(1)
					if !slices.ContainsFunc(r.Exact.Differences, func(d compare.Difference) bool {
						return told(d.Was, before) && told(d.Is, after) && slices.Contains(d.Actions, a.Action) &&
							slices.Contains(d.Apps, a.App) && slices.Contains(d.SuchAs, a.Account)
					}) {
						require.Fail(t, "no difference", "%s: %s became %s\n%+v", a.AppendJSON(nil), before.String(), after.String(), r.Exact)
					}
				}
			})
		}
	})
	require.Positive(t, moved.Load())
}
