package main_test

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var (
	shellBlock = regexp.MustCompile("(?s)```sh\n(.*?)```")
	// remark is what a page says of a command: its exit status, or what its output begins with.
	remark    = regexp.MustCompile(`\s+# (.*)$`)
	endsWith  = regexp.MustCompile(`ends with (\d)`)
	saysFirst = regexp.MustCompile(`^(GRANT|STEP UP|BLOCK)\b`)
)

// shown is a command as a page prints it.
type shown struct {
	text   string
	status string
	says   string
}

// commandsOf returns the commands of a page in order; a here-document is one command with the
// lines that it takes.
func commandsOf(t *testing.T, page string) []shown {
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	var all []shown
	for _, block := range shellBlock.FindAllStringSubmatch(string(text), -1) {
		var command []string
		end := ""
		for line := range strings.Lines(block[1]) {
			line = strings.TrimRight(line, "\n")
			command = append(command, line)
			if i := strings.Index(line, "<<'"); i >= 0 {
				end = strings.Trim(line[i+2:], "'")
				continue
			}
			if end != "" && line != end || strings.HasSuffix(line, `\`) {
				continue
			}
			one := shown{text: strings.Join(command, "\n"), status: "0"}
			if said := remark.FindStringSubmatch(line); said != nil && end == "" {
				if status := endsWith.FindStringSubmatch(said[1]); status != nil {
					one.status = status[1]
				}
				one.says = saysFirst.FindString(said[1])
			}
			all, command, end = append(all, one), nil, ""
		}
		require.Empty(t, command, "a command of %s is not ended", page)
	}
	return all
}

// TestTheDocsRun: each command of the README and of the pages under docs runs as printed, in
// order, in a fresh folder, and ends as the page says. The two that begin the README are run
// in the project's own folder; what scripts/test does, CI runs by itself.
func TestTheDocsRun(t *testing.T) {
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	pages, err := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	require.NoError(t, err)
	ran := 0
	for _, page := range append(pages, filepath.Join(root, "README.md")) {
		t.Run(filepath.Base(page), func(t *testing.T) {
			bin, dir := t.TempDir(), t.TempDir()
			require.NoError(t, os.Symlink(program, filepath.Join(bin, "briskwarden")))
			if *clock != "" { // what a page asks the clock of the machine is what the program goes by
				date, err := exec.LookPath("date")
				require.NoError(t, err)
				shim := fmt.Sprintf("#!/bin/sh\nexec %s -d %s \"$@\"\n", date, *clock)
				require.NoError(t, os.WriteFile(filepath.Join(bin, "date"), []byte(shim), 0o700))
			}
			// Every process that the page starts inherits the write end: the read end reaches its end when all of
			// them are gone, a door that was sent a signal too, and only then is its directory removed.
			ended, running, err := os.Pipe()
			require.NoError(t, err)
			t.Cleanup(func() {
				require.NoError(t, running.Close())
				if !t.Failed() { // a page that stopped half-way has not stopped its door
					_, err := io.ReadAll(ended)
					require.NoError(t, err)
				}
				require.NoError(t, ended.Close())
			})
			t.Cleanup(func() {
				for _, name := range []string{"nginx.pid", "door.pid"} { // of a page that stopped half-way
					if text, err := os.ReadFile(filepath.Join(dir, name)); err == nil && t.Failed() {
						exec.Command("kill", strings.TrimSpace(string(text))).Run()
					}
				}
			})
			for _, c := range commandsOf(t, page) {
				if strings.HasPrefix(c.text, "./scripts/test") {
					continue
				}
				if missing := lacks(c.text); missing != "" && os.Getenv("CI") == "" {
					t.Skipf("skipped: the page needs %s from here on, which is not installed", missing)
				}
				cmd := exec.Command("bash", "-c", c.text)
				cmd.Dir, cmd.ExtraFiles = dir, []*os.File{running}
				if strings.HasPrefix(c.text, "go ") {
					cmd.Dir = root
				}
				cmd.Env = append(os.Environ(), "PATH="+bin+string(os.PathListSeparator)+os.Getenv("PATH"), "GOBIN="+t.TempDir())
				out, err := cmd.CombinedOutput()
				if err != nil {
					require.IsType(t, &exec.ExitError{}, err, c.text)
				}
				require.Equal(t, c.status, fmt.Sprint(cmd.ProcessState.ExitCode()), "%s\n%s", c.text, out)
				require.True(t, strings.HasPrefix(string(out), c.says), "%s\n%s", c.text, out)
				ran++
			}
		})
	}
	require.Greater(t, ran, 40)
}

// lacks returns a program that a command needs beyond Go and that is not installed, "" where there is none.
func lacks(command string) string {
	for _, name := range []string{"nginx", "openssl", "curl"} {
		if regexp.MustCompile(`(^|[ |])` + name + ` `).MatchString(command) {
			if _, err := exec.LookPath(name); err != nil {
				if _, err := os.Stat("/usr/sbin/" + name); err != nil {
					return name
				}
			}
		}
	}
	return ""
}

// TestTheDocsHoldTogether: what a page links to is there, and so is each picture; and no
// picture is of no page.
func TestTheDocsHoldTogether(t *testing.T) {
	link := regexp.MustCompile(`\]\(([^)#:]+)(#[^)]*)?\)`)
	pictures := map[string]bool{}
	for _, page := range []string{"README.md", "docs/own-book.md", "docs/foretelling.md", "docs/proof.md", "docs/outside-programs.md",
		"docs/language.md",
		"docs/commands.md", "docs/operate.md", "docs/trial.md", "docs/watch.md", "docs/embedding.md", "docs/trust.md", "docs/reference.md"} {
		text, err := os.ReadFile(filepath.Join("../..", page))
		require.NoError(t, err)
		for _, found := range link.FindAllStringSubmatch(string(text), -1) {
			target := filepath.Join("../..", filepath.Dir(page), found[1])
			_, err := os.Stat(target)
			require.NoError(t, err, "%s links to it", page)
			pictures[filepath.Base(target)] = true
		}
	}
	shots, err := filepath.Glob("../../docs/screenshots/*.png")
	require.NoError(t, err)
	require.Less(t, len(shots), 20)
	for _, shot := range shots {
		require.True(t, pictures[filepath.Base(shot)], "no page shows %s", shot)
	}
}
