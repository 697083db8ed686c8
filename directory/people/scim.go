package people

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
)

// The schemas of SCIM 2.0 that are read.
const (
	listSchema       = "urn:ietf:params:scim:api:messages:2.0:ListResponse"         // RFC 7644 §3.4.2
	userSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"                 // RFC 7643 §4.1
	groupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"                // RFC 7643 §4.2
	enterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User" // RFC 7643 §4.3
	notSCIM          = "expected a SCIM 2.0 ListResponse, a User or a Group (RFC 7643, RFC 7644)"
)

// resource is a User or a Group, as far as a book has a use for it. The rest is
// read as attributes.
type resource struct {
	Schemas     []string    `json:"schemas"`
	ID          string      `json:"id"`
	UserName    string      `json:"userName"`
	Active      *bool       `json:"active"`
	DisplayName string      `json:"displayName"`
	Groups      []reference `json:"groups"`
	Members     []reference `json:"members"`

	line int
	// wrong says why the resource cannot be read, "" where it can.
	wrong string
	rest  map[string]json.RawMessage
}

// reference names another resource.
type reference struct {
	Value   string `json:"value"`
	Display string `json:"display"`
	Type    string `json:"type"`
}

// readSCIM reads a ListResponse, a list of resources, or one resource.
func readSCIM(text []byte) (*Import, error) {
	resources, err := findResources(text)
	if err != nil {
		return nil, err
	}
	c := newCollection()
	names := map[string]string{} // of users, by their id
	groups := map[string]string{}
	for i := range resources {
		r := &resources[i]
		switch {
		case r.wrong != "":
		case slices.Contains(r.Schemas, userSchema) || r.UserName != "":
			names[r.ID] = r.UserName
		case slices.Contains(r.Schemas, groupSchema):
			groups[r.ID] = r.DisplayName
		}
	}
	for i := range resources {
		r := &resources[i]
		switch {
		case r.wrong != "":
			c.skip(r.line, "%s", r.wrong)
		case slices.Contains(r.Schemas, userSchema) || r.UserName != "":
			c.user(r, groups)
		case slices.Contains(r.Schemas, groupSchema):
			if c.group(r.DisplayName) == "" {
				c.skip(r.line, "the group %q has no displayName", r.ID)
			}
		default:
			c.skip(r.line, "a resource of another kind: %s", strings.Join(r.Schemas, ", "))
		}
	}
	// Members come last, for they may name users that stand further down.
	for i := range resources {
		if r := &resources[i]; r.wrong == "" && slices.Contains(r.Schemas, groupSchema) && r.DisplayName != "" {
			c.members(r, names, groups)
		}
	}
	return c.done()
}

// user takes over a User.
func (c *collection) user(r *resource, groups map[string]string) {
	a := Account{Line: r.line, Account: directory.Account{Name: r.UserName, Disabled: r.Active != nil && !*r.Active}}
	for _, g := range r.Groups {
		name := g.Display
		if known := groups[g.Value]; known != "" {
			name = known
		}
		if name == "" {
			name = g.Value
		}
		a.Groups = append(a.Groups, name)
	}
	for name, raw := range r.rest {
		if name == enterpriseSchema {
			var extension map[string]json.RawMessage
			if json.Unmarshal(raw, &extension) == nil {
				for key, value := range extension {
					a.scalar(key, value)
				}
			}
			continue
		}
		a.scalar(name, raw)
	}
	c.add(a)
}

// scalar takes over an attribute that is a truth, a number or a text; names and
// addresses with parts of their own say nothing that a policy asks for.
func (a *Account) scalar(name string, raw json.RawMessage) {
	switch name {
	case "id", "schemas", "meta", "password", "profileUrl":
		return
	}
	var value attempt.Scalar
	if value.UnmarshalJSON(raw) == nil && value.Kind() != attempt.Nothing {
		a.attribute(name, value)
	}
}

// members notes who is in a Group.
func (c *collection) members(r *resource, names, groups map[string]string) {
	group := &c.Groups[c.groups[c.group(r.DisplayName)]]
	for _, m := range r.Members {
		if inner, ok := groups[m.Value]; ok {
			group.Includes = append(group.Includes, c.group(inner))
			group = &c.Groups[c.groups[group.Name]] // another may have been added
			continue
		}
		name, ok := names[m.Value]
		if _, read := c.index[name]; !ok || !read {
			c.skip(r.line, "the group %s: the member %s is no user of the file", r.DisplayName, describeReference(m))
			continue
		}
		if a := &c.Accounts[c.index[name]]; !slices.Contains(a.Groups, group.Name) {
			a.Groups = append(a.Groups, group.Name)
		}
	}
}

func describeReference(m reference) string {
	if m.Display != "" {
		return fmt.Sprintf("%q (%s)", m.Display, m.Value)
	}
	return fmt.Sprintf("%q", m.Value)
}

// findResources returns the resources of a file, each with its line.
func findResources(text []byte) ([]resource, error) {
	var whole any
	if err := json.Unmarshal(text, &whole); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			return nil, fmt.Errorf("line %d: not JSON: %w", lineAt(text, syntax.Offset), err)
		}
		return nil, fmt.Errorf("not JSON: %w", err)
	}
	var raw []json.RawMessage
	start := 0
	switch v := whole.(type) {
	case []any:
		if err := json.Unmarshal(text, &raw); err != nil {
			return nil, err
		}
	case map[string]any:
		if _, isList := v["Resources"].([]any); !isList {
			if _, names := v["schemas"]; !names {
				return nil, errors.New(notSCIM)
			}
			if schemas, _ := v["schemas"].([]any); slices.Contains(schemas, any(listSchema)) {
				return nil, errors.New("the ListResponse has no Resources; its query found nothing")
			}
			raw = []json.RawMessage{text}
			break
		}
		var response struct{ Resources []json.RawMessage }
		if err := json.Unmarshal(text, &response); err != nil {
			return nil, err
		}
		raw = response.Resources
	default:
		return nil, errors.New(notSCIM)
	}
	var found []resource
	for _, one := range raw {
		// A RawMessage is a copy of the text as it stands, so it is found again.
		at := bytes.Index(text[start:], one)
		r := resource{line: lineAt(text, int64(start+max(0, at)))}
		start += max(0, at) + len(one)
		var kind *json.UnmarshalTypeError
		switch err := json.Unmarshal(one, &r); {
		case errors.As(err, &kind) && kind.Field != "":
			r.wrong = fmt.Sprintf("a resource whose `%s` is a JSON %s", kind.Field, kind.Value)
		case err != nil:
			r.wrong = "something that is no resource"
		default:
			_ = json.Unmarshal(one, &r.rest) // an object, as was just seen
		}
		for _, read := range []string{"userName", "active", "groups", "members"} {
			delete(r.rest, read)
		}
		found = append(found, r)
	}
	return found, nil
}

func lineAt(text []byte, offset int64) int {
	return bytes.Count(text[:min(int64(len(text)), offset)], []byte("\n")) + 1
}
