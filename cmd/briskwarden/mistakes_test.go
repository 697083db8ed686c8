package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// mistake is what somebody in a hurry does: an edit of a file of the demo's book, or a file
// that she wrote, and a command.
type mistake struct {
	// file is edited from old to new; where old is "" it is written as a new file. "" edits nothing.
	file, old, new string
	command        string
}

// mistakes are misspelt, swapped, reversed, of the wrong type, format, file or encoding.
var mistakes = []mistake{
	// In a book.
	{"kestrel/policies.yaml", "policies:", "polices:", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "stage: live", "stage: Live", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "stage: live", "stage: on", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "    stage: live\n", "", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "then: block", "then: deny", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "{require: [password-once]}", "{requires: [password-once]}", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "{require: [password-once]}", "{require: [pasword-once]}", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "our_network: true", "our_networks: true", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "our_network: true", "our_network: yes", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "during: [sailing-hours]", "during: [sailing-ours]", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "within: 12h", "within: 12", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "within: 12h", "within: 12 hours", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "within: 12h", "within: 0h", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "until: 2027-03-31", "until: 31.03.2027", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "until: 2027-03-31", "until: 2027-02-30", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "    rules:", "\trules:", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "    apps: every", "    apps: all", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "    who: anyone", "    who: everyone", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "name: card-till", "name: card till", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "name: bridge", "name: card-till", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "say: The till is closed", "say: Note: the till is closed", "inspect --book kestrel"},
	{"kestrel/policies.yaml", "{name: shut, when:", "{name: shut when:", "inspect --book kestrel"},
	{"kestrel/places.yaml", "192.0.2.16/28", "192.0.2.16/33", "inspect --book kestrel"},
	{"kestrel/places.yaml", "192.0.2.16/28", "192.0.2.300/28", "inspect --book kestrel"},
	{"kestrel/places.yaml", "192.0.2.16/28", "192.0.2.30-192.0.2.16", "inspect --book kestrel"},
	{"kestrel/places.yaml", "[NO, DK, SE]", "[NOR, DK, SE]", "inspect --book kestrel"},
	{"kestrel/places.yaml", "[NO, DK, SE]", "[no, DK, SE]", "inspect --book kestrel"},
	{"kestrel/places.yaml", "from: \"05:00\"", "from: 5:00", "inspect --book kestrel"},
	{"kestrel/places.yaml", "from: \"05:00\"", "from: \"25:00\"", "inspect --book kestrel"},
	{"kestrel/places.yaml", "sailing-hours: {from: \"05:00\", to: \"23:00\"}", "sailing-hours: {from: \"23:00\", to: \"05:00\"}",
		"inspect --book kestrel --at 2026-11-23T13:10:00Z"},
	{"kestrel/policies.yaml", "opens: 2026-10-01", "opens: 2027-10-01", "inspect --book kestrel --at 2026-11-23T13:10:00Z"},
	{"kestrel/places.yaml", "zone: Europe/Oslo", "zone: Europe/Olso", "inspect --book kestrel"},
	{"kestrel/people.yaml", "kind: emergency", "kind: emergancy", "inspect --book kestrel"},
	{"kestrel/people.yaml", "methods: [security-key]", "methods: [security_key]", "inspect --book kestrel"},
	{"kestrel/people.yaml", "methods: [security-key]", "method: [security-key]", "inspect --book kestrel"},
	{"kestrel/people.yaml", "briskwarden: 1", "briskwarden: 2", "inspect --book kestrel"},
	{"kestrel/people.yaml", "briskwarden: 1\n", "", "inspect --book kestrel"},
	{"kestrel/more.yaml", "", "briskwarden: 1\napps: {mail: {}}\n", "inspect --book kestrel"},
	{"kestrel/more.yaml", "", "briskwarden: 1\npolicies: none\n", "inspect --book kestrel"},
	{"kestrel/more.yaml", "", "\xff\xfeb\x00r\x00i\x00", "inspect --book kestrel"},
	{"kestrel/more.yaml", "", "briskwarden: 1\ngroups:\n  - {name: \"a b\"}\n", "inspect --book kestrel"},
	{"kestrel/more.yml", "", "briskwarden: 1\nrisk: {levels: {medium: many}}\n", "inspect --book kestrel"},
	// At the command line.
	{command: "inspekt --book kestrel"},
	{command: "inspect --book krestel"},
	{command: "inspect --book kestrel/people.yaml"},
	{command: "inspect --boook kestrel"},
	{command: "inspect --book kestrel --at tomorrow"},
	{command: "inspect --book kestrel --fail-on errors"},
	{command: "inspect --book kestrel --explain open-enrolmant"},
	{command: "rehearse --book kestrel --account ingrid --app mail --expect grant"},
	{command: "rehearse --book kestrel --account ingrid@kestrelsound.example --app mial --expect block"},
	{command: "rehearse --book kestrel --account ingrid@kestrelsound.example --app mail --ip 203.0.113"},
	{command: "rehearse --book kestrel --account ingrid@kestrelsound.example --app mail --country Norway"},
	{command: "rehearse --book kestrel --account ingrid@kestrelsound.example --app mail --proved pasword"},
	{command: "rehearse --book kestrel --account ingrid@kestrelsound.example --app mail --expect granted"},
	{command: "rehearse --book kestrel --account ingrid@kestrelsound.example"},
	{command: "rehearse --book kestrel --account card-till --app ingrid@kestrelsound.example --expect block"},
	{
		"case.json",
		"",
		`{"at": "2026-11-23", "account": "ingrid@kestrelsound.example", "app": "mail"}`,
		"rehearse --book kestrel --attempt case.json",
	},
	{
		"case.json",
		"",
		`{"at": "2026-11-23T13:10:00Z", "user": "ingrid@kestrelsound.example", "app": "mail"}`,
		"rehearse --book kestrel --attempt case.json",
	},
	{command: "drill --book kestrel --format xml"},
	{command: "replay --book kestrel"},
	{command: "replay --book kestrel none.jsonl"},
	{command: "replay --book kestrel kestrel/people.yaml"},
	{"log.csv", "", "when,account,app\n2026-11-23 14:10:00,ingrid@kestrelsound.example,mail\n", "replay --book kestrel log.csv"},
	{"log.csv", "", "at,account,app\n23/11/2026,ingrid@kestrelsound.example,mail\n", "replay --book kestrel log.csv"},
	{command: "replay --book kestrel --set risk.level.medium=20 none.jsonl"},
	{command: "replay --book kestrel --set risk.levels.medium=x,40 none.jsonl"},
	{command: "replay --book kestrel --workers two none.jsonl"},
	{command: "replay --book kestrel --bad-lines few none.jsonl"},
	{command: "rehearse --book kestrel --account ingrid@kestrelsound.example --app mail --failures many"},
	{command: "inspect --json=maybe --book"},
	{"case.json", "", `{"at": "2026-11-23T13:10:00Z", "account": 0, "app": "mail"}`, "rehearse --book kestrel --attempt case.json"},
	{
		"case.json",
		"",
		`{"at": "2026-11-23T13:10:00Z", "account": "x", "app": "mail", "proofs": "push"}`,
		"rehearse --book kestrel --attempt case.json",
	},
	{command: "compare kestrel"},
	{command: "compare kestrel kestrel --fail-on loose"},
	{command: "compare kestrel kestrel --fail-on locked-out"},
	{command: "readiness --book kestrel --rollout second-factor"},
	{command: "reach --book kestrel --account nobody@kestrelsound.example"},
	{command: "describe --book kestrel --policy baseline"},
	{command: "consent ask --book kestrel --account ingrid@kestrelsound.example --client voyage-log"},
	{command: "consent approve --book kestrel --request 99 --as ingrid@kestrelsound.example --because x --yes"},
	{"people.csv", "", "Nme,Groups\nliv,crew\n", "start --book harbour --people people.csv"},
	{"people.csv", "", "name\nliv hansen\n", "start --book harbour --people people.csv"},
	{"people.csv", "", "name,groups\nBj\xf8rn,crew\n", "start --book harbour --people people.csv"},
	{"people.csv", "", "name;groups\nliv;crew;deck\n", "start --book harbour --people people.csv"},
	{"people.csv", "", "{\"Resources\": [", "start --book harbour --people people.csv"},
	{command: "start --book kestrel"},
	{command: "start --book harbour --zone Oslo"},
	{command: "explain polcies"},
	{command: "schema decison"},
}

// TestMistakes: each mistake is told with its place, what was wrong and what would be right,
// and the exit status tells. The golden file was read; -write-views writes it.
func TestMistakes(t *testing.T) {
	var told strings.Builder
	for _, m := range mistakes {
		dir := t.TempDir()
		in(t, dir, 0, "demo", "--out", "kestrel")
		if m.file != "" {
			path := filepath.Join(dir, m.file)
			text := m.new
			if m.old != "" {
				before, err := os.ReadFile(path)
				require.NoError(t, err)
				require.Contains(t, string(before), m.old, m.file)
				text = strings.Replace(string(before), m.old, m.new, 1)
				fmt.Fprintf(&told, "%s: %q for %q\n", m.file, m.new, m.old)
			} else {
				fmt.Fprintf(&told, "%s: %q\n", m.file, m.new)
			}
			require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		}
		status, out, errOut := runIn(t, dir, strings.Fields(m.command)...)
		require.Contains(t, []int{1, 2}, status, "%s\n%s%s", m.command, out, errOut)
		// An inspection of a book that cannot be read is its errors; of others the errors are enough.
		lines := strings.Split(strings.TrimSpace(out), "\n")
		fmt.Fprintf(&told, "$ briskwarden %s   (ends with %d)\n", m.command, status)
		for _, line := range append(lines[:min(9, len(lines))], strings.Split(strings.TrimSpace(errOut), "\n")...) {
			if strings.TrimSpace(line) != "" {
				told.WriteString("    " + line + "\n")
			}
		}
		told.WriteString("\n")
	}
	golden(t, "mistakes", told.String())
}
