package acts_test

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/consent"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

var (
	monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)
	ctx    = context.Background()
)

const world = `briskwarden: 1
groups: [{name: crew}, {name: office}]
accounts: [{name: ann, groups: [crew]}, {name: bob, groups: [crew]}, {name: eve, groups: [office]}, {name: rae}, {name: sol},
  {name: gone, disabled: true}]
scopes: {mild: {gravity: 1, scopes: [openid]}, grave: {gravity: 2, scopes: ["mail.*"]}}
clients:
  - {name: log, redirect_uris: ["https://log.example/cb"]}
  - {name: tides, redirect_uris: ["https://tides.example/cb"], publisher: {title: T, vetted: true}}
consent:
  reviewers: {accounts: [rae, sol, gone]}
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
func ask(t *testing.T, d *acts.Desk, account string, scopes ...string) int64 {
	t.Helper()
	a, err := d.Ask(ctx, asks(account, scopes...), "I need it.")
	require.NoError(t, err)
	return a.Request
}

// holds reports what a client was given by each account.
func holds(t *testing.T, d *acts.Desk) map[string]string {
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

// done returns the acts that the journal has, which is as it was recorded.
func done(t *testing.T, d *acts.Desk) []acts.Act {
	r, err := d.Acts(ctx, journal.Verification{})
	require.NoError(t, err)
	return r.Acts
}

func TestTheQueue(t *testing.T) {
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
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
	_, err = d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: first, Scopes: []string{"openid"}, Because: "No mail."})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"log": "1 [openid]"}, holds(t, d))
	// For a group: bob is answered, eve is not in it.
	_, err = d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: second, Group: "crew"})
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
	_, err = d.Approve(ctx, acts.Approval{By: "sol", At: monday, Client: "log", Scopes: []string{"mail.read", "mail.send"}, Everyone: true})
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
	require.Equal(t, acts.Granted, done(t, d)[0].Kind)
}

func TestWhatIsNotDone(t *testing.T) {
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
	request := ask(t, d, "ann", "mail.read")
	own := ask(t, d, "rae", "mail.read")
	approve := func(a acts.Approval) error {
		a.At = monday
		_, err := d.Approve(ctx, a)
		return err
	}
	refuse := func(by string, n int64, because string) error {
		_, err := d.Refuse(ctx, acts.Refusal{By: by, At: monday, Requests: []int64{n}, Because: because})
		return err
	}
	require.ErrorIs(t, approve(acts.Approval{By: "ann", Request: request}), acts.ErrNotReviewer)
	require.ErrorIs(t, refuse("eve", request, "x"), acts.ErrNotReviewer)
	require.ErrorIs(t, approve(acts.Approval{By: "gone", Request: request}), acts.ErrNotReviewer, "who may not sign on does not review")
	require.ErrorIs(t, approve(acts.Approval{By: "rae", Request: own}), acts.ErrOwnRequest)
	require.ErrorIs(t, approve(acts.Approval{By: "sol", Client: "tides", Scopes: []string{"mail.read"}, Account: "sol"}), acts.ErrOwnRequest,
		"she waits for nothing, and approves for herself")
	require.ErrorIs(t, approve(acts.Approval{By: "rae", Request: request, Everyone: true}), acts.ErrOwnRequest, "she waits for the same")
	require.ErrorIs(t, approve(acts.Approval{By: "rae", Client: "log", Scopes: []string{"mail.read"}, Account: "rae"}), acts.ErrOwnRequest)
	require.ErrorIs(t, approve(acts.Approval{By: "rae", Request: 99}), acts.ErrNoRequest)
	require.ErrorIs(t, refuse("rae", 99, "x"), acts.ErrNoRequest)
	require.ErrorContains(
		t,
		approve(acts.Approval{By: "rae", Request: request, Scopes: []string{"mail.send"}}),
		"does not ask for mail.send",
	)
	require.ErrorContains(t, approve(acts.Approval{By: "rae", Request: request, Group: "deck"}), `no group "deck"`)
	require.ErrorContains(
		t,
		approve(acts.Approval{By: "rae", Client: "log", Scopes: []string{"a"}}),
		"is for an account, a group or everyone",
	)
	require.ErrorContains(t, approve(acts.Approval{By: "rae", Client: "log", Everyone: true}), "at least one scope")
	require.ErrorContains(t, refuse("rae", request, " "), "says why")
	_, err := d.Bar(ctx, "rae", "nobody", "x", monday)
	require.ErrorContains(t, err, "nobody knows the client")
	_, err = d.LiftBar(ctx, "rae", "log", "x", monday)
	require.ErrorContains(t, err, "no reviewer barred log")
	require.Len(t, done(t, d), 2, "what was not done is not on record")
	// A week later nobody answers any more.
	_, err = d.Approve(ctx, acts.Approval{By: "sol", At: monday.AddDate(0, 0, 7), Request: request})
	require.ErrorContains(t, err, "expired")
	queue, err := d.Queue(ctx, monday.AddDate(0, 0, 7))
	require.NoError(t, err)
	require.Empty(t, queue)
	// Where the book says so a reviewer approves her own.
	lax := acts.New(judge(t, "lasts: 30d", "lasts: 30d\n  own_requests: true"), new(store.Memory), store.TerminalLog)
	own = ask(t, lax, "rae", "mail.read")
	_, err = lax.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: own})
	require.NoError(t, err)
}

// TestAnApprovalReachesWhatIsTheSame: who waits for something else of the client goes on waiting.
func TestAnApprovalReachesWhatIsTheSame(t *testing.T) {
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
	first := ask(t, d, "ann", "mail.read", "mail.send")
	ask(t, d, "bob", "mail.read", "mail.send")
	other := ask(t, d, "eve", "mail.read", "mail.delete")
	_, err := d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: first, Scopes: []string{"mail.read"}, Everyone: true})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"log": "2 [mail.read]"}, holds(t, d))
	queue, err := d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Len(t, queue, 1)
	require.Equal(t, other, queue[0].Requests[0].Number)
}

// TestTheStricterActStands: whichever of two reviewers' acts comes first, both are
// on record and the stricter stands.
func TestTheStricterActStands(t *testing.T) {
	approve := func(d *acts.Desk, n int64) error {
		_, err := d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: n})
		return err
	}
	refuse := func(d *acts.Desk, n int64) error {
		_, err := d.Refuse(ctx, acts.Refusal{By: "sol", At: monday, Requests: []int64{n}, Because: "No."})
		return err
	}
	bar := func(d *acts.Desk, _ int64) error {
		_, err := d.Bar(ctx, "sol", "log", "Sold.", monday)
		return err
	}
	for name, strict := range map[string]func(*acts.Desk, int64) error{"refuse": refuse, "bar": bar} {
		t.Run(fmt.Sprint(name), func(t *testing.T) {
			for _, first := range []bool{true, false} {
				d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
				n := ask(t, d, "ann", "mail.read")
				if first {
					require.NoError(t, strict(d, n))
					require.ErrorIs(t, approve(d, n), acts.ErrOverruled)
				} else {
					require.NoError(t, approve(d, n))
					require.Equal(t, map[string]string{"log": "1 [mail.read]"}, holds(t, d))
					require.NoError(t, strict(d, n))
				}
				require.Empty(t, holds(t, d), "%s: what came of it is taken back", name)
				answer, err := d.Ask(ctx, asks("ann", "mail.read"), "")
				require.NoError(t, err)
				require.NotEqual(t, consent.Allow, answer.Outcome)
				by := map[string]int{}
				for _, a := range done(t, d) {
					by[a.By]++
				}
				require.Positive(t, by["rae"], "%s: neither act is lost", name)
				require.Positive(t, by["sol"])
			}
		})
	}
	// A lifted bar brings nothing back.
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
	require.NoError(t, approve(d, ask(t, d, "ann", "mail.read")))
	require.NoError(t, bar(d, 0))
	require.ErrorContains(t, bar(d, 0), "sol barred log already")
	_, err := d.LiftBar(ctx, "rae", "log", "Vetted.", monday)
	require.NoError(t, err)
	require.Empty(t, holds(t, d))
	require.NotZero(t, ask(t, d, "ann", "mail.read"))
}

// TestWhatAnAnswerLeaves: a request that had expired is not answered by another's, and a grant stays that came of another.
func TestWhatAnAnswerLeaves(t *testing.T) {
	later := monday.AddDate(0, 0, 6)
	after := later.AddDate(0, 0, 2)
	for name, answer := range map[string]func(d *acts.Desk, request int64) error{
		"a refusal": func(d *acts.Desk, request int64) error {
			_, err := d.Refuse(ctx, acts.Refusal{By: "sol", At: after, Requests: []int64{request}, Because: "No."})
			return err
		},
		"a bar": func(d *acts.Desk, _ int64) error {
			_, err := d.Bar(ctx, "sol", "log", "Sold.", after)
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			d := acts.New(judge(t), new(store.Memory), "door")
			expired := ask(t, d, "ann", "mail.read")
			r := asks("bob", "mail.read")
			r.At = later
			waits, err := d.Ask(ctx, r, "")
			require.NoError(t, err)
			require.NoError(t, answer(d, waits.Request))
			_, err = d.Approve(ctx, acts.Approval{By: "rae", At: after, Request: expired})
			require.ErrorContains(t, err, "expired at")
		})
	}
	d := acts.New(judge(t), new(store.Memory), "door")
	_, err := d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: ask(t, d, "ann", "mail.read")})
	require.NoError(t, err)
	_, err = d.Refuse(ctx, acts.Refusal{By: "sol", At: monday, Requests: []int64{ask(t, d, "ann", "mail.send")}, Because: "No."})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"log": "1 [mail.read]"}, holds(t, d))
	answer, err := d.Ask(ctx, asks("bob", "mail.read"), "")
	require.NoError(t, err)
	require.Equal(t, consent.Review, answer.Outcome, "an approval for ann is none for bob")
}

func TestRegisterAndImport(t *testing.T) {
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
	found, err := acts.ReadImport([]byte("client_id,client_name,scope,account,since,last_used,redirect_uris,client_uri\n" +
		"swap,Swap,,,,,https://swap.example/cb http://x.example/cb,https://swap.example/about\n" +
		"swap,,openid mail.read,ann,2024-01-02T03:04:05Z,2026-11-01T00:00:00Z,,\nswap,,,bob,,,,\nswap,,openid,bob,yesterday,,,\nshort\n"))
	require.NoError(t, err)
	require.Equal(t, []int{4, 5, 6}, []int{found.Skipped[0].Line, found.Skipped[1].Line, found.Skipped[2].Line})
	_, err = d.Import(ctx, "ann", found, monday)
	require.ErrorIs(t, err, acts.ErrNotReviewer)
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

	one, err := acts.ReadImport(
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
		_, err := acts.ReadImport([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

// TestConcurrentReviewers: many reviewers at several doors and terminals on one store at once. No act is lost, none is done
// twice, and a bar at one is a bar at all.
func TestConcurrentReviewers(t *testing.T) {
	for name, opener := range map[string]func(t *testing.T) func() (store.Store, error){
		"SQLite": func(t *testing.T) func() (store.Store, error) {
			path := filepath.Join(t.TempDir(), "consent.db")
			return func() (store.Store, error) { return sqlite.Join(path) }
		},
		"PostgreSQL": func(t *testing.T) func() (store.Store, error) {
			at := storetest.Postgres(t)
			return func() (store.Store, error) { return postgres.Open(ctx, at) }
		},
	} {
		t.Run(name, func(t *testing.T) { concurrentReviewers(t, opener(t)) })
	}
}

func concurrentReviewers(t *testing.T, open func() (store.Store, error)) {
	consents := judge(t)
	const people, desks = 12, 4
	first, err := open()
	require.NoError(t, err)
	defer first.Close()
	d := acts.New(consents, first, "door")
	var numbers []int64
	for i := range people {
		answer, err := d.Ask(ctx, asks([]string{"ann", "bob", "eve"}[i%3], fmt.Sprintf("mail.%d", i)), "")
		require.NoError(t, err)
		numbers = append(numbers, answer.Request)
	}
	var wait sync.WaitGroup
	results := make(chan error, people*desks)
	for i := range desks {
		wait.Go(func() {
			s, err := open()
			if err != nil {
				results <- err
				return
			}
			defer s.Close()
			d := acts.New(consents, s, fmt.Sprint("door-", i))
			for _, n := range numbers {
				if i%2 == 0 {
					_, err = d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: n})
				} else {
					_, err = d.Refuse(ctx, acts.Refusal{By: "sol", At: monday, Requests: []int64{n}, Because: "No."})
				}
				results <- err
			}
		})
	}
	wait.Wait()
	close(results)
	for err := range results {
		if err != nil {
			require.ErrorIs(t, err, acts.ErrOverruled)
		}
	}
	kinds, seen := map[acts.Kind]int{}, map[int64]bool{}
	for _, a := range done(t, d) {
		kinds[a.Kind]++
		require.False(t, seen[a.Number], "no two acts have one number")
		seen[a.Number] = true
	}
	require.Equal(t, people, kinds[acts.Asked])
	require.Equal(t, people*desks/2, kinds[acts.Approved], "each approval is on record, overruled or not")
	require.Equal(t, people*desks/2, kinds[acts.Refused])
	require.Empty(t, holds(t, d), "each request was refused by somebody")

	other, err := open()
	require.NoError(t, err)
	defer other.Close()
	_, err = acts.New(consents, other, "door-9").Bar(ctx, "rae", "log", "Sold.", monday)
	require.NoError(t, err)
	answer, err := d.Ask(ctx, asks("ann", "openid"), "")
	require.NoError(t, err)
	require.Equal(t, consent.ClientBarred, answer.Causes[0].Code, "what is barred at one is barred at all, at once")
}

// TestAnApprovalCoversWhatWasLookedAt: the place where an unlisted program is answered, and
// others than the reviewer.
func TestAnApprovalCoversWhatWasLookedAt(t *testing.T) {
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
	asked := func(account, redirect string) (*acts.Answer, error) {
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
	_, err = d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: first.Request, Everyone: true})
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
	_, err = d.Approve(ctx, acts.Approval{By: "sol", At: monday, Request: own.Request})
	require.NoError(t, err)
	own, err = asked("rae", "https://stranger.example/cb")
	require.NoError(t, err)
	require.Equal(t, consent.Allow, own.Outcome)

	for name, c := range map[string]struct {
		approval acts.Approval
		want     string
	}{
		"nobody knows where": {acts.Approval{Client: "new", Scopes: []string{"mail.read"}, Everyone: true}, "an approval of it says where"},
		"a pattern":          {acts.Approval{Client: "log", Scopes: []string{"mail.*"}, Everyone: true}, "mail.* is a pattern"},
		"no account":         {acts.Approval{Client: "log", Scopes: []string{"mail.read"}, Account: "nobody"}, `there is no account "nobody"`},
		"two at once": {acts.Approval{Client: "log", Scopes: []string{"mail.read"}, Account: "ann", Everyone: true},
			"one of an account"},
		"a request of another": {acts.Approval{Request: first.Request, Client: "log"}, "a request says which client it is of"},
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
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
	for range 10 {
		require.Zero(t, ask(t, d, "ann", "openid"))
	}
	require.Len(t, done(t, d), 1)
	for i := range acts.MaxWaiting {
		require.NotZero(t, ask(t, d, "ann", fmt.Sprint("mail.", i)))
	}
	_, err := d.Ask(ctx, asks("ann", "mail.more"), "")
	require.ErrorIs(t, err, acts.ErrTooMany)
	require.NotZero(t, ask(t, d, "ann", "mail.1"), "what waits already is told")
	require.NotZero(t, ask(t, d, "bob", "mail.1"), "another is not hindered")
	later := asks("ann", "mail.more")
	later.At = monday.AddDate(0, 0, 7)
	_, err = d.Ask(ctx, later, "")
	require.NoError(t, err, "the others expired")

	d = acts.New(judge(t), new(store.Memory), store.TerminalLog)
	for _, account := range []string{"ann", "bob", "eve"} {
		ask(t, d, account, "mail.read")
		ask(t, d, account, "mail.send")
	}
	own := asks("ann", "mail.read")
	own.Client, own.RedirectURI = "tides", "https://tides.example/cb"
	_, err = d.Ask(ctx, own, "")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		refusal acts.Refusal
		want    string
	}{
		"no reason":        {acts.Refusal{By: "sol", Client: "log"}, "says why"},
		"nothing":          {acts.Refusal{By: "sol", Because: "No."}, "names requests, or a client"},
		"both":             {acts.Refusal{By: "sol", Because: "No.", Client: "log", Requests: []int64{1}}, "names requests, or a client"},
		"nothing waits":    {acts.Refusal{By: "sol", Because: "No.", Client: "lgo"}, "lgo waits for nothing"},
		"one is no number": {acts.Refusal{By: "sol", Because: "No.", Requests: []int64{1, 99}}, "there is no such request 99"},
	} {
		t.Run(name, func(t *testing.T) {
			c.refusal.At = monday
			_, err := d.Refuse(ctx, c.refusal)
			require.ErrorContains(t, err, c.want)
		})
	}
	refused, err := d.Refuse(ctx, acts.Refusal{By: "sol", At: monday, Client: "log", Because: "Not before it is vetted."})
	require.NoError(t, err)
	require.Len(t, refused, 2, "one act for each that asks for something else")
	queue, err := d.Queue(ctx, monday)
	require.NoError(t, err)
	require.Equal(t, []string{"tides"}, []string{queue[0].Client})
	require.Len(t, queue, 1)
}

// TestWithdraw: a grant is taken back by the one who let the client in, or by a reviewer.
func TestWithdraw(t *testing.T) {
	d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
	for _, account := range []string{"ann", "bob"} {
		_, err := d.Approve(ctx, acts.Approval{By: "rae", At: monday, Request: ask(t, d, account, "mail.read")})
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
			_, err := d.Withdraw(ctx, acts.Withdrawal{By: c.by, At: monday, Account: c.account, Client: "log", Because: c.because})
			require.ErrorContains(t, err, c.want)
		})
	}
	_, err := d.Withdraw(ctx, acts.Withdrawal{By: "ann", At: monday, Account: "ann", Client: "log"})
	require.NoError(t, err)
	require.Equal(t, []string{"bob"}, accounts())
	_, err = d.Withdraw(ctx, acts.Withdrawal{By: "rae", At: monday, Account: "bob", Client: "log", Because: "He left."})
	require.NoError(t, err)
	require.Empty(t, accounts())
	entries, err := d.Register(ctx, monday)
	require.NoError(t, err)
	i := slices.IndexFunc(entries, func(e acts.Entry) bool { return e.Client == "log" })
	require.Equal(t, []any{0, true}, []any{entries[i].Users, entries[i].Ever}, "it was let in once")
	_, err = d.Holds(ctx, "lgo", monday)
	require.ErrorContains(t, err, `nobody knows the client "lgo"`)
	require.Equal(t, consent.Allow, again(t, d, "ann").Outcome, "what was approved stays approved")
}

func again(t *testing.T, d *acts.Desk, account string) *acts.Answer {
	answer, err := d.Ask(ctx, asks(account, "mail.read"), "")
	require.NoError(t, err)
	return answer
}

func FuzzReadImport(f *testing.F) {
	f.Add([]byte("client_id,scope,account\nlog,openid,ann\n"))
	f.Add([]byte(`[{"client_id": "a", "redirect_uris": ["https://a.example/cb"], "scope": "openid x"}]`))
	f.Fuzz(func(t *testing.T, text []byte) {
		found, err := acts.ReadImport(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		// What can be read can be taken over and graded.
		d := acts.New(judge(t), new(store.Memory), store.TerminalLog)
		taken, err := d.Import(ctx, "rae", found, monday)
		require.NoError(t, err)
		require.Len(t, taken, len(found.Clients)+len(found.Grants))
		_, err = d.Register(ctx, monday)
		require.NoError(t, err)
		_, err = d.Strays(ctx, monday)
		require.NoError(t, err)
	})
}
