package main_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/cli"
)

// program is the built command, or with -clock the test itself.
var program string

var clock = flag.String(
	"clock",
	"",
	"test the command as it is at another time, such as 2040-01-15T08:00:00Z: what is tested must not depend on the calendar",
)

// clockVariable tells the test that it is to be the command, and at what time.
const clockVariable = "BRISKWARDEN_TEST_CLOCK"

func TestMain(m *testing.M) {
	if text := os.Getenv(clockVariable); text != "" {
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			panic(err)
		}
		os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, func() time.Time { return at }))
	}
	flag.Parse()
	os.Exit(withProgram(m.Run))
}

// withProgram runs the tests while the program is there.
func withProgram(tests func() int) int {
	if *clock != "" {
		var err error
		if program, err = os.Executable(); err == nil {
			err = os.Setenv(clockVariable, *clock)
		}
		if err != nil {
			panic(err)
		}
		return tests()
	}
	dir, err := os.MkdirTemp("", "briskwarden")
	if err != nil {
		panic(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	program = filepath.Join(dir, "briskwarden")
	if out, err := exec.Command("go", "build", "-o", program, ".").CombinedOutput(); err != nil {
		panic(string(out))
	}
	return tests()
}

// run runs the program and returns its exit status and what it printed.
func run(t *testing.T, in string, args ...string) (status int, out, errOut string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Stdin = strings.NewReader(in)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return cmd.ProcessState.ExitCode(), stdout.String(), stderr.String()
}

// demoBook lays the demo's book into a new folder.
func demoBook(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "kestrel")
	status, out, errOut := run(t, "", "demo", "--out", dir)
	require.Equal(t, 0, status, errOut)
	require.Contains(t, out, "briskwarden rehearse --book "+dir)
	return dir
}

func TestDemo(t *testing.T) {
	status, out, errOut := run(t, "", "demo")
	require.Equal(t, 0, status)
	require.Empty(t, errOut)
	require.NotContains(t, out, "\x1b", "no colour but on a terminal")
	var verdicts []string
	for line := range strings.Lines(out) {
		for _, v := range []string{"GRANT", "STEP UP", "BLOCK"} {
			if strings.HasPrefix(line, v) {
				verdicts = append(verdicts, v)
			}
		}
	}
	require.Equal(t, []string{"GRANT", "STEP UP", "BLOCK", "BLOCK", "BLOCK", "STEP UP"}, verdicts)

	_, out, _ = run(t, "", "demo", "--json")
	var shown struct {
		Scenes []struct {
			Title  string
			Report struct{ Verdict decide.Verdict }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &shown))
	require.Len(t, shown.Scenes, 6)
	require.Equal(t, decide.Block, shown.Scenes[4].Report.Verdict)

	dir := demoBook(t)
	status, _, errOut = run(t, "", "demo", "--out", dir)
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "apps.yaml exists already, and nothing is overwritten")
}

// ingrid is the ordinary rehearsal that the cases below vary.
var ingrid = []string{"rehearse", "--account", "ingrid@kestrelsound.example", "--app", "card-till", "--at", "2026-11-23 14:10"}

func TestRehearseView(t *testing.T) {
	dir := demoBook(t)
	status, out, _ := run(
		t,
		"",
		append(ingrid, "--book", dir, "--ip", "198.51.100.200", "--device", "laptop-ingrid", "--proved", "password")...)
	require.Equal(t, 0, status)
	want := `BLOCK  ingrid@kestrelsound.example at card-till, Mon 2026-11-23 14:10 CET

Why       card-till / far-away may block, and a missing fact decides; countries: wants not
          home-waters (DK, NO, SE), saw nothing (unknown).
Besides   fleet-baseline / elsewhere asks for either one of certificate, passkey, security-key
          enrolled and proven, or one of crew-card, otp-app, push, security-key proven in the last
          12h.
Do        Find out the country. The rule stands at BOOK/policies.yaml:55:9.
Say       The till opens in home waters only.
Assumed   It is made through a browser.
          No earlier sign-in and no failed one is known of.
Place     198.51.100.200 lies in no network of the book; the nearest is depot (198.51.100.64/27),
          105 addresses away.
Missing   country: step up if DK, NO, SE; block if any other

Policy          Stage   Applies  Rule, or why not
card-till       live    yes      one of far-away, open; rule shut: during: wants not sailing-hours
                                 (05:00-23:00), saw Mon 2026-11-23 14:10 CET; rule doubtful:
                                 risk_at_least: wants at least medium, saw score 0; rule far-away:
                                 countries: wants not home-waters (DK, NO, SE), saw nothing (unknown)
fleet-baseline  live    yes      elsewhere: require; rule already-sure: proved: wants two-factors, saw
                                 password; rule at-the-pier: our_network: wants an own network, saw
                                 198.51.100.200 (in no network)
account-risk    live    no       account_risk_at_least: wants at least medium, saw none
administrators  live    no       names: wants shore-vpn or berth-planner, saw card-till
auditor-reads   live    no       accounts: wants auditor@kestrelsound.example, saw
                                 ingrid@kestrelsound.example
board-papers    shadow  no       tags: wants confidential, saw card-data
bridge          live    no       tags: wants operations, saw card-data
harbour-key     live    no       kinds: wants emergency, saw person
machines        live    no       kinds: wants service, saw person
night-watch     draft   no       stage: a draft is never evaluated
outside-programs shadow no       names: wants mail, saw card-till
own-account     live    no       names: wants account-page, saw card-till
yard-hands      live    no       domains: wants gdansk-yard.example, saw kestrelsound.example
`
	// The folder's path decides where that one line is wrapped.
	unwrapped := strings.Join(strings.Fields(strings.ReplaceAll(out, dir, "BOOK")), " ")
	require.Equal(t, strings.Join(strings.Fields(want), " "), unwrapped)
}

func TestRehearse(t *testing.T) {
	dir := demoBook(t)
	for _, c := range []struct {
		name   string
		args   []string
		status int
		want   string
	}{
		{"grant", []string{"--ip", "203.0.113.20", "--device", "laptop-ingrid", "--proved", "password", "--expect", "grant"}, 0, "GRANT"},
		{"own network over IPv6", []string{"--ip", "2001:db8:51::9", "--proved", "password"}, 0, "lies in pier-office, an own network, in NO."},
		{"contradiction", []string{"--ip", "203.0.113.20", "--country", "BR"}, 0,
			"Warning The attempt states BR, but 203.0.113.20 is in NO, where pier-office lies; the network's country counts."},
		{"address database", []string{"--ip", "192.0.2.150"}, 0, "The address database puts it in BR."},
		{"age of a proof", []string{"--app", "mail", "--ip", "192.0.2.70", "--proved", "password", "--proved", "push:13h", "--expect", "step_up"},
			0, "Do Prove push."},
		{"an account that does not exist", []string{"--account", "ingird@kestrelsound.example"}, 0,
			"Do Did you mean ingrid@kestrelsound.example"},
		{"an app that does not exist", []string{"--app", "cardtill"}, 0, "Do Did you mean card-till?"},
		{"an app by its entity ID", []string{"--app", "urn:kestrel:till", "--ip", "203.0.113.20"}, 0, "card-till live yes"},
		{"an app by its host", []string{"--app", "https://pier-2.TILLS.kestrelsound.example./pay", "--ip", "203.0.113.20"}, 0,
			"card-till live yes"},
		{"unknown facts", []string{"--unknown", "ip", "--unknown", "through", "--country", "NO", "--device", "laptop-ingrid", "--proved",
			"password"}, 0, "ip: grant if pier-office, depot; step up if 198.51.100.0/24, any other; block if gdansk-yard, relay-exits"},
		{"nothing identifies the device", []string{"--ip", "203.0.113.20", "--proved", "password", "--expect", "block"}, 0,
			"asks for a device that passes seaworthy, and nothing identifies the device."},
		{"an unfit device", []string{"--account", "einar@kestrelsound.example", "--ip", "203.0.113.20", "--device", "laptop-einar", "--proved",
			"password"}, 0, "patch_age_days: wants at most 30, saw 97. Install the updates that are waiting."},
		{"after the day of a rollout", []string{"--account", "jonas@kestrelsound.example", "--app", "crew-roster", "--ip", "192.0.2.100", "--proved",
			"password", "--at", "2026-12-09 14:10"}, 0, "Do Let jonas@kestrelsound.example enrol one of crew-card, otp-app, push, security-key"},
		{"an old report", []string{"--at", "2026-11-25 14:10", "--ip", "203.0.113.20", "--device", "laptop-ingrid", "--proved", "password",
			"--expect", "step_up"}, 0, "Do Let the device report its state: seaworthy asks for a newer report."},
		{"risk", []string{"--ip", "203.0.113.20", "--device", "laptop-ingrid", "--proved", "password", "--signal", "leaked-list"}, 0,
			"Risk medium, score 40: leaked-list (40)"},
		{"unknown risk", []string{"--app", "mail", "--ip", "203.0.113.20", "--unknown", "previous", "--unknown", "failures", "--unknown",
			"device"}, 0, "perhaps too-fast (80)"},
		{"fallback", []string{"--app", "mail", "--account", "nina@kestrelsound.example", "--ip", "192.0.2.70", "--proved", "password", "--failed",
			"push:timed_out"}, 0, "a changed password"},
		{"grace", []string{"--account", "jonas@kestrelsound.example", "--app", "crew-roster", "--ip", "192.0.2.70", "--proved", "password",
			"--expect", "grant"}, 0, "within 11 days, before 2026-12-04 09:00."},
		{"grace over", []string{"--account", "jonas@kestrelsound.example", "--app", "crew-roster", "--ip", "192.0.2.70", "--at",
			"2026-12-05 10:00", "--proved", "password", "--expect", "step_up"}, 0, "Let jonas@kestrelsound.example enrol one of"},
		{"a leaked password", []string{"--account", "nina@kestrelsound.example", "--app", "mail", "--ip", "203.0.113.20", "--proved", "password",
			"--proved", "push"}, 0, "Do Change the password."},
		{"which it may change", []string{"--account", "nina@kestrelsound.example", "--app", "account-page", "--action", "change-password", "--ip",
			"203.0.113.20", "--proved", "password", "--proved", "push", "--expect", "grant"}, 0, "GRANT"},
		{"a new hand enrols", []string{"--account", "oskar@kestrelsound.example", "--app", "account-page", "--action", "enrol", "--at",
			"2026-11-20 10:00", "--ip", "192.0.2.70", "--proved", "password", "--expect", "grant"}, 0, "own-account live yes new-hand: require"},
		{"an exemption", []string{"--account", "tide-gauge", "--app", "mail", "--ip", "198.51.100.7", "--through", "unattended", "--proved",
			"certificate:2h", "--expect", "grant"}, 0, "is excused from certificate-now by tide-gauge, until 2027-03-31: It has no hands"},
		{"no exemption elsewhere", []string{"--account", "tide-gauge", "--app", "mail", "--ip", "203.0.113.9", "--through", "unattended",
			"--proved", "certificate:2h", "--expect", "block"}, 0, "nobody can be asked through unattended"},
		{"an outside check", []string{"--account", "marek@gdansk-yard.example", "--app", "engine-logs", "--ip", "192.0.2.20", "--proved",
			"password", "--proved", "otp-app", "--checked", "shipyard-verifier:failed", "--expect", "block"}, 0,
			"the outside check shipyard-verifier passed, and it failed."},
		{"a document", []string{"--account", "torstein@kestrelsound.example", "--app", "berth-planner", "--ip", "203.0.113.9", "--proved",
			"password", "--proved", "crew-card", "--accepted", "crew-handbook:3", "--expect", "grant"}, 0, "silenced by bridge"},
		{"a barred method", []string{"--account", "ragna@kestrelsound.example", "--app", "mail", "--ip", "203.0.113.9", "--proved", "sms-code",
			"--expect", "step_up"}, 0, "The proof of sms-code counts for nothing: it is barred for ragna@kestrelsound.example."},
		{"the end of a window", []string{"--at", "2026-11-23 21:00", "--ip", "203.0.113.20", "--device", "laptop-ingrid", "--proved", "password"},
			0, "ends by Mon 2026-11-23 23:00 CET."},
		{"a shadow in force for some", []string{"--account", "astrid@kestrelsound.example", "--app", "board-papers", "--ip", "203.0.113.9",
			"--proved", "password", "--proved", "push"}, 0, "live_for: share: wants 20 %, saw"},
		{"as expected", []string{"--ip", "192.0.2.150", "--expect", "block"}, 0, "BLOCK"},
		{"not as expected", []string{"--ip", "192.0.2.150", "--expect", "grant"}, 1, "expected grant, the verdict is block"},

		{"verdict", []string{"--expect", "allow"}, 2, `"allow" is not a verdict; it is one of block, step_up, grant`},
		{"address", []string{"--ip", "203.0.113"}, 2, `"203.0.113" is no IP address`},
		{"country", []string{"--country", "Norway"}, 2, "two capital letters"},
		{"time", []string{"--at", "yesterday"}, 2, `"yesterday" is no time such as`},
		{"method", []string{"--proved", "pasword"}, 2, `no method "pasword"; did you mean "password"?`},
		{"age", []string{"--proved", "push:old"}, 2, "30d, 12h or 90m"},
		{"fact", []string{"--unknown", "contry"}, 2, `no fact "contry"; did you mean "country"?`},
		{"fact both ways", []string{"--unknown", "ip", "--ip", "192.0.2.1"}, 2, "leave one of the two out"},
		{"through", []string{"--through", "tunnel"}, 2, "one of browser, native"},
		{"action", []string{"--action", "fly"}, 2, "one of sign-in"},
		{"signal", []string{"--signal", "leaked"}, 2, `no signal "leaked"; did you mean "leaked-list"?`},
		{"failure", []string{"--failed", "push:late"}, 2, "one of refused, timed_out, unreachable"},
		{"check", []string{"--checked", "yard"}, 2, "one of failed, passed, unreachable"},
		{"document", []string{"--accepted", "handbook"}, 2, "DOCUMENT:VERSION"},
		{"flag", []string{"--acount", "x"}, 2, `rehearse has no flag --acount; did you mean "--account"?`},
		{"argument", []string{"ingrid"}, 2, `takes flags only, found "ingrid"`},
		{"attempt beside flags", []string{"--attempt", "-"}, 2, "leave --at out"},
		{"no book", []string{"--book", filepath.Join(dir, "none")}, 2, "there is no folder"},
	} {
		t.Run(c.name, func(t *testing.T) {
			args := append(append([]string{}, ingrid...), "--book", dir)
			status, out, errOut := run(t, "", append(args, c.args...)...)
			require.Equal(t, c.status, status, "%s: %s", c.name, errOut)
			require.Contains(t, strings.Join(strings.Fields(out+errOut), " "), c.want, c.name)
		})
	}
}

func TestRehearseJSON(t *testing.T) {
	dir := demoBook(t)
	in := `{"at": "2026-11-23T13:10:00Z", "account": "einar@kestrelsound.example", "app": "card-till", "ip": "2001:db8:51::7",
	 "through": "native", "previous": null, "failures": null,
	 "device": {"id": "laptop-anna", "managed": true, "known": true, "platform": "windows", "reported_at": "2026-11-23T12:00:00Z",
	            "facts": {"firewall": true, "os_version": "10.0.22631.1", "patch_age_days": 3}}, "session": {"id": "s-9", "proofs": [{"method": "password", "at": "2026-11-23T12:00:00Z", "app": "card-till"}]}}`
	status, out, errOut := run(t, in, "rehearse", "--book", dir, "--attempt", "-", "--json")
	require.Equal(t, 0, status, errOut)
	var d decide.Decision
	require.NoError(t, json.Unmarshal([]byte(out), &d))
	require.Equal(t, decide.Grant, d.Verdict)
	require.Equal(
		t,
		[]decide.DemandKind{decide.DemandMethod, decide.DemandPosture},
		[]decide.DemandKind{d.Demands[0].Kind, d.Demands[1].Kind},
	)
	require.Equal(t, decide.Source{Policy: "card-till", Rule: "open", Assurance: "password-once"}, d.Demands[0].From[0])
	require.Equal(t, "4h 15m false", d.Limits.Lasts.String()+" "+d.Limits.Idle.String()+" "+fmt.Sprint(d.Limits.Shared))
	require.Regexp(t, "^sha256:[0-9a-f]{64}$", d.JudgedBy.Book)

	file := filepath.Join(t.TempDir(), "attempt.json")
	require.NoError(t, os.WriteFile(file, []byte(in), 0o600))
	_, fromFile, _ := run(t, "", "rehearse", "--book", dir, "--attempt", file, "--json")
	require.Equal(t, out, fromFile)

	for wrong, want := range map[string]string{
		``:          "expected an attempt as a JSON object, found nothing",
		`{`:         "line 1, column 2: the JSON ends in the middle",
		`{"at": 5}`: "line 1, column",
		"{\"at\": \"2026-11-23T13:10:00Z\",\n \"acount\": \"x\"}": `line 2, column 2: an attempt has no key "acount"; did you mean "account"?`,
		`{"account": "a", "app": "b"}`:                            "has no `at`",
		in + in:                                                   "expected one attempt and nothing after it",
		strings.Replace(in, "native", "pipe", 1):                  "`through` is one of browser",
		strings.Replace(in, "2001:db8:51::7", "pier", 1):          "unable to parse IP",
	} {
		t.Run(wrong, func(t *testing.T) {
			status, out, errOut := run(t, wrong, "rehearse", "--book", dir, "--attempt", "-")
			require.Equal(t, 2, status, wrong)
			require.Empty(t, out)
			require.Contains(t, errOut, want)
		})
	}
}

func TestAFaultyBookStopsEverything(t *testing.T) {
	dir := demoBook(t)
	file := filepath.Join(dir, "policies.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	faulty := strings.NewReplacer("stage: shadow", "stage: shadwo", "[home-waters]", "[home-water]").Replace(string(text))
	require.NoError(t, os.WriteFile(file, []byte(faulty), 0o600))
	status, out, errOut := run(t, "", append(ingrid, "--book", dir)...)
	require.Equal(t, 2, status)
	require.Empty(t, out)
	require.Contains(t, errOut, file+`:55:51: no region is named "home-water"; did you mean "home-waters"?`)
	require.Contains(t, errOut, `"shadwo" is not a stage; did you mean "shadow"?`)
	require.Contains(t, errOut, "2 things are wrong with the book; nothing was judged")

	status, out, errOut = run(t, "", append(ingrid, "--book", dir, "--json")...)
	require.Equal(t, 2, status)
	require.Empty(t, errOut)
	var told struct {
		Errors []struct {
			File         string
			Line, Column int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &told))
	require.Equal(t, 55, told.Errors[0].Line)
	require.Len(t, told.Errors, 2)
}

func TestHelp(t *testing.T) {
	for _, args := range [][]string{{}, {"--help"}, {"demo", "--help"}, {"rehearse", "--help"}} {
		status, out, _ := run(t, "", args...)
		require.Equal(t, 0, status)
		require.Contains(t, out, "briskwarden")
		if len(args) == 2 {
			require.Contains(t, out, "Examples:")
		}
	}
	status, _, errOut := run(t, "", "rehears")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, `there is no command "rehears"; did you mean "rehearse"?`)
}
