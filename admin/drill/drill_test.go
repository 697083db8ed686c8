package drill_test

import (
	"context"
	"encoding/xml"
	"io/fs"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/drill"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory/mmdb"
)

const world = `briskwarden: 1
networks: {pier: {ranges: [203.0.113.0/24], ours: true}}
regions: {home: [NO]}
assurances: {once: {prove: [{any_of: [password]}]}}
accounts: [{name: ann, methods: [password]}]
apps: [{name: mail}]
scopes: {mild: {gravity: 1, scopes: [openid]}, grave: {gravity: 2, scopes: [mail.read]}}
clients: [{name: tides, redirect_uris: ["https://t.example/cb"]}]
consent: {rules: [{name: mild, when: {scopes_within: [mild]}, then: allow}, {name: rest, then: refuse}]}
policies:
  - name: base
    stage: live
    who: anyone
    apps: every
    rules:
      - {name: abroad, when: {networks: [pier], not: {countries: [home]}}, then: block}
      - {name: pier, when: {our_network: true}, then: {require: [once]}}
      - {name: rest, then: block}
  - {name: unused, stage: draft, who: anyone, apps: every, rules: [{name: r, then: block}]}
`

// drills are two that pass and, with the rest of the arguments, others.
func drills(more ...string) string {
	return "briskwarden: 1\ndrills:\n" + strings.Join(append([]string{
		`- {name: in, expect: grant, by: base/pier, attempt: {at: 2026-11-23T13:10:00Z, account: ann, app: mail, ip: 203.0.113.9, country: ` +
			`NO, proofs: [{method: password}]}}`,
		`- {name: far, expect: block, attempt: {at: 2026-11-23T13:10:00Z, account: ann, app: mail, ip: 203.0.113.9, country: BR}}`,
	}, more...), "\n")
}

func open(t *testing.T, drills string) (*book.Book, *engine.Judge, *consent.Judge) {
	b, err := book.OpenFS(fstest.MapFS{"world.yaml": {Data: []byte(world)}, "drills.yaml": {Data: []byte(drills)}})
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	consents, err := b.CompileConsent(judge)
	require.NoError(t, err)
	return b, judge, consents
}

func TestRun(t *testing.T) {
	b, judge, consents := open(t, drills(
		`- {name: wrong, about: To see it fail., expect: step_up, by: base/abroad, with_shadow: grant, attempt: {at: 2026-11-23T13:10:00Z, `+
			`account: ann, app: mail, ip: 192.0.2.1}}`,
		`- {name: tides, expect: allow, by: mild, request: {at: 2026-11-23T13:10:00Z, account: ann, client: tides, scopes: [openid], `+
			`redirect_uri: "https://t.example/cb"}}`,
	))
	r := drill.Run(judge, consents, b.Drills)
	require.Equal(t, 1, r.Failed())
	require.Equal(
		t,
		drill.Result{
			Name:   "wrong",
			About:  "To see it fail.",
			At:     b.Where("drill", "wrong"),
			Wanted: "step_up by base/abroad, with shadows grant",
			Got:    "block by base/rest, with shadows block",
			Why:    []string{"base / rest blocks."},
		},
		r.Results[0],
		"those that failed come first",
	)
	require.Equal(t, drill.Coverage{Rules: 5, Reached: 4, Unreached: []string{"consent/rest"}}, r.Coverage)

	var out strings.Builder
	require.NoError(t, r.WriteJUnit(&out))
	var read struct {
		Suites []struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Cases    []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
					Text    string `xml:",chardata"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(out.String()), &read))
	require.Equal(t, []int{4, 1}, []int{read.Suites[0].Tests, read.Suites[0].Failures})
	require.Equal(
		t,
		"wanted step_up by base/abroad, with shadows grant, got block by base/rest, with shadows block",
		read.Suites[0].Cases[0].Failure.Message,
	)
	require.Nil(t, read.Suites[0].Cases[1].Failure)
	require.Equal(t, "drills.yaml:5:3\nbase / rest blocks.", read.Suites[0].Cases[0].Failure.Text)
}

// junit is what CI systems look for in JUnit XML. Whatever else stands in it is an
// error here.
type junit struct {
	XMLName xml.Name   `xml:"testsuites"`
	Attrs   []xml.Attr `xml:",any,attr"`
	Suites  []struct {
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Errors   int        `xml:"errors,attr"`
		Skipped  int        `xml:"skipped,attr"`
		Attrs    []xml.Attr `xml:",any,attr"`
		Cases    []struct {
			Name    string     `xml:"name,attr"`
			Class   string     `xml:"classname,attr"`
			Attrs   []xml.Attr `xml:",any,attr"`
			Failure []struct {
				Message string     `xml:"message,attr"`
				Type    string     `xml:"type,attr"`
				Text    string     `xml:",chardata"`
				Attrs   []xml.Attr `xml:",any,attr"`
			} `xml:"failure"`
			Other []struct{ XMLName xml.Name } `xml:",any"`
		} `xml:"testcase"`
		Other []struct{ XMLName xml.Name } `xml:",any"`
	} `xml:"testsuite"`
	Other []struct{ XMLName xml.Name } `xml:",any"`
}

// TestJUnitIsReadByItsFormat reads what CI systems read, and nothing else.
func TestJUnitIsReadByItsFormat(t *testing.T) {
	for _, files := range []fs.FS{demo.Files(), demo.FaultyFiles()} {
		b, err := book.OpenFS(files, book.WithDatabase(mmdb.Locator))
		require.NoError(t, err)
		judge, err := b.Compile()
		require.NoError(t, err)
		consents, err := b.CompileConsent(judge)
		require.NoError(t, err)
		var out strings.Builder
		require.NoError(t, drill.Run(judge, consents, b.Drills).WriteJUnit(&out))
		var read junit
		require.NoError(t, xml.Unmarshal([]byte(out.String()), &read))
		require.True(t, len(read.Suites) == 1 && len(read.Attrs)+len(read.Other) == 0)
		suite, failed := read.Suites[0], 0
		require.True(t, suite.Name != "" && suite.Errors == 0 && suite.Skipped == 0 && len(suite.Attrs)+len(suite.Other) == 0)
		for _, c := range suite.Cases {
			require.True(t, c.Name != "" && c.Class != "" && len(c.Attrs)+len(c.Other) == 0 && len(c.Failure) <= 1)
			for _, f := range c.Failure {
				failed++
				require.True(t, f.Message != "" && f.Type != "" && f.Text != "" && len(f.Attrs) == 0)
			}
		}
		require.Equal(t, []int{len(suite.Cases), failed}, []int{suite.Tests, suite.Failures})
	}
}

func TestMutate(t *testing.T) {
	run := func(text string) *drill.Mutations {
		b, _, _ := open(t, text)
		m, err := drill.Mutate(drill.Book{Rulebook: b.Rulebook(), Consent: b.Consent, Tiers: b.Scopes, Clients: b.Clients}, b.Drills)
		require.NoError(t, err)
		require.Equal(t, m.Tried, m.Noticed+len(m.Survived))
		again, err := b.Compile()
		require.NoError(t, err)
		require.Equal(t, decide.Grant, again.Verdict(context.Background(), b.Drills[0].Attempt), "the book itself is left alone")
		return m
	}
	survivors := func(m *drill.Mutations) []string {
		var texts []string
		for _, s := range m.Survived {
			texts = append(texts, s.Of+" "+s.Text)
		}
		return texts
	}
	few := survivors(run(drills()))
	require.Subset(
		t,
		few,
		[]string{
			"base/abroad without networks",
			"base/rest grants instead of blocking",
			"consent/mild refuses instead",
			"pier reaches to 203.0.112.0/22",
		},
	)
	require.NotContains(t, few, "base/pier blocks instead of asking", "a drill notices that")
	require.NotContains(t, few, "base/abroad without countries")
	require.NotContains(t, few, "base/abroad comes after pier")
	// Each new drill notices more.
	more := survivors(run(drills(
		`- {name: beside, expect: block, by: base/rest, attempt: {at: 2026-11-23T13:10:00Z, account: ann, app: mail, ip: 203.0.112.9, `+
			`country: NO, proofs: [{method: password}]}}`,
		`- {name: tides, expect: allow, request: {at: 2026-11-23T13:10:00Z, account: ann, client: tides, scopes: [openid], redirect_uri: `+
			`"https://t.example/cb"}}`,
		`- {name: mail, expect: refuse, request: {at: 2026-11-23T13:10:00Z, account: ann, client: tides, scopes: [mail.read], redirect_uri: `+
			`"https://t.example/cb"}}`,
	)))
	for _, noticed := range []string{"base/rest grants instead of blocking", "consent/mild refuses instead", "pier reaches to 203.0.112.0/22",
		"consent/mild comes after rest"} {
		require.NotContains(t, more, noticed)
	}
	require.Less(t, len(more), len(few))
	for _, s := range more {
		require.Contains(t, few, s, "and none less")
	}
}

// TestWhatIsNoticedChangesADecision: a drill that notices a change decides
// otherwise by it, which a change of the expectation alone cannot bring about.
func TestWhatIsNoticedChangesADecision(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	changed := drill.Book{Rulebook: b.Rulebook(), Consent: b.Consent, Tiers: b.Scopes, Clients: b.Clients}
	m, err := drill.Mutate(changed, b.Drills)
	require.NoError(t, err)
	require.Equal(t, m.Noticed, len(m.Caught))
	// The changes of outcomes and networks can be made in the files: by those the
	// drill that noticed fails, and by the others none does.
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, demo.Files()))
	failing := func(c drill.Mutation) (names []string, made bool) {
		change, made := inFiles(c)
		if !made {
			return nil, false
		}
		b, err := book.Open(dir, book.WithChanges(change), book.WithDatabase(mmdb.Locator))
		require.NoError(t, err)
		judge, err := b.Compile()
		require.NoError(t, err)
		consents, err := b.CompileConsent(judge)
		require.NoError(t, err)
		for _, r := range drill.Run(judge, consents, b.Drills).Results {
			if !r.Passed {
				names = append(names, r.Name)
			}
		}
		return names, true
	}
	tried := 0
	for _, c := range m.Caught {
		if names, made := failing(c.Mutation); made {
			tried++
			require.Contains(t, names, c.Drill, "%+v", c)
		}
	}
	require.Greater(t, tried, 5)
	for _, c := range m.Survived {
		names, _ := failing(c)
		require.Empty(t, names, "%+v", c)
	}
	// Drills that fail anyway notice nothing.
	wrong := slices.Clone(b.Drills)
	for i := range wrong {
		wrong[i].Expect, wrong[i].By = map[bool]string{true: "step_up", false: "review"}[wrong[i].Attempt != nil], "none/none"
	}
	none, err := drill.Mutate(changed, wrong)
	require.NoError(t, err)
	require.Zero(t, none.Noticed)
	require.Equal(t, m.Tried, none.Tried)
}

// inFiles returns a change on trial as one of the files, where it can be made there.
func inFiles(m drill.Mutation) (book.Change, bool) {
	policy, rule, isRule := strings.Cut(m.Of, "/")
	path := "policies." + policy + ".rules." + rule + ".then"
	if policy == "consent" {
		path = "consent.rules." + rule + ".then"
	}
	for text, then := range map[string]string{"grants instead of blocking": "grant", "blocks instead of asking": "block",
		"allows instead": "allow", "refuses instead": "refuse"} {
		if isRule && m.Text == text {
			return book.Change{Path: path, Value: then}, true
		}
	}
	return book.Change{}, false
}

func TestDrillsThatAreNone(t *testing.T) {
	for text, want := range map[string]string{
		`- {name: d, expect: grant}`: "drills.yaml:3:3: drill d: give attempt or request, and one of them only",
		`- {name: d, expect: allow, attempt: {at: 2026-11-23T13:10:00Z, account: a, app: b}}`: `"allow" ` +
			`is none of grant, step_up, block`,
		`- {name: d, expect: grant, by: base, attempt: {at: 2026-11-23T13:10:00Z, account: a, app: b}}`: "names a " +
			"rule as policy/rule",
		`- {name: d, expect: grant, attempt: {at: 2026-11-23T13:10:00Z, acount: a, app: b}}`: `3:37: an ` +
			`attempt has no key "acount"; did you mean "account"?`,
		`- {name: d, expect: grant, attempt: {account: a, app: b}}`: "has no `at`",
		`- {name: d, expect: grant, attempt: 5}`: "expected " +
			"a mapping as it is written in JSON",
		`- {name: d, expect: allow, request: {at: 2026-11-23T13:10:00Z, account: a, client: b}}`: "asks for " +
			"no scope",
		`- {name: d, expect: allow, request: {at: 2026-11-23T13:10:00Z, acct: a}}`: `unknown ` +
			`field "acct"`,
		`- {name: d, expect: allow, with_shadow: block, request: {at: 2026-11-23T13:10:00Z, account: a, client: b, scopes: [c]}}`: "with_shadow is for an attempt",
	} {
		t.Run(text, func(t *testing.T) {
			_, err := book.OpenFS(
				fstest.MapFS{"world.yaml": {Data: []byte(world)}, "drills.yaml": {Data: []byte("briskwarden: 1\ndrills:\n" + text + "\n")}},
			)
			require.ErrorContains(t, err, want)
		})
	}
}

// TestAttemptsAreReadAsInJSON: what a drill's attempt leaves out is unknown, null
// is none, and numbers, truths and texts are what they are.
func TestAttemptsAreReadAsInJSON(t *testing.T) {
	b, _, _ := open(
		t,
		drills(
			`- {name: all, expect: block, attempt: {at: 2026-11-23T13:10:00Z, account: ann, app: mail, previous: null, location: {lat: 59.9, lon: 10},
    device: {id: "7", managed: true, facts: {firewall: true, patch_age_days: 12, os_version: "10.0"}, reported_at: 2026-11-23T12:00:00Z}}}`,
		),
	)
	a := b.Drills[2].Attempt
	require.Equal(t, time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC), a.At)
	require.True(t, a.Previous.IsNone())
	require.True(t, a.IP.IsUnknown())
	d, _ := a.Device.Get()
	require.Equal(
		t,
		[]attempt.Scalar{attempt.BoolScalar(true), attempt.NumberScalar(12), attempt.TextScalar("10.0")},
		[]attempt.Scalar{d.Facts["firewall"], d.Facts["patch_age_days"], d.Facts["os_version"]},
	)
}
