package door

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
	filter "github.com/scim2/filter-parser/v2"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/directory/people"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// PeopleSchema is the schema extension of a User (RFC 7643 §3.3) for what a directory knows beyond
// SCIM.
const PeopleSchema = "urn:briskwarden:scim:schemas:extension:2.0:User"

// mostPushed is how large a resource or a patch may be, in bytes.
const mostPushed = 4 << 20

// scimServer makes the SCIM 2.0 service (RFC 7644) by which another system pushes people and groups.
func (d *Door) scimServer() (http.Handler, error) {
	text := func(name, about string) schema.CoreAttribute {
		return schema.SimpleCoreAttribute(schema.SimpleStringParams(schema.StringParams{Name: name, Description: optional.NewString(about),
			CaseExact: true}))
	}
	extension := schema.Schema{
		ID:          PeopleSchema,
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
	server, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{MaxResults: d.config.Limits.Results, SupportFiltering: true, SupportPatch: true},
		ResourceTypes: []scim.ResourceType{
			{ID: optional.NewString("User"), Name: "User", Endpoint: "/Users", Description: optional.NewString("Who signs on"),
				Schema: schema.CoreUserSchema(), Handler: users{d},
				SchemaExtensions: []scim.SchemaExtension{{Schema: schema.ExtensionEnterpriseUser()}, {Schema: extension}}},
			{ID: optional.NewString("Group"), Name: "Group", Endpoint: "/Groups", Description: optional.NewString("A named set of accounts"),
				Schema: schema.CoreGroupSchema(), Handler: groups{d}},
		},
	}, scim.WithBaseURL("/scim/v2"))
	if err != nil {
		return nil, err
	}
	served := http.StripPrefix("/scim/v2", server)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		known, err := d.admit(MayPeople, r)
		if err != nil {
			d.writeProblem(w, r, err)
			return
		}
		w.Header().Set("Cache-Control", "no-store")
		if r.URL.Path == "/scim/v2/ServiceProviderConfig" {
			d.serveProvider(w)
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, mostPushed)
		r.Header.Set(callerHeader, known.Name)
		served.ServeHTTP(w, r)
	}), nil
}

// callerHeader carries the name of the caller to the handlers; what a client sends in it is
// overwritten.
const callerHeader = "Briskwarden-Caller"

// serveProvider answers with what the service can do (RFC 7643 §5). The library knows nothing of
// versions, which are the door's.
func (d *Door) serveProvider(w http.ResponseWriter) {
	type supported struct {
		Supported bool `json:"supported"`
	}
	text, err := json.Marshal(map[string]any{
		"schemas":        []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"},
		"patch":          supported{true},
		"bulk":           map[string]any{"supported": false, "maxOperations": 0, "maxPayloadSize": 0},
		"filter":         map[string]any{"supported": true, "maxResults": d.config.Limits.Results},
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
		"meta": map[string]string{"resourceType": "ServiceProviderConfig", "location": "/scim/v2/ServiceProviderConfig"},
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

func scimProblem(status int, kind scimerrors.ScimType, format string, args ...any) error {
	return scimerrors.ScimError{Status: status, ScimType: kind, Detail: fmt.Sprintf(format, args...)}
}

// version is the entity tag of a resource (RFC 7644 §3.14).
func version(p *store.Pushed) string { return `W/"` + strconv.Itoa(p.Version) + `"` }

// checkVersion holds a resource against the If-Match of a request.
func checkVersion(r *http.Request, p *store.Pushed) error {
	wanted := r.Header.Get("If-Match")
	if wanted == "" || wanted == "*" {
		return nil
	}
	for tag := range strings.SplitSeq(wanted, ",") {
		if strings.TrimSpace(tag) == version(p) {
			return nil
		}
	}
	return scimProblem(http.StatusPreconditionFailed, "", "The resource is at version %s.", version(p))
}

// push keeps what a request pushed, and records it. Change is called with the transaction's batch.
func (d *Door) push(r *http.Request, what, name, done string, change func(*batch) error) error {
	err := d.recorder.do(&job{urgent: true, change: func(b *batch) error {
		if err := change(b); err != nil {
			return err
		}
		if d.config.Journal.Mode == JournalOff {
			return nil
		}
		account := ""
		if what == "user" {
			account = name
		}
		detail := jsontext.String(jsontext.Key([]byte{'{'}, "resource"), what)
		detail = append(jsontext.String(jsontext.Key(jsontext.String(jsontext.Key(detail, "name"), name), "change"), done), '}')
		b.entries = append(
			b.entries,
			journal.Make(journal.People, journal.NewID(), d.now(), r.Header.Get(callerHeader), account, "people", detail),
		)
		return nil
	}})
	var known scimerrors.ScimError
	if err != nil && !errors.As(err, &known) {
		d.log.Error("what was pushed was not kept", "error", err)
		return scimProblem(http.StatusServiceUnavailable, "", "The store cannot be asked now. Try again.")
	}
	return err
}

// written makes the record of a resource that was pushed. It grows by a version.
func (d *Door) written(was *store.Pushed, attributes map[string]any, external string) (*store.Pushed, error) {
	for _, key := range []string{"id", "meta", "schemas", "groups", "externalId", "password"} {
		delete(attributes, key) // which are told apart, or never kept
	}
	text, err := json.Marshal(attributes)
	if err != nil {
		return nil, err
	}
	now := d.now()
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

// users are the Users (RFC 7643 §4.1).
type users struct{ d *Door }

func (u users) resource(a *store.Account) (scim.Resource, error) {
	made, attributes, err := resource(idOf(a.Name), a.Pushed)
	if err != nil {
		return made, err
	}
	list := []any{}
	for _, group := range a.Groups {
		list = append(list, map[string]any{"value": idOf(group), "display": group, "$ref": "/scim/v2/Groups/" + idOf(group)})
	}
	if len(list) > 0 {
		attributes["groups"] = list
	}
	return made, nil
}

// load returns a pushed account to be changed.
func (u users) load(b *batch, id string) (*store.Account, error) {
	name, err := nameOf(id)
	if err != nil {
		return nil, err
	}
	a, err := b.account(name)
	if err == nil && a.Pushed == nil {
		delete(b.accounts, name)
		return nil, scimerrors.ScimErrorResourceNotFound(id)
	}
	return a, err
}

// Create implements scim.ResourceHandler.
func (u users) Create(r *http.Request, attributes scim.ResourceAttributes) (made scim.Resource, err error) {
	name, _ := attributes["userName"].(string)
	if err := directory.CheckName(name); err != nil {
		return made, scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "userName: %s.", err)
	}
	err = u.d.push(r, "user", name, "created", func(b *batch) error {
		a, err := b.account(name)
		if err != nil {
			return err
		}
		if a.Pushed != nil {
			return scimerrors.ScimErrorUniqueness
		}
		if !a.States() && a.Previous == nil && !u.d.book.Load().lists(name) {
			a.Since = u.d.now() // so what the store has no record of did not happen
		}
		if err := u.write(a, attributes, nil); err != nil {
			return err
		}
		made, err = u.resource(a)
		return err
	})
	u.d.lookAgain(review{account: name, because: "the account was changed"})
	return made, err
}

// Get implements scim.ResourceHandler.
func (u users) Get(r *http.Request, id string) (scim.Resource, error) {
	name, err := nameOf(id)
	if err != nil {
		return scim.Resource{}, err
	}
	a := &store.Account{Name: name}
	switch err := store.Load(r.Context(), u.d.facts.store, a); {
	case errors.Is(err, store.ErrNotFound) || err == nil && a.Pushed == nil:
		return scim.Resource{}, scimerrors.ScimErrorResourceNotFound(id)
	case err != nil:
		return scim.Resource{}, err
	}
	return u.resource(a)
}

// GetAll implements scim.ResourceHandler.
func (u users) GetAll(r *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	return list(u.d, r, params, store.Accounts, "userName", func(row store.Row) (scim.Resource, bool, error) {
		a := new(store.Account)
		if err := store.Read(row, a); err != nil || a.Pushed == nil {
			return scim.Resource{}, false, err
		}
		made, err := u.resource(a)
		return made, true, err
	})
}

// list answers a query for resources. One for a whole name is a look-up; any other reads all.
func list(d *Door, r *http.Request, params scim.ListRequestParams, kind store.Kind, named string,
	read func(store.Row) (scim.Resource, bool, error)) (scim.Page, error) {
	page := scim.Page{Resources: []scim.Resource{}}
	q := store.Query{Kind: kind}
	whole := ""
	if params.FilterValidator != nil {
		if e, ok := params.FilterValidator.GetFilter().(*filter.AttributeExpression); ok && e.Operator == filter.EQ &&
			strings.EqualFold(e.AttributePath.AttributeName, named) && e.AttributePath.SubAttribute == nil {
			whole, _ = e.CompareValue.(string)
		}
	}
	rows := store.All(r.Context(), d.facts.store, q)
	if row, err := d.facts.store.Get(r.Context(), store.Key{Kind: kind, Key: whole}); whole != "" && err == nil {
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

// Replace implements scim.ResourceHandler.
func (u users) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (scim.Resource, error) {
	return u.change(r, id, "replaced", func(*store.Account) (map[string]any, error) { return attributes, nil })
}

// Patch implements scim.ResourceHandler.
func (u users) Patch(r *http.Request, id string, operations []scim.PatchOperation) (scim.Resource, error) {
	return u.change(r, id, "patched", func(a *store.Account) (map[string]any, error) {
		_, attributes, err := resource(id, a.Pushed)
		if err != nil {
			return nil, err
		}
		attributes["externalId"] = a.Pushed.ExternalID
		for _, o := range operations {
			if err := patched(attributes, o); err != nil {
				return nil, err
			}
		}
		return attributes, nil
	})
}

// change changes a User.
func (u users) change(r *http.Request, id, done string, to func(*store.Account) (map[string]any, error)) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	err = u.d.push(r, "user", name, done, func(b *batch) error {
		a, err := u.load(b, id)
		if err != nil {
			return err
		}
		if err := checkVersion(r, a.Pushed); err != nil {
			return err
		}
		attributes, err := to(a)
		if err != nil {
			return err
		}
		if now, _ := attributes["userName"].(string); now != name {
			return scimProblem(http.StatusBadRequest, scimerrors.ScimTypeMutability, "A userName does not change: policies name accounts by it. "+
				"Delete the user and create the other one.")
		}
		if err := u.write(a, attributes, a.Pushed); err != nil {
			return err
		}
		made, err = u.resource(a)
		return err
	})
	u.d.lookAgain(review{account: name, because: "the account was changed"})
	return made, err
}

// Delete implements scim.ResourceHandler. A person who left may not sign on, also where the book lists
// the account still.
func (u users) Delete(r *http.Request, id string) error {
	name, err := nameOf(id)
	if err != nil {
		return err
	}
	err = u.d.push(r, "user", name, "deleted", func(b *batch) error {
		a, err := u.load(b, id)
		if err != nil {
			return err
		}
		if err := checkVersion(r, a.Pushed); err != nil {
			return err
		}
		for _, group := range a.Groups {
			if err := u.d.leave(b, group, name); err != nil {
				return err
			}
		}
		*a = store.Account{Name: name, Disabled: true, Groups: []string{}, Methods: []string{}}
		return nil
	})
	u.d.lookAgain(review{account: name, because: "the account was deleted"})
	return err
}

// leave takes an account out of a pushed group.
func (d *Door) leave(b *batch, group, account string) error {
	g := &store.Group{Name: group}
	switch err := store.Load(b.ctx, b.tx, g); {
	case errors.Is(err, store.ErrNotFound):
		return nil
	case err != nil:
		return err
	}
	g.Members = slices.DeleteFunc(g.Members, func(m string) bool { return m == account })
	if g.Pushed != nil {
		g.Pushed.Version++
		g.Pushed.Changed = d.now()
	}
	return store.Save(b.tx, g)
}

// signOn is the schema extension of a User.
type signOn struct {
	Kind              string     `json:"kind"`
	Joined            string     `json:"joined"`
	Methods           []string   `json:"methods"`
	PasswordChangedAt *time.Time `json:"passwordChangedAt"`
	Risk              *struct {
		Level   string     `json:"level"`
		Because string     `json:"because"`
		Since   *time.Time `json:"since"`
	} `json:"accountRisk"`
}

// write makes an account what a User says of it. What nobody pushed stays as it was.
func (u users) write(a *store.Account, attributes map[string]any, was *store.Pushed) error {
	outside := external(attributes)
	whole := map[string]any{}
	for name, value := range attributes {
		whole[name] = value
	}
	whole["schemas"], whole["id"] = []string{schema.UserSchema}, idOf(a.Name)
	delete(whole, "groups")
	text, err := json.Marshal(whole)
	if err != nil {
		return err
	}
	read, err := people.Read(text)
	if err != nil || len(read.Accounts) != 1 {
		return scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "The user cannot be read: %v.", err)
	}
	var extension signOn
	if more, ok := attributes[PeopleSchema]; ok {
		if text, err = json.Marshal(more); err == nil {
			err = json.Unmarshal(text, &extension)
		}
		if err != nil {
			return scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "%s: %s.", PeopleSchema, err)
		}
	}
	if err := extension.write(a); err != nil {
		return err
	}
	a.Disabled, a.Attributes = read.Accounts[0].Disabled, read.Accounts[0].Attributes
	delete(a.Attributes, "externalId")
	if a.Attributes == nil {
		a.Attributes = map[string]attempt.Scalar{}
	}
	if a.Groups == nil {
		a.Groups = u.d.book.Load().groupsOf(a.Name)
	}
	a.Pushed, err = u.d.written(was, attributes, outside)
	return err
}

// write takes over what the extension says.
func (x *signOn) write(a *store.Account) error {
	wrong := func(what string, err error) error {
		return scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "%s: %s.", what, err)
	}
	if x.Kind != "" {
		if err := a.Kind.UnmarshalText([]byte(x.Kind)); err != nil {
			return wrong("kind", err)
		}
	}
	if x.Joined != "" {
		a.Joined = new(directory.Date)
		if err := a.Joined.UnmarshalText([]byte(x.Joined)); err != nil {
			return wrong("joined", err)
		}
	}
	if x.Methods != nil {
		a.Methods = x.Methods
	}
	if x.PasswordChangedAt != nil {
		a.PasswordChangedAt = x.PasswordChangedAt
	}
	if x.Risk != nil {
		a.Risk = &store.Risk{Because: x.Risk.Because, Since: x.Risk.Since}
		if err := a.Risk.Level.UnmarshalText([]byte(x.Risk.Level)); err != nil {
			return wrong("accountRisk.level", err)
		}
	}
	return nil
}

// groups are the Groups (RFC 7643 §4.2).
type groups struct{ d *Door }

func (x groups) resource(g *store.Group) (scim.Resource, error) {
	made, attributes, err := resource(idOf(g.Name), g.Pushed)
	if err != nil {
		return made, err
	}
	members := []any{}
	for _, m := range g.Members {
		members = append(members, map[string]any{"value": idOf(m), "display": m, "type": "User", "$ref": "/scim/v2/Users/" + idOf(m)})
	}
	attributes["displayName"], attributes["members"] = g.Name, members
	return made, nil
}

// Create implements scim.ResourceHandler.
func (x groups) Create(r *http.Request, attributes scim.ResourceAttributes) (made scim.Resource, err error) {
	name, _ := attributes["displayName"].(string)
	if err := directory.CheckName(name); err != nil {
		return made, scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "displayName: %s.", err)
	}
	return x.change(r, name, "created", func(*http.Request, *store.Group) (map[string]any, error) { return attributes, nil })
}

// Get implements scim.ResourceHandler.
func (x groups) Get(r *http.Request, id string) (scim.Resource, error) {
	name, err := nameOf(id)
	if err != nil {
		return scim.Resource{}, err
	}
	g := &store.Group{Name: name}
	switch err := store.Load(r.Context(), x.d.facts.store, g); {
	case errors.Is(err, store.ErrNotFound):
		return scim.Resource{}, scimerrors.ScimErrorResourceNotFound(id)
	case err != nil:
		return scim.Resource{}, err
	}
	return x.resource(g)
}

// GetAll implements scim.ResourceHandler.
func (x groups) GetAll(r *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	return list(x.d, r, params, store.Groups, "displayName", func(row store.Row) (scim.Resource, bool, error) {
		g := new(store.Group)
		if err := store.Read(row, g); err != nil {
			return scim.Resource{}, false, err
		}
		made, err := x.resource(g)
		return made, true, err
	})
}

// Replace implements scim.ResourceHandler.
func (x groups) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	return x.change(r, name, "replaced", func(*http.Request, *store.Group) (map[string]any, error) { return attributes, nil })
}

// Patch implements scim.ResourceHandler.
func (x groups) Patch(r *http.Request, id string, operations []scim.PatchOperation) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	return x.change(r, name, "patched", func(_ *http.Request, g *store.Group) (map[string]any, error) {
		made, err := x.resource(g)
		if err != nil {
			return nil, err
		}
		made.Attributes["externalId"] = g.Pushed.ExternalID
		for _, o := range operations {
			if err := patched(made.Attributes, o); err != nil {
				return nil, err
			}
		}
		return made.Attributes, nil
	})
}

// change changes a Group and the accounts that come into it, or go.
func (x groups) change(
	r *http.Request,
	name, done string,
	to func(*http.Request, *store.Group) (map[string]any, error),
) (made scim.Resource, err error) {
	var moved []string
	err = x.d.push(r, "group", name, done, func(b *batch) error {
		g := &store.Group{Name: name}
		err := store.Load(b.ctx, b.tx, g)
		switch {
		case errors.Is(err, store.ErrNotFound) && done == "created":
		case errors.Is(err, store.ErrNotFound):
			return scimerrors.ScimErrorResourceNotFound(idOf(name))
		case err != nil:
			return err
		case done == "created":
			return scimerrors.ScimErrorUniqueness
		default:
			if err := checkVersion(r, g.Pushed); err != nil {
				return err
			}
		}
		attributes, err := to(r, g)
		if err != nil {
			return err
		}
		if now, _ := attributes["displayName"].(string); now != name {
			return scimProblem(http.StatusBadRequest, scimerrors.ScimTypeMutability, "A displayName does not change: policies name groups by it. "+
				"Delete the group and create the other one.")
		}
		members, err := x.members(b, attributes)
		if err != nil {
			return err
		}
		if moved, err = x.d.move(b, name, g.Members, members); err != nil {
			return err
		}
		g.Members = members
		delete(attributes, "members")
		if g.Pushed, err = x.d.written(g.Pushed, attributes, external(attributes)); err != nil {
			return err
		}
		if err := store.Save(b.tx, g); err != nil {
			return err
		}
		made, err = x.resource(g)
		return err
	})
	for _, account := range moved {
		x.d.lookAgain(review{account: account, because: "the account's groups changed"})
	}
	return made, err
}

// members reads the accounts of a Group.
func (x groups) members(b *batch, attributes map[string]any) ([]string, error) {
	listed, _ := attributes["members"].([]any)
	members := []string{}
	for _, one := range listed {
		m, _ := one.(map[string]any)
		id, _ := m["value"].(string)
		if kind, _ := m["type"].(string); kind != "" && kind != "User" {
			return nil, scimProblem(
				http.StatusBadRequest,
				scimerrors.ScimTypeInvalidValue,
				"Members are Users; the book says which groups include others.",
			)
		}
		name, err := nameOf(id)
		if err != nil {
			return nil, scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "members: there is no User %q.", id)
		}
		if !x.d.book.Load().lists(name) {
			if _, err := users(x).load(b, id); err != nil {
				return nil, scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "members: there is no User %q.", id)
			}
		}
		if !slices.Contains(members, name) {
			members = append(members, name)
		}
	}
	slices.Sort(members)
	return members, nil
}

// move puts accounts into a group that were not in it, and takes out those that are not any more.
func (d *Door) move(b *batch, group string, was, is []string) (moved []string, err error) {
	change := func(name string, to func([]string) []string) error {
		a, err := b.account(name)
		if err != nil {
			return err
		}
		if a.Groups == nil {
			a.Groups = d.book.Load().groupsOf(name)
		}
		a.Groups = to(slices.Clone(a.Groups))
		moved = append(moved, name)
		return nil
	}
	for _, name := range is {
		if !slices.Contains(was, name) {
			if err := change(name, func(list []string) []string {
				if slices.Contains(list, group) {
					return list
				}
				return append(list, group)
			}); err != nil {
				return nil, err
			}
		}
	}
	for _, name := range was {
		if !slices.Contains(is, name) {
			if err := change(name, func(list []string) []string {
				return slices.DeleteFunc(list, func(g string) bool { return g == group })
			}); err != nil {
				return nil, err
			}
		}
	}
	return moved, nil
}

// Delete implements scim.ResourceHandler.
func (x groups) Delete(r *http.Request, id string) error {
	name, err := nameOf(id)
	if err != nil {
		return err
	}
	var moved []string
	err = x.d.push(r, "group", name, "deleted", func(b *batch) error {
		g := &store.Group{Name: name}
		switch err := store.Load(b.ctx, b.tx, g); {
		case errors.Is(err, store.ErrNotFound):
			return scimerrors.ScimErrorResourceNotFound(id)
		case err != nil:
			return err
		}
		if err := checkVersion(r, g.Pushed); err != nil {
			return err
		}
		if moved, err = x.d.move(b, name, g.Members, nil); err != nil {
			return err
		}
		return store.Drop(b.tx, g)
	})
	for _, account := range moved {
		x.d.lookAgain(review{account: account, because: "the account's groups changed"})
	}
	return err
}
