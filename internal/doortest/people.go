package doortest

import (
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/door/people"
)

// AskSCIM makes a request of SCIM and returns the status, the header and the answer.
func (h *House) AskSCIM(method, path, body string, more ...string) (int, http.Header, map[string]any) {
	r := httptest.NewRequest(method, "/scim/v2"+path, strings.NewReader(body))
	r.Header.Set("Authorization", "Bearer "+All)
	r.Header.Set("Content-Type", "application/scim+json")
	for i := 0; i < len(more); i += 2 {
		r.Header.Set(more[i], more[i+1])
	}
	w := httptest.NewRecorder()
	h.Handler().ServeHTTP(w, r)
	answer := map[string]any{}
	if w.Body.Len() > 0 {
		require.NoError(h.T, json.Unmarshal(w.Body.Bytes(), &answer), w.Body.String())
	}
	return w.Code, w.Header(), answer
}

// The schemas of resources.
const (
	UserSchema  = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupSchema = "urn:ietf:params:scim:schemas:core:2.0:Group"
	Enterprise  = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
)

// As makes a request of SCIM as a caller and returns the status.
func (h *House) As(token, method, path, body string) int {
	status, _, answer := h.AskSCIM(method, path, body, "Authorization", "Bearer "+token)
	h.T.(*testing.T).Logf("%s %s: %d %v", method, path, status, answer["detail"])
	return status
}

// User is a User of the shop, with more of its attributes.
func User(name, more string) string {
	return `{"schemas":["` + UserSchema + `","` + people.UserSchema + `"],"userName":"` + name + `@shop.example"` + more + `}`
}

// UserID is the ID of a User of the shop.
func UserID(name string) string {
	return base64.RawURLEncoding.EncodeToString([]byte(name + "@shop.example"))
}

// Group is a Group with members of the shop.
func Group(name string, members ...string) string {
	var list []string
	for _, m := range members {
		list = append(list, `{"value":"`+UserID(m)+`"}`)
	}
	return `{"schemas":["` + GroupSchema + `"],"displayName":"` + name + `","members":[` + strings.Join(list, ",") + `]}`
}

// GroupID is the ID of a Group.
func GroupID(name string) string { return base64.RawURLEncoding.EncodeToString([]byte(name)) }

// Patch makes the body of a patch.
func Patch(operations ...string) string {
	return `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[` + strings.Join(operations, ",") + `]}`
}
