package main_test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
)

// TestNoGateOpensWithoutEvidence gives replay and compare histories on which nothing can
// be built: each says so first, in each format, and ends with 2.
func TestNoGateOpensWithoutEvidence(t *testing.T) {
	dir := work(t)
	history(t, dir)
	good := `{"at": "2026-11-23T13:10:00Z", "account": "ingrid@kestrelsound.example", "app": "mail"}` + "\n"
	stranger := `{"at": "2026-11-23T13:10:00Z", "account": "x@elsewhere.example", "app": "mail"}` + "\n"
	const nothing = "Nothing can be concluded from the history: "
	for name, c := range map[string]struct{ file, text, want string }{
		"an empty file":           {"a.jsonl", "", "it holds no attempt"},
		"empty lines":             {"a.jsonl", "\n\n", "it holds no attempt"},
		"a log-off alone":         {"a.jsonl", `{"class_uid": 3002, "activity_id": 2, "time": 1700000000000}` + "\n", "it holds no attempt"},
		"a key of another name":   {"a.jsonl", strings.Replace(good, `"at"`, `"when"`, 1), "none of its lines (1) could be read as an attempt"},
		"text that is not packed": {"a.jsonl.gz", "october\n", "none of its lines (1) could be read as an attempt"},
		"a table of wrong dates": {"a.csv", "at,account,app\n23.11.2026,ingrid@kestrelsound.example,mail\n",
			"none of its lines (1) could be read as an attempt"},
		"a table without records": {"a.csv", "at,account,app\n", "it holds no attempt"},
		"2 of 100 lines": {"a.jsonl", strings.Repeat(good, 98) + "x\ny\n",
			"2 of its 100 lines could not be read, and at most 1 in a hundred may be left out"},
		"nobody of the book": {"a.jsonl", strings.Repeat(stranger, 3), "none of its attempts (3) is of an account and an app that the book has"},
		"cut short": {"a.jsonl.gz", "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\xff",
			"it could not be read to the end: a.jsonl.gz: unexpected EOF"},
	} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, c.file), []byte(c.text), 0o600))
			out := in(t, dir, 2, "replay", "--book", "kestrel", c.file)
			require.True(t, strings.HasPrefix(out, nothing+c.want+".\n"), out)
			require.NotContains(t, out, "0001-01-01")

			gate := []string{"compare", "kestrel", "next", "--fail-on", "locked-out", "--history", c.file}
			shut := "The gate locked-out cannot be judged: nothing can be concluded from the history: " + c.want + ".\n"
			out = in(t, dir, 2, gate...)
			require.True(t, strings.HasPrefix(out, shut), out)
			require.NotContains(t, out, "0001-01-01")
			require.NotContains(t, out, "\nNothing happens")
			require.Contains(t, in(t, dir, 2, append(gate, "--format", "markdown")...), "Gate `locked-out`: **cannot be judged**: ")

			var report struct {
				Gates   []struct{ Unjudged string }
				History struct{ Unjudged string }
			}
			document(t, dir, 2, &report, append(gate, "--json")...)
			require.Equal(t, c.want, report.History.Unjudged)
			require.Contains(t, report.Gates[0].Unjudged, c.want)
		})
	}
	in(t, dir, 0, "replay", "--book", "kestrel", "--bad-lines", "50", "table.csv", "--columns", "at=when")
	require.Contains(
		t,
		in(t, dir, 2, "replay", "--book", "kestrel", "--bad-lines", "100", "table.csv"),
		"--bad-lines is a part of a hundred",
	)
}

// document runs a command with --json, which prints one document whatever happens.
func document(t *testing.T, dir string, status int, into any, args ...string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	out, _ := cmd.Output()
	require.Equal(t, status, cmd.ProcessState.ExitCode(), "%v: %s", args, out)
	require.NoError(t, json.Unmarshal(out, into), "%v: %s", args, out)
}

// TestOneDocument: what fails late does not print a second document, and what can be seen
// to fail is seen before anything is judged.
func TestOneDocument(t *testing.T) {
	dir := work(t)
	history(t, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "taken"), nil, 0o600))
	for name, args := range map[string][]string{
		"a file that breaks off": {"replay", "--book", "kestrel", "history.jsonl", "none.jsonl"},
		"aside is taken":         {"replay", "--book", "kestrel", "history.jsonl", "--aside", "taken"},
		"aside is nowhere":       {"replay", "--book", "kestrel", "history.jsonl", "--aside", "no/where"},
		"examples are taken":     {"compare", "kestrel", "next", "--history", "history.jsonl", "--examples", "kestrel"},
		"examples are a file":    {"compare", "kestrel", "next", "--history", "history.jsonl", "--examples", "taken"},
		"a drill of that name": {"rehearse", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--app", "mail",
			"--keep-as", "a/b"},
		"no such book": {"inspect", "--book", "none"},
	} {
		t.Run(name, func(t *testing.T) {
			var printed map[string]any
			document(t, dir, 2, &printed, append(args, "--json")...)
			require.Contains(t, printed, "errors")
		})
	}
}

// TestNothingPassesByAMisspeltName: a verdict that is expected is no evidence where the
// attempt names what the book does not have.
func TestNothingPassesByAMisspeltName(t *testing.T) {
	dir := work(t)
	ingrid, block := "ingrid@kestrelsound.example", []string{"rehearse", "--book", "kestrel", "--expect", "block"}
	person := func(account, app string, more ...string) []string {
		return append(append(slices.Clone(block), "--account", account, "--app", app), more...)
	}
	for name, c := range map[string]struct {
		status int
		args   []string
		want   string
	}{
		"an account": {2, person("ingird@kestrelsound.example", "mail"), `Did you mean ingrid@kestrelsound.example?`},
		"an app":     {2, person(ingrid, "mial"), `The book has no app "mial". Did you mean mail?`},
		"a method":   {2, person(ingrid, "mail", "--proved", "pasword"), `--proved: the book has no method "pasword"; did you mean "password"?`},
		"a check": {2, person(ingrid, "mail", "--checked", "shipyard-verifer:passed"),
			`The outside check "shipyard-verifer" counts for nothing: the book asks for none of that name; did you mean "shipyard-verifier"?`},
		"a document": {2, person(ingrid, "mail", "--accepted", "crew-handbok:3"), `did you mean "crew-handbook"?`},
		"a signal": {2, person(ingrid, "mail", "--signal", "leaked-lst"),
			`--signal: the book has no signal "leaked-lst"; did you mean "leaked-list"?`},
		"it is meant":               {0, person("x@elsewhere.example", "mail", "--unlisted"), "BLOCK"},
		"it is meant, and is there": {2, person(ingrid, "mail", "--unlisted"), "--unlisted: the book has all that the attempt names"},
		"without an expectation":    {0, []string{"rehearse", "--book", "kestrel", "--account", "x@elsewhere.example", "--app", "mail"}, "BLOCK"},
		"a drill is not kept": {2, []string{"rehearse", "--book", "kestrel", "--account", "x@elsewhere.example", "--app", "mail",
			"--keep-as", "z"},
			"--unlisted says that it is meant"},
		"a drill is kept": {0, []string{"rehearse", "--book", "kestrel", "--account", "x@elsewhere.example", "--app", "mail", "--keep-as", "x",
			"--unlisted"}, "kept as the drill x"},
		"a detected signal is no drill": {2, []string{"rehearse", "--book", "kestrel", "--account", ingrid, "--app", "mail", "--keep-as", "y",
			"--signal", "too-fast"}, "it does not hold what is supposed here: too-fast is taken as noticed"},
	} {
		t.Run(name, func(t *testing.T) { require.Contains(t, in(t, dir, c.status, c.args...), c.want) })
	}
	require.Contains(t, in(t, dir, 0, "drill", "--book", "kestrel"), "All 10 drills passed")

	attempts := map[string]string{
		"account": `{account: ingird@kestrelsound.example, app: mail}`, "app": `{account: ingrid@kestrelsound.example, app: mial}`,
		"method": `{account: ingrid@kestrelsound.example, app: mail, proofs: [{method: pasword}]}`,
		"failed": `{account: ingrid@kestrelsound.example, app: mail, failed: [{method: pussh, reason: refused}]}`,
		"signal": `{account: ingrid@kestrelsound.example, app: mail, signals: [leaked-lst]}`,
		"before": `{account: ingrid@kestrelsound.example, app: mail, session: {proofs: [{method: push, app: mial}]}}`,
	}
	for name, text := range attempts {
		t.Run("drill on "+name, func(t *testing.T) {
			file := filepath.Join(dir, "kestrel", "misspelt.yaml")
			text = strings.Replace(text, "{", "{at: 2026-11-23T01:10:00Z, ip: 192.0.2.150, country: BR, ", 1)
			for _, expect := range []string{"block", "step_up"} {
				require.NoError(
					t,
					os.WriteFile(file, []byte("briskwarden: 1\ndrills: [{name: m, expect: "+expect+", attempt: "+text+"}]\n"), 0o600),
				)
				out := in(t, dir, 1, "drill", "--book", "kestrel")
				require.Contains(t, out, "FAILED  m")
				require.Contains(t, out, "Where that is meant, the drill says `unlisted: true`.")
			}
			require.NoError(t, os.Remove(file))
		})
	}
}

// TestASignalThatTheBookDetectsCanBeTried: as if it had been noticed, whatever the facts.
func TestASignalThatTheBookDetectsCanBeTried(t *testing.T) {
	dir := work(t)
	till := []string{"--book", "kestrel", "--app", "card-till", "--device", "laptop-ingrid", "--proved", "password", "--ip",
		"203.0.113.20", "--at", monday}
	rehearse := append([]string{"rehearse", "--account", "ingrid@kestrelsound.example"}, till...)
	require.True(t, strings.HasPrefix(in(t, dir, 0, rehearse...), "GRANT"))
	out := in(t, dir, 0, append(rehearse, "--signal", "too-fast")...)
	require.True(t, strings.HasPrefix(out, "BLOCK"), out)
	require.Contains(t, out, "too-fast is taken as noticed")
	require.Contains(t, strings.Join(strings.Fields(in(t, dir, 0, append([]string{"reach", "--signal", "too-fast"}, till...)...)), " "),
		"too-fast is taken as noticed, whatever the facts that the book detects it from.")
}

// TestWhatOthersWroteDoesNotAct: names and reasons that come from anybody neither draw on
// the terminal nor run in the shell of the administrator who copies a suggested command.
func TestWhatOthersWroteDoesNotAct(t *testing.T) {
	dir := work(t)
	const client = "x$(touch${IFS}pwned)"
	book := []string{"--book", "kestrel", "--at", monday}
	consent := func(status int, args ...string) string {
		return in(t, dir, status, append(append([]string{"consent"}, args...), book...)...)
	}
	consent(0, "ask", "--account", "ingrid@kestrelsound.example", "--client", "a\x1b[2Jb", "--scope", "mail.read",
		"--redirect", "https://a.example/cb", "--why", "safe\u202e\x1b[1A\u200bdone")
	require.Contains(t, consent(2, "ask", "--account", "ingrid@kestrelsound.example", "--client", "a", "--scope", "mail.read", "--why",
		"\x9b"),
		`"\x9b" is not UTF-8 text`)
	queue := consent(0, "queue")
	require.NotRegexp(t, `[\x00-\x08\x0b-\x1f\x7f\x{80}-\x{9f}\x{200b}\x{202e}]`, queue)
	require.Contains(t, queue, `a\u001b[2Jb`)
	require.Contains(t, queue, `safe\u202e\u001b[1A\u200b`)
	var queued struct{ Batches []struct{ Client string } }
	document(t, dir, 0, &queued, append([]string{"consent", "queue", "--json"}, book...)...)
	require.Equal(t, "a\x1b[2Jb", queued.Batches[0].Client, "a program reads what was said")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "grants.json"),
		[]byte(`[{"client_id": "`+client+`", "redirect_uris": ["https://x.example/cb"]},
		{"client_id": "`+client+`", "scope": "mail.read", "account": "ingrid@kestrelsound.example"}]`), 0o600))
	consent(0, "import", "--file", "grants.json", "--as", "ragna@kestrelsound.example", "--yes")
	strays := consent(1, "strays")
	require.Contains(t, strays, `--client '`+client+`' --as REVIEWER`)
	require.Contains(t, in(t, dir, 2, "inspect", "--book", "no\x1b[2J"), `there is no folder no\u001b[2J`)
	require.NoError(t, os.Rename(filepath.Join(dir, "kestrel"), filepath.Join(dir, "my book; id")))
	require.Contains(t, in(t, dir, 0, "describe", "--book", "my book; id", "--account", "ingrid@kestrelsound.example"), "What is asked of ")
	require.Contains(t, in(t, dir, 0, "reach", "--book", "my book; id", "--at", monday), `--book 'my book; id' --app`)
}

// TestWhatToDo: the steps are an order in which the person can go, from what she has.
func TestWhatToDo(t *testing.T) {
	dir := work(t)
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"a push comes after a password": {[]string{"--account", "ingrid@kestrelsound.example", "--app", "mail"}, "Do Prove password, then push."},
		"what is proven is left out": {[]string{"--account", "ingrid@kestrelsound.example", "--app", "mail", "--proved", "password"},
			"Do Prove push."},
		"another action": {[]string{"--account", "ingrid@kestrelsound.example", "--app", "account-page", "--action", "change-password"},
			"STEP UP ingrid@kestrelsound.example, to change the password at account-page, Mon"},
		"an address of an app": {[]string{"--account", "ingrid@kestrelsound.example", "--app", "https://till.kestrelsound.example/x"},
			"ingrid@kestrelsound.example at card-till (https://till.kestrelsound.example/x), Mon"},
		"rules passed by": {[]string{"--account", "ingrid@kestrelsound.example", "--app", "card-till", "--ip", "203.0.113.20", "--device",
			"laptop-ingrid", "--proved", "password"},
			"open: require; rule shut: during: wants not sailing-hours (05:00-23:00), saw Mon 2026-11-23 14:10 CET; rule far-away: countries: " +
				"wants not home-waters (DK, NO, SE), saw NO; rule doubtful: risk_at_least: wants at least medium, saw score 0"},
	} {
		t.Run(name, func(t *testing.T) {
			out := in(t, dir, 0, append([]string{"rehearse", "--book", "kestrel", "--at", monday}, c.args...)...)
			require.Contains(t, strings.Join(strings.Fields(out), " "), c.want)
		})
	}
}

// TestTheShell: the version, the help, and what a shell completes.
func TestTheShell(t *testing.T) {
	dir := work(t)
	for name, c := range map[string]struct {
		status int
		args   []string
		want   string
	}{
		"version":         {0, []string{"--version"}, "briskwarden "},
		"help":            {0, []string{"help", "consent", "approve"}, "consent approve approves a request"},
		"help misspelt":   {2, []string{"help", "inspct"}, `there is no command "inspct"; did you mean "inspect"?`},
		"help in order":   {0, []string{"--help"}, "Write a book:\n  start "},
		"an account":      {0, []string{"__complete", "rehearse", "--book", "kestrel", "--account", "in"}, "ingrid@kestrelsound.example\n:4\n"},
		"an app":          {0, []string{"__complete", "reach", "--book", "kestrel", "--app", "card"}, "card-till\n:4\n"},
		"a policy":        {0, []string{"__complete", "describe", "--book", "kestrel", "--policy", "yard"}, "yard-hands\n:4\n"},
		"a method":        {0, []string{"__complete", "rehearse", "--book", "kestrel", "--proved", "crew"}, "crew-card\n:4\n"},
		"a check":         {0, []string{"__complete", "inspect", "--explain", "placeh"}, "placeholder\n:4\n"},
		"a verdict":       {0, []string{"__complete", "rehearse", "--expect", "st"}, "step_up\n:4\n"},
		"of no book":      {0, []string{"__complete", "rehearse", "--book", "none", "--account", ""}, ":4\n"},
		"a shell's words": {0, []string{"completion", "bash"}, "# bash completion"},
	} {
		t.Run(name, func(t *testing.T) { require.Contains(t, in(t, dir, c.status, c.args...), c.want) })
	}
}

// TestWhatAnAttemptCanSay: flags for what policies ask most.
func TestWhatAnAttemptCanSay(t *testing.T) {
	dir := work(t)
	for name, c := range map[string]struct {
		status int
		args   string
		want   string
	}{
		"an unfit device": {0, "--device laptop-ingrid --fact firewall=false", "BLOCK; firewall: wants true, saw false."},
		"a fit device":    {0, "--device laptop-ingrid --fact firewall=true", "GRANT;"},
		"a fact of another name": {2, "--device laptop-ingrid --fact firewal=false",
			`no posture of the book looks at it; did you mean "firewall"?`},
		"a fact without a value": {2, "--fact firewall", "--fact firewall: expected NAME=VALUE"},
		"an account at risk":     {0, "--device laptop-ingrid --account-risk high:leaked-password", "STEP UP; Change the password."},
		"no such risk":           {2, "--account-risk huge", `--account-risk: "huge" is not a level`},
		"a new device":           {0, "--new-device", "strange-device (15)"},
		"the sign-in before":     {0, "--device laptop-ingrid --previous 1h:BR", "other-country (20), perhaps too-fast (80)"},
		"no such country":        {2, "--previous 1h:XX1", "--previous 1h:XX1: "},
		"failures":               {0, "--failures 7", "many-failures (50)"},
		"fewer than none":        {2, "--failures -1", "--failures counts failed sign-ins"},
		"twice":                  {2, "--previous 1h:NO --unknown previous", "--unknown previous: --previous 1h:NO says what it is"},
		"unknown and said":       {2, "--managed --unknown device", "--unknown device: other flags say what the device is"},
		"remembered":             {0, "--remembered push:72h --platform windows --managed --save saved.json", "BLOCK;"},
		"remembered what":        {2, "--remembered pish:72h", `--remembered: the book has no method "pish"; did you mean "push"?`},
		"what is supposed": {2, "--account-risk high --save other.json",
			"it does not hold what is supposed here: The account is at high risk."},
	} {
		t.Run(name, func(t *testing.T) {
			args := append(
				[]string{"rehearse", "--book", "kestrel", "--account", "ingrid@kestrelsound.example", "--app", "card-till", "--ip",
					"203.0.113.20", "--proved", "password", "--at", monday},
				strings.Fields(c.args)...)
			out := strings.Join(strings.Fields(in(t, dir, c.status, args...)), " ")
			verdict, want, isVerdict := strings.Cut(c.want, ";")
			if c.status == 0 && isVerdict {
				require.True(t, strings.HasPrefix(out, verdict), out)
				c.want = strings.TrimSpace(want)
			}
			require.Contains(t, out, c.want)
		})
	}
	var saved attempt.Attempt
	text, err := os.ReadFile(filepath.Join(dir, "saved.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &saved))
	require.Equal(t, "push", saved.Device.Ref().Remembered[0].Method)
	again := in(t, dir, 0, "rehearse", "--book", "kestrel", "--attempt", "saved.json")
	require.True(t, strings.HasPrefix(again, "BLOCK"), again)
	about, err := os.Stat(filepath.Join(dir, "saved.json"))
	require.NoError(t, err)
	require.Zero(t, about.Mode().Perm()&0o077, "an attempt is for nobody else")
}

// TestAListOfWhatWasStopped: who, when, at which app, from where, with what, and why.
func TestAListOfWhatWasStopped(t *testing.T) {
	dir := work(t)
	history(t, dir)
	list := func(status int, args ...string) string {
		return in(t, dir, status, append([]string{"replay", "--book", "kestrel", "history.jsonl", "--list"}, args...)...)
	}
	var report struct {
		Attempts int
		Verdicts map[string]int
		Listed   []struct{ Account, App, Verdict, Policy, Rule string }
	}
	document(t, dir, 0, &report, "replay", "--book", "kestrel", "history.jsonl", "--json")
	blocks, steps := report.Verdicts["block"], report.Verdicts["step_up"]
	require.Contains(t, list(0, "block"), fmt.Sprintf("%d of 3105 attempts", blocks))
	document(t, dir, 0, &report, "replay", "--book", "kestrel", "history.jsonl", "--list", "block,step_up", "--json")
	require.Len(t, report.Listed, blocks+steps)
	document(
		t,
		dir,
		0,
		&report,
		"replay",
		"--book",
		"kestrel",
		"history.jsonl",
		"--list",
		"block",
		"--policy",
		"card-till",
		"--rule",
		"shut",
		"--account",
		"oskar@kestrelsound.example",
		"--app",
		"card-till",
		"--json",
	)
	require.NotEmpty(t, report.Listed)
	for _, one := range report.Listed {
		require.Equal(t, []string{"oskar@kestrelsound.example", "card-till", "block", "card-till", "shut"},
			[]string{one.Account, one.App, one.Verdict, one.Policy, one.Rule})
	}
	table, err := csv.NewReader(strings.NewReader(list(0, "block", "--format", "csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, table, blocks+1)
	require.Equal(
		t,
		[]string{"at", "account", "app", "action", "ip", "country", "device", "proved", "verdict", "policy", "rule", "why"},
		table[0],
	)
	lines := strings.Split(strings.TrimSpace(list(0, "block", "--format", "jsonl")), "\n")
	require.Len(t, lines, blocks)
	for i, line := range lines[:5] {
		var one map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &one))
		require.Equal(t, table[i+1][1], one["account"])
	}
	for want, args := range map[string][]string{
		`--list: "blok" is not a verdict; did you mean "block"?`:                  {"blok"},
		`the book has no app "mial"; did you mean "mail"?`:                        {"block", "--app", "mial"},
		`the book has no policy "card-tlil"; did you mean "card-till"?`:           {"block", "--policy", "card-tlil"},
		`neither the book nor the history has "oskr@kestrelsound.example"; did y`: {"block", "--account", "oskr@kestrelsound.example"},
		`--format: "xml" is not text, csv or jsonl`:                               {"block", "--format", "xml"},
		"give --list or --set": {"block", "--set", "risk.levels.medium=20,40"},
	} {
		t.Run(want, func(t *testing.T) { require.Contains(t, list(2, args...), want) })
	}
	require.Contains(t, in(t, dir, 2, "replay", "--book", "kestrel", "history.jsonl", "--app", "mail"), "are those of a list")
}

// TestTablesAsTheyStand: a table with semicolons is read by replay as by start, and what is put
// aside of it is a table again: the very bytes, under its header.
func TestTablesAsTheyStand(t *testing.T) {
	dir := work(t)
	const header, good, bad, torn = "\"when\";account;app;location.lat;location.lon\r\n",
		"23.11.2026 14:10;ingrid@kestrelsound.example;mail;59,9;10,7\r\n", "soon;\"x\";y;;\r\n", "23.11.2026 14:10;x\"y;mail;;\r\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "table.csv"), []byte("\ufeff"+header+good+bad+torn+good), 0o600))
	out := in(t, dir, 0, "replay", "--book", "kestrel", "--columns", "at=when", "table.csv", "--aside", "aside.csv", "--bad-lines", "60")
	require.Contains(t, out, "2 attempts")
	aside, err := os.ReadFile(filepath.Join(dir, "aside.csv"))
	require.NoError(t, err)
	require.Equal(t, strings.ReplaceAll(header+bad+torn, "\r\n", "\n"), string(aside))
	in(t, dir, 2, "replay", "--book", "kestrel", "--columns", "at=when", "aside.csv")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "people.csv"),
		[]byte("Name;E-Mail;Joined\nLiv Hansen;liv@yard.example;01.02.2020\nPer Dahl;per@yard.example;2.3.2021\n"), 0o600))
	out = in(t, dir, 0, "start", "--book", "yard", "--people", "people.csv", "--administrator", "liv@yard.example")
	for _, want := range []string{
		"Cells are separated by semicolons.", "The column E-Mail names the accounts.", "Became attributes: Name.",
		"The Joined 01.02.2020 is taken for 2020-02-01, the day first, and the like.",
	} {
		require.Contains(t, out, want)
	}
}

// TestWhyNotAllWasAsked: who is excused or has time is not said to have shown all, what is to
// be enrolled is to be proven too, and a block does not hide what else is open.
func TestWhyNotAllWasAsked(t *testing.T) {
	dir := work(t)
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"excused": {[]string{"--account", "tide-gauge", "--app", "crew-roster", "--ip", "198.51.100.70", "--through", "unattended", "--proved",
			"certificate"}, "machines / from-the-depot is met: the exemption tide-gauge excuses from certificate-now until 2027-03-31; what is " +
			"left " +
			"was shown."},
		"eased": {[]string{"--account", "oskar@kestrelsound.example", "--app", "crew-roster", "--ip", "192.0.2.70", "--proved", "password"},
			"fleet-baseline / elsewhere is met: the rollout crew-second-factor leaves time for two-factors until 2026-12-10 00:00; what is " +
				"left was " +
				"shown."},
		"to be enrolled": {[]string{"--account", "pelle@kestrelsound.example", "--app", "crew-roster", "--ip", "192.0.2.70", "--proved",
			"password"},
			"either one of certificate, passkey, security-key enrolled and proven, or"},
		"blocked": {[]string{"--account", "ingrid@kestrelsound.example", "--app", "card-till", "--ip", "192.0.2.70", "--country", "BR"},
			"Besides fleet-baseline / elsewhere asks for either one of certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			out := in(t, dir, 0, append([]string{"rehearse", "--book", "kestrel", "--at", "2026-11-23T13:10:00Z"}, c.args...)...)
			require.Contains(t, strings.Join(strings.Fields(out), " "), c.want)
		})
	}
}

// TestTheReferenceIsCurrent: docs/reference.md is what the program makes of the language.
// Where it is stale: go run ./cmd/briskwarden explain --format markdown > docs/reference.md
func TestTheReferenceIsCurrent(t *testing.T) {
	written, err := os.ReadFile("../../docs/reference.md")
	require.NoError(t, err)
	require.Equal(t, string(written), in(t, t.TempDir(), 0, "explain", "--format", "markdown"))
}

// TestExplain: a word is explained wherever it stands, and a misspelt one is corrected.
func TestExplain(t *testing.T) {
	dir := t.TempDir()
	for word, want := range map[string][]string{
		"":         {"policies", "who may sign on to what", "conditions", "outcomes"},
		"during":   {"in conditions", "the name of a window", "during: [sailing-hours]"},
		"fallback": {"in assurances / prove", "one or a list of: the name of a method", "fallback: [sms-code]"},
		"within":   {"in risk / signals", "in assurances / prove", "now, session, or a length of time", "session."},
		"stage":    {"one of draft, shadow, live", "it may not be."},
		"outcomes": {"grant", "block", "require", "one_of"},
		"anyone":   {"true, or the word alone"},
	} {
		t.Run(word, func(t *testing.T) {
			args := []string{"explain"}
			if word != "" {
				args = append(args, word)
			}
			out := in(t, dir, 0, args...)
			for _, text := range want {
				require.Contains(t, out, text)
			}
			var report map[string]any
			document(t, dir, 0, &report, append(args, "--json")...)
			require.NotEmpty(t, report["words"])
		})
	}
	require.Contains(t, in(t, dir, 2, "explain", "polcies"), `no word of a book is "polcies"; did you mean "policies"?`)
}

// TestInterruptedDemo: the folder that the walk works in is gone whenever it is broken off.
func TestInterruptedDemo(t *testing.T) {
	temporary := t.TempDir()
	folders := func() []os.DirEntry {
		found, err := os.ReadDir(temporary)
		require.NoError(t, err)
		return found
	}
	cmd := exec.Command(program, "demo")
	cmd.Env = append(os.Environ(), "TMPDIR="+temporary)
	require.NoError(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for seen := false; !seen; seen = len(folders()) > 0 {
		select {
		case err := <-ended:
			require.NoError(t, err)
			require.Empty(t, folders())
			return // it was faster than the look
		default:
		}
	}
	interrupted := cmd.Process.Signal(os.Interrupt) == nil
	if err := <-ended; interrupted && err != nil {
		require.Equal(t, 2, cmd.ProcessState.ExitCode(), "it says that it was interrupted")
	}
	require.NotEqual(t, -1, cmd.ProcessState.ExitCode(), "the signal did not end it")
	require.Empty(t, folders())
}
