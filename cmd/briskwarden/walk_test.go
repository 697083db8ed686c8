package main_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/cli"
)

var (
	steps = flag.Int("steps", 200, "how many steps the random walk takes")
	seed  = flag.Uint64("seed", 2026, "which random walk it is")
)

// longestStep is when a step is taken for one that hangs.
const longestStep = 5 * time.Second

// placed is an error of a book with its place.
var placed = regexp.MustCompile(`^\S+:\d+:\d+: `)

// walkCommands are what the walk runs, before it changes words of them.
var walkCommands = []string{
	"inspect --book kestrel", "inspect --book kestrel --since next", "inspect --book kestrel --format sarif", "describe --book kestrel " +
		"--by app",
	"describe --book kestrel --account liv@kestrelsound.example", "reach --book kestrel", "reach --book kestrel --app card-till",
	"reach --book kestrel --account ingrid@kestrelsound.example --at 2026-11-23",
	"rehearse --book kestrel --account ingrid@kestrelsound.example --app card-till --ip 203.0.113.20 --country NO --proved password",
	"rehearse --book kestrel --account oskar@kestrelsound.example --app mail --ip 192.0.2.70 --vary network,country --until-granted",
	"rehearse --book kestrel --account liv@kestrelsound.example --app bridge --device helm --fact firewall=true --previous 3h:BR --failures 5",
	"rehearse --book kestrel --attempt case.json --expect block", "drill --book kestrel", "drill --book kestrel --format junit",
	"replay --book kestrel month.jsonl", "replay --book kestrel --list block,step_up month.jsonl", "replay --book kestrel table.csv " +
		"--columns at=when",
	"replay --book kestrel --set risk.levels.medium=20,60 month.jsonl", "compare kestrel next", "compare next kestrel --history month.jsonl",
	"compare kestrel next --fail-on loosened", "readiness --book kestrel --on 2026-12-12", "readiness --book kestrel --format csv",
	"consent rehearse --book kestrel --account ingrid@kestrelsound.example --client voyage-log --scope mail.read", "explain policies",
	"schema book",
	"inspect --explain all", "demo --faulty",
}

// walker changes files and words at random.
type randomWalker struct {
	*rand.Rand
	tokens []string
}

// token is a word of the files, or what nobody meant.
func (w *randomWalker) token() string {
	odd := []string{
		"",
		"0",
		"-1",
		"1e400",
		"null",
		"true",
		"[]",
		"{}",
		"\"",
		"'",
		":",
		"- ",
		"\t",
		"é",
		"\u202e",
		"\x00",
		"\xff",
		"*a",
		"&a",
		"!!str",
		"99999999999999999999",
		"2026-13-45",
		"--at",
		"--book",
		"--json",
		"--help",
		"--",
		"0.0.0.0/0",
		"::/0",
		"|",
		">",
		"#",
		strings.Repeat("x", 5000),
	}
	if w.IntN(3) == 0 {
		return odd[w.IntN(len(odd))]
	}
	return w.tokens[w.IntN(len(w.tokens))]
}

var wordBreaks = regexp.MustCompile(`[A-Za-z0-9_.@/-]+`)

// changed returns a text with some of its words, lines or bytes changed.
func (w *randomWalker) changed(text string) string {
	for range 1 + w.IntN(2) {
		lines := strings.SplitAfter(text, "\n")
		i := w.IntN(len(lines))
		switch w.IntN(8) {
		case 0: // a line goes
			lines = slices.Delete(lines, i, i+1)
		case 1: // a line stands twice
			lines = slices.Insert(lines, i, lines[i])
		case 2: // a line is indented otherwise
			lines[i] = strings.Repeat(" ", w.IntN(5)) + strings.TrimLeft(lines[i], " ")
		case 3: // the text breaks off
			return text[:w.IntN(len(text)+1)]
		case 4: // a byte more
			at := w.IntN(len(text) + 1)
			return text[:at] + string(rune(w.IntN(0x2100))) + text[at:]
		default: // another word
			words := wordBreaks.FindAllStringIndex(lines[i], -1)
			if len(words) == 0 {
				continue
			}
			at := words[w.IntN(len(words))]
			lines[i] = lines[i][:at[0]] + w.token() + lines[i][at[1]:]
		}
		text = strings.Join(lines, "")
	}
	return text
}

// TestRandomWalk: whatever is changed of a book, a history or the words of a command, there is
// no panic, nothing that hangs, no exit status but 0, 1 and 2, no error of a book without its
// place, and one JSON document under --json. CI takes more steps.
func TestRandomWalk(t *testing.T) {
	dir := work(t)
	t.Chdir(dir)
	status, month, _ := runIn(t, dir, "demo", "--history")
	require.Zero(t, status)
	files := map[string]string{
		"month.jsonl": strings.Join(strings.SplitAfter(month, "\n")[:200], ""),
		"case.json": `{"at": "2026-11-23T13:10:00Z", "account": "ingrid@kestrelsound.example", "app": "mail", "proofs": [{"method": ` +
			`"password"}]}`,
		"table.csv": "when,account,app,ip\n2026-11-23 14:10:00,ingrid@kestrelsound.example,mail,203.0.113.20\n",
	}
	books, err := filepath.Glob("kestrel/*")
	require.NoError(t, err)
	w := &randomWalker{Rand: rand.New(rand.NewPCG(12, *seed))}
	for _, name := range books {
		if text, err := os.ReadFile(name); err == nil && !strings.HasSuffix(name, ".mmdb") {
			files[name] = string(text)
		}
	}
	for name, text := range files {
		w.tokens = append(w.tokens, wordBreaks.FindAllString(text[:min(len(text), 4000)], -1)...)
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	slices.Sort(w.tokens)
	w.tokens = slices.Compact(w.tokens)
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	at := time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)
	for step := range *steps {
		args := strings.Fields(walkCommands[w.IntN(len(walkCommands))])
		name, fresh, isChanged := names[w.IntN(len(names))], "", w.IntN(4) > 0
		if isChanged {
			fresh = w.changed(files[name])
			require.NoError(t, os.WriteFile(name, []byte(fresh), 0o600))
		} else if i := 1 + w.IntN(len(args)); i < len(args) {
			args[i] = w.token()
		}
		if w.IntN(2) == 0 {
			args = append(args, "--json")
		}
		tell := func() string { return fmt.Sprintf("step %d: briskwarden %q, with %s:\n%s", step, args, name, fresh) }
		one := take(args, at)
		require.Empty(t, one.panicked, tell)
		require.True(t, one.ended, "it hangs: %s", tell())
		require.Contains(t, []int{0, 1, 2}, one.status, tell())
		asked := slices.Contains(args, "--json") && !slices.Contains(args, "--help") && !slices.Contains(args, "--")
		if asked && one.out != "" && !strings.Contains(one.errOut, "--json or --format") {
			var document any
			read := json.NewDecoder(strings.NewReader(one.out))
			require.NoError(t, read.Decode(&document), "%s\n%s", tell(), one.out)
			_, err := read.Token()
			require.ErrorIs(t, err, io.EOF, "%s\n%s", tell(), one.out)
		}
		if strings.Contains(one.errOut, "wrong with the book") {
			require.Regexp(t, placed, one.errOut, tell())
		}
		if one.status == 2 {
			require.NotEmpty(t, one.out+one.errOut, tell())
		}
		if isChanged {
			require.NoError(t, os.WriteFile(name, []byte(files[name]), 0o600))
		}
	}
}

// taken is what a step came to.
type taken struct {
	status                int
	out, errOut, panicked string
	ended                 bool
}

// take runs a command in this process, so that a panic is seen.
func take(args []string, at time.Time) taken {
	done := make(chan taken, 1)
	go func() {
		var one taken
		var out, errOut bytes.Buffer
		defer func() {
			if wrong := recover(); wrong != nil {
				one.panicked = fmt.Sprintf("%v\n%s", wrong, debug.Stack())
			}
			one.out, one.errOut, one.ended = out.String(), errOut.String(), true
			done <- one
		}()
		one.status = cli.Run(args, strings.NewReader(""), &out, &errOut, func() time.Time { return at })
	}()
	select {
	case one := <-done:
		return one
	case <-time.After(longestStep):
		return taken{}
	}
}
