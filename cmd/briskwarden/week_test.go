package main_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAWeekAtTheObservatory is the story of an administrator's first week, at another house
// than the demo's: from a table of people to a policy that is live, by a gate that was shut
// first, and a rollout that is enforced on its day.
func TestAWeekAtTheObservatory(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	edit := func(name string, edits ...string) {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		changed := string(text)
		for i := 0; i < len(edits); i += 2 {
			require.Contains(t, changed, edits[i], name)
			changed = strings.Replace(changed, edits[i], edits[i+1], 1)
		}
		write(name, changed)
	}
	do := func(status int, command string) string {
		t.Helper()
		return strings.Join(strings.Fields(in(t, dir, status, strings.Fields(command)...)), " ")
	}

	// Monday: the house's people come as the office's table has them.
	const people = "Name;E-Mail;Groups;Methods;Joined;Kind\n" +
		"Marit Lund;marit@hollin.example;night-crew|it;password|security-key;01.03.2019;\n" +
		"Tomas Veg;tomas@hollin.example;night-crew;password|push;12.09.2021;\n" +
		"Ida Moe;ida@hollin.example;night-crew;password;02.02.2024;\n" +
		"Per Dahl;per@hollin.example;visitors;password;15.06.2025;\n" +
		";dome-control;;certificate;;service\n;glass-box;;security-key;;emergency\n"
	write("people.csv", people)
	out := do(1, "start --book hollin --zone Europe/Oslo --people people.csv --administrator marit@hollin.example")
	require.Contains(t, out, "The column E-Mail names the accounts.")
	require.Contains(t, do(1, "inspect --book hollin"), "placeholder:network/office")
	edit("hollin/places.yaml", `203.0.113.0/24, "2001:db8:1::/48"`, `145.20.8.0/24, "2a02:58:1::/48"`)
	edit("hollin/people.yaml", "- {name: mail, hosts: [mail.example.org]}",
		"- {name: mail, hosts: [post.hollin.no]}\n  - {name: dome, tags: [telescope], open_to: [night-crew, it]}")
	require.Contains(t, do(1, "inspect --book hollin"), "1 warning; score")
	write(
		"hollin/accepted.yaml",
		"briskwarden: 1\naccepted:\n  - {name: \"imported-emergency-account:glass-box\", because: The office keeps "+
			"the table., until: 2099-12-31}\n",
	)
	require.Contains(t, do(0, "inspect --book hollin"), "1 accepted")

	// Tuesday: she reads what it says, and keeps as drills what must hold.
	require.Contains(t, do(0, "describe --book hollin --account dome-control"), "dome-control")
	require.Contains(t, do(0, "reach --book hollin --account per@hollin.example --ip 145.20.8.9 --proved password"), "mail")
	const ida = "rehearse --book hollin --account ida@hollin.example --app dome --ip 62.16.0.9 --proved password"
	require.Contains(t, do(0, ida+" --keep-as ida-at-home --expect grant"), "GRANT")
	require.Contains(t, do(1, ida+" --expect block"), "GRANT")
	do(0, "rehearse --book hollin --account dome-control --app mail --ip 145.20.8.9 --through unattended --proved certificate "+
		"--keep-as dome-at-night --expect grant")
	require.Contains(t, do(0, "drill --book hollin"), "2 drills")

	// Wednesday: what would the second factor do? The rollout eases it, until its day.
	var ready struct {
		Rollouts []struct {
			Enforced string
			Accounts []struct{ Name, Status string }
		}
	}
	document(t, dir, 0, &ready, "readiness", "--book", "hollin", "--json")
	day := ready.Rollouts[0].Enforced
	enforced, err := time.Parse(time.DateOnly, day)
	require.NoError(t, err)
	before, after := enforced.AddDate(0, 0, -3).Format(time.DateOnly), enforced.AddDate(0, 0, 1).Format(time.DateOnly)
	var history strings.Builder
	for _, at := range []string{before, after} {
		for _, name := range []string{"tomas", "ida", "per"} {
			history.WriteString(
				`{"at": "` + at + `T19:00:00Z", "account": "` + name + `@hollin.example", "app": "mail", "ip": "62.16.0.9", ` +
					`"through": "browser", "proofs": [{"method": "password"}]}` + "\n",
			)
		}
	}
	write("nights.jsonl", history.String())
	require.Contains(t, do(0, "replay --book hollin nights.jsonl"), "6 attempts: 6 (100.0 %) granted")
	require.NoError(t, os.CopyFS(filepath.Join(dir, "next"), os.DirFS(filepath.Join(dir, "hollin"))))
	edit("next/policies.yaml", "stage: shadow\n    since:", "stage: live\n    since:", "    live_for: {groups: [pilot]}\n", "")
	out = do(1, "compare hollin next --history nights.jsonl --fail-on locked-out")
	require.Contains(t, out, "It was a shadow (in force for members of pilot) and is live.")
	for _, want := range []string{"The gate locked-out is shut", "no method to answer with", "ida@hollin.example", "per@hollin.example"} {
		require.Contains(t, out, want)
	}
	require.NotContains(t, do(0, "compare hollin next"), "loosens")

	// Thursday: Ida and Per have enrolled at the office; the table comes again.
	enrolled := strings.NewReplacer(
		"night-crew;password;02",
		"night-crew;password|push;02",
		"visitors;password;15",
		"visitors;password|otp-app;15",
	)
	write("hollin/people.csv", enrolled.Replace(people))
	write("next/people.csv", enrolled.Replace(people))
	do(0, "compare hollin next --history nights.jsonl --fail-on loosened,locked-out")
	require.Contains(t, do(0, "readiness --book next"), "Nobody would be locked out on "+day)
	require.Contains(t, do(0, "inspect --book next --fail-on warning"), "score")

	// Friday: it is live. A drill that held until now says what has changed, and is mended.
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "hollin")))
	require.NoError(t, os.Rename(filepath.Join(dir, "next"), filepath.Join(dir, "hollin")))
	require.Contains(t, do(1, "drill --book hollin"), "ida-at-home")
	do(0, "rehearse --book hollin --account ida@hollin.example --app dome --ip 62.16.0.9 --proved password --proved push --expect grant")

	// On its day nobody is eased any more, and nobody is locked out.
	for _, c := range []struct{ account, proved, expect string }{
		{"ida@hollin.example", "password", "step_up"}, {"ida@hollin.example", "password,push", "grant"}, {"per@hollin.example",
			"password,otp-app", "grant"},
		{"marit@hollin.example", "password,security-key", "grant"}, {"glass-box", "security-key", "grant"},
	} {
		args := []string{
			"rehearse",
			"--book",
			"hollin",
			"--account",
			c.account,
			"--app",
			"mail",
			"--ip",
			"62.16.0.9",
			"--at",
			after + "T08:00:00Z",
			"--expect",
			c.expect,
		}
		for proof := range strings.SplitSeq(c.proved, ",") {
			args = append(args, "--proved", proof)
		}
		in(t, dir, 0, args...)
	}
	require.Contains(t, do(0, "replay --book hollin nights.jsonl --list block"), "0 of 6 attempts")
}
