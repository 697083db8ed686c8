package main_test

import (
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// story drives the built command through what happens to outside programs at
// Kestrel Sound Ferries, in a folder.
func story(t *testing.T, dir string, steps func(do func(status int, args ...string) string)) {
	steps(func(status int, args ...string) string {
		t.Helper()
		return in(t, dir, status, append([]string{"consent", args[0], "--book", "kestrel", "--at", monday}, args[1:]...)...)
	})
}

const (
	ragna   = "ragna@kestrelsound.example"
	solveig = "solveig@kestrelsound.example"
	hers    = "ingrid@kestrelsound.example"
	his     = "torstein@kestrelsound.example"
	livs    = "liv@kestrelsound.example"
)

// TestTheStoryOfOutsidePrograms compares what reviewers see with files that were
// read, and checks what their acts do.
func TestTheStoryOfOutsidePrograms(t *testing.T) {
	dir := work(t)
	story(t, dir, func(do func(status int, args ...string) string) {
		view := func(name string, status int, args ...string) {
			t.Helper()
			golden(t, name, do(status, args...))
		}
		// What people had let in before is taken over.
		require.Contains(t, do(0, "import", "--file", "kestrel/grants.csv", "--as", ragna, "--yes"), "6 acts recorded")
		// The helper reads the tides: nobody has to look.
		require.Contains(
			t,
			do(0, "ask", "--account", "oskar@kestrelsound.example", "--client", "tide-table", "--scope", "tides.read"),
			"ALLOW",
		)
		// The summariser wants every mailbox, and no program may have that.
		require.Contains(
			t,
			do(0, "ask", "--account", hers, "--client", "voyage-log", "--scope", "mail.read.all"),
			"No program may have everybody's data.",
		)
		require.Contains(
			t,
			do(
				0,
				"ask",
				"--account",
				hers,
				"--client",
				"voyage-log",
				"--scope",
				"mail.read",
				"--scope",
				"openid",
				"--why",
				"To sum up the log.",
			),
			"request 8",
		)
		require.Contains(
			t,
			do(
				0,
				"ask",
				"--account",
				his,
				"--client",
				"voyage-log",
				"--scope",
				"mail.read",
				"--scope",
				"openid",
				"--why",
				"Everybody on watch uses it.",
			),
			"1 other waits for the same",
		)
		require.Contains(
			t,
			do(0, "ask", "--account", livs, "--client", "crew-swap", "--scope", "roster.swap", "--scope", "calendar.write"),
			"we look at it again",
		)
		require.Contains(
			t,
			do(0, "rehearse", "--account", his, "--client", "tide-table", "--scope", "tides.read", "--resource", "group:deck"),
			"ALLOW",
		)
		view(
			"consent-rehearse",
			0,
			"rehearse",
			"--account",
			hers,
			"--client",
			"tide-table",
			"--scope",
			"tides.read",
			"--scope",
			"calendar.read",
			"--scope",
			"mail.read",
			"--scope",
			"chat.send",
			"--resource",
			"group:deck",
		)
		view("consent-queue", 0, "queue")
		view("consent-register", 0, "register")
		view("consent-strays", 1, "strays")

		require.Contains(t, do(2, "approve", "--request", "8", "--as", hers, "--yes"), "is no reviewer of the book")
		require.Contains(t, do(2, "approve", "--request", "8", "--as", ragna), "add --yes to do it")
		require.Contains(t, do(2, "approve", "--request", "8", "--yes"), "say who acts: --as ACCOUNT")
		require.Contains(t, do(2, "refuse", "--request", "8", "--as", ragna, "--yes"), "a refusal says why")
		// Narrowed, and for all who asked for the same.
		require.Contains(
			t,
			do(0, "approve", "--request", "8", "--scope", "openid", "--everyone", "--because", "No mail.", "--as", ragna, "--yes"),
			"3 acts recorded",
		)
		require.NotContains(t, do(0, "queue"), "voyage-log")
		require.Contains(t, do(0, "rehearse", "--account", hers, "--client", "voyage-log", "--scope", "mail.read"), "REVIEW")
		// The program that changed hands is barred, and keeps nothing.
		require.Contains(
			t,
			do(0, "bar", "--client", "crew-swap", "--because", "It changed hands.", "--as", solveig, "--yes"),
			"1 act recorded",
		)
		require.Contains(
			t,
			do(0, "rehearse", "--account", livs, "--client", "crew-swap", "--scope", "roster.swap"),
			"crew-swap is barred. It changed hands.",
		)
		require.Contains(t, do(0, "queue"), "Nothing waits for a reviewer")
		require.NotContains(t, do(1, "strays"), "crew-swap")
		require.Contains(t, do(1, "approve", "--request", "10", "--as", ragna, "--yes"), "barred crew-swap at")
		require.Contains(
			t,
			do(0, "lift-bar", "--client", "crew-swap", "--because", "Vetted again.", "--as", ragna, "--yes"),
			"lifted the bar of crew-swap",
		)
		view("consent-acts", 0, "acts")
		provesTheRecord(t, dir, do)

		for _, args := range [][]string{{"queue"}, {"register"}, {"acts"}, {"rehearse", "--account", hers, "--client", "tide-table", "--scope",
			"tides.read"}} {
			var anything map[string]any
			require.NoError(t, json.Unmarshal([]byte(do(0, append(args, "--json")...)), &anything), "%v", args)
		}
	})
}

func TestConsentMistakes(t *testing.T) {
	dir := work(t)
	story(t, dir, func(do func(status int, args ...string) string) {
		for want, args := range map[string][]string{
			"say who lets what have which":                 {"ask", "--account", hers},
			"own or group:NAME":                            {"rehearse", "--account", hers, "--client", "x", "--scope", "a", "--resource", "mine"},
			`"a b" is no scope`:                            {"rehearse", "--account", hers, "--client", "x", "--scope", "a b"},
			"say what is approved":                         {"approve", "--as", ragna, "--yes"},
			"there is no such request 5":                   {"refuse", "--request", "5", "--because", "x", "--as", ragna, "--yes"},
			"say what is refused":                          {"refuse", "--as", ragna},
			"say which program":                            {"bar", "--as", ragna},
			"nobody knows the client":                      {"bar", "--client", "nobody", "--because", "x", "--as", ragna, "--yes"},
			"--file none.csv: the file cannot be read":     {"import", "--file", "none.csv", "--as", ragna, "--yes"},
			`the header "briskwarden: 1" has no client_id`: {"import", "--file", "kestrel/risk.yaml", "--as", ragna, "--yes"},
		} {
			out := do(2, args...)
			if strings.HasPrefix(want, "the header") {
				want = "client_id"
			}
			require.Contains(t, out, want)
		}
	})
	// Who only looks makes no record.
	empty := work(t)
	in(t, empty, 0, "consent", "queue", "--book", "kestrel")
	in(t, empty, 0, "consent", "strays", "--book", "kestrel")
	_, err := os.Stat(filepath.Join(empty, "kestrel", "consent.db"))
	require.True(t, os.IsNotExist(err))
	require.Contains(t, in(t, dir, 2, "consent", "aprove"), `there is no command "aprove"; did you mean "approve"?`)
	require.Contains(t, in(t, dir, 0, "consent", "approve", "--help"), "Examples:")
	require.Contains(t, in(t, dir, 2, "consent", "queue", "--book", "kestrel", "--record", "kestrel/risk.yaml"), "not a database")
	// What is suggested works on what was looked at.
	in(t, dir, 0, "consent", "ask", "--book", "kestrel", "--record", "other.db", "--account", hers,
		"--client", "voyage-log", "--scope", "mail.read")
	require.Contains(t, strings.Join(strings.Fields(in(t, dir, 0, "consent", "queue", "--book", "kestrel", "--record", "other.db")), " "),
		"consent approve --book kestrel --record other.db --request 1")
	require.Contains(t, in(t, dir, 2, "consent", "queue", "--book", "kestrel", "--record", "other.db", "--config", "door.yaml"),
		"give one of --config")
	// inspect knows the record.
	in(t, dir, 0, "consent", "import", "--book", "kestrel", "--file", "kestrel/grants.csv", "--as", ragna, "--yes")
	require.Contains(t, in(t, dir, 1, "inspect", "--book", "kestrel"), "No tier lists chat.send, which yard-chat holds or asks for.")
}

// provesTheRecord signs a checkpoint and holds the record against it, until somebody edits
// an act.
func provesTheRecord(t *testing.T, dir string, do func(status int, args ...string) string) {
	require.Contains(t, do(0, "key", "--out", "c.key", "--name", "ferries.example/consent"), "Public    c.key.pub")
	about, err := os.Stat(filepath.Join(dir, "c.key"))
	require.NoError(t, err)
	require.Zero(t, about.Mode().Perm()&0o077, "nobody else reads the private key")
	require.Contains(t, do(2, "key", "--out", "c.key", "--name", "ferries.example/consent"), "exists")
	require.Contains(t, do(2, "key", "--out", "d.key", "--name", "two words"), "without spaces")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cp"), []byte(do(0, "checkpoint", "--private-key", "c.key")), 0o600))
	require.Contains(t, do(0, "acts", "--verify", "cp", "--public-key", "c.key.pub"),
		"acts are as they were at the checkpoint of ferries.example/consent; 0 came after it")
	require.Contains(t, do(2, "acts", "--verify", "cp"), "give both --verify CHECKPOINT and --public-key FILE")
	require.Contains(t, do(2, "acts", "--verify", "c.key.pub", "--public-key", "c.key.pub"), "it is no checkpoint")
	require.Contains(t, do(2, "checkpoint", "--private-key", "c.key.pub"), "no private key")

	record := filepath.Join(dir, "kestrel", "consent.db")
	whole, err := os.ReadFile(record)
	require.NoError(t, err)
	db, err := sql.Open("sqlite", record)
	require.NoError(t, err)
	_, err = db.Exec("DROP TRIGGER entries_stay; UPDATE entries SET leaf = CAST(replace(leaf, 'granted', 'refused') AS BLOB)" +
		" WHERE place & 1099511627775 = 6")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	for _, command := range [][]string{{"acts"}, {"checkpoint", "--private-key", "c.key"},
		{"acts", "--verify", "cp", "--public-key", "c.key.pub"}} {
		said := do(2, command...)
		require.Contains(t, said, "entry 6 (", command)
		require.Contains(t, said, "is not as it was recorded", command)
	}
	require.NoError(t, os.WriteFile(record, whole, 0o600))
}
