package people_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide/engine"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/people"
)

func example(t *testing.T, name string) string {
	text, err := os.ReadFile("testdata/" + name)
	require.NoError(t, err)
	return string(text)
}

func read(t *testing.T, text string) *people.Import {
	t.Helper()
	found, err := people.Read([]byte(text))
	require.NoError(t, err)
	return found
}

// list wraps resources as RFC 7644 §3.4.2 does.
func list(resources ...string) string {
	all := ""
	for i, r := range resources {
		if i > 0 {
			all += ",\n"
		}
		all += r
	}
	return `{"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "totalResults": 9, "Resources": [` + "\n" + all + "]}"
}

func TestTheExamplesOfTheRFCs(t *testing.T) {
	babs := read(t, example(t, "rfc7643-8.2-user.json"))
	require.Len(t, babs.Accounts, 1)
	require.Equal(t, "bjensen@example.com", babs.Accounts[0].Name)
	require.False(t, babs.Accounts[0].Disabled)
	require.Equal(t, []string{"Employees", "Tour-Guides", "US-Employees"}, babs.Accounts[0].Groups)
	require.Equal(t, []string{"displayName", "externalId", "locale", "nickName", "preferredLanguage", "timezone", "title", "userType"},
		slices.Sorted(maps.Keys(babs.Accounts[0].Attributes)), "scalars become attributes, but for the password and what only SCIM needs")
	require.Equal(t, attempt.TextScalar("Tour Guide"), babs.Accounts[0].Attributes["title"])

	both := read(t, list(example(t, "rfc7643-8.4-group.json"), example(t, "rfc7643-8.2-user.json")))
	require.Equal(t, []string{"Employees", "Tour-Guides", "US-Employees"}, both.Accounts[0].Groups, "a member twice over is one")
	require.Equal(
		t,
		[]people.Skipped{
			{
				Line: 2,
				Text: `the group Tour Guides: the member "Mandy Pepperidge" (902c246b-6245-4190-8e05-00816be7344a) is no user of the file`,
			},
		},
		both.Skipped,
	)

	two := read(t, example(t, "rfc7644-3.4.2-list.json"))
	require.Equal(t, []string{"bjensen", "jsmith"}, []string{two.Accounts[0].Name, two.Accounts[1].Name})
	require.Equal(t, 5, two.Accounts[0].Line)
}

// TestThePublishedAttributes holds what becomes of each attribute that RFC 7643
// §8.7.1 publishes against its type there.
func TestThePublishedAttributes(t *testing.T) {
	var published map[string]map[string]string
	require.NoError(t, json.Unmarshal([]byte(example(t, "rfc7643-8.7.1-attributes.json")), &published))
	const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	values := map[string]string{
		"string":    `"some text"`,
		"reference": `"https://example.com"`,
		"boolean":   "true",
		"complex":   `[{"value": "x"}]`,
	}
	inUser, inExtension := "", ""
	var want []string
	for name, kind := range published["urn:ietf:params:scim:schemas:core:2.0:User"] {
		if name != "userName" && name != "groups" {
			inUser += fmt.Sprintf(", %q: %s", name, values[kind])
			if kind == "string" && name != "password" {
				want = append(want, name)
			}
		}
	}
	for name, kind := range published[enterprise] {
		inExtension += fmt.Sprintf(", %q: %s", name, values[kind])
		if kind == "string" {
			want = append(want, name)
		}
	}
	slices.Sort(want)
	user := fmt.Sprintf(
		`{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "1", "userName": "liv"%s, %q: {"x": null%s}}`,
		inUser,
		enterprise,
		inExtension,
	)
	require.Equal(t, want, slices.Sorted(maps.Keys(read(t, list(user)).Accounts[0].Attributes)))
}

func TestSCIMGroups(t *testing.T) {
	user := func(id, name, more string) string {
		return fmt.Sprintf(`{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": %q, "userName": %q%s}`, id, name, more)
	}
	group := func(id, name, member string) string {
		return fmt.Sprintf(
			`{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "id": %q, "displayName": %q, "members": [{"value": %q}]}`,
			id,
			name,
			member,
		)
	}
	found := read(t, list(group("g1", "All hands", "g2"), group("g2", "deck", "u1"), user("u1", "liv", `, "active": false`),
		user("u2", "liv", ""), user("u3", "odd name", ""), `{"schemas": ["urn:x"], "id": "d"}`, user("u4", "per", `, "active": "no"`)))
	require.Equal(t, []directory.Group{{Name: "All-hands", Includes: []string{"deck"}}, {Name: "deck"}}, found.Groups)
	require.Len(t, found.Accounts, 1)
	require.Equal(t, []string{"deck"}, found.Accounts[0].Groups)
	require.True(t, found.Accounts[0].Disabled)
	require.False(t, found.Accounts[0].Proves, "SCIM says nothing of methods")
	require.Equal(t, []people.Skipped{{Line: 5, Text: "the account liv stands on line 4 already"},
		{
			Line: 6,
			Text: `the account "odd name": a name has no spaces, control or format characters; this one has a space`,
		}, {Line: 7, Text: "a resource of another kind: urn:x"}, {Line: 8, Text: "a resource whose `active` is a JSON string"}}, found.Skipped)
}

func TestCSV(t *testing.T) {
	found := read(t, "\ufeffuserName;E-Mail;kind;Groups;methods;Joined;active;vessel;crew size\r\n"+
		"liv;liv@x.example;;deck|shore it;password, push;2026-01-05;yes;MF Kestrel;12\r\n"+
		"gauge;;service;;certificate;;;;\r\n"+
		"per;;;;;;no;\"a \"\"quoted\"\"\nvessel\";\r\n"+
		"late;;;;;5/1/2026;;;\r\nshort;x\r\nkiosk;;machine;;;;;;\r\n;;;;;;;;\r\nliv;;;;;;;;\r\n")
	require.Equal(t, []string{"liv", "gauge", "per"}, []string{found.Accounts[0].Name, found.Accounts[1].Name, found.Accounts[2].Name})
	liv := found.Accounts[0]
	require.Equal(t, []string{"deck", "shore-it"}, liv.Groups)
	require.Equal(t, []string{"password", "push"}, liv.Methods)
	require.Equal(t, "2026-01-05", liv.Joined.String())
	require.Equal(
		t,
		map[string]attempt.Scalar{
			"E-Mail":    attempt.TextScalar("liv@x.example"),
			"vessel":    attempt.TextScalar("MF Kestrel"),
			"crew_size": attempt.TextScalar("12"),
		},
		liv.Attributes,
	)
	require.Equal(t, directory.Service, found.Accounts[1].Kind)
	require.Nil(t, found.Accounts[1].Attributes, "what is empty is not known")
	require.True(t, found.Accounts[2].Disabled)
	require.False(t, found.Accounts[2].Proves)
	require.Equal(t, []people.Skipped{
		{Line: 6, Text: `the account late: Joined: a day is written like 2026-11-23, not "5/1/2026"`},
		{Line: 7, Text: "the line has 2 fields, the header 9"},
		{Line: 8, Text: `the account kiosk: kind: "machine" is not a kind of account; it is one of person, service, emergency`},
		{Line: 9, Text: "the account has no name"},
		{Line: 10, Text: "the account liv stands on line 2 already"},
	}, found.Skipped)
}

// TestWhatIsTakenForWhat: what a table leaves open is told.
func TestWhatIsTakenForWhat(t *testing.T) {
	for name, c := range map[string]struct {
		text            string
		accounts, taken []string
	}{
		"names of people": {"Name;E-Mail;Joined\nLiv Hansen;liv@x.example;01.02.2020\nLiv Hansen;liv2@x.example;\n",
			[]string{"liv@x.example", "liv2@x.example"},
			[]string{"Cells are separated by semicolons.", "The column E-Mail names the accounts.", "Became attributes: Name.",
				"The Joined 01.02.2020 is taken for 2020-02-01, the day first, and the like."}},
		"names that accounts can have": {"name,email\nliv,liv@x.example\n", []string{"liv"},
			[]string{"The column name names the accounts.", "Became attributes: email."}},
		"one that stands twice": {"name,userName\nliv,liv1\nliv,liv2\n", []string{"liv1", "liv2"},
			[]string{"The column userName names the accounts.", "Became attributes: name."}},
		"a table with bars": {"user|groups\nliv|deck\n", []string{"liv"}, []string{"Cells are separated by bars.", "The column user names " +
			"the accounts."}},
	} {
		t.Run(name, func(t *testing.T) {
			found := read(t, c.text)
			var names []string
			for _, a := range found.Accounts {
				names = append(names, a.Name)
			}
			require.Equal(t, c.accounts, names)
			require.Equal(t, c.taken, found.Taken)
		})
	}
}

func TestWhatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                      "the file is empty",
		"\xff\xfe":              "not UTF-8",
		"hello":                 "neither a SCIM ListResponse nor CSV with a header",
		"nmae,groups\nliv,deck": `names no account: expected a column name or account or userName or email; did you mean "name" by "nmae"?`,
		"name,groups\n":         "has no account that could be read",
		"name,groups\na b,deck": "has no account that could be read; line 2: the account \"a b\"",
		"name,gro\"ups\nliv,x":  "line 1, column",
		"{\"a\": }":             "line 1: not JSON",
		"{}":                    "expected a SCIM 2.0 ListResponse, a User or a Group",
		"[1]":                   "has no account that could be read; line 1: something that is no resource",
		`{"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "totalResults": 0}`: "its query found nothing",
	} {
		t.Run(text, func(t *testing.T) {
			_, err := people.Read([]byte(text))
			require.ErrorContains(t, err, want, text)
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("name;groups\nliv;deck\n"))
	for _, name := range []string{"rfc7643-8.2-user.json", "rfc7643-8.4-group.json", "rfc7644-3.4.2-list.json"} {
		text, err := os.ReadFile("testdata/" + name)
		require.NoError(f, err)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		found, err := people.Read(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		// What can be read makes an directory.
		c := directory.Contents{Groups: found.Groups}
		for _, a := range found.Accounts {
			require.Positive(t, a.Line)
			a.Methods = nil
			c.Accounts = append(c.Accounts, a.Account)
		}
		_, err = engine.NewDirectory(c, engine.Mentioned{})
		if err != nil {
			require.ErrorContains(t, err, "includes itself", "the only thing that a book has still to check")
		}
	})
}

// TestATableDisablesWhereItMay holds that a leaver is never granted because of how
// a table is written.
func TestATableDisablesWhereItMay(t *testing.T) {
	for _, c := range []struct {
		name, text string
		disabled   []bool
	}{
		{"either column disables", "name,active,disabled\na,true,true\nb,false,false\nc,true,false\n", []bool{true, true, false}},
		{"in either order", "name,disabled,active\na,true,true\nb,false,false\nc,false,true\n", []bool{true, true, false}},
	} {
		t.Run(c.name, func(t *testing.T) {
			found, err := people.Read([]byte(c.text))
			require.NoError(t, err)
			for i, want := range c.disabled {
				require.Equal(t, want, found.Accounts[i].Disabled, found.Accounts[i].Name)
			}
		})
	}
	_, err := people.Read([]byte("name,active,Active\na,true,false\n"))
	require.ErrorContains(t, err, `the column "Active" twice`)
	found, err := people.Read([]byte("name,status,town\na,terminated,Bergen\n"))
	require.NoError(t, err)
	require.Equal(t, []string{"status", "town"}, found.Attributes)
	require.Len(t, found.Skipped, 1)
	require.Contains(t, found.Skipped[0].Text, "the column status disables nobody")
}

func TestATableTellsOfRiskAndPasswords(t *testing.T) {
	found, err := people.Read([]byte("name,account_risk,account_risk_because,account_risk_since,asked_at,password_changed_at\n" +
		"a,medium,leaked-password,2026-11-20T08:00:00Z,2026-11-01T08:00:00Z,2026-11-21T08:00:00Z\n" +
		"b,,gossip,,,\nc,terrible,,,,\nd,,,,yesterday,\n"))
	require.NoError(t, err)
	require.Len(t, found.Accounts, 2)
	a := found.Accounts[0]
	require.Equal(t, directory.MediumRisk, a.AccountRisk.Level)
	require.Equal(t, directory.NoRisk, a.RiskAt(a.PasswordChangedAt.Add(time.Hour)), "a leaked password is put right by a new one")
	require.Equal(t, directory.MediumRisk, a.RiskAt(a.AccountRisk.Since.Add(time.Hour)), "and not before it was changed")
	require.Equal(t, "2026-11-01", a.AskedAt.Format(time.DateOnly))
	require.Equal(t, directory.HighRisk, found.Accounts[1].AccountRisk.Level, "a reason without a level is taken for the worst")
	require.Len(t, found.Skipped, 2)
}
