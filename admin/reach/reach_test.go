package reach_test

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/reach"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/synth"
	"github.com/briskwarden/briskwarden/internal/typed"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// TestReachIsWhatIsDecided: on generated books the three views say of each
// account at each app what the decision on that attempt says.
func TestReachIsWhatIsDecided(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 5)
		e, c := judge.Directory(), reach.Circumstances{Attempt: *synth.Attempt(chance)}
		verdict := func(account, app string) decide.Verdict {
			a := c.Attempt
			a.Account, a.App = account, app
			return judge.Verdict(context.Background(), &a)
		}
		for _, account := range e.Accounts {
			r, err := reach.OfAccount(judge, c, nil, account.Name)
			require.NoError(t, err)
			require.Len(t, r.Apps, len(e.Apps))
			opens := 0
			for _, app := range r.Apps {
				require.Equal(t, verdict(account.Name, app.App), app.Verdict)
				require.Equal(t, app.Verdict == decide.StepUp, len(app.Asks) > 0, "a step-up says what it asks for")
				if app.Verdict != decide.Block {
					opens++
				}
			}
			require.Equal(t, opens, r.Opens())
		}
		for _, app := range e.Apps {
			r, err := reach.OfApp(judge, c, nil, app.Name)
			require.NoError(t, err)
			told := 0
			for _, answer := range r.Answers {
				told += len(answer.Accounts)
				for _, account := range answer.Accounts {
					require.Equal(t, verdict(account, app.Name), answer.Verdict)
				}
			}
			require.Equal(t, len(e.Accounts), told)
		}
		m := reach.OfGroups(judge, c, nil)
		crowd := e.Gather(c.Attempt.At)
		for group, row := range m.Rows {
			members := crowd.Members(group)
			require.Equal(t, len(members), row.Judged, "a small book is judged whole")
			for app, cell := range row.Cells {
				var want reach.Cell
				for _, n := range members {
					if e.Accounts[n].Disabled {
						want.Disabled++
					}
					switch verdict(e.Accounts[n].Name, e.Apps[app].Name) {
					case decide.Grant:
						want.Grant++
					case decide.StepUp:
						want.StepUp++
					default:
						want.Block++
					}
				}
				want.NotOpen = cell.NotOpen
				require.Equal(t, want, cell)
				mildest, all, open := cell.Mildest()
				require.Equal(t, open, cell.NotOpen+cell.Disabled < len(members))
				// No star stands where somebody who is not disabled is treated otherwise, or is
				// not given the app.
				require.True(t, !open || !all || mildest != decide.Grant || cell.Grant == len(members)-cell.Disabled)
				require.True(t, !open || !all || cell.NotOpen == 0)
			}
		}
	})
}

func TestTheDemo(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	c, assumed, err := typed.Attempt{At: "2026-11-23 14:10"}.Circumstances(judge, monday)
	require.NoError(t, err)
	require.Contains(t, assumed, "Everyone comes from pier-office (203.0.113.1).")
	require.NotContains(t, assumed, "The address is not known (--ip says it).")

	ingrid, err := reach.OfAccount(judge, c, assumed, "ingrid@kestrelsound.example")
	require.NoError(t, err)
	require.Equal(t, 5, ingrid.Opens())
	i := slices.IndexFunc(ingrid.Apps, func(a reach.Access) bool { return a.App == "card-till" })
	require.Equal(t, []string{"password proven in this session"}, ingrid.Apps[i].Asks, "from her own registered device")

	till, err := reach.OfApp(judge, c, assumed, "urn:kestrel:till")
	require.NoError(t, err)
	require.Equal(t, "card-till", till.App)
	can, all := till.Opens()
	require.Equal(t, []int{4, len(judge.Directory().Accounts)}, []int{can, all})
	require.Equal(
		t,
		reach.Answer{
			Verdict:  decide.Grant,
			Asks:     []string{},
			Terms:    "certificate-now",
			Why:      "machines / from-the-depot is met: all that it asks for was shown.",
			Accounts: []string{"kiosk-pier-2"},
		},
		till.Answers[0],
		"a service account signs on unattended, its certificate proven",
	)

	m := reach.OfGroups(judge, c, assumed)
	require.Empty(t, m.Uncovered)
	till2 := slices.Index(m.Apps, "card-till")
	offices := slices.IndexFunc(m.Rows, func(r reach.Row) bool { return r.Group == "ticket-office" })
	verdict, everyone, open := m.Rows[offices].Cells[till2].Mildest()
	require.Equal(t, []any{decide.StepUp, false, true}, []any{verdict, everyone, open}, "some have no device that is fit")

	abroad := c
	abroad.Attempt.Country, abroad.Attempt.IP = attempt.Known[attempt.CountryCode]("BR"), attempt.None[netip.Addr]()
	far, err := reach.OfAccount(judge, abroad, nil, "ingrid@kestrelsound.example")
	require.NoError(t, err)
	require.Equal(t, 4, far.Opens(), "the till opens in home waters only")

	_, err = reach.OfAccount(judge, c, nil, "ingird@kestrelsound.example")
	require.ErrorContains(t, err, `no account "ingird@kestrelsound.example"; did you mean ingrid@kestrelsound.example`)
	_, err = reach.OfApp(judge, c, nil, "cardtill")
	require.ErrorContains(t, err, `no app "cardtill"; did you mean card-till?`)
}

func TestAnUncoveredApp(t *testing.T) {
	b, err := book.OpenFS(fstest.MapFS{"x.yaml": {Data: []byte(`briskwarden: 1
accounts: [{name: liv}, {name: key, kind: emergency}]
apps: [{name: mail}, {name: roster}, {name: page}, {name: timetable, public: true}]
policies:
  - {name: p, stage: live, who: anyone, apps: {names: [mail]}, rules: [{name: r, then: block}]}
  - {name: q, stage: shadow, who: anyone, apps: {names: [roster]}, rules: [{name: r, then: block}]}
  - {name: e, stage: live, who: anyone, apps: {names: [page]}, actions: [enrol], rules: [{name: r, then: block}]}
  - {name: k, stage: live, who: {kinds: [emergency]}, apps: every, rules: [{name: r, then: block}]}
`)}})
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	require.Equal(
		t,
		[]string{"roster", "page"},
		reach.OfGroups(judge, reach.Circumstances{Attempt: attempt.Attempt{At: monday}}, nil).Uncovered,
	)
}
