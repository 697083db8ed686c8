// Package people is the room of a door into which another system pushes people and groups, by SCIM 2.0 (RFC 7643 and RFC 7644).
package people

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	scimfilter "github.com/elimity-com/scim/filter"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
	filter "github.com/scim2/filter-parser/v2"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// UserSchema is the schema extension of a User (RFC 7643 §3.3) for what a directory knows beyond
// SCIM.
const UserSchema = "urn:briskwarden:scim:schemas:extension:2.0:User"

const (
	// mostOfUser and mostOfGroup are how large a User and a Group, or a patch of one, may be in bytes: a group has its members in it.
	mostOfUser, mostOfGroup = 256 << 10, 4 << 20
	// mostOperations is how many operations a patch may have: the library takes 0.1 ms of a processor to read each.
	mostOperations = 1000
)

// userSchemas and groupSchemas are the core schemas of resources, with their extensions behind. Nobody changes them.
var (
	userSchemas  = []schema.Schema{schema.CoreUserSchema(), schema.ExtensionEnterpriseUser(), signOnSchema()}
	groupSchemas = []schema.Schema{schema.CoreGroupSchema()}
)

// signOnSchema is the schema extension of a User.
func signOnSchema() schema.Schema {
	text := func(name, about string) schema.CoreAttribute {
		return schema.SimpleCoreAttribute(schema.SimpleStringParams(schema.StringParams{Name: name, Description: optional.NewString(about),
			CaseExact: true}))
	}
	return schema.Schema{
		ID:          UserSchema,
		Name:        optional.NewString("Sign-on"),
		Description: optional.NewString("What a directory knows for sign-on"),
		Attributes: []schema.CoreAttribute{
			text("kind", "person, service or emergency"),
			text("joined", "day of joining, such as 2026-11-23"),
			schema.SimpleCoreAttribute(schema.SimpleStringParams(schema.StringParams{Name: "methods", MultiValued: true, CaseExact: true,
				Description: optional.NewString("methods that are enrolled")})),
			schema.SimpleCoreAttribute(schema.SimpleDateTimeParams(schema.DateTimeParams{Name: "passwordChangedAt",
				Description: optional.NewString("when the password was last changed")})),
			schema.ComplexCoreAttribute(schema.ComplexParams{Name: "accountRisk", Description: optional.NewString("the standing risk"),
				SubAttributes: []schema.SimpleParams{
					schema.SimpleStringParams(schema.StringParams{Name: "level", Description: optional.NewString("low, medium or high")}),
					schema.SimpleStringParams(schema.StringParams{Name: "because", Description: optional.NewString("the reason")}),
					schema.SimpleDateTimeParams(schema.DateTimeParams{Name: "since", Description: optional.NewString("when it arose")}),
				}}),
		},
	}
}

// room is the room of a door.
type room struct{ *door.Door }

// Room makes the room: the SCIM 2.0 service (RFC 7644) by which another system pushes people and groups.
func Room(of *door.Door) (*door.Opened, error) {
	d := &room{of}
	server, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{MaxResults: d.Config().Limits.Results, SupportFiltering: true, SupportPatch: true},
		ResourceTypes: []scim.ResourceType{
			{ID: optional.NewString("User"), Name: "User", Endpoint: "/Users", Description: optional.NewString("Who signs on"),
				Schema: userSchemas[0], Handler: narrowed{users{d}},
				SchemaExtensions: []scim.SchemaExtension{{Schema: userSchemas[1]}, {Schema: userSchemas[2]}}},
			{ID: optional.NewString("Group"), Name: "Group", Endpoint: "/Groups", Description: optional.NewString("A named set of accounts"),
				Schema: groupSchemas[0], Handler: narrowed{groups{d}}},
		},
	}, scim.WithBaseURL(path))
	if err != nil {
		return nil, err
	}
	served := http.StripPrefix(path, server)
	return &door.Opened{Routes: []door.Route{{Pattern: path + "/", Right: door.MayPeople,
		Serve: func(w http.ResponseWriter, r *door.Request) error {
			if r.URL.Path == path+"/ServiceProviderConfig" {
				d.serveProvider(w)
				return nil
			}
			if err := bounded(w, r.Request); err != nil {
				d.writeProblem(w, err)
				return nil
			}
			answer := &answering{ResponseWriter: w, room: d}
			if r.Method == http.MethodGet {
				answer.seen = r.Header.Get("If-None-Match")
			}
			served.ServeHTTP(answer, r.WithContext(context.WithValue(r.Context(), feedKey{}, r.Caller())))
			return nil
		}}}}, nil
}

// path is that of the service.
const path = "/scim/v2"

// answering answers 503 (RFC 9110 §15.6.4) where the library would tell the caller of a fault of the store, which the log is told.
type answering struct {
	http.ResponseWriter
	room *room
	// seen are the versions that the client has (If-None-Match, RFC 7644 §3.14), "" for none.
	seen string
	// failed says that the library tells of a fault, and same that the client has the answer already.
	failed, same bool
}

// WriteHeader implements http.ResponseWriter.
func (w *answering) WriteHeader(status int) {
	if w.failed = status == http.StatusInternalServerError; !w.failed {
		if w.same = status == http.StatusOK && isVersion(w.seen, w.Header().Get("Etag")); w.same {
			status = http.StatusNotModified
		}
		w.ResponseWriter.WriteHeader(status)
		return
	}
	w.Header().Set("Retry-After", "1")
	w.room.writeProblem(w.ResponseWriter, problem(http.StatusServiceUnavailable, "", "The store cannot be asked now. Try again."))
}

// Write implements http.ResponseWriter.
func (w *answering) Write(text []byte) (int, error) {
	if w.failed {
		w.room.Log().Error("a request of SCIM could not be answered", "error", string(text))
		return len(text), nil
	}
	if w.same {
		return len(text), nil
	}
	return w.ResponseWriter.Write(text)
}

// bounded reads the body of a request, which is not too large, and has it read again.
func bounded(w http.ResponseWriter, r *http.Request) error {
	most := int64(mostOfUser)
	if strings.HasPrefix(r.URL.Path, path+"/Groups") {
		most = mostOfGroup
	}
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, most))
	switch tooLarge := new(http.MaxBytesError); {
	case errors.As(err, &tooLarge):
		return problem(http.StatusRequestEntityTooLarge, "", "A User or a patch of one has at most %d bytes, and a Group %d.",
			mostOfUser, mostOfGroup)
	case err != nil:
		return problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidSyntax, "The request could not be read to its end.")
	}
	var patch struct{ Operations []json.RawMessage }
	if r.Method == http.MethodPatch && json.Unmarshal(text, &patch) == nil && len(patch.Operations) > mostOperations {
		return problem(http.StatusRequestEntityTooLarge, "", "A patch has at most %d operations. One can add or remove a whole list of "+
			"members.", mostOperations)
	}
	if strings.HasPrefix(r.URL.Path, path+"/Users") {
		text = withBooleans(text)
	}
	r.Body = io.NopCloser(bytes.NewReader(text))
	return nil
}

// withBooleans has `active` be true or false where a client says so in a text ("False"), as some do to say that somebody left. All else
// stays as it is.
func withBooleans(text []byte) []byte {
	var said map[string]json.RawMessage
	if json.Unmarshal(text, &said) != nil {
		return text
	}
	changed := false
	boolean := func(value json.RawMessage) json.RawMessage {
		var word string
		if json.Unmarshal(value, &word) == nil && (strings.EqualFold(word, "true") || strings.EqualFold(word, "false")) {
			changed = true
			return json.RawMessage(strings.ToLower(word))
		}
		return value
	}
	active := func(of map[string]json.RawMessage) {
		for name, value := range of {
			if strings.EqualFold(name, "active") {
				of[name] = boolean(value)
			}
		}
	}
	active(said)
	var operations []map[string]json.RawMessage
	if json.Unmarshal(said["Operations"], &operations) == nil {
		for _, o := range operations {
			var path string
			var value map[string]json.RawMessage
			if json.Unmarshal(o["path"], &path) == nil && strings.EqualFold(path, "active") {
				o["value"] = boolean(o["value"])
			} else if json.Unmarshal(o["value"], &value) == nil {
				active(value)
				o["value"] = encoded(value)
			}
		}
		said["Operations"] = encoded(operations)
	}
	if !changed {
		return text
	}
	return encoded(said)
}

// encoded is a value that was read as JSON, as JSON.
func encoded(value any) json.RawMessage {
	text, err := json.Marshal(value)
	if err != nil {
		panic(err) // it was JSON
	}
	return text
}

// writeProblem answers with an error of problem (RFC 7644 §3.12).
func (d *room) writeProblem(w http.ResponseWriter, err error) {
	var wrong scimerrors.ScimError
	errors.As(err, &wrong)
	text, err := wrong.MarshalJSON()
	if err != nil {
		d.Log().Error("an error of SCIM could not be written", "error", err)
	}
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(wrong.Status)
	w.Write(text)
}

type feedKey struct{}

// feed is a caller who pushes people and groups: what it may state, and as which source.
type feed struct {
	*door.Caller
	source store.Source
}

func feedOf(r *http.Request) feed {
	c := r.Context().Value(feedKey{}).(*door.Caller) // which the handler put there
	return feed{c, store.CallerSource(c.Name)}
}

// checkAccount reports an account that the feed may state nothing of.
func (f feed) checkAccount(name string) error {
	if !f.People.Includes(name) {
		return problem(http.StatusForbidden, "",
			"%s may state nothing of %s: it is outside its bounds (people.accounts, people.domains).", f.Name, name)
	}
	return nil
}

// checkGroup reports a group that the feed may not manage.
func (f feed) checkGroup(name string) error {
	if !slices.Contains(f.People.Groups, name) {
		return problem(http.StatusForbidden, "", "%s may not manage %s: it is outside its bounds (people.groups).", f.Name, name)
	}
	return nil
}

// serveProvider answers with what the service can do (RFC 7643 §5). The library knows nothing of
// versions, which are the door's.
func (d *room) serveProvider(w http.ResponseWriter) {
	type supported struct {
		Supported bool `json:"supported"`
	}
	text, err := json.Marshal(map[string]any{
		"schemas":        []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"},
		"patch":          supported{true},
		"bulk":           map[string]any{"supported": false, "maxOperations": 0, "maxPayloadSize": 0},
		"filter":         map[string]any{"supported": true, "maxResults": d.Config().Limits.Results},
		"changePassword": supported{},
		"sort":           supported{},
		"etag":           supported{true},
		"authenticationSchemes": []map[string]any{
			{
				"type":        "oauthbearertoken",
				"name":        "Bearer token",
				"description": "A token of a caller who may people",
				"specUri":     "https://www.rfc-editor.org/info/rfc6750",
				"primary":     true,
			},
		},
		"meta": map[string]string{"resourceType": "ServiceProviderConfig", "location": path + "/ServiceProviderConfig"},
	})
	if err != nil {
		panic(err) // texts and numbers
	}
	w.Header().Set("Content-Type", "application/scim+json")
	w.Write(text) // a client that went away misses nothing
}

// A resource has its name as its ID, in base64url: names of accounts and groups are what policies
// say, so a resource that is called otherwise is another one.
func idOf(name string) string { return base64.RawURLEncoding.EncodeToString([]byte(name)) }

func nameOf(id string) (string, error) {
	name, err := base64.RawURLEncoding.DecodeString(id)
	if err != nil || len(name) == 0 {
		return "", scimerrors.ScimErrorResourceNotFound(id)
	}
	return string(name), nil
}

func problem(status int, kind scimerrors.ScimType, format string, args ...any) error {
	return scimerrors.ScimError{Status: status, ScimType: kind, Detail: fmt.Sprintf(format, args...)}
}

// version is the entity tag of a resource (RFC 7644 §3.14).
func version(p *store.Pushed) string { return `W/"` + strconv.Itoa(p.Version) + `"` }

// isVersion reports whether an entity tag is among those of a header. There, * stands for any tag.
func isVersion(header, tag string) bool {
	return tag != "" && slices.ContainsFunc(strings.Split(header, ","), func(one string) bool {
		one = strings.TrimSpace(one)
		return one == tag || one == "*"
	})
}

// checkVersion holds a resource against the If-Match of a request.
func checkVersion(r *http.Request, p *store.Pushed) error {
	if wanted := r.Header.Get("If-Match"); wanted != "" && !isVersion(wanted, version(p)) {
		return problem(http.StatusPreconditionFailed, "", "The resource is at version %s.", version(p))
	}
	return nil
}

// mostChanges is how many changes one entry of the journal tells of; more of them are told by several.
const mostChanges = 500

// push keeps what a request pushed, and records what that changed. Change may be called again.
func (d *room) push(r *http.Request, what, name, done string, change func(*door.Change, *store.Stating) error) error {
	feed := feedOf(r)
	noted := &store.Stating{}
	err := d.ChangeMuch(r.Context(), func(b *door.Change) error {
		*noted = store.Stating{By: feed.source, At: d.Now()}
		if err := change(b, noted); err != nil {
			return err
		}
		account := ""
		if what == "user" {
			account = name
		}
		for first := 0; first == 0 || first < len(noted.Changes); first += mostChanges { // a request without a change has an entry too
			part := noted.Changes[first:min(first+mostChanges, len(noted.Changes))]
			detail := jsontext.String(jsontext.Key([]byte{'{'}, "resource"), what)
			detail = jsontext.String(jsontext.Key(jsontext.String(jsontext.Key(detail, "name"), name), "change"), done)
			detail = append(store.AppendChanges(detail, part), '}')
			b.Record(journal.Make(journal.People, journal.NewID(), noted.At, feed.Name, account, "people", detail))
		}
		return nil
	})
	var known scimerrors.ScimError
	if err != nil && !errors.As(err, &known) {
		return fmt.Errorf("what was pushed was not kept: %w", err)
	}
	if left := noted.Left(); err == nil && len(left) > 0 {
		d.Count(door.StatementsLeftOut, feed.Name)
		d.Log().Warn("part of what was pushed was left out, since the caller may not state it", "caller", feed.Name, what, name, "facts", left)
	}
	return err
}

// written makes the record of a resource that was pushed. It grows by a version.
func (d *room) written(was *store.Pushed, attributes map[string]any, external string) (*store.Pushed, error) {
	attributes = maps.Clone(attributes) // those of the request stay as they are, for a transaction that is done again
	for _, key := range []string{"id", "meta", "schemas", "groups", "externalId", "password"} {
		delete(attributes, key) // which are told apart, or never kept
	}
	text, err := json.Marshal(attributes)
	if err != nil {
		return nil, err
	}
	now := d.Now()
	p := &store.Pushed{ExternalID: external, Attributes: text, Created: now, Changed: now, Version: 1}
	if was != nil {
		p.Created, p.Version = was.Created, was.Version+1
	}
	return p, nil
}

// resource is a resource as the library answers with it.
func resource(id string, p *store.Pushed) (scim.Resource, map[string]any, error) {
	attributes := map[string]any{}
	if err := json.Unmarshal(p.Attributes, &attributes); err != nil {
		return scim.Resource{}, nil, err
	}
	made := scim.Resource{ID: id, Attributes: attributes, Meta: scim.Meta{Created: &p.Created, LastModified: &p.Changed, Version: version(p)}}
	if p.ExternalID != "" {
		made.ExternalID = optional.NewString(p.ExternalID)
	}
	return made, attributes, nil
}

func external(attributes map[string]any) string {
	id, _ := attributes["externalId"].(string)
	return id
}

// list answers a query for resources. One for a whole name is a look-up; any other reads all.
func list(d *room, r *http.Request, params scim.ListRequestParams, kind store.Kind, named string, of []schema.Schema,
	read func(store.Row) (scim.Resource, bool, error)) (scim.Page, error) {
	page := scim.Page{Resources: []scim.Resource{}}
	q := store.Query{Kind: kind}
	whole := ""
	if params.FilterValidator != nil {
		if e, ok := params.FilterValidator.GetFilter().(*filter.AttributeExpression); ok && e.Operator == filter.EQ &&
			strings.EqualFold(e.AttributePath.AttributeName, named) && e.AttributePath.SubAttribute == nil {
			whole, _ = e.CompareValue.(string)
		}
		widened := scimfilter.NewFilterValidator(withValuePaths(params.FilterValidator.GetFilter(), of[0]), of[0], of[1:]...)
		params.FilterValidator = &widened
	}
	rows := store.All(r.Context(), d.Store(), q)
	if row, err := d.Store().Get(r.Context(), store.Key{Kind: kind, Key: whole}); whole != "" && err == nil {
		rows = func(yield func(store.Row, error) bool) { yield(row, nil) }
	}
	for row, err := range rows {
		if err != nil {
			return page, err
		}
		made, is, err := read(row)
		if err != nil {
			return page, err
		}
		if !is || params.FilterValidator != nil && params.FilterValidator.PassesFilter(filtered(made)) != nil {
			continue
		}
		if page.TotalResults++; page.TotalResults >= params.StartIndex && len(page.Resources) < params.Count {
			page.Resources = append(page.Resources, made)
		}
	}
	return page, nil
}

// filtered is a resource as a filter sees it.
func filtered(made scim.Resource) map[string]any {
	seen := map[string]any{"id": made.ID, "externalId": made.ExternalID.Value(),
		"meta": map[string]any{"created": made.Meta.Created.Format(time.RFC3339), "lastModified": made.Meta.LastModified.Format(time.RFC3339)}}
	for name, value := range made.Attributes {
		seen[name] = value
		if inner, isExtension := value.(map[string]any); isExtension && strings.Contains(name, ":") {
			for key, v := range inner {
				seen[name+":"+key] = v
			}
		}
	}
	return seen
}
