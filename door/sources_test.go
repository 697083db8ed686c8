package door_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
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
	"github.com/briskwarden/briskwarden/journal"
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
func shopHouse(t *testing.T) (*house, *provider) {
	p := newProvider(t)
	return shopOn(t, nil, "door", p), p
}

// shopOn is a house by that book on a store, under a name.
func shopOn(t *testing.T, s store.Store, name string, p *provider, more ...func(*door.Config)) *house {
	h := newHouse(t, s, func(c *door.Config) {
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
	h.read(fstest.MapFS{"shop.yaml": {Data: []byte(shop)}})
	require.True(t, h.Reload().Taken)
	return h
}

// as sends SCIM as a caller and returns the status.
func (h *house) as(token, method, path, body string) int {
	status, _, answer := h.scimAsk(method, path, body, "Authorization", "Bearer "+token)
	h.t.(*testing.T).Logf("%s %s: %d %v", method, path, status, answer["detail"])
	return status
}

// tells hands in an event by an issuer about an account, dated so many minutes from now, and returns the status.
func (h *house) tells(p *provider, token, iss, kind, account string, minutes int, says map[string]any) int {
	h.mu.Lock()
	now := h.now
	h.mu.Unlock()
	claims := event(fmt.Sprint(journal.NewID()), kind, map[string]any{"format": "email", "email": account}, map[string]any{})
	claims["iss"], claims["iat"] = iss, now.Unix()
	about := map[string]any{"event_timestamp": now.Add(time.Duration(minutes) * time.Minute).Unix()}
	for name, value := range says {
		about[name] = value
	}
	claims["events"] = map[string]any{kind: about}
	status, _ := h.pushAs(token, p.sign("first", "secevent+jwt", claims))
	return status
}

func user(name, more string) string {
	return `{"schemas":["` + userSchema + `","` + door.PeopleSchema + `"],"userName":"` + name + `@shop.example"` + more + `}`
}

func scimID(name string) string {
	return base64.RawURLEncoding.EncodeToString([]byte(name + "@shop.example"))
}

func group(name string, members ...string) string {
	var list []string
	for _, m := range members {
		list = append(list, `{"value":"`+scimID(m)+`"}`)
	}
	return `{"schemas":["` + groupSchema + `"],"displayName":"` + name + `","members":[` + strings.Join(list, ",") + `]}`
}

func groupID(name string) string { return base64.RawURLEncoding.EncodeToString([]byte(name)) }

// cause is why somebody is let in at an app, or not, with a password.
func (h *house) cause(account, app, more string) string {
	a := h.decide(`{"account":"` + account + `","app":"` + app + `","proofs":[` + password + `]` + more + `}`)
	return string(a.Causes[0].Code)
}

func TestFactsHaveSources(t *testing.T) {
	const ann, root = "ann@shop.example", "root@shop.example"
	t.Run("a feed's edit does not undo what an issuer disabled", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.as(all, "POST", "/Users", user("ann", `,"active":true`)))
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-disabled", ann, 0, nil))
		require.Equal(t, 200, h.as(all, "PUT", "/Users/"+scimID("ann"), user("ann", `,"active":true,"displayName":"Ann"`)))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""))
		require.Equal(t, 202, h.tells(p, all, "https://other.example", risc+"account-enabled", ann, 0, nil))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""), "another issuer's word enables nobody")
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-enabled", ann, 1, nil))
		h.pass(time.Second)
		require.Equal(t, "demands_met", h.cause(ann, "mail", ""))
	})
	t.Run("who left does not come back by an event, nor by leaving `active` out", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.as(all, "POST", "/Users", user("ann", `,"active":false`)))
		require.Equal(t, 200, h.as(all, "PUT", "/Users/"+scimID("ann"), user("ann", "")))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""))
		require.Equal(t, 200, h.as(all, "PATCH", "/Users/"+scimID("ann"), patch(`{"op":"remove","path":"active"}`)))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""))
		require.Equal(t, 204, h.as(all, "DELETE", "/Users/"+scimID("ann"), ""))
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-enabled", ann, 0, nil))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""))
		require.Equal(t, 201, h.as("bw_payroll", "POST", "/Users", user("ann", `,"active":true`)))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""), "another feed makes nobody anew whom this one deleted")
	})
	t.Run("an older event undoes no newer one", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-disabled", ann, 0, nil))
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-enabled", ann, -60, nil))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""))
		require.Equal(t, 202, h.tells(p, all, feed, caep+"risk-level-change", root, 0, map[string]any{"current_level": "HIGH"}))
		require.Equal(t, 202, h.tells(p, all, feed, caep+"risk-level-change", root, -60, map[string]any{"current_level": "LOW"}))
		require.Equal(t, 202, h.tells(p, all, "https://other.example", caep+"risk-level-change", root, 0, map[string]any{"current_level": "LOW"}))
		require.Equal(t, "rule_blocks", h.cause(root, "mail", ""))
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-enabled", ann, 90, nil), "dated ahead it is not taken")
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""))
	})
	t.Run("what is dated ahead and stricter counts as of its arrival", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-disabled", ann, 90, nil))
		require.Equal(t, "account_disabled", h.cause(ann, "mail", ""))
		h.pass(time.Minute)
		require.Equal(t, 202, h.tells(p, all, feed, risc+"account-enabled", ann, 0, nil))
		require.Equal(t, "demands_met", h.cause(ann, "mail", ""))
	})
	t.Run("a feed makes no emergency account and nobody an administrator beyond its bounds", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.as("bw_narrow", "POST", "/Users", user("ann", `,"active":true,"title":"chief","`+door.PeopleSchema+
			`":{"kind":"emergency","accountRisk":{"level":"low"},"methods":["security-key"]}`)))
		require.Contains(t, h.log.String(), `"facts":["attributes","kind emergency","methods","risk"]`)
		known := h.known(ann)
		require.NotEqual(t, directory.Emergency, known.Kind)
		require.Nil(t, known.AccountRisk)
		require.Empty(t, known.Attributes)
		require.Equal(t, []string{"password"}, known.Methods)
		require.Equal(t, 403, h.as("bw_narrow", "POST", "/Groups", group("admins", "ann")))
		require.Equal(t, 403, h.as("bw_narrow", "POST", "/Users", user("root", "")))
		require.Equal(t, 403, h.as("bw_narrow", "POST", "/Groups", group("staff", "root")))
		require.Equal(t, 202, h.tells(p, "bw_narrow", feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "HIGH"}))
		require.Equal(t, 202, h.tells(p, "bw_narrow", feed, risc+"account-disabled", root, 0, nil))
		require.Contains(t, h.log.String(), `"why":"not_allowed"`)
		require.Equal(t, "demands_met", h.cause(ann, "mail", ""))
		require.Equal(t, "demands_met", h.cause(root, "mail", ""))
	})
	t.Run("what a feed takes back is gone, and no more", func(t *testing.T) {
		h, _ := shopHouse(t)
		extension := func(text string) string { return `,"active":true,"` + door.PeopleSchema + `":` + text }
		require.Equal(t, 201, h.as(all, "POST", "/Users", user("ann",
			extension(`{"joined":"2026-11-20","methods":["passkey"],"accountRisk":{"level":"high"}}`))))
		require.Equal(t, []string{"password", "passkey"}, h.known(ann).Methods)
		require.Equal(t, 201, h.as("bw_payroll", "POST", "/Users", user("ann", extension(`{"methods":["push"]}`))))
		require.Equal(t, 200, h.as(all, "PATCH", "/Users/"+scimID("ann"), patch(`{"op":"remove","path":"`+door.PeopleSchema+`:methods"}`)))
		require.Equal(t, []string{"password", "push"}, h.known(ann).Methods)
		require.Equal(t, 200, h.as(all, "PUT", "/Users/"+scimID("ann"), user("ann", `,"active":true`)))
		known := h.known(ann)
		require.Nil(t, known.Joined)
		require.Nil(t, known.AccountRisk)
		require.Equal(t, []string{"password", "push"}, known.Methods)
	})
	t.Run("a group is the book's until a feed states all its members", func(t *testing.T) {
		h, _ := shopHouse(t)
		require.Equal(t, 201, h.as(all, "POST", "/Users", user("root", `,"active":true`)))
		files := strings.Replace(shop, "name: root@shop.example, groups: [admins]", "name: root@shop.example, groups: [staff]", 1)
		h.read(fstest.MapFS{"shop.yaml": {Data: []byte(files)}})
		require.True(t, h.Reload().Taken)
		require.Equal(t, "app_not_open", h.cause(root, "admin", ""), "what the book said once is not the feed's word")
		h.read(fstest.MapFS{"shop.yaml": {Data: []byte(shop)}})
		require.True(t, h.Reload().Taken)
		require.Equal(t, "demands_met", h.cause(root, "admin", ""))
		bare := `{"schemas":["` + groupSchema + `"],"displayName":"admins"}`
		add := patch(`{"op":"add","path":"members","value":[{"value":"` + scimID("ann") + `"}]}`)
		require.Equal(t, 201, h.as(all, "POST", "/Groups", bare))
		require.Equal(t, 409, h.as(all, "PATCH", "/Groups/"+groupID("admins"), add))
		require.Equal(t, "demands_met", h.cause(root, "admin", ""))
		require.Equal(t, 200, h.as(all, "PUT", "/Groups/"+groupID("admins"), group("admins", "ann")))
		require.Equal(t, "demands_met", h.cause(ann, "admin", ""))
		require.Equal(t, "app_not_open", h.cause(root, "admin", ""), "not a member, says who manages it")
		require.Equal(t, 409, h.as("bw_payroll", "POST", "/Groups", group("admins", "root")), "two feeds manage no group")
		require.Equal(t, 409, h.as(all, "POST", "/Groups", group("fixed", "ann")), "nor one whose members the book lists")
		require.Equal(t, 204, h.as(all, "DELETE", "/Groups/"+groupID("admins"), ""))
		require.Equal(t, "demands_met", h.cause(root, "admin", ""), "and it is the book's again")
		require.Equal(t, "app_not_open", h.cause(ann, "admin", ""))
	})
	t.Run("the record says from what to what, and by whom", func(t *testing.T) {
		h, p := shopHouse(t)
		require.Equal(t, 201, h.as(all, "POST", "/Groups", group("admins", "ann", "root")))
		require.Equal(t, 204, h.as(all, "PATCH", "/Groups/"+groupID("admins"),
			patch(`{"op":"remove","path":"members[value eq \"`+scimID("root")+`\"]"}`)))
		require.Equal(t, 202, h.tells(p, all, feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "HIGH",
			"risk_reason": "odd"}))
		h.pass(time.Minute)
		require.Equal(t, 202, h.tells(p, all, feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "MEDIUM",
			"risk_reason": "less odd"}))
		var said []string
		for _, e := range h.entries() {
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
	require.Equal(t, 201, h.as(all, "POST", "/Users", user("ann", `,"active":true,"`+door.PeopleSchema+`":{"methods":["push"]}`)))
	h.pass(time.Minute)
	remembering := `,"device":{"id":"laptop","remembered":[{"account":"ann@shop.example","method":"password","at":"` +
		h.clock().Format(time.RFC3339) +
		`"}]},"session":{"id":"s-1"}`
	require.Equal(t, "demands_met", h.cause(ann, "mail", remembering))
	nothing := func(more string) *answer {
		return h.decide(`{"account":"ann@shop.example","app":"mail"` + more + `}`)
	}
	require.Equal(t, decide.Grant, nothing(device).Verdict, "what was proven in the session counts on")
	require.Equal(t, decide.Grant, nothing(`,"device":{"id":"laptop"}`).Verdict, "and what the device remembers")
	require.Equal(t, 202, h.tells(p, all, feed, caep+"risk-level-change", ann, 0, map[string]any{"current_level": "MEDIUM"}))
	h.pass(time.Minute)
	require.Equal(t, 204, h.as(all, "DELETE", "/Users/"+scimID("ann"), ""))
	require.False(t, h.sessionBy(store.SessionID("gateway", "s-1", ann)).Ended.IsZero())
	require.Equal(t, 201, h.as(all, "POST", "/Users", user("ann", `,"active":true`)))
	h.pass(time.Minute)

	old := nothing(`,"session":{"id":"s-1"}`)
	require.Equal(t, decide.Block, old.Verdict, "the session is the former's")
	old = nothing(`,"session":{"id":"s-2","started":"` + noon.Format(time.RFC3339) + `","proofs":[{"method":"password","at":"` +
		noon.Format(time.RFC3339) + `"}]}`)
	require.Equal(t, decide.Block, old.Verdict, "one that the door never saw too")
	fresh := nothing(remembering[:strings.Index(remembering, `,"session"`)])
	require.Equal(t, decide.StepUp, fresh.Verdict, "what a device remembers of the former stands for nothing")
	require.Equal(t, "medium", h.known(ann).AccountRisk.Level.String(), "what others said of risk stands")
	require.Nil(t, h.known(ann).Methods, "her methods are to be stated anew")
	require.Equal(t, "demands_met", h.cause(ann, "mail", device[:strings.Index(device, `,"session"`)]))
	var judged struct{ Device struct{ Known bool } }
	require.NoError(t, json.Unmarshal(fresh.Facts.Attempt, &judged))
	require.False(t, judged.Device.Known, "she never signed on from it")
}

// TestWhoIsNewSignsOn: who is pushed for the first time may sign on in that very second, by a token that knows seconds alone.
func TestWhoIsNewSignsOn(t *testing.T) {
	h, _ := shopHouse(t)
	h.pass(700 * time.Millisecond)
	require.Equal(t, 201, h.as(all, "POST", "/Users", user("new", `,"active":true`)))
	signedOn := h.clock().Truncate(time.Second).Format(time.RFC3339)
	a := h.decide(`{"account":"new@shop.example","app":"mail","session":{"id":"s-1","started":"` + signedOn +
		`","proofs":[{"method":"password","at":"` + signedOn + `"}]}}`)
	require.Equal(t, decide.Grant, a.Verdict, a.Causes)
	require.Equal(t, 204, h.as(all, "DELETE", "/Users/"+scimID("new"), ""))
	require.Equal(t, 201, h.as(all, "POST", "/Users", user("new", `,"active":true`)))
	a = h.decide(`{"account":"new@shop.example","app":"mail","session":{"id":"s-2","started":"` + signedOn +
		`","proofs":[{"method":"password","at":"` + signedOn + `"}]}}`)
	require.Equal(t, decide.Block, a.Verdict, "but not who bore the name before")
}

func TestWhoMayNotSpeak(t *testing.T) {
	t.Run("a caller without bounds", func(t *testing.T) {
		s := new(store.Memory)
		a := &store.Account{Name: "ann@shop.example", Stated: []store.Statement{stated(store.Joined, store.Before,
			attempt.TextScalar("2026-01-01"), "")}}
		require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error {
			return errors.Join(store.Save(tx, a), store.Save(tx, &store.Group{Name: "staff", By: store.Before, IsManaged: true}))
		}))
		_, err := door.New(t.Context(), func(...briskwarden.Option) (*briskwarden.Book, error) { return nil, nil }, s,
			configured(func(c *door.Config) { c.Callers[0].People = door.PeopleBounds{} }), door.Options{})
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
		}, new(store.Memory), configured(nil), door.Options{})
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
			}, s, configured(nil), door.Options{Now: func() time.Time { return noon }})
			require.NoError(t, err)
			defer d.Close()
			decided := func() *door.Answer {
				answer, err := d.Decide(t.Context(), &attempt.Attempt{At: noon, Account: "ann@shop.example", App: "admin",
					Proofs: []attempt.Proof{{Method: "password", At: noon}}}, door.Asked{Caller: "test"})
				require.NoError(t, err)
				return answer
			}
			require.Equal(t, decide.Grant, decided().Verdict, "the program has her among the administrators")
			a := &store.Account{Name: "ann@shop.example", Stated: []store.Statement{stated(store.Disabled, store.IssuerSource(feed),
				attempt.BoolScalar(true), "")}}
			require.NoError(t, s.Update(t.Context(), func(tx store.Tx) error { return store.Save(tx, a) }))
			d.Forget()
			require.Equal(t, decide.AccountDisabled, decided().Causes[0].Code, "and the store disables her")
		})
	}
}
