package prove_test

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/maxmind/mmdbwriter"
	"github.com/maxmind/mmdbwriter/mmdbtype"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/prove"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/internal/synth"
)

var monday = time.Date(2026, time.November, 23, 13, 0, 0, 0, time.UTC)

// violates reports whether an attempt refutes a guarantee, by the terms that a judge has for it.
func violates(judge *engine.Judge, g *book.Guarantee, where condition.Node, a *attempt.Attempt) bool {
	holds, t := judge.TermsWhere(context.Background(), a, where)
	switch {
	case holds == condition.False:
		return false
	case g.Always != 0:
		return !t.Block
	case len(g.NeverWithout) > 0:
		for _, name := range g.NeverWithout {
			if !t.Imply(name) {
				return true
			}
		}
		return false
	}
	if holds != condition.True || t.Refused != "" && t.Refused != decide.AccountDisabled {
		return false
	}
	if len(g.Enough) > 0 {
		return !t.MetBy(g.Enough)
	}
	return !t.Block && !t.MetBy(g.AtMost)
}

var books = flag.Int("books", 24, "how many tiny books are tried with all that can be tried on them")

// TestAgainstAllThereIs: what is proven of a tiny book nothing refutes of all that can be tried on it, and what is refuted the
// attempt that is shown refutes, by the judge itself.
func TestAgainstAllThereIs(t *testing.T) {
	var proven, refuted atomic.Int64
	t.Run("books", func(t *testing.T) {
		for seed := range uint64(*books) {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				chance := rand.New(rand.NewPCG(seed, 19))
				made := synth.Tiny(chance, 2)
				for i := range 5 {
					made.Definitions = append(made.Definitions, synth.TinyGuarantee(chance, i))
				}
				source, judge := made.Open(chance)
				r, err := prove.Prove(t.Context(), source, judge, prove.Options{From: synth.TinyDay, For: 24 * time.Hour})
				require.NoError(t, err)
				for i := range r.Results {
					x, g := &r.Results[i], &source.Guarantees[i]
					where, err := judge.Bind("guarantee", g.Where)
					require.NoError(t, err)
					if x.Attempt != nil {
						refuted.Add(1)
						require.Equal(t, prove.Fails, x.State)
						require.True(t, violates(judge, g, where, x.Attempt), "%s: %s; %s", x.Name, x.Claim, x.Why)
						continue
					}
					proven.Add(1)
					require.True(t, x.State == prove.Proven || strings.Contains(x.Why, "of nothing that the book lists"), x.Why)
					for a := range synth.Grid() {
						if violates(judge, g, where, a) {
							require.Fail(t, "refuted", "%s: %s; %s", x.Name, x.Claim, a.AppendJSON(nil))
						}
					}
				}
			})
		}
	})
	require.Greater(t, proven.Load(), int64(*books/4))
	require.Greater(t, refuted.Load(), int64(*books/4))
}

// TestAgainstRandomAttempts: the same of larger books, on which many attempts are tried.
func TestAgainstRandomAttempts(t *testing.T) {
	books := uint64(16)
	proven, refuted := 0, 0
	for seed := range books {
		chance := rand.New(rand.NewPCG(seed, 16))
		made := synth.Small(chance, 3)
		source, judge := made.Open(chance)
		var attempts []*attempt.Attempt
		first, last := time.Time{}, time.Time{}
		for range 400 {
			a := synth.Attempt(chance)
			a.Proofs, a.Session = nil, attempt.Session{}
			if d := a.Device.Ref(); d != nil {
				d.Remembered = nil
			}
			attempts = append(attempts, a)
			if first.IsZero() || a.At.Before(first) {
				first = a.At
			}
			if a.At.After(last) {
				last = a.At
			}
		}
		// The conditions of guarantees are those of rules; what they claim is drawn.
		var guarantees []book.Guarantee
		for i := range source.Policies {
			for k := range source.Policies[i].Rules {
				when := source.Policies[i].Rules[k].When
				if when == nil {
					continue
				}
				g := book.Guarantee{Name: fmt.Sprintf("g%d-%d", i, k), Where: when}
				assurance := source.Assurances[chance.IntN(len(source.Assurances))].Name
				switch chance.IntN(4) {
				case 0:
					g.Always = book.AlwaysBlock
				case 1:
					g.NeverWithout = []string{assurance}
				case 2:
					g.Enough = []string{assurance}
				case 3:
					g.AtMost = []string{assurance}
				}
				if len(guarantees) < 4 {
					guarantees = append(guarantees, g)
				}
			}
		}
		source.Guarantees = guarantees
		r, err := prove.Prove(t.Context(), source, judge, prove.Options{From: first, For: last.Sub(first) + time.Second})
		require.NoError(t, err)
		require.Len(t, r.Results, len(guarantees))
		for i := range r.Results {
			x, g := &r.Results[i], &guarantees[i]
			where, err := judge.Bind("guarantee", g.Where)
			require.NoError(t, err)
			about := fmt.Sprintf("seed %d, %s: %s; %s", seed, x.Name, x.Claim, x.Why)
			switch {
			case x.State == prove.Proven:
				proven++
				for _, a := range attempts {
					require.False(t, violates(judge, g, where, a), "%s: %+v", about, a)
				}
			case x.Attempt != nil:
				refuted++
				require.Equal(t, prove.Fails, x.State, about)
				require.True(t, violates(judge, g, where, x.Attempt), about)
			default:
				require.Contains(t, x.Why, "of nothing that the book lists", about)
				for _, a := range attempts {
					_, listed := judge.Directory().FindAccount(a.Account)
					if _, isApp := judge.Directory().FindApp(a.App); !listed || !isApp {
						continue
					}
					holds, _ := judge.TermsWhere(context.Background(), a, where)
					require.NotEqual(t, condition.True, holds, "%s: %+v", about, a)
				}
			}
		}
	}
	require.Greater(t, proven, 2)
	require.Greater(t, refuted, 15)
}

func TestTheDemosGuarantees(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	r, err := prove.Prove(t.Context(), b, judge, prove.Options{From: monday})
	require.NoError(t, err)
	require.Len(t, r.Results, 15)
	for _, x := range r.Results {
		require.Equal(t, prove.Proven, x.State, "%s: %s", x.Name, x.Why)
	}
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	r, err = prove.Prove(stopped, b, judge, prove.Options{From: monday, Names: []string{"till-stays-home"}})
	require.NoError(t, err)
	require.Equal(t, prove.Open, r.Results[0].State, "what is not looked at is not proven")
	require.Contains(t, r.Results[0].Why, "The time was up")
	b.Settings.Directory = book.Outside
	r, err = prove.Prove(t.Context(), b, judge, prove.Options{From: monday, Names: []string{"till-stays-home"}})
	require.NoError(t, err)
	require.Equal(t, prove.Open, r.Results[0].State, "nor is what somebody may do whom nobody lists")
	require.True(t, r.Results[0].Unlisted)
}

// TestWhatFails: each kind of guarantee, on a book in which it does not hold.
func TestWhatFails(t *testing.T) {
	const world = `briskwarden: 1
settings: {zone: Europe/Oslo}
networks: {pier: {ranges: [203.0.113.0/24], ours: true, country: NO}}
windows: {day: {from: "08:00", to: "16:00"}}
risk: {signals: [{name: listed, points: 50}]}
assurances:
  once: {prove: [{any_of: [password], within: session}]}
  twice: {prove: [{any_of: [password], within: session}, {any_of: [push], within: 12h}]}
  fit: {posture: fit}
postures: {fit: {checks: [{fact: firewall, is: true}]}}
groups: [{name: crew}, {name: late}]
accounts: [{name: liv, groups: [crew], methods: [password, push]}, {name: oskar, methods: [password, push]},
  {name: nina, groups: [late], joined: 2026-12-01, methods: [password, push]}]
apps: [{name: till}, {name: mail}]
policies:
  - {name: till, stage: live, from: 2026-10-01, until: 2027-03-31, who: anyone, apps: {names: [till]}, rules: [
      {name: away, when: {our_network: false}, then: block}, {name: odd, when: {risk_at_least: medium}, then: block},
      {name: managed, when: {device: [managed]}, then: {require: [once, fit]}}, {name: rest, then: {require: [twice, fit]}}]}
  - {name: base, stage: live, who: anyone, apps: every, rules: [
      {name: night, when: {not: {during: [day]}}, then: {require: [twice]}}, {name: all, then: {require: [once]}}]}
guarantees:
`
	for name, c := range map[string]struct{ guarantee, why, shown string }{
		"a policy ends": {"where: {names: [till], our_network: false}, always: block", "asks for", "2027-04-01 00:00 CEST"},
		"until then": {"where: {names: [till], our_network: false, not: {groups: [crew]}}, never_without: [fit]", "does without fit",
			"oskar at till"},
		"at night": {"where: {names: [mail], groups: [crew]}, at_most: [once]", "more than once", "liv at mail"},
		"risk": {"where: {names: [till], our_network: true}, enough: [twice, fit]",
			"The book blocks whatever is proven.", "with listed"},
		"who joins later": {"where: {names: [mail], groups: [late], not: {joined_within: 30d}}, at_most: [once]", "more than once",
			"Thu 2026-12-31 00:00"},
		"a group of nobody": {"where: {names: [till], all: [{accounts: [liv]}, {accounts: [oskar]}]}, always: block",
			"of nothing that the book lists", ""},
	} {
		t.Run(name, func(t *testing.T) {
			b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(world + "  - {name: g, " + c.guarantee + "}\n")}})
			require.NoError(t, err)
			judge, err := b.Compile()
			require.NoError(t, err)
			r, err := prove.Prove(t.Context(), b, judge, prove.Options{From: monday})
			require.NoError(t, err)
			require.Equal(t, prove.Fails, r.Results[0].State)
			require.Contains(t, r.Results[0].Why, c.why)
			if c.shown != "" {
				require.Contains(t, r.Results[0].Shown(r.Zone), c.shown)
			}
		})
	}
	for section, want := range map[string]string{
		"where: {names: [till]}":                                "give one of always, never_without, enough and at_most",
		"where: {names: [till]}, always: block, enough: [once]": "one of them only",
		"where: {names: [till]}, always: grant":                 "\"grant\"",
		"where: {names: [till]}, enough: [thrice]":              "assurance \"thrice\" is not defined",
		"where: {names: [tll]}, always: block":                  "app \"tll\" is not defined",
		"where: {verdicts: [block]}, always: block":             "makes no sense here",
		"always: block": "lacks the key \"where\"",
	} {
		_, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(world + "  - {name: g, " + section + "}\n")}})
		require.ErrorContains(t, err, want, section)
		require.True(t, strings.HasPrefix(err.Error(), "book.yaml:"), err.Error())
	}
}

// TestWhatSignalsBringAbout: a way in that only a signal opens, and only where it surely holds, is found, whatever the
// signal looks at, where no rule looks at it.
func TestWhatSignalsBringAbout(t *testing.T) {
	for name, signal := range map[string]string{
		"told":              "points: 50",
		"country-change":    "detect: country-change, points: 50",
		"travel":            "detect: travel, faster_than: 900, points: 50",
		"new-device":        "detect: new-device, points: 50",
		"anonymous-network": "detect: anonymous-network, points: 50",
		"failed-burst":      "detect: failed-burst, failures: 4, within: 2m, points: 50",
		"dormant":           "detect: dormant, after: 90d, points: 50",
		"proof-refused":     "detect: proof-refused, points: 50",
		"a network":         "when: {networks: [n6]}, points: 50",
		"a country":         "when: {countries: [BR]}, points: 50",
		"a tag":             "when: {device_tags: [till]}, points: 50",
		"a posture":         "when: {not: {posture: [fit]}}, points: 50",
		"an hour":           "when: {during: [night]}, points: 50",
		"an account":        "when: {groups: [crew]}, points: 50",
		"an action":         "when: {actions: [recover]}, points: 50",
		"a way":             "when: {through: [native]}, points: 50",
		"a proof":           "when: {proved: [once]}, points: 50",
	} {
		t.Run(name, func(t *testing.T) {
			networks := ""
			for i := range 8 {
				networks += fmt.Sprintf("  n%d: {ranges: [203.0.113.%d/32]}\n", i, 10*i)
			}
			b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(`briskwarden: 1
windows: {night: {from: "22:00", to: "04:00"}}
postures: {fit: {checks: [{fact: firewall, is: true}]}}
groups: [{name: crew}]
accounts: [{name: oskar, methods: [password]}, {name: liv, groups: [crew], methods: [password]}]
apps: [{name: mail}]
assurances: {once: {prove: [{any_of: [password], within: session}]}}
policies:
  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: odd, when: {risk_at_least: medium}, then: {require: [once]}},
      {name: all, then: block}]}
guarantees: [{name: g, where: {every: true}, always: block}]
networks:
  relay: {ranges: [192.0.2.0/24], anonymous: true}
` + networks + "risk: {signals: [{name: s, " + signal + "}, {name: slight, points: 1}]}\n")}})
			require.NoError(t, err)
			judge, err := b.Compile()
			require.NoError(t, err)
			r, err := prove.Prove(t.Context(), b, judge, prove.Options{From: monday})
			require.NoError(t, err)
			require.Equal(t, prove.Fails, r.Results[0].State, r.Results[0].Why)
			require.NotNil(t, r.Results[0].Attempt)
		})
	}
}

// TestWhereTheLookUpKnowsNothing: what is asked where no country is known is found in the middle of a network too, in whose
// records that begins.
func TestWhereTheLookUpKnowsNothing(t *testing.T) {
	for hole, want := range map[string]prove.State{"203.0.113.64/26": prove.Fails, "": prove.Proven} {
		t.Run(hole, func(t *testing.T) {
			tree, err := mmdbwriter.New(mmdbwriter.Options{IncludeReservedNetworks: true})
			require.NoError(t, err)
			_, pier, err := net.ParseCIDR("203.0.113.0/24")
			require.NoError(t, err)
			norway := mmdbtype.Map{"country": mmdbtype.Map{"iso_code": mmdbtype.String("NO")}}
			require.NoError(t, tree.Insert(pier, norway))
			if hole != "" {
				_, unknown, err := net.ParseCIDR(hole)
				require.NoError(t, err)
				require.NoError(t, tree.Insert(unknown, mmdbtype.Map{}))
			}
			var file bytes.Buffer
			_, err = tree.WriteTo(&file)
			require.NoError(t, err)
			b, err := book.OpenFS(fstest.MapFS{"places.mmdb": {Data: file.Bytes()}, "book.yaml": {Data: []byte(`briskwarden: 1
settings: {ip_database: places.mmdb}
networks: {pier: {ranges: [203.0.113.0/24]}}
accounts: [{name: oskar, methods: [password]}]
apps: [{name: mail}]
assurances: {once: {prove: [{any_of: [password], within: session}]}}
policies:
  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: home, when: {countries: [NO]}, then: {require: [once]}},
      {name: away, when: {not: {countries: [NO]}}, then: {require: [once]}}, {name: lost, then: block}]}
guarantees: [{name: g, where: {networks: [pier]}, enough: [once]}]
`)}}, book.WithDatabase(mmdb.Locator))
			require.NoError(t, err)
			judge, err := b.Compile()
			require.NoError(t, err)
			r, err := prove.Prove(t.Context(), b, judge, prove.Options{From: monday})
			require.NoError(t, err)
			require.Equal(t, want, r.Results[0].State, r.Results[0].Why)
			if want == prove.Fails {
				require.Contains(t, r.Results[0].Shown(r.Zone), "203.0.113.64")
			}
		})
	}
}

// TestSuggest: what is suggested for the demo can be pasted, holds, and is not suggested again.
func TestSuggest(t *testing.T) {
	files := fstest.MapFS{}
	require.NoError(t, fs.WalkDir(demo.Files(), ".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			text, _ := fs.ReadFile(demo.Files(), path)
			files[path] = &fstest.MapFile{Data: text}
		}
		return err
	}))
	open := func() (*book.Book, *engine.Judge) {
		b, err := book.OpenFS(files, book.WithDatabase(mmdb.Locator))
		require.NoError(t, err)
		judge, err := b.Compile()
		require.NoError(t, err)
		return b, judge
	}
	b, judge := open()
	list, err := prove.Suggest(t.Context(), b, judge, prove.Options{From: monday})
	require.NoError(t, err)
	names := map[string]bool{}
	text := ""
	for _, s := range list {
		names[s.Name] = true
		text += "  " + s.YAML + "\n"
	}
	require.True(t, names["card-till-shut"], list)
	require.True(t, names["administrators-listed"], list)
	require.False(t, names["way-back-in-2"], "what is enough follows from the book's own")
	files["guarantees.yaml"].Data = append(files["guarantees.yaml"].Data, text...)
	b, judge = open()
	r, err := prove.Prove(t.Context(), b, judge, prove.Options{From: monday})
	require.NoError(t, err)
	require.Equal(t, 15+len(list), r.Count(prove.Proven))
	list, err = prove.Suggest(t.Context(), b, judge, prove.Options{From: monday})
	require.NoError(t, err)
	require.Empty(t, list)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	b.Guarantees = nil
	list, err = prove.Suggest(stopped, b, judge, prove.Options{From: monday})
	require.NoError(t, err)
	require.Empty(t, list, "what was not proven is not suggested")
}

// TestNewcomers: what holds because of who is in the book today is told apart from what holds for newcomers too.
func TestNewcomers(t *testing.T) {
	b, err := book.OpenFS(fstest.MapFS{"book.yaml": {Data: []byte(`briskwarden: 1
groups: [{name: crew}, {name: yard}]
accounts: [{name: oskar@one.example, groups: [crew], methods: [password, push]},
  {name: liv@one.example, groups: [yard], methods: [password]}]
apps: [{name: mail}, {name: till, open_to: [crew]}]
assurances: {once: {prove: [{any_of: [password], within: session}]}, twice: {prove: [{any_of: [push], within: session}]}}
policies:
  - {name: base, stage: live, who: anyone, apps: every, rules: [{name: all, then: {require: [once]}}]}
  - {name: crew, stage: live, who: {groups: [crew], except: {groups: [yard]}}, apps: every, rules: [{name: all, then: {require: [twice]}}]}
guarantees:
  - {name: by-accident, where: {groups: [crew], actions: [sign-in]}, never_without: [twice]}
  - {name: for-all, where: {actions: [sign-in]}, never_without: [once]}
  - {name: till, where: {names: [till], not: {groups: [crew]}}, always: block}
  - {name: oskar, where: {accounts: [oskar@one.example], actions: [sign-in]}, never_without: [twice]}
`)}})
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	r, err := prove.Prove(t.Context(), b, judge, prove.Options{From: monday, Newcomers: true})
	require.NoError(t, err)
	for i, want := range []string{"somebody new in crew and yard", "", "", ""} {
		x := &r.Results[i]
		require.Equal(t, prove.Proven, x.State, x.Name)
		require.Equal(t, want == "", x.Newcomers, x.Name)
		if want == "" {
			require.Nil(t, x.Newcomer, x.Name)
			continue
		}
		require.Contains(t, x.Newcomer.String(), want)
		require.Contains(t, x.Newcomer.Why, "once, which does without twice")
	}
	stopped, stop := context.WithCancel(t.Context())
	stop()
	r, err = prove.Prove(stopped, b, judge, prove.Options{From: monday, Newcomers: true})
	require.NoError(t, err)
	require.False(t, r.Results[0].Newcomers, "nobody looked")
}
