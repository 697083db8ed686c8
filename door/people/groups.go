package people

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	filter "github.com/scim2/filter-parser/v2"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/store"
)

// groups are the Groups (RFC 7643 §4.2). A group that a feed manages has the members that the feed states; what the book
// says of its members counts for nothing.
type groups struct{ d *room }

// resource is a group, with its members where they are wanted: there may be many.
func (x groups) resource(r *http.Request, from store.Reader, g *store.Group, withMembers bool) (scim.Resource, error) {
	made, attributes, err := resource(idOf(g.Name), g.Pushed)
	if err != nil {
		return made, err
	}
	attributes["displayName"] = g.Name
	if n, err := narrowingOf(r); err != nil || !n.wants("members") && !withMembers {
		return made, err
	}
	members := []any{}
	for row, err := range store.All(r.Context(), from, store.MembersOf(g.Name)) {
		if err != nil {
			return made, err
		}
		members = append(members, map[string]any{"value": idOf(row.Account), "display": row.Account, "type": "User",
			"$ref": "/scim/v2/Users/" + idOf(row.Account)})
	}
	attributes["members"] = members
	return made, nil
}

// Create implements scim.ResourceHandler.
func (x groups) Create(r *http.Request, attributes scim.ResourceAttributes) (made scim.Resource, err error) {
	name, _ := attributes["displayName"].(string)
	if err := directory.CheckName(name); err != nil {
		return made, problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "displayName: %s.", err)
	}
	return x.change(r, name, "created", func(_ map[string]any, m *membership) (map[string]any, error) {
		return attributes, m.replaceFrom(attributes)
	})
}

// Get implements scim.ResourceHandler.
func (x groups) Get(r *http.Request, id string) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	if err := feedOf(r).checkGroup(name); err != nil {
		return made, err
	}
	g := &store.Group{Name: name}
	switch err := store.Load(r.Context(), x.d.Store(), g); {
	case errors.Is(err, store.ErrNotFound):
		return made, scimerrors.ScimErrorResourceNotFound(id)
	case err != nil:
		return made, err
	}
	return x.resource(r, x.d.Store(), g, false)
}

// GetAll implements scim.ResourceHandler.
func (x groups) GetAll(r *http.Request, params scim.ListRequestParams) (scim.Page, error) {
	withMembers := params.FilterValidator != nil &&
		strings.Contains(strings.ToLower(fmt.Sprint(params.FilterValidator.GetFilter())), "members")
	return list(x.d, r, params, store.Groups, "displayName", groupSchemas, func(row store.Row) (scim.Resource, bool, error) {
		g := new(store.Group)
		if err := store.Read(row, g); err != nil || feedOf(r).checkGroup(g.Name) != nil {
			return scim.Resource{}, false, err
		}
		made, err := x.resource(r, x.d.Store(), g, withMembers)
		return made, true, err
	})
}

// Replace implements scim.ResourceHandler.
func (x groups) Replace(r *http.Request, id string, attributes scim.ResourceAttributes) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	return x.change(r, name, "replaced", func(_ map[string]any, m *membership) (map[string]any, error) {
		return attributes, m.replaceFrom(attributes)
	})
}

// Patch implements scim.ResourceHandler. It answers without the group, which may have many members; what it costs is what
// it changes.
func (x groups) Patch(r *http.Request, id string, operations []scim.PatchOperation) (made scim.Resource, err error) {
	name, err := nameOf(id)
	if err != nil {
		return made, err
	}
	_, err = x.change(r, name, "patched", func(attributes map[string]any, m *membership) (map[string]any, error) {
		for _, o := range operations {
			if isForMembers, err := m.patch(o); err != nil {
				return nil, err
			} else if isForMembers {
				continue
			}
			if values, ok := o.Value.(map[string]any); ok && o.Path == nil {
				values = maps.Clone(values)
				key := keyOf(values, "members")
				if members, has := values[key]; has {
					if err := m.take(o.Op, members); err != nil {
						return nil, err
					}
					delete(values, key)
				}
				o.Value = values
			}
			if err := patched(attributes, o); err != nil {
				return nil, err
			}
		}
		return attributes, nil
	})
	return scim.Resource{}, err
}

// change changes a Group, and the accounts that come into it or go.
func (x groups) change(r *http.Request, name, done string, to func(map[string]any, *membership) (map[string]any,
	error)) (made scim.Resource, err error) {
	feed := feedOf(r)
	if err := feed.checkGroup(name); err != nil {
		return made, err
	}
	var moved []string
	err = x.d.push(r, "group", name, done, func(b *door.Change, c *store.Stating) error {
		g := &store.Group{Name: name}
		err := store.Load(b.Context(), b.Tx(), g)
		isNew := errors.Is(err, store.ErrNotFound)
		if err != nil && !isNew {
			return err
		}
		if err := x.check(r, g, isNew, done, feed); err != nil {
			return err
		}
		attributes := map[string]any{}
		if !isNew {
			_, attributes, err = resource(idOf(name), g.Pushed)
			if err != nil {
				return err
			}
			attributes["displayName"], attributes["externalId"] = name, g.Pushed.ExternalID
		}
		m := &membership{groups: x, b: b, changes: c, feed: feed, group: name, isTaken: g.By != feed.source, want: map[string]bool{}}
		if attributes, err = to(attributes, m); err != nil {
			return err
		}
		if now, _ := attributes["displayName"].(string); now != name {
			return problem(http.StatusBadRequest, scimerrors.ScimTypeMutability, "A displayName does not change: policies name groups by it. "+
				"Delete the group and create the other one.")
		}
		_, hasSome := x.d.ListsMembers(name)
		by, managed := g.By, g.IsManaged
		g.By, g.IsManaged = feed.source, g.IsManaged && !m.isTaken || m.replaces || !hasSome
		if moved, err = m.apply(); err != nil {
			return err
		}
		external := external(attributes)
		attributes = maps.Clone(attributes) // those of the request stay as they are, for a transaction that is done again
		delete(attributes, "members")
		if g.Pushed, err = x.d.written(g.Pushed, attributes, external); err != nil {
			return err
		}
		if err := store.Save(b.Tx(), g); err != nil {
			return err
		}
		if g.By != by || g.IsManaged != managed {
			b.GroupsChanged()
		}
		if done == "patched" {
			return nil
		}
		made, err = x.resource(r.WithContext(b.Context()), b.Tx(), g, false)
		return err
	})
	x.lookAgain(moved)
	return made, err
}

// lookAgain decides again on the sessions of accounts that came into a group or went.
func (x groups) lookAgain(moved []string) {
	for _, account := range moved {
		x.d.LookAgain(account, "", "the account's groups changed")
	}
}

// check reports what keeps a feed from changing a group so.
func (x groups) check(r *http.Request, g *store.Group, isNew bool, done string, feed feed) error {
	lists, hasSome := x.d.ListsMembers(g.Name)
	switch {
	case lists:
		return problem(http.StatusConflict, "", "The book lists the members of %s itself, so no feed manages it.", g.Name)
	case isNew && done != "created":
		return scimerrors.ScimErrorResourceNotFound(idOf(g.Name))
	case isNew:
		return nil
	case g.By != feed.source && g.By != store.Before:
		return problem(http.StatusConflict, "", "Another feed manages %s already.", g.Name)
	case done == "created" && g.By == feed.source:
		return scimerrors.ScimErrorUniqueness
	case done == "patched" && (g.By != feed.source || !g.IsManaged && hasSome):
		return problem(http.StatusConflict, "",
			"Who is in %s is not known to be what %s says: replace the group (PUT) with all its members first.",
			g.Name, feed.Name)
	}
	return checkVersion(r, g.Pushed)
}

// membership is a change of the members of a group.
type membership struct {
	groups
	b       *door.Change
	changes *store.Stating
	feed    feed
	group   string
	// isTaken says that the group was another's, replaces that all its members are stated.
	isTaken, replaces bool
	// want says of accounts whether they are to be members.
	want map[string]bool
}

// replaceFrom takes all members that attributes state, where they state any.
func (m *membership) replaceFrom(attributes map[string]any) error {
	members, has := attributes[keyOf(attributes, "members")]
	if !has {
		return nil
	}
	return m.take(scim.PatchOperationReplace, members)
}

// take takes members out of a request: to be added, removed, or all there are.
func (m *membership) take(op string, value any) error {
	listed, isList := value.([]any)
	if !isList && value != nil {
		listed = []any{value}
	}
	if op == scim.PatchOperationReplace {
		m.replaces = true
		clear(m.want)
	}
	for _, one := range listed {
		part, _ := one.(map[string]any)
		id, _ := part["value"].(string)
		if kind, _ := part["type"].(string); kind != "" && kind != "User" {
			return problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue,
				"Members are Users; the book says which groups include others.")
		}
		if err := m.takeOne(id, op != scim.PatchOperationRemove); err != nil {
			return err
		}
	}
	return nil
}

// takeOne takes one member by its ID.
func (m *membership) takeOne(id string, in bool) error {
	name, err := nameOf(id)
	if err != nil && in {
		return problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "members: there is no User %q.", id)
	}
	if err != nil {
		return nil // nobody, who is no member
	}
	if err := m.feed.checkAccount(name); err != nil {
		return err
	}
	if in && !m.d.Lists(name) {
		if _, err := users(m.groups).load(m.b, id, m.feed); err != nil {
			return problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidValue, "members: there is no User %q.", id)
		}
	}
	m.want[name] = in
	return nil
}

// patch takes one operation of a patch where it is on members, and reports whether it is.
func (m *membership) patch(o scim.PatchOperation) (isForMembers bool, err error) {
	if o.Path == nil || !strings.EqualFold(o.Path.AttributePath.AttributeName, "members") {
		return false, nil
	}
	switch e := o.Path.ValueExpression.(type) {
	case nil:
		if o.Op == scim.PatchOperationRemove && o.Value == nil {
			return true, m.take(scim.PatchOperationReplace, nil)
		}
		return true, m.take(o.Op, o.Value)
	case *filter.AttributeExpression:
		if id, ok := e.CompareValue.(string); ok && e.Operator == filter.EQ && strings.EqualFold(e.AttributePath.AttributeName, "value") &&
			o.Op == scim.PatchOperationRemove {
			return true, m.takeOne(id, false)
		}
	}
	return true, problem(http.StatusBadRequest, scimerrors.ScimTypeInvalidFilter,
		`Of members one is named by its value, to be removed: members[value eq "..."].`)
}

// mostLookedUp is how many members are looked up one by one; of more all that the group has are read at once.
const mostLookedUp = 5000

// apply keeps the members, and returns the accounts that came or went.
func (m *membership) apply() (moved []string, err error) {
	listed := m.replaces || m.isTaken || len(m.want) > mostLookedUp
	is := map[string]*store.Member{}
	if listed {
		// The change rests on the group itself and not on each member that stays: nobody changes a member without the group.
		for row, err := range store.All(m.b.Context(), m.b.Aside(), store.MembersOf(m.group)) {
			if err != nil {
				return nil, err
			}
			member := new(store.Member)
			if err := store.Read(row, member); err != nil {
				return nil, err
			}
			is[row.Account] = member
			if _, said := m.want[row.Account]; !said && m.replaces {
				m.want[row.Account] = false
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.want)) {
		in := m.want[name]
		if listed && m.isAs(in, is[name]) {
			continue
		}
		member := &store.Member{Group: m.group, Account: name}
		switch err := store.Load(m.b.Context(), m.b.Tx(), member); {
		case errors.Is(err, store.ErrNotFound):
			member = nil
		case err != nil:
			return nil, err
		}
		if m.isAs(in, member) {
			continue
		}
		if err := m.move(&store.Member{Group: m.group, Account: name, Since: m.changes.At}, in); err != nil {
			return nil, err
		}
		moved = append(moved, name)
	}
	return moved, nil
}

// isAs reports whether an account is in the group, or not, as it is to be; member is nil where it is none.
func (m *membership) isAs(in bool, member *store.Member) bool {
	return in == (member != nil) && !(in && (m.isTaken || member.IsDoubted))
}

// move puts one account into the group, or takes it out.
func (m *membership) move(member *store.Member, in bool) error {
	a, err := m.b.Account(member.Account)
	if err != nil {
		return err
	}
	noted := len(m.changes.Changes)
	m.changes.Say(a, store.Statement{Fact: store.Membership, Name: m.group, Value: attempt.BoolScalar(in),
		At: a.After(m.changes.By, m.changes.At)})
	for i := noted; i < len(m.changes.Changes); i++ {
		m.changes.Changes[i].Account = member.Account
	}
	if in {
		return store.Save(m.b.Tx(), member)
	}
	return store.Drop(m.b.Tx(), member)
}

// Delete implements scim.ResourceHandler. The group is the book's again.
func (x groups) Delete(r *http.Request, id string) error {
	name, err := nameOf(id)
	if err != nil {
		return err
	}
	feed := feedOf(r)
	if err := feed.checkGroup(name); err != nil {
		return err
	}
	var moved []string
	err = x.d.push(r, "group", name, "deleted", func(b *door.Change, c *store.Stating) error {
		g := &store.Group{Name: name}
		switch err := store.Load(b.Context(), b.Tx(), g); {
		case errors.Is(err, store.ErrNotFound):
			return scimerrors.ScimErrorResourceNotFound(id)
		case err != nil:
			return err
		case g.By != feed.source && g.By != store.Before:
			return problem(http.StatusConflict, "", "Another feed manages %s.", name)
		}
		if err := checkVersion(r, g.Pushed); err != nil {
			return err
		}
		m := &membership{groups: x, b: b, changes: c, feed: feed, group: name, replaces: true, want: map[string]bool{}}
		if moved, err = m.apply(); err != nil {
			return err
		}
		b.GroupsChanged()
		return store.Drop(b.Tx(), g)
	})
	x.lookAgain(moved)
	return err
}
