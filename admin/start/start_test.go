package start_test

import (
	"context"
	"fmt"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/admin/inspect"
	"github.com/briskwarden/briskwarden/admin/start"
	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/book"
	"github.com/briskwarden/briskwarden/decide"
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
			report, err := inspect.Inspect(b, monday)
			require.NoError(t, err)
			if c.skipped == 0 {
				require.Empty(t, report.Findings, name)
			} else {
				require.Equal(t, "skipped-in-import:people", report.Findings[0].Name)
				require.Len(t, report.Findings, 1)
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
			require.Len(t, names, 4)
		})
	}
}

func TestWhatCannotBeStarted(t *testing.T) {
	for want, request := range map[string]start.Request{
		`"Europe/Olso" is no IANA time zone`:                {Zone: "Europe/Olso"},
		"the file is empty":                                 {People: []byte(""), PeopleFile: "p.csv"},
		`the file has no person "lvi"; did you mean "liv"?`: {People: []byte("name\nliv\n"), PeopleFile: "p.csv", Administrator: "lvi"},
		"nobody to look after the systems":                  {People: []byte("name,kind\ngauge,service\n"), PeopleFile: "p.csv"},
		"does not end in .yaml":                             {People: []byte("name\nliv\n"), PeopleFile: "people.yaml"},
	} {
		t.Run(fmt.Sprint(want), func(t *testing.T) {
			_, err := start.New(request)
			require.ErrorContains(t, err, want)
		})
	}
}
