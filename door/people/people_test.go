package people_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/door/people"
	"github.com/briskwarden/briskwarden/internal/doortest"
	"github.com/briskwarden/briskwarden/store"
)

// newHand is a User as an HR system pushes it.
const newHand = `{"schemas":["` + doortest.UserSchema + `","` + people.UserSchema + `","` + doortest.Enterprise + `"],
	"userName":"sunniva@kestrelsound.example",
	"externalId":"701984","name":{"givenName":"Sunniva","familyName":"Berg"},"active":true,
	"emails":[{"value":"sunniva@kestrelsound.example","type":"work"}],
	"` + doortest.Enterprise + `":{"department":"deck"},"` + people.UserSchema + `":{"joined":"2026-11-20","methods":["password"]}}`

func TestPeopleArePushed(t *testing.T) {
	h := doortest.New(t, nil, nil)
	signsOn := strings.Replace(doortest.Ingrid("mail", password, ""), "ingrid@", "sunniva@", 1)
	require.Equal(t, decide.AccountUnknown, h.Answer(signsOn).Causes[0].Code)

	status, header, made := h.AskSCIM("POST", "/Users", newHand)
	require.Equal(t, http.StatusCreated, status, made)
	id := made["id"].(string)
	require.Equal(t, `W/"1"`, header.Get("Etag"))
	require.Equal(t, "/scim/v2/Users/"+id, header.Get("Location"))
	a := h.Answer(signsOn)
	require.Equal(t, "store", a.Facts.From["account"])
	require.NotEqual(t, decide.AccountUnknown, a.Causes[0].Code, "she is known at once")
	known := h.Known("sunniva@kestrelsound.example")
	require.Equal(t, []string{"password"}, known.Methods)
	require.Equal(t, "2026-11-20", known.Joined.String())
	require.Equal(t, "deck", known.Attributes["department"].String())
	require.Equal(t, "caller gateway", a.Facts.From["account.attribute department"])
	require.False(t, h.Account("sunniva@kestrelsound.example").Made.At.IsZero(), "she came to be while the store looked on")

	t.Run("twice", func(t *testing.T) {
		status, _, answer := h.AskSCIM("POST", "/Users", newHand)
		require.Equal(t, http.StatusConflict, status, answer)
		require.Equal(t, "uniqueness", answer["scimType"])
	})
	t.Run("read back", func(t *testing.T) {
		status, _, read := h.AskSCIM("GET", "/Users/"+id, "")
		require.Equal(t, http.StatusOK, status)
		require.Equal(t, "701984", read["externalId"])
		require.Equal(t, "Berg", read["name"].(map[string]any)["familyName"])
		require.Equal(t, "deck", read[doortest.Enterprise].(map[string]any)["department"])
	})
	t.Run("patched", func(t *testing.T) { // the operations of RFC 7644 §3.5.2
		for name, c := range map[string]struct {
			operation string
			status    int
			check     func(map[string]any) any
			want      any
		}{
			"add":                {`{"op":"add","path":"nickName","value":"Su"}`, 200, func(u map[string]any) any { return u["nickName"] }, "Su"},
			"add without a path": {`{"op":"add","value":{"title":"Bosun"}}`, 200, func(u map[string]any) any { return u["title"] }, "Bosun"},
			"replace a part": {`{"op":"replace","path":"name.familyName","value":"Dal"}`, 200,
				func(u map[string]any) any { return u["name"].(map[string]any)["familyName"] }, "Dal"},
			"add to a list": {`{"op":"add","path":"emails","value":[{"value":"s@home.example","type":"home"}]}`, 200,
				func(u map[string]any) any { return len(u["emails"].([]any)) }, 2},
			"by a filter": {`{"op":"replace","path":"emails[type eq \"work\"].value","value":"su@kestrelsound.example"}`, 200,
				func(u map[string]any) any { return u["emails"].([]any)[0].(map[string]any)["value"] }, "su@kestrelsound.example"},
			"in an extension": {`{"op":"replace","path":"` + doortest.Enterprise + `:department","value":"engine"}`, 200,
				func(u map[string]any) any { return u[doortest.Enterprise].(map[string]any)["department"] }, "engine"},
			"remove": {`{"op":"remove","path":"title"}`, 200, func(u map[string]any) any { return u["title"] }, nil},
			"add by a filter of none": {`{"op":"add","path":"phoneNumbers[type eq \"mobile\"].value","value":"+4712"}`, 200,
				func(u map[string]any) any {
					return slices.ContainsFunc(u["phoneNumbers"].([]any), func(e any) bool {
						return e.(map[string]any)["type"] == "mobile" && e.(map[string]any)["value"] == "+4712"
					})
				}, true},
			"its groups":               {`{"op":"add","path":"groups","value":[{"value":"ZGVjaw"}]}`, 400, nil, nil},
			"its groups, without path": {`{"op":"replace","value":{"groups":[]}}`, 400, nil, nil},
			"a filter of nobody":       {`{"op":"replace","path":"emails[type eq \"third\"].value","value":"x"}`, 400, nil, nil},
			"a path of nothing":        {`{"op":"replace","path":"shoeSize","value":"x"}`, 400, nil, nil},
			"another operation":        {`{"op":"move","path":"title"}`, 400, nil, nil},
			"another name":             {`{"op":"replace","path":"userName","value":"other@kestrelsound.example"}`, 400, nil, nil},
		} {
			t.Run(name, func(t *testing.T) {
				status, _, answer := h.AskSCIM("PATCH", "/Users/"+id, doortest.Patch(c.operation))
				require.Equal(t, c.status, status, answer)
				if c.check != nil {
					_, _, read := h.AskSCIM("GET", "/Users/"+id, "")
					require.EqualValues(t, c.want, c.check(read), read)
				}
			})
		}
	})
	t.Run("versions", func(t *testing.T) {
		_, header, _ := h.AskSCIM("GET", "/Users/"+id, "")
		status, _, _ := h.AskSCIM("PUT", "/Users/"+id, newHand, "If-Match", `W/"1"`)
		require.Equal(t, http.StatusPreconditionFailed, status)
		status, after, answer := h.AskSCIM("PUT", "/Users/"+id, newHand, "If-Match", header.Get("Etag"))
		require.Equal(t, http.StatusOK, status, answer)
		require.NotEqual(t, header.Get("Etag"), after.Get("Etag"))
		status, _, answer = h.AskSCIM("GET", "/Users/"+id, "", "If-None-Match", `W/"1", `+after.Get("Etag"))
		require.Equal(t, http.StatusNotModified, status)
		require.Empty(t, answer)
		status, _, answer = h.AskSCIM("GET", "/Users/"+id, "", "If-None-Match", header.Get("Etag"))
		require.Equal(t, http.StatusOK, status)
		require.NotEmpty(t, answer)
	})
	t.Run("groups", func(t *testing.T) {
		member := func(id string) string { return fmt.Sprintf(`{"value":%q,"type":"User"}`, id) }
		status, _, group := h.AskSCIM("POST", "/Groups",
			`{"schemas":["`+doortest.GroupSchema+`"],"displayName":"deck","members":[`+member(id)+`]}`)
		require.Equal(t, http.StatusCreated, status, group)
		require.Equal(t, []string{"deck"}, h.Known("sunniva@kestrelsound.example").Groups)
		gid := group["id"].(string)
		status, _, answer := h.AskSCIM("PATCH", "/Groups/"+gid, doortest.Patch(`{"op":"remove","path":"members[value eq \"`+id+`\"]"}`))
		require.Equal(t, http.StatusNoContent, status, answer)
		require.Empty(t, h.Known("sunniva@kestrelsound.example").Groups)
		status, _, answer = h.AskSCIM("PATCH", "/Groups/"+gid, doortest.Patch(`{"op":"add","path":"members","value":[`+member(id)+`]}`))
		require.Equal(t, http.StatusNoContent, status, answer)
		require.Equal(t, []string{"deck"}, h.Known("sunniva@kestrelsound.example").Groups)
		_, _, read := h.AskSCIM("GET", "/Users/"+id, "")
		require.Equal(t, "deck", read["groups"].([]any)[0].(map[string]any)["display"])
		status, _, answer = h.AskSCIM("PATCH", "/Groups/"+gid, doortest.Patch(`{"op":"add","path":"members","value":[`+member("bm9ib2R5")+`]}`))
		require.Equal(t, http.StatusForbidden, status, answer)
		nobody := base64.RawURLEncoding.EncodeToString([]byte("nobody@kestrelsound.example"))
		status, _, answer = h.AskSCIM("PATCH", "/Groups/"+gid, doortest.Patch(`{"op":"add","path":"members","value":[`+member(nobody)+`]}`))
		require.Equal(t, http.StatusBadRequest, status, answer)
		status, _, _ = h.AskSCIM("DELETE", "/Groups/"+gid, "")
		require.Equal(t, http.StatusNoContent, status)
		require.Empty(t, h.Known("sunniva@kestrelsound.example").Groups)
	})
	t.Run("a person who left may not sign on", func(t *testing.T) {
		h.AskSCIM("PATCH", "/Users/"+id, doortest.Patch(`{"op":"replace","path":"active","value":false}`))
		require.Equal(t, decide.AccountDisabled, h.Answer(signsOn).Causes[0].Code)
		status, _, _ := h.AskSCIM("DELETE", "/Users/"+id, "")
		require.Equal(t, http.StatusNoContent, status)
		require.Equal(t, decide.AccountDisabled, h.Answer(signsOn).Causes[0].Code)
		status, _, _ = h.AskSCIM("GET", "/Users/"+id, "")
		require.Equal(t, http.StatusNotFound, status)
	})
	t.Run("one of the book who left may not either", func(t *testing.T) {
		_, _, made := h.AskSCIM("POST", "/Users", strings.ReplaceAll(newHand, "sunniva@", "ingrid@"))
		require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", password, "")).Verdict)
		h.AskSCIM("DELETE", "/Users/"+made["id"].(string), "")
		require.Equal(t, decide.AccountDisabled, h.Answer(doortest.Ingrid("mail", password, "")).Causes[0].Code)
	})
}

// holding is a store on which a feed's change takes for as long as hold is not closed, and that counts transactions.
type holding struct {
	store.Memory
	began, hold chan struct{}
	// updates are transactions, and accounts are those that were put.
	updates, accounts atomic.Int64
}

func (s *holding) wait(q store.Query) {
	if q.Kind == store.Members && q.Account == "" && s.hold != nil { // which is asked of a group
		s.began <- struct{}{}
		<-s.hold
	}
}

func (s *holding) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	s.wait(q)
	return s.Memory.List(ctx, q)
}

func (s *holding) Update(ctx context.Context, change func(store.Tx) error) error {
	s.updates.Add(1)
	return s.Memory.Update(ctx, func(tx store.Tx) error { return change(holdingTx{tx, s}) })
}

type holdingTx struct {
	store.Tx
	s *holding
}

func (t holdingTx) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	t.s.wait(q)
	return t.Tx.List(ctx, q)
}

func (t holdingTx) Put(row store.Row) error {
	if row.Kind == store.Accounts {
		t.s.accounts.Add(1)
	}
	return t.Tx.Put(row)
}

// TestAFeedStopsNoDecision: what it changes is thought through beside them, and what is refused is no transaction.
func TestAFeedStopsNoDecision(t *testing.T) {
	s := new(holding)
	h := doortest.New(t, s, nil)
	status, _, made := h.AskSCIM("POST", "/Users", newHand)
	require.Equal(t, http.StatusCreated, status)
	updates := s.updates.Load()
	status, _, _ = h.AskSCIM("POST", "/Users", newHand)
	require.Equal(t, http.StatusConflict, status)
	require.Equal(t, updates, s.updates.Load())

	s.began, s.hold = make(chan struct{}, 100), make(chan struct{})
	done := make(chan int)
	go func() {
		status, _, _ := h.AskSCIM("POST", "/Groups", fmt.Sprintf(
			`{"schemas": ["`+doortest.GroupSchema+`"], "displayName": "deck", "members": [{"value": %q}]}`, made["id"]))
		done <- status
	}()
	select {
	case <-s.began:
	case status := <-done:
		require.Fail(t, "it did not take long", status)
	}
	require.Equal(t, decide.Grant, h.Answer(doortest.Ingrid("mail", password, "")).Verdict)
	h.Answer(strings.Replace(doortest.Ingrid("mail", "", `,"failed":[{"method":"password","reason":"refused"}]`), "ingrid@", "sunniva@", 1))
	close(s.hold)
	require.Equal(t, http.StatusCreated, <-done)
	a := h.Account("sunniva@kestrelsound.example")
	require.Len(t, a.Failures, 1, "what a decision noted meanwhile is kept")
	require.True(t, slices.ContainsFunc(a.Stated, func(s store.Statement) bool { return s.Fact == store.Membership && s.Name == "deck" }) ||
		slices.Contains(h.Known(a.Name).Groups, "deck"))
	accounts := s.accounts.Load()
	status, _, _ = h.AskSCIM("PATCH", "/Groups/"+base64.RawURLEncoding.EncodeToString([]byte("deck")), fmt.Sprintf(
		`{"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
			"Operations": [{"op": "add", "path": "members", "value": [{"value": %q}]}]}`, made["id"]))
	require.Equal(t, http.StatusNoContent, status)
	require.Equal(t, accounts, s.accounts.Load(), "who is in it already costs nothing")
}

func TestAFeedIsToldToTryAgain(t *testing.T) {
	s := new(doortest.Broken)
	h := doortest.New(t, s, nil)
	_, _, made := h.AskSCIM("POST", "/Users", newHand)
	for _, c := range []struct {
		reads, writes      bool
		method, path, body string
	}{
		{false, true, "POST", "/Users", strings.ReplaceAll(newHand, "sunniva", "solveig")},
		{false, true, "DELETE", "/Users/" + made["id"].(string), ""},
		{true, false, "GET", "/Users/" + made["id"].(string), ""},
		{true, false, "PUT", "/Users/" + made["id"].(string), newHand},
	} {
		h.Forget()
		s.Fail(c.reads, c.writes)
		status, header, answer := h.AskSCIM(c.method, c.path, c.body)
		s.Fail(false, false)
		require.Equal(t, http.StatusServiceUnavailable, status, c)
		require.Equal(t, "The store cannot be asked now. Try again.", answer["detail"])
		require.NotEmpty(t, header.Get("Retry-After"))
		require.Contains(t, h.Logged.String(), doortest.ErrBroken.Error(), "the log says why")
		h.Logged.Reset()
	}
}

func TestAnAttributeHasABoundedNumberOfValues(t *testing.T) {
	h := doortest.New(t, nil, nil)
	_, _, made := h.AskSCIM("POST", "/Users", newHand)
	add := func(operations, values int, value string) (int, any) {
		list := strings.TrimSuffix(strings.Repeat(`{"value": "`+value+`"},`, values), ",")
		one := strings.Repeat(`{"op": "add", "path": "emails", "value": [`+list+`]},`, operations)
		i := 0
		status, _, answer := h.AskSCIM("PATCH", "/Users/"+made["id"].(string), `{"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],`+
			` "Operations": [`+regexp.MustCompile("@").ReplaceAllStringFunc(strings.TrimSuffix(one, ","), func(string) string {
			i++
			return fmt.Sprint(i, "@")
		})+`]}`)
		return status, answer["detail"]
	}
	for _, c := range []struct {
		operations, values int
		value              string
		status             int
		detail             string
	}{
		{900, 2, "@a.example", http.StatusBadRequest, "emails has more than 1000 values"},
		{1001, 1, "@a.example", http.StatusRequestEntityTooLarge, "A patch has at most 1000 operations."},
		{1, 10, strings.Repeat("x", 30_000) + "@a.example", http.StatusRequestEntityTooLarge, "has at most 262144 bytes"},
	} {
		status, detail := add(c.operations, c.values, c.value)
		require.Equal(t, c.status, status, detail)
		require.Contains(t, detail, c.detail)
	}
}

func TestPeopleAreFound(t *testing.T) {
	h := doortest.New(t, nil, func(c *door.Config) { c.Limits.Results = 3 })
	for i := range 7 {
		status, _, answer := h.AskSCIM("POST", "/Users", strings.ReplaceAll(newHand, "sunniva@", fmt.Sprintf("hand-%d@", i)))
		require.Equal(t, http.StatusCreated, status, answer)
	}
	for name, c := range map[string]struct {
		query       string
		total, page int
		status      int
	}{
		"all":                {"", 7, 3, 200},
		"a page":             {"startIndex=6&count=3", 7, 2, 200},
		"none":               {"count=0", 7, 0, 200},
		"by name":            {"filter=" + url.QueryEscape(`userName eq "hand-3@kestrelsound.example"`), 1, 1, 200},
		"by a part":          {"filter=" + url.QueryEscape(`name.familyName sw "Be" and userName co "hand-4"`), 1, 1, 200},
		"by what it is":      {"filter=" + url.QueryEscape(`active eq true`), 7, 3, 200},
		"by an extension":    {"filter=" + url.QueryEscape(doortest.Enterprise+`:department eq "deck"`), 7, 3, 200},
		"by one of several":  {"filter=" + url.QueryEscape(`emails.value eq "HAND-3@kestrelsound.example"`), 1, 1, 200},
		"by none of several": {"filter=" + url.QueryEscape(`emails.value eq "x@kestrelsound.example" or not (emails.type eq "work")`), 0, 0, 200},
		"by a part of one":   {"filter=" + url.QueryEscape(`emails[type eq "work" and value sw "hand-3"]`), 1, 1, 200},
		"nobody":             {"filter=" + url.QueryEscape(`userName eq "none"`), 0, 0, 200},
		"no filter at all":   {"filter=" + url.QueryEscape(`userName is "none"`), 0, 0, 400},
	} {
		t.Run(name, func(t *testing.T) {
			status, _, answer := h.AskSCIM("GET", "/Users?"+c.query, "")
			require.Equal(t, c.status, status, answer)
			if c.status == 200 {
				require.EqualValues(t, c.total, answer["totalResults"])
				listed, _ := answer["Resources"].([]any)
				require.Len(t, listed, c.page)
			}
		})
	}
	h = doortest.New(t, nil, nil)
	for path, has := range map[string]string{"/ServiceProviderConfig": `"bulk":{"maxOperations":0,"maxPayloadSize":0,"supported":false}`,
		"/Schemas": people.UserSchema, "/ResourceTypes": "/Groups"} {
		t.Run(path, func(t *testing.T) {
			status, _, text := h.Ask("GET", "/scim/v2"+path, all, nil)
			require.Equal(t, http.StatusOK, status)
			require.Contains(t, string(text), has)
			status, _, _ = h.Ask("GET", "/scim/v2"+path, idle, nil)
			require.Equal(t, http.StatusForbidden, status)
		})
	}
	status, _, _ := h.AskSCIM("POST", "/Bulk", "{}")
	require.Equal(t, http.StatusNotFound, status, "bulk is off, as is said")
}

// TestWhatIsOutOfBoundsIsNotShown: what a caller pushed while it might is not shown to it once its bounds are narrower.
func TestWhatIsOutOfBoundsIsNotShown(t *testing.T) {
	h := doortest.New(t, nil, nil)
	_, _, made := h.AskSCIM("POST", "/Users", newHand)
	for domain, total := range map[string]int{"other.example": 0, "kestrelsound.example": 1} {
		_, err := h.Reconfigure(t.Context(), doortest.Configured(func(c *door.Config) { c.Callers[0].People.Domains = []string{domain} }))
		require.NoError(t, err)
		_, _, page := h.AskSCIM("GET", "/Users", "")
		require.EqualValues(t, total, page["totalResults"], domain)
		status, _, _ := h.AskSCIM("GET", "/Users/"+made["id"].(string), "")
		require.Equal(t, total == 1, status == http.StatusOK, domain)
	}
}

// TestWhatIsAskedForIsAnswered: attributes and excludedAttributes (RFC 7644 §3.9).
func TestWhatIsAskedForIsAnswered(t *testing.T) {
	s := new(counting)
	h := doortest.New(t, s, nil)
	_, _, made := h.AskSCIM("POST", "/Users", newHand)
	id := made["id"].(string)
	h.AskSCIM("POST", "/Groups", `{"schemas":["`+doortest.GroupSchema+`"],"displayName":"deck","members":[{"value":"`+id+`"}]}`)
	always := []string{"id", "meta", "schemas"}
	for query, want := range map[string][]string{
		"attributes=userName":                                    {"userName"},
		"attributes=USERNAME,name.familyName":                    {"name", "userName"},
		"attributes=" + doortest.UserSchema + ":emails.type":     {"emails"},
		"attributes=" + doortest.Enterprise + ":department":      {doortest.Enterprise},
		"attributes=" + doortest.Enterprise + ",externalId":      {"externalId", doortest.Enterprise},
		"attributes=shoeSize":                                    {},
		"excludedAttributes=emails,name,groups,externalId,id":    {"active", "userName", doortest.Enterprise, people.UserSchema},
		"excludedAttributes=name.givenName,emails,groups,active": {"externalId", "name", "userName", doortest.Enterprise, people.UserSchema},
	} {
		t.Run(query, func(t *testing.T) {
			status, _, one := h.AskSCIM("GET", "/Users/"+id+"?"+query, "")
			require.Equal(t, http.StatusOK, status)
			require.ElementsMatch(t, append(slices.Clone(always), want...), slices.Collect(maps.Keys(one)))
			if name, is := one["name"].(map[string]any); is {
				require.Equal(t, map[string]any{"familyName": "Berg"}, name)
			}
			if emails, is := one["emails"].([]any); is {
				require.Equal(t, []any{map[string]any{"type": "work"}}, emails)
			}
			_, _, page := h.AskSCIM("GET", "/Users?"+query, "")
			require.Equal(t, one, page["Resources"].([]any)[0], "in a list as alone")
		})
	}
	t.Run("what is not wanted is still kept", func(t *testing.T) {
		status, _, answer := h.AskSCIM("PUT", "/Users/"+id+"?attributes=userName", newHand)
		require.Equal(t, http.StatusOK, status)
		require.NotContains(t, answer, "name")
		_, _, whole := h.AskSCIM("GET", "/Users/"+id, "")
		require.Contains(t, whole, "name")
	})
	t.Run("both", func(t *testing.T) {
		status, _, answer := h.AskSCIM("GET", "/Users/"+id+"?attributes=name&excludedAttributes=name", "")
		require.Equal(t, http.StatusBadRequest, status, answer)
	})
	t.Run("members that nobody wants are not read", func(t *testing.T) {
		s.read.Store(0)
		for query, has := range map[string]bool{"excludedAttributes=members": false, "attributes=displayName": false, "attributes=members": true,
			"excludedAttributes=members&filter=" + url.QueryEscape(`members.value eq "`+id+`"`): false} {
			_, _, page := h.AskSCIM("GET", "/Groups?"+query, "")
			require.Len(t, page["Resources"], 1, query)
			require.Equal(t, has, page["Resources"].([]any)[0].(map[string]any)["members"] != nil, query)
		}
		require.EqualValues(t, 2, s.read.Load(), "where they are answered with, or a filter is on them")
	})
}

// counting counts how often the members of a group are read.
type counting struct {
	store.Memory
	read atomic.Int64
}

func (s *counting) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	if q.Kind == store.Members {
		s.read.Add(1)
	}
	return s.Memory.List(ctx, q)
}

func FuzzPatch(f *testing.F) {
	f.Add("add", "emails[type eq \"work\" and value sw \"a\"].value", `"x"`)
	f.Add("remove", "name.familyName", "null")
	f.Add("replace", "", `{"active":false,"`+doortest.Enterprise+`":{"department":null}}`)
	f.Add("add", people.UserSchema+":accountRisk.level", `"high"`)
	h := doortest.New(f, nil, nil)
	h.AskSCIM("POST", "/Users", newHand)
	id := "c3Vubml2YUBrZXN0cmVsc291bmQuZXhhbXBsZQ"
	f.Fuzz(func(t *testing.T, op, path, value string) {
		h.T = t
		operation, err := json.Marshal(map[string]any{"op": op, "path": path, "value": json.RawMessage(value)})
		if err != nil {
			return
		}
		status, _, answer := h.AskSCIM("PATCH", "/Users/"+id, doortest.Patch(string(operation)))
		require.Less(t, status, 500, answer)
		status, _, read := h.AskSCIM("GET", "/Users/"+id, "")
		require.Equal(t, 200, status)
		require.Equal(t, "sunniva@kestrelsound.example", read["userName"])
	})
}

func TestWhatFeedsSayInOtherWords(t *testing.T) {
	h := doortest.New(t, nil, nil)
	status, _, answer := h.AskSCIM("POST", "/Users", strings.Replace(newHand, `"active":true`, `"active":"True"`, 1))
	require.Equal(t, 201, status, answer)
	require.Equal(t, true, answer["active"])
	id := answer["id"].(string)
	for _, operation := range []string{`{"op":"Replace","path":"active","value":"False"}`, `{"op":"replace","value":{"active":"FALSE"}}`} {
		status, _, answer = h.AskSCIM("PATCH", "/Users/"+id, doortest.Patch(`{"op":"replace","path":"active","value":true}`))
		require.Equal(t, 200, status, answer)
		status, _, answer = h.AskSCIM("PATCH", "/Users/"+id, doortest.Patch(operation))
		require.Equal(t, 200, status, answer)
		require.Equal(t, false, answer["active"], operation)
	}
	status, _, answer = h.AskSCIM("PATCH", "/Users/"+id, doortest.Patch(`{"op":"replace","path":"active","value":"no"}`))
	require.Equal(t, 400, status, answer)
	for _, name := range []string{"Sunniva@kestrelsound.example", "INGRID@kestrelsound.example"} {
		status, _, answer = h.AskSCIM("POST", "/Users", strings.Replace(newHand, `"userName":"sunniva@kestrelsound.example"`,
			`"userName":"`+name+`"`, 1))
		require.Equal(t, 409, status, "%s is another only by its case: %v", name, answer)
	}
}
