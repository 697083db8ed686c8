package door

import (
	"encoding/json"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/forms"
	"github.com/briskwarden/briskwarden/internal/jsonschema"
	"github.com/briskwarden/briskwarden/store"
)

// attemptForm is the form of an attempt that a door takes: that of an attempt, but for the time, which
// is the door's where it is left out.
type attemptForm struct{ attempt.Attempt }

// answerForm is the form of an Answer.
type answerForm struct {
	ID       string   `json:"id" doc:"the decision"`
	Degraded []string `json:"degraded,omitempty" doc:"what the decision lacked because something failed"`
	decide.Decision
	Facts struct {
		App     string              `json:"app,omitzero" doc:"the name of the app, where the book has it"`
		Country attempt.CountryCode `json:"country,omitzero" doc:"where it came from, as it was judged, where that is known"`
		Attempt attempt.Attempt     `json:"attempt" doc:"the attempt as it was judged, with what the store knew"`
		Account *store.Shown        `json:"account,omitempty" doc:"what the store knew of the account"`
		Device  *store.Device       `json:"device,omitempty" doc:"what the store knew of the device"`
		From    map[string]string   `json:"from" doc:"where each fact came from: attempt, store, book, nobody or unavailable"`
	} `json:"facts" doc:"what the decision rests on"`
}

// formOf returns the schema of a value's type, as one of its own within the document.
func formOf(value any, id string) *jsonschema.Schema {
	s := jsonschema.Of(reflect.TypeOf(value), "", forms.With(jsonschema.Types{
		reflect.TypeFor[any](): {}, reflect.TypeFor[json.RawMessage](): {},
	}))
	s.Dialect, s.ID = "", id
	if _, isAttempt := value.(attemptForm); isAttempt {
		for i, key := range s.Required {
			if key == "at" {
				s.Required = append(s.Required[:i:i], s.Required[i+1:]...)
				break
			}
		}
	}
	return s
}

// openAPI makes the description of what a door answers (OpenAPI 3.1). It is made of the routes
// themselves and of the types that they read and write.
func (d *Door) openAPI() map[string]any {
	paths := map[string]map[string]any{}
	schemas := map[string]any{"Problem": formOf(Problem{}, "Problem")}
	refer := func(value any) map[string]any {
		t := reflect.TypeOf(value)
		name := strings.NewReplacer("[", "", "]", "", "github.com/briskwarden/briskwarden/door.", "").Replace(t.Name())
		switch {
		case t.Kind() == reflect.Map:
			return map[string]any{"schema": map[string]any{"type": "object"}}
		case schemas[name] == nil:
			schemas[name] = formOf(value, name)
		}
		return map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/" + name}}
	}
	problem := map[string]any{"description": "What is wrong, and what would be right (RFC 9457)",
		"content": map[string]any{"application/problem+json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/Problem"}}}}
	for _, r := range d.allRoutes() {
		if r.About == "" {
			continue
		}
		method, path, _ := strings.Cut(r.Pattern, " ")
		operation := map[string]any{
			"summary":     r.About,
			"operationId": strings.ToLower(method) + strings.NewReplacer("/", "-", "{", "", "}", "", ".", "").Replace(path),
		}
		success := map[string]any{"description": http.StatusText(r.Status)}
		if r.Gives != nil {
			success["content"] = map[string]any{"application/json": refer(r.Gives)}
		}
		operation["responses"] = map[string]any{strconv.Itoa(r.Status): success, "default": problem}
		if r.Takes != nil {
			operation["requestBody"] = map[string]any{"required": true, "content": map[string]any{"application/json": refer(r.Takes)}}
		}
		if path == "/v1/events" {
			operation["requestBody"] = map[string]any{"required": true, "content": map[string]any{
				"application/secevent+jwt": map[string]any{"schema": map[string]any{"type": "string"}}}}
		}
		if r.Right != 0 {
			operation["security"] = []map[string]any{{"token": []string{}}, {"certificate": []string{}}}
			operation["description"] = "It needs the right " + r.Right.String() + "."
		}
		var parameters []map[string]any
		if strings.Contains(path, "{id}") {
			parameters = append(parameters, map[string]any{"name": "id", "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
		}
		if path == "/v1/sessions" {
			parameters = append(parameters,
				map[string]any{"name": "account", "in": "query", "required": true, "schema": map[string]any{"type": "string"}})
		}
		if parameters != nil {
			operation["parameters"] = parameters
		}
		if paths[path] == nil {
			paths[path] = map[string]any{}
		}
		paths[path][strings.ToLower(method)] = operation
	}
	return map[string]any{
		"openapi": "3.1.0",
		"info": map[string]any{"title": "The door of Brisk Warden", "version": "1",
			"description": "Decisions on who may sign on to what, by a book of policies. " +
				"People and groups are pushed by SCIM 2.0 at /scim/v2, which describes itself."},
		"paths": paths,
		"components": map[string]any{"schemas": schemas, "securitySchemes": map[string]any{
			"token":       map[string]any{"type": "http", "scheme": "bearer"},
			"certificate": map[string]any{"type": "mutualTLS"},
		}},
	}
}

// serveOpenAPI answers GET /openapi.json.
func (d *Door) serveOpenAPI(w http.ResponseWriter, _ *Request) error {
	d.description.Do(func() {
		text, err := json.MarshalIndent(d.openAPI(), "", "  ")
		if err != nil {
			panic(err) // it is texts, and schemas of types
		}
		d.described = text
	})
	return writeJSON(w, http.StatusOK, d.described)
}
