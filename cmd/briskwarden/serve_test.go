package main_test

import (
	"bufio"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/storetest"
)

// kills is how often a door is killed under load on each store; CI kills more often.
var kills = flag.Int("kills", 3, "how often a door is killed under load")

// server is a door that runs as a process.
type server struct {
	t       *testing.T
	cmd     *exec.Cmd
	address string
	token   string
	log     *safeBuffer
}

// safeBuffer is written by a process and read by a test.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *safeBuffer) add(line string) { b.mu.Lock(); defer b.mu.Unlock(); b.b.WriteString(line + "\n") }

func (b *safeBuffer) String() string { b.mu.Lock(); defer b.mu.Unlock(); return b.b.String() }

// configured lays a configuration into a folder, for a caller with a token that it returns.
func configuredDoor(t *testing.T, dir, more string) string {
	status, out, errOut := runIn(t, dir, "serve", "token", "--for", "gateway", "--may", "decide,report,events,people,look,operate", "--json")
	require.Zero(t, status, errOut)
	var made struct{ Token, Config string }
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	require.NotContains(t, made.Config, made.Token)
	require.Contains(t, made.Config, "people: {domains: [], facts: [active]}", "which lets it state nothing yet")
	made.Config = strings.Replace(made.Config, "people: {domains: []",
		"people: {domains: [kestrelsound.example], groups: [deck, stowaways]", 1)
	made.Config = strings.Replace(made.Config, "events: {domains: []", "events: {domains: [kestrelsound.example]", 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "door.yaml"), []byte("door: 1\nlisten: 127.0.0.1:0\n"+more+made.Config), 0o600))
	return made.Token
}

// serve starts a door in a folder with a book `kestrel` and a configuration.
func serve(t *testing.T, dir, token string, more ...string) *server {
	s := &server{t: t, token: token, log: new(safeBuffer)}
	s.cmd = exec.Command(program, append([]string{"serve", "--book", "kestrel", "--config", "door.yaml"}, more...)...)
	s.cmd.Dir = dir
	said, err := s.cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { s.cmd.Process.Kill() })
	listening := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(said)
		for lines.Scan() {
			s.log.add(lines.Text())
			var line struct{ Msg, Address string }
			if json.Unmarshal(lines.Bytes(), &line) == nil && line.Msg == "listening" {
				listening <- line.Address
			}
		}
		close(listening)
	}()
	select {
	case address, ok := <-listening:
		require.True(t, ok, "the door did not start: %s", s.log)
		s.address = address
	case <-time.After(time.Minute):
		t.Fatalf("the door does not listen: %s", s.log)
	}
	return s
}

var client = &http.Client{Timeout: 30 * time.Second}

// ask makes a request, and returns the status (0 where there was no answer) and the body.
func (s *server) ask(method, path, kind, body string) (int, string) {
	r, err := http.NewRequest(method, "http://"+s.address+path, strings.NewReader(body))
	if err != nil {
		return 0, err.Error()
	}
	r.Header.Set("Authorization", "Bearer "+s.token)
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	answer, err := client.Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return 0, err.Error()
	}
	return answer.StatusCode, string(text)
}

const signOn = `{"account":"ingrid@kestrelsound.example","app":"mail","ip":"203.0.113.20","device":{"id":"laptop-ingrid"},` +
	`"session":{"id":"s-1"},"proofs":[{"method":"password"},{"method":"push"}]}`

// stop ends a door as an operator does, and waits for it.
func (s *server) stop() {
	require.NoError(s.t, s.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(s.t, s.cmd.Wait(), "it ends with 0")
}

func TestServe(t *testing.T) {
	dir := t.TempDir()
	in(t, dir, 0, "demo", "--out", "kestrel")
	token := configuredDoor(t, dir, "store: {file: door.db, history: complete}\nreload: on_change\n")
	require.Contains(t, in(t, dir, 0, "serve", "check", "--book", "kestrel"), "READY")
	s := serve(t, dir, token)
	status, text := s.ask("POST", "/v1/decisions", "application/json", signOn)
	require.Equal(t, 200, status, text)
	var decided struct {
		ID, Verdict string
		JudgedBy    struct{ Book string } `json:"judged_by"`
	}
	require.NoError(t, json.Unmarshal([]byte(text), &decided))
	require.Equal(t, "grant", decided.Verdict, text)

	t.Run("the journal is read while it runs", func(t *testing.T) {
		require.Contains(t, in(t, dir, 0, "journal", "list", "--verdict", "grant"), decided.ID)
		shown := in(t, dir, 0, "journal", "show", "--book", "kestrel", decided.ID)
		require.Contains(t, shown, "GRANT  ingrid@kestrelsound.example at mail")
		require.Contains(t, shown, "the book is the one that decided, and says grant")
		require.Regexp(t, "SOUND  [23] entries", in(t, dir, 0, "journal", "verify"), "the book, maybe what inspect says of it, and the decision")
		require.Contains(t, in(t, dir, 2, "journal", "show", "none"), "")
		in(t, dir, 0, "serve", "backup", "copy.db")
		require.Regexp(t, "SOUND  [23] entries", in(t, dir, 0, "journal", "verify", "--file", "copy.db"))
	})
	t.Run("a pushed group that the book does not declare is told", func(t *testing.T) {
		for _, name := range []string{"deck", "stowaways"} {
			status, text := s.ask("POST", "/scim/v2/Groups", "application/scim+json",
				`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"`+name+`"}`)
			require.Equal(t, 201, status, text)
		}
		said := in(t, dir, 1, "inspect", "--book", "kestrel", "--config", "door.yaml", "--at", "2026-11-23T13:10:00Z")
		require.Contains(t, said, "The group stowaways is pushed to the door, and the book does not declare it.")
		require.NotContains(t, said, "The group deck is pushed")
	})
	t.Run("facts by their sources", func(t *testing.T) {
		status, text := s.ask("POST", "/scim/v2/Users", "application/scim+json", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],`+
			`"userName":"ingrid@kestrelsound.example","active":false}`)
		require.Equal(t, 201, status, text)
		told := in(t, dir, 0, "serve", "facts", "ingrid@kestrelsound.example", "--book", "kestrel")
		require.Contains(t, told, "ingrid@kestrelsound.example  may not sign on: disabled, says caller gateway")
		require.Regexp(t, `disabled +true +caller gateway`, told)
		require.Contains(t, in(t, dir, 0, "serve", "facts", "oskar@kestrelsound.example", "--book", "kestrel"), "No source states anything")
		require.Contains(t, in(t, dir, 2, "serve", "facts", "nobody@kestrelsound.example", "--book", "kestrel"),
			"neither the book nor a source knows")
		require.Contains(t, in(t, dir, 2, "serve", "facts", "ingrid@kestrelsound.example", "--withdraw", "disabled", "--of", "caller gateway",
			"--book", "kestrel"), "say who does it and why")
		withdraw := []string{"serve", "facts", "ingrid@kestrelsound.example", "--withdraw", "disabled", "--of", "caller gateway", "--as", "ragna",
			"--because", "HR was wrong", "--book", "kestrel"}
		require.Contains(t, in(t, dir, 0, withdraw...),
			"disabled of ingrid@kestrelsound.example is no longer stated by caller gateway (it was true).", "also while the door runs")
		require.Eventually(t, func() bool {
			_, text := s.ask("POST", "/v1/decisions", "application/json", `{"account":"ingrid@kestrelsound.example","app":"mail"}`)
			return !strings.Contains(text, "account_disabled")
		}, 10*time.Second, 10*time.Millisecond, "which hears of it")
		other := filepath.Join(dir, "other.yaml")
		in(t, dir, 0, "serve", "backup", "facts.db")
		copied, err := os.Stat(filepath.Join(dir, "facts.db"))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), copied.Mode().Perm(), "a copy is no more readable than the store")
		require.NoError(t, os.WriteFile(other, []byte("door: 1\nstore: {file: facts.db}\n"), 0o600))
		withdraw = append(withdraw, "--config", "other.yaml")
		require.Contains(t, in(t, dir, 2, withdraw...), `caller gateway does not state "disabled"`)
		require.Contains(t, in(t, dir, 0, "serve", "facts", "ingrid@kestrelsound.example", "--book", "kestrel", "--config", "other.yaml"),
			"may sign on")
		require.Contains(t, in(t, dir, 0, "serve", "facts", "--group", "deck", "--withdraw", "--of", "caller gateway", "--as", "ragna",
			"--because", "it is the book's", "--book", "kestrel", "--config", "other.yaml"), "deck is the book's again.")
		require.Contains(t, in(t, dir, 0, "serve", "facts", "ingrid@kestrelsound.example", "--anew", "--as", "ragna",
			"--because", "another Ingrid", "--book", "kestrel", "--config", "other.yaml"), "is made anew")
		said := in(t, dir, 0, "journal", "list", "--config", "other.yaml", "--kind", "people", "--json")
		require.Contains(t, said, "HR was wrong")
	})
	t.Run("one door has the store", func(t *testing.T) {
		_, _, errOut := runIn(t, dir, "serve", "--book", "kestrel")
		require.Contains(t, errOut, "another door has this store open")
	})
	book := func() string {
		_, text := s.ask("GET", "/readyz", "", "")
		return text
	}
	t.Run("a newer book is taken when the folder changes", func(t *testing.T) {
		was := book()
		require.NoError(
			t,
			os.WriteFile(filepath.Join(dir, "kestrel", "more.yaml"), []byte("briskwarden: 1\ngroups: [{name: newcomers}]\n"), 0o600),
		)
		require.Eventually(t, func() bool { return book() != was }, time.Minute, 10*time.Millisecond, s.log.String())
		is := book()
		require.NotContains(t, is, "refused")
		require.NoError(
			t,
			os.WriteFile(filepath.Join(dir, "kestrel", "more.yaml"), []byte("briskwarden: 1\ngroups: [{nam: newcomers}]\n"), 0o600),
		)
		require.Eventually(t, func() bool { return strings.Contains(book(), "refused") }, time.Minute, 10*time.Millisecond)
		require.Contains(t, in(t, dir, 1, "serve", "check", "--book", "kestrel"), "more.yaml:2:")
		require.Contains(t, s.log.String(), "more.yaml:2:")
		require.NoError(t, os.Remove(filepath.Join(dir, "kestrel", "more.yaml")))
		require.Eventually(t, func() bool { return book() == was }, time.Minute, 10*time.Millisecond)
		require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP))
		require.Eventually(
			t,
			func() bool { return strings.Contains(s.log.String(), "the book is the same as before") },
			time.Minute,
			10*time.Millisecond,
		)
	})
	t.Run("all sessions of an account end", func(t *testing.T) {
		status, text := s.ask("DELETE", "/v1/sessions?account=ingrid@kestrelsound.example", "", "")
		require.Equal(t, 204, status, text)
		require.Contains(t, in(t, dir, 0, "journal", "list"), "the session s-1 ended")
	})
	t.Run("those who are slow are cut off", func(t *testing.T) {
		conn, err := net.Dial("tcp", s.address)
		require.NoError(t, err)
		defer conn.Close()
		fmt.Fprintf(
			conn,
			"POST /v1/decisions HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{",
			token,
		)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
		text, err := io.ReadAll(conn)
		require.NoError(t, err, "the door ends it")
		require.Contains(t, string(text), "400 Bad Request")
	})
	t.Run("many idle connections", func(t *testing.T) {
		const many = 10_000
		var idle []net.Conn
		for range many {
			conn, err := net.Dial("tcp", s.address)
			if err != nil {
				t.Logf("this machine lets a process have %d connections: %v", len(idle), err)
				break
			}
			idle = append(idle, conn)
		}
		status, _ := s.ask("POST", "/v1/decisions", "application/json", signOn)
		require.Equal(t, 200, status)
		for _, conn := range idle {
			conn.Close()
		}
	})
	require.NotContains(t, s.log.String(), token, "nothing in the log is a secret")
	s.stop()
}

// provider signs events, and its keys are in a file.
func signer(t *testing.T, path string) jose.Signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	set, err := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "k", Algorithm: "ES256"}}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, set, 0o600))
	made, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: key},
		(&jose.SignerOptions{}).WithType("secevent+jwt").WithHeader("kid", "k"),
	)
	require.NoError(t, err)
	return made
}

// TestKilled kills a door under load, again and again: nothing that it acknowledged is lost or
// doubled, and the journal verifies.
// TestAStoreThatWasPutBack: a door finds out, and starts on it once an administrator says that it is meant.
// byTheKey signs the emergency account on, and fresh somebody without a session.
const byTheKey = `{"account":"harbour-key@kestrelsound.example","app":"mail","ip":"203.0.113.20","proofs":[{"method":"security-key"}]}`

// continues goes on in the session of signOn, and proves nothing.
var continues = strings.Replace(signOn, `,"proofs":[{"method":"password"},{"method":"push"}]`, "", 1)

var fresh = strings.Replace(signOn, `"session":{"id":"s-1"},`, "", 1)

// decides asks for a decision, and returns its verdict and its first cause.
func (s *server) decides(body string) (verdict, cause string) {
	status, text := s.ask("POST", "/v1/decisions", "application/json", body)
	require.Equal(s.t, 200, status, text)
	var answer struct {
		Verdict string
		Causes  []struct{ Code, Text string }
	}
	require.NoError(s.t, json.Unmarshal([]byte(text), &answer))
	if len(answer.Causes) == 0 {
		return answer.Verdict, ""
	}
	return answer.Verdict, answer.Causes[0].Code + ": " + answer.Causes[0].Text
}

// TestTheBookInForceGoesOn until somebody says that a newer one is whole, over restarts too.
func TestTheBookInForceGoesOn(t *testing.T) {
	dir := t.TempDir()
	in(t, dir, 0, "demo", "--out", "kestrel")
	token := configuredDoor(t, dir, "store: {file: door.db, history: complete}\n")
	s := serve(t, dir, token)
	book := func() string {
		_, text := s.ask("GET", "/readyz", "", "")
		return text
	}
	says := func(text string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(s.log.String(), text) }, 30*time.Second, 10*time.Millisecond, s.log.String())
	}
	hangUp := func() { require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP)) }
	first := book()
	policies := filepath.Join(dir, "kestrel", "policies.yaml")
	whole, err := os.ReadFile(policies)
	require.NoError(t, err)
	write := func(text string) { require.NoError(t, os.WriteFile(policies, []byte(text), 0o600)) }
	write(string(whole)[:strings.Index(string(whole), "  - name: card-till")]) // half of it, and a valid book without its guarantees
	for _, folder := range []string{"half of a book", "no book"} {
		if folder == "no book" {
			write("briskwarden: 1\npolicies: [{nam: x}]\n")
		}
		s.stop()
		s = serve(t, dir, token)
		require.Equal(t, first, book(), folder)
		says("the book in force goes on")
	}
	hangUp()
	says("a book was refused")
	require.Contains(t, book(), "refused")
	write(strings.Replace(string(whole), "The till takes cards", "Our till takes cards", 1))
	hangUp()
	require.Eventually(t, func() bool { return book() != first && !strings.Contains(book(), "refused") }, 30*time.Second, 10*time.Millisecond)
	second := book()
	write(string(whole))
	s.stop()
	s = serve(t, dir, token)
	require.Equal(t, second, book())
	verdict, cause := s.decides(`{"account":"ingrid@kestrelsound.example","app":"card-till","ip":"203.0.113.20"}`)
	require.NotEqual(t, "grant", verdict, cause)

	config := filepath.Join(dir, "door.yaml")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	made := struct{ Token, Config string }{}
	require.NoError(t, json.Unmarshal([]byte(in(t, dir, 0, "serve", "token", "--for", "gateway", "--may", "decide", "--json")), &made))
	require.NoError(t, os.WriteFile(config, append([]byte("door: 1\nlisten: 127.0.0.1:0\nstore: {file: other.db}\n"), made.Config...), 0o600))
	hangUp()
	says(`needs a restart","keys":"[store]"`)
	status, _ := s.ask("POST", "/v1/decisions", "application/json", signOn)
	require.Equal(t, 401, status, "a token that was taken out")
	s.token = made.Token
	status, _ = s.ask("POST", "/v1/decisions", "application/json", signOn)
	require.Equal(t, 200, status)
	require.NoError(t, os.WriteFile(config, []byte("door: 1\ncaller: none\n"), 0o600))
	hangUp()
	says("the configuration was not taken")
	status, _ = s.ask("POST", "/v1/decisions", "application/json", signOn)
	require.Equal(t, 200, status, "what cannot be read changes nothing")
	require.NoError(t, os.WriteFile(config, text, 0o600))
	s.stop()
}

// doubts holds a door to a store in doubt: emergency accounts alone are let in.
func (s *server) doubts() {
	verdict, cause := s.decides(fresh)
	require.Equal(s.t, "block", verdict)
	require.Contains(s.t, cause, "account_unavailable")
	verdict, _ = s.decides(byTheKey)
	require.Equal(s.t, "grant", verdict)
	status, text := s.ask("GET", "/readyz", "", "")
	require.Equal(s.t, 503, status, text)
}

// resyncs says of each source that the store is resynced with it, after which people are let in again, but not in a session that the store
// has of before.
func resyncs(t *testing.T, dir string, has bool, doors ...*server) {
	restored := []string{"serve", "restored", "--as", "ragna", "--because", "the disk failed"}
	require.Contains(t, in(t, dir, 2, append(restored, "--resynced", "nobody")...), `those are "administrators", "caller gateway"`)
	require.Contains(t, in(t, dir, 1, append(restored, "--resynced", "administrators")...), "with caller gateway")
	for _, s := range doors {
		require.Eventually(t, func() bool {
			verdict, cause := s.decides(fresh)
			return verdict == "block" && strings.Contains(cause, "not yet resynced with caller gateway")
		}, 10*time.Second, 50*time.Millisecond, s.log.String())
	}
	require.Contains(t, in(t, dir, 0, append(restored, "--resynced", "caller gateway")...), "the doors let people in")
	for _, s := range doors {
		require.Eventually(t, func() bool { verdict, _ := s.decides(fresh); return verdict == "grant" }, 10*time.Second, 50*time.Millisecond)
		_, open := s.ask("GET", "/v1/sessions?account=ingrid@kestrelsound.example", "", "")
		require.Equal(t, has, strings.Contains(open, "s-1"), open)
		verdict, cause := s.decides(continues)
		require.Equal(t, has, verdict == "block" && strings.Contains(cause, "the store was put back to an older copy"), cause)
		status, text := s.ask("GET", "/readyz", "", "")
		require.Equal(t, 200, status, text)
	}
}

func TestAStoreThatWasPutBack(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(dir string) error
		lost  string
	}{
		"an older copy": {func(dir string) error {
			return os.Rename(filepath.Join(dir, "copy.db"), filepath.Join(dir, "door.db"))
		}, "the log door had 5 entries, and has 3"},
		"an empty file": {func(dir string) error {
			return os.Truncate(filepath.Join(dir, "door.db"), 0)
		}, "the log door had 5 entries, and has 0"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := work(t)
			in(t, dir, 0, "journal", "key", "--name", "ferries.example/door", "--out", "j.key")
			token := configuredDoor(t, dir, "store: {file: door.db, history: complete}\njournal: {key: j.key, checkpoint: j.checkpoint}\n")
			s := serve(t, dir, token)
			verdict, _ := s.decides(signOn)
			require.Equal(t, "grant", verdict)
			require.Eventually(t, func() bool {
				return strings.Contains(in(t, dir, 0, "journal", "list", "--config", "door.yaml"), "points of inspect")
			}, time.Minute, 10*time.Millisecond)
			in(t, dir, 0, "serve", "backup", "copy.db")
			s.decides(signOn)
			s.decides(signOn)
			s.stop()
			signed, err := os.ReadFile(filepath.Join(dir, "j.checkpoint"))
			require.NoError(t, err)
			in(t, dir, 0, "serve", "check", "--book", "kestrel")
			require.NoError(t, c.spoil(dir))
			if name == "an empty file" { // a program makes its tables
				in(t, dir, 0, "serve", "carry-over", "--config", "door.yaml")
			}
			require.Contains(t, in(t, dir, 1, "serve", "check", "--book", "kestrel"), "is not the one that this door wrote to last")

			s = serve(t, dir, token)
			s.doubts()
			require.Contains(t, s.log.String(), strings.Replace(c.lost, "the log", "its log", 1)+" that do not go on from them")
			s.stop()
			now, err := os.ReadFile(filepath.Join(dir, "j.checkpoint"))
			require.NoError(t, err)
			require.Equal(t, string(signed), string(now), "no checkpoint is signed of a store in doubt")

			s = serve(t, dir, token)
			require.Contains(t, in(t, dir, 2, "serve", "restored"), "say who does it and why")
			restored := []string{"serve", "restored", "--as", "ragna", "--because", "the disk failed"}
			require.Contains(t, in(t, dir, 1, restored...), "the log door had 5 entries, and has")
			require.Contains(t, in(t, dir, 2, restored...), "there is nothing to say")
			resyncs(t, dir, name == "an older copy", s)
			list := in(t, dir, 0, "journal", "list", "--config", "door.yaml", "--kind", "restored", "--format", "csv")
			require.Contains(t, list, "the log door had 5 entries, and has")
			require.Contains(t, list, "the store, which was put back, is resynced with administrators. Because: the disk failed")
			s.stop()
			require.Contains(t, in(t, dir, 0, "journal", "verify", "--config", "door.yaml"), "SOUND")
			in(t, dir, 0, "serve", "check", "--book", "kestrel")
		})
	}
}

// TestADatabaseThatWasPutBackWhileDoorsRun: both doors find out by themselves, and one act is enough for both.
func TestADatabaseThatWasPutBackWhileDoorsRun(t *testing.T) {
	address := storetest.Postgres(t)
	dirs, doors, schema := []string{t.TempDir(), t.TempDir()}, []*server{}, ""
	for i, dir := range dirs {
		in(t, dir, 0, "demo", "--out", "kestrel")
		token := configuredDoor(t, dir, fmt.Sprintf("store: {postgres: %q, history: complete}\njournal: {door: door-%d}\n", address, i))
		doors = append(doors, serve(t, dir, token)) // the second kept no state, and the first vouches for the store
		verdict, _ := doors[i].decides(signOn)
		require.Equal(t, "grant", verdict, doors[i].log)
	}
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT current_schema()").Scan(&schema))
	dump, err := storetest.PostgresProgram(t, "pg_dump", "--schema", schema).Output()
	require.NoError(t, err)
	for _, s := range doors {
		s.decides(signOn)
	}
	time.Sleep(2 * time.Second) // the states are a second behind
	putBack := storetest.PostgresProgram(t, "psql", "--quiet", "--single-transaction", "--set", "ON_ERROR_STOP=1")
	putBack.Stdin = strings.NewReader("DROP SCHEMA " + schema + " CASCADE;\n" + string(dump))
	out, err := putBack.CombinedOutput()
	require.NoError(t, err, string(out))
	for _, s := range doors {
		notices := func() bool { return strings.Contains(s.log.String(), "the store is in doubt") }
		require.Eventually(t, notices, 10*time.Second, 20*time.Millisecond, s.log.String())
		s.doubts()
	}
	in(t, dirs[1], 1, "serve", "restored", "--as", "ragna", "--because", "the disk failed")
	resyncs(t, dirs[0], true, doors...)
	list := in(t, dirs[0], 0, "journal", "list", "--config", "door.yaml", "--kind", "restored", "--format", "csv")
	require.Contains(t, list, "the log door-0 had", "each door says what it lost")
	require.Contains(t, list, "the log door-1 had")
	for _, s := range doors {
		s.stop()
	}
	list = in(t, dirs[0], 0, "journal", "list", "--config", "door.yaml", "--kind", "witness", "--format", "csv")
	require.Contains(t, list, "the log door-1 began")
	require.Contains(t, list, "the door of the log door-1 stopped")
	require.Contains(t, in(t, dirs[0], 0, "journal", "verify", "--config", "door.yaml"), "SOUND")
}

// TestADoorWithoutItsState: nobody vouches for the store, until somebody does.
func TestADoorWithoutItsState(t *testing.T) {
	dir := work(t)
	in(t, dir, 0, "journal", "key", "--name", "ferries.example/door", "--out", "j.key")
	token := configuredDoor(t, dir, "store: {file: door.db, history: complete}\njournal: {key: j.key, checkpoint: j.checkpoint}\n")
	s := serve(t, dir, token)
	s.decides(signOn)
	s.stop()
	lose := func() { require.NoError(t, os.RemoveAll(filepath.Join(dir, "door.state"))) }
	lose()
	s = serve(t, dir, token)
	s.doubts()
	s.stop()
	require.Contains(t, in(t, dir, 2, "serve", "--book", "kestrel", "--checkpoint", "j.key"), "cannot be trusted")
	s = serve(t, dir, token, "--checkpoint", "j.checkpoint")
	verdict, _ := s.decides(fresh)
	require.Equal(t, "grant", verdict, s.log)
	s.stop()
	s = serve(t, dir, token) // which has a state now
	verdict, _ = s.decides(fresh)
	require.Equal(t, "grant", verdict, s.log)
	s.stop()
	lose()
	s = serve(t, dir, token)
	require.Contains(t, in(t, dir, 1, "serve", "restored", "--as", "ragna", "--because", "the state is lost"), "nobody can tell")
	resyncs(t, dir, true, s)
	s.stop()
}

func TestKilled(t *testing.T) {
	for name, where := range map[string]func(t *testing.T) string{
		"sqlite":   func(*testing.T) string { return "store: {file: door.db}\n" },
		"postgres": func(t *testing.T) string { return "store: {postgres: \"" + storetest.Postgres(t) + "\"}\n" },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			in(t, dir, 0, "demo", "--out", "kestrel")
			signs := signer(t, filepath.Join(dir, "keys.json"))
			token := configuredDoor(t, dir, where(t)+"events: [{issuer: \"https://feed.example\", audience: [door], keys: keys.json}]\n")
			var mu sync.Mutex
			acknowledged := map[string]string{} // what, by the kind of its entry
			var number atomic.Int64
			now := time.Now()
			if *clock != "" {
				var err error
				now, err = time.Parse(time.RFC3339, *clock)
				require.NoError(t, err)
			}
			identity := regexp.MustCompile(`^\{"id":"([0-9a-f-]+)"`)
			for range *kills {
				s := serve(t, dir, token)
				var group sync.WaitGroup
				for worker := range 6 {
					group.Go(func() {
						for status := 200; status != 0; {
							n := number.Add(1)
							var text, kind, what string
							switch worker % 3 {
							case 0:
								status, text = s.ask("POST", "/v1/decisions", "application/json", strings.Replace(signOn, "s-1", fmt.Sprint("s-", n%50), 1))
								if found := identity.FindStringSubmatch(text); status == 200 && found != nil && !strings.Contains(text, `"degraded"`) {
									kind, what = "decision", found[1]
								}
							case 1:
								device := fmt.Sprint("device-", n)
								status, _ = s.ask("PUT", "/v1/devices/"+device+"/report", "application/json", `{"facts":{"firewall":true}}`)
								if status == 204 {
									kind, what = "report", device
								}
							case 2:
								event := fmt.Sprint("event-", n)
								body, err := jwt.Signed(signs).Claims(map[string]any{"iss": "https://feed.example", "aud": "door", "jti": event, "iat": now.Unix(),
									"sub_id": map[string]string{"format": "email", "email": "ingrid@kestrelsound.example"},
									"events": map[string]any{
										"https://schemas.openid.net/secevent/caep/event-type/risk-level-change": map[string]string{"current_level": "LOW"},
									},
								}).Serialize()
								if err != nil {
									t.Error(err)
									return
								}
								status, _ = s.ask("POST", "/v1/events", "application/secevent+jwt", body)
								if status == 202 {
									kind, what = "event", event
								}
							}
							if kind != "" {
								mu.Lock()
								acknowledged[what] = kind
								mu.Unlock()
							}
						}
					})
				}
				before := number.Load()
				require.Eventually(t, func() bool { return number.Load() > before+150 }, time.Minute, time.Millisecond, s.log.String())
				require.NoError(t, s.cmd.Process.Kill())
				s.cmd.Wait()
				group.Wait()
			}
			require.Contains(t, in(t, dir, 0, "journal", "verify"), "SOUND")
			counts := map[string]int{}
			for _, kind := range []string{"decision", "report", "event"} {
				var list struct {
					Entries []struct{ ID, Text string }
				}
				document(t, dir, 0, &list, "journal", "list", "--kind", kind, "--most", "10000000", "--json")
				for _, e := range list.Entries {
					switch kind {
					case "decision":
						counts[e.ID]++
					case "report":
						counts[strings.Fields(e.Text)[2]]++
					}
				}
			}
			for what, kind := range acknowledged {
				if kind != "event" {
					require.Equal(t, 1, counts[what], "the %s %s", kind, what)
				}
			}
			require.Greater(t, len(acknowledged), 100**kills)
			s := serve(t, dir, token) // events that come again are known
			for what, kind := range acknowledged {
				if kind == "event" {
					body, err := jwt.Signed(signs).Claims(map[string]any{"iss": "https://feed.example", "aud": "door", "jti": what, "iat": now.Unix(),
						"sub_id": map[string]string{"format": "email", "email": "ingrid@kestrelsound.example"},
						"events": map[string]any{"https://schemas.openid.net/secevent/risc/event-type/account-disabled": map[string]string{}}}).Serialize()
					require.NoError(t, err)
					status, text := s.ask("POST", "/v1/events", "application/secevent+jwt", body)
					require.Equal(t, 202, status, text)
				}
			}
			_, text := s.ask("POST", "/v1/decisions", "application/json", signOn)
			require.NotContains(t, text, "account_disabled", "none of them was taken again")
			s.stop()
		})
	}
}
