package door_test

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/people"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/store"
)

// shop is a small book: ann sells, root administers, safe is for emergencies.
const shop = `briskwarden: 1
settings: {zone: UTC, otherwise: block}
groups: [{name: staff}, {name: admins}, {name: fixed, members: [root@shop.example]}]
apps: [{name: mail}, {name: admin, open_to: [admins]}]
accounts:
  - {name: ann@shop.example, groups: [staff], methods: [password]}
  - {name: root@shop.example, groups: [admins], methods: [password]}
  - {name: safe, kind: emergency, methods: [security-key]}
assurances:
  own: {prove: [{any_of: [password], within: session, remember: 30d}]}
  key: {prove: [{any_of: [security-key], within: session}]}
policies:
  - {name: risky, stage: live, who: {account_risk_at_least: high}, apps: every, rules: [{name: stop, then: block}]}
  - {name: all, stage: live, who: anyone, apps: every, rules: [{name: in, then: {require: [own]}}]}
  - {name: way-in, stage: live, who: {kinds: [emergency]}, apps: every, rules: [{name: in, then: {require: [key]}}]}
`

// shopHouse is a house by that book, with a second feed, payroll, and two issuers of events that anyone's token may name.
func shopHouse(t *testing.T) (*doortest.House, *doortest.Provider) {
	p := doortest.NewProvider(t)
	return shopOn(t, nil, "door", p), p
}

// shopOn is a house by that book on a store, under a name.
func shopOn(t *testing.T, s store.Store, name string, p *doortest.Provider, more ...func(*door.Config)) *doortest.House {
	h := doortest.New(t, s, func(c *door.Config) {
		c.Journal.Door = name
		for _, change := range more {
			change(c)
		}
		everyone := door.PeopleBounds{Domains: []string{"shop.example"}, Groups: []string{"staff", "admins", "fixed"},
			Facts: []string{"active", "joined", "attributes", "methods", "password", "risk"}}
		c.Callers[0].People = everyone
		c.Callers = append(c.Callers,
			door.Caller{Name: "payroll", Token: door.TokenDigest("bw_payroll"), May: []door.Right{door.MayPeople}, People: everyone},
			door.Caller{Name: "narrow", Token: door.TokenDigest("bw_narrow"), May: []door.Right{door.MayPeople, door.MayEvents},
				People: door.PeopleBounds{Accounts: []string{"ann@shop.example"}, Groups: []string{"staff"}},
				Events: door.EventBounds{Accounts: []string{"ann@shop.example"}}})
		for _, iss := range []string{feed, "https://other.example"} {
			c.Events = append(c.Events, door.Transmitter{Issuer: iss, Audience: []string{"https://door.kestrelsound.example"}, Keys: p.URL})
		}
	})
	h.Read(fstest.MapFS{"shop.yaml": {Data: []byte(shop)}})
	require.True(t, h.Reload().Taken)
	return h
}

func TestFactsHaveSources(t *testing.T) {
	const ann, root = "ann@shop.example", "root@shop.example"
	t.Run("a feed's edit does not undo what an issuer disabled", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("ann", `,"active":true`)))
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-disabled", ann, 0, nil))
		require.Equal(t, 200, h.As(all, "PUT", "/Users/"+doortest.UserID("ann"), doortest.User("ann", `,"active":true,"displayName":"Ann"`)))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""))
		require.Equal(t, 202, h.Tells(p, all, "https://other.example", risc+"account-enabled", ann, 0, nil))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""), "another issuer's word enables nobody")
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-enabled", ann, 1, nil))
		h.Pass(time.Second)
		require.Equal(t, "demands_met", h.Cause(ann, "mail", ""))
	})
	t.Run("who left does not come back by an event, nor by leaving `active` out", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("ann", `,"active":false`)))
		require.Equal(t, 200, h.As(all, "PUT", "/Users/"+doortest.UserID("ann"), doortest.User("ann", "")))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""))
		require.Equal(t, 200, h.As(all, "PATCH", "/Users/"+doortest.UserID("ann"), doortest.Patch(`{"op":"remove","path":"active"}`)))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""))
		require.Equal(t, 204, h.As(all, "DELETE", "/Users/"+doortest.UserID("ann"), ""))
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-enabled", ann, 0, nil))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""))
		require.Equal(t, 201, h.As("bw_payroll", "POST", "/Users", doortest.User("ann", `,"active":true`)))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""), "another feed brings nobody back whom this one deleted")
	})
	t.Run("an older event undoes no newer one", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-disabled", ann, 0, nil))
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-enabled", ann, -60, nil))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""))
		require.Equal(t, 202, h.Tells(p, all, feed, caep+"risk-level-change", root, 0, map[string]any{"current_level": "HIGH"}))
		require.Equal(t, 202, h.Tells(p, all, feed, caep+"risk-level-change", root, -60, map[string]any{"current_level": "LOW"}))
		require.Equal(
			t,
			202,
			h.Tells(p, all, "https://other.example", caep+"risk-level-change", root, 0, map[string]any{"current_level": "LOW"}),
		)
		require.Equal(t, "rule_blocks", h.Cause(root, "mail", ""))
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-enabled", ann, 90, nil), "dated ahead it is not taken")
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""))
	})
	t.Run("what is dated ahead and stricter counts as of its arrival", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-disabled", ann, 90, nil))
		require.Equal(t, "account_disabled", h.Cause(ann, "mail", ""))
		h.Pass(time.Minute)
		require.Equal(t, 202, h.Tells(p, all, feed, risc+"account-enabled", ann, 0, nil))
		require.Equal(t, "demands_met", h.Cause(ann, "mail", ""))
	})
	t.Run("a feed makes no emergency account and nobody an administrator beyond its bounds", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.As("bw_narrow", "POST", "/Users", doortest.User("ann", `,"active":true,"title":"chief","`+people.UserSchema+
			`":{"kind":"emergency","accountRisk":{"level":"low"},"methods":["security-key"]}`)))
		require.Contains(t, h.Logged.String(), `"facts":["attributes","kind emergency","methods","risk"]`)
		known := h.Known(ann)
		require.NotEqual(t, directory.Emergency, known.Kind)
		require.Nil(t, known.AccountRisk)
		require.Empty(t, known.Attributes)
		require.Equal(t, []string{"password"}, known.Methods)
		require.Equal(t, 403, h.As("bw_narrow", "POST", "/Groups", doortest.Group("admins", "ann")))
		require.Equal(t, 403, h.As("bw_narrow", "POST", "/Users", doortest.User("root", "")))
		require.Equal(t, 403, h.As("bw_narrow", "POST", "/Groups", doortest.Group("staff", "root")))
		require.Equal(t, 202, h.Tells(p, "bw_narrow", feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "HIGH"}))
		require.Equal(t, 202, h.Tells(p, "bw_narrow", feed, risc+"account-disabled", root, 0, nil))
		require.Contains(t, h.Logged.String(), `"why":"not_allowed"`)
		require.Equal(t, "demands_met", h.Cause(ann, "mail", ""))
		require.Equal(t, "demands_met", h.Cause(root, "mail", ""))
	})
	t.Run("what a feed takes back is gone, and no more", func(t *testing.T) {
		h, _ := shopHouse(t)
		extension := func(text string) string { return `,"active":true,"` + people.UserSchema + `":` + text }
		require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("ann",
			extension(`{"joined":"2026-11-20","methods":["passkey"],"accountRisk":{"level":"high"}}`))))
		require.Equal(t, []string{"password", "passkey"}, h.Known(ann).Methods)
		require.Equal(t, 201, h.As("bw_payroll", "POST", "/Users", doortest.User("ann", extension(`{"methods":["push"]}`))))
		require.Equal(t, 200,
			h.As(all, "PATCH", "/Users/"+doortest.UserID("ann"), doortest.Patch(`{"op":"remove","path":"`+people.UserSchema+`:methods"}`)))
		require.Equal(t, []string{"password", "push"}, h.Known(ann).Methods)
		require.Equal(t, 200, h.As(all, "PUT", "/Users/"+doortest.UserID("ann"), doortest.User("ann", `,"active":true`)))
		known := h.Known(ann)
		require.Nil(t, known.Joined)
		require.Nil(t, known.AccountRisk)
		require.Equal(t, []string{"password", "push"}, known.Methods)
	})
	t.Run("a group is the book's until a feed states all its members", func(t *testing.T) {
		h, _ := shopHouse(t)
		require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("root", `,"active":true`)))
		files := strings.Replace(shop, "name: root@shop.example, groups: [admins]", "name: root@shop.example, groups: [staff]", 1)
		h.Read(fstest.MapFS{"shop.yaml": {Data: []byte(files)}})
		require.True(t, h.Reload().Taken)
		require.Equal(t, "app_not_open", h.Cause(root, "admin", ""), "what the book said once is not the feed's word")
		h.Read(fstest.MapFS{"shop.yaml": {Data: []byte(shop)}})
		require.True(t, h.Reload().Taken)
		require.Equal(t, "demands_met", h.Cause(root, "admin", ""))
		bare := `{"schemas":["` + doortest.GroupSchema + `"],"displayName":"admins"}`
		add := doortest.Patch(`{"op":"add","path":"members","value":[{"value":"` + doortest.UserID("ann") + `"}]}`)
		require.Equal(t, 201, h.As(all, "POST", "/Groups", bare))
		require.Equal(t, 409, h.As(all, "PATCH", "/Groups/"+doortest.GroupID("admins"), add))
		require.Equal(t, "demands_met", h.Cause(root, "admin", ""))
		require.Equal(t, 200, h.As(all, "PUT", "/Groups/"+doortest.GroupID("admins"), doortest.Group("admins", "ann")))
		require.Equal(t, "demands_met", h.Cause(ann, "admin", ""))
		require.Equal(t, "app_not_open", h.Cause(root, "admin", ""), "not a member, says who manages it")
		require.Equal(t, 409, h.As("bw_payroll", "POST", "/Groups", doortest.Group("admins", "root")), "two feeds manage no group")
		require.Equal(t, 409, h.As(all, "POST", "/Groups", doortest.Group("fixed", "ann")), "nor one whose members the book lists")
		require.Equal(t, 204, h.As(all, "DELETE", "/Groups/"+doortest.GroupID("admins"), ""))
		require.Equal(t, "demands_met", h.Cause(root, "admin", ""), "and it is the book's again")
		require.Equal(t, "app_not_open", h.Cause(ann, "admin", ""))
	})
	t.Run("the record says from what to what, and by whom", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.As(all, "POST", "/Groups", doortest.Group("admins", "ann", "root")))
		require.Equal(t, 204, h.As(all, "PATCH", "/Groups/"+doortest.GroupID("admins"),
			doortest.Patch(`{"op":"remove","path":"members[value eq \"`+doortest.UserID("root")+`\"]"}`)))
		require.Equal(
			t,
			202,
			h.Tells(p, all, feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "HIGH",
				"risk_reason": "odd"}),
		)
		h.Pass(time.Minute)
		require.Equal(
			t,
			202,
			h.Tells(p, all, feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "MEDIUM",
				"risk_reason": "less odd"}),
		)
		var said []string
		for _, e := range h.Entries() {
			c, err := e.Content()
			require.NoError(t, err)
			for _, text := range [][]byte{c.People, c.Event} {
				var changed struct{ Changes json.RawMessage }
				if text != nil {
					require.NoError(t, json.Unmarshal(text, &changed))
					said = append(said, c.Caller+" "+string(changed.Changes))
				}
			}
		}
		require.Equal(t, []string{
			`gateway [{"fact":"group","name":"admins","account":"ann@shop.example","to":true},` +
				`{"fact":"group","name":"admins","account":"root@shop.example","to":true}]`,
			`gateway [{"fact":"group","name":"admins","account":"root@shop.example","from":true,"to":false}]`,
			`gateway [{"fact":"risk","to":"high","to_because":"odd"}]`,
			`gateway [{"fact":"risk","from":"high","from_because":"odd","to":"medium","to_because":"less odd"}]`,
		}, said)
	})
}

func TestAnAccountIsMadeAnew(t *testing.T) {
	h, p := shopHouse(t)
	const ann = "ann@shop.example"
	device := `,"device":{"id":"laptop"},"session":{"id":"s-1"}`
	require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("ann", `,"active":true,"`+people.UserSchema+`":{"methods":["push"]}`)))
	h.Pass(time.Minute)
	remembering := `,"device":{"id":"laptop","remembered":[{"account":"ann@shop.example","method":"password","at":"` +
		h.Clock().Format(time.RFC3339) +
		`"}]},"session":{"id":"s-1"}`
	require.Equal(t, "demands_met", h.Cause(ann, "mail", remembering))
	nothing := func(more string) *doortest.Answer {
		return h.Answer(`{"account":"ann@shop.example","app":"mail"` + more + `}`)
	}
	require.Equal(t, decide.Grant, nothing(device).Verdict, "what was proven in the session counts on")
	require.Equal(t, decide.Grant, nothing(`,"device":{"id":"laptop"}`).Verdict, "and what the device remembers")
	require.Equal(t, 202, h.Tells(p, all, feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "MEDIUM"}))
	h.Pass(time.Minute)
	require.Equal(t, 204, h.As(all, "DELETE", "/Users/"+doortest.UserID("ann"), ""))
	require.False(t, h.SessionBy(store.SessionID("gateway", "s-1", ann)).Ended.IsZero())
	require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("ann", `,"active":true`)))
	h.Pass(time.Minute)

	old := nothing(`,"session":{"id":"s-1"}`)
	require.Equal(t, decide.Block, old.Verdict, "the session is the former's")
	old = nothing(`,"session":{"id":"s-2","started":"` + noon.Format(time.RFC3339) + `","proofs":[{"method":"password","at":"` +
		noon.Format(time.RFC3339) + `"}]}`)
	require.Equal(t, decide.Block, old.Verdict, "one that the door never saw too")
	fresh := nothing(remembering[:strings.Index(remembering, `,"session"`)])
	require.Equal(t, decide.StepUp, fresh.Verdict, "what a device remembers of the former stands for nothing")
	require.Equal(t, "medium", h.Known(ann).AccountRisk.Level.String(), "what others said of risk stands")
	require.Nil(t, h.Known(ann).Methods, "her methods are to be stated again")
	require.Equal(t, "demands_met", h.Cause(ann, "mail", device[:strings.Index(device, `,"session"`)]))
	var judged struct{ Device struct{ Known bool } }
	require.NoError(t, json.Unmarshal(fresh.Facts.Attempt, &judged))
	require.False(t, judged.Device.Known, "she never signed on from it")
}

// TestWhoIsNewSignsOn: who is pushed for the first time may sign on in that very second, by a token that knows seconds alone.
func TestWhoIsNewSignsOn(t *testing.T) {
	h, _ := shopHouse(t)
	h.Pass(700 * time.Millisecond)
	require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("new", `,"active":true`)))
	signedOn := h.Clock().Truncate(time.Second).Format(time.RFC3339)
	a := h.Answer(`{"account":"new@shop.example","app":"mail","session":{"id":"s-1","started":"` + signedOn +
		`","proofs":[{"method":"password","at":"` + signedOn + `"}]}}`)
	require.Equal(t, decide.Grant, a.Verdict, a.Causes)
	require.Equal(t, 204, h.As(all, "DELETE", "/Users/"+doortest.UserID("new"), ""))
	require.Equal(t, 201, h.As(all, "POST", "/Users", doortest.User("new", `,"active":true`)))
	a = h.Answer(`{"account":"new@shop.example","app":"mail","session":{"id":"s-2","started":"` + signedOn +
		`","proofs":[{"method":"password","at":"` + signedOn + `"}]}}`)
	require.Equal(t, decide.Block, a.Verdict, "but not who bore the name before")
}

func TestWhoMayNotSpeak(t *testing.T) {
	t.Run("a caller without bounds", func(t *testing.T) {
		s := new(store.Memory)
		a := &store.Account{Name: "ann@shop.example", Stated: []store.Statement{doortest.Stated(store.Joined, store.Before,
			attempt.TextScalar("2026-01-01"), "")}}
		require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
			return errors.Join(store.Save(tx, a), store.Save(tx, &store.Group{Name: "staff", By: store.Before, IsManaged: true}))
		}))
		_, err := door.New(t.Context(), func(...briskwarden.Option) (*briskwarden.Book, error) { return nil, nil }, s,
			doortest.Configured(func(c *door.Config) { c.Callers[0].People = door.PeopleBounds{} }), door.Options{})
		require.ErrorContains(t, err, "gateway may `people` without bounds")
		require.ErrorContains(t, err, `people: {domains: ["shop.example"], groups: ["staff"], facts: ["active", "joined"]}`)
	})
	t.Run("a door of nothing", func(t *testing.T) {
		load := func(...briskwarden.Option) (*briskwarden.Book, error) { return nil, nil }
		for _, made := range []func() (*door.Door, error){
			func() (*door.Door, error) {
				return door.New(t.Context(), nil, new(store.Memory), new(door.Config), door.Options{})
			},
			func() (*door.Door, error) { return door.New(t.Context(), load, nil, new(door.Config), door.Options{}) },
			func() (*door.Door, error) { return door.New(t.Context(), load, new(store.Memory), nil, door.Options{}) },
		} {
			_, err := made()
			require.ErrorContains(t, err, "a door needs")
		}
		_, err := json.Marshal(new(door.Answer))
		require.ErrorContains(t, err, "no door made this answer")
		require.PanicsWithValue(t, "door: Guard needs a Door of New, and a handler to guard", func() { new(door.Door).Guard(nil) })
		one, digest := door.NewToken()
		other, _ := door.NewToken()
		require.NotEqual(t, one, other)
		require.Equal(t, digest, door.TokenDigest(one))
	})
	t.Run("a loader that leaves the door's options out", func(t *testing.T) {
		_, err := door.New(t.Context(), func(...briskwarden.Option) (*briskwarden.Book, error) {
			return briskwarden.OpenFS(fstest.MapFS{"shop.yaml": {Data: []byte(shop)}})
		}, new(store.Memory), doortest.Configured(nil), door.Options{})
		require.ErrorContains(t, err, "without the options that the door handed it")
	})
}

// staffList supplies ann as a program of its own knows her.
type staffList struct{}

func (staffList) Account(_ context.Context, name string) (directory.Account, error) {
	if name != "ann@shop.example" {
		return directory.Account{}, directory.ErrNotFound
	}
	return directory.Account{Name: name, Groups: []string{"staff", "admins"}, Methods: []string{"password"}}, nil
}

func TestAProgramsAccountsAndTheStoreAreAsked(t *testing.T) {
	for name, order := range map[string]func(theirs, ours []briskwarden.Option) []briskwarden.Option{
		"the program's last":  func(theirs, ours []briskwarden.Option) []briskwarden.Option { return append(ours, theirs...) },
		"the program's first": func(theirs, ours []briskwarden.Option) []briskwarden.Option { return append(theirs, ours...) },
	} {
		t.Run(name, func(t *testing.T) {
			s := new(store.Memory)
			d, err := door.New(t.Context(), func(o ...briskwarden.Option) (*briskwarden.Book, error) {
				return briskwarden.OpenFS(fstest.MapFS{"shop.yaml": {Data: []byte(shop)}},
					order([]briskwarden.Option{briskwarden.WithAccounts(staffList{})}, o)...)
			}, s, doortest.Configured(nil), door.Options{Now: func() time.Time { return noon }})
			require.NoError(t, err)
			defer d.Close()
			decided := func() *door.Answer {
				answer, err := d.Decide(t.Context(), &attempt.Attempt{At: noon, Account: "ann@shop.example", App: "admin",
					Proofs: []attempt.Proof{{Method: "password", At: noon}}}, door.Asked{Caller: "test"})
				require.NoError(t, err)
				return answer
			}
			require.Equal(t, decide.Grant, decided().Verdict, "the program has her among the administrators")
			a := &store.Account{
				Name: "ann@shop.example",
				Stated: []store.Statement{doortest.Stated(store.Disabled, store.IssuerSource(feed),
					attempt.BoolScalar(true), "")},
			}
			require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, a) }))
			d.Forget()
			require.Equal(t, decide.AccountDisabled, decided().Causes[0].Code, "and the store disables her")
		})
	}
}
