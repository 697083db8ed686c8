package people

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
	filter "github.com/scim2/filter-parser/v2"
)

// narrowing is which attributes a request wants to be answered with (RFC 7644 §3.9): those of only, where it names some, without those
// of without. What always is answered with it cannot leave out.
type narrowing struct{ only, without []string }

// narrowingOf reads that of a request.
func narrowingOf(r *http.Request) (n narrowing, err error) {
	names := func(parameter string) []string {
		var list []string
		for name := range strings.SplitSeq(r.URL.Query().Get(parameter), ",") {
			if name = strings.TrimSpace(name); name != "" {
				list = append(list, name)
			}
		}
		return list
	}
	n = narrowing{names("attributes"), names("excludedAttributes")}
	if n.only != nil && n.without != nil {
		return n, problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "Say attributes or excludedAttributes, and one of both.")
	}
	return n, nil
}

// wants reports whether an attribute of the core schema is answered with.
func (n narrowing) wants(name string) bool {
	return (n.only == nil || slices.ContainsFunc(n.only, func(said string) bool { return strings.EqualFold(pathOf(said)[0], name) })) &&
		!slices.ContainsFunc(n.without, func(said string) bool {
			path := pathOf(said)
			return len(path) == 1 && strings.EqualFold(path[0], name)
		})
}

// pathOf splits the path of an attribute: into its extension, where it is of one, the attribute, and the part of it that is meant.
func pathOf(said string) (path []string) {
	after := func(uri string) (rest string, is bool) {
		if len(said) > len(uri) && said[len(uri)] == ':' && strings.EqualFold(said[:len(uri)], uri) {
			return said[len(uri)+1:], true
		}
		return said, false
	}
	for _, uri := range []string{schema.UserSchema, schema.GroupSchema} {
		said, _ = after(uri)
	}
	for _, uri := range []string{schema.ExtensionEnterpriseUser().ID, UserSchema} {
		rest, is := after(uri)
		if strings.EqualFold(said, uri) {
			return []string{uri}
		} else if is {
			path, said = []string{uri}, rest
		}
	}
	return append(path, strings.SplitN(said, ".", 2)...)
}

// apply leaves of a resource what is wanted.
func (n narrowing) apply(made scim.Resource) scim.Resource {
	if n.only == nil && n.without == nil {
		return made
	}
	if !n.wants("externalId") {
		made.ExternalID = optional.String{}
	}
	var of map[string]any
	if json.Unmarshal(encoded(made.Attributes), &of) != nil { // of its own, so that what is kept stays whole
		return made
	}
	if n.only != nil {
		kept := map[string]any{}
		for _, said := range n.only {
			keep(kept, of, pathOf(said))
		}
		of = kept
	}
	for _, said := range n.without {
		drop(of, pathOf(said))
	}
	made.Attributes = of
	return made
}

// keep copies what a path names.
func keep(into, from map[string]any, path []string) {
	name := keyOf(from, path[0])
	value, has := from[name]
	switch value := value.(type) {
	case map[string]any:
		if len(path) > 1 {
			part, _ := into[name].(map[string]any)
			if part == nil {
				part = map[string]any{}
			}
			keep(part, value, path[1:])
			into[name] = part
			return
		}
	case []any:
		if len(path) > 1 {
			parts, _ := into[name].([]any)
			for i := range value {
				if len(parts) == i {
					parts = append(parts, map[string]any{})
				}
				if of, is := value[i].(map[string]any); is {
					keep(parts[i].(map[string]any), of, path[1:])
				}
			}
			into[name] = parts
			return
		}
	}
	if has {
		into[name] = value
	}
}

// drop takes out what a path names.
func drop(from map[string]any, path []string) {
	name := keyOf(from, path[0])
	if len(path) == 1 {
		delete(from, name)
		return
	}
	switch value := from[name].(type) {
	case map[string]any:
		drop(value, path[1:])
	case []any:
		for i := range value {
			if of, is := value[i].(map[string]any); is {
				drop(of, path[1:])
			}
		}
	}
}

// narrowed answers with what a request wants of resources.
type narrowed struct{ scim.ResourceHandler }

// Create implements scim.ResourceHandler.
func (h narrowed) Create(r *http.Request, attributes scim.ResourceAttributes) (scim.Resource, error) {
	return h.narrow(r, func() (scim.Resource, error) { return h.ResourceHandler.Create(r, attributes) })
}

// Get implements scim.ResourceHandler.
func (h narrowed) Get(r *http.Request, id string) (scim.Resource, error) {
	return h.narrow(r, func() (scim.Resource, error) { return h.ResourceHandler.Get(r, id) })
}

// GetAll implements scim.ResourceHandler.
func (h narrowed) GetAll(r *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	n, err := narrowingOf(r)
	if err != nil {
		return scim.Page{}, err
	}
	page, err := h.ResourceHandler.GetAll(r, params)
	for i := range page.Resources {
		page.Resources[i] = n.apply(page.Resources[i])
	}
	return page, err
}

// Replace implements scim.ResourceHandler.
func (h narrowed) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (scim.Resource, error) {
	return h.narrow(r, func() (scim.Resource, error) { return h.ResourceHandler.Replace(r, id, attributes) })
}

// Patch implements scim.ResourceHandler.
func (h narrowed) Patch(r *http.Request, id string, operations []scim.PatchOperation) (scim.Resource, error) {
	return h.narrow(r, func() (scim.Resource, error) { return h.ResourceHandler.Patch(r, id, operations) })
}

// narrow narrows the resource that a request is answered with, if the request is right in that.
func (h narrowed) narrow(r *http.Request, of func() (scim.Resource, error)) (scim.Resource, error) {
	n, err := narrowingOf(r)
	if err != nil {
		return scim.Resource{}, err
	}
	made, err := of()
	if err != nil {
		return made, err
	}
	return n.apply(made), nil
}

// withValuePaths has a comparison of a part of an attribute that has several values, such as emails.value, be one that any of them passes
// (RFC 7644 §3.4.2.2), which the library does not do by itself.
func withValuePaths(e filter.Expression, of schema.Schema) filter.Expression {
	switch e := e.(type) {
	case *filter.AttributeExpression:
		attribute, known := of.Attributes.ContainsAttribute(e.AttributePath.AttributeName)
		if inner := e.AttributePath.SubAttribute; known && inner != nil && attribute.MultiValued() {
			path := e.AttributePath
			path.SubAttribute = nil
			return &filter.ValuePath{AttributePath: path, ValueFilter: &filter.AttributeExpression{
				AttributePath: filter.AttributePath{AttributeName: *inner}, Operator: e.Operator, CompareValue: e.CompareValue}}
		}
	case *filter.LogicalExpression:
		return &filter.LogicalExpression{Left: withValuePaths(e.Left, of), Right: withValuePaths(e.Right, of), Operator: e.Operator}
	case *filter.NotExpression:
		return &filter.NotExpression{Expression: withValuePaths(e.Expression, of)}
	}
	return e
}
