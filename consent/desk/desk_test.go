package desk_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/desk"
)

var (
	monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)
	ctx    = context.Background()
)

const world = `briskwarden: 1
groups: [{name: crew}, {name: office}]
accounts: [{name: ann, groups: [crew]}, {name: bob, groups: [crew]}, {name: eve, groups: [office]}, {name: rae}, {name: sol}]
scopes: {mild: {gravity: 1, scopes: [openid]}, grave: {gravity: 2, scopes: ["mail.*"]}}
clients:
  - {name: log, redirect_uris: ["https://log.example/cb"]}
  - {name: tides, redirect_uris: ["https://tides.example/cb"], publisher: {title: T, vetted: true}}
consent:
  reviewers: {accounts: [rae, sol]}
  lasts: 30d
  requests_last: 7d
  rules: [{name: mild, when: {scopes_within: [mild]}, then: allow}]
`

func judge(t require.TestingT, change ...string) *consent.Judge {
	b, err := book.OpenFS(fstest.MapFS{"world.yaml": {Data: []byte(strings.NewReplacer(change...).Replace(world))}})
	require.NoError(t, err)
	j, err := b.Compile()
	require.NoError(t, err)
	consents, err := b.CompileConsent(j)
	require.NoError(t, err)
	return consents
}

func asks(account string, scopes ...string) consent.Request {
	return consent.Request{At: monday, Account: account, Client: "log", Scopes: scopes, RedirectURI: "https://log.example/cb"}
}

// ask asks and returns the number of the request that waits.
func ask(t *testing.T, d *desk.Desk, account string, scopes ...string) int64 {
	t.Helper()
	a, err := d.Ask(ctx, asks(account, scopes...), "I need it.")
	require.NoError(t, err)
	return a.Request
}

// holds reports what a client was given by each account.
func holds(t *testing.T, d *desk.Desk) map[string]string {
	usage, err := d.Usage(ctx, monday)
	require.NoError(t, err)
	found := map[string]string{}
	for client, u := range usage {
		if u.Users > 0 {
			found[client] = fmt.Sprint(u.Users, u.Holds)
		}
	}
	return found
}

func TestTheQueue(t *testing.T) {
	d := desk.New(judge(t), new(desk.Memory))
	require.Zero(t, ask(t, d, "ann", "openid"), "what the rules allow does not wait")
	first := ask(t, d, "ann", "mail.read", "openid")
	require.Equal(t, first, ask(t, d, "ann", "openid", "mail.read"), "anyone who asks twice waits once")
	second := ask(t, d, "bob", "mail.read", "openid")
	ask(t, d, "eve", "mail.send")
	answer, err := d.Ask(ctx, asks("eve", "mail.read", "openid"), "")
	require.NoError(t, err)
	require.Equal(t, 2, answer.Others)
	require.Equal(t, monday.AddDate(0, 0, 7), answer.Expires)
	queue, err := d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Len(t, queue, 2, "who asked for the same stands together")
	require.Len(t, queue[0].Requests, 3)
	require.Equal(t, "I need it.", queue[0].Requests[0].Why)

	// For the one who asked, and less than that.
	_, err = d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: first, Scopes: []string{"openid"}, Because: "No mail."})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"log": "1 [openid]"}, holds(t, d))
	// For a group: bob is answered, eve is not in it.
	_, err = d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: second, Group: "crew"})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"log": "2 [openid mail.read]"}, holds(t, d))
	again, err := d.Ask(ctx, asks("ann", "mail.read"), "")
	require.NoError(t, err)
	require.Equal(t, consent.Allow, again.Outcome, "the approval is for the group, ann among them")
	other, err := d.Ask(ctx, asks("ann", "mail.read", "mail.send"), "")
	require.NoError(t, err)
	require.NotZero(t, other.Request, "a new scope asks again")
	// For everyone: all who wait for no more are answered together.
	queue, err = d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Equal(t, 3, len(queue[0].Requests)+len(queue[1].Requests)+len(queue[2].Requests))
	_, err = d.Approve(ctx, desk.Approval{By: "sol", At: monday, Client: "log", Scopes: []string{"mail.read", "mail.send"}, Everyone: true})
	require.NoError(t, err)
	queue, err = d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Empty(t, queue)
	require.Equal(t, map[string]string{"log": "3 [openid mail.read mail.send]"}, holds(t, d))
	// Approvals end, and then the grants that rested on them are strays.
	strays, err := d.Strays(ctx, monday)
	require.NoError(t, err)
	require.Empty(t, strays)
	strays, err = d.Strays(ctx, monday.AddDate(0, 0, 31))
	require.NoError(t, err)
	require.Len(t, strays, 3)
	acts, err := d.Acts(ctx)
	require.NoError(t, err, "the chain is whole")
	require.Equal(t, desk.Granted, acts[0].Kind)
}

func TestWhatIsNotDone(t *testing.T) {
	d := desk.New(judge(t), new(desk.Memory))
	request := ask(t, d, "ann", "mail.read")
	own := ask(t, d, "rae", "mail.read")
	approve := func(a desk.Approval) error {
		a.At = monday
		_, err := d.Approve(ctx, a)
		return err
	}
	refuse := func(by string, n int64, because string) error {
		_, err := d.Refuse(ctx, desk.Refusal{By: by, At: monday, Requests: []int64{n}, Because: because})
		return err
	}
	require.ErrorIs(t, approve(desk.Approval{By: "ann", Request: request}), desk.ErrNotReviewer)
	require.ErrorIs(t, refuse("eve", request, "x"), desk.ErrNotReviewer)
	require.ErrorIs(t, approve(desk.Approval{By: "rae", Request: own}), desk.ErrOwnRequest)
	require.ErrorIs(t, approve(desk.Approval{By: "rae", Request: request, Everyone: true}), desk.ErrOwnRequest, "she waits for the same")
	require.ErrorIs(t, approve(desk.Approval{By: "rae", Client: "log", Scopes: []string{"mail.read"}, Account: "rae"}), desk.ErrOwnRequest)
	require.ErrorIs(t, approve(desk.Approval{By: "rae", Request: 99}), desk.ErrNoRequest)
	require.ErrorIs(t, refuse("rae", 99, "x"), desk.ErrNoRequest)
	require.ErrorContains(
		t,
		approve(desk.Approval{By: "rae", Request: request, Scopes: []string{"mail.send"}}),
		"does not ask for mail.send",
	)
	require.ErrorContains(t, approve(desk.Approval{By: "rae", Request: request, Group: "deck"}), `no group "deck"`)
	require.ErrorContains(
		t,
		approve(desk.Approval{By: "rae", Client: "log", Scopes: []string{"a"}}),
		"is for an account, a group or everyone",
	)
	require.ErrorContains(t, approve(desk.Approval{By: "rae", Client: "log", Everyone: true}), "at least one scope")
	require.ErrorContains(t, refuse("rae", request, " "), "says why")
	_, err := d.Bar(ctx, "rae", "nobody", "x", monday)
	require.ErrorContains(t, err, "nobody knows the client")
	_, err = d.LiftBar(ctx, "rae", "log", "x", monday)
	require.ErrorContains(t, err, "no reviewer barred log")
	acts, err := d.Acts(ctx)
	require.NoError(t, err)
	require.Len(t, acts, 2, "what was not done is not on record")
	// A week later nobody answers any more.
	_, err = d.Approve(ctx, desk.Approval{By: "sol", At: monday.AddDate(0, 0, 7), Request: request})
	require.ErrorContains(t, err, "expired")
	queue, err := d.Queue(ctx, monday.AddDate(0, 0, 7))
	require.NoError(t, err)
	require.Empty(t, queue)
	// Where the book says so a reviewer approves her own.
	lax := desk.New(judge(t, "lasts: 30d", "lasts: 30d\n  own_requests: true"), new(desk.Memory))
	own = ask(t, lax, "rae", "mail.read")
	_, err = lax.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: own})
	require.NoError(t, err)
}

// TestTheStricterActStands: whichever of two reviewers' acts comes first, both are
// on record and the stricter stands.
func TestTheStricterActStands(t *testing.T) {
	approve := func(d *desk.Desk, n int64) error {
		_, err := d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: n})
		return err
	}
	refuse := func(d *desk.Desk, n int64) error {
		_, err := d.Refuse(ctx, desk.Refusal{By: "sol", At: monday, Requests: []int64{n}, Because: "No."})
		return err
	}
	bar := func(d *desk.Desk, _ int64) error {
		_, err := d.Bar(ctx, "sol", "log", "Sold.", monday)
		return err
	}
	for name, strict := range map[string]func(*desk.Desk, int64) error{"refuse": refuse, "bar": bar} {
		t.Run(fmt.Sprint(name), func(t *testing.T) {
			for _, first := range []bool{true, false} {
				d := desk.New(judge(t), new(desk.Memory))
				n := ask(t, d, "ann", "mail.read")
				if first {
					require.NoError(t, strict(d, n))
					require.ErrorIs(t, approve(d, n), desk.ErrOverruled)
				} else {
					require.NoError(t, approve(d, n))
					require.Equal(t, map[string]string{"log": "1 [mail.read]"}, holds(t, d))
					require.NoError(t, strict(d, n))
				}
				require.Empty(t, holds(t, d), "%s: what came of it is taken back", name)
				answer, err := d.Ask(ctx, asks("ann", "mail.read"), "")
				require.NoError(t, err)
				require.NotEqual(t, consent.Allow, answer.Outcome)
				acts, err := d.Acts(ctx)
				require.NoError(t, err)
				by := map[string]int{}
				for _, a := range acts {
					by[a.By]++
				}
				require.Positive(t, by["rae"], "%s: neither act is lost", name)
				require.Positive(t, by["sol"])
			}
		})
	}
	// A lifted bar brings nothing back.
	d := desk.New(judge(t), new(desk.Memory))
	require.NoError(t, approve(d, ask(t, d, "ann", "mail.read")))
	require.NoError(t, bar(d, 0))
	require.ErrorContains(t, bar(d, 0), "sol barred log already")
	_, err := d.LiftBar(ctx, "rae", "log", "Vetted.", monday)
	require.NoError(t, err)
	require.Empty(t, holds(t, d))
	require.NotZero(t, ask(t, d, "ann", "mail.read"))
}

func TestRegisterAndImport(t *testing.T) {
	d := desk.New(judge(t), new(desk.Memory))
	found, err := desk.ReadImport([]byte("client_id,client_name,scope,account,since,last_used,redirect_uris,client_uri\n" +
		"swap,Swap,,,,,https://swap.example/cb http://x.example/cb,https://swap.example/about\n" +
		"swap,,openid mail.read,ann,2024-01-02T03:04:05Z,2026-11-01T00:00:00Z,,\nswap,,,bob,,,,\nswap,,openid,bob,yesterday,,,\nshort\n"))
	require.NoError(t, err)
	require.Equal(t, []int{4, 5, 6}, []int{found.Skipped[0].Line, found.Skipped[1].Line, found.Skipped[2].Line})
	_, err = d.Import(ctx, "ann", found, monday)
	require.ErrorIs(t, err, desk.ErrNotReviewer)
	_, err = d.Import(ctx, "rae", found, monday)
	require.NoError(t, err)
	register, err := d.Register(ctx, monday)
	require.NoError(t, err)
	require.Equal(
		t,
		[]string{"swap", "log", "tides"},
		[]string{register[0].Client, register[1].Client, register[2].Client},
		"the most dangerous first",
	)
	require.Equal(t, "Swap", register[0].Title)
	require.Equal(t, 1, register[0].Users)
	require.Equal(t, "swap.example", register[0].Publisher.Domain)
	strays, err := d.Strays(ctx, monday)
	require.NoError(t, err)
	require.Equal(t, []string{"mail.read"}, strays[0].Over)
	require.Equal(t, "2024-01-02", strays[0].Since.Format(time.DateOnly))

	one, err := desk.ReadImport(
		[]byte(
			`[{"client_id": "a", "client_name": "A", "redirect_uris": ["https://a.example/cb"], "scope": "openid", "grant_types": ` +
				`["authorization_code"]}, {"client_id": 7}]`,
		),
	)
	require.NoError(t, err)
	require.Equal(t, "A", one.Clients[0].Title)
	require.Contains(t, one.Skipped[0].Text, "item 2 is no client metadata")
	for text, want := range map[string]string{"": "the file is empty", "{": "not client metadata", "[": "not a list",
		"a,b\n": "has no client_id", "client_id,colour\n": `no column "colour"`, "client_id\na b\n": "is no client_id",
		"[]": "no client and no grant", "client_id\n": "no client and no grant",
		"client_id,client_name\n\"a b\",\"two\nlines\"\n": "line 2: \"a b\""} {
		_, err := desk.ReadImport([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

// TestConcurrentReviewers: many reviewers in several desks on one file at once.
// No act is lost, none is done twice, and the chain is whole.
func TestConcurrentReviewers(t *testing.T) {
	path := filepath.Join(t.TempDir(), "consent.db")
	consents := judge(t)
	const people, desks = 12, 4
	var numbers []int64
	setUp, err := desk.OpenFile(path)
	require.NoError(t, err)
	for i := range people {
		r := asks([]string{"ann", "bob", "eve"}[i%3], fmt.Sprintf("mail.%d", i))
		answer, err := desk.New(consents, setUp).Ask(ctx, r, "")
		require.NoError(t, err)
		numbers = append(numbers, answer.Request)
	}
	require.NoError(t, setUp.Close())
	var wait sync.WaitGroup
	results := make(chan error, people*desks)
	for i := range desks {
		wait.Go(func() {
			store, err := desk.OpenFile(path)
			if err != nil {
				results <- err
				return
			}
			defer store.Close()
			d := desk.New(consents, store)
			for _, n := range numbers {
				if i%2 == 0 {
					_, err = d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: n})
				} else {
					_, err = d.Refuse(ctx, desk.Refusal{By: "sol", At: monday, Requests: []int64{n}, Because: "No."})
				}
				results <- err
			}
		})
	}
	wait.Wait()
	close(results)
	for err := range results {
		if err != nil {
			require.ErrorIs(t, err, desk.ErrOverruled)
		}
	}
	store, err := desk.OpenFile(path)
	require.NoError(t, err)
	defer store.Close()
	d := desk.New(consents, store)
	acts, err := d.Acts(ctx)
	require.NoError(t, err)
	count := map[desk.Kind]int{}
	for _, a := range acts {
		count[a.Kind]++
	}
	require.Equal(t, people, count[desk.Asked])
	require.Equal(t, people*desks/2, count[desk.Approved], "each approval is on record, overruled or not")
	require.Equal(t, people*desks/2, count[desk.Refused])
	require.Empty(t, holds(t, d), "each request was refused by somebody")
}

// helper is the program that is killed: it acts until it dies and reports each
// act when it was acknowledged.
const helper = "DESK_TEST_HELPER"

func TestMain(m *testing.M) {
	if path := os.Getenv(helper); path != "" {
		act(path)
		return
	}
	os.Exit(m.Run())
}

type plain struct{}

func (plain) Errorf(format string, args ...any) { fmt.Fprintf(os.Stderr, format, args...) }
func (plain) FailNow()                          { os.Exit(1) }

func act(path string) {
	store, err := desk.OpenFile(path)
	require.NoError(plain{}, err)
	d := desk.New(judge(plain{}), store)
	for i := 0; ; i++ {
		answer, err := d.Ask(ctx, asks([]string{"ann", "bob", "eve"}[i%3], fmt.Sprintf("mail.p%d.%d", os.Getpid(), i)), "")
		require.NoError(plain{}, err)
		fmt.Println("asked", answer.Request)
		// An approval and the grants that come of it are one act: all or nothing.
		acts, err := d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: answer.Request})
		require.NoError(plain{}, err)
		fmt.Println("approved", acts[len(acts)-1].Request)
	}
}

// TestKilled kills a program in the middle of its acts, again and again. Nothing
// that was acknowledged is lost, and nothing is half done.
func TestKilled(t *testing.T) {
	path := filepath.Join(t.TempDir(), "consent.db")
	acknowledged := map[string]bool{}
	chance := rand.New(rand.NewPCG(1, 2))
	for range 12 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), helper+"="+path)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		lines := make(chan string, 10_000)
		go func() {
			buffer := make([]byte, 64<<10)
			rest := ""
			for {
				n, err := out.Read(buffer)
				rest += string(buffer[:n])
				for {
					line, more, found := strings.Cut(rest, "\n")
					if !found {
						break
					}
					lines <- line
					rest = more
				}
				if err != nil {
					close(lines)
					return
				}
			}
		}()
		for range 2 {
			acknowledged[<-lines] = true // it is at work
		}
		time.Sleep(time.Duration(chance.IntN(60)) * time.Millisecond)
		require.NoError(t, cmd.Process.Kill()) // SIGKILL
		for line := range lines {
			acknowledged[line] = true
		}
		_ = cmd.Wait()
	}
	store, err := desk.OpenFile(path)
	require.NoError(t, err)
	defer store.Close()
	acts, err := desk.New(judge(t), store).Acts(ctx)
	require.NoError(t, err, "the chain is whole")
	onRecord := map[string]bool{}
	for i, a := range acts {
		switch a.Kind {
		case desk.Asked:
			onRecord[fmt.Sprintf("asked %d", a.Number)] = true
		case desk.Granted:
			onRecord[fmt.Sprintf("approved %d", a.Request)] = true
			require.Equal(t, desk.Approved, acts[i-1].Kind)
		case desk.Approved:
			require.Less(t, i+1, len(acts), "an approval stands without its grant")
			require.Equal(t, desk.Granted, acts[i+1].Kind)
		}
	}
	require.Greater(t, len(acknowledged), 20)
	for line := range acknowledged {
		require.True(t, onRecord[line], "%q was acknowledged and is lost", line)
	}
}

// TestTheRecordCannotBeEdited: SQLite refuses to change an act. Where somebody gets around
// that, opening the record, acting on it or verifying it tells; that all of it was written
// again, a checkpoint tells that was kept elsewhere.
func TestTheRecordCannotBeEdited(t *testing.T) {
	path := filepath.Join(t.TempDir(), "consent.db")
	store, err := desk.OpenFile(path)
	require.NoError(t, err)
	d := desk.New(judge(t), store)
	private, public, err := desk.NewKey("harbour.example/consent")
	require.NoError(t, err)
	for _, account := range []string{"ann", "bob", "eve"} {
		ask(t, d, account, "mail.read")
	}
	_, err = d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: 1})
	require.NoError(t, err)
	checkpoint, err := d.Checkpoint(ctx, private)
	require.NoError(t, err)
	_, err = d.Bar(ctx, "sol", "log", "Sold.", monday)
	require.NoError(t, err)
	require.NoError(t, store.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("UPDATE acts SET act = '{}'")
	require.ErrorContains(t, err, "acts are never changed")
	_, err = db.Exec("DELETE FROM acts")
	require.ErrorContains(t, err, "acts are never deleted")
	for name, c := range map[string]struct{ tampering, opening, verifying, comparing string }{
		"nothing": {"", "", "", ""},
		"an act changed": {"UPDATE acts SET act = replace(act, 'bob', 'ann') WHERE number = 2", "", "act 2 was changed",
			"act 2 was changed"},
		"an act removed":       {"DELETE FROM acts WHERE number = 2", "", "act 2 is missing", "act 2 is missing"},
		"the last act changed": {"UPDATE acts SET act = replace(act, 'sol', 'rae') WHERE number = 6", "act 6 was changed", "", ""},
		"the last act removed": {"DELETE FROM acts WHERE number = 6", "act 6 is missing", "", ""},
		"an act added":         {"INSERT INTO acts SELECT 7, act FROM acts WHERE number = 6", "act 7 was added beside the tree", "", ""},
		"the head changed":     {"UPDATE head SET size = 5", "do not come to the root of their tree", "", ""},
		"a bar taken away":     {"UPDATE clients SET bar = 0", "", "the clients that are kept beside the acts", "the clients"},
		"a grant added": {"INSERT INTO grants VALUES ('log', 'eve', 'own', 'mail.read', '', 0, 0, 'null')", "",
			"the grants that are kept", "the grants"},
		"a request answered":     {"UPDATE requests SET answer = 5 WHERE number = 2", "", "the requests that are kept", "the requests"},
		"an approval given back": {"INSERT INTO approvals VALUES (4, 'log', '', 1)", "", "the approvals that are kept", "the approvals"},
	} {
		t.Run(name, func(t *testing.T) {
			other := filepath.Join(t.TempDir(), "other.db")
			_, err := db.Exec("VACUUM INTO ?", other)
			require.NoError(t, err)
			edited, err := sql.Open("sqlite", other)
			require.NoError(t, err)
			_, err = edited.Exec("DROP TRIGGER acts_stay; DROP TRIGGER acts_remain; " + c.tampering)
			require.NoError(t, err)
			require.NoError(t, edited.Close())
			store, err := desk.OpenFile(other)
			if c.opening != "" {
				require.ErrorContains(t, err, c.opening)
				_, err = desk.ReadFile(other)
				require.ErrorContains(t, err, c.opening)
				return
			}
			require.NoError(t, err)
			defer store.Close()
			d := desk.New(judge(t), store)
			_, _, err = d.ActsAgainst(ctx, checkpoint, public)
			for _, done := range []struct {
				err  error
				want string
			}{{d.Verify(ctx), c.verifying}, {err, c.comparing}} {
				if done.want == "" {
					require.NoError(t, done.err)
				} else {
					require.ErrorContains(t, done.err, done.want)
				}
			}
		})
	}

	// Somebody writes all of it again, without the third request.
	again := desk.New(judge(t), new(desk.Memory))
	for _, account := range []string{"ann", "bob", "bob", "bob"} {
		_, err := again.Ask(ctx, asks(account, "mail.read"), "")
		require.NoError(t, err)
	}
	_, err = again.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: 1})
	require.NoError(t, err)
	require.NoError(t, again.Verify(ctx))
	_, _, err = again.ActsAgainst(ctx, checkpoint, public)
	require.ErrorContains(t, err, "it has 4 acts, and had 5 at the checkpoint")
	_, err = again.Bar(ctx, "sol", "log", "Sold.", monday)
	require.NoError(t, err)
	_, _, err = again.ActsAgainst(ctx, checkpoint, public)
	require.ErrorContains(t, err, "at least one of its first 5 acts is not as it was")

	reopened := desk.New(judge(t), opened(t, path))
	_, covered, err := reopened.ActsAgainst(ctx, checkpoint, public)
	require.NoError(t, err)
	require.Equal(t, desk.Covered{Origin: "harbour.example/consent", Acts: 5, Since: 1}, *covered)
	_, otherKey, err := desk.NewKey("harbour.example/consent")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		text        []byte
		key, wanted string
	}{
		"signed by another": {checkpoint, otherKey, "not signed by harbour.example/consent with that key"},
		"changed":           {bytes.Replace(checkpoint, []byte("\n5\n"), []byte("\n4\n"), 1), public, "it was changed after it was signed"},
		"no checkpoint":     {[]byte("5 acts"), public, "it is no checkpoint"},
		"no key":            {checkpoint, "key", "no public key for checkpoints"},
	} {
		t.Run(name, func(t *testing.T) {
			_, _, err := reopened.ActsAgainst(ctx, c.text, c.key)
			require.ErrorContains(t, err, c.wanted)
		})
	}
	_, err = desk.OpenFile(filepath.Join(t.TempDir(), "none", "consent.db"))
	require.Error(t, err)
	text := filepath.Join(t.TempDir(), "text.db")
	require.NoError(t, os.WriteFile(text, []byte(strings.Repeat("not a database ", 100)), 0o600))
	_, err = desk.OpenFile(text)
	require.ErrorContains(t, err, "not a database")
}

// TestStoresAgree: a file and the memory keep the same record of the same acts, and what is
// kept beside the acts is what they add up to.
func TestStoresAgree(t *testing.T) {
	path := filepath.Join(t.TempDir(), "consent.db")
	memory := new(desk.Memory)
	kinds := map[desk.Kind]bool{}
	imported, err := desk.ReadImport([]byte("client_id,redirect_uris,scope,account\nlog2,https://a.example/cb,,\nlog2,,openid " +
		"mail.read,ann\n"))
	require.NoError(t, err)
	for seed := range uint64(6) {
		file := opened(t, path)
		for _, store := range []desk.Store{file, memory} {
			d, chance := desk.New(judge(t), store), rand.New(rand.NewPCG(seed, 3))
			at := monday.Add(time.Duration(seed) * 1000 * time.Hour)
			for range 40 {
				at = at.Add(time.Duration(chance.IntN(30)) * time.Hour)
				r := asks([]string{"ann", "bob", "rae"}[chance.IntN(3)], []string{"openid", "mail.read", "mail.send"}[chance.IntN(3)])
				r.At, r.Client = at, []string{"log", "tides"}[chance.IntN(2)]
				r.RedirectURI = "https://" + r.Client + ".example/cb"
				number := int64(1)
				if queue, err := d.Queue(ctx, at); err == nil && len(queue) > 0 {
					number = queue[chance.IntN(len(queue))].Requests[0].Number
				}
				switch chance.IntN(12) {
				case 0, 1, 2:
					_, _ = d.Approve(ctx, desk.Approval{By: "rae", At: at, Request: number, Everyone: chance.IntN(2) == 0})
				case 3, 4:
					_, _ = d.Refuse(ctx, desk.Refusal{By: "sol", At: at, Requests: []int64{number}, Because: "No."})
				case 5:
					_, _ = d.Refuse(ctx, desk.Refusal{By: "sol", At: at, Client: r.Client, Because: "None of it."})
				case 6:
					_, _ = d.Bar(ctx, "sol", r.Client, "Sold.", at)
					_, _ = d.LiftBar(ctx, "sol", r.Client, "Back.", at)
				case 7:
					_, _ = d.Withdraw(ctx, desk.Withdrawal{By: r.Account, At: at, Account: r.Account, Client: r.Client})
				case 8:
					_, _ = d.Import(ctx, "rae", imported, at)
				default:
					_, _ = d.Ask(ctx, r, "Why.")
				}
			}
		}
		require.Equal(t, told(t, memory), told(t, file))
		require.NoError(t, file.Close())
		looked, err := desk.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, told(t, memory), told(t, looked), "read only")
		acts, err := desk.New(judge(t), looked).Acts(ctx)
		require.NoError(t, err)
		for _, a := range acts {
			kinds[a.Kind] = true
		}
		require.NoError(t, looked.Close())
	}
	require.Len(t, kinds, len(desk.Kinds()), "each kind of act was done")
}

// told returns all that a desk says of a record, which it verifies.
func told(t *testing.T, store desk.Store) string {
	d := desk.New(judge(t), store)
	at := monday.Add(6000 * time.Hour)
	acts, err := d.Acts(ctx)
	require.NoError(t, err)
	queue, err := d.Queue(ctx, at)
	require.NoError(t, err)
	register, err := d.Register(ctx, at)
	require.NoError(t, err)
	strays, err := d.Strays(ctx, at)
	require.NoError(t, err)
	text, err := json.Marshal([]any{acts, queue, register, strays})
	require.NoError(t, err)
	return string(text)
}

// TestEachActIsReadBack: acts with every field set, from a file that an older program
// wrote too.
func TestEachActIsReadBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "consent.db")
	store, err := desk.OpenFile(path)
	require.NoError(t, err)
	whole := desk.Act{At: monday, By: "rae", Kind: desk.ClientImported, Request: 3, Client: "log", Account: "ann", Group: "crew",
		Scopes: []string{"openid"}, Resource: consent.Resource{Group: "crew"}, RedirectURI: "https://log.example/cb", Because: "So.",
		Until: monday.Add(time.Hour), Overruled: true, Since: monday.Add(-time.Hour), LastUsed: monday.Add(-time.Minute),
		Imported: &consent.Client{Name: "log", RedirectURIs: []string{"https://log.example/cb"}, Tags: []string{"a"}}}
	fields := reflect.ValueOf(whole)
	for i := range fields.NumField() {
		if f := fields.Type().Field(i); f.IsExported() && f.Name != "Number" && f.Name != "Previous" {
			require.False(t, fields.Field(i).IsZero(), f.Name)
		}
	}
	for _, keeps := range []desk.Store{store, new(desk.Memory)} {
		d := desk.New(judge(t), keeps)
		kept, err := desk.Append(keeps, whole, whole)
		require.NoError(t, err)
		acts, err := d.Acts(ctx)
		require.NoError(t, err)
		require.Equal(t, plainly(t, kept), plainly(t, acts))
		for name, c := range map[string]struct {
			at   time.Time
			want string
		}{
			"a year that cannot be written": {monday.AddDate(9000, 0, 0), "year outside of range"},
			"before the last act":           {monday.Add(-time.Second), "the last act on record was done at 2026-11-23"},
		} {
			t.Run(name, func(t *testing.T) {
				_, err := desk.Append(keeps, desk.Act{At: monday, By: "sol", Kind: desk.Asked, Client: "tides", Account: "ann"},
					desk.Act{At: c.at, By: "rae", Kind: desk.Barred, Client: "log"})
				require.ErrorContains(t, err, c.want)
				again, err := d.Acts(ctx)
				require.NoError(t, err)
				require.Equal(t, plainly(t, kept), plainly(t, again), "all of them or none")
			})
		}
	}
	require.NoError(t, store.Close())
}

func plainly(t *testing.T, acts []desk.Act) string {
	text, err := json.Marshal(acts)
	require.NoError(t, err)
	return string(text)
}

// TestRecordsOfTheFirstForm: acts that each carry the hash of the one before are carried over
// once, with an act that the program of then could not read back. Looking at them writes
// nothing.
func TestRecordsOfTheFirstForm(t *testing.T) {
	lay := func(t *testing.T, change func(string) string) string {
		path := filepath.Join(t.TempDir(), "consent.db")
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		defer db.Close()
		_, err = db.Exec("CREATE TABLE acts (number INTEGER PRIMARY KEY, act TEXT NOT NULL) STRICT; PRAGMA user_version = 1")
		require.NoError(t, err)
		previous := ""
		for i, rest := range []string{
			`"by":"ann","kind":"asked","client":"log","account":"ann","scopes":["mail.read"],"until":"2026-12-07T12:00:00Z"`,
			`"by":"rae","kind":"approved","request":1,"client":"log","account":"ann","scopes":["mail.read"]`,
			`"by":"rae","kind":"granted","request":1,"client":"log","account":"ann","scopes":["mail.read"]`,
			`"by":"bob","kind":"asked","client":"log","account":"bob","scopes":["mail.read"],"resource":{"group":"crew"},` +
				`"until":"2026-12-07T12:00:00Z"`,
		} {
			text := fmt.Sprintf(`{"number":%d,"at":"2026-11-23T12:00:00Z",%s`, i+1, rest)
			if previous != "" {
				text += fmt.Sprintf(`,"previous":%q`, previous)
			}
			previous = fmt.Sprintf("%x", sha256.Sum256([]byte(text+"}")))
			_, err := db.Exec("INSERT INTO acts VALUES (?, ?)", i+1, change(text+"}"))
			require.NoError(t, err)
		}
		return path
	}
	same := func(text string) string { return text }
	path := lay(t, same)
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	looked, err := desk.ReadFile(path)
	require.NoError(t, err)
	shown := told(t, looked)
	_, err = desk.New(judge(t), looked).Ask(ctx, asks("eve", "mail.read"), "")
	require.ErrorContains(t, err, "readonly")
	require.NoError(t, looked.Close())
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, before, after)

	for range 2 {
		store := opened(t, path)
		require.Equal(t, shown, told(t, store))
		require.NoError(t, store.Close())
	}
	d := desk.New(judge(t), opened(t, path))
	queue, err := d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Equal(t, "group:crew", queue[0].Resource.String())
	require.Equal(t, map[string]string{"log": "1 [mail.read]"}, holds(t, d))
	_, err = d.Refuse(ctx, desk.Refusal{By: "sol", At: monday, Requests: []int64{1}, Because: "No."})
	require.NoError(t, err)
	require.Empty(t, holds(t, d), "what came of an older request is taken back")
	require.NoError(t, d.Verify(ctx))

	edited := lay(t, func(text string) string {
		return strings.Replace(text, `"by":"rae","kind":"approved"`, `"by":"sol","kind":"approved"`, 1)
	})
	_, err = desk.OpenFile(edited)
	require.ErrorContains(t, err, "act 2 was changed after it was recorded")
	_, err = desk.ReadFile(edited)
	require.ErrorContains(t, err, "act 2 was changed after it was recorded")
}

func opened(t *testing.T, path string) *desk.File {
	store, err := desk.OpenFile(path)
	require.NoError(t, err)
	t.Cleanup(func() { store.Close() })
	return store
}

// TestLookingWritesNothing: who may only read a record can, and an empty file stays empty.
func TestLookingWritesNothing(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "consent.db")
	store, err := desk.OpenFile(path)
	require.NoError(t, err)
	ask(t, desk.New(judge(t), store), "ann", "mail.read")
	require.NoError(t, store.Close())
	require.NoError(t, os.Chmod(path, 0o400))
	looked, err := desk.ReadFile(path)
	require.NoError(t, err)
	queue, err := desk.New(judge(t), looked).Queue(ctx, monday)
	require.NoError(t, err)
	require.Len(t, queue, 1)
	_, err = desk.New(judge(t), looked).Ask(ctx, asks("bob", "mail.read"), "")
	require.ErrorContains(t, err, "readonly")
	require.NoError(t, looked.Close())

	empty := filepath.Join(dir, "empty.db")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	looked, err = desk.ReadFile(empty)
	require.NoError(t, err)
	queue, err = desk.New(judge(t), looked).Queue(ctx, monday)
	require.NoError(t, err)
	require.Empty(t, queue)
	require.NoError(t, looked.Close())
	about, err := os.Stat(empty)
	require.NoError(t, err)
	require.Zero(t, about.Size())
	_, err = desk.ReadFile(filepath.Join(dir, "none.db"))
	require.Error(t, err)
}

// TestAnApprovalCoversWhatWasLookedAt: the place where an unlisted program is answered, and
// others than the reviewer.
func TestAnApprovalCoversWhatWasLookedAt(t *testing.T) {
	d := desk.New(judge(t), new(desk.Memory))
	asked := func(account, redirect string) (*desk.Answer, error) {
		r := asks(account, "mail.read")
		r.Client, r.RedirectURI = "stranger", redirect
		return d.Ask(ctx, r, "")
	}
	first, err := asked("ann", "https://stranger.example/cb")
	require.NoError(t, err)
	other, err := asked("bob", "https://evil.example/cb")
	require.NoError(t, err)
	require.Zero(t, other.Others, "another place is another request")
	queue, err := d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Equal(t, []string{"https://stranger.example/cb", "https://evil.example/cb"}, []string{queue[0].Redirect, queue[1].Redirect})
	_, err = d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: first.Request, Everyone: true})
	require.NoError(t, err)
	for redirect, want := range map[string]consent.Outcome{
		"https://stranger.example/cb": consent.Allow, "https://evil.example/cb": consent.Review, "": consent.Review,
		"https://stranger.example/cb/x": consent.Review,
	} {
		t.Run(redirect, func(t *testing.T) {
			answer, err := asked("eve", redirect)
			require.NoError(t, err)
			require.Equal(t, want, answer.Outcome)
		})
	}
	for _, wrong := range []string{"javascript:alert(1)", "data:text/html,x", "/cb", "https:///cb", "https://a.example/#x",
		"JavaScript:alert(1)"} {
		_, err := asked("eve", wrong)
		require.Error(t, err, wrong)
	}

	own, err := asked("rae", "https://stranger.example/cb")
	require.NoError(t, err)
	require.Equal(t, consent.Review, own.Outcome, "what she approved does not cover herself")
	_, err = d.Approve(ctx, desk.Approval{By: "sol", At: monday, Request: own.Request})
	require.NoError(t, err)
	own, err = asked("rae", "https://stranger.example/cb")
	require.NoError(t, err)
	require.Equal(t, consent.Allow, own.Outcome)

	for name, c := range map[string]struct {
		approval desk.Approval
		want     string
	}{
		"nobody knows where": {desk.Approval{Client: "new", Scopes: []string{"mail.read"}, Everyone: true}, "an approval of it says where"},
		"a pattern":          {desk.Approval{Client: "log", Scopes: []string{"mail.*"}, Everyone: true}, "mail.* is a pattern"},
		"no account":         {desk.Approval{Client: "log", Scopes: []string{"mail.read"}, Account: "nobody"}, `there is no account "nobody"`},
		"two at once": {desk.Approval{Client: "log", Scopes: []string{"mail.read"}, Account: "ann", Everyone: true},
			"one of an account"},
		"a request of another": {desk.Approval{Request: first.Request, Client: "log"}, "a request says which client it is of"},
	} {
		t.Run(name, func(t *testing.T) {
			c.approval.By, c.approval.At = "rae", monday
			_, err := d.Approve(ctx, c.approval)
			require.ErrorContains(t, err, c.want)
		})
	}
}

// TestNobodyFillsTheRecord: what is held already adds nothing, and one person's requests
// are bounded. A reviewer refuses many at once.
func TestNobodyFillsTheRecord(t *testing.T) {
	d := desk.New(judge(t), new(desk.Memory))
	for range 10 {
		require.Zero(t, ask(t, d, "ann", "openid"))
	}
	acts, err := d.Acts(ctx)
	require.NoError(t, err)
	require.Len(t, acts, 1)
	for i := range desk.MaxWaiting {
		require.NotZero(t, ask(t, d, "ann", fmt.Sprint("mail.", i)))
	}
	_, err = d.Ask(ctx, asks("ann", "mail.more"), "")
	require.ErrorIs(t, err, desk.ErrTooMany)
	require.NotZero(t, ask(t, d, "ann", "mail.1"), "what waits already is told")
	require.NotZero(t, ask(t, d, "bob", "mail.1"), "another is not hindered")
	later := asks("ann", "mail.more")
	later.At = monday.AddDate(0, 0, 7)
	_, err = d.Ask(ctx, later, "")
	require.NoError(t, err, "the others expired")

	d = desk.New(judge(t), new(desk.Memory))
	for _, account := range []string{"ann", "bob", "eve"} {
		ask(t, d, account, "mail.read")
		ask(t, d, account, "mail.send")
	}
	own := asks("ann", "mail.read")
	own.Client, own.RedirectURI = "tides", "https://tides.example/cb"
	_, err = d.Ask(ctx, own, "")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		refusal desk.Refusal
		want    string
	}{
		"no reason":        {desk.Refusal{By: "sol", Client: "log"}, "says why"},
		"nothing":          {desk.Refusal{By: "sol", Because: "No."}, "names requests, or a client"},
		"both":             {desk.Refusal{By: "sol", Because: "No.", Client: "log", Requests: []int64{1}}, "names requests, or a client"},
		"nothing waits":    {desk.Refusal{By: "sol", Because: "No.", Client: "lgo"}, "lgo waits for nothing"},
		"one is no number": {desk.Refusal{By: "sol", Because: "No.", Requests: []int64{1, 99}}, "there is no such request 99"},
	} {
		t.Run(name, func(t *testing.T) {
			c.refusal.At = monday
			_, err := d.Refuse(ctx, c.refusal)
			require.ErrorContains(t, err, c.want)
		})
	}
	refused, err := d.Refuse(ctx, desk.Refusal{By: "sol", At: monday, Client: "log", Because: "Not before it is vetted."})
	require.NoError(t, err)
	require.Len(t, refused, 2, "one act for each that asks for something else")
	queue, err := d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Equal(t, []string{"tides"}, []string{queue[0].Client})
	require.Len(t, queue, 1)
}

// TestWithdraw: a grant is taken back by the one who let the client in, or by a reviewer.
func TestWithdraw(t *testing.T) {
	d := desk.New(judge(t), new(desk.Memory))
	for _, account := range []string{"ann", "bob"} {
		_, err := d.Approve(ctx, desk.Approval{By: "rae", At: monday, Request: ask(t, d, account, "mail.read")})
		require.NoError(t, err)
	}
	accounts := func() (names []string) {
		grants, err := d.Holds(ctx, "log", monday)
		require.NoError(t, err)
		for _, g := range grants {
			names = append(names, g.Account)
		}
		return names
	}
	require.Equal(t, []string{"ann", "bob"}, accounts())
	for name, c := range map[string]struct {
		by, account, because, want string
	}{
		"of another":           {"bob", "ann", "I do not like it.", "bob is no reviewer of the book"},
		"a reviewer, unsaid":   {"rae", "ann", " ", "the act says why"},
		"what nobody let in":   {"eve", "eve", "", "log holds nothing of eve on own data"},
		"of an unknown person": {"rae", "nobody", "Gone.", "log holds nothing of nobody on own data"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := d.Withdraw(ctx, desk.Withdrawal{By: c.by, At: monday, Account: c.account, Client: "log", Because: c.because})
			require.ErrorContains(t, err, c.want)
		})
	}
	_, err := d.Withdraw(ctx, desk.Withdrawal{By: "ann", At: monday, Account: "ann", Client: "log"})
	require.NoError(t, err)
	require.Equal(t, []string{"bob"}, accounts())
	_, err = d.Withdraw(ctx, desk.Withdrawal{By: "rae", At: monday, Account: "bob", Client: "log", Because: "He left."})
	require.NoError(t, err)
	require.Empty(t, accounts())
	entries, err := d.Register(ctx, monday)
	require.NoError(t, err)
	i := slices.IndexFunc(entries, func(e desk.Entry) bool { return e.Client == "log" })
	require.Equal(t, []any{0, true}, []any{entries[i].Users, entries[i].Ever}, "it was let in once")
	_, err = d.Holds(ctx, "lgo", monday)
	require.ErrorContains(t, err, `nobody knows the client "lgo"`)
	require.Equal(t, consent.Allow, again(t, d, "ann").Outcome, "what was approved stays approved")
}

func again(t *testing.T, d *desk.Desk, account string) *desk.Answer {
	answer, err := d.Ask(ctx, asks(account, "mail.read"), "")
	require.NoError(t, err)
	return answer
}

func FuzzReadImport(f *testing.F) {
	f.Add([]byte("client_id,scope,account\nlog,openid,ann\n"))
	f.Add([]byte(`[{"client_id": "a", "redirect_uris": ["https://a.example/cb"], "scope": "openid x"}]`))
	f.Fuzz(func(t *testing.T, text []byte) {
		found, err := desk.ReadImport(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		// What can be read can be taken over and graded.
		d := desk.New(judge(t), new(desk.Memory))
		acts, err := d.Import(ctx, "rae", found, monday)
		require.NoError(t, err)
		require.Len(t, acts, len(found.Clients)+len(found.Grants))
		_, err = d.Register(ctx, monday)
		require.NoError(t, err)
		_, err = d.Strays(ctx, monday)
		require.NoError(t, err)
	})
}
