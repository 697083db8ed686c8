package door

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

const (
	// mostOfUser and mostOfGroup are how large a User and a Group, or a patch of one, may be in bytes: a group has its members in it.
	mostOfUser, mostOfGroup = 256 << 10, 4 << 20
	// mostOperations is how many operations a patch may have: the library takes 0.1 ms of a processor to read each.
	mostOperations = 1000
)

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
		if err := bounded(w, r); err != nil {
			d.writeScimProblem(w, err)
			return
		}
		served.ServeHTTP(&scimWriter{ResponseWriter: w, door: d},
			r.WithContext(context.WithValue(r.Context(), feedKey{}, known.Caller)))
	}), nil
}

// scimWriter answers 503 (RFC 9110 §15.6.4) where the library would tell the caller of a fault of the store, which the log is told.
type scimWriter struct {
	http.ResponseWriter
	door   *Door
	failed bool
}

// WriteHeader implements http.ResponseWriter.
func (w *scimWriter) WriteHeader(status int) {
	if w.failed = status == http.StatusInternalServerError; !w.failed {
		w.ResponseWriter.WriteHeader(status)
		return
	}
	w.Header().Set("Retry-After", "1")
	w.door.writeScimProblem(w.ResponseWriter, scimProblem(http.StatusServiceUnavailable, "", "The store cannot be asked now. Try again."))
}

// Write implements http.ResponseWriter.
func (w *scimWriter) Write(text []byte) (int, error) {
	if w.failed {
		w.door.log.Error("a request of SCIM could not be answered", "error", string(text))
		return len(text), nil
	}
	return w.ResponseWriter.Write(text)
}

// bounded reads the body of a request, which is not too large, and has it read again.
func bounded(w http.ResponseWriter, r *http.Request) error {
	most := int64(mostOfUser)
	if strings.HasPrefix(r.URL.Path, "/scim/v2/Groups") {
		most = mostOfGroup
	}
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, most))
	switch tooLarge := new(http.MaxBytesError); {
	case errors.As(err, &tooLarge):
		return scimProblem(http.StatusRequestEntityTooLarge, "", "A User or a patch of one has at most %d bytes, and a Group %d.",
			mostOfUser, mostOfGroup)
	case err != nil:
		return scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidSyntax, "The request could not be read to its end.")
	}
	var patch struct{ Operations []json.RawMessage }
	if r.Method == http.MethodPatch && json.Unmarshal(text, &patch) == nil && len(patch.Operations) > mostOperations {
		return scimProblem(http.StatusRequestEntityTooLarge, "", "A patch has at most %d operations. One can add or remove a whole list of "+
			"members.", mostOperations)
	}
	if strings.HasPrefix(r.URL.Path, "/scim/v2/Users") {
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

// writeScimProblem answers with an error of scimProblem (RFC 7644 §3.12).
func (d *Door) writeScimProblem(w http.ResponseWriter, err error) {
	var problem scimerrors.ScimError
	errors.As(err, &problem)
	text, err := problem.MarshalJSON()
	if err != nil {
		d.log.Error("an error of SCIM could not be written", "error", err)
	}
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(problem.Status)
	w.Write(text)
}

type feedKey struct{}

// feed is a caller who pushes people and groups: what it may state, and as which source.
type feed struct {
	*Caller
	source store.Source
}

func feedOf(r *http.Request) feed {
	c := r.Context().Value(feedKey{}).(*Caller) // which the handler put there
	return feed{c, store.CallerSource(c.Name)}
}

// checkAccount reports an account that the feed may state nothing of.
func (f feed) checkAccount(name string) error {
	if !isFor(f.People.Accounts, f.People.Domains, name) {
		return scimProblem(http.StatusForbidden, "",
			"%s may state nothing of %s: it is outside its bounds (people.accounts, people.domains).", f.Name, name)
	}
	return nil
}

// checkGroup reports a group that the feed may not manage.
func (f feed) checkGroup(name string) error {
	if !slices.Contains(f.People.Groups, name) {
		return scimProblem(http.StatusForbidden, "", "%s may not manage %s: it is outside its bounds (people.groups).", f.Name, name)
	}
	return nil
}

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

// mostChanges is how many changes one entry of the journal tells of; more of them are told by several.
const mostChanges = 500

// push keeps what a request pushed, and records what that changed. Change is called with the transaction's batch, and may
// be called again.
func (d *Door) push(r *http.Request, what, name, done string, change func(*batch, *changes) error) error {
	feed := feedOf(r)
	noted := &changes{}
	err := d.recorder.doPlanned(r.Context(), func(b *batch) error {
		*noted = changes{by: feed.source, at: d.now()}
		if err := change(b, noted); err != nil {
			return err
		}
		if d.config.Journal.Mode == JournalOff {
			return nil
		}
		account := ""
		if what == "user" {
			account = name
		}
		for part := range slices.Chunk(append(noted.list, changed{}), mostChanges) {
			if len(part) > 0 && part[len(part)-1].Fact == "" {
				part = part[:len(part)-1] // which is there so that a request without a change has an entry too
			}
			detail := jsontext.String(jsontext.Key([]byte{'{'}, "resource"), what)
			detail = jsontext.String(jsontext.Key(jsontext.String(jsontext.Key(detail, "name"), name), "change"), done)
			detail = append(appendChanges(detail, part), '}')
			b.entries = append(b.entries, journal.Make(journal.People, journal.NewID(), noted.at, feed.Name, account, "people", detail))
		}
		return nil
	})
	d.teller.outbox.ring() // sessions may have ended
	var known scimerrors.ScimError
	if err != nil && !errors.As(err, &known) {
		return fmt.Errorf("what was pushed was not kept: %w", err)
	}
	if left := slices.Sorted(maps.Keys(noted.left)); err == nil && len(left) > 0 {
		d.metrics.leftOut.WithLabelValues(feed.Name).Inc()
		d.log.Warn("part of what was pushed was left out, since the caller may not state it", "caller", feed.Name, what, name, "facts", left)
	}
	return err
}

// written makes the record of a resource that was pushed. It grows by a version.
func (d *Door) written(was *store.Pushed, attributes map[string]any, external string) (*store.Pushed, error) {
	attributes = maps.Clone(attributes) // those of the request stay as they are, for a transaction that is done again
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

func (u users) resource(a *store.Account, by store.Source) (scim.Resource, error) {
	made, attributes, err := resource(idOf(a.Name), a.Pushed[by])
	if err != nil {
		return made, err
	}
	list := []any{}
	for i := range a.Stated {
		if s := &a.Stated[i]; s.By == by && s.Fact == store.Membership && !s.Withdrawn && s.Value == attempt.BoolScalar(true) {
			list = append(list, map[string]any{"value": idOf(s.Name), "display": s.Name, "$ref": "/scim/v2/Groups/" + idOf(s.Name)})
		}
	}
	if len(list) > 0 {
		attributes["groups"] = list
	}
	return made, nil
}

// pushedBy returns as whom a feed finds the resource of an account: its own, or one of before there were sources, which it
// takes over with what it says next.
func pushedBy(a *store.Account, feed feed) (by store.Source, ok bool) {
	if a.Pushed[feed.source] != nil {
		return feed.source, true
	}
	return store.Before, a.Pushed[store.Before] != nil
}

// load returns a pushed account to be changed, which is the feed's own from then on.
func (u users) load(b *batch, id string, feed feed) (*store.Account, error) {
	name, err := nameOf(id)
	if err != nil {
		return nil, err
	}
	if err := feed.checkAccount(name); err != nil {
		return nil, err
	}
	a, err := b.account(name)
	if err != nil {
		return nil, err
	}
	by, ok := pushedBy(a, feed)
	if !ok {
		delete(b.accounts, name)
		return nil, scimerrors.ScimErrorResourceNotFound(id)
	}
	if p := a.Pushed[by]; by != feed.source {
		a.SetPushed(by, nil)
		a.SetPushed(feed.source, p)
	}
	return a, nil
}

// Create implements scim.ResourceHandler. One whom this feed deleted before is made anew.
func (u users) Create(r *http.Request, attributes scim.ResourceAttributes) (made scim.Resource, err error) {
	name, _ := attributes["userName"].(string)
	if err := directory.CheckName(name); err != nil {
		return made, scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "userName: %s.", err)
	}
	feed := feedOf(r)
	if err := feed.checkAccount(name); err != nil {
		return made, err
	}
	err = u.d.push(r, "user", name, "created", func(b *batch, c *changes) error {
		a, err := b.account(name)
		if err != nil {
			return err
		}
		book := u.d.book.Load()
		if _, twice := pushedBy(a, feed); twice || u.isTakenOtherwise(b, book, name) {
			return scimerrors.ScimErrorUniqueness
		}
		isFirst := !a.States() && a.Previous == nil && !book.lists(name) // so what the store has no record of did not happen
		if isFirst || a.Says(store.Gone, feed.source) {
			at := a.After(c.by, c.at)
			if err := u.d.makeAnew(b, a, at, feed.source); err != nil {
				return err
			}
			c.at, a.Made.IsFirst = at, isFirst
			c.say(a, store.Statement{Fact: store.Gone, Value: attempt.BoolScalar(false)})
		}
		if err := u.write(a, feed, attributes, c); err != nil {
			return err
		}
		made, err = u.resource(a, feed.source)
		return err
	})
	u.d.lookAgain(review{account: name, because: "the account was changed"})
	return made, err
}

// isTakenOtherwise reports whether an account is named alike but for its case, as far as the book lists it or its name is in small letters:
// a userName is told apart without regard to case (RFC 7643 §4.1.1).
func (u users) isTakenOtherwise(b *batch, book *inForce, name string) bool {
	for i := range book.Source().Accounts {
		if other := book.Source().Accounts[i].Name; other != name && strings.EqualFold(other, name) {
			return true
		}
	}
	small := strings.ToLower(name)
	if small == name {
		return false
	}
	known := b.accounts[small] != nil
	a, err := b.account(small)
	if !known {
		defer delete(b.accounts, small)
	}
	return err != nil || a.States()
}

// makeAnew makes an account another person's: the sessions of the one before end.
func (d *Door) makeAnew(b *batch, a *store.Account, at time.Time, by store.Source) error {
	if err := a.MakeAnew(b.ctx, b.tx, at, by, d.book.Load().entryOf(a.Name)); err != nil {
		return err
	}
	return d.endSessionsOf(b, a.Name, at, "the account was made anew")
}

// Get implements scim.ResourceHandler.
func (u users) Get(r *http.Request, id string) (scim.Resource, error) {
	name, err := nameOf(id)
	if err != nil {
		return scim.Resource{}, err
	}
	feed := feedOf(r)
	if err := feed.checkAccount(name); err != nil {
		return scim.Resource{}, err
	}
	a := &store.Account{Name: name}
	if err := store.Load(r.Context(), u.d.facts.store, a); err != nil && !errors.Is(err, store.ErrNotFound) {
		return scim.Resource{}, err
	}
	by, ok := pushedBy(a, feed)
	if !ok {
		return scim.Resource{}, scimerrors.ScimErrorResourceNotFound(id)
	}
	return u.resource(a, by)
}

// GetAll implements scim.ResourceHandler.
func (u users) GetAll(r *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	return list(u.d, r, params, store.Accounts, "userName", func(row store.Row) (scim.Resource, bool, error) {
		a := new(store.Account)
		if err := store.Read(row, a); err != nil {
			return scim.Resource{}, false, err
		}
		feed := feedOf(r)
		by, ok := pushedBy(a, feed)
		if !ok || !isFor(feed.People.Accounts, feed.People.Domains, a.Name) {
			return scim.Resource{}, false, nil
		}
		made, err := u.resource(a, by)
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
	return u.change(r, id, "replaced", func(*store.Pushed) (map[string]any, error) { return attributes, nil })
}

// Patch implements scim.ResourceHandler.
func (u users) Patch(r *http.Request, id string, operations []scim.PatchOperation) (scim.Resource, error) {
	return u.change(r, id, "patched", func(p *store.Pushed) (map[string]any, error) {
		_, attributes, err := resource(id, p)
		if err != nil {
			return nil, err
		}
		attributes["externalId"] = p.ExternalID
		for _, o := range operations {
			if err := patched(attributes, o); err != nil {
				return nil, err
			}
		}
		return attributes, nil
	})
}

// change changes a User.
func (u users) change(r *http.Request, id, done string, to func(*store.Pushed) (map[string]any, error)) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	feed := feedOf(r)
	err = u.d.push(r, "user", name, done, func(b *batch, c *changes) error {
		a, err := u.load(b, id, feed)
		if err != nil {
			return err
		}
		if err := checkVersion(r, a.Pushed[feed.source]); err != nil {
			return err
		}
		attributes, err := to(a.Pushed[feed.source])
		if err != nil {
			return err
		}
		if now, _ := attributes["userName"].(string); now != name {
			return scimProblem(http.StatusBadRequest, scimerrors.ScimTypeMutability, "A userName does not change: policies name accounts by it. "+
				"Delete the user and create the other one.")
		}
		if err := u.write(a, feed, attributes, c); err != nil {
			return err
		}
		made, err = u.resource(a, feed.source)
		return err
	})
	u.d.lookAgain(review{account: name, because: "the account was changed"})
	return made, err
}

// Delete implements scim.ResourceHandler. A person who left may not sign on, also where the book lists
// the account still, until this feed or an administrator makes the account anew.
func (u users) Delete(r *http.Request, id string) error {
	name, err := nameOf(id)
	if err != nil {
		return err
	}
	feed := feedOf(r)
	err = u.d.push(r, "user", name, "deleted", func(b *batch, c *changes) error {
		a, err := u.load(b, id, feed)
		if err != nil {
			return err
		}
		if err := checkVersion(r, a.Pushed[feed.source]); err != nil {
			return err
		}
		c.at = a.After(c.by, c.at)
		c.withdrawAll(a)
		c.say(a, store.Statement{Fact: store.Gone, Value: attempt.BoolScalar(true)})
		a.SetPushed(feed.source, nil)
		if err := leaveAll(b, name, feed.source); err != nil {
			return err
		}
		return u.d.endSessionsOf(b, name, c.at, "the account was deleted")
	})
	u.d.lookAgain(review{account: name, because: "the account was deleted"})
	return err
}

// leaveAll takes an account out of the groups that a feed manages.
func leaveAll(b *batch, account string, by store.Source) error {
	managed, err := store.Managed(b.ctx, b.tx)
	if err != nil {
		return err
	}
	for row, err := range store.All(b.ctx, b.tx, store.Query{Kind: store.Members, Account: account}) {
		if err != nil {
			return err
		}
		m := new(store.Member)
		if err := store.Read(row, m); err != nil {
			return err
		}
		if managed[m.Group] == by {
			if err := store.Drop(b.tx, m); err != nil {
				return err
			}
		}
	}
	return nil
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

// write makes what a feed states of an account that which a User says, as far as the feed may state it. What the User
// leaves out the feed states no longer; but that somebody is disabled stands until the feed says `active: true`.
func (u users) write(a *store.Account, feed feed, attributes map[string]any, c *changes) error {
	if err := checkSizes(attributes); err != nil {
		return err
	}
	outside := external(attributes)
	whole := maps.Clone(attributes)
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
	stated, err := extension.statements()
	if err != nil {
		return err
	}
	if _, said := attributes["active"]; said {
		stated = append(stated, store.Statement{Fact: store.Disabled, Value: attempt.BoolScalar(read.Accounts[0].Disabled)})
	}
	for _, name := range slices.Sorted(maps.Keys(read.Accounts[0].Attributes)) {
		if name != "externalId" {
			stated = append(stated, store.Statement{Fact: store.Attribute, Name: name, Value: read.Accounts[0].Attributes[name]})
		}
	}
	c.at = a.After(c.by, c.at)
	kept := stated[:0]
	for _, s := range stated {
		switch {
		case s.Fact == store.AccountKind && !slices.ContainsFunc(feed.kinds(),
			func(k directory.Kind) bool { return k.String() == s.Value.String() }):
			c.leaveOut("kind " + s.Value.String())
		case s.Fact != store.AccountKind && !mayState(feed.People.Facts, s.Fact.Right(), s.Name):
			c.leaveOut(s.Fact.Right())
		default:
			kept = append(kept, s)
		}
	}
	c.state(a, kept)
	p, err := u.d.written(a.Pushed[feed.source], attributes, outside)
	if err == nil {
		a.SetPushed(feed.source, p)
	}
	return err
}

// kinds are those that the caller may state.
func (c *Caller) kinds() []directory.Kind {
	if c.People.Kinds == nil {
		return []directory.Kind{directory.Person}
	}
	return c.People.Kinds
}

// statements are what the extension states.
func (x *signOn) statements() (list []store.Statement, err error) {
	wrong := func(what string, err error) ([]store.Statement, error) {
		return nil, scimProblem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "%s: %s.", what, err)
	}
	say := func(fact store.Fact, name string, value attempt.Scalar) {
		list = append(list, store.Statement{Fact: fact, Name: name, Value: value})
	}
	if x.Kind != "" {
		if err := new(directory.Kind).UnmarshalText([]byte(x.Kind)); err != nil {
			return wrong("kind", err)
		}
		say(store.AccountKind, "", attempt.TextScalar(x.Kind))
	}
	if x.Joined != "" {
		if err := new(directory.Date).UnmarshalText([]byte(x.Joined)); err != nil {
			return wrong("joined", err)
		}
		say(store.Joined, "", attempt.TextScalar(x.Joined))
	}
	if x.Methods != nil {
		say(store.Methods, "", attempt.BoolScalar(true))
		for _, m := range x.Methods {
			say(store.Method, m, attempt.BoolScalar(true))
		}
	}
	if t := x.PasswordChangedAt; t != nil {
		say(store.Password, "", attempt.TextScalar(t.UTC().Format(time.RFC3339Nano)))
	}
	if x.Risk != nil {
		if err := new(directory.Level).UnmarshalText([]byte(x.Risk.Level)); err != nil {
			return wrong("accountRisk.level", err)
		}
		say(store.StandingRisk, "", attempt.TextScalar(x.Risk.Level))
		list[len(list)-1].Because = x.Risk.Because
		if x.Risk.Since != nil {
			list[len(list)-1].Since = *x.Risk.Since
		}
	}
	return list, nil
}
