package door_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/doortest"
)

// asks are the parts of a request to the OpenID Authorization API 1.0.
const (
	subject  = `"subject":{"type":"account","id":"ingrid@kestrelsound.example"}`
	action   = `"action":{"name":"sign-in"}`
	resource = `"resource":{"type":"app","id":"mail"}`
	atPier   = `"context":{"ip":"203.0.113.20","device":{"id":"laptop-ingrid"},"proofs":[{"method":"password"}]}`
	fromAway = `"context":{"ip":"192.0.2.200","proofs":[{"method":"password"}]}`
)

func TestEvaluation(t *testing.T) {
	h := doortest.New(t, nil, nil)
	for name, c := range map[string]struct {
		parts    []string
		status   int
		decision bool
		has      string
	}{
		"granted":           {[]string{subject, action, resource, atPier}, 200, true, `"limits":`},
		"more is asked":     {[]string{subject, action, resource, fromAway}, 200, false, `"offer":["push"]`},
		"without a context": {[]string{subject, action, resource}, 200, false, `"verdict":"step_up"`},
		"nobody": {[]string{strings.Replace(subject, "ingrid@", "nobody@", 1), action, resource, atPier}, 200, false,
			"no account"},
		"properties": {[]string{strings.Replace(subject, `"id"`, `"properties":{"groups":["x"]},"id"`, 1), action, resource,
			atPier}, 200, true, `"ignored":["subject.properties"]`},
		"as a user and app": {[]string{strings.Replace(subject, "account", "user", 1), action, resource, atPier}, 200, true, ""},
		"no subject":        {[]string{action, resource}, 400, false, "no subject"},
		"no resource":       {[]string{subject, action}, 400, false, "no resource"},
		"no action":         {[]string{subject, resource}, 400, false, "no action"},
		"another type": {[]string{strings.Replace(subject, "account", "robot", 1), action, resource}, 400, false,
			"subject.type is account"},
		"an action that is none": {[]string{subject, strings.Replace(action, "sign-in", "read", 1), resource}, 400, false, "not \\\"read\\\""},
		"an account in context": {[]string{subject, action, resource, `"context":{"account":"birk@kestrelsound.example"}`}, 400, false,
			"are the subject"},
		"a context that is odd": {[]string{subject, action, resource, `"context":{"countri":"NO","time":"now"}`}, 200, false,
			`"ignored":["context.countri","context.time"]`},
		"a context with a key twice": {[]string{subject, action, resource, `"context":{"country":"NO","country":"DE"}`}, 400, false, "duplicate"},
		"another time": {[]string{subject, action, resource, `"context":{"at":"2026-01-01T00:00:00Z"}`}, 400, false,
			"which is not now"},
	} {
		t.Run(name, func(t *testing.T) {
			status, _, text := h.Ask("POST", "/access/v1/evaluation", all, "{"+strings.Join(c.parts, ",")+"}")
			require.Equal(t, c.status, status, string(text))
			require.Contains(t, string(text), c.has)
			var e struct{ Decision bool }
			require.NoError(t, json.Unmarshal(text, &e))
			require.Equal(t, c.decision, e.Decision, string(text))
		})
	}
}

func TestEvaluations(t *testing.T) {
	h := doortest.New(t, nil, func(c *door.Config) { c.Limits.Batch = 4 })
	yes, no, bad := "{"+resource+"}", `{"resource":{"type":"app","id":"board-papers"}}`, `{"resource":{"type":"ship","id":"x"}}`
	for name, c := range map[string]struct {
		list, semantic string
		status         int
		want           []bool
	}{
		"all":                     {yes + "," + no + "," + bad + "," + yes, "", 200, []bool{true, false, false, true}},
		"all, as said":            {no + "," + yes, "execute_all", 200, []bool{false, true}},
		"to the first denied":     {yes + "," + no + "," + yes, "deny_on_first_deny", 200, []bool{true, false}},
		"to the first permitted":  {no + "," + yes + "," + yes, "permit_on_first_permit", 200, []bool{false, true}},
		"what is wrong is denied": {bad + "," + yes, "deny_on_first_deny", 200, []bool{false}},
		"another semantic":        {yes, "guess", 400, nil},
		"too many":                {strings.Repeat(yes+",", 4) + yes, "", 413, nil},
	} {
		t.Run(name, func(t *testing.T) {
			options := ""
			if c.semantic != "" {
				options = `,"options":{"evaluations_semantic":"` + c.semantic + `"}`
			}
			status, _, text := h.Ask("POST", "/access/v1/evaluations", all,
				"{"+subject+","+action+","+atPier+`,"evaluations":[`+c.list+"]"+options+"}")
			require.Equal(t, c.status, status, string(text))
			var got struct {
				Evaluations []struct{ Decision bool }
			}
			require.NoError(t, json.Unmarshal(text, &got))
			var decisions []bool
			for _, e := range got.Evaluations {
				decisions = append(decisions, e.Decision)
			}
			require.Equal(t, c.want, decisions)
		})
	}
	t.Run("none is one", func(t *testing.T) {
		status, _, text := h.Ask("POST", "/access/v1/evaluations", all, "{"+strings.Join([]string{subject, action, resource, atPier}, ",")+"}")
		require.Equal(t, 200, status)
		require.True(t, strings.HasPrefix(string(text), `{"decision":true`), string(text))
	})
}

func TestSearches(t *testing.T) {
	h := doortest.New(t, nil, nil)
	before := len(h.Entries())
	type results struct {
		Results []struct{ Type, ID, Name string }
		Page    struct {
			Next string `json:"next_token"`
		}
	}
	search := func(what string, parts ...string) results {
		status, _, text := h.Ask("POST", "/access/v1/search/"+what, all, "{"+strings.Join(parts, ",")+"}")
		require.Equal(t, http.StatusOK, status, string(text))
		var r results
		require.NoError(t, json.Unmarshal(text, &r))
		return r
	}
	names := func(r results) []string {
		list := []string{}
		for _, x := range r.Results {
			list = append(list, x.ID+x.Name)
		}
		return list
	}
	apps := search("resource", subject, action, `"resource":{"type":"app"}`, atPier)
	require.Contains(t, names(apps), "mail")
	require.NotContains(t, names(apps), "board-papers")
	require.Contains(t, names(search("action", subject, resource, atPier)), "sign-in")
	whole := search("subject", `"subject":{"type":"account"}`, action, resource, atPier)
	require.Contains(t, names(whole), "ingrid@kestrelsound.example")
	require.NotContains(t, names(whole), "tide-gauge")
	for said, of := range map[string]results{
		"account":     whole,
		"user":        search("subject", `"subject":{"type":"user"}`, action, resource, atPier),
		"application": search("resource", subject, action, `"resource":{"type":"application"}`, atPier),
	} {
		require.Equal(t, said, of.Results[0].Type, "results are of the type that was asked for")
	}
	var paged []string
	next := ""
	for {
		one := search("subject", `"subject":{"type":"account"}`, action, resource, atPier, `"page":{"limit":2,"token":"`+next+`"}`)
		require.LessOrEqual(t, len(one.Results), 2)
		paged = append(paged, names(one)...)
		if next = one.Page.Next; next == "" {
			break
		}
	}
	require.Equal(t, names(whole), paged)
	require.Len(t, h.Entries(), before, "a search is no decision")
	for _, id := range names(whole) { // what a search says is what an evaluation says
		_, _, text := h.Ask("POST", "/access/v1/evaluation", all, "{"+strings.Join([]string{
			`"subject":{"type":"account","id":"` + id + `"}`, action, resource, atPier}, ",")+"}")
		require.True(t, strings.HasPrefix(string(text), `{"decision":true`), string(text))
	}
	status, _, text := h.Ask("GET", "/.well-known/authzen-configuration", "", nil)
	require.Equal(t, 200, status)
	require.Contains(t, string(text), `"access_evaluation_endpoint":"http://example.com/access/v1/evaluation"`)
}
