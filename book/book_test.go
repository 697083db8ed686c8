package book_test

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/mmdb"
	"github.com/briskwarden/briskwarden/directory/people"
)

func files(texts map[string]string) fstest.MapFS {
	all := fstest.MapFS{}
	for name, text := range texts {
		all[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return all
}

// wrongs are faulty files, each with the diagnostics that it must bring, all of
// them and no others.
var wrongs = map[string]struct {
	text string
	want []string
}{
	"no version":    {"accounts: []\n", []string{"1:1: the file lacks `briskwarden: 1`, which says that it is part of a book"}},
	"other version": {"briskwarden: 2\n", []string{`1:14: this program reads books of version 1, not "2"`}},
	"nothing":       {"# nothing\n", []string{"1:1: the file says nothing; a book begins with `briskwarden: 1`"}},
	"a list":        {"- 1\n", []string{"1:1: expected the sections of a book, which begins with `briskwarden: 1`, found a list"}},
	"two documents": {
		"briskwarden: 1\n---\nbriskwarden: 1\n",
		[]string{"2:1: a file is one document; take the `---` out or begin another file"},
	},
	"no YAML": {
		"briskwarden: 1\na: [1, 2\nb: 3\n",
		[]string{"3:2: not YAML: before this place a bracket `[` is not closed, or a comma is missing"},
	},
	"section": {"briskwarden: 1\npolicy: []\n", []string{`2:1: a book has no key "policy"; did you mean "policies"?`}},
	"key": {
		"briskwarden: 1\naccounts:\n- {name: a, grops: [g]}\n",
		[]string{`3:13: an account has no key "grops"; did you mean "groups"?`},
	},
	"lacks": {"briskwarden: 1\napps: [{tags: [x]}]\n", []string{`2:8: an app lacks the key "name"`}},
	"key twice": {
		"briskwarden: 1\napps:\n- {name: a, tags: [x], tags: [y]}\n",
		[]string{`3:24: "tags" stands twice; the other is on line 3`},
	},
	"name twice": {
		"briskwarden: 1\napps:\n- {name: a}\n- {name: a}\n",
		[]string{`4:3: app "a" is defined twice; the other is at x.yaml:3:3`},
	},
	"no name": {
		"briskwarden: 1\napps:\n- {name: ''}\n- {name: a b}\n",
		[]string{"3:10: a name cannot be empty", `4:10: a name has no spaces, control or format characters; this one has a space`},
	},
	"zone": {
		"briskwarden: 1\nsettings: {zone: Europe/Olso, otherwise: blok}\n",
		[]string{
			`2:18: "Europe/Olso" is no IANA time zone such as Europe/Oslo`,
			`2:42: expected grant, block or {require: [assurances]}, found "blok"; did you mean "block"?`,
		},
	},
	"range": {
		"briskwarden: 1\nnetworks: {n: {ranges: [203.0.113.5/24, 1.2.3]}, 10.0.0.1: {ranges: []}}\n",
		[]string{
			`2:25: "203.0.113.5/24" has bits set behind the /24; write 203.0.113.0/24 for the block or 203.0.113.5 for the one address`,
			`2:41: "1.2.3" is no IP address, CIDR block or range a-b`,
			`2:50: the network "10.0.0.1" is named like an address; give it a name of its own`,
		},
	},
	"country": {
		"briskwarden: 1\nregions: {r: [NO, UK], SE: [SE]}\n",
		[]string{
			`2:19: "UK" is not an assigned ISO 3166-1 code; did you mean GB?`,
			`2:24: the region "SE" is named like a country; give it a name of its own`,
		},
	},
	"window": {
		"briskwarden: 1\nwindows: {w: {from: 5, days: [frid]}, v: {from: '24:00'}}\n",
		[]string{
			`2:21: a time of day is written like "05:00", from 00:00 to 24:00, not "5"`,
			`2:31: "frid" is not a day of the week; did you mean "fri"?`,
			"2:39: window v starts at 24:00, the end of the day; write 00:00 for its beginning",
		},
	},
	"assurance": {
		"briskwarden: 1\nassurances: {s: {prove: [{within: 12h}]}, u: {prove: []}, v: {prove: [{any_of: [pasword]}, {traits: " +
			"[phishing_resistant, out_of_band]}]}}\n",
		[]string{
			"2:14: assurance s, item 1 of prove: give any_of or traits, and one of them only",
			"2:43: assurance u demands nothing; give prove, posture, change_password, accept, external, consent or enrol",
			"2:59: assurance v, item 2 of prove: no method has all of these traits",
			`2:81: method "pasword" is not defined; did you mean "password"?`,
		},
	},
	"references": {
		"briskwarden: 1\ngroups: [{name: crew}]\naccounts: [{name: a, groups: [crwe]}]\napps: [{name: p, open_to: [grew]}]\n",
		[]string{`3:31: group "crwe" is not defined; did you mean "crew"?`, `4:28: group "grew" is not defined; did you mean "crew"?`},
	},
	"group circle": {
		"briskwarden: 1\ngroups:\n- {name: c, includes: [b]}\n- {name: b, includes: [a]}\n- {name: a, includes: [c]}\n",
		[]string{`5:3: group a includes itself: a > c > b > a`},
	},
	"self": {"briskwarden: 1\ngroups: [{name: a, includes: [a]}]\n", []string{`2:10: group a includes itself: a > a`}},
	"policy circle": {
		"briskwarden: 1\npolicies:\n- {name: p, stage: live, who: anyone, apps: every, replaces: [q], rules: [{name: r, then: block}]}\n- " +
			"{name: q, stage: live, who: anyone, apps: every, replaces: [p], rules: [{name: r, then: block}]}\n",
		[]string{`3:3: policy p replaces itself: p > q > p`},
	},
	"policy": {
		"briskwarden: 1\npolicies: [{name: p, stage: alive, who: anybody, apps: {anyone: true}, rules: []}]\n",
		[]string{
			"2:12: policy p has no rules, so it never speaks; give it at least one",
			`2:29: "alive" is not a stage; did you mean "live"?`,
			`2:41: expected anyone or a condition with keys such as account_risk_at_least, accounts, anyone, found "anybody"`,
			`2:57: "anyone" makes no sense here; the keys are every, names, tags, all, any, not, except`,
		},
	},
	"rules": {
		"briskwarden: 1\npolicies:\n- name: p\n  stage: live\n  who: anyone\n  apps: every\n  rules:\n  - {name: r, then: {require: [x]}}\n  " +
			"- {name: r, then: {ask: 1}, when: {}}\n",
		[]string{
			`8:32: assurance "x" is not defined`,
			`9:5: rule "r" stands twice; the other is on line 8`,
			`9:22: an outcome has no key "ask"; it is one of require`,
			"9:37: the condition is empty; expected keys such as account_risk_at_least, accounts, anyone",
		},
	},
	"conditions": {
		condition("{countrys: [NO], networks: [], during: [w], networks: [n]}"),
		[]string{
			`2:77: a condition has no key "countrys"; did you mean "countries"?`,
			`2:103: the list of networks is empty; name at least one`,
			`2:116: window "w" is not defined`,
			`2:120: "networks" stands twice; the other is on line 2`,
		},
	},
	"condition values": {
		condition(
			"{networks: [1.2.3.4.5, pier, 10.0.0.1], countries: [XY, no], kinds: [human], through: [tunnel], our_network: yes, except: {every: " +
				"false}}",
		),
		[]string{
			`2:88: "1.2.3.4.5" is no IP address, CIDR block or range a-b`,
			`2:99: network "pier" is not defined`,
			`2:128: no region is named "XY"; and as a country: "XY" is not an ISO 3166-1 alpha-2 country code such as NO`,
			`2:132: no region is named "no"; and as a country: country codes are in capitals: write NO for "no"`,
			`2:145: "human" is no value of kinds; it is one of person, service, emergency`,
			`2:163: "tunnel" is no value of through; it is one of browser, native, unattended, unpromptable`,
			`2:185: expected true or false for our_network, found "yes"`,
			`2:206: expected true for every, found "false"`,
		},
	},
	"except alone": {
		condition("{except: {kinds: [person]}}"),
		[]string{"2:77: `except` takes away from what stands beside it, and nothing does"},
	},
	"alone": {
		condition("{all: [], not: 3}"),
		[]string{
			`2:82: expected a list of conditions for all, found an empty list`,
			`2:91: expected anyone or every or a condition with keys such as account_risk_at_least, accounts, anyone, found "3"`,
		},
	},
	"wrong shapes": {
		"briskwarden: 1\nnetworks: []\naccounts: {a: 1}\napps: [3, {name: [a]}, {name: b, tags: {}, public: maybe}]\n",
		[]string{
			`2:11: expected a mapping from names to definitions in networks, found an empty list`,
			"3:11: expected a list of items with a name in accounts, found a mapping",
			`4:8: expected an app with the keys name, about, tags, open_to, public, known_as, hosts, limits, over, found "3"`,
			"4:18: expected text, found a list",
			"4:40: expected a list for tags, found a mapping",
			`4:52: expected true or false for public, found "maybe"`,
		},
	},
	"a tag": {
		"briskwarden: 1\nsettings: {zone: !!binary aGk=, otherwise: !secret block}\n",
		[]string{`2:18: "aGk=" is no IANA time zone such as Europe/Oslo`, "2:44: the tag !secret has no meaning in a book; take it out"},
	},
	"a key that is not": {"briskwarden: 1\n? [a]\n: 1\n", []string{"2:3: a key is a word, not a list"}},
	"alias of itself": {
		"briskwarden: 1\npolicies:\n- name: p\n  stage: live\n  who: &w {any: [*w, {groups: [g]}]}\n  apps: every\n  rules: [{name: r, then: " +
			"block}]\ngroups: [{name: g}]\n",
		[]string{"5:18: the alias *w contains itself"},
	},
}

// condition is a file whose rule has this condition, which begins in column 73
// less one.
func condition(text string) string {
	return "briskwarden: 1\npolicies: [{name: p, stage: live, who: anyone, apps: every, rules: [{when: " + text +
		", name: r, then: block}]}]\n"
}

func TestEverythingWrongIsToldWithItsPlace(t *testing.T) {
	for name, c := range wrongs {
		_, err := book.OpenFS(files(map[string]string{"x.yaml": c.text}))
		var found book.Errors
		require.ErrorAs(t, err, &found, name)
		var got []string
		for _, d := range found {
			got = append(got, strings.TrimPrefix(d.String(), "x.yaml:"))
		}
		require.Equal(t, c.want, got, name)
	}
}

func TestWhatIsNoBook(t *testing.T) {
	dir := t.TempDir()
	write := func(name string, text []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	fails := func(path, want string) {
		t.Helper()
		_, err := book.Open(path)
		require.ErrorContains(t, err, want)
	}
	fails(filepath.Join(dir, "missing"), "there is no folder")
	fails(dir, "holds no book: it has no file that ends in .yaml or .yml")
	write("x.txt", []byte("briskwarden: 1\n"))
	fails(dir, "holds no book: it has no file that ends in .yaml or .yml")
	fails(filepath.Join(dir, "x.txt"), "is a file; a book is the folder that it is in")
	write("latin.yaml", []byte("briskwarden: 1\n# Bod\xf8\n"))
	fails(dir, "latin.yaml:1:1: the file is not UTF-8 text: line 2, column 6 has the byte 0xF8")
	write("latin.yaml", make([]byte, 50<<20))
	fails(dir, "larger than 32 MiB; spread it over several files")
	require.NoError(t, os.Remove(filepath.Join(dir, "latin.yaml")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "many"), 0o700))
	for i := range 10_000 {
		write(fmt.Sprintf("many/%d.txt", i), nil)
	}
	fails(dir, "cannot be read as a book: it holds more than 10000 files and folders; a book is in a folder of its own")
}

// TestEveryFileIsRead: whatever the ending's letters and wherever it lies; and what is
// not read is named.
func TestEveryFileIsRead(t *testing.T) {
	const app = "briskwarden: 1\napps: [{name: %s}]\n"
	stand := map[string]string{".drafts/x.yaml": "", ".hidden.yaml": "", "README.md": "", "deck.yaml.bak": "", "hr.csv": "name\nann\n",
		"seen/img.png": ""}
	for i, name := range []string{"a.yaml", "b.yml", "Corp.YAML", "d.YmL", "policies/deck.yaml", "a/b/c/deep.yml", "folder.yaml/in.yaml"} {
		stand[name] = fmt.Sprintf(app, fmt.Sprintf("app-%d", i))
	}
	stand["a.yaml"] += "imports: [{name: hr, file: hr.csv}]\n"
	b, err := book.OpenFS(files(stand))
	require.NoError(t, err)
	require.Len(t, b.Apps, 7)
	require.Equal(
		t,
		[]string{"Corp.YAML", "a.yaml", "a/b/c/deep.yml", "b.yml", "d.YmL", "folder.yaml/in.yaml", "policies/deck.yaml"},
		b.Files,
	)
	require.Equal(t, "policies/deck.yaml:2:8", b.Where("app", "app-4").String())
	var others []string
	for _, o := range b.NotRead {
		others = append(others, o.Name+": "+o.Why)
	}
	const ending = "its name does not end in .yaml or .yml"
	require.Equal(t, []string{".drafts: it is hidden", ".hidden.yaml: it is hidden", "README.md: " + ending, "deck.yaml.bak: " + ending,
		"seen/img.png: " + ending}, others)

	stand["policies/deck.yaml"] += "groups: [{name: crew, includes: [dekc]}]\n"
	_, err = book.OpenFS(files(stand))
	require.ErrorContains(t, err, `policies/deck.yaml:3:34: group "dekc" is not defined`)
}

func TestABombDoesNotGoOff(t *testing.T) {
	var bomb strings.Builder
	bomb.WriteString(
		"briskwarden: 1\npolicies:\n- name: p\n  stage: live\n  apps: every\n  rules: [{name: r, then: block}]\n  who:\n    all:\n    - &b0 " +
			"{any: [{groups: [g]}, {groups: [g]}]}\n",
	)
	for i := 1; i < 40; i++ {
		fmt.Fprintf(&bomb, "    - &b%d {any: [*b%d, *b%d]}\n", i, i-1, i-1)
	}
	bomb.WriteString("groups: [{name: g}]\n")
	_, err := book.OpenFS(files(map[string]string{"x.yaml": bomb.String()}))
	require.ErrorContains(t, err, "the aliases of the book unfold to more than 100000 values")
	_, err = book.OpenFS(files(map[string]string{"x.yaml": "briskwarden: 1\nsettings: " + strings.Repeat("[", 1<<20)}))
	require.ErrorContains(t, err, "brackets stand within brackets too deeply")
}

func TestFilesAreOneBook(t *testing.T) {
	one := "briskwarden: 1\ngroups: [{name: crew}]\nsettings: {zone: Europe/Oslo}\n"
	two := "briskwarden: 1\naccounts:\n- {name: liv, groups: crew, methods: &m [password]}\n- {name: per, methods: *m}\n"
	b, err := book.OpenFS(files(map[string]string{"a.yaml": one, "b.yaml": two}))
	require.NoError(t, err)
	require.Equal(t, []string{"crew"}, b.Accounts[0].Groups, "one value alone stands for a list of it")
	require.Equal(t, []string{"password"}, b.Accounts[1].Methods, "an alias stands for its anchor")
	require.Equal(t, "b.yaml:4:3", b.Where("account", "per").String())
	renamed, err := book.OpenFS(files(map[string]string{"z.yaml": one, "b.yaml": two}))
	require.NoError(t, err)
	require.Equal(t, b.Digest, renamed.Digest, "names of files do not matter")
	_, err = book.OpenFS(files(map[string]string{"a.yaml": one + "apps: [", "b.yaml": two}))
	require.EqualError(t, err, "a.yaml:5:1: not YAML: something is missing here: a value, or the end of a bracket\n"+
		`b.yaml:3:23: group "crew" is not defined, unless in a.yaml, which could not be read`)
	_, err = book.OpenFS(files(map[string]string{"a.yaml": one, "b.yaml": one}))
	require.ErrorContains(t, err, `b.yaml:2:10: group "crew" is defined twice; the other is at a.yaml:2:10`)
	require.ErrorContains(t, err, `b.yaml:3:12: setting "zone" is defined twice; the other is at a.yaml:3:12`)
}

func FuzzOpen(f *testing.F) {
	for _, c := range wrongs {
		f.Add(c.text)
	}
	entries, err := demo.Files().(interface {
		ReadDir(string) ([]os.DirEntry, error)
	}).ReadDir(".")
	require.NoError(f, err)
	for _, entry := range entries {
		text, err := demo.Files().(interface{ ReadFile(string) ([]byte, error) }).ReadFile(entry.Name())
		require.NoError(f, err)
		f.Add(string(text))
	}
	f.Fuzz(func(t *testing.T, text string) {
		b, err := book.OpenFS(files(map[string]string{"x.yaml": text}))
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		_, err = b.Compile()
		require.NoError(t, err, "what can be read can be compiled")
	})
}

// TestALongFileIsReadAsOne reads a file of more than a piece, with what is wrong in
// another piece than what it goes by.
func TestALongFileIsReadAsOne(t *testing.T) {
	var text strings.Builder
	text.WriteString("briskwarden: 1\naccounts:\n")
	for i := range 30_000 {
		fmt.Fprintf(&text, "- {name: person-%d@kestrelsound.example, groups: [crew]}\n", i)
	}
	long := text.String()
	require.Greater(t, len(long), 3<<19)
	opened, err := book.OpenFS(files(map[string]string{"x.yaml": long + "groups:\n- name: crew\n"}))
	require.NoError(t, err)
	require.Len(t, opened.Accounts, 30_000)
	require.Equal(t, "x.yaml:30002:3", opened.Where("account", "person-29999@kestrelsound.example").String())
	for name, c := range map[string]struct{ end, want string }{
		"a name that is not defined": {
			"- {name: a, groups: [crow]}\ngroups:\n- name: crew\n",
			"x.yaml:30003:22: group \"crow\" is not defined; did you mean \"crew\"?",
		},
		"a name that is defined twice": {
			"- {name: person-0@kestrelsound.example}\ngroups:\n- name: crew\n",
			"x.yaml:30003:3: account \"person-0@kestrelsound.example\" is defined twice; the other is at x.yaml:3:3",
		},
		"no YAML": {
			"- [\n",
			"x.yaml:30004:1: not YAML: something is missing here: a value, or the end of a bracket",
		},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := book.OpenFS(files(map[string]string{"x.yaml": long + c.end}))
			require.EqualError(t, err, c.want)
		})
	}
}

func TestWrongsCoverEachOther(t *testing.T) {
	// Every diagnostic of one file is told also where other files are wrong.
	all := map[string]string{}
	for i, name := range slices.Sorted(maps.Keys(wrongs)) {
		all[fmt.Sprintf("%02d.yaml", i)] = wrongs[name].text
	}
	_, err := book.OpenFS(files(all))
	var found book.Errors
	require.ErrorAs(t, err, &found)
	in := map[string]bool{}
	for _, d := range found {
		in[d.At.File] = true
	}
	require.Len(t, in, len(wrongs))
}

func TestImports(t *testing.T) {
	text := `briskwarden: 1
settings: {zone: Europe/Oslo}
groups: [{name: crew, includes: [deck]}]
methods: {crew-card: {kind: possession}}
accounts: [{name: ragna, groups: [crew]}]
imports:
- {name: hands, file: hands.csv, taken: 2026-11-16, methods: [password, crew-card]}
- {name: yard, file: yard.json}
`
	at := time.Date(2026, time.October, 1, 0, 0, 0, 0, time.UTC)
	all := files(map[string]string{"x.yaml": text,
		"hands.csv": "name,groups,methods\nliv,crew deck,\"push,pusch\"\nper,deck,\nodd name,deck,\n"})
	all["yard.json"] = &fstest.MapFile{
		ModTime: at,
		Data:    []byte(`[{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "1", "userName": "marek"}]`),
	}
	b, err := book.OpenFS(all)
	require.NoError(t, err)
	require.Equal(
		t,
		[]string{"ragna", "liv", "per", "marek"},
		[]string{b.Accounts[0].Name, b.Accounts[1].Name, b.Accounts[2].Name, b.Accounts[3].Name},
	)
	require.Equal(t, []string{"push"}, b.Accounts[1].Methods)
	require.Equal(t, []string{"password", "crew-card"}, b.Accounts[2].Methods, "where the file does not say")
	require.Equal(t, "hands.csv:3:1", b.Where("account", "per").String())
	require.Equal(t, "2026-11-15T23:00:00Z", b.Imported[0].TakenAt.UTC().Format(time.RFC3339))
	require.Equal(t, at, b.Imported[1].TakenAt, "when the file was last changed")
	require.Equal(t, []people.Skipped{{Line: 2, Text: `the account liv: method "pusch" is not defined; did you mean "push"?`},
		{
			Line: 4,
			Text: `the account "odd name": a name has no spaces, control or format characters; this one has a space`,
		}}, b.Imported[0].Skipped)
	judge, err := b.Compile()
	require.NoError(t, err)
	require.Equal(t, []string{"crew", "deck"}, judge.Directory().Profile(2).Groups(), "a group that both name is one")

	all["hands.csv"].Data = append(all["hands.csv"].Data, "nina,deck,\n"...)
	changed, err := book.OpenFS(all)
	require.NoError(t, err)
	require.NotEqual(t, b.Digest, changed.Digest)

	for want, change := range map[string][2]string{
		"x.yaml:7:3: import hands: none.csv: the file cannot be read": {"file: hands.csv",
			"file: none.csv"},
		`x.yaml:7:3: import hands: file names a file in the book's folder, such as people.csv, not "../x.csv"`: {"file: hands.csv",
			"file: ../x.csv"},
		`yard.json:1:1: import hands: the file has no account that could be read`: {"file: hands.csv",
			"file: yard.json"},
		`x.yaml:7:63: method "passwrod" is not defined; did you mean "password"?`: {"[password, crew-card]",
			"[passwrod]"},
	} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			all["x.yaml"].Data = []byte(strings.Replace(text, change[0], change[1], 1))
			if change[1] == "file: yard.json" {
				all["yard.json"].Data = []byte("[1]")
			}
			_, err := book.OpenFS(all)
			require.ErrorContains(t, err, want)
		})
	}
}

// TestChanges: a change takes the place of what the files say, wherever it stands.
func TestChanges(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, demo.Files()))
	plain, err := book.Open(dir, book.WithDatabase(mmdb.Locator))
	require.NoError(t, err)
	changes, err := book.ParseChanges(`settings.otherwise=grant, {require: [two-factors, no-phishing]},"block"`)
	require.NoError(t, err)
	require.Equal(
		t,
		[]book.Change{
			{"settings.otherwise", "grant"},
			{"settings.otherwise", "{require: [two-factors, no-phishing]}"},
			{"settings.otherwise", `"block"`},
		},
		changes,
	)
	for path, c := range map[string]struct {
		value string
		saw   func(b *book.Book) any
		want  any
	}{
		"settings.otherwise": {"grant", func(b *book.Book) any { return b.Settings.Otherwise.Blocks() }, false},
		"risk.levels.medium": {"50", func(b *book.Book) any { return b.Risk.Levels.Medium }, 50},
		"policies.night-watch.firm": {"true", func(b *book.Book) any {
			return b.Policies[slices.IndexFunc(b.Policies, func(p decide.Policy) bool { return p.Name == "night-watch" })].Firm
		}, true},
		"accounts.nina@kestrelsound.example.kind": {"service", func(b *book.Book) any {
			return b.Accounts[slices.IndexFunc(b.Accounts, func(a directory.Account) bool { return a.Name == "nina@kestrelsound.example" })].Kind
		}, directory.Service},
	} {
		t.Run(path, func(t *testing.T) {
			b, err := book.Open(dir, book.WithChanges(book.Change{Path: path, Value: c.value}), book.WithDatabase(mmdb.Locator))
			require.NoError(t, err)
			require.Equal(t, c.want, c.saw(b), path)
			require.NotEqual(t, c.want, c.saw(plain), path)
			require.NotEqual(t, plain.Digest, b.Digest)
		})
	}
	for path, want := range map[string]string{
		"rsk.levels.medium":       `the book has no rsk; did you mean "risk"?`,
		"policies.card-til.stage": `the book has no policies.card-til; did you mean "card-till"?`,
		"policies.card-till.stge": `a policy has no key "stge"; did you mean "stage"?`,
		"risk.levels.medium":      `expected a number for medium, found "{"`,
	} {
		t.Run(path, func(t *testing.T) {
			_, err := book.Open(dir, book.WithChanges(book.Change{Path: path, Value: `"{"`}))
			require.ErrorContains(t, err, want)
		})
	}
	_, err = book.ParseChanges("risk.levels.medium")
	require.ErrorContains(t, err, "write path=value,value")
	_, err = book.ParseChanges("risk.levels.medium=1,,2")
	require.ErrorContains(t, err, "one of the values is empty")
}

// TestParseChanges: commas part values where they stand in no brackets and quotes.
func TestParseChanges(t *testing.T) {
	for text, want := range map[string][]string{
		"a.b=1,2,3":                        {"1", "2", "3"},
		" a.b = 1 , 2 ":                    {"1", "2"},
		`a.b="x,y",'z,w'`:                  {`"x,y"`, "'z,w'"},
		"a.b=[1, 2],{c: [3, 4], d: 5},six": {"[1, 2]", "{c: [3, 4], d: 5}", "six"},
		"a.b=x=y":                          {"x=y"},
		"a.b=":                             nil,
		"=1":                               nil,
		"a.b":                              nil,
		"a.b=1,":                           nil,
	} {
		t.Run(text, func(t *testing.T) {
			changes, err := book.ParseChanges(text)
			var values []string
			for _, c := range changes {
				require.Equal(t, "a.b", c.Path)
				values = append(values, c.Value)
			}
			if want == nil {
				require.Error(t, err, text)
				return
			}
			require.NoError(t, err, text)
			require.Equal(t, want, values, text)
		})
	}
}

func FuzzParseChanges(f *testing.F) {
	f.Add("risk.levels.medium=20,40")
	f.Add(`settings.otherwise=grant,{require: ["a,b"]}`)
	f.Fuzz(func(t *testing.T, text string) {
		changes, err := book.ParseChanges(text)
		if err != nil {
			require.Empty(t, changes)
			return
		}
		require.NotEmpty(t, changes)
		for _, c := range changes {
			require.NotEmpty(t, c.Path)
			require.NotEmpty(t, c.Value)
			require.Contains(t, text, c.Value)
		}
	})
}

// TestChangesFindTheirPlace: by keys, by names that have dots in them, behind
// anchors, and in whichever file; and what is not there is told.
func TestChangesFindTheirPlace(t *testing.T) {
	texts := map[string]string{
		"a.yaml": "briskwarden: 1\nnetworks: {pier: {ranges: [203.0.113.0/24]}}\naccounts: [{name: a.b@one.example}, {name: a.b}]\n",
		"b.yaml": "briskwarden: 1\nnetworks:\n  quay: &quay {ranges: [198.51.100.0/24]}\n  dock: *quay\napps: [{name: mail, tags: [x]}]\n",
	}
	dir := t.TempDir()
	for name, text := range texts {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	// seen lists what a changed book says otherwise than the book as it stands.
	said := func(b *book.Book) (all []string) {
		for _, n := range b.Networks {
			all = append(all, fmt.Sprintf("%s %t %d", n.Name, n.Ours, len(n.Ranges)))
		}
		for _, a := range b.Accounts {
			all = append(all, fmt.Sprintf("%s %t", a.Name, a.Disabled))
		}
		return append(all, strings.Join(b.Apps[0].Tags, "+"), b.Settings.Zone.String(), fmt.Sprint(b.Risk.Levels.Medium))
	}
	plain, err := book.Open(dir, book.WithDatabase(mmdb.Locator))
	require.NoError(t, err)
	for _, c := range []struct {
		path, value string
		want        []string
	}{
		{"apps.mail.tags", "[x, y]", []string{"x+y"}},
		{"networks.quay.ours", "true", []string{"quay true 1", "dock true 1"}},
		{"networks.pier.ranges", "[203.0.113.0/25, 203.0.113.128/25]", []string{"pier false 2"}},
		{"accounts.a.b@one.example.disabled", "true", []string{"a.b@one.example true"}},
		{"accounts.a.b.disabled", "true", []string{"a.b true"}},
		{"settings.zone", "Europe/Oslo", []string{"Europe/Oslo"}},
		{"risk.levels", "{low: 1, medium: 20, high: 30}", []string{"20"}},
	} {
		t.Run(c.value, func(t *testing.T) {
			b, err := book.Open(dir, book.WithChanges(book.Change{Path: c.path, Value: c.value}))
			require.NoError(t, err, c.path)
			was := said(plain)
			require.Equal(t, c.want, slices.DeleteFunc(said(b), func(one string) bool { return slices.Contains(was, one) }), c.path)
		})
	}
	for _, c := range []struct{ path, value, want string }{
		{"settings.zne", "Europe/Oslo", `settings has no key "zne"; did you mean "zone"?`},
		{"windows.day.from", "05:00", "windows.day.from: the book has no windows; it is one of accounts, apps, networks"},
		{"networks.peer.ours", "true", `the book has no networks.peer; did you mean "pier"?`},
		{"networks.pier.ours.too", "true", "the book has no networks.pier.ours"},
		{"apps.mail.tags", "[", `"[" is no YAML value`},
		{"apps.mail.tags", "", `"" is no YAML value`},
	} {
		t.Run(c.value, func(t *testing.T) {
			_, err := book.Open(dir, book.WithChanges(book.Change{Path: c.path, Value: c.value}))
			require.ErrorContains(t, err, c.want)
		})
	}
	_, err = book.Open(t.TempDir(), book.WithChanges(book.Change{Path: "a", Value: "1"}))
	require.ErrorContains(t, err, "holds no book")
}

// TestDirectoryOutside: with accounts elsewhere a book may name whom it does not
// list, and nobody else's name is let through.
func TestDirectoryOutside(t *testing.T) {
	const policy = "briskwarden: 1\nassurances: {own: {prove: [{any_of: [password]}]}}\napps: [{name: mail}]\ngroups: [{name: crew, " +
		"members: [ann]}]\n" +
		"policies: [{name: p, stage: live, who: {accounts: [ann]}, apps: every, rules: [{name: r, then: {require: [own]}}]}]\n"
	_, err := book.OpenFS(fstest.MapFS{"b.yaml": {Data: []byte(policy)}})
	require.ErrorContains(t, err, `account "ann" is not defined`)
	_, err = book.OpenFS(fstest.MapFS{"b.yaml": {Data: []byte(policy + "settings: {directory: elsewhere}\n")}})
	require.ErrorContains(t, err, "is not a place of the directory")
	b, err := book.OpenFS(fstest.MapFS{"b.yaml": {Data: []byte(policy + "settings: {directory: outside}\n")}})
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	d := judge.Decide(
		context.Background(),
		&attempt.Attempt{
			At:      time.Date(2026, 11, 23, 11, 0, 0, 0, time.UTC),
			Account: "ann",
			App:     "mail",
			Proofs:  []attempt.Proof{{Method: "password"}},
		},
	)
	require.Equal(t, decide.AccountUnknown, d.Causes[0].Code, "named is not known")
}

func TestAnImportedAccountCanBeCompleted(t *testing.T) {
	files := fstest.MapFS{
		"b.yaml": {
			Data: []byte(
				"briskwarden: 1\nimports: [{name: hr, file: hr.csv}]\naccounts: [{name: ann, methods: [push], attributes: {floor: 3}}]\n",
			),
		},
		"hr.csv": {Data: []byte("name,methods,disabled,kind,town\nann,password,true,service,Bergen\nbob,password,,,\n")},
	}
	b, err := book.OpenFS(files)
	require.NoError(t, err)
	require.Len(t, b.Accounts, 2)
	ann := b.Accounts[0]
	require.Equal(t, []string{"push"}, ann.Methods, "the book wins key by key")
	require.Equal(t, directory.Service, ann.Kind)
	require.True(t, ann.Disabled, "and disabled by either is disabled")
	files["c.yaml"] = &fstest.MapFile{Data: []byte("briskwarden: 1\naccounts: [{name: bob}, {name: bob}]\n")}
	_, err = book.OpenFS(files)
	require.ErrorContains(t, err, `account "bob" is defined twice`)
}

// TestTheDigestHasNames: two imports whose files are exchanged are another book.
func TestTheDigestHasNames(t *testing.T) {
	digest := func(one, two string) string {
		b, err := book.OpenFS(
			fstest.MapFS{
				"b.yaml": {
					Data: []byte("briskwarden: 1\nimports: [{name: a, file: a.csv, methods: [password]}, {name: b, file: b.csv}]\n"),
				},
				"a.csv": {Data: []byte(one)},
				"b.csv": {Data: []byte(two)},
			},
		)
		require.NoError(t, err)
		return b.Digest
	}
	require.NotEqual(t, digest("name\nann\n", "name\nbob\n"), digest("name\nbob\n", "name\nann\n"))
	require.Equal(t, digest("name\nann\n", "name\nbob\n"), digest("name\nann\n", "name\nbob\n"))
}

// TestNoLinkLeadsOutOfABook: what a book can name is what is in its folder, and
// files alone.
func TestNoLinkLeadsOutOfABook(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("root:x:0:0\n"), 0o600))
	for name, link := range map[string]func(dir string) error{
		"a link out of the folder": func(dir string) error { return os.Symlink(secret, filepath.Join(dir, "x.yaml")) },
		"a pipe":                   func(dir string) error { return syscall.Mkfifo(filepath.Join(dir, "x.yaml"), 0o600) },
		"a linked folder":          func(dir string) error { return os.Symlink(filepath.Dir(secret), filepath.Join(dir, "x.yaml")) },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "b.yaml"), []byte("briskwarden: 1\n"), 0o600))
			require.NoError(t, link(dir))
			_, err := book.Open(dir)
			require.ErrorContains(t, err, "cannot be read")
			require.NotContains(t, err.Error(), "root:x")
		})
	}
}

// TestALongMappingHasNoKeyTwice looks behind the first few keys.
func TestALongMappingHasNoKeyTwice(t *testing.T) {
	var text strings.Builder
	text.WriteString("briskwarden: 1\ndevices:\n  - name: hub\n    facts:\n")
	for i := range 80 {
		fmt.Fprintf(&text, "      fact-%d: true\n", i%79)
	}
	_, err := book.OpenFS(fstest.MapFS{"b.yaml": {Data: []byte(text.String())}})
	require.ErrorContains(t, err, `"fact-0" stands twice; the other is on line 5`)
}
