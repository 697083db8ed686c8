package door_test

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/internal/storetest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
	"github.com/briskwarden/briskwarden/store/postgres"
	"github.com/briskwarden/briskwarden/store/sqlite"
)

// modelRuns is how many sequences are drawn; CI draws more.
var modelRuns = flag.Int("model", 6, "how many sequences are held to the model")

// modelled is an account as the model has it. Times are minutes, and sources are named by their token or issuer.
type modelled struct {
	stated         bool
	resource, gone map[string]bool
	disabled, risk map[string]said
	// in says of groups what the feed that manages each says.
	in     map[string]said
	made   int
	madeBy string
}

// said is what a source said, and when it was so. Of what it said at one time the larger, which is the stricter, stands.
type said struct {
	at, value int
	by        string
}

func newest(in map[string]said, by string, at, value int) {
	if was, is := in[by]; !is || at > was.at || at == was.at && value > was.value {
		in[by] = said{at, value, by}
	}
}

// model is what a door is to know, by section 9 of the design, without its stores.
type model struct {
	accounts       map[string]*modelled
	manager        map[string]string
	members        map[string][]string
	barred, shut   bool
	reported, fits bool
}

func newModel() *model {
	m := &model{accounts: map[string]*modelled{}, manager: map[string]string{}, members: map[string][]string{}}
	for _, name := range []string{"ann", "root", "new"} {
		m.accounts[name] = &modelled{resource: map[string]bool{}, gone: map[string]bool{}, disabled: map[string]said{}, risk: map[string]said{},
			in: map[string]said{}, made: -1}
	}
	return m
}

// listed has the groups of those that the book lists.
var listed = map[string]string{"ann": "staff", "root": "admins"}

// step is something that happens at a minute. An event may arrive later than that.
type step struct {
	kind, by, name, group string
	members               []string
	minute, value         int
}

// take takes a step in: those of one feed in their order, others in any.
func (m *model) take(s step) {
	a := m.accounts[s.name]
	switch s.kind {
	case "post":
		if a.resource[s.by] {
			return
		}
		if listed[s.name] == "" && !a.stated || a.gone[s.by] {
			if a.made, a.madeBy = s.minute, s.by; listed[s.name] == "" && !a.stated {
				a.made = -1 // nobody bore the name before
			}
			a.gone[s.by] = false
		}
		a.resource[s.by], a.stated = true, true
		newest(a.disabled, s.by, s.minute, s.value)
	case "put":
		if a.resource[s.by] {
			newest(a.disabled, s.by, s.minute, s.value)
		}
	case "delete":
		if !a.resource[s.by] {
			return
		}
		a.resource[s.by], a.gone[s.by] = false, true
		for group, by := range m.manager {
			if by == s.by {
				m.members[group] = slices.DeleteFunc(slices.Clone(m.members[group]), func(n string) bool { return n == s.name })
			}
		}
	case "group":
		for _, name := range s.members {
			if listed[name] == "" && !m.accounts[name].resource[s.by] {
				return // there is no such user
			}
		}
		if by := m.manager[s.group]; by != "" && by != s.by {
			return
		}
		for _, name := range m.members[s.group] {
			m.accounts[name].in[s.group] = said{s.minute, 0, s.by}
		}
		for _, name := range s.members {
			m.accounts[name].in[s.group], m.accounts[name].stated = said{s.minute, 1, s.by}, true
		}
		m.manager[s.group], m.members[s.group] = s.by, s.members
	case "disabled", "enabled":
		a.stated = true
		newest(a.disabled, s.by, s.minute, s.value)
	case "risk":
		a.stated = true
		newest(a.risk, s.by, s.minute, s.value)
	case "report":
		m.reported, m.fits = true, s.value == 1
	case "bar":
		m.barred = s.value == 1
	case "book":
		m.shut = s.value == 1
	}
}

// isIn reports whether an account is in a group, and whether that is sure.
func (m *model) isIn(name, group string) (is, sure bool) {
	a := m.accounts[name]
	by, s := m.manager[group], a.in[group]
	switch {
	case by == "":
		return listed[name] == group, true
	case s.by != by || s.at >= a.made:
		return s.value == 1 && s.by == by, true
	case by == a.madeBy:
		return false, true // it said so of the former
	}
	return false, false
}

// cause is why an account is let in at an app, or not.
func (m *model) cause(name, app string) string {
	a := m.accounts[name]
	if listed[name] == "" && !a.stated {
		return "account_unknown"
	}
	for _, d := range a.disabled {
		if d.value == 1 {
			return "account_disabled"
		}
	}
	for _, gone := range a.gone {
		if gone {
			return "account_disabled"
		}
	}
	if is, sure := m.isIn(name, "admins"); app == "admin" && !(is && sure) {
		return "app_not_open"
	}
	for _, r := range a.risk {
		if r.value == 3 {
			return "rule_blocks"
		}
	}
	if is, sure := m.isIn(name, "staff"); m.shut && app == "mail" && (is || !sure) {
		return map[bool]string{true: "rule_blocks", false: "rule_may_block"}[sure]
	}
	switch {
	case app == "till" && !m.reported:
		return "demand_open"
	case app == "till" && !m.fits:
		return "device_unfit"
	}
	return "demands_met"
}

// more is what the book of the model has beyond that of the shop.
const more = `briskwarden: 1
apps: [{name: till}]
postures: {fit: {checks: [{fact: firewall, is: true}]}}
assurances: {fit-device: {posture: fit}}
policies: [{name: fit, stage: live, who: anyone, apps: {names: [till]}, rules: [{name: r, then: {require: [fit-device]}}]}]
scopes: {mild: {gravity: 1, scopes: [tides]}}
clients: [{name: tide, redirect_uris: ["https://tide.example/a"]}]
consent: {reviewers: {accounts: [safe]}, rules: [{name: r, when: {scopes: [tides]}, then: review}]}
`

const shutting = `briskwarden: 1
policies: [{name: shut, stage: live, who: {groups: [staff]}, apps: {names: [mail]}, rules: [{name: r, then: block}]}]
`

// does does a step at a house, whose clock is at the minute at which it arrives.
func does(h *doortest.House, t *testing.T, p *doortest.Provider, s step, arrives int) {
	h.Set(noon.Add(time.Duration(arrives) * time.Minute))
	account := s.name + "@shop.example"
	active := fmt.Sprintf(`,"active":%t`, s.value == 0)
	switch s.kind {
	case "post":
		h.As(s.by, "POST", "/Users", doortest.User(s.name, active))
	case "put":
		h.As(s.by, "PUT", "/Users/"+doortest.UserID(s.name), doortest.User(s.name, active))
	case "delete":
		h.As(s.by, "DELETE", "/Users/"+doortest.UserID(s.name), "")
	case "group":
		if h.As(s.by, "PUT", "/Groups/"+doortest.GroupID(s.group), doortest.Group(s.group, s.members...)) == http.StatusNotFound {
			h.As(s.by, "POST", "/Groups", doortest.Group(s.group, s.members...))
		}
	case "disabled", "enabled":
		require.Equal(t, 202, h.Tells(p, all, s.by, risc+"account-"+s.kind, account, s.minute-arrives, nil))
	case "risk":
		require.Equal(t, 202, h.Tells(p, all, s.by, caep+"risk-level-change", account, s.minute-arrives,
			map[string]any{"principal": "USER", "current_level": []string{"", "LOW", "MEDIUM", "HIGH"}[s.value]}))
	case "report":
		status, _, _ := h.Ask("PUT", "/v1/devices/till/report", all, fmt.Sprintf(`{"facts":{"firewall":%t}}`, s.value == 1))
		require.Equal(t, http.StatusNoContent, status)
	case "bar":
		judge, err := h.Book().Source().CompileConsent(h.Book().Judge())
		require.NoError(t, err)
		act := acts.New(judge, h.Kept, store.TerminalLog).LiftBar
		if s.value == 1 {
			act = acts.New(judge, h.Kept, store.TerminalLog).Bar
		}
		_, err = act(t.Context(), "safe", "tide", "why", h.Clock())
		require.NoError(t, err)
	case "book":
		files := fstest.MapFS{"shop.yaml": {Data: []byte(shop)}, "more.yaml": {Data: []byte(more)}}
		if s.value == 1 {
			files["shut.yaml"] = &fstest.MapFile{Data: []byte(shutting)}
		}
		h.Read(files)
		require.True(t, h.Reload().Taken)
	}
}

// drawnSteps draws steps, one a minute. Events are about accounts that there are by then.
func drawnSteps(r *rand.Rand, n int) (steps []step) {
	m := newModel()
	for minute := 1; minute <= n; minute++ {
		s := step{name: []string{"ann", "root", "new"}[r.IntN(3)], minute: minute, value: r.IntN(2)}
		feed, issuer := []string{all, "bw_payroll"}[r.IntN(2)], []string{feed, "https://other.example"}[r.IntN(2)]
		switch k := r.IntN(20); {
		case k < 4:
			s.kind, s.by = "post", feed
		case k < 7:
			s.kind, s.by = "put", feed
		case k < 9:
			s.kind, s.by = "delete", feed
		case k < 12:
			s.kind, s.by, s.group = "group", feed, []string{"staff", "admins"}[r.IntN(2)]
			s.members = []string{"ann", "root", s.name}[r.IntN(3):]
			s.members = slices.Compact(slices.Sorted(slices.Values(s.members)))
		case k < 15 && (m.accounts[s.name].stated || listed[s.name] != ""):
			s.kind, s.by = []string{"enabled", "disabled"}[s.value], issuer
		case k < 17 && (m.accounts[s.name].stated || listed[s.name] != ""):
			s.kind, s.by, s.value = "risk", issuer, 1+r.IntN(3)
		case k < 18:
			s.kind = "report"
		case k < 19:
			s.kind, s.value = "bar", map[bool]int{true: 0, false: 1}[m.barred]
		default:
			s.kind = "book"
		}
		m.take(s)
		steps = append(steps, s)
	}
	return steps
}

// restated: a feed says again what it said of who bore the name before.
var restated = []step{
	{kind: "group", by: "bw_payroll", group: "admins", members: []string{"ann", "root"}, name: "ann", minute: 1},
	{kind: "post", by: all, name: "ann", minute: 2},
	{kind: "delete", by: all, name: "ann", minute: 3},
	{kind: "post", by: all, name: "ann", minute: 4},
	{kind: "group", by: "bw_payroll", group: "admins", members: []string{"ann", "root"}, name: "ann", minute: 5},
}

// delivered has steps in the order and at the minute in which they arrive: events up to some minutes late, all else at its minute.
func delivered(r *rand.Rand, steps []step, late int) (order []step, arrives []int) {
	at := map[int]int{}
	for _, s := range steps {
		if at[s.minute] = s.minute; strings.HasSuffix(s.kind, "abled") || s.kind == "risk" {
			at[s.minute] += r.IntN(late + 1)
		}
	}
	order = slices.SortedFunc(slices.Values(steps), func(a, b step) int { return cmp.Or(at[a.minute]-at[b.minute], a.minute-b.minute) })
	for _, s := range order {
		arrives = append(arrives, at[s.minute])
	}
	return order, arrives
}

// TestTheModel: whatever happens, in whichever order that keeps each cause before its effect, at one door or at two on one
// database, comes to the answers that the model gives.
func TestTheModel(t *testing.T) {
	p := doortest.NewProvider(t)
	for seed := range *modelRuns {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(uint64(seed), 9))
			steps, m := drawnSteps(r, 40), newModel()
			if seed == 0 {
				steps = restated
			}
			for _, s := range steps {
				m.take(s)
			}
			file, err := sqlite.Open(filepath.Join(t.TempDir(), "door.db"))
			require.NoError(t, err)
			t.Cleanup(func() { file.Close() })
			address := storetest.Postgres(t)
			var shared []store.Store
			for range 2 {
				s, err := postgres.Open(t.Context(), address)
				require.NoError(t, err)
				t.Cleanup(func() { s.Close() })
				shared = append(shared, s)
			}
			for name, stores := range map[string][]store.Store{"in order": {new(store.Memory)}, "late": {new(store.Memory)},
				"late, on a file": {file}, "late, at two doors": shared} {
				t.Run(name, func(t *testing.T) {
					late := 30
					if name == "in order" {
						late = 0
					}
					var houses []*doortest.House
					for i, s := range stores {
						h := shopOn(t, s, fmt.Sprint("door-", i), p, doortest.Answering)
						does(h, t, p, step{kind: "book"}, 0)
						houses = append(houses, h)
					}
					order, arrives := delivered(r, steps, late)
					for i, s := range order {
						at := []*doortest.House{houses[r.IntN(len(houses))]}
						if s.kind == "book" {
							at = houses
						}
						for _, h := range at {
							h.Forget()
							does(h, t, p, s, arrives[i])
						}
					}
					for _, h := range houses {
						holdTo(h, t, m, steps)
						_, err := journal.Verify(t.Context(), h.Kept, journal.Verification{})
						require.NoError(t, err)
					}
				})
			}
		})
	}
}

// holdTo holds the answers of a house to those of the model.
func holdTo(h *doortest.House, t *testing.T, m *model, steps []step) {
	h.Set(noon.Add(time.Hour * 2))
	h.Forget()
	for name := range m.accounts {
		for _, app := range []string{"mail", "admin", "till"} {
			came := h.Cause(name+"@shop.example", app, `,"device":{"id":"till"}`)
			require.Equal(t, m.cause(name, app), came, "%s at %s after %+v", name, app, steps)
		}
	}
	status, _, text := h.Ask("POST", "/v1/consents", all, map[string]any{"account": "ann@shop.example", "client": "tide",
		"scopes": []string{"tides"}, "redirect_uri": "https://tide.example/a", "rehearse": true})
	require.Equal(t, http.StatusOK, status, string(text))
	var answer struct{ Outcome string }
	require.NoError(t, json.Unmarshal(text, &answer))
	refused := m.barred || m.cause("ann", "mail") == "account_disabled"
	require.Equal(t, map[bool]string{true: "refuse", false: "review"}[refused], answer.Outcome, "%+v", steps)
}
