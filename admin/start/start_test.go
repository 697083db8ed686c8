package start_test

import (
	"context"
	"fmt"
	"io/fs"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/start"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/directory"
)

var monday = time.Date(2026, time.November, 23, 13, 10, 0, 0, time.UTC)

const scim = `{"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "Resources": [
 {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "1", "userName": "old: hand", "active": false},
 {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "2", "userName": "liv#1", "groups": [{"display": "pilot"}]},
 {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "3", "userName": "per"}]}`

// TestANewBookIsInOrder: whatever it begins with, a new book can be read, passes
// inspect, lets everyone in as until now and asks more of the pilot group.
func TestANewBookIsInOrder(t *testing.T) {
	for name, c := range map[string]struct {
		request                start.Request
		administrator, another string
		skipped                int
	}{
		"alone": {start.Request{Zone: "Europe/Oslo"}, "you@example.org", "", 0},
		"csv": {start.Request{People: []byte("name,methods\nliv,\"password,push\"\nper,password\n"), PeopleFile: "people.csv"}, "liv",
			"per", 0},
		"scim":          {start.Request{People: []byte(scim), PeopleFile: "people: all.json"}, "liv#1", "per", 1},
		"administrator": {start.Request{People: []byte("name\nliv\nper\n"), PeopleFile: "p.csv", Administrator: "per"}, "per", "liv", 0},
	} {
		t.Run(name, func(t *testing.T) {
			c.request.Today = monday
			layout, err := start.New(c.request)
			require.NoError(t, err, name)
			require.Equal(t, c.administrator, layout.Administrator, name)
			require.Len(t, layout.Skipped, c.skipped, name)
			b, err := book.OpenFS(layout.Files)
			require.NoError(t, err, name)
			report, err := inspect.Inspect(t.Context(), b, monday)
			require.NoError(t, err)
			var found []string
			for _, f := range report.Findings {
				if f.Check != inspect.PlaceholderCheck { // what it lays out to be replaced
					found = append(found, f.Name)
				}
			}
			require.GreaterOrEqual(t, len(report.Findings)-len(found), 2)
			if c.skipped == 0 {
				require.Empty(t, found, name)
			} else {
				require.Equal(t, []string{"skipped-in-import:people"}, found)
			}
			judge, err := b.Compile()
			require.NoError(t, err)
			tries := func(account string, at time.Time, methods ...string) decide.Verdict {
				a := &attempt.Attempt{Account: account, App: "mail", At: at, Through: attempt.Known(attempt.Browser)}
				for _, m := range methods {
					a.Proofs = append(a.Proofs, attempt.Proof{Method: m, At: at})
				}
				return judge.Verdict(context.Background(), a)
			}
			later := monday.AddDate(0, 0, 70)
			require.Equal(t, decide.Grant, tries("emergency-key", monday, "security-key"), name)
			require.Equal(t, decide.StepUp, tries("emergency-key", monday, "password"), name)
			require.Equal(
				t,
				decide.StepUp,
				tries(c.administrator, later, "password"),
				"%s: the pilot group is asked for more once the rollout is enforced",
				name,
			)
			if c.another != "" {
				require.Equal(t, decide.Grant, tries(c.another, later, "password"), "%s: everyone else signs on as until now", name)
			}
			names, err := fs.Glob(layout.Files, "*.yaml")
			require.NoError(t, err)
			require.Len(t, names, 5)
		})
	}
}

// TestANewBookIsSafe: service accounts go on, the file's own emergency account is used, and
// once the rollout is enforced a password alone enrols nothing from afar.
func TestANewBookIsSafe(t *testing.T) {
	layout, err := start.New(start.Request{PeopleFile: "people.csv", Today: monday, Zone: "Europe/Oslo", People: []byte(
		"name,methods,kind\nliv,password;push,\nper,password,\ngauge,certificate,service\nfeed,password,service\nsafe,security-key,emergency\n",
	)})
	require.NoError(t, err)
	b, err := book.OpenFS(layout.Files)
	require.NoError(t, err)
	judge, err := b.Compile()
	require.NoError(t, err)
	emergencies := 0
	for _, a := range b.Accounts {
		if a.Kind == directory.Emergency {
			emergencies++
		}
	}
	require.Equal(t, 1, emergencies)
	office, home := netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("198.51.100.9")
	later := monday.AddDate(0, 0, 90)
	for _, at := range []time.Time{monday, later} {
		for name, c := range map[string]struct {
			account, method string
			through         attempt.Through
			from            netip.Addr
			action          attempt.Action
			want            decide.Verdict
		}{
			"a machine with a certificate":        {"gauge", "certificate", attempt.Unattended, home, attempt.SignIn, decide.Grant},
			"a machine with a password":           {"feed", "password", attempt.Unattended, home, attempt.SignIn, decide.Grant},
			"the key from the safe":               {"safe", "security-key", attempt.Browser, home, attempt.SignIn, decide.Grant},
			"a person":                            {"per", "password", attempt.Browser, home, attempt.SignIn, decide.Grant},
			"the first factor, at home":           {"per", "password", attempt.Browser, home, attempt.Enrol, decide.Block},
			"the first factor, at the office":     {"per", "password", attempt.Browser, office, attempt.Enrol, decide.Grant},
			"another factor, with a password":     {"liv", "password", attempt.Browser, home, attempt.Enrol, decide.StepUp},
			"the pilot's factor, with a password": {"liv", "password", attempt.Browser, home, attempt.SignIn, decide.StepUp},
		} {
			t.Run(fmt.Sprint(name, " ", at.Format(time.DateOnly)), func(t *testing.T) {
				a := &attempt.Attempt{Account: c.account, App: "mail", At: at, Action: c.action, IP: attempt.Known(c.from),
					Through: attempt.Known(c.through), Proofs: []attempt.Proof{{Method: c.method, At: at}}}
				require.Equal(t, c.want, judge.Verdict(context.Background(), a))
			})
		}
		report, err := inspect.Inspect(t.Context(), b, at)
		require.NoError(t, err)
		for _, f := range report.Findings {
			require.Contains(t, []string{inspect.PlaceholderCheck, "stale-import", "imported-emergency-account"}, f.Check, "%s", f.Text)
		}
	}
}

// TestTheExamplesCanBeUsed: with the marks taken off its lines, the file of examples is a
// part of the book.
func TestTheExamplesCanBeUsed(t *testing.T) {
	for _, request := range []start.Request{{Today: monday}, {Today: monday, People: []byte("name\nliv\n"), PeopleFile: "p.csv"}} {
		layout, err := start.New(request)
		require.NoError(t, err)
		used := fstest.MapFS{}
		names, err := fs.Glob(layout.Files, "*")
		require.NoError(t, err)
		for _, name := range names {
			text, err := fs.ReadFile(layout.Files, name)
			require.NoError(t, err)
			if name == "examples.yaml" {
				head, examples, _ := strings.Cut(string(text), "briskwarden: 1\n")
				require.Contains(t, head, "To use one")
				text = []byte("briskwarden: 1\n" + strings.ReplaceAll(examples, "\n# ", "\n"))
			}
			used[name] = &fstest.MapFile{Data: text}
		}
		b, err := book.OpenFS(used)
		require.NoError(t, err)
		_, err = b.Compile()
		require.NoError(t, err)
		require.NotEmpty(t, b.Drills)
		require.NotEmpty(t, b.Consent.Rules)
	}
}

func TestWhatCannotBeStarted(t *testing.T) {
	for want, request := range map[string]start.Request{
		`"Europe/Olso" is no IANA time zone`:                {Zone: "Europe/Olso"},
		"the file is empty":                                 {People: []byte(""), PeopleFile: "p.csv"},
		`the file has no person "lvi"; did you mean "liv"?`: {People: []byte("name\nliv\n"), PeopleFile: "p.csv", Administrator: "lvi"},
		"nobody to look after the systems":                  {People: []byte("name,kind\ngauge,service\n"), PeopleFile: "p.csv"},
		"does not end in .yaml":                             {People: []byte("name\nliv\n"), PeopleFile: "people.yaml"},
		"a name that does not end in .yaml or .yml":         {People: []byte("name\nliv\n"), PeopleFile: "people.YML"},
	} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			_, err := start.New(request)
			require.ErrorContains(t, err, want)
		})
	}
}
