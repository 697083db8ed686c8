package door_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/store"
)

// blind is a store in which rows of devices cannot be read while it is on.
type blind struct {
	store.Memory
	on atomic.Bool
}

func (b *blind) Get(ctx context.Context, key store.Key) (store.Row, error) {
	if b.on.Load() && key.Kind == store.Devices {
		return store.Row{}, doortest.ErrBroken
	}
	return b.Memory.Get(ctx, key)
}

// TestADeviceThatNobodyCanFindOutAbout: the guard lets nobody pass unrecorded by it, and it ends no session.
func TestADeviceThatNobodyCanFindOutAbout(t *testing.T) {
	p := doortest.NewProvider(t)
	s := new(blind)
	h := doortest.New(t, s, doortest.Guarded(p))
	h.Read(fstest.MapFS{"book.yaml": {Data: []byte(`briskwarden: 1
assurances: {once: {prove: [{any_of: [password]}]}}
accounts: [{name: ann, methods: [password]}]
devices: [{name: lap, managed: true}]
apps: [{name: mail, hosts: [mail.example]}, {name: till}]
policies:
  - {name: all, stage: live, who: anyone, apps: every, rules: [{name: r, then: {require: [once]}}]}
  - {name: till, stage: live, who: anyone, apps: {names: [till]},
     rules: [{name: ours, when: {device: [managed]}, then: {require: [once]}}, {name: others, then: block}]}
settings: {zone: UTC}
`)}})
	r := h.Reload()
	require.True(t, r.Taken, r.Why)
	token := h.Bearer(p, "s-7", map[string]any{"device_id": "lap"})
	opens := func() int {
		status, _ := h.Opens(token, "mail")
		return status
	}
	require.Equal(t, http.StatusOK, opens())
	require.Equal(t, http.StatusOK, opens())
	before := len(h.Entries())
	s.on.Store(true)
	h.Forget()
	require.Equal(t, http.StatusOK, opens(), "mail asks nothing of the device")
	require.Len(t, h.Entries(), before+1, "and what rests on less than it should is recorded each time")

	s.on.Store(false)
	h.Forget()
	answer := h.Answer(`{"account":"ann","app":"till","device":{"id":"lap"},"session":{"id":"s-9"},"proofs":[` + password + `]}`)
	require.Equal(t, decide.Grant, answer.Verdict)
	goesOn := func() bool {
		open := h.SessionBy(store.SessionID(issuer, "s-9", "ann"))
		return open != nil && open.Ended.IsZero() && open.Apps[0].Ended.IsZero()
	}
	require.True(t, goesOn())
	s.on.Store(true)
	h.Forget()
	ended, err := h.Review(t.Context())
	require.ErrorIs(t, err, doortest.ErrBroken, "it is tried again")
	require.Zero(t, ended)
	require.True(t, goesOn())
}

// TestWhatOneHeaderSays: a header of the proxy that comes twice says nothing.
func TestWhatOneHeaderSays(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Guarded(p))
	for name, twice := range map[string]string{"none": "", "host": "X-Forwarded-Host", "path": "X-Forwarded-Uri"} {
		t.Run(name, func(t *testing.T) {
			r := httptest.NewRequest("GET", "/v1/guard", nil)
			r.RemoteAddr = "127.0.0.1:4711"
			r.Header = http.Header{"Authorization": {"Bearer " + p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd"))},
				"X-Forwarded-Host": {"mail.kestrelsound.example"}, "X-Forwarded-Uri": {"/inbox"}, "X-Forwarded-For": {pier}}
			want := http.StatusOK
			if twice != "" {
				r.Header.Add(twice, "/elsewhere.example")
				want = http.StatusBadRequest
			}
			w := httptest.NewRecorder()
			h.Handler().ServeHTTP(w, r)
			require.Equal(t, want, w.Code, w.Body.String())
		})
	}
}

// TestWhatATokenProves: a value of amr that two methods share proves neither, and a program of others is asked about.
func TestWhatATokenProves(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Guarded(p))
	h.Read(fstest.MapFS{"book.yaml": {Data: []byte(`briskwarden: 1
methods:
  grey-token: {kind: possession, amr: [tok]}
  blue-token: {kind: possession, amr: [tok]}
assurances:
  grey: {prove: [{any_of: [grey-token]}]}
  once: {prove: [{any_of: [password]}]}
  let-in: {consent: true}
accounts: [{name: ann, methods: [password, grey-token, blue-token]}]
apps: [{name: vault, hosts: [vault.example]}, {name: mail, hosts: [mail.example]}]
policies:
  - {name: vault, stage: live, who: anyone, apps: {names: [vault]}, rules: [{name: r, then: {require: [grey]}}]}
  - {name: mail, stage: live, who: anyone, apps: {names: [mail]}, rules: [{name: r, then: {require: [once, let-in]}}]}
settings: {zone: UTC}
scopes:
  harmless: {gravity: 1, about: Reads nothing., scopes: [openid]}
clients: [{name: stranger, title: Stranger, publisher: {title: Somebody}, redirect_uris: ["https://stranger.example/answer"]}]
consent:
  rules: [{name: none, then: refuse}]
`)}})
	r := h.Reload()
	require.True(t, r.Taken, r.Why)
	for name, c := range map[string]struct {
		app, client, scope string
		amr                []string
		want               int
	}{
		"a value of two methods":    {"vault", "intranet", "", []string{"tok"}, http.StatusUnauthorized},
		"a program of one's own":    {"mail", "intranet", "", []string{"pwd"}, http.StatusOK},
		"a program of somebody's":   {"mail", "stranger", "", []string{"pwd"}, http.StatusForbidden},
		"and what it was let in to": {"mail", "stranger", "openid", []string{"pwd"}, http.StatusOK},
	} {
		t.Run(name, func(t *testing.T) {
			status, text := h.Opens(h.Bearer(p, name, map[string]any{"amr": c.amr, "client_id": c.client, "scope": c.scope}), c.app)
			require.Equal(t, c.want, status, text)
		})
	}
}

// TestWhatIsKeptOfASignIn: a device is remembered for who signed in, and a method stands in for one that could not be reached and for none
// that was refused.
func TestWhatIsKeptOfASignIn(t *testing.T) {
	h := doortest.New(t, nil, nil)
	h.Answer(fmt.Sprintf(`{"account":"ingrid@kestrelsound.example","app":"mail","ip":"203.0.113.20","proofs":[%s,%s],"device":{"id":"own-1",
		"remembered":[{"account":"oskar@kestrelsound.example","method":"push","at":"2026-11-23T13:00:00Z"},
			{"account":"ingrid@kestrelsound.example","method":"push","at":"2026-11-23T13:00:00Z"}]}}`, password, push))
	d := &store.Device{ID: "own-1"}
	require.NoError(t, store.Load(t.Context(), h.Kept, d))
	require.Len(t, d.Remembered, 1)
	require.Equal(t, "ingrid@kestrelsound.example", d.Remembered[0].Account)
	for reason, fallback := range map[string]bool{"refused": false, "timed_out": true} {
		h.Pass(time.Minute)
		h.Answer(doortest.Ingrid("mail", password+`,{"method":"sms-code"}`, `,"failed":[{"method":"push","reason":"`+reason+
			`"}],"session":{"id":"s-`+reason+`"}`))
		s := h.Session("s-" + reason)
		require.NotNil(t, s)
		for _, proof := range s.Proofs {
			require.Equal(t, fallback, proof.Fallback, "%s after %s", proof.Method, reason)
		}
	}
}

// TestAPastThatNobodyKnows: a store that may not know all says of nobody that there was no sign-in before, or no failure.
func TestAPastThatNobodyKnows(t *testing.T) {
	for history, first := range map[door.History]string{door.Partial: "nobody", door.Complete: "store"} {
		h := doortest.New(t, nil, func(c *door.Config) { c.Store.History = history })
		for _, want := range []string{first, "store"} { // by the second time there was one
			a := h.Answer(doortest.Ingrid("mail", password, ""))
			require.Equal(t, decide.Grant, a.Verdict)
			require.Equal(t, []string{want, want}, []string{a.Facts.From["previous"], a.Facts.From["failures"]}, history)
			said := new(attempt.Attempt)
			require.NoError(t, attempt.Parse(a.Facts.Attempt, said, attempt.Options{}))
			require.Equal(t, want == "nobody", said.Failures.IsUnknown())
			require.Equal(t, want == "nobody", said.Previous.IsUnknown())
		}
	}
}

// TestALimitEndsOnTheDot: what lasts an hour is over after an hour, and not a second before.
func TestALimitEndsOnTheDot(t *testing.T) {
	h := boundedHouse(t, doortest.NewProvider(t), nil, "door", nil)
	for ago, want := range map[time.Duration]decide.Verdict{time.Hour - time.Second: decide.Grant, time.Hour: decide.Block} {
		began := h.Clock().Add(-ago).Format(time.RFC3339)
		a := h.Answer(fmt.Sprintf(`{"account":"ann","app":"spell",
			"session":{"id":"s-%s","started":%q,"proofs":[{"method":"password","at":%[2]q}]}}`, ago, began))
		require.Equal(t, want, a.Verdict, ago)
	}
}

// TestADeviceStandsForNoRevokedMethod: what a device is remembered for counts until the method is revoked.
func TestADeviceStandsForNoRevokedMethod(t *testing.T) {
	p := doortest.NewProvider(t)
	h := doortest.New(t, nil, doortest.Telling(t, p, doortest.NewReceiver(t)))
	on := func(more string) int {
		a := h.Answer(fmt.Sprintf(`{"account":"ingrid@kestrelsound.example","app":"mail","ip":"203.0.113.20","proofs":[%s,%s],
			"device":{"id":"own-1"%s}}`, password, push, more))
		said := new(attempt.Attempt)
		require.NoError(t, attempt.Parse(a.Facts.Attempt, said, attempt.Options{}))
		return len(said.Device.Ref().Remembered)
	}
	on(`,"remembered":[{"account":"ingrid@kestrelsound.example","method":"push","at":"2026-11-23T13:09:00Z"}]`)
	h.Pass(time.Minute)
	require.Equal(t, 1, on(""))
	status, text := h.PushEvent(p.Sign("first", "secevent+jwt", doortest.Event("e-1", caep+"credential-change",
		map[string]any{"format": "email", "email": "ingrid@kestrelsound.example"},
		map[string]any{"credential_type": "app", "change_type": "revoke", "event_timestamp": h.Clock().Unix()})))
	require.Equal(t, http.StatusAccepted, status, text)
	h.Pass(time.Minute)
	require.Zero(t, on(""))
}

// TestNobodyNamesHimself: an app behind the middleware hears of an account from the guard alone, at a public app too.
func TestNobodyNamesHimself(t *testing.T) {
	p := doortest.NewProvider(t)
	folder := doortest.Edited(t, "public: true}", "public: true, hosts: [timetable.kestrelsound.example]}")
	h := doortest.NewAt(t, noon, folder, nil, doortest.Guarded(p))
	for host, token := range map[string]string{"timetable.kestrelsound.example": "",
		"mail.kestrelsound.example": p.Sign("first", "at+jwt", doortest.Claims(noon, "pwd", "mca"))} {
		r := httptest.NewRequest("GET", "https://"+host+"/", nil)
		r.RemoteAddr = pier + ":4711"
		r.Header.Set(door.AccountHeader, "ragna@kestrelsound.example")
		want := ""
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
			want = "ingrid@kestrelsound.example"
		}
		seen := false
		w := httptest.NewRecorder()
		h.Guard(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			seen = true
			require.Equal(t, want, r.Header.Get(door.AccountHeader))
			require.Equal(t, want, door.AccountOf(r.Context()))
		})).ServeHTTP(w, r)
		require.True(t, seen, "%s: %s", host, w.Body)
	}
}

// TestAnOldTokenIsChallengedAgain: where each sign-in begins a session, who shows the token of before a challenge once more, after another
// sign-in met that, is challenged again, and the next sign-in meets it.
func TestAnOldTokenIsChallengedAgain(t *testing.T) {
	p := doortest.NewProvider(t)
	h := boundedHouse(t, p, nil, "door", nil)
	visit := func(token string, want int) {
		t.Helper()
		h.Pass(5 * time.Second)
		status, text := h.Opens(token, "own")
		require.Equal(t, want, status, text)
	}
	first := h.Bearer(p, "s-1", nil)
	visit(first, http.StatusUnauthorized)
	visit(h.Bearer(p, "s-2", nil), http.StatusOK)
	visit(first, http.StatusUnauthorized)
	visit(h.Bearer(p, "s-3", nil), http.StatusOK)
}

// held is a store whose next transaction waits, once it is told so, until it is let go on.
type held struct {
	store.Memory
	hold       atomic.Bool
	began, let chan struct{}
}

func (s *held) Update(ctx context.Context, change func(store.Tx) error) error {
	if s.hold.Swap(false) {
		s.began <- struct{}{}
		<-s.let
	}
	return s.Memory.Update(ctx, change)
}

// TestAnEndBetweenADecisionAndItsRecord: what ended while a decision was on its way to the record is not granted by that.
func TestAnEndBetweenADecisionAndItsRecord(t *testing.T) {
	for what, end := range map[string]func(s *store.Session){
		"the session": func(s *store.Session) { s.End(noon.Add(time.Minute), "she called") },
		"the app":     func(s *store.Session) { s.Apps[0].End(noon.Add(time.Minute), "no longer hers") },
	} {
		t.Run(what, func(t *testing.T) {
			kept := &held{began: make(chan struct{}), let: make(chan struct{})}
			h := doortest.New(t, kept, nil)
			on := doortest.Ingrid("mail", "", `,"session":{"id":"s-1"}`)
			h.Answer(doortest.Ingrid("mail", password, `,"session":{"id":"s-1"}`))
			require.Equal(t, []string{"mail"}, h.OpenApps("s-1"))
			h.Pass(time.Minute)
			kept.hold.Store(true)
			answered := make(chan decide.Verdict)
			go func() { answered <- h.Answer(on).Verdict }()
			<-kept.began
			s := h.Session("s-1")
			end(s)
			require.NoError(t, kept.Memory.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, s) }))
			h.Forget() // as of what another door changed
			kept.let <- struct{}{}
			require.Equal(t, decide.Grant, <-answered, "it was made before")
			require.Empty(t, h.OpenApps("s-1"))
			require.NotEqual(t, decide.Grant, h.Answer(on).Verdict)
		})
	}
}

// TestAnEndIsKept: that a session ended is known for as long as anything that was authenticated in it could be shown again.
func TestAnEndIsKept(t *testing.T) {
	p := doortest.NewProvider(t)
	h := boundedHouse(t, p, nil, "door", nil)
	token := h.Bearer(p, "s-1", nil)
	status, text := h.Opens(token, "mail")
	require.Equal(t, http.StatusOK, status, text)
	id := store.SessionID(issuer, "s-1", "ann")
	_, err := h.EndSession(id, "she called")
	require.NoError(t, err)
	const mayGoOn = 40 * 24 * time.Hour // limits.session_at_most
	require.True(t, h.SessionBy(id).Next.After(h.Clock().Add(mayGoOn)))
	h.Pass(mayGoOn - time.Hour)
	status, _ = h.Opens(token, "mail")
	require.Equal(t, http.StatusUnauthorized, status)
}

// TestWhatIsGrantedAgainGoesOn: a review ends what it looked at, and not what was granted again before it came to that.
func TestWhatIsGrantedAgainGoesOn(t *testing.T) {
	for what, again := range map[string]bool{"as it was": false, "granted again": true} {
		t.Run(what, func(t *testing.T) {
			kept := &held{began: make(chan struct{}), let: make(chan struct{})}
			h := doortest.New(t, kept, nil)
			h.Answer(doortest.Ingrid("card-till", password, `,"session":{"id":"s-1"}`))
			require.Equal(t, []string{"card-till"}, h.OpenApps("s-1"))
			now := h.Clock()
			save := func(v store.Value) {
				require.NoError(t, kept.Memory.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, v) }))
				h.Forget()
			}
			save(&store.Device{ID: "laptop-ingrid", Facts: map[string]attempt.Scalar{"firewall": attempt.BoolScalar(false)}, ReportedAt: &now})
			kept.hold.Store(true)
			ended := make(chan int)
			go func() {
				n, err := h.Review(context.Background())
				if err != nil {
					n = -1
				}
				ended <- n
			}()
			<-kept.began
			if again {
				s := h.Session("s-1")
				s.Apps[0].Decision = "another"
				save(s)
			}
			kept.let <- struct{}{}
			want, open := 1, 0
			if again {
				want, open = 0, 1
			}
			require.Equal(t, want, <-ended)
			require.Len(t, h.OpenApps("s-1"), open)
		})
	}
}

// TestACertificateThatNobodyVerified: counts for nobody, whatever name it bears.
func TestACertificateThatNobodyVerified(t *testing.T) {
	h := doortest.New(t, nil, func(c *door.Config) {
		c.Listen, c.Certificate, c.Key, c.ClientCA = "127.0.0.1:0", "door.crt", "door.key", "ca.crt"
		c.Callers = append(c.Callers, door.Caller{Name: "vpn", Certificate: "vpn.example", May: []door.Right{door.MayLook}})
	})
	shown := []*x509.Certificate{{DNSNames: []string{"vpn.example"}}}
	for want, state := range map[int]*tls.ConnectionState{
		http.StatusUnauthorized: {PeerCertificates: shown},
		http.StatusBadRequest:   {PeerCertificates: shown, VerifiedChains: [][]*x509.Certificate{shown}}, // which lacks ?account=
	} {
		r := httptest.NewRequest("GET", "/v1/sessions", nil)
		r.TLS = state
		w := httptest.NewRecorder()
		h.Handler().ServeHTTP(w, r)
		require.Equal(t, want, w.Code, w.Body)
	}
}

// TestAChangeThatFailsTakesNoDecisionDown: what is written with it is written all the same.
func TestAChangeThatFailsTakesNoDecisionDown(t *testing.T) {
	kept := &held{began: make(chan struct{}), let: make(chan struct{})}
	h := doortest.New(t, kept, nil)
	kept.hold.Store(true)
	var group sync.WaitGroup
	group.Go(func() { h.Answer(doortest.Ingrid("mail", password, "")) })
	<-kept.began
	var failed error
	var answer *doortest.Answer
	group.Go(func() { failed = h.Change(func(*door.Change) error { return doortest.ErrBroken }) })
	group.Go(func() { answer = h.Answer(doortest.Ingrid("mail", password, "")) })
	require.Eventually(t, func() bool { return h.Workload().Waiting == 2 }, 10*time.Second, time.Millisecond)
	kept.let <- struct{}{}
	group.Wait()
	require.ErrorIs(t, failed, doortest.ErrBroken)
	require.Equal(t, decide.Grant, answer.Verdict)
	require.Empty(t, answer.Degraded)
}

// TestWhatIsYetToBeAccepted: an acceptance that is dated ahead is not kept.
func TestWhatIsYetToBeAccepted(t *testing.T) {
	h := doortest.New(t, nil, nil)
	for at, kept := range map[string]int{"2026-11-23T13:20:00Z": 0, "2026-11-23T13:00:00Z": 1} {
		h.Answer(doortest.Ingrid("mail", password, `,"accepted":[{"document":"crew-handbook","version":3,"at":"`+at+`"}]`))
		require.Len(t, h.Account("ingrid@kestrelsound.example").Accepted, kept, at)
		require.NoError(t, h.Kept.Update(t.Context(), func(tx store.Tx) error {
			return store.Drop(tx, &store.Account{Name: "ingrid@kestrelsound.example"})
		}))
		h.Forget()
	}
}

// TestASearchKnowsWhatIsOver: it finds no app whose time is up in the session, as an evaluation grants none.
func TestASearchKnowsWhatIsOver(t *testing.T) {
	h := boundedHouse(t, doortest.NewProvider(t), nil, "door", nil)
	for ago, finds := range map[time.Duration]bool{time.Hour - time.Second: true, time.Hour: false} {
		began := h.Clock().Add(-ago).Format(time.RFC3339)
		status, _, text := h.Ask("POST", "/access/v1/search/resource", all, fmt.Sprintf(`{"subject":{"type":"account","id":"ann"},
			"action":{"name":"sign-in"},"resource":{"type":"app"},
			"context":{"session":{"id":"s-1","started":%q,"proofs":[{"method":"password","at":%[1]q}]}}}`, began))
		require.Equal(t, http.StatusOK, status, string(text))
		require.Equal(t, finds, strings.Contains(string(text), `"spell"`), string(text))
	}
}

// impostor is a program's list of accounts that answers for somebody else than it was asked for.
type impostor struct{}

func (impostor) Account(context.Context, string) (directory.Account, error) {
	return directory.Account{Name: "ragna@kestrelsound.example", Kind: directory.Person, Groups: []string{"shore-it"},
		Methods: []string{"password"}}, nil
}

// TestAnAnswerForSomebodyElse: of an account that a program answers otherwise for nobody knows who it is.
func TestAnAnswerForSomebodyElse(t *testing.T) {
	d, err := door.New(t.Context(), func(o ...briskwarden.Option) (*briskwarden.Book, error) {
		return load(append([]briskwarden.Option{briskwarden.WithAccounts(impostor{})}, o...)...)
	}, new(store.Memory), doortest.Configured(nil), silent)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	a := &attempt.Attempt{At: time.Now(), Account: "nobody@kestrelsound.example", App: "mail", Proofs: []attempt.Proof{{Method: "password"}}}
	answer, err := d.Decide(t.Context(), a, door.Asked{Caller: "gateway"})
	require.NoError(t, err)
	require.Equal(t, decide.AccountUnavailable, answer.Causes[0].Code)
}

// TestAFeedsGroupIsTheFeedsAlone: who the book has in a group is in it no more once a feed manages that, also where the store has no record
// of the account.
func TestAFeedsGroupIsTheFeedsAlone(t *testing.T) {
	h := doortest.New(t, nil, nil)
	const torstein = "torstein@kestrelsound.example"
	listed := h.Book().Source().Accounts
	i := slices.IndexFunc(listed, func(a directory.Account) bool { return a.Name == torstein })
	require.Contains(t, listed[i].Groups, "deck")
	status, _, answer := h.AskSCIM("POST", "/Groups", `{"schemas":["`+doortest.GroupSchema+`"],"displayName":"deck","members":[]}`)
	require.Equal(t, http.StatusCreated, status, answer)
	require.Empty(t, h.Account(torstein).Stated)
	known := h.Known(torstein)
	require.Equal(t, torstein, known.Name)
	require.NotContains(t, known.Groups, "deck")
}

// TestNowIsNow: an attempt is dated as of now, give or take the tolerance.
func TestNowIsNow(t *testing.T) {
	h := doortest.New(t, nil, nil)
	for off, taken := range map[time.Duration]bool{5 * time.Minute: true, -5 * time.Minute: true, 5*time.Minute + time.Second: false,
		-5*time.Minute - time.Second: false} {
		err := h.CheckAttempt(&attempt.Attempt{At: noon.Add(off), Account: "ann", App: "mail"})
		require.Equal(t, taken, err == nil, "%s: %v", off, err)
	}
}
