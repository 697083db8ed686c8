package main_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/demo"
)

var writeViews = flag.Bool(
	"write-views",
	false,
	"write the views that the commands print into testdata, to be read before they are committed",
)

// work returns a folder with the demo's book and its faulty copy, in which
// commands can name them the same way each time.
func work(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	in(t, dir, 0, "demo", "--out", "kestrel")
	in(t, dir, 0, "demo", "--faulty", "--out", "faulty")
	in(t, dir, 0, "demo", "--proposed", "--out", "next")
	return dir
}

// in runs the program in a folder and returns what it printed.
func in(t *testing.T, dir string, status int, args ...string) string {
	t.Helper()
	ended, out, errOut := runIn(t, dir, args...)
	require.Equal(t, status, ended, "%v: %s%s", args, out, errOut)
	return out + errOut
}

// runIn runs the program in a folder, whatever its exit status.
func runIn(t *testing.T, dir string, args ...string) (status int, out, errOut string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	var stdout, stderr strings.Builder
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return cmd.ProcessState.ExitCode(), stdout.String(), stderr.String()
}

// golden compares what was printed with a file that was read; -write-views writes it.
func golden(t *testing.T, name, out string) {
	t.Helper()
	file := filepath.Join("testdata", name+".txt")
	if *writeViews {
		require.NoError(t, os.WriteFile(file, []byte(out), 0o600))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), out, name)
	require.NotContains(t, out, "\x1b")
}

const monday = "2026-11-23T13:10:00Z"

// TestViews compares what the commands print with files that were read.
func TestViews(t *testing.T) {
	dir := work(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "people.csv"), []byte("account,groups,joined,active,vessel\n"+
		"ragna@kestrelsound.example,shore it,2019-08-12,yes,\nliv@kestrelsound.example,engine|crew,2021-02-15,yes,MF Kestrel\n"+
		"former@kestrelsound.example,deck,2015-05-04,no,MF Kestrel\nodd name,deck,,yes,\npelle@kestrelsound.example,deck,soon,yes,\n"), 0o600))
	history(t, dir)
	ingrid := []string{"rehearse", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--app", "card-till", "--at", monday}
	for name, c := range map[string]struct {
		status int
		args   []string
	}{
		"start":            {0, []string{"start", "--book", "harbour", "--zone", "Europe/Oslo"}},
		"start-people":     {1, []string{"start", "--book", "yard", "--people", "people.csv", "--administrator", "liv@kestrelsound.example"}},
		"inspect":          {1, []string{"inspect", "--book", "kestrel", "--at", monday}},
		"inspect-history":  {1, []string{"inspect", "--book", "kestrel", "--history", "history.jsonl", "--at", monday}},
		"inspect-faulty":   {1, []string{"inspect", "--book", "faulty", "--at", monday, "--since", "kestrel"}},
		"inspect-explain":  {0, []string{"inspect", "--explain", "except-in-one-place"}},
		"inspect-checks":   {0, []string{"inspect", "--explain", "all"}},
		"explain":          {0, []string{"explain"}},
		"explain-policies": {0, []string{"explain", "policies"}},
		"explain-within":   {0, []string{"explain", "within"}},
		"describe-account": {0, []string{"describe", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--at", monday}},
		"describe-policy":  {0, []string{"describe", "--book", "kestrel", "--policy", "yard-hands", "--at", monday}},
		"describe-group":   {0, []string{"describe", "--book", "kestrel", "--by", "group", "--at", monday}},
		"reach":            {0, []string{"reach", "--book", "kestrel", "--at", monday}},
		"reach-account":    {0, []string{"reach", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--at", monday}},
		"reach-app":        {0, []string{"reach", "--book", "kestrel", "--app", "card-till", "--at", monday}},
		"rehearse-vary": {0, append(ingrid, "--device", "laptop-ingrid", "--proved", "password", "--vary", "risk,network,hour",
			"--until-granted")},
		"drill":        {0, []string{"drill", "--book", "kestrel", "--mutate"}},
		"drill-faulty": {1, []string{"drill", "--book", "faulty"}},
		"drill-junit":  {1, []string{"drill", "--book", "faulty", "--format", "junit"}},
		"prove":        {0, []string{"prove", "--book", "kestrel", "--at", monday}},
		"prove-newcomers": {0, []string{"prove", "--book", "kestrel", "--newcomers", "till-sleeps", "way-back-in",
			"--at", "2026-11-23T13:10:00Z"}},
		"prove-suggest": {0, []string{"prove", "--book", "kestrel", "--suggest", "--at", "2026-11-23T13:10:00Z"}},
		"prove-faulty":  {1, []string{"prove", "--book", "faulty", "--at", monday}},
		"prove-junit": {1, []string{"prove", "--book", "faulty", "--at", monday, "--format", "junit", "way-back-in",
			"yard-stays-in-the-yard"}},
		"replay":     {0, []string{"replay", "--book", "kestrel", "history.jsonl"}},
		"replay-set": {0, []string{"replay", "--book", "kestrel", "--set", "risk.levels.medium=20,60", "history.jsonl"}},
		"compare":    {0, []string{"compare", "kestrel", "faulty"}},
		"compare-exact": {1, []string{"compare", "kestrel", "next", "--exact", "--at", "2026-11-23T13:10:00Z",
			"--fail-on", "loosened"}},
		"compare-history": {1, []string{"compare", "kestrel", "next", "--history", "history.jsonl", "--fail-on", "loosened,locked-out"}},
		"compare-markdown": {1, []string{"compare", "kestrel", "next", "--history", "history.jsonl", "--fail-on", "locked-out", "--format",
			"markdown"}},
		"demo":            {0, []string{"demo"}},
		"readiness":       {1, []string{"readiness", "--book", "kestrel", "--at", monday, "--on", "2026-12-12"}},
		"readiness-csv":   {0, []string{"readiness", "--book", "kestrel", "--at", monday, "--format", "csv"}},
		"report":          {0, []string{"report", "--book", "kestrel", "--history", "history.jsonl", "--at", monday}},
		"report-markdown": {0, []string{"report", "--book", "kestrel", "--history", "history.jsonl", "--at", monday, "--format", "markdown"}},
		"journal-list": {0, []string{"journal", "list", "--book", "kestrel", "--history", "history.jsonl", "--policy", "card-till",
			"--most", "3"}},
		"schema": {0, []string{"schema"}},
	} {
		t.Run(name, func(t *testing.T) {
			out := in(t, dir, c.status, c.args...)
			golden(t, name, out)
		})
	}
}

// history writes the demo's month and a line that is no attempt; the month as events
// with a log-off; and a table.
func history(t *testing.T, dir string) {
	for name, text := range map[string]string{
		"history.jsonl": in(t, dir, 0, "demo", "--history") + "{\"at\": \"yesterday\"}\n",
		"events.jsonl":  in(t, dir, 0, "demo", "--history", "--ocsf") + `{"class_uid": 3002, "activity_id": 2}` + "\n",
		"table.csv":     "when,account,app,ip\n2026-11-23 14:10:00,ingrid@kestrelsound.example,mail,203.0.113.20\nsoon,x,y,\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
}

// TestTheBench drives each command of the writing bench in each format, with
// what may go wrong.
func TestTheBench(t *testing.T) {
	dir := work(t)
	for name, text := range map[string]string{
		"broken/x.yaml": "briskwarden: 1\npolicies:\n- {name: p, stage: alive}\n",
		"outside/x.yaml": "briskwarden: 1\nsettings: {directory: outside}\ngroups: [{name: crew}]\napps: [{name: mail}]\n" +
			"policies: [{name: p, stage: live, who: {groups: [crew]}, apps: every, rules: [{name: r, then: grant}]}]\n",
		"outside.csv": "name,groups,methods\nann,crew,password\n",
		"gap.csv":     "name,groups,joined\nann,crew,2026-01-01\nbob,crew,soon\n",
		"note.txt":    "hello",
	} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		})
	}
	history(t, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kestrel", "drill-taken.yaml"), []byte("briskwarden: 1\n"), 0o600))
	for _, c := range []struct {
		name   string
		status int
		args   []string
		want   string
	}{
		{"faulty demo", 0, []string{"demo", "--faulty"}, "Kestrel Sound Ferries with 6 mistakes, and what inspect says"},
		{"history and more", 2, []string{"demo", "--history", "--faulty"}, "--history goes with --ocsf and with nothing else"},
		{"nothing amiss", 0, []string{"inspect", "--book", "kestrel", "--fail-on", "error", "--at", monday}, "score 495 of 505"},
		{"notes too", 1, []string{"inspect", "--book", "faulty", "--fail-on", "note"}, "endless-exemption:tide-gauge"},
		{"broken book", 1, []string{"inspect", "--book", "broken"}, `"alive" is not a stage; did you mean "live"?`},
		{"its line", 1, []string{"inspect", "--book", "broken"}, "3 | - {name: p, stage: alive}"},
		{"broken book as SARIF", 1, []string{"inspect", "--book", "broken", "--format", "sarif"}, `"uri": "broken/x.yaml"`},
		{"SARIF", 1, []string{"inspect", "--book", "faulty", "--format", "sarif"}, `"level": "error"`},
		{"broken since", 0, []string{"inspect", "--book", "kestrel", "--since", "broken", "--fail-on", "error"}, "It was 0 of 0"},
		{"no check", 2, []string{"inspect", "--explain", "open-enrollment"},
			`there is no check "open-enrollment"; did you mean "open-enrolment"?`},
		{"no severity", 2, []string{"inspect", "--book", "kestrel", "--fail-on", "worst"},
			`"worst" is not a severity; it is one of note, warning, error`},
		{"no format", 2, []string{"inspect", "--book", "kestrel", "--format", "xml"}, `"xml" is not text or sarif`},
		{"no time", 2, []string{"inspect", "--book", "kestrel", "--at", "soon"}, `--at: "soon" is no time`},
		{"no book", 2, []string{"inspect", "--book", "none"}, "there is no folder none"},
		{"no older book", 2, []string{"inspect", "--book", "kestrel", "--since", "none"}, "--since: there is no folder none"},

		{"a book is there", 2, []string{"start", "--book", "kestrel"}, "holds a book already (apps.yaml), and nothing is overwritten"},
		{"no people", 2, []string{"start", "--book", "a", "--people", "none.csv"}, "--people none.csv: the file cannot be read"},
		{"no table", 2, []string{"start", "--book", "a", "--people", "note.txt"},
			"--people note.txt: the file is neither a SCIM ListResponse nor CSV"},
		{"no zone", 2, []string{"start", "--book", "a", "--zone", "Oslo"}, `"Oslo" is no IANA time zone`},

		{"markdown", 0, []string{"describe", "--book", "kestrel", "--by", "app", "--format", "markdown"}, "## card-till"},
		{"a policy", 0, []string{"describe", "--book", "kestrel"}, "No other policy can silence it."},
		{"two at once", 2, []string{"describe", "--book", "kestrel", "--policy", "bridge", "--account", "x"},
			"give one of --by, --policy and --account"},
		{"no grouping", 2, []string{"describe", "--book", "kestrel", "--by", "colour"}, "it is one of policy, app, group"},
		{"no policy", 2, []string{"describe", "--book", "kestrel", "--policy", "brigde"}, `did you mean "bridge"?`},
		{"no account", 2, []string{"describe", "--book", "kestrel", "--account", "nobody"}, `the book has no account "nobody"`},
		{"describe a broken book", 2, []string{"describe", "--book", "broken"}, "wrong with the book; nothing was judged"},

		{"reach abroad", 0, []string{"reach", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--country", "BR"},
			"can open 4 of 10 apps"},
		{"reach by proofs", 0, []string{"reach", "--book", "kestrel", "--app", "mail", "--proved", "password", "--proved", "push"}, "GRANT"},
		{"reach twice", 2, []string{"reach", "--book", "kestrel", "--account", "a", "--app", "b"}, "give --account or --app"},
		{"reach no app", 2, []string{"reach", "--book", "kestrel", "--app", "mial"}, "did you mean mail?"},

		{"ready", 0, []string{"readiness", "--book", "kestrel", "--at", monday}, "Nobody would be locked out on 2026-12-01"},
		{"kept", 0, []string{"rehearse", "--book", "kestrel", "--account", "liv@kestrelsound.example", "--app", "mail", "--keep-as", "liv-reads"},
			"kept as the drill liv-reads in kestrel/drill-liv-reads.yaml"},
		{"kept twice", 2, []string{"rehearse", "--book", "kestrel", "--account", "liv@kestrelsound.example", "--app", "mail", "--keep-as",
			"liv-reads"}, "kestrel/drill-liv-reads.yaml has a drill liv-reads already; give this one another name"},
		{"kept over a file", 2, []string{"rehearse", "--book", "kestrel", "--account", "liv@kestrelsound.example", "--app", "mail", "--keep-as",
			"taken"}, "exists already, and nothing is overwritten; give the drill another name"},
		{"kept as nothing", 0, []string{"rehearse", "--book", "kestrel", "--account", "liv@kestrelsound.example", "--app", "mail", "--keep-as",
			"null"}, "kept as the drill null"},
		{"kept and run", 0, []string{"drill", "--book", "kestrel"}, "All 11 drills passed"},
		{"kept before", 2, []string{"rehearse", "--book", "kestrel", "--account", "liv@kestrelsound.example", "--app", "mail", "--keep-as",
			"till-abroad"}, "has a drill till-abroad already"},
		{"two formats", 2, []string{"drill", "--book", "kestrel", "--format", "junit", "--json"},
			"give --json or --format junit, and one of them only"},
		{"no name", 2, []string{"rehearse", "--book", "kestrel", "--account", "liv@kestrelsound.example", "--app", "mail", "--keep-as", "../x"},
			"is no name of letters"},
		{"no drills", 2, []string{"drill", "--book", "none-yet"}, "there is no folder"},
		{"no guarantee", 2, []string{"prove", "--book", "kestrel", "till-stays-hme"},
			`the book has no guarantee "till-stays-hme"; did you mean "till-stays-home"?`},
		{"no format of proofs", 2, []string{"prove", "--book", "kestrel", "--format", "tap"}, `"tap" is not text, junit or sarif`},
		{"no time", 2, []string{"prove", "--book", "kestrel", "--limit", "0s"}, "--limit: a length of time is written like"},
		{"nothing to keep", 2, []string{"prove", "--book", "kestrel", "till-sleeps", "--at", monday, "--keep-as", "night"},
			"till-sleeps does not fail"},
		{"a proof as SARIF", 1, []string{"prove", "--book", "faulty", "--at", monday, "--format", "sarif", "yard-stays-in-the-yard"},
			`"guarantee-fails:yard-stays-in-the-yard"`},
		{"what fails is laid out", 1, []string{"prove", "--book", "faulty", "--at", monday, "--examples", "refuted"},
			"rehearse --book faulty --attempt refuted/yard-stays-in-the-yard.json"},
		{"and rehearsed", 0, []string{"rehearse", "--book", "faulty", "--attempt", "refuted/yard-stays-in-the-yard.json"}, "at crew-roster"},
		{"no report", 2, []string{"drill", "--book", "kestrel", "--format", "tap"}, `"tap" is not text or junit`},
		{"no such number of workers", 2, []string{"replay", "--book", "kestrel", "history.jsonl", "--workers", "-3"},
			"--workers: a history is read by 1 to"},
		{"replay twice", 0, []string{"replay", "--book", "kestrel", "history.jsonl", "history.jsonl", "--workers", "2"}, "6210 attempts:"},
		{"replay as recorded", 0, []string{"replay", "--book", "kestrel", "history.jsonl", "--as-recorded"}, "3105 attempts:"},
		{"replay a note", 2, []string{"replay", "--book", "kestrel", "note.txt"},
			"Nothing can be concluded from the history: none of its lines (1) could be read as an attempt."},
		{"replay nothing", 2, []string{"replay", "--book", "kestrel"}, "name the files of the history, or - for standard input"},
		{"replay no file", 2, []string{"replay", "--book", "kestrel", "history.jsonl", "none.jsonl"}, "none.jsonl: no such file"},
		{"replay a folder", 2, []string{"replay", "--book", "kestrel", "kestrel"}, "kestrel is neither a regular file nor a pipe"},
		{"replay events", 0, []string{"replay", "--book", "kestrel", "events.jsonl"},
			"Left out 1 record of something else than a sign-in, such as a log-off."},
		{"as many events", 0, []string{"replay", "--book", "kestrel", "events.jsonl"}, "3105 attempts:"},
		{"replay a table", 0, []string{"replay", "--book", "kestrel", "--columns", "at=when", "table.csv", "--aside", "aside.txt", "--bad-lines", "50"},
			`table.csv:3: column 1: "soon" is no time`},
		{"aside is not overwritten", 2, []string{"replay", "--book", "kestrel", "--columns", "at=when", "table.csv", "--aside", "aside.txt"},
			"--aside: aside.txt exists already, and nothing is overwritten"},
		{"no column", 2, []string{"replay", "--book", "kestrel", "table.csv"},
			"the header does not say which column is at; it has when, account, app, ip"},
		{"mixed", 2, []string{"replay", "--book", "kestrel", "table.csv", "history.jsonl"}, "CSV and JSON cannot be read together"},
		{"no such setting", 2, []string{"replay", "--book", "kestrel", "--set", "risk.levels.midium=3,4", "history.jsonl"},
			`levels of risk has no key "midium"; did you mean "medium"?`},
		{"no values", 2, []string{"replay", "--book", "kestrel", "--set", "risk", "history.jsonl"}, "--set: write path=value,value"},
		{"the same", 0, []string{"compare", "kestrel", "kestrel", "--fail-on", "loosened"}, "The books are the same. The gate loosened is open."},
		{"a gate", 1, []string{"compare", "kestrel", "next", "--fail-on", "loosened"}, "The gate loosened is shut."},
		{"nobody locked out", 0, []string{"compare", "kestrel", "kestrel", "--history", "history.jsonl", "--fail-on", "locked-out"},
			"The gate locked-out is open."},
		{"examples", 0, []string{"compare", "kestrel", "next", "--history", "history.jsonl", "--examples", "stopped"},
			"Next briskwarden rehearse --book next --attempt stopped/locked-out-1.json"},
		{"an example", 0, []string{"rehearse", "--book", "next", "--attempt", "stopped/locked-out-1.json", "--expect", "block"},
			"machines / from-elsewhere blocks"},
		{"it was granted", 0, []string{"rehearse", "--book", "kestrel", "--attempt", "stopped/locked-out-1.json", "--expect", "grant"}, "GRANT"},
		{"examples again", 2, []string{"compare", "kestrel", "next", "--history", "history.jsonl", "--examples", "stopped"},
			"--examples: the folder stopped is not empty, and nothing is overwritten; name a new one"},
		{"exactly the same", 0, []string{"compare", "kestrel", "kestrel", "--exact", "--fail-on", "loosened"}, "sign-ins are as before"},
		{"a pull request, exactly", 1, []string{"compare", "kestrel", "next", "--exact", "--format", "markdown", "--fail-on", "loosened"},
			"| loosens |"},
		{"exact examples", 0, []string{"compare", "kestrel", "next", "--exact", "--examples", "differs"},
			"briskwarden rehearse --book next --attempt differs/loosens-1.json"},
		{"a rehearsal of one", 0, []string{"rehearse", "--book", "next", "--attempt", "differs/loosens-1.json"}, "STEP UP"},
		{"a moment of nothing", 2, []string{"compare", "kestrel", "next", "--at", "2026-11-23T13:10:00Z"}, "--at goes with --exact"},
		{"examples of nothing", 2, []string{"compare", "kestrel", "next", "--examples", "stopped"}, "--examples are those of a --history"},
		{"one book", 2, []string{"compare", "kestrel"}, "name two folders, the older book and the newer"},
		{"a third", 2, []string{"compare", "kestrel", "next", "--book", "x"}, "leave --book out"},
		{"compare a broken book", 2, []string{"compare", "kestrel", "broken"}, "wrong with the book"},
		{"no gate", 2, []string{"compare", "kestrel", "next", "--fail-on", "lose"}, `"lose" is no gate; it is one of loosened, locked-out`},
		{"a gate without history", 2, []string{"compare", "kestrel", "next", "--fail-on", "locked-out"},
			"--fail-on locked-out needs a --history to judge"},
		{"compare with no file", 2, []string{"compare", "kestrel", "next", "--history", "none.jsonl"}, "none.jsonl: no such file"},
		{"reach of nobody knows whom", 2, []string{"reach", "--book", "outside"}, "list them with --people FILE"},
		{"readiness of the same", 2, []string{"readiness", "--book", "outside"}, "list them with --people FILE"},
		{"a comparison of the same", 2, []string{"compare", "outside", "outside"}, "list them with --people FILE"},
		{"an inspection of the same", 1, []string{"inspect", "--book", "outside"}, "accounts-unlisted:book"},
		{"reach of those listed", 0, []string{"reach", "--book", "outside", "--people", "outside.csv", "--app", "mail"}, "ann"},
		{"a listing with a gap", 2, []string{"reach", "--book", "outside", "--people", "gap.csv"},
			"--people gap.csv: line 3: the account bob: joined"},
		{"a listing of nothing", 2, []string{"reach", "--book", "outside", "--people", "none.csv"}, "--people none.csv"},
		{"a listing beside a list", 2, []string{"reach", "--book", "kestrel", "--people", "outside.csv"}, "lists its accounts itself"},
		{"one step", 0, []string{"demo", "--step", "8"}, "jonas@kestrelsound.example has nothing enrolled"},
		{"the six attempts", 0, []string{"demo", "--step", "4"}, "The join"},
		{"a step too far", 2, []string{"demo", "--step", "10"}, "--step: the walk has steps 1 to 9, not 10"},
		{"proposed nowhere", 2, []string{"demo", "--proposed"}, "--proposed goes with --out"},
		{"events of nothing", 2, []string{"demo", "--ocsf"}, "--ocsf says how --history is printed"},
		{"no rollout", 2, []string{"readiness", "--book", "kestrel", "--rollout", "crew"}, `the book has no rollout "crew"`},
		{"no day", 2, []string{"readiness", "--book", "kestrel", "--on", "soon"}, "--on: a day is written like 2026-11-23"},
		{"no table", 2, []string{"readiness", "--book", "kestrel", "--format", "pdf"}, `"pdf" is not text or csv`},
		{"vary nothing", 2, []string{"rehearse", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--app", "mail", "--vary",
			"colour"}, "--vary: \"colour\" is nothing to vary"},
		{"one way", 0, []string{"rehearse", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--app", "mail", "--ip",
			"192.0.2.70", "--until-granted"}, "Prove password, and prove push"},
		{"one circumstance", 0, []string{"rehearse", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--app", "mail", "--vary",
			"network"}, "By network"},
		{"no schema", 2, []string{"schema", "decison"}, `there is no schema "decison"; did you mean "decision"?`},
		{"two schemas", 2, []string{"schema", "book", "attempt"}, "schema takes one name, found book, attempt"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out := in(t, dir, c.status, c.args...)
			require.Contains(t, strings.Join(strings.Fields(out), " "), strings.Join(strings.Fields(c.want), " "))
		})
	}
	for _, args := range [][]string{
		{"inspect", "--book", "kestrel"}, {"inspect", "--book", "broken"}, {"inspect", "--explain", "all"}, {"inspect", "--explain", "no-owner"},
		{"describe", "--book", "kestrel"},
		{"reach", "--book", "kestrel"}, {"reach", "--book", "kestrel", "--app", "mail"}, {"readiness", "--book", "kestrel"}, {"drill", "--book",
			"kestrel", "--mutate"}, {"replay", "--book", "kestrel", "history.jsonl"}, {"replay", "--book", "kestrel", "--set", "risk.levels.low=1,2",
			"history.jsonl"}, {"compare", "kestrel", "next", "--history", "history.jsonl"}, {"demo"}, {"start", "--book", "json"}, {"schema"}, {
			"schema", "book"}, {"demo", "--faulty"},
	} {
		cmd := exec.Command(program, append(args, "--json")...)
		cmd.Dir = dir
		out, _ := cmd.Output()
		var anything map[string]any
		require.NoError(t, json.Unmarshal(out, &anything), "%v", args)
		require.NotEmpty(t, anything)
	}
	for _, command := range []string{"start", "inspect", "describe", "reach", "readiness", "drill", "replay", "compare", "schema"} {
		require.Contains(t, in(t, dir, 0, command, "--help"), "Examples:")
	}
	files, err := os.ReadDir(filepath.Join(dir, "a"))
	require.True(t, os.IsNotExist(err) || len(files) == 0, "a book that could not be started leaves nothing behind")
}

// TestTheFaultyDemoIsTold holds what a person reads against the faults.
func TestTheFaultyDemoIsTold(t *testing.T) {
	out := in(t, t.TempDir(), 0, "demo", "--faulty")
	for _, f := range demo.Faults() {
		require.Contains(t, strings.Join(strings.Fields(out), " "), f.Title)
		require.Contains(t, out, f.Finding)
	}
}

// TestTheWalkCanBeWalked: laid out as the walk says, each of its commands runs and
// prints what the walk shows of it, and so does each that shows more.
func TestTheWalkCanBeWalked(t *testing.T) {
	dir := t.TempDir()
	in(t, dir, 0, "demo", "--out", demo.Folder)
	in(t, dir, 0, "demo", "--proposed", "--out", demo.ProposedFolder)
	require.NoError(t, os.WriteFile(filepath.Join(dir, demo.HistoryFile), []byte(in(t, dir, 0, "demo", "--history")), 0o600))
	in(
		t,
		dir,
		0,
		"consent",
		"import",
		"--book",
		demo.Folder,
		"--file",
		demo.Folder+"/grants.csv",
		"--as",
		"ragna@kestrelsound.example",
		"--yes",
	)
	t.Setenv("TMPDIR", t.TempDir())
	shown := in(t, dir, 0, "demo")
	for i, step := range demo.Walk() {
		require.Contains(t, shown, fmt.Sprintf("%d %s\n", i+1, step.Title))
		more := exec.Command(program, strings.Fields(step.More)[1:]...)
		more.Dir = dir
		out, err := more.Output()
		require.Less(t, more.ProcessState.ExitCode(), 2, "%s: %v", step.More, err)
		require.NotEmpty(t, out)
		if step.Scenes {
			continue
		}
		cmd := exec.Command(program, step.Command...)
		cmd.Dir = dir
		out, err = cmd.Output()
		require.Less(t, cmd.ProcessState.ExitCode(), 2, "%v: %v", step.Command, err)
		if step.Command[0] == "describe" || step.Command[0] == "drill" || step.Command[0] == "replay" ||
			step.Command[0] == "compare" { // the others depend on the day
			for _, line := range strings.Split(string(out), "\n")[:step.Lines] {
				require.Contains(t, shown, strings.TrimRight("  │ "+line, " "))
			}
		}
	}
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "briskwarden-demo-*"))
	require.NoError(t, err)
	require.Empty(t, left, "the walk leaves nothing behind")
}

// TestInterruptedHistory: a comparison, as a replay, that is interrupted tells what
// it has and ends with 2.
func TestInterruptedHistory(t *testing.T) {
	dir := work(t)
	line := `{"at": "2026-11-23T13:10:00Z", "account": "ingrid@kestrelsound.example", "app": "mail"}` + "\n"
	for _, args := range [][]string{{"replay", "--book", "kestrel", "-"}, {"compare", "kestrel", "next", "--history", "-"}} {
		cmd := exec.Command(program, args...)
		cmd.Dir = dir
		var out, errOut strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &errOut
		input, err := cmd.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		_, err = input.Write([]byte(strings.Repeat(line, 30_000)))
		require.NoError(t, err)
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		// The reader notices when the next lines come.
		_, _ = input.Write([]byte(strings.Repeat(line, 30_000)))
		_ = input.Close()
		_ = cmd.Wait()
		require.Equal(t, 2, cmd.ProcessState.ExitCode(), errOut.String())
		require.Contains(t, out.String(), "Nothing can be concluded from the history: it was interrupted before the end.")
	}
}

// TestColours: on a terminal, what is bad is red, what is good green, and what needs
// care yellow.
func TestColours(t *testing.T) {
	t.Setenv("CLICOLOR_FORCE", "1")
	t.Setenv("TERM", "xterm-256color")
	t.Setenv("NO_COLOR", "")
	dir := t.TempDir()
	in(t, dir, 0, "demo", "--out", "kestrel")
	in(t, dir, 0, "demo", "--faulty", "--out", "faulty")
	const red, green, yellow = "\x1b[1;91m", "\x1b[1;92m", "\x1b[1;93m"
	ask := []string{"consent", "rehearse", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--at", monday, "--client"}
	for name, c := range map[string]struct {
		status int
		args   []string
		want   []string
	}{
		"verdicts":   {0, []string{"demo", "--step", "4"}, []string{green + "GRANT", yellow + "STEP UP", red + "BLOCK"}},
		"drills":     {1, []string{"drill", "--book", "faulty"}, []string{red + "FAILED", green + "PASSED"}},
		"readiness":  {1, []string{"readiness", "--book", "kestrel", "--at", monday, "--on", "2026-12-12"}, []string{red + "LOCKED OUT"}},
		"inspection": {0, []string{"demo", "--faulty"}, []string{red + "ERROR", yellow + "WARNING"}},
		"reach":      {0, []string{"reach", "--book", "kestrel", "--at", monday}, []string{green + "grant", red + "block"}},
		"allowed": {0, append(slices.Clone(ask), "tide-table", "--scope", "tides.read", "--redirect", "https://tidewise.example/answer"),
			[]string{green + "ALLOW"}},
		"refused":  {0, append(slices.Clone(ask), "voyage-log", "--scope", "mail.read.all"), []string{red + "REFUSE"}},
		"reviewed": {0, append(slices.Clone(ask), "voyage-log", "--scope", "mail.read"), []string{yellow + "REVIEW"}},
	} {
		t.Run(name, func(t *testing.T) {
			out := in(t, dir, c.status, c.args...)
			for _, want := range c.want {
				require.Contains(t, out, want)
			}
		})
	}
}

// TestTheCommandsOfAReportWork runs what the report says is behind its numbers.
func TestTheCommandsOfAReportWork(t *testing.T) {
	dir := work(t)
	history(t, dir)
	var made struct {
		Troubles, Rules, Stopped, Addresses []struct{ Text, Command string }
		Rollouts                            []struct{ Command string }
		Next                                []struct{ Command string }
	}
	require.NoError(
		t,
		json.Unmarshal([]byte(in(t, dir, 0, "report", "--book", "kestrel", "--history", "history.jsonl", "--at", monday, "--json")), &made),
	)
	commands := map[string]bool{}
	for _, list := range [][]struct{ Text, Command string }{made.Troubles, made.Rules, made.Stopped, made.Addresses} {
		for _, x := range list {
			commands[x.Command] = true
		}
	}
	require.Greater(t, len(commands), 10)
	for command := range commands {
		words := strings.Fields(command)
		require.Equal(t, []string{"briskwarden", "journal", "list"}, words[:3])
		out := in(t, dir, 0, append(words[1:], "--most", "1")...)
		require.Contains(t, out, "1 entry", command)
	}
	t.Run("the demo's page", func(t *testing.T) {
		require.Contains(t, in(t, dir, 0, "demo", "--report", "month.html"), "8 things look wrong")
		page, err := os.ReadFile(filepath.Join(dir, "month.html"))
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(string(page), "<!DOCTYPE html>"))
		_, _, errOut := runIn(t, dir, "demo", "--report", "month.html")
		require.Contains(t, errOut, "exists already")
	})
}
