package describe_test

import (
	"context"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/admin/describe"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/condition"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/demo"
	"github.com/briskwarden/briskwarden/internal/synth"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

// TestWhatIsSaidIsJudged holds the description of an account against decisions,
// on generated books: a rule that speaks is told at that app, a sentence that
// says "blocked" blocks, one that does not leaves the rule's outcome open, and
// what is not open to the account is blocked.
func TestWhatIsSaidIsJudged(t *testing.T) {
	blocked, others := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		_, judge := synth.Open(chance, 6)
		for range 60 {
			a := synth.Complete(chance, synth.Attempt(chance))
			app, known := judge.Directory().FindApp(a.App)
			if _, ok := judge.Directory().FindAccount(a.Account); !ok || !known {
				continue
			}
			doc, err := describe.Account(judge, a.Account, a.At)
			require.NoError(t, err)
			d, name := judge.Decide(context.Background(), a), judge.Directory().Apps[app].Name
			if d.Causes[0].Code == decide.AccountDisabled {
				require.Contains(t, strings.Join(doc.Summary, " "), "blocked at every app")
				continue
			}
			if d.Causes[0].Code == decide.AppNotOpen {
				i := slices.IndexFunc(doc.Sections, func(s describe.Section) bool { return s.Heading == "Not open to it" })
				require.Contains(t, doc.Sections[i].Lines[0], name)
				continue
			}
			for _, p := range d.Policies {
				inForce := p.Stage == decide.Live || p.InForce == attempt.Known(condition.True)
				surely := !slices.ContainsFunc(p.Why, func(why string) bool { return strings.HasPrefix(why, "rule ") })
				if p.Applies != condition.True || !inForce || p.Rule == "" || !surely || p.SilencedBy != "" {
					continue
				}
				i := slices.IndexFunc(doc.Statements, func(s describe.Statement) bool {
					return s.Policy == p.Name && s.Rule == p.Rule && slices.Contains(s.Apps, name)
				})
				require.GreaterOrEqual(t, i, 0, "%s/%s speaks at %s and is not told: %v", p.Name, p.Rule, name, doc.Statements)
				said := doc.Statements[i]
				require.Equal(
					t,
					strings.Contains(said.Sentence, "they are blocked") || strings.Contains(said.Sentence, "They are blocked"),
					said.Blocked,
				)
				if said.Blocked {
					require.Equal(t, decide.Block, d.Verdict)
					blocked++
				} else {
					require.NotEqual(t, decide.OutcomeBlock, p.Outcome)
					others++
				}
			}
		}
	})
	require.Positive(t, blocked)
	require.Positive(t, others)
}

// TestWords puts conditions into words: each with its negation, and the ways in
// which they combine.
func TestWords(t *testing.T) {
	for text, want := range map[string]string{
		"{networks: [pier, 10.0.0.0/8], our_network: false}": "they come from pier or 10.0.0.0/8 and they come " +
			"from no own network",
		"{not: {all: [{during: [day]}, {countries: [home, BR]}]}}": "the time is outside day (05:00-23:00) or they " +
			"are not in home (NO, SE) or BR",
		"{all: [{device: [managed, own]}, {any: [{through: browser}, {actions: enrol}]}]}": "the device is managed or their own and (the " +
			"sign-on is made through browser or the action is enrol)",
		"{any: [{signals: [odd]}, {not: {score_at_least: 30}}]}": "the signal odd is noticed or the score is not at " +
			"least 30",
		"{risk_at_least: high, except: {proved: [once]}}": "the risk of the sign-on is at least high and " +
			"they have not met once in this session",
		"{groups: [crew], not: {enrolled: [push]}}": "they are in crew and they have not enrolled push",
		"{not: {joined_within: 14d}, attributes: {team: [red, blue]}}": "they joined longer ago than 14 days and their " +
			"team is red or blue",
		"{not: {our_network: true}, platforms: [ios], device_tags: [till]}": "they come from no own network and the device " +
			"runs ios and the device is tagged till",
		"{not: {any: [{posture: [fit]}, {tags: [cards]}]}}": "the device does not pass fit and the app is not " +
			"tagged cards",
	} {
		t.Run(text, func(t *testing.T) {
			judge := compile(t, "rules: [{name: r, when: "+text+", then: block}], who: anyone")
			require.Equal(t, want, describe.When(judge.Policies()[0].Rules[0].When), text)
		})
	}
	for text, want := range map[string]string{
		"anyone": "everyone", "{accounts: [liv, per]}": "liv and per", "{kinds: [person, service]}": "persons or service accounts",
		"{groups: [crew], except: {accounts: [liv]}}": "members of crew, except liv",
		"{domains: [x.example], share: 20}": "accounts of the domain x.example where they are among the 20 % of " +
			"accounts that are drawn",
		"{any: [{groups: [crew]}, {accounts: [liv]}]}": "members of crew, or liv",
		"{not: {groups: [crew]}}":                      "those where they are not in crew",
		"{account_risk_at_least: medium, except: {kinds: [service]}}": "those where the standing risk of their account is at least medium, " +
			"except service accounts",
	} {
		t.Run(text, func(t *testing.T) {
			judge := compile(t, "rules: [{name: r, then: block}], who: "+text)
			require.Equal(t, want, describe.People(judge.Policies()[0].Who), text)
		})
	}
}

// compile compiles a book with one policy.
func compile(t *testing.T, policy string) *engine.Judge {
	b, err := book.OpenFS(fstest.MapFS{"x.yaml": {Data: []byte(`briskwarden: 1
networks: {pier: {ranges: [203.0.113.0/24], ours: true}}
windows: {day: {from: "05:00", to: "23:00"}}
regions: {home: [NO, SE]}
postures: {fit: {checks: [{fact: firewall, is: true}]}}
risk: {signals: [{name: odd, points: 40}]}
assurances: {once: {prove: [{any_of: [password]}]}}
groups: [{name: crew}]
accounts: [{name: liv}, {name: per}]
policies: [{name: p, stage: live, apps: every, ` + policy + "}]\n")}})
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	return judge
}

// TestMarkdown compares with a file that was read.
func TestMarkdown(t *testing.T) {
	b, err := demo.Open()
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	doc, err := describe.Account(judge, "tide-gauge", monday)
	require.NoError(t, err)
	want, err := os.ReadFile("testdata/tide-gauge.md")
	require.NoError(t, err)
	require.Equal(t, string(want), doc.Markdown())
	require.NoError(t, doc.AddExtremes(judge, "tide-gauge", monday))
	require.Contains(t, doc.Markdown(), "At crew-roster, mail, account-page and timetable: at the least no-phishing, "+
		"at the most certificate-now; a block in some circumstances.")
	require.NoError(t, doc.AddExtremes(judge, "nobody", monday))

	_, err = describe.Account(judge, "tide-guage", monday)
	require.ErrorContains(t, err, `no account "tide-guage"; did you mean tide-gauge?`)
	_, err = describe.Policy(judge, "card-tull", monday)
	require.ErrorContains(t, err, `no policy "card-tull"; did you mean "card-till"?`)
}
